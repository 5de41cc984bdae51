"""Image files: plain, xz, gzip, bzip2, zstd, zip. Their size where the format tells it, their bytes as a stream."""

from __future__ import annotations

import bz2
import lzma
import zipfile
import zlib
from collections.abc import Callable, Generator, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from backports.zstd import ZstdDecompressor, ZstdError

from kyklon.errors import FormatError, SourceError
from kyklon.quantities import show_bytes

CHUNK = 4 << 20  # bytes handed on at a time: large and aligned to any erase block
_PACKED = 1 << 20  # bytes read from a compressed file at a time

MAGIC = {
    "xz": b"\xfd7zXZ\x00", "gz": b"\x1f\x8b\x08", "zip": b"PK\x03\x04", "bz2": b"BZh", "zst": b"\x28\xb5\x2f\xfd",
}  # fmt: skip
SUFFIX = {
    ".xz": "xz",
    ".gz": "gz",
    ".zip": "zip",
    ".bz2": "bz2",
    ".zst": "zst",
    ".img": "plain",
    ".iso": "plain",
    ".bin": "plain",
}


@dataclass(frozen=True)
class SourceFacts:
    """unpacked: bytes once decompressed, None where the format cannot tell; gzip tells it modulo 2^32 only."""

    path: Path
    kind: str
    packed: int
    unpacked: int | None
    exact: bool
    member: str = ""


def inspect(path: Path) -> SourceFacts:
    """What kind of image a file is. Raises SourceError for one that is missing, mislabelled, cut off or no image."""
    try:
        size = path.stat().st_size
        with path.open("rb") as file:
            head = file.read(1024)
    except OSError as bad:
        raise SourceError(f"{path} cannot be read: {bad.strerror}.", do="Choose the image again.") from bad
    found = next((kind for kind, magic in MAGIC.items() if head.startswith(magic)), "plain")
    named = SUFFIX.get(path.suffix.lower(), "plain")
    if found != named:
        raise SourceError(
            f"{path.name} is named as {_in_words(named)} but holds {_in_words(found, head)}.",
            do="Download it again, or give it the right ending.",
        )
    if found == "plain":
        return _inspect_plain(path, size, head)
    if found == "xz":
        return SourceFacts(path, found, size, xz_size(path), exact=True)
    if found == "gz":
        with path.open("rb") as file:
            file.seek(max(0, size - 4))
            return SourceFacts(path, found, size, int.from_bytes(file.read(4), "little"), exact=size < 1 << 22)
    if found == "bz2":
        return SourceFacts(path, found, size, None, exact=False)  # the format does not tell
    if found == "zst":
        return SourceFacts(path, found, size, zstd_size(head), exact=False)  # more frames may follow the first
    return _inspect_zip(path, size)


def zstd_size(head: bytes) -> int | None:
    """Unpacked bytes as the first frame's header tells them (RFC 8878, 3.1.1.1), None where it does not."""
    descriptor = head[4]
    single, flag = descriptor >> 5 & 1, descriptor >> 6
    length = (1 if single else 0, 2, 4, 8)[flag]
    if not length:
        return None
    start = 5 + (0 if single else 1) + (0, 1, 2, 4)[descriptor & 3]
    return int.from_bytes(head[start : start + length], "little") + (256 if flag == 1 else 0)


def _in_words(kind: str, head: bytes = b"") -> str:
    if kind == "plain" and head.lstrip()[:1] == b"<":
        return "a web page"
    return {
        "plain": "a plain image",
        "xz": "xz data",
        "gz": "gzip data",
        "zip": "a zip archive",
        "bz2": "bzip2 data",
        "zst": "zstd data",
    }[kind]


