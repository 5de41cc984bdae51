"""Writes an image and proves it. Reading, unpacking, hashing and writing overlap; memory stays flat.

The first chunk, with the partition table, is written last: a card whose writing was cut short, however, has no
partition table and cannot be taken for a whole one.
"""

from __future__ import annotations

import hashlib
import queue
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass

from kyklon.card import source
from kyklon.card.interlock import Permit
from kyklon.devices.ports import DriveFacts, Drives, Handle
from kyklon.errors import SourceError, VerifyError
from kyklon.progress import CancelToken, Progress, Sink, no_sink
from kyklon.quantities import show_bytes

QUEUE = 6  # chunks between two stages: 24 MiB, enough to ride out a card's pauses
_REPORT_S = 0.1  # seconds between two progress reports


@dataclass(frozen=True)
class WriteReport:
    """sha256: of the unpacked image as written. source_sha256: of the file as it is on disk. rates: bytes per
    second against seconds since the start, of the writing and of the reading back."""

    size: int
    seconds: float
    sha256: str
    source_sha256: str
    verified: bool
    write_rates: tuple[tuple[float, float], ...]
    verify_rates: tuple[tuple[float, float], ...]


class _Meter:
    """Turns byte counts into progress reports with a rate over the last seconds."""

    def __init__(self, phase: str, total: int | None, sink: Sink) -> None:
        self._phase, self._total, self._sink = phase, total, sink
        self._start = self._last = time.monotonic()
        self._last_done = 0
        self.rates: list[tuple[float, float]] = []

    def report(self, done: int, *, force: bool = False) -> None:
        now = time.monotonic()
        if now - self._last < _REPORT_S and not force:
            return
        rate_now = None
        if done > self._last_done and now > self._last:
            rate_now = (done - self._last_done) / (now - self._last)
            self.rates.append((now - self._start, rate_now))
        rate = done / max(1e-6, now - self._start)
        left = (self._total - done) / rate if self._total and rate else None
        self._last, self._last_done = now, done
        at = now - self._start
        self._sink(Progress(self._phase, done, self._total, rate, left, at_s=at, rate_now=rate_now))


def write_image(
    facts: source.SourceFacts,
    drives: Drives,
    drive: DriveFacts,
    permit: Permit,
    *,
    sha256: str | None = None,
    sink: Sink = no_sink,
    cancel: CancelToken | None = None,
) -> WriteReport:
    """Write an image to a drive, sync it, read it back and compare.

    permit: the interlock's, for this drive and this file. sha256: what its maker states, of the file or of the
    unpacked image. Raises Cancelled, SourceError (corrupt, wrong checksum), TargetError (full, lost, faulty,
    read-back differs); the partition table is on the drive only when all went well.
    """
    permit.use(drive.identity, str(facts.path.resolve()))
    cancel = cancel or CancelToken()
    begun = time.monotonic()
    with drives.open(drive.identity, write=True) as handle:
        meter = _Meter("Writing", facts.unpacked, sink)
        written = _write(facts, handle, meter, cancel)
        _check_sum(facts, written, sha256)
        handle.write_at(written.first, 0)
        handle.sync()
        meter.report(written.size, force=True)
        second = _Meter("Reading back", written.size, sink)
        handle.forget_cache()
        try:
            _verify(handle, written, second, cancel)
        except VerifyError:
            handle.write_at(bytes(min(len(written.first), 1 << 20)), 0)
            handle.sync()
            raise
    return WriteReport(
        size=written.size,
        seconds=time.monotonic() - begun,
        sha256=written.digests[-1].hex(),
        source_sha256=written.source_sha256,
        verified=True,
        write_rates=tuple(meter.rates),
        verify_rates=tuple(second.rates),
    )


@dataclass(frozen=True)
class _Written:
    """digests: SHA-256 of all bytes up to the end of each chunk, so a difference is found where it begins."""

    size: int
    first: bytes
    digests: tuple[bytes, ...]
    source_sha256: str


