"""Writes an image and proves it. Reading, unpacking, hashing and writing overlap; memory stays flat.

The first chunk, with the partition table, is written last: a card whose writing was cut short, however, has no
partition table and cannot be taken for a whole one.
"""

from __future__ import annotations

import contextlib
import queue
import threading
import time
import zlib
from array import array
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field

from kyklon.base.errors import BadBlock, SourceError, TargetError, TargetFull, VerifyError
from kyklon.base.meter import Meter
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.quantities import show_bytes
from kyklon.devices.ports import Handle
from kyklon.model.image_file import SourceFacts, Stated
from kyklon.operations import checksums
from kyklon.operations.card.drives.interlock import OpenTarget, Purpose
from kyklon.operations.card.sources import source
from kyklon.operations.card.sources.joined import open_image

QUEUE = 4  # chunks between two stages: 16 MiB, enough to ride out a card's pauses
PLACE = 64 << 10  # bytes: how exactly a difference or a bad block is placed
TRIES = 3  # times a failing place is written before it is named
ARCHIVES = ("zip", "7z")
_ZEROS = bytes(source.CHUNK)


@dataclass(frozen=True)
class WriteReport:
    """sha256: of the unpacked image as written, '' when it was not asked for and the target was faster than the sum
    can be made. source_sum: of the file as it is on disk, with its algorithm.

    rates: bytes per second against seconds since the start, of the writing and of the reading back. retried: places
    in bytes that were written only at the second or third try. target_rate: bytes per second that the drive itself
    took, waiting for the source left out. skipped: bytes of zeros that were not sent. notes: what else was seen.
    """

    size: int
    seconds: float
    sha256: str
    source_sum: Stated | None
    verified: bool
    write_rates: tuple[tuple[float, float], ...]
    verify_rates: tuple[tuple[float, float], ...]
    retried: tuple[int, ...] = ()
    target_rate: float = 0.0
    skipped: int = 0
    notes: tuple[str, ...] = ()
    checked: str = ""  # the maker's checksum that was found right, in words


@dataclass(frozen=True)
class Order:
    """How a write is to be done. stated: what the image's maker states, of the file or of the unpacked image; with it
    the partition table is written only after it was found right. digest: wait for the image's SHA-256; else it is
    made in passing, as far as the target leaves time for it. on_written: called once the table is on the drive,
    before the reading back."""

    stated: Stated | None = None
    digest: bool = False
    on_written: Callable[[], object] = lambda: None


PLAINLY = Order()


def write_image(
    target: OpenTarget, facts: SourceFacts, order: Order = PLAINLY, watch: Watch = UNWATCHED
) -> WriteReport:
    """Write an image to an open drive, sync it, read it back and compare.

    Raises Cancelled, SourceError (corrupt, wrong checksum), TargetError and those below it; the partition table stays
    on the drive only when all went well or the reading back was cancelled.
    """
    handle = target.handle_for(Purpose.WRITE, facts)
    begun = time.monotonic()
    if facts.parts:
        checksums.check_parts(facts, watch.check)
    job = _Job(facts, handle, order, watch)
    job.write()
    job.check_sum()
    job.finish()
    order.on_written()
    handle.forget_cache()
    try:
        job.verify()
    except (VerifyError, BadBlock):
        with contextlib.suppress(TargetError):
            handle.write_at(bytes(min(len(job.first), 1 << 20)), 0)
            handle.sync()
        raise
    told = handle.reread_table()
    return job.report(time.monotonic() - begun, (told,) if told else ())


