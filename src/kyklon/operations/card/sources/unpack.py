"""Packed bytes to image bytes: one stream after another, xz blocks side by side, members of 7z archives.

Memory stays flat whatever the size: what is ahead of the reader is bounded in every path.
"""

from __future__ import annotations

import bz2
import lzma
import os
import queue
import threading
import zlib
from collections import deque
from collections.abc import Callable, Generator, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, BinaryIO

from backports.zstd import ZstdDecompressor, ZstdError

from kyklon.base.archives import ARCHIVE_DAMAGE, ArchiveDamage, header_7z
from kyklon.operations.card.sources.formats import XzBlock, without_padding, xz_around, xz_blocks

CHUNK = 4 << 20  # bytes handed on at a time: large and aligned to any erase block
_PACKED = 4 << 20  # bytes read from a compressed file at a time
AHEAD = 80 << 20  # bytes of unpacked xz blocks that may wait at a time
DICTIONARY = 160 << 20  # bytes a decompressor may take: xz -9 takes 65 MiB (xz(1)), zstd's own limit is 128 MiB


DAMAGE = (*ARCHIVE_DAMAGE, ZstdError)


def stream(file: BinaryIO, kind: str, on_packed: Callable[[bytes], None]) -> Iterator[bytes]:
    """Concatenated xz streams, gzip members, bzip2 streams or zstd frames. Raises one of DAMAGE, or OSError."""
    machine = _Machine(kind)
    while packed := file.read(_PACKED):
        on_packed(packed)
        yield from machine.feed(packed)
    if not machine.finished:
        raise EOFError("the file ends in the middle of its data")


class _Machine:
    """One decompressor after another over a file of several streams. The bound on each step keeps memory flat."""

    def __init__(self, kind: str) -> None:
        self._kind = kind
        self._inner: lzma.LZMADecompressor | bz2.BZ2Decompressor | ZstdDecompressor | None = None
        self._gz: zlib._Decompress | None = None
        self.finished = False

    def feed(self, packed: bytes) -> Iterator[bytes]:
        while packed:
            if self.finished:
                packed = without_padding(packed)  # stream padding
                if not packed:
                    return
                self._inner = self._gz = None
                self.finished = False
            packed = yield from (self._feed_gz(packed) if self._kind == "gz" else self._feed_bounded(packed))

    def _make(self) -> lzma.LZMADecompressor | bz2.BZ2Decompressor | ZstdDecompressor:
        if self._kind == "bz2":
            return bz2.BZ2Decompressor()
        return ZstdDecompressor() if self._kind == "zst" else lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=DICTIONARY)

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


# --- xz, several blocks at a time ----------------------------------------------------------------------------


def stream_xz_blocks(file: BinaryIO, on_packed: Callable[[bytes], None]) -> Iterator[bytes]:
    """An xz file of several blocks, unpacked on all cores; one by one where blocks are too large to hold."""
    blocks = xz_blocks(file)
    file.seek(0)
    largest = max(max(block.unpacked, block.padded) for block in blocks)
    workers = min(os.cpu_count() or 1, AHEAD // max(1, largest) - 1)
    if workers < 2:
        yield from stream(file, "xz", on_packed)
        return
    waiting: deque[Future[list[bytes]]] = deque()
    with ThreadPoolExecutor(workers, "unxz") as pool:
        try:
            for block in blocks:
                _feed_until(file, block.offset, on_packed)
                packed = file.read(block.padded)
                on_packed(packed)
                waiting.append(pool.submit(_unpack_alone, block, packed))
                if len(waiting) > workers:
                    yield from _let_go(waiting.popleft().result())
            while waiting:
                yield from _let_go(waiting.popleft().result())
        finally:
            for each in waiting:
                each.cancel()
    _feed_until(file, None, on_packed)


def _feed_until(file: BinaryIO, end: int | None, on_packed: Callable[[bytes], None]) -> None:
    """What lies between two blocks: headers, indexes, padding."""
    while packed := file.read(_PACKED if end is None else min(_PACKED, end - file.tell())):
        on_packed(packed)


def _let_go(pieces: list[bytes]) -> Iterator[bytes]:
    """Pieces in order, none of them held here once it is handed on."""
    pieces.reverse()
    while pieces:
        yield pieces.pop()


def _unpack_alone(block: XzBlock, packed: bytes) -> list[bytes]:
    """A block in pieces of CHUNK, fed bit by bit: joining or copying would need its memory twice."""
    machine = lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=DICTIONARY)
    before, behind = xz_around(block)
    view = memoryview(packed)
    pieces: list[bytes] = []
    made = 0
    held = bytearray()
    parts: list[bytes | memoryview] = [
        before,
        *(view[at : at + _PACKED] for at in range(0, len(view), _PACKED)),
        behind,
    ]
    for given in parts:
        while not machine.eof and (given or not machine.needs_input):
            held += machine.decompress(given, CHUNK - len(held))
            given = b""
            if made + len(held) > block.unpacked:
                raise lzma.LZMAError("a block is larger than its index states")
            if len(held) == CHUNK:
                pieces.append(bytes(held))
                made += len(held)
                held.clear()
    if held:
        pieces.append(bytes(held))
    if not machine.eof or sum(map(len, pieces)) != block.unpacked:
        raise lzma.LZMAError("a block is not the size its index states")
    return pieces


