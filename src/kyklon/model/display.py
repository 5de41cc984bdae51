"""What a display says of itself: VESA EDID 1.4 with a CTA-861 extension, as values."""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.model.timing import Timing


@dataclass(frozen=True)
class RangeLimits:
    """Field rates in Hz, line rates in kHz (whole numbers, as the descriptor holds them), largest clock in MHz."""

    field_hz: tuple[int, int]
    line_khz: tuple[int, int]
    clock_mhz: int


@dataclass(frozen=True)
class Extension:
    """CTA-861 revision 3: video codes (first is preferred), basic audio, HDMI vendor block, detailed timings."""

    codes: tuple[int, ...] = ()
    audio: bool = False
    hdmi: bool = False
    timings: tuple[Timing, ...] = ()


@dataclass(frozen=True)
class Edid:
    """vendor: three capital letters. size_mm: of the picture. timings: detailed, the first is preferred. further:
    those of all blocks behind the first two."""

    vendor: str
    product: int
    serial: int
    year: int
    name: str
    timings: tuple[Timing, ...]
    size_mm: tuple[int, int]
    ranges: RangeLimits | None = None
    digital: bool = True
    week: int = 1
    established: int = 0
    extension: Extension | None = None
    further: tuple[Timing, ...] = ()
