"""A stand-in for a whole panel: switches, wires, encoders, and all that can be wrong between them.

It knows contacts and copper only: which switch is closed, which terminal its wire ends at, what is bridged, shorted or
jammed. What the machine then hears follows as it would on a real one.
"""

from __future__ import annotations

import heapq
import random
import time
from collections.abc import Callable, Iterable
from pathlib import Path

from pydantic import Field, ValidationError

from kyklon.base import durable
from kyklon.base.errors import KyklonError
from kyklon.base.reading import bytes_of, json_of
from kyklon.devices.ports import InputEvent
from kyklon.model.record import Record

FILE = "panel.json"  # beside the other stand-ins of a build
Pin = tuple[str, str]  # device by role, terminal by id


class PanelTerminal(Record):
    id: str
    event: str
    player: int = 1
    line: tuple[int, int] | None = None


class PanelDevice(Record):
    """poll_ms: how often it is asked. debounce_ms: changes that follow faster are swallowed. split: whether each
    player is a pad of its own, or all answer as the first. diodes: of a matrix. axis: what its axes say at their ends.
    floods: sends without end."""

    role: str
    terminals: tuple[PanelTerminal, ...]
    poll_ms: float = Field(default=4.0, gt=0, le=255)
    debounce_ms: float = Field(default=5.0, ge=0, le=255)
    split: bool = True
    diodes: bool = True
    axis: tuple[int, int] = (-1, 1)
    floods: bool = False


class PanelStandIn(Record):
    """ends: of each switch the terminal its wire leads to; a switch that is not there has no wire. planned: where it
    should lead. bounce_ms: of
    switches whose contacts are worn. unplugged: devices that are not there."""

    devices: tuple[PanelDevice, ...]
    ends: dict[str, tuple[str, str]]
    planned: dict[str, tuple[str, str]] = {}
    bridges: tuple[tuple[tuple[str, str], tuple[str, str]], ...] = ()
    shorts: tuple[tuple[str, str], ...] = ()
    jams: tuple[str, ...] = ()
    bounce_ms: dict[str, float] = {}
    unplugged: tuple[str, ...] = ()
    seed: int = 1


def load(folder: Path) -> PanelStandIn | None:
    """The stand-in of a folder, None where there is none. Raises KyklonError for a file that is none."""
    file = folder / FILE
    if not file.exists():
        return None
    try:
        return PanelStandIn.model_validate(json_of(bytes_of(file), str(file)))
    except ValidationError as bad:
        raise KyklonError(f"{file} describes no panel: {bad.errors()[0]['msg']}.") from bad


def put(folder: Path, panel: PanelStandIn) -> None:
    durable.keep(folder / FILE, panel.model_dump_json(indent=1).encode())


