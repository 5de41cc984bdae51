"""Timings by formula: VESA CVT 1.2 and 2.0 (normal, reduced v1, v2, v3) and VESA GTF 1.1. Exact rational arithmetic."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from math import ceil, floor
from typing import Literal

from kyklon.base.errors import WrongUse
from kyklon.model.timing import Axis, Timing

Blanking = Literal["normal", "reduced1", "reduced2", "reduced3"]

CELL = 8  # pixels, CVT 1.2 section 3.4.1; GTF 1.1 CELL GRAN
CVT_STEP_HZ = 250_000  # CVT 1.2: clock step of normal and reduced v1
CVT_STEP_V2_HZ = 1_000  # CVT 1.2: clock step of reduced v2
MIN_SYNC_BACK_US = 550  # CVT 1.2 and GTF 1.1: vertical sync and back porch together
MIN_REDUCED_BLANK_US = 460  # CVT 1.2: reduced vertical blanking
MIN_FRONT_LINES = 3  # CVT 1.2
MIN_BACK_LINES = 7  # CVT 1.2: least vertical back porch
FIXED_BACK_LINES_V2 = 6  # CVT 1.2: vertical back porch of reduced v2
DUTY_C, DUTY_M = 30, 300  # CVT 1.2, GTF 1.1: C' in % and M' in %/kHz of the blanking line
MIN_DUTY = 20  # CVT 1.2: least horizontal blanking in %
LIMITS = {"width": (64, 16384), "height": (32, 16384), "rate": (10, 500)}  # what a request may sensibly be


@dataclass(frozen=True)
class Third:
    """What CVT 2.0's third reduced blanking may be asked for. pixels: of a line's blanking, 80 to 200 in steps of 8;
    us: of a frame's, at least 460; early: the sync in its middle. Raises WrongUse."""

    pixels: int = 80
    us: int = MIN_REDUCED_BLANK_US
    early: bool = False

    def __post_init__(self) -> None:
        if not 80 <= self.pixels <= 200 or self.pixels % CELL or not MIN_REDUCED_BLANK_US <= self.us <= 10_000:
            raise WrongUse(
                f"A blanking of {self.pixels} pixels and {self.us} µs is outside 80 to 200 in steps of 8, "
                "and 460 to 10000."
            )


def cvt(
    width: int,
    height: int,
    rate: float | Fraction,
    blanking: Blanking = "normal",
    *,
    interlaced: bool = False,
    third: Third | None = None,
) -> Timing:
    """Coordinated video timing, VESA CVT 1.2; reduced v3 of CVT 2.0.

    width, height: active pixels and lines of a frame. rate: frames per second, fields per second when
    interlaced. third: what reduced v3 asks for. Raises WrongUse for a request outside 64-16384 x
    32-16384 at 10-500 Hz or one whose blanking leaves no time for the picture.
    """
    rate = _checked(width, height, rate)
    cell = 1 if blanking == "reduced2" else CELL
    active = width // cell * cell
    lines = height // 2 if interlaced else height
    half = Fraction(1, 2) if interlaced else Fraction(0)
    sync = 8 if blanking in ("reduced2", "reduced3") else _cvt_sync_lines(active, height)
    if blanking == "normal":
        return _cvt_normal(active, lines, rate, half, sync, interlaced, height)
    if blanking == "reduced3":
        return _cvt_third(active, lines, rate, half, interlaced, height, third or Third())
    return _cvt_reduced(active, lines, rate, half, sync, interlaced, height, blanking)


def _checked(width: int, height: int, rate: float | Fraction) -> Fraction:
    for name, value in (("width", width), ("height", height), ("rate", rate)):
        low, high = LIMITS[name]
        if not low <= value <= high:
            raise WrongUse(f"{name}={value} is outside {low} to {high}.", do="Ask for a size and rate within.")
    return Fraction(rate).limit_denominator(1_000_000)


def _cvt_sync_lines(width: int, height: int) -> int:
    """Sync width tells the aspect ratio (CVT 1.2 table 3-2)."""
    for aspect_w, aspect_h, lines in ((4, 3, 4), (16, 9, 5), (16, 10, 6), (5, 4, 7), (15, 9, 7)):
        if height % aspect_h == 0 and height * aspect_w // aspect_h == width:
            return lines
    return 10


def _line_period_us(rate: Fraction, blank_us: int, lines: Fraction) -> Fraction:
    period = (1_000_000 / rate - blank_us) / lines
    if period <= 0:
        raise WrongUse(f"At {float(rate):g} Hz the blanking of {blank_us} µs leaves no time for a picture.")
    return period


