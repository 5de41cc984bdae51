"""Is a card as large as it says, and does it keep what it is given? A quick probe, or a proof of every byte.

Both write over the card, so both go through the interlock. A counterfeit tells a size it does not have: what is
written past its true end lands at the beginning again (its size wraps), or is lost.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from kyklon.base.errors import BadBlock, Cancelled, TargetAsleep, TargetError, TargetLocked, TargetLost
from kyklon.base.meter import Meter
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.quantities import show_bytes
from kyklon.devices.ports import DriveFacts, Handle
from kyklon.operations.card.drives.interlock import OpenTarget, Purpose

BLOCK = 4096  # bytes of a marked block: one page of any flash
CHUNK = 4 << 20  # bytes written at a time
_SPREAD = np.uint64(0x9E3779B97F4A7C15)  # odd, so every place has a product of its own modulo 2^64
PLACES = 48  # marked blocks of a quick probe
_STEPS = 512  # reads that look for a wrapped beginning
_LEAST_FILL = 16 << 20  # bytes marked at the beginning, to be met again if the size wraps
_NOISE = np.random.default_rng(20).integers(0, 2**64, CHUNK // 8, dtype=np.uint64)


@dataclass(frozen=True)
class Range:
    """A stretch of the drive. kind: good, wraps, lost, changed or fault."""

    start: int
    end: int
    kind: str


@dataclass(frozen=True)
class Proof:
    """verdict: good, counterfeit, worn, locked, unplugged or asleep. true_size: bytes, 0 when it is the stated size.

    bad: places that failed, in order. rate: bytes per second while writing. checked: bytes written and compared.
    """

    drive: str
    size: int
    full: bool
    verdict: str
    sentence: str
    true_size: int = 0
    bad: tuple[Range, ...] = ()
    checked: int = 0
    write_rate: float = 0.0
    seconds: float = 0.0
    rates: tuple[tuple[float, float], ...] = ()

    @property
    def good(self) -> bool:
        return self.verdict == "good"


def marked(offset: int, length: int, nonce: int) -> bytes:
    """What belongs at a place: noise with the place's own offset and the run's number in every block of 4096 bytes."""
    start = offset % CHUNK // 8  # a stretch lies within one chunk
    words = _NOISE[start : start + length // 8].copy()
    blocks = words.reshape(-1, BLOCK // 8)
    blocks[:, 0] = np.arange(offset, offset + length, BLOCK, dtype=np.uint64)
    blocks[:, 1] = np.uint64(nonce)
    blocks[:, 2] = blocks[:, 0] * _SPREAD  # so that one changed bit never makes another place's mark
    return words.tobytes()


def place_told(data: bytes, nonce: int) -> int | None:
    """The offset that a block of this run carries, None for a block that is none of its, or is changed."""
    if len(data) < BLOCK:
        return None
    offset = int.from_bytes(data[:8], "little")
    if int.from_bytes(data[8:16], "little") != nonce or offset % BLOCK:
        return None
    return offset if data == marked(offset, BLOCK, nonce) else None


def prove(target: OpenTarget, *, full: bool = False, watch: Watch = UNWATCHED) -> Proof:
    """Mark blocks, read them again, and judge. Leaves the drive without a partition table.

    Raises Cancelled, Refused (a drive opened for something else); what the drive does wrong is the verdict, no error.
    """
    handle = target.handle_for(Purpose.PROVE)
    run = _Run(target.facts, watch, full)
    try:
        try:
            found = run.full(handle) if full else run.quick(handle)
        finally:
            run.blank(handle)
    except Cancelled:
        raise
    except TargetLost as bad:
        found = run.told("unplugged", f"{bad.what} The plug or the reader is loose.")
    except TargetAsleep as bad:
        found = run.told("asleep", f"{bad.what} A hub or the reader went to sleep.")
    except TargetLocked as bad:
        found = run.told("locked", f"{bad.what} A worn-out card locks itself.")
    except BadBlock as bad:
        found = run.told("worn", bad.what, (Range(bad.offset, bad.offset + BLOCK, "fault"),))
    return found


class _Run:
    def __init__(self, drive: DriveFacts, watch: Watch, full: bool) -> None:
        self.drive, self.watch, self.is_full = drive, watch, full
        self.size = drive.size // BLOCK * BLOCK
        self.nonce = time.time_ns() & 0x7FFF_FFFF_FFFF_FFFF
        self.begun = time.monotonic()
        self.meter: Meter | None = None
        self.checked = 0
        self.rate = 0.0

    def told(self, verdict: str, sentence: str, bad: tuple[Range, ...] = (), true_size: int = 0) -> Proof:
        return Proof(
            self.drive.name,
            self.drive.size,
            self.is_full,
            verdict,
            sentence,
            true_size,
            bad,
            self.checked,
            self.rate,
            time.monotonic() - self.begun,
            tuple(self.meter.rates) if self.meter else (),
        )

    def blank(self, handle: Handle) -> None:
        """No half of a table is left."""
        try:
            handle.write_at(bytes(min(1 << 20, self.size)), 0)
            handle.sync()
        except TargetError:
            return

    # --- quick -----------------------------------------------------------------------------------------------

    def quick(self, handle: Handle) -> Proof:
        """A marked beginning, some dozen marked places, and reads that meet the beginning again if the size wraps."""
        fill = min(self.size, max(_LEAST_FILL, -(-self.size // _STEPS) // CHUNK * CHUNK + CHUNK))
        places = [place for place in self._places() if place >= fill]
        total = fill + len(places) * BLOCK
        self.meter = meter = Meter("Marking", total, self.watch)
        began = time.monotonic()
        for offset in range(0, fill, CHUNK):
            meter.wait()
            handle.write_at(marked(offset, min(CHUNK, fill - offset), self.nonce), offset)
            meter.report(offset + min(CHUNK, fill - offset))
        handle.sync()
        self.rate = fill / max(1e-6, time.monotonic() - began)
        for place in places:
            meter.wait()
            handle.write_at(marked(place, BLOCK, self.nonce), place)
        handle.sync()
        handle.forget_cache()
        meter.report(total, force=True)
        wrapped = self._meets_beginning(handle, fill)
        if wrapped:
            return self._counterfeit(wrapped, "wraps")
        changed = self._changed_places(handle, [*range(0, fill, max(BLOCK, fill // 64 // BLOCK * BLOCK)), *places])
        self.checked = fill + len(places) * BLOCK
        if not changed:
            return self.told(
                "good", f"{len(places)} test blocks across all {show_bytes(self.size)} read back as written."
            )
        good = [place for place in places if place not in changed]
        if set(changed) == {place for place in places if place >= changed[0]} and len(changed) > 2:
            return self._counterfeit(self._end_between(handle, max([fill, *good]), changed[0]), "lost")
        bad = tuple(Range(place, place + BLOCK, "changed") for place in changed)
        return self.told("worn", f"{len(changed)} of {len(places)} test blocks read back wrong.", bad)

    def _places(self) -> list[int]:
        """Spread evenly, off any round number, the last block included."""
        step = self.size / PLACES
        places = [int(step * (index + 0.618)) // BLOCK * BLOCK for index in range(PLACES)]
        return sorted({min(place, self.size - BLOCK) for place in (*places, self.size - BLOCK)})

    def _meets_beginning(self, handle: Handle, fill: int) -> int:
        """The true size when reading past it gives the marked beginning again, else 0."""
        meter = Meter("Finding the true size", self.size, self.watch)
        for place in range(fill, self.size, fill):
            meter.wait()
            told = place_told(handle.read_at(BLOCK, place), self.nonce)
            if told is not None and told < fill and told != place:
                return place - told
            meter.report(place)
        return 0

    def _changed_places(self, handle: Handle, places: list[int]) -> list[int]:
        meter = Meter("Reading back", len(places) * BLOCK, self.watch)
        changed = []
        for index, place in enumerate(places):
            meter.wait()
            if handle.read_at(BLOCK, place) != marked(place, BLOCK, self.nonce):
                changed.append(place)
            meter.report(index * BLOCK)
        return changed

    def _end_between(self, handle: Handle, good: int, bad: int) -> int:
        """Halve until the end of what is kept is known to a mebibyte."""
        while bad - good > 1 << 20:
            middle = (good + bad) // 2 // BLOCK * BLOCK
            handle.write_at(marked(middle, BLOCK, self.nonce), middle)
            handle.sync()
            handle.forget_cache()
            if handle.read_at(BLOCK, middle) == marked(middle, BLOCK, self.nonce):
                good = middle
            else:
                bad = middle
        return bad

    def _counterfeit(self, true_size: int, kind: str) -> Proof:
        how = "wraps around and destroys the data at the start" if kind == "wraps" else "is lost"
        return self.told(
            "counterfeit",
            f"It claims {show_bytes(self.drive.size)} but holds {show_bytes(true_size)}; "
            f"anything written beyond that {how}.",
            (Range(true_size, self.drive.size, kind),),
            true_size,
        )

    # --- full ------------------------------------------------------------------------------------------------

    def full(self, handle: Handle) -> Proof:
        """Every byte marked, then every byte read and compared."""
        self.meter = meter = Meter("Marking every byte", self.size, self.watch)
        began = time.monotonic()
        for offset, length in self._chunks():
            meter.wait()
            handle.write_at(marked(offset, length, self.nonce), offset)
            meter.report(offset + length)
        handle.sync()
        handle.forget_cache()
        self.rate = self.size / max(1e-6, time.monotonic() - began)
        meter.report(self.size, force=True)
        return self._judge(self._differences(handle))

    def _chunks(self) -> Iterator[tuple[int, int]]:
        for offset in range(0, self.size, CHUNK):
            yield offset, min(CHUNK, self.size - offset)

    def _differences(self, handle: Handle) -> list[tuple[int, int | None]]:
        """Every block that is not as marked, and what place it tells of itself."""
        meter = Meter("Reading every byte", self.size, self.watch)
        found: list[tuple[int, int | None]] = []
        for offset, length in self._chunks():
            meter.wait()
            piece, wanted = handle.read_at(length, offset), marked(offset, length, self.nonce)
            if piece != wanted:
                for start in range(0, length, BLOCK):
                    block = piece[start : start + BLOCK]
                    if block != wanted[start : start + BLOCK]:
                        found.append((offset + start, place_told(block, self.nonce)))
            self.checked = offset + length
            meter.report(offset + length)
        meter.report(self.size, force=True)
        return found

    def _judge(self, found: list[tuple[int, int | None]]) -> Proof:
        if not found:
            return self.told("good", f"All {show_bytes(self.size)} read back exactly as written.")
        aliased = [(at, told) for at, told in found if told is not None and told != at]
        if aliased:  # the last written block of an alias is what is read at all of its places
            return self._counterfeit(_smallest_step(aliased), "wraps")
        ranges = _joined([at for at, _told in found])
        if ranges[-1].end >= self.size and ranges[-1].end - ranges[-1].start > self.size // 100:
            return self._counterfeit(ranges[-1].start, "lost")
        count = len(found)
        return self.told("worn", f"{count} blocks of 4 KiB read back wrong.", tuple(ranges))


def _smallest_step(aliased: list[tuple[int, int]]) -> int:
    """Places that show each other's marks lie whole true sizes apart; neighbours lie one apart."""
    step = 0
    for at, told in aliased:
        step = int(np.gcd(step, abs(told - at)))
    return step


def _joined(places: list[int]) -> list[Range]:
    ranges: list[Range] = []
    for place in places:
        if ranges and ranges[-1].end == place:
            ranges[-1] = Range(ranges[-1].start, place + BLOCK, "changed")
        else:
            ranges.append(Range(place, place + BLOCK, "changed"))
    return ranges
