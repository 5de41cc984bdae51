"""What a display can hold, and modes made to fit a system onto it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from math import ceil

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Adapter, Board, Display, Range
from kyklon.catalogue.system_records import System
from kyklon.model.build import Build
from kyklon.model.display import Edid
from kyklon.model.timing import Mode, Timing
from kyklon.operations.picture.construct import Frame, construct, lines_for, standard_of

WIDTHS = range(640, 2561)  # pixels across that displays are given; a 15 kHz line needs 1280 for a digital link, CP
_FILLED = 0.8  # of the height, CP
EXACT_HZ = 0.001  # of the field rate: nobody sees or hears that
_EDGE = Fraction(3, 1000)  # of a rate that may lie beyond a range: run at its edge, 5 cents off, which nobody hears, CP


@dataclass(frozen=True)
class Fit:
    """How a timing stands to a display. off_khz, off_hz: signed distance outside the nearest range, 0 inside."""

    holds: bool
    range: Range
    off_khz: float
    off_hz: float


def display_ranges(display: Display, identification: Edid | None) -> tuple[Range, ...]:
    """The ranges to trust: the part's own, cut to the identification data's where those are narrower.

    Data only ever narrow: an adapter, a switch box or a wrong file hands over another display's, and a tube is not made
    to hold 31 kHz by being told so. Where nothing would be left they are not believed (`contradicts`).
    """
    return _narrowed(display, identification) or display.ranges


def contradicts(display: Display, identification: Edid | None) -> bool:
    """Whether the data's range limits share nothing with the display's own ranges: they are another display's."""
    return identification is not None and identification.ranges is not None and not _narrowed(display, identification)


def _narrowed(display: Display, identification: Edid | None) -> tuple[Range, ...]:
    """What own ranges and data have in common. Data hold whole kHz and Hz only, so they are taken half of one wider."""
    if identification is None or identification.ranges is None:
        return display.ranges
    limits = identification.ranges
    cut = []
    for band in display.ranges:
        line = (max(band.line_khz[0], limits.line_khz[0] - 0.5), min(band.line_khz[1], limits.line_khz[1] + 0.5))
        rate = (max(band.field_hz[0], limits.field_hz[0] - 0.5), min(band.field_hz[1], limits.field_hz[1] + 0.5))
        if line[0] < line[1] and rate[0] < rate[1]:
            cut.append(Range(line_khz=line, field_hz=rate))
    return tuple(cut)


def fit(timing: Timing, ranges: tuple[Range, ...]) -> Fit:
    """The range that holds the timing, or the nearest one with the distance to it."""
    line, rate = float(timing.horizontal_hz) / 1000, float(timing.vertical_hz)

    def off(value: float, band: tuple[float, float]) -> float:
        return value - band[0] if value < band[0] else value - band[1] if value > band[1] else 0.0

    fits = [Fit(False, band, off(line, band.line_khz), off(rate, band.field_hz)) for band in ranges]
    best = min(fits, key=lambda each: abs(each.off_khz) + abs(each.off_hz))
    return Fit(best.off_khz == 0 and best.off_hz == 0, best.range, best.off_khz, best.off_hz)


@dataclass(frozen=True)
class Carried:
    """What everything between the board and the glass carries: pixel clocks in Hz, and the fewest pixels across."""

    least_clock_hz: int
    most_clock_hz: int
    least_width: int = 0

    def holds(self, timing: Timing) -> bool:
        """Whether a timing gets through."""
        wide = timing.horizontal.active >= self.least_width
        return wide and self.least_clock_hz <= timing.clock_hz <= self.most_clock_hz


def carried(board: Board, adapters: tuple[Adapter, ...] = (), display: Display | None = None) -> Carried:
    most = [board.most_clock_hz, *(adapter.most_clock_hz for adapter in adapters)]
    most += [display.most_clock_hz] if display is not None and display.most_clock_hz else []
    least = max(board.least_clock_hz, *(adapter.least_clock_hz for adapter in adapters), 0)
    return Carried(least, min(most), max((adapter.least_width for adapter in adapters), default=0))