@dataclass
class _Job:
    """One write, from the first byte to the last compared one."""

    facts: SourceFacts
    handle: Handle
    order: Order
    watch: Watch
    first: bytes = b""
    size: int = 0
    skipped: int = 0
    busy_s: float = 0.0
    retried: list[int] = field(default_factory=list)
    marks: array[int] = field(default_factory=lambda: array("I"))  # CRC-32 of every PLACE bytes
    got: dict[str, Stated] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.write_meter = Meter("Writing", self.facts.unpacked, self.watch)
        self.verify_meter: Meter | None = None
        self.whole = checksums.new_sum("SHA-256")
        self.hashed = 0  # bytes of the image that `whole` has seen
        self.complete = True  # whether `whole` will have seen all of them

    # --- writing ---------------------------------------------------------------------------------------------

    def write(self) -> None:
        """All but the first chunk, whose place is filled with zeros."""
        apart = self.facts.kind not in (*ARCHIVES, "plain")  # the file's sum is another than the image's
        algorithm = self.order.stated.algorithm if self.order.stated else "SHA-256"
        packed_sum = checksums.new_sum(algorithm) if apart and self.order.stated else None
        extra = checksums.new_sum(algorithm) if algorithm != "SHA-256" else None
        # where nothing must be known before the end, hashing may trail behind the writing and catch up later
        trailing = self.handle.cached and self.order.stated is None
        waiting: list[Future[None]] = []
        with ThreadPoolExecutor(1, "hash") as hasher, _ahead(self.facts, packed_sum) as pieces:
            for piece in pieces:
                self.write_meter.wait()
                waiting.append(hasher.submit(self._add, piece, extra, trailing))
                self._put(piece)
                self.size += len(piece)
                if len(waiting) > QUEUE:
                    waiting.pop(0).result()
                self.write_meter.report(self.size)
            for each in waiting:
                each.result()
        if not self.size:
            raise SourceError(f"{self.facts.name} is empty.", do="Download it again.")
        if packed_sum is not None:
            self.got["file"] = Stated(algorithm, packed_sum.hexdigest())
        if self.order.stated is not None:
            self.got["image"] = Stated(algorithm, (extra or self.whole).hexdigest())
        if not trailing:
            return
        self._catch_up_while_syncing()

    def _add(self, piece: bytes, extra: checksums.Sum | None, trailing: bool) -> None:
        view = memoryview(piece)
        for start in range(0, len(piece), PLACE):
            self.marks.append(zlib.crc32(view[start : start + PLACE]))
        if extra is not None:
            extra.update(piece)
        if not trailing:
            self.whole.update(piece)
            self.hashed += len(piece)

    def _catch_up_while_syncing(self) -> None:
        """Hash what lies in memory while the drive takes it; the reading back hashes the rest."""
        done = threading.Event()
        failed: list[BaseException] = []

        def sync() -> None:
            try:
                self.handle.sync()
            except BaseException as bad:  # raised again below
                failed.append(bad)
            done.set()

        thread = threading.Thread(target=sync, name="sync", daemon=True)
        begun = time.monotonic()
        thread.start()
        while not done.is_set() and self.hashed < self.size:
            length = min(source.CHUNK, self.size - self.hashed)
            piece = self.first if self.hashed == 0 else self.handle.read_at(length, self.hashed)
            self.whole.update(piece)
            self.hashed += len(piece)
        thread.join()
        self.busy_s += time.monotonic() - begun
        if failed:
            raise failed[0]

    def _put(self, piece: bytes) -> None:
        begun = time.monotonic()
        offset = self.size
        if offset == 0:
            self.first = piece
            self._write(_ZEROS[: len(piece)], 0)
        elif piece == _ZEROS[: len(piece)] and self.handle.zero(len(piece), offset):
            self.skipped += len(piece)
        else:
            self._write(piece, offset)
        self.busy_s += time.monotonic() - begun

    def _write(self, piece: bytes, offset: int) -> None:
        try:
            self.handle.write_at(piece, offset)
        except BadBlock:
            self._write_in_places(piece, offset)

    def _write_in_places(self, piece: bytes, offset: int) -> None:
        """A chunk that failed, place by place; each may fail twice. Raises BadBlock with the first that stays bad."""
        view = memoryview(piece)
        again: list[int] = []
        for start in range(0, len(piece), PLACE):
            for attempt in range(1, TRIES + 1):
                try:
                    self.handle.write_at(view[start : start + PLACE], offset + start)
                except BadBlock as bad:
                    if attempt == TRIES:
                        raise BadBlock(
                            f"The {PLACE >> 10} KiB at byte {offset + start} cannot be written, tried {TRIES} times.",
                            offset + start,
                            do="Try another reader; if the fault stays, the card is worn.",
                        ) from bad
                else:
                    if attempt > 1:
                        again.append(offset + start)
                    break
        self.retried += again or [offset]

    def finish(self) -> None:
        """The first chunk, and everything onto the medium."""
        begun = time.monotonic()
        self.handle.sync()
        self._write(self.first, 0)
        self.handle.sync()
        self.busy_s += time.monotonic() - begun
        self.write_meter.report(self.size, force=True)

    def check_sum(self) -> None:
        """Before the table is written: is it the image its maker meant?"""
        facts, stated = self.facts, self.order.stated
        if facts.unpacked is not None and facts.exact and self.size != facts.unpacked:
            raise SourceError(
                f"{facts.name} contains {show_bytes(self.size)} but states {show_bytes(facts.unpacked)}.",
                do="Download it again.",
            )
        if stated is None:
            return
        if facts.kind in ARCHIVES and self.got["image"] != stated:
            with open_image(facts) as file:
                self.got["file"] = Stated(stated.algorithm, checksums.of_file(file, stated.algorithm, self.watch.check))
        if stated not in self.got.values():
            seen = self.got.get("file", self.got["image"]).digest
            raise SourceError(
                f"{facts.name} has the {stated.algorithm} {seen}; the published one is {stated.digest}.",
                do="The download is damaged or is another file. Download it again.",
            )

    # --- reading back ----------------------------------------------------------------------------------------

    def verify(self) -> None:
        """Read all back; one chunk is compared and hashed while the next is read."""
        meter = self.verify_meter = Meter("Reading back", self.size, self.watch)
        offset = 0
        waiting: list[Future[None]] = []
        sums: list[Future[None]] = []
        with ThreadPoolExecutor(1, "compare") as comparer, ThreadPoolExecutor(1, "hash") as hasher:
            while offset < self.size:
                meter.wait()
                piece = self._read(min(source.CHUNK, self.size - offset), offset)
                waiting.append(comparer.submit(self._compare, piece, offset))
                if offset >= self.hashed and self.complete:
                    if len(sums) > QUEUE and not self.order.digest:
                        self.complete = False  # the target is faster than the sum
                    else:
                        sums.append(hasher.submit(self.whole.update, piece))
                offset += len(piece)
                if not piece:
                    raise TargetFull(f"The drive ends at byte {offset}.", do="It is smaller than it claims.")
                while len(waiting) > QUEUE:
                    waiting.pop(0).result()
                while sums and (sums[0].done() or (self.order.digest and len(sums) > QUEUE)):
                    sums.pop(0).result()
                meter.report(offset)
            for each in waiting:
                each.result()
            if not self.complete:
                hasher.shutdown(wait=False, cancel_futures=True)
        meter.report(offset, force=True)

    def _read(self, length: int, offset: int) -> bytes:
        """A chunk back; a failing one is read place by place, each tried again. Raises BadBlock with the place."""
        try:
            return self.handle.read_at(length, offset)
        except BadBlock:
            parts = [self._read_place(min(PLACE, length - start), offset + start) for start in range(0, length, PLACE)]
        self.retried.append(offset)
        return b"".join(parts)

    def _read_place(self, length: int, offset: int) -> bytes:
        for attempt in range(1, TRIES + 1):
            try:
                return self.handle.read_at(length, offset)
            except BadBlock as bad:
                if attempt == TRIES:
                    raise BadBlock(
                        f"The {PLACE >> 10} KiB at byte {offset} cannot be read back, tried {TRIES} times.",
                        offset,
                        do="Try another reader; if the fault stays, the card is worn.",
                    ) from bad
        raise AssertionError("unreachable")

    def _compare(self, piece: bytes, offset: int) -> None:
        view = memoryview(piece)
        first = offset // PLACE
        for start in range(0, len(piece), PLACE):
            if zlib.crc32(view[start : start + PLACE]) != self.marks[first + start // PLACE]:
                at = offset + start
                raise VerifyError(
                    f"What was read back differs from what was written, first in the {PLACE >> 10} KiB from byte {at}.",
                    at,
                    do="The card is worn or has a false capacity. Use another one.",
                )

    def report(self, seconds: float, notes: tuple[str, ...]) -> WriteReport:
        assert self.verify_meter is not None
        return WriteReport(
            size=self.size,
            seconds=seconds,
            sha256=self.whole.hexdigest() if self.complete else "",
            source_sum=self.got.get("file"),
            verified=True,
            write_rates=tuple(self.write_meter.rates),
            verify_rates=tuple(self.verify_meter.rates),
            retried=tuple(dict.fromkeys(self.retried)),
            target_rate=(self.size - self.skipped) / max(self.busy_s, 1e-6),
            skipped=self.skipped,
            notes=notes,
            checked=self.order.stated.words if self.order.stated else "",
        )


class _ahead:
    """Unpacks in a thread of its own, a few chunks ahead of the writer."""

    def __init__(self, facts: SourceFacts, packed_sum: checksums.Sum | None) -> None:
        self._queue: queue.Queue[bytes | BaseException | None] = queue.Queue(QUEUE)
        self._stop = threading.Event()
        on_packed = packed_sum.update if packed_sum else None
        self._thread = threading.Thread(target=self._run, args=(facts, on_packed), name="unpack", daemon=True)

    def _run(self, facts: SourceFacts, on_packed: Callable[[bytes], None] | None) -> None:
        pieces = source.chunks(facts, on_packed)
        try:
            for piece in pieces:
                if not self._put(piece):
                    return
            self._put(None)
        except BaseException as bad:  # handed to the writer's thread, which raises it
            self._put(bad)
        finally:
            if hasattr(pieces, "close"):
                pieces.close()

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