# --- 7z ------------------------------------------------------------------------------------------------------


def members_7z(file: BinaryIO) -> list[tuple[str, int]]:
    """Names and unpacked sizes. Raises ArchiveDamage."""
    import py7zr  # slow to import, needed for this kind only

    with _told_7z(), file:
        header_7z(file)
        return _list_7z(py7zr.SevenZipFile(file))


def _list_7z(opened: Any) -> list[tuple[str, int]]:
    with opened as archive:
        _bounded_7z(archive)
        if archive.needs_password():
            raise ArchiveDamage("it asks for a password")
        return [(each.filename, int(each.uncompressed)) for each in archive.list() if not each.is_directory]


def _bounded_7z(archive: Any) -> None:
    """Raise ArchiveDamage for a dictionary that would fill the memory."""
    streams = getattr(archive.header, "main_streams", None)
    for folder in streams.unpackinfo.folders if streams else ():
        for coder in folder.coders:
            method, properties = bytes(coder["method"]), bytes(coder.get("properties") or b"")
            wide = 0
            if method == b"\x03\x01\x01" and len(properties) >= 5:  # LZMA: the dictionary as a number
                wide = int.from_bytes(properties[1:5], "little")
            elif method == b"\x21" and properties:  # LZMA2: as an exponent
                bits = properties[0] & 0x3F
                wide = 0xFFFFFFFF if bits == 40 else (2 | bits & 1) << (bits // 2 + 11)
            if wide > DICTIONARY:
                raise ArchiveDamage(f"unpacking it takes {wide >> 20} MiB of memory")


class _told_7z:
    """py7zr's many errors as ArchiveDamage."""

    def __enter__(self) -> None:
        return None

    def __exit__(self, _kind: object, bad: BaseException | None, _trace: object) -> None:
        import struct

        from py7zr.exceptions import ArchiveError, CrcError

        odd = (
            ArchiveError,
            struct.error,
            IndexError,
            ValueError,
            TypeError,
            KeyError,
            AssertionError,
            AttributeError,
            NotImplementedError,
            OverflowError,
            MemoryError,
        )
        if isinstance(bad, CrcError):
            raise ArchiveDamage("its checksum is wrong") from bad
        if isinstance(bad, odd):
            raise ArchiveDamage(str(bad) or type(bad).__name__) from bad


class _Stopped(BaseException):
    """Nobody reads any more."""


def stream_7z(file: BinaryIO, member: str) -> Iterator[bytes]:
    """A member's bytes. py7zr pushes them, so it runs in a thread of its own a few pieces ahead."""
    pieces: queue.Queue[bytes | BaseException | None] = queue.Queue(4)
    stop = threading.Event()

    def push(item: bytes | BaseException | None) -> None:
        while not stop.is_set():
            try:
                pieces.put(item, timeout=0.1)
            except queue.Full:
                continue
            return
        raise _Stopped

    def work() -> None:
        try:
            _extract_7z(file, member, push)
            push(None)
        except _Stopped:
            return
        except BaseException as bad:  # raised again where the pieces are read
            try:
                push(bad)
            except _Stopped:
                return

    thread = threading.Thread(target=work, name="un7z", daemon=True)
    thread.start()
    try:
        while (item := pieces.get()) is not None:
            if isinstance(item, BaseException):
                raise item
            yield item
    finally:
        stop.set()
        thread.join()


def _extract_7z(file: BinaryIO, member: str, push: Callable[[bytes], None]) -> None:
    import py7zr
    from py7zr.io import Py7zIO, WriterFactory

    class Out(Py7zIO):
        count = 0

        def write(self, s: bytes | bytearray) -> int:
            push(bytes(s))
            self.count += len(s)
            return len(s)

        def read(self, size: int | None = None) -> bytes:
            return b""

        def seek(self, offset: int, whence: int = 0) -> int:
            return 0

        def flush(self) -> None:
            return None

        def size(self) -> int:
            return self.count

    class Factory(WriterFactory):
        def create(self, filename: str) -> Py7zIO:
            return Out()

    with _told_7z(), py7zr.SevenZipFile(file) as archive:
        _bounded_7z(archive)
        archive.extract(targets=[member], factory=Factory())


def regroup(pieces: Iterator[bytes]) -> Iterator[bytes]:
    """Pieces of any size as pieces of exactly CHUNK, the last excepted; none is copied twice."""
    held: list[bytes | memoryview] = []
    size = 0
    for piece in pieces:
        if not held and len(piece) == CHUNK:
            yield piece
            continue
        view = memoryview(piece)
        while size + len(view) >= CHUNK:
            held.append(view[: CHUNK - size])
            view = view[CHUNK - size :]
            yield b"".join(held)
            held, size = [], 0
        if view:
            held.append(view)
            size += len(view)
    if held:
        yield b"".join(held)
