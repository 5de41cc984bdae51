"""Checksums that lie beside an image: sha256sum text (coreutils), found by itself."""

from __future__ import annotations

import re
from pathlib import Path

from kyklon.errors import FormatError

NAMES = ("SHA256SUMS", "SHA256SUMS.txt", "sha256sum.txt", "sha256sums.txt")
ENDINGS = (".sha256", ".sha256sum", ".sha256.txt")
LARGEST = 1 << 20  # bytes; a list of checksums is far smaller
_LINE = re.compile(r"\\?([0-9a-fA-F]{64})(?:[ \t]+\*?(.+?))?\s*$")


def parse(text: str, name: str = "checksum file") -> dict[str, str]:
    """File name -> SHA-256 in lower case; a bare checksum has the name ''. Raises FormatError with its offset."""
    found: dict[str, str] = {}
    offset = 0
    for line in text.splitlines(keepends=True):
        if line.strip() and not line.startswith("#"):
            match = _LINE.fullmatch(line.strip())
            if match is None:
                raise FormatError(
                    name, offset, expected="64 hexadecimal digits and a file name", got=repr(line.strip()[:40])
                )
            found[Path(match[2] or "").name] = match[1].lower()
        offset += len(line.encode())
    return found


def beside(image: Path) -> str:
    """The SHA-256 that a file beside the image states for it, or ''. A file that is no checksum file is passed over."""
    candidates = [image.with_name(image.name + ending) for ending in ENDINGS]
    candidates += [image.with_name(name) for name in NAMES]
    for path in candidates:
        try:
            if not path.is_file() or path.stat().st_size > LARGEST:
                continue
            stated = parse(path.read_text(encoding="utf-8"), path.name)
        except (OSError, UnicodeDecodeError, FormatError):
            continue
        own = path.name.startswith(image.name)
        known = stated.get(image.name) or (stated.get("") if own else None)
        if known:
            return known
    return ""
