"""A video timing. Clocks are whole Hz, rates exact fractions."""

from __future__ import annotations

from fractions import Fraction

from pydantic import Field

from kyklon.model.record import Record


class Axis(Record):
    """One axis of a timing: pixels horizontally, lines vertically.

    Of an interlaced timing the vertical `active` counts the lines of a frame, `front`, `sync` and `back` those
    of one field.
    """

    active: int = Field(gt=0, le=65535)
    front: int = Field(ge=0, le=65535)
    sync: int = Field(gt=0, le=65535)
    back: int = Field(ge=0, le=65535)
    positive: bool

    @property
    def blank(self) -> int:
        return self.front + self.sync + self.back

    @property
    def total(self) -> int:
        """Active and blank together (per axis; see Timing.lines_per_frame for interlaced frames)."""
        return self.active + self.blank


class Timing(Record):
    """Pixel clock and both axes.

    horizontal_hz = clock / Htotal. vertical_hz = horizontal_hz / Vtotal for progressive timings and twice that
    (the field rate) for interlaced ones. half_line: an interlaced frame has an odd number of lines, as all but
    one of CTA-861's do.
    """

    clock_hz: int = Field(gt=0, le=10_000_000_000)
    horizontal: Axis
    vertical: Axis
    interlaced: bool = False
    half_line: bool = True

    @property
    def lines_per_frame(self) -> int:
        if not self.interlaced:
            return self.vertical.total
        return self.vertical.active + 2 * self.vertical.blank + (1 if self.half_line else 0)

    @property
    def horizontal_hz(self) -> Fraction:
        return Fraction(self.clock_hz, self.horizontal.total)

    @property
    def vertical_hz(self) -> Fraction:
        return self.horizontal_hz / self.lines_per_frame * (2 if self.interlaced else 1)

    @property
    def size(self) -> tuple[int, int]:
        """Active width and height in pixels and lines of a frame."""
        return self.horizontal.active, self.vertical.active

    def microseconds(self, pixels: int) -> float:
        """How long that many pixels take."""
        return pixels / self.clock_hz * 1e6


class Mode(Record):
    """A timing with the name of where it comes from, as 'CTA 1' or 'made for Birch 16'."""

    name: str
    timing: Timing