def adapters_of(build: Build, catalogue: Catalogue) -> tuple[Adapter, ...]:
    """Everything between board and display: roles adapter, adapter-2 and so on."""
    found = (catalogue.find(Adapter, part.part) for part in build.parts if part.role.startswith("adapter"))
    return tuple(each for each in found if each is not None)


def raster(system: System) -> tuple[int, int]:
    """Pixels and lines as the machine scanned them: a vertical game's picture lies on its side."""
    return (system.height, system.width) if system.vertical else (system.width, system.height)


def propose(system: System, display: Display, link: Carried, ranges: tuple[Range, ...]) -> Mode | None:
    """A mode for a system: its own rate and line count in a width that is a whole multiple of its own.

    Returns None where the display is flat with a fixed raster (use its native mode and scale) or holds no
    range the system fits.
    """
    if not display.tube:
        return None
    made = [each for each in (_propose_in(system, link, band) for band in ranges) if each is not None]
    if not made:
        return None
    best = min(made, key=lambda each: (each.interlaced, not whole(system, each)))  # of equals the first range
    return Mode(name=f"made for {system.name}", timing=best)


def _propose_in(system: System, link: Carried, band: Range) -> Timing | None:
    width, height = raster(system)
    rate = rate_in(band, system.refresh_hz)
    if rate is None:
        return None
    for interlaced in (False, True):  # every other line only where a field does not show them all
        made = made_in(Frame(width, height, rate, interlaced), link, band)
        if made is not None:
            return made
    return None


def rate_in(band: Range, rate: Fraction) -> Fraction | None:
    """The rate at which a game of `rate` Hz runs in a range: its own, or the edge where that is hardly another one."""
    low, high = (Fraction(str(each)) for each in band.field_hz)
    inside = min(max(rate, low), high)
    return inside if abs(inside - rate) <= _EDGE * rate else None


def plain(display: Display, link: Carried, ranges: tuple[Range, ...], hz: Fraction = Fraction(60)) -> Timing | None:
    """A mode for no system in particular: 640 pixels or a multiple, as many lines as the standard shows."""
    for band in ranges:
        low, high = (Fraction(str(each)) for each in band.field_hz)
        rate = min(max(hz, low), high)
        lines = standard_of(rate, band.line_khz[0]).active
        for height in (lines, lines * 9 // 10, lines * 3 // 4):
            made = made_in(Frame(600, height, rate), link, band) if display.tube else None
            if made is not None:
                return made
    return None


def made_in(frame: Frame, link: Carried, band: Range, *, exactly: bool = False) -> Timing | None:
    """A mode that shows the frame, in one range of a tube. frame.width: of the game, whose multiples are looked for;
    exactly: of the mode."""
    lines = lines_for(frame, band.line_khz)
    if lines is None:
        return None
    widths = [frame.width] if exactly else list(_widths_for(frame.width, link))
    return _made_in(frame, lines, widths, (link, band))


def whole(system: System, timing: Timing) -> bool:
    """Whether a system's lines are shown each as often as the next, with not much of the height left over."""
    height = raster(system)[1]
    times = timing.vertical.active // height
    return times >= 1 and times * height >= _FILLED * timing.vertical.active


def _made_in(frame: Frame, lines: int, widths: list[int], within: tuple[Carried, Range]) -> Timing | None:
    """By the band's standard: the least width whose field rate is as good as exact, else the nearest of all."""
    made, (link, band) = [], within
    clocks = link.least_clock_hz, link.most_clock_hz
    for across in widths:
        one = construct(replace(frame, width=across), lines, clocks, band)
        if one is None:
            continue
        if one.off_hz <= EXACT_HZ:
            return one.timing
        made.append(one)
    return min(made, key=lambda each: each.off_hz).timing if made else None


def _widths_for(width: int, link: Carried) -> Iterator[int]:
    """Active widths, the least first: whole multiples with room for a border of up to 8 %."""
    for active in sorted({ceil(width * times * 1.07 / 64) * 64 for times in range(1, 12)}):
        if active in WIDTHS and active >= link.least_width:
            yield active