class SimulatedPanel:
    """press and release close and open a switch; waiting hands out what each device has sent by now."""

    def __init__(self, panel: PanelStandIn, clock: Callable[[], float] = time.monotonic) -> None:
        self.panel, self._clock = panel, clock
        self._random = random.Random(panel.seed)
        self._start = clock()
        self._closed: set[str] = set()
        self._jammed: set[str] = set()
        self._devices = {device.role: device for device in panel.devices}
        self._terminals: dict[Pin, PanelTerminal] = {
            (device.role, terminal.id): terminal for device in panel.devices for terminal in device.terminals
        }
        self._said: dict[tuple[str, int, str], int] = {}  # what is not at rest
        self._words = self._words_now()
        self._due: list[tuple[float, int, str, InputEvent]] = []
        self._count = 0
        self._settle(self._start)

    @property
    def roles(self) -> tuple[str, ...]:
        """The devices that are plugged in."""
        return tuple(role for role in self._devices if role not in self.panel.unplugged)

    def take(self, panel: PanelStandIn) -> None:
        """Go on with another copper: what is pressed stays pressed, what no longer jams opens."""
        self.panel = panel
        self._devices = {device.role: device for device in panel.devices}
        self._jammed &= set(panel.jams)
        self._words = self._words_now()
        self._settle(self._clock())

    def unplug(self, role: str) -> None:
        """Pull a device's plug: what it had to say is lost."""
        self.panel = self.panel.model_copy(update={"unplugged": tuple({*self.panel.unplugged, role})})
        self._due = [each for each in self._due if each[2] != role]
        heapq.heapify(self._due)

    def plug(self, role: str) -> None:
        """Put it in again: the machine knows nothing of it, and is told what is closed."""
        kept = tuple(each for each in self.panel.unplugged if each != role)
        self.panel = self.panel.model_copy(update={"unplugged": kept})
        self._said = {key: value for key, value in self._said.items() if key[0] != role}
        self._settle(self._clock())

    def press(self, switch: str, at: float | None = None) -> None:
        self._closed.add(switch)
        if switch in self.panel.jams:
            self._jammed.add(switch)
        self._move(switch, self._clock() if at is None else at)

    def release(self, switch: str, at: float | None = None) -> None:
        self._closed.discard(switch)
        self._move(switch, self._clock() if at is None else at)

    def waiting(self, role: str, now: float | None = None) -> tuple[InputEvent, ...]:
        """What a device has sent until now. Raises KyklonError for one that is not plugged in."""
        if role in self.panel.unplugged or role not in self._devices:
            raise KyklonError(f"{role} was disconnected.", do="Plug it in again.")
        moment = self._clock() if now is None else now
        if self._devices[role].floods:
            return tuple(
                InputEvent(1, self._devices[role].terminals[0].event.rstrip("+-"), number % 2, moment)
                for number in range(200)
            )
        ready: list[tuple[float, int, str, InputEvent]] = []
        kept: list[tuple[float, int, str, InputEvent]] = []
        for each in self._due:
            (ready if each[2] == role and each[0] <= moment else kept).append(each)
        heapq.heapify(kept)
        self._due = kept
        return tuple(event for _at, _number, _role, event in sorted(ready, key=lambda each: each[:2]))

    def _words_now(self) -> dict[Pin, tuple[tuple[str, int, str], int]]:
        """What each terminal says: device, player and code, and which way."""
        found = {}
        for device in self._devices.values():
            for terminal in device.terminals:
                way = {"+": 1, "-": -1}.get(terminal.event[-1:], 0)
                code = terminal.event[:-1] if way else terminal.event
                found[device.role, terminal.id] = (device.role, terminal.player if device.split else 1, code), way or 1
        return found

    # --- copper ------------------------------------------------------------------------------------------------

    def _pins(self, switches: Iterable[str]) -> set[Pin]:
        """The terminals that are at ground while these switches are closed."""
        pins = {self.panel.ends[switch] for switch in switches if switch in self.panel.ends} | set(self.panel.shorts)
        for one, other in self.panel.bridges:
            if one in pins or other in pins:
                pins |= {one, other}
        for device in self.panel.devices:
            if not device.diodes:
                pins |= self._through(device, pins)
        return pins

    @staticmethod
    def _through(device: PanelDevice, pins: set[Pin]) -> set[Pin]:
        """Crossings of a matrix without diodes that read as closed, because current finds a way round."""
        lines = [terminal for terminal in device.terminals if terminal.line is not None]
        nets: list[set[tuple[str, int]]] = []
        for line in lines:
            if (device.role, line.id) in pins and line.line is not None:
                net = {("row", line.line[0]), ("column", line.line[1])}
                touching = [other for other in nets if other & net]
                nets = [other for other in nets if not other & net] + [net.union(*touching)]
        return {
            (device.role, line.id)
            for line in lines
            if line.line is not None
            and any(("row", line.line[0]) in net and ("column", line.line[1]) in net for net in nets)
        }

    def _move(self, switch: str, at: float) -> None:
        """What the contact does from then on: once, or some more times where it is worn."""
        self._settle(at)
        length = self.panel.bounce_ms.get(switch, 0.0) / 1000
        end = self.panel.ends.get(switch)
        calm = self._devices[end[0]].debounce_ms / 1000 if end is not None and end[0] in self._devices else 0.0
        closed, place, last = switch in self._closed, at, at
        while closed and length and (place := place + self._random.uniform(0.3, 1.0) * length / 2) < at + length:
            if place - last < calm:  # the encoder swallows it
                continue
            self._closed ^= {switch}
            self._settle(place)
            last = place
        if closed and switch not in self._closed:
            self._closed.add(switch)
            self._settle(max(at + length, last + calm))

    def _settle(self, at: float) -> None:
        """Send what has changed at every device's next turn."""
        said: dict[tuple[str, int, str], int] = {}
        for pin in self._pins(self._closed | self._jammed):
            if pin in self._words:
                key, way = self._words[pin]
                said[key] = said.get(key, 0) + way
        for key in sorted(said.keys() | self._said.keys()):
            value = max(-1, min(1, said.get(key, 0)))
            if self._said.get(key, 0) == value:
                continue
            if value:
                self._said[key] = value
            else:
                del self._said[key]
            role, player, code = key
            step = self._devices[role].poll_ms / 1000
            turn = self._start + (int((at - self._start) / step) + 1) * step
            self._count += 1
            raw = _raw(self._devices[role].axis, value) if code.startswith("ABS_") else None
            heapq.heappush(self._due, (turn, self._count, role, InputEvent(player, code, value, turn, raw)))


def _raw(ends: tuple[int, int], way: int) -> int:
    """What an axis says: an end, or the middle, of 0 to 255 the 128."""
    low, high = ends
    return low if way < 0 else high if way > 0 else (low + high + 1) // 2
