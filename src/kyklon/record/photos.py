"""Photos and files added to the logbook: copied into the build folder under their own checksum; photos turned upright
by what their camera says (EXIF, CIPA DC-008, tag 0x0112) and saved without place, camera or owner."""

from __future__ import annotations

import hashlib
import io
import re
import warnings
from contextlib import suppress
from datetime import datetime
from pathlib import Path

from kyklon.base import durable
from kyklon.base.errors import FormatError, KyklonError
from kyklon.base.inside import refuse_link_on_the_way
from kyklon.base.reading import bytes_of
from kyklon.base.shown import visible
from kyklon.record.logbook import Attached
from kyklon.record.revisions import NOT

FOLDER = NOT
LARGEST = 64 << 20  # bytes of a file that is added
_MOST_PIXELS = 120_000_000  # of a photo; above it a small file can fill the memory
_THUMB = 160  # pixels of a thumbnail's longer side
_QUALITY, _THUMB_QUALITY = 90, 75
_FORMS = ("JPEG", "PNG", "WEBP", "GIF", "BMP", "TIFF")
_TAKEN = 0x9003  # DateTimeOriginal, CIPA DC-008 table 8
_ENDINGS = (".jpg", ".jpeg", ".png", ".webp", ".gif", ".bmp", ".tif", ".tiff", ".mpo")


def keep(folder: Path, source: Path) -> Attached:
    """Copy a photo or a file into the build folder. Raises KyklonError, FormatError for a photo that is damaged."""
    try:
        data = bytes_of(source, LARGEST)
    except KyklonError:
        raise
    except OSError as bad:
        raise KyklonError(f"{source} cannot be read: {bad.strerror}.", do="Choose it again.") from bad
    taken, thumb = "", b""
    if source.suffix.lower() in _ENDINGS:
        data, taken, thumb = _upright(data, source.name)
    digest = hashlib.sha256(data).hexdigest()
    name = visible(source.name.encode("utf-8", "replace").decode())
    stem = re.sub(r"[^\w.-]+", "-", source.stem, flags=re.ASCII).strip("-.")[:40] or "file"
    ending = (".jpg" if data[:2] == b"\xff\xd8" else source.suffix.lower()) if thumb else source.suffix.lower()[:12]
    ending = re.sub(r"[^a-z0-9.]", "", ending)
    path = f"{FOLDER}/{digest[:12]}-{stem}{ending}"
    refuse_link_on_the_way(folder / path)
    (folder / FOLDER).mkdir(parents=True, exist_ok=True)
    if not (folder / path).is_file() or hashlib.sha256((folder / path).read_bytes()).hexdigest() != digest:
        try:
            durable.replace(folder / path, data)
        except OSError as bad:
            raise KyklonError(f"{source.name} cannot be kept: {bad.strerror}.", do="Free some space.") from bad
    return Attached(name, path, digest, len(data), taken, thumb)


def _upright(data: bytes, name: str) -> tuple[bytes, str, bytes]:
    """The photo turned and without what its camera wrote, when it was taken, and a thumbnail. Raises FormatError."""
    from PIL import Image, ImageOps, UnidentifiedImageError

    Image.init()
    with warnings.catch_warnings():
        warnings.simplefilter("error", Image.DecompressionBombWarning)
        try:
            with Image.open(io.BytesIO(data), formats=_FORMS) as opened:
                if opened.width * opened.height > _MOST_PIXELS:
                    raise FormatError(
                        name, 0, expected=f"a photo of at most {_MOST_PIXELS // 10**6} megapixels", got="more"
                    )
                taken = _taken(opened)
                kind = opened.format or ""
                turned = ImageOps.exif_transpose(opened)
                turned.load()
        except (
            UnidentifiedImageError,
            Image.DecompressionBombWarning,
            Image.DecompressionBombError,
            OSError,
            SyntaxError,
            ValueError,
            TypeError,
            ZeroDivisionError,
            OverflowError,
            MemoryError,
        ) as bad:
            if isinstance(bad, FormatError):
                raise
            raise FormatError(
                name,
                0,
                expected="a photo",
                got=str(bad)[:100] or "something else",
                do="Open it elsewhere and save it anew.",
            ) from bad
    plain = turned.convert("RGB")
    lossless = kind in ("PNG", "GIF", "BMP")
    held = io.BytesIO()
    clean = Image.new(turned.mode if lossless and turned.mode in ("RGB", "RGBA", "L", "1") else "RGB", turned.size)
    clean.paste(turned if clean.mode == turned.mode else plain)
    clean.save(held, "PNG" if lossless else "JPEG", **({} if lossless else {"quality": _QUALITY}))
    small = plain.copy()
    small.thumbnail((_THUMB, _THUMB))
    thumb = io.BytesIO()
    small.save(thumb, "JPEG", quality=_THUMB_QUALITY)
    return held.getvalue(), taken, thumb.getvalue()


def _taken(opened: object) -> str:
    """When the camera says that it was taken, ISO 8601, '' where it does not."""
    with suppress(Exception):  # EXIF may be anything; what it says is only shown
        told = str(opened.getexif().get_ifd(0x8769).get(_TAKEN, ""))  # type: ignore[attr-defined] # a Pillow image
        return datetime.strptime(told, "%Y:%m:%d %H:%M:%S").isoformat()
    return ""
