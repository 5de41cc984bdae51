"""What a lever and its axes were seen to do: the rose of its ways, and the ends and the rest of each axis."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass

from kyklon.devices.ports import InputEvent
from kyklon.model.controls import AxisLimits
from kyklon.operations.controls.mapping import event_code

OCTANTS = ("up", "up right", "right", "down right", "down", "down left", "left", "up left")
_AT = {(0, -1): 0, (1, -1): 1, (1, 0): 2, (1, 1): 3, (0, 1): 4, (-1, 1): 5, (-1, 0): 6, (-1, -1): 7}
OFF_CENTRE = 0.1  # of the way that an axis may rest beside its middle, CP
_FEW = 8  # visits after which a way that was never seen is named, CP


@dataclass(frozen=True)
class Rose:
    """How often a lever came to each of its eight ways, by OCTANTS."""

    counts: tuple[int, ...] = (0,) * 8
    at: tuple[int, int] = (0, 0)

    def heard(self, event: InputEvent) -> Rose:
        """With an event of the lever's axes or hat; others change nothing."""
        axis = {"ABS_X": 0, "ABS_Y": 1, "ABS_HAT0X": 0, "ABS_HAT0Y": 1}.get(event.code)
        if axis is None:
            return self
        now = (event.value, self.at[1]) if axis == 0 else (self.at[0], event.value)
        if now == self.at:
            return self
        counts = list(self.counts)
        if now in _AT:
            counts[_AT[now]] += 1
        return Rose(tuple(counts), now)

    def words(self, ways: int = 8) -> str:
        """What the rose says of a lever with so many ways."""
        if sum(self.counts) == 0:
            return "roll the joystick slowly through a full circle"
        straight, diagonal = self.counts[::2], self.counts[1::2]
        if ways == 4 and any(diagonal):
            return f"{sum(self.counts[1::2])} diagonals from a 4-way joystick: turn its restrictor gate"
        never = [OCTANTS[index] for index in range(0, 8, 1 if ways == 8 else 2) if not self.counts[index]]
        if never and sum(straight) >= _FEW:
            return f"never {', '.join(never[:3])}"
        return "every direction reached" if not never else f"not yet: {', '.join(never[:3])}"


@dataclass(frozen=True)
class Axis:
    """What an axis said, in the order it came."""

    device: str
    code: str
    seen: tuple[int, ...] = ()
    resting: tuple[int, ...] = ()

    def heard(self, event: InputEvent) -> Axis:
        if event.raw is None:
            return self
        resting = (*self.resting[-199:], event.raw) if event.value == 0 else self.resting
        low, high = min((event.raw, *self.seen)), max((event.raw, *self.seen))
        return Axis(self.device, self.code, (low, high), resting)

    @property
    def limits(self) -> AxisLimits | None:
        """Ends and rest, None until it has been at rest once and away from it."""
        if not self.resting or len(set(self.seen)) < 2:
            return None
        return AxisLimits(
            device=self.device,
            axis=self.code,
            low=self.seen[0],
            high=self.seen[1],
            rest=round(statistics.median(self.resting)),
        )


def judged(limits: AxisLimits, told: tuple[int, int] | None) -> str:
    """What is to be said of an axis against the ends that its device names; '' for nothing."""
    low, high = told or (limits.low, limits.high)
    if high <= low:
        return ""
    reach, middle = (high - low) / 2, (low + high) / 2
    words = []
    if limits.low - low > 0.5 * reach or high - limits.high > 0.5 * reach:
        words.append(f"reaches {limits.low} to {limits.high} of {low} to {high}")
    if abs(limits.rest - middle) > OFF_CENTRE * (high - low):
        words.append(f"rests at {limits.rest}, not at {middle:g}")
    return "; ".join(words)


def axis_hwdb(axes: Sequence[AxisLimits], ids: dict[str, tuple[int, int]]) -> str:
    """A hwdb file that gives each axis the ends that were seen (hwdb(7), 60-evdev.hwdb: EVDEV_ABS_xx=min:max). ids:
    vendor and product of each device."""
    lines: list[str] = []
    for role in dict.fromkeys(axis.device for axis in axes if axis.device in ids):
        vendor, product = ids[role]
        lines.append(f"evdev:input:b0003v{vendor:04X}p{product:04X}*")
        lines += [
            f" EVDEV_ABS_{event_code(axis.axis):02x}={axis.low}:{axis.high}" for axis in axes if axis.device == role
        ]
        lines.append("")
    return "\n".join(lines)
