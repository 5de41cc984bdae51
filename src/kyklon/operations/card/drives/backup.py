"""A card as a compressed image with its checksum; what its file systems do not use is kept as zeros."""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import lzma
import os
import time
import zlib
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Protocol, cast

from backports.zstd import CompressionParameter, ZstdCompressor

from kyklon.base import durable
from kyklon.base.errors import WrongUse
from kyklon.base.inside import refuse_systems_own
from kyklon.base.meter import Meter
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.devices.files import told_of
from kyklon.devices.ports import Handle, Target
from kyklon.operations.card.volumes.usage import Usage, usage

CHUNK = 4 << 20  # bytes
AHEAD = 3  # chunks that wait before and behind the packer
ENDINGS = (".img.zst", ".img.xz", ".img.gz", ".img")
_LEVEL = 3  # zstd's own default


@dataclass(frozen=True)
class BackupReport:
    """size: of the image; read: bytes that were read from the card; packed: of the file. sha256: of the file."""

    path: Path
    size: int
    read: int
    packed: int
    sha256: str
    seconds: float
    notes: tuple[str, ...]


class _Packer(Protocol):
    def pack(self, data: bytes) -> bytes: ...

    def end(self) -> bytes: ...


def backup(target: Target, to: Path, watch: Watch = UNWATCHED) -> BackupReport:
    """Read a card into `to` (.img.zst, .img.xz, .img.gz or .img), and its SHA-256 beside it as sha256sum text.

    Raises WrongUse for another ending or a file that is there already, TargetError for a card that cannot be read,
    Cancelled. A backup that did not come to its end leaves no file.
    """
    if not to.name.endswith(ENDINGS):
        raise WrongUse(f"{to.name}: a backup's name ends in {', '.join(ENDINGS)}.", do="Give it such a name.")
    if to.exists():
        raise WrongUse(f"{to} already exists.", do="Choose another name; nothing is overwritten.")
    drive = target.facts
    begun = time.monotonic()
    refuse_systems_own(to)
    unfinished = to.with_name(f".{to.name}{durable.UNFINISHED}")
    durable.sweep(to.parent)
    try:
        with target.drives.open(drive.identity, write=False) as handle:
            try:
                kept = usage(target.path, drive.size)
            except OSError as bad:
                kept = Usage(((0, drive.size),), drive.size, (f"Free blocks are included: {bad.strerror}.",))
            meter = Meter("Backing up", kept.total, watch)
            with told_of(unfinished), unfinished.open("xb") as file:
                with contextlib.suppress(OSError):  # a file system without locks
                    fcntl.flock(file.fileno(), fcntl.LOCK_EX | fcntl.LOCK_NB)
                digest = _pack(handle, kept, to.name, file, meter)
                file.flush()
                os.fsync(file.fileno())
        side = to.with_name(f"{to.name}.sha256")
        with told_of(to):
            durable.replace_text(side, f"{digest}  {to.name}\n")
            unfinished.replace(to)
    except BaseException:
        unfinished.unlink(missing_ok=True)
        raise
    return BackupReport(to, kept.end, kept.total, to.stat().st_size, digest, time.monotonic() - begun, kept.notes)


def _pack(handle: Handle, kept: Usage, name: str, file: IO[bytes], meter: Meter) -> str:
    """The card's chunks through the packer into the file; the SHA-256 of the file.

    Reading ahead, packing, and hashing with writing each have a thread.
    """
    total = hashlib.sha256()
    packer = _packer(name, kept.end)
    done = 0
    writing: deque[Future[None]] = deque()

    def put(data: bytes) -> None:
        total.update(data)
        file.write(data)

    with ThreadPoolExecutor(1, "keep") as writer, ThreadPoolExecutor(1, "read") as reader:
        chunks = _chunks(handle, kept)
        ahead = deque(reader.submit(next, chunks, None) for _ in range(AHEAD))
        while (found := ahead.popleft().result()) is not None:
            meter.wait()
            ahead.append(reader.submit(next, chunks, None))
            chunk, read = found
            writing.append(writer.submit(put, packer.pack(chunk)))
            while len(writing) > AHEAD:
                writing.popleft().result()
            done += read
            meter.report(done)
        writing.append(writer.submit(put, packer.end()))
        for each in writing:
            each.result()
    meter.report(done, force=True)
    return total.hexdigest()


def _chunks(handle: Handle, kept: Usage) -> Iterator[tuple[bytes, int]]:
    """The image in pieces of CHUNK, and how much of each was read; what is not used is zeros."""
    index = 0
    for offset in range(0, kept.end, CHUNK):
        end = min(offset + CHUNK, kept.end)
        while index < len(kept.used) and kept.used[index][1] <= offset:
            index += 1
        wanted = []
        probe = index
        while probe < len(kept.used) and kept.used[probe][0] < end:
            wanted.append((max(offset, kept.used[probe][0]), min(end, kept.used[probe][1])))
            probe += 1
        if not wanted:
            yield bytes(end - offset), 0
            continue
        first, last = wanted[0][0], wanted[-1][1]
        data = handle.read_at(last - first, first).ljust(last - first, b"\0")
        read = sum(stop - start for start, stop in wanted)
        if len(wanted) == 1 and (first, last) == (offset, end):
            yield data, read
            continue
        piece = bytearray(end - offset)
        for start, stop in wanted:
            piece[start - offset : stop - offset] = data[start - first : stop - first]
        yield bytes(piece), read


class _Zstd:
    def __init__(self, size: int) -> None:
        self._inner = ZstdCompressor(
            options={
                CompressionParameter.compression_level: _LEVEL,
                CompressionParameter.nb_workers: os.cpu_count() or 1,
                CompressionParameter.checksum_flag: 1,
            }
        )
        self._inner.set_pledged_input_size(size)

    def pack(self, data: bytes) -> bytes:
        return self._inner.compress(data)

    def end(self) -> bytes:
        return self._inner.flush()


class _Xz:
    def __init__(self) -> None:
        self._inner = lzma.LZMACompressor(lzma.FORMAT_XZ, preset=1)

    def pack(self, data: bytes) -> bytes:
        return self._inner.compress(data)

    def end(self) -> bytes:
        return self._inner.flush()


class _Gz:
    def __init__(self) -> None:
        self._inner = zlib.compressobj(6, zlib.DEFLATED, 31)

    def pack(self, data: bytes) -> bytes:
        return self._inner.compress(data)

    def end(self) -> bytes:
        return self._inner.flush()


class _Plain:
    def pack(self, data: bytes) -> bytes:
        return data

    def end(self) -> bytes:
        return b""


def _packer(name: str, size: int) -> _Packer:
    if name.endswith(".zst"):
        return cast(_Packer, _Zstd(size))
    if name.endswith(".xz"):
        return _Xz()
    return _Gz() if name.endswith(".gz") else _Plain()
