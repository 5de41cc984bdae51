"""What a display can hold, and modes made to fit a system onto it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from math import ceil, floor, log2

from kyklon.catalogue.records import Adapter, Board, Display, Range, System
from kyklon.model.display import Edid
from kyklon.model.timing import Axis, Mode, Timing
from kyklon.operations.picture.construct import CLOCK_STEP_HZ, construct, lines_for

LINE_525_HZ = Fraction(4_500_000, 286)  # SMPTE 170M: line rate of the 525-line system
ACTIVE_US = 52.66  # ITU-R BT.470: visible part of a 63.56 µs line
SYNC_US = 4.7  # SMPTE 170M: horizontal sync
FRONT_US = 1.5  # SMPTE 170M: horizontal front porch
SYNC_LINES = 3
BLANK_SHARE = 0.083  # ITU-R BT.470: 525 lines show 483, 625 show 575; the rest is vertical blanking
WIDTHS = range(1280, 2561)  # pixels across that lift a 15 kHz line over the clock floor of a digital link
EXACT_HZ = 0.001  # of the field rate: nobody sees or hears that
_TELEVISION_KHZ = 20.0  # below: tubes that follow a television's lines


@dataclass(frozen=True)
class Fit:
    """How a timing stands to a display. off_khz, off_hz: signed distance outside the nearest range, 0 inside."""

    holds: bool
    range: Range
    off_khz: float
    off_hz: float


def display_ranges(display: Display, identification: Edid | None) -> tuple[Range, ...]:
    """The ranges to trust: the catalogue's, cut to the identification data's where those are narrower.

    Identification data holds whole kHz only, so its limits are taken half a kHz wider than they read.
    """
    if identification is None or identification.ranges is None:
        return display.ranges
    limits = identification.ranges
    cut = []
    for band in display.ranges:
        line = (max(band.line_khz[0], limits.line_khz[0] - 0.5), min(band.line_khz[1], limits.line_khz[1] + 0.5))
        rate = (max(band.field_hz[0], limits.field_hz[0] - 0.5), min(band.field_hz[1], limits.field_hz[1] + 0.5))
        if line[0] < line[1] and rate[0] < rate[1]:
            cut.append(Range(line_khz=line, field_hz=rate))
    return tuple(cut) or (
        Range(
            line_khz=(float(limits.line_khz[0]), float(limits.line_khz[1])),
            field_hz=(float(limits.field_hz[0]), float(limits.field_hz[1])),
        ),
    )


def fit(timing: Timing, ranges: tuple[Range, ...]) -> Fit:
    """The range that holds the timing, or the nearest one with the distance to it."""
    line, rate = float(timing.horizontal_hz) / 1000, float(timing.vertical_hz)

    def off(value: float, band: tuple[float, float]) -> float:
        return value - band[0] if value < band[0] else value - band[1] if value > band[1] else 0.0

    fits = [Fit(False, band, off(line, band.line_khz), off(rate, band.field_hz)) for band in ranges]
    best = min(fits, key=lambda each: abs(each.off_khz) + abs(each.off_hz))
    return Fit(best.off_khz == 0 and best.off_hz == 0, best.range, best.off_khz, best.off_hz)


def most_clock(board: Board, adapter: Adapter | None, display: Display | None) -> int:
    """The highest pixel clock in Hz that everything between the board and the glass takes."""
    most = min(board.most_clock_hz, adapter.most_clock_hz if adapter else board.most_clock_hz)
    return min(most, display.most_clock_hz) if display is not None and display.most_clock_hz else most


def raster(system: System) -> tuple[int, int]:
    """Pixels and lines as the machine scanned them: a vertical game's picture lies on its side."""
    return (system.height, system.width) if system.vertical else (system.width, system.height)


def propose(system: System, display: Display, board: Board, ranges: tuple[Range, ...]) -> Mode | None:
    """A mode for a system: its own rate and line count in a width that is a whole multiple of its own.

    Returns None where the display is flat with a fixed raster (use its native mode and scale) or holds no
    range the system fits.
    """
    if not display.tube:
        return None
    for band in ranges:
        made = _propose_in(system, board, band)
        if made is not None:
            return Mode(name=f"made for {system.name}", timing=made)
    return None


def _propose_in(system: System, board: Board, band: Range) -> Timing | None:
    width, height = raster(system)
    rate = system.refresh_hz
    if not band.field_hz[0] <= rate <= band.field_hz[1]:
        return None
    if band.line_khz[0] < _TELEVISION_KHZ:
        for interlaced in (False, True):  # every other line only where a field does not show them all
            lines = lines_for(rate, height, band.line_khz, interlaced=interlaced)
            made = _television(width, height, rate, lines, board, interlaced=interlaced) if lines is not None else None
            if made is not None:
                return made
        return None
    low, high = (Fraction(str(khz)) * 1000 for khz in band.line_khz)
    lines = round((low + high) / 2 / rate)
    if _visible(lines) < height or not low <= lines * rate <= high:
        lines = floor(high / rate)
    if _visible(lines) < height or lines * rate < low:
        return None
    across = next(iter(_widths_for(width, board, lines * rate)), None)
    return None if across is None else _timing(across, _visible(lines), lines, rate)