def _cvt_normal(
    active: int, lines: int, rate: Fraction, half: Fraction, sync: int, interlaced: bool, height: int
) -> Timing:
    period = _line_period_us(rate, MIN_SYNC_BACK_US, lines + MIN_FRONT_LINES + half)
    sync_back = max(floor(MIN_SYNC_BACK_US / period) + 1, sync + MIN_BACK_LINES)
    duty = max(DUTY_C - DUTY_M * period / 1000, Fraction(MIN_DUTY))
    blank = floor(active * duty / (100 - duty) / (2 * CELL)) * 2 * CELL
    total = active + blank
    clock = floor(total / period * 1_000_000 / CVT_STEP_HZ) * CVT_STEP_HZ
    sync_pixels = floor(Fraction(8, 100) * total / CELL) * CELL
    return Timing(
        clock_hz=clock,
        horizontal=Axis(
            active=active, front=blank // 2 - sync_pixels, sync=sync_pixels, back=blank // 2, positive=False
        ),
        vertical=Axis(
            active=lines * 2 if interlaced else height,
            front=MIN_FRONT_LINES,
            sync=sync,
            back=sync_back - sync,
            positive=True,
        ),
        interlaced=interlaced,
    )


def _cvt_reduced(
    active: int, lines: int, rate: Fraction, half: Fraction, sync: int, interlaced: bool, height: int, kind: str
) -> Timing:
    second = kind == "reduced2"
    front, sync_pixels, back = (8, 32, 40) if second else (48, 32, 80)  # CVT 1.2 tables 3-4 and 3-5
    step = CVT_STEP_V2_HZ if second else CVT_STEP_HZ
    least_front = 1 if second else MIN_FRONT_LINES
    period = _line_period_us(rate, MIN_REDUCED_BLANK_US, Fraction(lines))
    least_back = FIXED_BACK_LINES_V2 if second else MIN_BACK_LINES
    blank = max(floor(MIN_REDUCED_BLANK_US / period) + 1, least_front + sync + least_back)
    total = active + front + sync_pixels + back
    clock = floor(rate * (lines + blank + half) * total / step) * step
    if second:
        vertical_front, vertical_back = blank - sync - least_back, least_back
    else:
        vertical_front, vertical_back = MIN_FRONT_LINES, blank - MIN_FRONT_LINES - sync
    return Timing(
        clock_hz=clock,
        horizontal=Axis(active=active, front=front, sync=sync_pixels, back=back, positive=True),
        vertical=Axis(
            active=lines * 2 if interlaced else height,
            front=vertical_front,
            sync=sync,
            back=vertical_back,
            positive=False,
        ),
        interlaced=interlaced,
    )


def _cvt_third(
    active: int, lines: int, rate: Fraction, half: Fraction, interlaced: bool, height: int, asked: Third
) -> Timing:
    """Reduced v3: as v2, in cells of 8 pixels and whole quarters of a MHz, rounded up (CVT 2.0)."""
    front, sync_pixels, sync, back = 8, 32, 8, FIXED_BACK_LINES_V2
    period = _line_period_us(rate, asked.us, Fraction(lines))
    blank = max(floor(asked.us / period) + 1, 1 + sync + back)
    total = active + asked.pixels
    clock = ceil(rate * (lines + blank + half) * total / CVT_STEP_HZ) * CVT_STEP_HZ
    if asked.early:
        back = blank // 2
    return Timing(
        clock_hz=clock,
        horizontal=Axis(
            active=active, front=front, sync=sync_pixels, back=asked.pixels - front - sync_pixels, positive=True
        ),
        vertical=Axis(
            active=lines * 2 if interlaced else height, front=blank - sync - back, sync=sync, back=back, positive=False
        ),
        interlaced=interlaced,
    )


def _round(value: Fraction) -> int:
    """Half away from zero, as the GTF spreadsheet rounds."""
    return floor(value + Fraction(1, 2))


def gtf(width: int, height: int, rate: float | Fraction, *, interlaced: bool = False) -> Timing:
    """Generalized timing formula, VESA GTF 1.1, by vertical rate, without margins.

    Parameters and errors as of cvt(). The clock is rounded to 1 kHz.
    """
    rate = _checked(width, height, rate)
    active = _round(Fraction(width, CELL)) * CELL
    lines = _round(Fraction(height, 2)) if interlaced else height
    half = Fraction(1, 2) if interlaced else Fraction(0)
    estimate = _line_period_us(rate, MIN_SYNC_BACK_US, lines + 1 + half)
    sync_back = _round(MIN_SYNC_BACK_US / estimate)
    period = 1_000_000 / rate / (lines + sync_back + half + 1)
    duty = DUTY_C - DUTY_M * period / 1000
    if duty <= 0:
        raise WrongUse(f"{width} × {height} at {float(rate):g} Hz is slower than GTF's blanking formula reaches.")
    blank = _round(active * duty / (100 - duty) / (2 * CELL)) * 2 * CELL
    total = active + blank
    sync_pixels = _round(Fraction(8, 100) * total / CELL) * CELL
    if sync_pixels > blank // 2 or sync_back <= 3:
        raise WrongUse(f"{width} × {height} at {float(rate):g} Hz leaves GTF no room for its sync.")
    return Timing(
        clock_hz=_round(total / period * 1000) * 1000,
        horizontal=Axis(
            active=active, front=blank // 2 - sync_pixels, sync=sync_pixels, back=blank // 2, positive=False
        ),
        vertical=Axis(active=lines * 2 if interlaced else lines, front=1, sync=3, back=sync_back - 3, positive=True),
        interlaced=interlaced,
    )
