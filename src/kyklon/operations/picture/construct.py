"""Timings for tubes, built from the television standard that their rate is nearest to.

Totals, clock and blanking are searched together: a link takes the clock in steps, so the field rate is met by choosing
a line of as many pixels as lets a step fall on it.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from math import ceil, floor

from kyklon.catalogue.records import Range
from kyklon.model.timing import Axis, Timing

CLOCK_STEP_HZ = 10_000  # EDID 1.4 detailed timings hold the clock in 10 kHz steps


@dataclass(frozen=True)
class Standard:
    """lines: of a progressive field, the usual number first. Horizontal times in µs: of the blanking, the front porch
    and the sync, each with its tolerance. active: lines that are shown; vertical: front porch and sync, in lines."""

    name: str
    line_hz: Fraction
    lines: tuple[int, ...]
    blanking: tuple[float, float]
    front: tuple[float, float]
    sync: tuple[float, float]
    active: int
    vertical: tuple[int, int]


# SMPTE 170M and ITU-R BT.470 system M; lines and porches of a progressive field as CTA-861's code 8
SYSTEM_525 = Standard(
    "525/60",
    Fraction(4_500_000, 286),
    (262, 263),
    (10.9, 0.2),
    (1.5, 0.1),
    (4.7, 0.1),
    240,
    (4, 3),
)
# ITU-R BT.470 systems B and G; lines and porches of a progressive field as CTA-861's code 23
SYSTEM_625 = Standard(
    "625/50",
    Fraction(15_625),
    (312, 313),
    (12.0, 0.3),
    (1.5, 0.3),
    (4.7, 0.2),
    288,
    (2, 3),
)
_HALF = Fraction(1, 2)  # line that an interlaced field has more
_WORTH_LACING = 1.2  # of a field's lines: what is less is better scaled or cropped, CP
_BETWEEN_HZ = 55  # field rates below belong to 625 lines


# VESA DMT 640 x 480 at 60 Hz: the share of a line and of a field that tubes above 20 kHz are built for
MONITOR = Standard(
    "DMT 04h",
    Fraction(25_175_000, 800),
    (525,),
    (6.356, 0.636),
    (0.636, 0.3),
    (3.813, 0.4),
    480,
    (10, 2),
)
_TELEVISION_KHZ = 20.0  # below: tubes that follow a television's lines


def standard_of(rate: Fraction, line_khz: float = 0.0) -> Standard:
    """The standard that a tube of this line rate is built for."""
    if line_khz >= _TELEVISION_KHZ:
        return MONITOR
    return SYSTEM_625 if rate < _BETWEEN_HZ else SYSTEM_525


@dataclass(frozen=True)
class Frame:
    """What is to be shown. width: pixels across; height: lines of a frame, at least; rate: of fields, in Hz."""

    width: int
    height: int
    rate: Fraction
    interlaced: bool = False


@dataclass(frozen=True)
class Made:
    """off_hz: how far the field rate is from the one that was asked for; step_hz: what a step of the clock moves it."""

    timing: Timing
    off_hz: float
    step_hz: float


def lines_for(frame: Frame, line_khz: tuple[float, float]) -> int | None:
    """Whole lines of a field at this rate that the tube follows and that show the picture: the standard's where they
    do, else as near to them as they can be. None where there are none, and where a picture is hardly too high for a
    field: half of its lines at a time would flicker."""
    rate, height, interlaced = frame.rate, frame.height, frame.interlaced
    standard = standard_of(rate, line_khz[0])
    if interlaced and (height <= _WORTH_LACING * standard.active or standard is MONITOR):
        return None
    low, high = (Fraction(str(khz)) * 1000 for khz in line_khz)
    half = _HALF if interlaced else Fraction(0)
    most = floor(high / rate - half)
    shown = ceil(height / 2) if interlaced else height
    blank = standard.lines[0] - standard.active
    if standard is MONITOR:  # its blanking goes with its lines
        middle = round((low + high) / 2 / rate)
        least = max(ceil(low / rate), ceil(shown * standard.lines[0] / standard.active))
        return min(max(middle, least), most) if least <= most else None
    least = max(ceil(low / rate - half), shown + blank)
    usual = [line for line in standard.lines if least <= line <= most]
    if usual:
        return usual[0]
    return min(max(standard.lines[0], least), most) if least <= most else None


def construct(frame: Frame, lines: int, clocks: tuple[int, int], band: Range | None = None) -> Made | None:
    """The timing of `lines` lines whose field rate comes nearest to `rate`, and of equals the one whose blanking does.

    lines: whole lines of a field, to which an interlaced one has a half more; clocks: lowest and highest pixel clock in
    Hz; band: of the tube, which holds whatever is made, None for a television's. None where the standard's blanking
    leaves no such timing.
    """
    active, rate, interlaced = frame.width, frame.rate, frame.interlaced
    standard = standard_of(rate, band.line_khz[0] if band else 0.0)
    of_field = lines + (_HALF if interlaced else 0)
    line_us = float(1_000_000 / (rate * of_field))
    shrink = line_us * float(standard.line_hz) / 1_000_000  # of the standard's line: its parts go with it
    blank_us, tolerance = standard.blanking[0] * shrink, standard.blanking[1]
    widest, narrowest = line_us - blank_us - tolerance, line_us - blank_us + tolerance  # µs that the picture may take
    found: list[tuple[float, float, int, int]] = []
    for total in range(ceil(active * line_us / narrowest), floor(active * line_us / widest) + 1):
        clock = round(rate * of_field * total / CLOCK_STEP_HZ) * CLOCK_STEP_HZ
        if clocks[0] <= clock <= clocks[1] and (band is None or _held(clock, total, of_field, band)):
            off = abs(float(Fraction(clock) / (total * of_field) - rate))
            away = abs((total - active) / clock * 1e6 - blank_us)
            found.append((round(off, 6), away, total, clock))
    if not found:
        return None
    off, _away, total, clock = min(found)
    timing = _laid_out(frame, total, clock, lines, standard, shrink)
    return Made(timing, off, float(CLOCK_STEP_HZ / (total * of_field))) if timing is not None else None


def _held(clock: int, total: int, of_field: int | Fraction, band: Range) -> bool:
    """Whether line and field rate are in a range, as they come out of the clock's steps and not as they were meant."""
    line = Fraction(clock, total)
    (low, high), (slow, fast) = band.line_khz, band.field_hz
    return low <= float(line) / 1000 <= high and slow <= float(line / of_field) <= fast


def _laid_out(frame: Frame, total: int, clock: int, lines: int, standard: Standard, shrink: float) -> Timing | None:
    active, height, interlaced = frame.width, frame.height, frame.interlaced
    front = max(1, round(standard.front[0] * shrink * clock / 1e6))
    sync = round(standard.sync[0] * (shrink if standard is MONITOR else 1.0) * clock / 1e6)
    back = total - active - front - sync
    usual = standard.lines[0] - standard.active  # lines of blanking
    if standard is MONITOR:
        usual = ceil(lines * usual / standard.lines[0])
    room = lines - usual if standard is MONITOR else min(lines - usual, standard.active)
    shown = max(ceil(height / 2) if interlaced else height, room)  # of a field
    v_front, v_sync = standard.vertical
    v_back = lines - shown - v_front - v_sync
    if back < 1 or v_back < 1:
        return None
    return Timing(
        clock_hz=clock,
        horizontal=Axis(active=active, front=front, sync=sync, back=back, positive=False),
        vertical=Axis(active=shown * (2 if interlaced else 1), front=v_front, sync=v_sync, back=v_back, positive=False),
        interlaced=interlaced,
    )
