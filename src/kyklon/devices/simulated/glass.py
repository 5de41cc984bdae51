"""A stand-in for a tube's glass: where a picture lies on it, with offsets that nobody told. What it is read with on a
real one is the user's eye on the test card's rulers."""

from __future__ import annotations

from pathlib import Path

from pydantic import Field, ValidationError

from kyklon.base import durable
from kyklon.base.errors import KyklonError
from kyklon.base.reading import bytes_of, json_of
from kyklon.model.record import Record
from kyklon.model.timing import Timing

FILE = "glass.json"  # beside the other stand-ins of a build
_STANDARD_BACK_US = 10.4  # SMPTE 170M: sync and back porch, from the leading edge to the picture


class GlassStandIn(Record):
    """middle_us, window_us: of what is seen of a line, from the leading edge of its sync. middle_lines, window_lines:
    of a field. pull: part of a change of the porch that the tube's own line hold takes back. stretch: width to height
    of a circle. tick: pixels to which a ruler is read."""

    middle_us: float = Field(default=36.8, gt=0, lt=1000)
    window_us: float = Field(default=47.0, gt=0, lt=1000)
    middle_lines: float = Field(default=140.5, gt=0, lt=4096)
    window_lines: float = Field(default=216.0, gt=0, lt=4096)
    pull: float = Field(default=0.1, ge=0, lt=0.5)
    stretch: float = Field(default=1.0, gt=0.5, lt=2)
    tick: int = Field(default=1, ge=1, le=50)


def load(folder: Path) -> GlassStandIn | None:
    """The stand-in of a folder, None where there is none. Raises KyklonError for a file that is none."""
    file = folder / FILE
    if not file.exists():
        return None
    try:
        return GlassStandIn.model_validate(json_of(bytes_of(file), str(file)))
    except ValidationError as bad:
        raise KyklonError(f"{file} describes no glass: {bad.errors()[0]['msg']}.") from bad


def put(folder: Path, glass: GlassStandIn) -> None:
    durable.keep(folder / FILE, glass.model_dump_json(indent=1).encode())


class SimulatedGlass:
    def __init__(self, glass: GlassStandIn) -> None:
        self.glass = glass

    def read(self, timing: Timing) -> tuple[int, int, int, int]:
        """First number seen on the left, right, upper and lower ruler, in pixels and lines of a frame; below zero for a
        dark gap beside the picture."""
        own, per_us = self.glass, timing.clock_hz / 1e6
        start = (timing.horizontal.sync + timing.horizontal.back) / per_us
        middle = own.middle_us + own.pull * (start - _STANDARD_BACK_US)
        left = (middle - own.window_us / 2 - start) * per_us
        right = (start + timing.horizontal.active / per_us - middle - own.window_us / 2) * per_us
        fields = 2 if timing.interlaced else 1
        first = timing.vertical.sync + timing.vertical.back
        top = (own.middle_lines - own.window_lines / 2 - first) * fields
        bottom = (first + timing.vertical.active / fields - own.middle_lines - own.window_lines / 2) * fields
        return self._seen(left), self._seen(right), round(top), round(bottom)

    def _seen(self, value: float) -> int:
        return round(value / self.glass.tick) * self.glass.tick
