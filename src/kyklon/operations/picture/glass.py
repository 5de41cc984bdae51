"""A system's picture in a mode on a display: where it lies, what is lost of it, how fast it plays.

Fields of a display at fd and frames of a game at fg: a game that keeps its own speed has frames dropped or doubled
|fd - fg| times a second; one that follows the display plays at fd / fg, 1200 log2(fd / fg) cents off pitch.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from math import floor, log2

from kyklon.catalogue.records import Display
from kyklon.catalogue.system_records import System
from kyklon.model.timing import Mode, Timing
from kyklon.operations.picture.ranges import raster
from kyklon.operations.picture.signal_path import scanned_aspect

_LEAST_HZ = Fraction(1, 100_000)  # below: equal


@dataclass(frozen=True)
class OnGlass:
    """box: left, top, width and height of the picture in the mode's pixels; parts of it may lie outside. scale: pixels
    of the mode for one of the system's, and lines. border: part of the seen glass that stays dark. lost: part of the
    picture that is cut off or behind the bezel. circle: width to height of a circle; 1 is round. area_mm2: of the
    picture that is seen."""

    box: tuple[int, int, int, int]
    scale: tuple[float, float]
    border: float
    lost: float
    circle: float
    area_mm2: float

    @property
    def whole(self) -> bool:
        """Whether every pixel is as wide and as high as the next."""
        return all(abs(each - round(each)) < 1e-9 for each in self.scale)


def on_glass(
    system: System, timing: Timing, display: Display, *, scaled: bool = False, squeeze: float = 1.0
) -> OnGlass:
    """system: as the tube stands to it (ground.stood). scaled: fills the height in its own shape, instead of whole
    multiples of its pixels. squeeze: width to height of a circle on this glass, as the user measured it."""
    width, height = raster(system)
    across, down = timing.size
    shape = display.aspect[0] / display.aspect[1] * squeeze
    aspect = scanned_aspect(system)
    if scaled:
        inside = 1 - 2 * display.overscan_percent / 100 if display.tube else 1.0
        part_x, part_y = inside * min(1.0, aspect / shape), inside * min(1.0, shape / aspect)
        size = (max(1, round(across * part_x)), max(1, round(down * part_y)))
        scale: tuple[float, float] = (size[0] / width, size[1] / height)
    else:
        down_by = max(1, down // height)
        wished = across * down_by * height / down * aspect / shape / width  # for a round circle
        across_by = max(1, min(across // width, round(wished)))
        scale = (across_by, down_by)
        size = (width * across_by, height * down_by)
    left, top = (across - size[0]) // 2, (down - size[1]) // 2
    edge = display.overscan_percent / 100 if display.tube else 0.0
    seen_x, seen_y = _seen(left, size[0], across, edge), _seen(top, size[1], down, edge)
    seen = seen_x[0] * seen_y[0]
    glass = display.width_mm * display.height_mm
    circle = (size[0] / across) / (size[1] / down) * shape / aspect
    return OnGlass(
        (left, top, *size),
        scale,
        max(0.0, 1 - seen_x[1] * seen_y[1]),
        max(0.0, 1 - seen),
        circle,
        glass * seen_x[1] * seen_y[1],
    )


def _seen(start: int, length: int, total: int, edge: float) -> tuple[float, float]:
    """Of one axis: the part of the picture that is seen, and the part of the glass that it takes."""
    low, high = max(start / total, edge), min((start + length) / total, 1 - edge)
    shown = max(0.0, high - low)
    return shown * total / length, min(1.0, shown / (1 - 2 * edge))


FOLLOWS = 0.012  # of speed that a game which follows the display may be off; its pitch goes with it: 21 cents, CP


@dataclass(frozen=True)
class Play:
    """A game's rate on a display's. lost_per_min: frames dropped or doubled while it keeps its own speed. speed: of it
    while it follows the display, 1 for its own. shown_hz: the rate of whole pictures; every field is one, interlaced
    or not."""

    game_hz: Fraction
    shown_hz: Fraction

    @property
    def lost_per_min(self) -> float:
        """Frames that are shown once too often or too seldom. Where a display shows each frame twice (100 Hz for 50),
        none is; of 60 Hz on 100 every third is shown once where the others are shown twice."""
        off = abs(self.shown_hz - self.times * self.game_hz)
        return 0.0 if off < _LEAST_HZ * self.times else float(60 * off)

    @property
    def times(self) -> int:
        """How often a frame is shown as a rule."""
        return max(1, round(self.shown_hz / self.game_hz))

    @property
    def doubled(self) -> bool:
        """Whether frames are shown twice where they do not fit, rather than left out."""
        return self.shown_hz > self.times * self.game_hz

    @property
    def speed(self) -> float:
        return float(self.shown_hz / self.times / self.game_hz)

    @property
    def follows(self) -> bool:
        """Whether the game may run at the display's rate, or a part of it: its speed is then hardly another."""
        return abs(self.speed - 1) <= FOLLOWS

    @property
    def frame_ms(self) -> float:
        """The time that a frame of the game has: of the display where it follows, else its own."""
        return 1000 * self.times / float(self.shown_hz) if self.follows else 1000 / float(self.game_hz)

    @property
    def cents(self) -> float:
        return 1200 * log2(self.speed)

    def resampled_hz(self, rate: int = 48_000) -> float:
        """Samples a second that the sound of a game which follows the display is made of, for `rate` to be heard."""
        return rate * self.speed


def cadence(play: Play, fields: int, phase: Fraction = Fraction(1, 2)) -> tuple[int, ...]:
    """Which frame each field shows, for a game that keeps its own speed: the newest that is ready.

    phase: how far the first frame has come when the first field begins, as a part of a frame.
    """
    ratio = play.game_hz / play.shown_hz
    return tuple(floor(phase + ratio * index) for index in range(fields))


def play_of(system: System, mode: Mode) -> Play:
    return Play(system.refresh_hz, mode.timing.vertical_hz)
