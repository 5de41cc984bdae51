"""Real input devices through evdev, with how often the host asks them from sysfs."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from kyklon.base.errors import KyklonError
from kyklon.devices.ports import AxisFacts, InputEvent, InputFacts

BUSES = {0x03: "usb", 0x05: "bluetooth"}  # linux/input.h: BUS_USB, BUS_BLUETOOTH
_UNITS = {"ms": 1.0, "us": 0.001}


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


def interval_of(node: str, sysfs: Path = Path("/sys")) -> float | None:
    """Milliseconds between two questions of the host, from the interrupt endpoint of the device's interface.

    node: event5. None where sysfs does not tell (Documentation/ABI/testing/sysfs-bus-usb: ep_*/interval).
    """
    try:
        place = (sysfs / "class/input" / node / "device").resolve()
        top = sysfs.resolve()
        while place != top and place != place.parent:
            if (place / "bInterfaceNumber").exists():
                for endpoint in sorted(place.glob("ep_*")):
                    if (endpoint / "direction").read_text().strip() == "in":
                        match = re.fullmatch(r"(\d{1,6})(ms|us)", (endpoint / "interval").read_text().strip())
                        return float(match[1]) * _UNITS[match[2]] if match else None
                return None
            place = place.parent
    except (OSError, UnicodeDecodeError):
        return None
    return None


def _names(table: Any, code: int) -> str:
    """The kernel's name of a code; of several the first."""
    names = table.get(code, f"{code:#x}")
    return names if isinstance(names, str) else str(names[0])


class LinuxInputs:
    """What is plugged into this machine, as /dev/input/event5."""

    called = "this machine"

    def list(self) -> tuple[InputFacts, ...]:
        """Devices with buttons or axes that may be read; the others are passed over."""
        import evdev

        found = []
        for path in evdev.list_devices():
            with contextlib.suppress(OSError):
                device = evdev.InputDevice(path)
                try:
                    facts = self._facts(device)
                finally:
                    device.close()
                if facts.buttons or facts.axes:
                    found.append(facts)
        return tuple(sorted(found, key=lambda each: (each.is_keyboard, each.name)))

    @staticmethod
    def _facts(device: Any) -> InputFacts:
        from evdev import ecodes

        can = device.capabilities(absinfo=True)
        buttons = tuple(_names(ecodes.bytype[ecodes.EV_KEY], code) for code in can.get(ecodes.EV_KEY, ()))
        axes = tuple(
            AxisFacts(_names(ecodes.ABS, code), info.min, info.max) for code, info in can.get(ecodes.EV_ABS, ())
        )
        info = device.info
        return InputFacts(
            device.path,
            device.name,
            info.vendor,
            info.product,
            info.version,
            BUSES.get(info.bustype, ""),
            buttons,
            axes,
            interval_of(Path(device.path).name),
            device.phys or "",
        )

    def barred(self, folder: Path = Path("/dev/input")) -> tuple[str, ...]:
        """Override."""
        try:
            nodes = sorted(folder.glob("event*"))
        except OSError:
            return ()
        return tuple(str(node) for node in nodes if not os.access(node, os.R_OK))

    @contextlib.contextmanager
    def open(self, identity: str) -> Iterator[LinuxInput]:
        """Raises KyklonError for one that cannot be read."""
        import evdev

        try:
            device = evdev.InputDevice(identity)
        except OSError as bad:
            raise KyklonError(
                f"{identity} cannot be read: {bad}.", do="Plug it in; add your user to the 'input' group."
            ) from bad
        try:
            yield LinuxInput(device)
        finally:
            device.close()


class LinuxInput:
    """One open device; it is read without waiting. Where the kernel had to drop events, because nobody read them for
    long, the device is asked what is held now (linux/Documentation/input/event-codes: SYN_DROPPED)."""

    def __init__(self, device: Any) -> None:
        self._device = device
        self._down: set[int] = set()

    def waiting(self) -> tuple[InputEvent, ...]:
        """Override."""
        from evdev import ecodes

        found: list[InputEvent] = []
        dropped, last = False, 0.0
        try:
            for event in self._device.read():
                last = event.sec + event.usec / 1e6
                if event.type == ecodes.EV_SYN and event.code == ecodes.SYN_DROPPED:
                    dropped = True
                elif event.type == ecodes.EV_KEY and event.value in (0, 1):
                    found.append(self._key(event.code, event.value, last))
                elif event.type == ecodes.EV_ABS:
                    found.append(self._axis(event.code, event.value, last))
            if dropped:
                found += self._as_it_is(last)
        except BlockingIOError:
            pass
        except OSError as bad:
            raise KyklonError("The device was disconnected.", do="Plug it in again.") from bad
        return tuple(found)

    def _key(self, code: int, value: int, at: float) -> InputEvent:
        from evdev import ecodes

        (self._down.add if value else self._down.discard)(code)
        return InputEvent(1, _names(ecodes.bytype[ecodes.EV_KEY], code), value, at)

    def _axis(self, code: int, value: int, at: float) -> InputEvent:
        from evdev import ecodes

        info = self._device.absinfo(code)
        return InputEvent(1, _names(ecodes.ABS, code), direction(value, info.min, info.max), at, value)

    def _as_it_is(self, at: float) -> list[InputEvent]:
        """What is held and where the axes stand, as events that say so."""
        from evdev import ecodes

        held = set(self._device.active_keys())
        found = [self._key(code, int(code in held), at) for code in sorted(held ^ self._down)]
        axes = self._device.capabilities(absinfo=True).get(ecodes.EV_ABS, ())
        return found + [self._axis(code, info.value, at) for code, info in axes]