def _write(facts: source.SourceFacts, handle: Handle, meter: _Meter, cancel: CancelToken) -> _Written:
    packed_sum, image_sum = hashlib.sha256(), hashlib.sha256()
    digests: list[Future[bytes]] = []
    first, offset = b"", 0

    def add(piece: bytes) -> bytes:
        image_sum.update(piece)
        return image_sum.copy().digest()

    separate = facts.kind in ("xz", "gz", "bz2", "zst")
    with ThreadPoolExecutor(1, "hash") as hasher, _ahead(facts, packed_sum if separate else None) as pieces:
        for piece in pieces:
            cancel.check()
            digests.append(hasher.submit(add, piece))
            if offset == 0:
                first = piece
                handle.write_at(bytes(len(piece)), 0)
            else:
                handle.write_at(piece, offset)
            offset += len(piece)
            if len(digests) > QUEUE:
                digests[-QUEUE].result()
            meter.report(offset)
        done = tuple(digest.result() for digest in digests)
    if not done:
        raise SourceError(f"{facts.path.name} is empty.", do="Download it again.")
    return _Written(offset, first, done, packed_sum.hexdigest() if separate else "")


class _ahead:
    """Unpacks in a thread of its own, a few chunks ahead of the writer."""

    def __init__(self, facts: source.SourceFacts, packed_sum: hashlib._Hash | None) -> None:
        self._queue: queue.Queue[bytes | BaseException | None] = queue.Queue(QUEUE)
        self._stop = threading.Event()
        on_packed = packed_sum.update if packed_sum else None
        self._thread = threading.Thread(target=self._run, args=(facts, on_packed), name="unpack", daemon=True)

    def _run(self, facts: source.SourceFacts, on_packed: Callable[[bytes], None] | None) -> None:
        try:
            for piece in source.chunks(facts, on_packed):
                if not self._put(piece):
                    return
            self._put(None)
        except BaseException as bad:  # handed to the writer's thread, which raises it
            self._put(bad)

    def _put(self, item: bytes | BaseException | None) -> bool:
        while not self._stop.is_set():
            try:
                self._queue.put(item, timeout=0.1)
            except queue.Full:
                continue
            return True
        return False

    def __enter__(self) -> Iterator[bytes]:
        self._thread.start()
        return self._items()

    def _items(self) -> Iterator[bytes]:
        while (item := self._queue.get()) is not None:
            if isinstance(item, BaseException):
                raise item
            yield item

    def __exit__(self, *_exc: object) -> None:
        self._stop.set()
        self._thread.join()


def _check_sum(facts: source.SourceFacts, written: _Written, sha256: str | None) -> None:
    if facts.unpacked is not None and facts.exact and written.size != facts.unpacked:
        raise SourceError(
            f"{facts.path.name} holds {show_bytes(written.size)} but says {show_bytes(facts.unpacked)}.",
            do="Download it again.",
        )
    sums = {written.digests[-1].hex(), written.source_sha256}
    if facts.kind == "zip" and sha256:
        with facts.path.open("rb") as file:
            sums.add(hashlib.file_digest(file, "sha256").hexdigest())
    if sha256 and sha256.lower() not in sums:
        raise SourceError(
            f"{facts.path.name} has the SHA-256 {written.source_sha256 or written.digests[-1].hex()}; "
            f"its maker states {sha256}.",
            do="The download is damaged or is another file. Download it again.",
        )


def _verify(handle: Handle, written: _Written, meter: _Meter, cancel: CancelToken) -> None:
    """Read all back; one chunk is hashed while the next is read."""
    total = hashlib.sha256()

    def add(piece: bytes) -> bytes:
        total.update(piece)
        return total.copy().digest()

    offset = 0
    with ThreadPoolExecutor(1, "hash") as hasher:
        before: Future[bytes] | None = None
        for index in range(len(written.digests)):
            cancel.check()
            piece = handle.read_at(min(source.CHUNK, written.size - offset), offset)
            if before is not None:
                _compare(before.result(), written.digests[index - 1], index - 1)
            before = hasher.submit(add, piece)
            offset += len(piece)
            meter.report(offset)
        if before is not None:
            _compare(before.result(), written.digests[-1], len(written.digests) - 1)
    meter.report(offset, force=True)


def _compare(got: bytes, wanted: bytes, index: int) -> None:
    if got != wanted:
        raise VerifyError(
            f"What was read back differs from what was written, first between byte {index * source.CHUNK} and "
            f"{(index + 1) * source.CHUNK}.",
            do="The card is worn or lies about its size. Use another one.",
        )
