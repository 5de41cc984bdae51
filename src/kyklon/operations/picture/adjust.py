"""Moving a picture on its glass: what is read off the rulers of the test card becomes porches, and is kept.

A picture lies further right the longer the line waits for it: what the back porch gains, the front porch gives. The
line, its sync and the rate stay as they are, so a moved mode is as safe as it was.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kyklon.base.errors import WrongUse
from kyklon.model.build import Adjustment, Build
from kyklon.model.findings import Change, Remedy
from kyklon.model.timing import Axis, Timing

_LEAST = 1  # pixel or line that a porch keeps
_FURTHEST = 2000  # pixels that a ruler of the test card can tell, and more


@dataclass(frozen=True)
class Readings:
    """The first number seen on the ruler of each edge: pixels or lines of the mode that are hidden there. Below zero
    for a dark gap beside the picture, in the ruler's own steps. Raises WrongUse."""

    left: int
    right: int
    top: int
    bottom: int

    def __post_init__(self) -> None:
        if max(map(abs, (self.left, self.right, self.top, self.bottom))) > _FURTHEST:
            raise WrongUse(f"The ruler ends at {_FURTHEST}; read it again.")

    @property
    def off(self) -> tuple[float, float]:
        """How far the picture lies too far left and too high, in pixels and lines."""
        return (self.left - self.right) / 2, (self.top - self.bottom) / 2


@dataclass(frozen=True)
class Moved:
    """timing: with new porches. short: what could not be moved any more, in words, '' for nothing."""

    timing: Timing
    right: int
    down: int
    short: str = ""


def move(timing: Timing, right: int, down: int) -> Moved:
    """The picture moved by pixels and lines, as far as its porches go. Of an interlaced one lines of a field move."""
    across, by_x = _axis(timing.horizontal, right)
    upright, by_y = _axis(timing.vertical, down)
    short = []
    if by_x != right:
        short.append(f"{abs(right - by_x)} more pixels {'right' if right > 0 else 'left'}")
    if by_y != down:
        short.append(f"{abs(down - by_y)} more lines {'down' if down > 0 else 'up'}")
    words = ""
    if short:
        words = f"The porches have no room for {' and '.join(short)}: use the tube's own controls, or overscan in Boot."
    return Moved(timing.model_copy(update={"horizontal": across, "vertical": upright}), by_x, by_y, words)


def _axis(axis: Axis, later: int) -> tuple[Axis, int]:
    least, most = min(0, _LEAST - axis.back), max(0, axis.front - _LEAST)
    by = min(max(later, least), most)
    return axis.model_copy(update={"front": axis.front - by, "back": axis.back + by}), by


def centred(timing: Timing, read: Readings) -> Moved:
    """The picture moved so that as much of it is hidden at each edge as at the one across."""
    right, down = read.off
    return move(timing, round(right), round(down / 2 if timing.interlaced else down))


def squeezed(width_mm: float, height_mm: float) -> float:
    """Width to height of the circle as it was measured on the glass. Raises WrongUse."""
    if not (width_mm > 0 and height_mm > 0 and 0.25 <= width_mm / height_mm <= 4):
        raise WrongUse(f"{width_mm:g} by {height_mm:g} mm is not a circle: measure again, in mm.")
    return width_mm / height_mm


def adjusted(timing: Timing, moves: Sequence[Adjustment], display: str) -> Timing:
    """A fresh timing with what was measured for its size on that display."""
    own = next((each for each in moves if (each.display, each.size) == (display, timing.size)), None)
    return move(timing, own.right, own.down).timing if own else timing


def squeeze_of(build: Build, display: str, timing: Timing) -> float:
    """Width to height of a circle on that display at this size, 1 where nobody measured it."""
    moves = build.picture.adjustments
    return next((move.squeeze for move in moves if (move.display, move.size) == (display, timing.size)), 1.0)


def kept(build: Build, display: str, timing: Timing, moved: Moved, squeeze: float = 0.0) -> tuple[Adjustment, ...]:
    """The adjustments of a build with one more step on what is known of this display and size. squeeze: 0 to keep what
    was measured."""
    rest = [
        adjustment
        for adjustment in build.picture.adjustments
        if (adjustment.display, adjustment.size) != (display, timing.size)
    ]
    old = next((adjustment for adjustment in build.picture.adjustments if adjustment not in rest), None)
    own = Adjustment(
        display=display,
        size=timing.size,
        right=(old.right if old else 0) + moved.right,
        down=(old.down if old else 0) + moved.down,
        squeeze=squeeze or (old.squeeze if old else 1.0),
    )
    return (*rest, own)


def applied(build: Build, key: str, display: str, moved: Moved, squeeze: float = 0.0) -> Remedy:
    """The edit that moves the picture of a mode: the mode looked at, and every other one of its size. key: 'menu' or a
    system."""
    menu = build.picture.menu
    timing = menu.timing if key == "menu" else build.system_mode(key).timing
    moves = kept(build, display, timing, moved, squeeze)

    def again(other: Timing) -> Timing:
        return move(other, moved.right, moved.down).timing if other.size == timing.size else other

    rows = [
        {
            "system": system.system,
            "mode": {**system.mode.model_dump(), "timing": again(system.mode.timing).model_dump()},
        }
        for system in build.picture.systems
    ]
    words = f"{moved.right:+d} pixels, {moved.down:+d} lines"
    changes = (
        Change(
            path="picture.adjustments",
            value=[each.model_dump() for each in moves],
            label="Adjustments",
            before=f"{len(build.picture.adjustments)} kept",
            after=f"{len(moves)} kept",
        ),
        Change(
            path="picture.menu",
            value={**menu.model_dump(), "timing": again(menu.timing).model_dump()},
            label="Menu mode",
            before="its current position",
            after=words,
        ),
        Change(path="picture.systems", value=rows, label="System modes", before="their current positions", after=words),
    )
    return Remedy(label="Move the picture", changes=changes)
