"""Real encoders through evdev: what is pressed, in the kernel's names."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from kyklon.base.errors import KyklonError
from kyklon.devices.ports import InputEvent


def direction(value: int, low: int, high: int) -> int:
    """-1, 0 or 1 for where an axis stands between its ends (struct input_absinfo, linux/input.h).

    The middle half rests: a lever's switches give the ends, and a worn stick never comes back to the very middle.
    """
    if high <= low:
        return (value > 0) - (value < 0)
    middle, reach = (low + high) / 2, (high - low) / 2
    if abs(value - middle) * 2 <= reach:
        return 0
    return 1 if value > middle else -1


class LinuxEncoder:
    """Events of one input device, as /dev/input/event5. Players are told apart by device, not here."""

    def __init__(self, path: str, player: int = 1) -> None:
        self._path, self._player = path, player

    def events(self) -> Iterator[InputEvent]:
        import evdev  # 20 ms that only a live test needs

        try:
            device = evdev.InputDevice(self._path)
        except OSError as bad:
            raise KyklonError(f"{self._path} cannot be read: {bad}.", do="Plug it in; join the group 'input'.") from bad
        try:
            for event in device.read_loop():
                told = self._translate(device, event.type, event.code, event.value)
                if told is not None:
                    yield told
        except OSError as bad:
            raise KyklonError(f"{self._path} went away.", do="Plug the encoder in again.") from bad

    def _translate(self, device: Any, kind: int, code: int, value: int) -> InputEvent | None:
        from evdev import ecodes

        if kind == ecodes.EV_KEY and value in (0, 1):
            names = ecodes.bytype[ecodes.EV_KEY][code]
            name = names if isinstance(names, str) else names[0]
            return InputEvent(player=self._player, code=name, value=value)
        if kind == ecodes.EV_ABS:
            info = device.absinfo(code)
            way = direction(value, info.min, info.max)
            return InputEvent(player=self._player, code=str(ecodes.ABS[code]), value=way)
        return None