def _inspect_plain(path: Path, size: int, head: bytes) -> SourceFacts:
    if head.lstrip()[:1] == b"<":
        raise SourceError(f"{path.name} is a web page, not an image.", do="Download the image itself.")
    if size == 0 or size % 512:
        raise SourceError(
            f"{path.name} has {size} bytes, no whole number of 512-byte sectors: it is cut off.",
            do="Download it again.",
        )
    return SourceFacts(path, "plain", size, size, exact=True)


def _inspect_zip(path: Path, size: int) -> SourceFacts:
    try:
        with zipfile.ZipFile(path) as archive:
            members = [info for info in archive.infolist() if info.filename.lower().endswith(".img")]
    except (zipfile.BadZipFile, OSError) as bad:
        raise SourceError(f"{path.name} is a damaged zip archive: {bad}.", do="Download it again.") from bad
    if len(members) != 1:
        raise SourceError(
            f"{path.name} holds {len(members)} image files; one is needed.", do="Unpack it and choose the image."
        )
    return SourceFacts(path, "zip", size, members[0].file_size, exact=True, member=members[0].filename)


# --- xz (The .xz File Format 1.1.0) -------------------------------------------------------------------------


def xz_size(path: Path) -> int:
    """Uncompressed bytes from the indexes of all streams (sections 2.1.2 and 4), without unpacking.

    Raises SourceError when the end of the file is missing or damaged.
    """
    total = 0
    with path.open("rb") as file:
        end = file.seek(0, 2)
        try:
            while end > 0:
                end = _skip_padding(file, end)
                size, start = _stream_size(file, end)
                total, end = total + size, start
        except FormatError as bad:
            raise SourceError(f"{path.name} is cut off or damaged: {bad}", do="Download it again.") from bad
    return total


def _skip_padding(file: BinaryIO, end: int) -> int:
    while end >= 4:
        file.seek(end - 4)
        if file.read(4) != b"\0\0\0\0":
            break
        end -= 4
    return end


def _stream_size(file: BinaryIO, end: int) -> tuple[int, int]:
    """Uncompressed size of the stream that ends at `end`, and where it starts."""
    file.seek(max(0, end - 12))
    footer = file.read(12)
    if len(footer) < 12 or footer[10:] != b"YZ":
        raise FormatError("xz footer", max(0, end - 2), expected="'YZ'", got=repr(footer[10:]))
    index_size = (int.from_bytes(footer[4:8], "little") + 1) * 4
    index_start = end - 12 - index_size
    if index_start < 12:
        raise FormatError("xz footer", end - 8, expected="an index inside the file", got=f"{index_size} bytes")
    file.seek(index_start)
    index = file.read(index_size)
    if index[0] != 0 or zlib.crc32(index[:-4]) != int.from_bytes(index[-4:], "little"):
        raise FormatError("xz index", index_start, expected="an index with a right checksum", got="damage")
    count, place = _vli(index, 1)
    packed = unpacked = 0
    for _ in range(count):
        block, place = _vli(index, place)
        size, place = _vli(index, place)
        packed += (block + 3) // 4 * 4
        unpacked += size
    return unpacked, index_start - packed - 12


def _vli(data: bytes, place: int) -> tuple[int, int]:
    """A variable-length integer (section 1.2)."""
    value = 0
    for shift in range(0, 63, 7):
        if place >= len(data):
            break
        byte = data[place]
        place += 1
        value |= (byte & 0x7F) << shift
        if not byte & 0x80:
            return value, place
    raise FormatError("xz index", place, expected="the end of a number", got="more of it")


# --- streams ------------------------------------------------------------------------------------------------


