"""Archives that anybody may have made: opened only when their list of contents is whole and of a sane size."""

from __future__ import annotations

import lzma
import zipfile
import zlib
from typing import BinaryIO

_MOST_7Z_HEADER = 4 << 20  # bytes; one image's is a few hundred


class ArchiveDamage(Exception):
    """What is wrong with an archive."""


ARCHIVE_DAMAGE = (lzma.LZMAError, zlib.error, zipfile.BadZipFile, EOFError, ArchiveDamage)

_MOST_ZIP_LIST = 16 << 20  # bytes of a zip's central directory; 100 000 members


def open_zip(file: BinaryIO) -> zipfile.ZipFile:
    """A zip archive whose list of contents is of a sane size. Raises one of DAMAGE."""
    end = file.seek(0, 2)
    start = max(0, end - 65_557)  # APPNOTE 4.3.16: 22 bytes and a comment of at most 65 535
    file.seek(start)
    tail = file.read(end - start)
    at = tail.rfind(b"PK\x05\x06")
    stated = int.from_bytes(tail[at + 12 : at + 16], "little") if at >= 0 else 0
    wide = tail.rfind(b"PK\x06\x06")
    if stated == 0xFFFFFFFF and wide >= 0:
        stated = int.from_bytes(tail[wide + 40 : wide + 48], "little")
    if stated > _MOST_ZIP_LIST:
        raise ArchiveDamage(f"its list of contents has {stated} bytes")
    file.seek(0)
    return zipfile.ZipFile(file)


def header_7z(file: BinaryIO) -> None:
    """Check what a 7z file begins with: the start header's and the next header's CRC-32, and that it is all there
    (7zFormat.txt of its authors, 'Archive structure'). Raises ArchiveDamage."""
    file.seek(0)
    head = file.read(32)
    offset, size = int.from_bytes(head[12:20], "little"), int.from_bytes(head[20:28], "little")
    if len(head) < 32 or head[:6] != b"7z\xbc\xaf\x27\x1c":
        raise ArchiveDamage("it does not begin as a 7z archive")
    if zlib.crc32(head[12:32]) != int.from_bytes(head[8:12], "little"):
        raise ArchiveDamage("its first header is damaged")
    if size > _MOST_7Z_HEADER:
        raise ArchiveDamage(f"its list of contents has {size} bytes")
    end = file.seek(0, 2)
    if 32 + offset + size > end:
        raise ArchiveDamage("it is cut off")
    file.seek(32 + offset)
    if zlib.crc32(file.read(size)) != int.from_bytes(head[28:32], "little"):
        raise ArchiveDamage("its list of contents is damaged")
    file.seek(0)
