"""Checksums that lie beside an image: sha256sum and its sisters (coreutils), plain or --tag, and SFV; found alone."""

from __future__ import annotations

import hashlib
import re
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO, Protocol

from kyklon.base.errors import FormatError, SourceError
from kyklon.model.image_file import SourceFacts, Stated

BY_LENGTH = {128: "SHA-512", 64: "SHA-256", 40: "SHA-1", 32: "MD5", 8: "CRC-32"}  # hexadecimal digits
STRENGTH = tuple(BY_LENGTH.values())
NAMES = tuple(
    name
    for kind in ("sha512", "sha256", "sha1", "md5")
    for name in (f"{kind.upper()}SUMS", f"{kind.upper()}SUMS.txt", f"{kind}sum.txt", f"{kind}sums.txt")
) + ("checksums.sfv", "checksums.txt", "CHECKSUMS")
ENDINGS = tuple(
    f".{kind}{ending}" for kind in ("sha512", "sha256", "sha1", "md5") for ending in ("", "sum", ".txt")
) + (".sfv",)
LARGEST = 1 << 20  # bytes; a list of checksums is far smaller
_DIGEST = re.compile(r"[0-9a-fA-F]{8,128}")
_TAGGED = re.compile(r"\\?(SHA512|SHA256|SHA1|MD5) \((.+)\) = ([0-9a-fA-F]+)$")


class Sum(Protocol):
    def update(self, data: bytes, /) -> None: ...

    def hexdigest(self) -> str: ...


class _Crc32:
    def __init__(self) -> None:
        self._value = 0

    def update(self, data: bytes, /) -> None:
        self._value = zlib.crc32(data, self._value)

    def hexdigest(self) -> str:
        return f"{self._value:08x}"


def new_sum(algorithm: str) -> Sum:
    """An empty sum of one of STRENGTH."""
    return _Crc32() if algorithm == "CRC-32" else hashlib.new(algorithm.replace("-", "").lower())


def from_text(digest: str) -> Stated:
    """A pasted checksum; what it is shows in its length. Raises FormatError."""
    digest = digest.strip().lower().split()[0] if digest.strip() else ""
    if len(digest) not in BY_LENGTH or not re.fullmatch("[0-9a-f]+", digest):
        raise FormatError(
            "checksum", 0, expected="128, 64, 40, 32 or 8 hexadecimal digits", got=f"{len(digest)} characters"
        )
    return Stated(BY_LENGTH[len(digest)], digest)


def parse(text: str, name: str = "checksum file") -> dict[str, Stated]:
    """File name -> checksum; a bare checksum has the name ''. Raises FormatError with its offset in bytes."""
    found: dict[str, Stated] = {}
    offset = 0
    for line in text.splitlines(keepends=True):
        bare = line.strip()
        if bare and bare[0] not in "#;":
            told = _parse_line(bare)
            if told is None:
                raise FormatError(name, offset, expected="a checksum and a file name", got=repr(bare[:40]))
            if told[0] not in found or STRENGTH.index(told[1].algorithm) < STRENGTH.index(found[told[0]].algorithm):
                found[told[0]] = told[1]
        offset += len(line.encode("utf-8", "surrogatepass"))
    return found


def _parse_line(line: str) -> tuple[str, Stated] | None:
    first, _blank, rest = line.removeprefix("\\").replace("\t", " ").partition(" ")
    if _DIGEST.fullmatch(first) and len(first) in BY_LENGTH and len(first) > 8:
        return _base(rest.lstrip(" ").removeprefix("*")), Stated(BY_LENGTH[len(first)], first.lower())
    if match := _TAGGED.fullmatch(line):
        stated = BY_LENGTH.get(len(match[3]), "")
        return (_base(match[2]), Stated(stated, match[3].lower())) if stated.replace("-", "") == match[1] else None
    name, _blank, last = line.replace("\t", " ").rpartition(" ")
    if _DIGEST.fullmatch(last) and len(last) == 8 and name.strip():
        return _base(name.rstrip(" ")), Stated("CRC-32", last.lower())
    return None


def _base(name: str) -> str:
    return name.replace("\\", "/").rsplit("/", 1)[-1]


def _side_files(folder: Path, name: str) -> dict[str, Stated]:
    """Everything the files beside `name` state, the strongest sum of each name."""
    stem = name.rsplit(".", 1)[0]
    own = [folder / f"{each}{ending}" for each in (name, stem) for ending in ENDINGS]
    found: dict[str, Stated] = {}
    for path in (*own, *(folder / each for each in NAMES)):
        try:
            if not path.is_file() or path.stat().st_size > LARGEST:
                continue
            stated = parse(path.read_text(encoding="utf-8"), path.name)
        except (OSError, UnicodeDecodeError, FormatError):
            continue
        bare = stated.pop("", None)
        if bare is not None and path.name.startswith(name):
            stated.setdefault(name, bare)
        for each, told in stated.items():
            if each not in found or STRENGTH.index(told.algorithm) < STRENGTH.index(found[each].algorithm):
                found[each] = told
    return found


def beside(facts: SourceFacts) -> Stated | None:
    """What a file beside the image states of it: of the whole file, or of the image inside by its own name."""
    known = _side_files(facts.path.parent, facts.name)
    inside = Path(facts.member).name or (facts.name.rsplit(".", 1)[0] if facts.kind != "plain" else "")
    return known.get(facts.name) or (known.get(inside) if inside else None)


def check_parts(facts: SourceFacts, check: Callable[[], object] = lambda: None) -> int:
    """Check each part of a split archive that a file beside it states; how many were checked.

    Raises SourceError that names the damaged part. check: called between blocks, to cancel.
    """
    known = _side_files(facts.path.parent, facts.name)
    checked = 0
    for part in facts.parts:
        stated = known.get(part.name)
        if stated is None:
            continue
        with part.open("rb") as file:
            got = of_file(file, stated.algorithm, check)
        if got != stated.digest:
            raise SourceError(
                f"{part.name} has the {stated.algorithm} {got}; its maker states {stated.digest}.",
                do="Download this part again.",
            )
        checked += 1
    return checked


def of_file(file: BinaryIO, algorithm: str, check: Callable[[], object] = lambda: None) -> str:
    """The sum of the rest of a file."""
    total = new_sum(algorithm)
    while block := file.read(1 << 20):
        check()
        total.update(block)
    return total.hexdigest()