def _television(width: int, height: int, rate: Fraction, lines: int, board: Board, *,
                interlaced: bool) -> Timing | None:  # fmt: skip
    """By the television standards: the least width whose field rate is as good as exact, else the nearest of all."""
    made = []
    for across in _widths_for(width, board, lines * rate):
        clocks = board.least_clock_hz, board.most_clock_hz
        one = construct(across, height, rate, lines, clocks, interlaced=interlaced)
        if one is None:
            continue
        if one.off_hz <= EXACT_HZ:
            return one.timing
        made.append(one)
    return min(made, key=lambda each: each.off_hz).timing if made else None


def _visible(lines: int) -> int:
    """Lines of a field outside the vertical blanking."""
    return lines - round(lines * BLANK_SHARE)


def _widths_for(width: int, board: Board, line_hz: Fraction) -> Iterator[int]:
    """Active widths, the least first: whole multiples with room for a border of up to 8 % that clear the clock
    floor."""
    for active in sorted({ceil(width * times * 1.07 / 64) * 64 for times in range(2, 12)}):
        clock = line_hz * ceil(active * 1e6 / (ACTIVE_US * float(line_hz)))
        if active in WIDTHS and board.least_clock_hz <= clock <= board.most_clock_hz:
            yield active


def _timing(active: int, height: int, lines: int, rate: Fraction) -> Timing | None:
    """None where the line is too short for the picture and its sync: these figures are those of 15 kHz."""
    line_hz = lines * rate
    total = ceil(active * 1e6 / (ACTIVE_US * float(line_hz)) / 8) * 8
    clock = round(line_hz * total / CLOCK_STEP_HZ) * CLOCK_STEP_HZ
    per_us = clock / 1e6
    front = max(1, round(FRONT_US * per_us))
    sync = round(SYNC_US * per_us)
    blank = lines - height
    vertical_front = max(1, (blank - SYNC_LINES) // 4)
    if total - active - front - sync < 1 or blank - vertical_front - SYNC_LINES < 1:
        return None
    return Timing(
        clock_hz=clock,
        horizontal=Axis(active=active, front=front, sync=sync, back=total - active - front - sync, positive=False),
        vertical=Axis(
            active=height,
            front=vertical_front,
            sync=SYNC_LINES,
            back=blank - vertical_front - SYNC_LINES,
            positive=False,
        ),
    )


@dataclass(frozen=True)
class Match:
    """A system's rate against the display's: beat_s, one frame dropped or doubled every so many seconds
    (None when equal); speed, the change when the game follows the display; cents, its pitch."""

    beat_s: float | None
    speed: float
    cents: float


def match(display_hz: Fraction, game_hz: Fraction) -> Match:
    """Refresh mismatch: 1/|fd - fg| seconds, or a speed of fd/fg and 1200 log2(fd/fg) cents."""
    difference = abs(display_hz - game_hz)
    ratio = float(display_hz / game_hz)
    beat = None if difference < Fraction(1, 100_000) else float(1 / difference)
    return Match(beat, ratio, 1200 * log2(ratio))


@dataclass(frozen=True)
class Placement:
    """Where a system's picture lands in a mode: whole scale factors, size in the mode's pixels, borders as
    shares of the active area, and the share of the picture that the bezel hides."""

    scale: tuple[int, int]
    size: tuple[int, int]
    left: float
    top: float
    hidden: float
    pixel_aspect: float


def place(system: System, mode: Mode, display: Display) -> Placement:
    """Whole-number placement of a system's raster in a mode on a display.

    pixel_aspect: width to height of one of the system's pixels on the glass, display aspect x Vactive /
    Hactive x scale factors.
    """
    width, height = raster(system)
    across, down = mode.timing.size
    scale_x, scale_y = max(1, across // width), max(1, down // height)
    if not display.tube:
        scale_x = scale_y = min(scale_x, scale_y)
    size = (width * scale_x, height * scale_y)
    left, top = (across - size[0]) / 2 / across, (down - size[1]) / 2 / down
    edge = display.overscan_percent / 100
    seen = 1.0
    for border in (left, top):
        seen *= 1 - 2 * max(0.0, edge - border) / (1 - 2 * border)
    aspect = display.aspect[0] / display.aspect[1] * down / across * scale_x / scale_y
    return Placement((scale_x, scale_y), size, left, top, 1 - seen, aspect)