def chunks(facts: SourceFacts, on_packed: Callable[[bytes], None] | None = None) -> Iterator[bytes]:
    """The image's bytes in pieces of CHUNK (the last may be shorter).

    on_packed sees the file's own bytes as they are read, for its checksum. Raises SourceError for data that
    is cut off or corrupt, with the position in the unpacked image.
    """
    made = 0
    try:
        for piece in _regroup(_pieces(facts, on_packed or (lambda _data: None))):
            made += len(piece)
            yield piece
    except (lzma.LZMAError, zlib.error, zipfile.BadZipFile, EOFError, ZstdError) as bad:
        raise SourceError(
            f"{facts.path.name} is corrupt after {show_bytes(made)} of its contents: {bad}.",
            do="Download it again and check its checksum.",
        ) from bad
    except OSError as bad:
        if bad.errno is None:  # bz2 tells damage so
            raise SourceError(
                f"{facts.path.name} is corrupt after {show_bytes(made)} of its contents: {bad}.",
                do="Download it again and check its checksum.",
            ) from bad
        raise SourceError(
            f"{facts.path.name} cannot be read: {bad.strerror or bad}.", do="Check the disk it is on."
        ) from bad


def _pieces(facts: SourceFacts, on_packed: Callable[[bytes], None]) -> Iterator[bytes]:
    if facts.kind == "zip":
        with zipfile.ZipFile(facts.path) as archive, archive.open(facts.member) as member:
            while piece := member.read(CHUNK):
                yield piece
        return
    with facts.path.open("rb") as file:
        if facts.kind == "plain":
            while piece := file.read(CHUNK):
                on_packed(piece)
                yield piece
            return
        yield from _decompressed(file, facts.kind, on_packed)


def _decompressed(file: BinaryIO, kind: str, on_packed: Callable[[bytes], None]) -> Iterator[bytes]:
    """Concatenated xz streams or gzip members. The bound on each step keeps memory flat."""
    machine = _Machine(kind)
    while packed := file.read(_PACKED):
        on_packed(packed)
        yield from machine.feed(packed)
    if not machine.finished:
        raise EOFError("the file ends in the middle of its data")


class _Machine:
    """One decompressor after another over a file of several streams."""

    def __init__(self, kind: str) -> None:
        self._kind = kind
        self._inner: lzma.LZMADecompressor | bz2.BZ2Decompressor | ZstdDecompressor | None = None
        self._gz: zlib._Decompress | None = None
        self.finished = False

    def feed(self, packed: bytes) -> Iterator[bytes]:
        while packed:
            if self.finished:
                packed = packed.lstrip(b"\0")  # stream padding
                if not packed:
                    return
                self._inner = self._gz = None
                self.finished = False
            packed = yield from (self._feed_gz(packed) if self._kind == "gz" else self._feed_bounded(packed))

    def _make(self) -> lzma.LZMADecompressor | bz2.BZ2Decompressor | ZstdDecompressor:
        if self._kind == "bz2":
            return bz2.BZ2Decompressor()
        return ZstdDecompressor() if self._kind == "zst" else lzma.LZMADecompressor(lzma.FORMAT_XZ)

    def _feed_bounded(self, packed: bytes) -> Generator[bytes, None, bytes]:
        inner = self._inner = self._inner or self._make()
        data = packed
        while True:
            piece = inner.decompress(data, CHUNK)
            if piece:
                yield piece
            data = b""
            if inner.eof:
                self.finished = True
                return inner.unused_data
            if inner.needs_input:
                return b""

    def _feed_gz(self, packed: bytes) -> Generator[bytes, None, bytes]:
        inner = self._gz = self._gz or zlib.decompressobj(31)
        data = packed
        while data and not inner.eof:
            piece = inner.decompress(data, CHUNK)
            if piece:
                yield piece
            data = inner.unconsumed_tail
        if inner.eof:
            self.finished = True
            return inner.unused_data
        return b""


def _regroup(pieces: Iterator[bytes]) -> Iterator[bytes]:
    """Pieces of any size as pieces of exactly CHUNK, the last excepted."""
    held = bytearray()
    for piece in pieces:
        if not held and len(piece) == CHUNK:
            yield piece
            continue
        held += piece
        while len(held) >= CHUNK:
            yield bytes(held[:CHUNK])
            del held[:CHUNK]
    if held:
        yield bytes(held)
