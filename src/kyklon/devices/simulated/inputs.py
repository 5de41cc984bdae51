"""Stand-ins for input devices: switches that bounce, stick, are crossed or tied, behind the interface of the real ones.

Their file, inputs.json in the build's folder of stand-ins, says what is plugged in and what is wrong with it.
"""

from __future__ import annotations

import contextlib
import random
import time
from collections import deque
from collections.abc import Callable, Iterator
from pathlib import Path

from pydantic import Field, ValidationError

from kyklon.base import durable
from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.reading import bytes_of, json_of
from kyklon.devices.ports import AxisFacts, InputEvent, InputFacts
from kyklon.model.record import Record

FILE = "inputs.json"


class Switch(Record):
    """A terminal of a stand-in: what its maker printed, and the event that closing it sends (ABS_Y- for a
    direction)."""

    id: str
    printed: str
    event: str


class StandIn(Record):
    """interval_ms: how often it is asked; told: whether the descriptors say so. bounce_ms: how long a contact bounces
    at the most. stuck: never open; silent: never heard; crossed: send each other's event; tied: close together."""

    identity: str
    name: str
    vendor: int = Field(ge=0, le=0xFFFF)
    product: int = Field(ge=0, le=0xFFFF)
    version: int = Field(default=0x0110, ge=0, le=0xFFFF)
    switches: tuple[Switch, ...]
    interval_ms: float = Field(default=8.0, gt=0, le=255)
    told: bool = True
    bounce_ms: float = Field(default=0.0, ge=0, le=200)
    stuck: tuple[str, ...] = ()
    silent: tuple[str, ...] = ()
    crossed: tuple[tuple[str, str], ...] = ()
    tied: tuple[tuple[str, str], ...] = ()
    seed: int = 1

    @property
    def facts(self) -> InputFacts:
        codes = [switch.event for switch in self.switches]
        axes = dict.fromkeys(code[:-1] for code in codes if code[-1] in "+-")
        buttons = dict.fromkeys(code for code in codes if code[-1] not in "+-")
        if len(codes) > len(set(codes)):  # two pads in one: the kernel lists the second's under the next free names
            axes |= dict.fromkeys(("ABS_Z", "ABS_RX"))
            buttons |= dict.fromkeys(f"BTN_TRIGGER_HAPPY{number}" for number in range(1, len(buttons) + 1))
        return InputFacts(
            self.identity,
            self.name,
            self.vendor,
            self.product,
            self.version,
            "usb",
            tuple(buttons),
            tuple(AxisFacts(code, -1, 1) for code in axes),
            self.interval_ms if self.told else None,
        )


class _File(Record):
    devices: tuple[StandIn, ...] = ()


class SimulatedInputs:
    """The stand-ins of a folder."""

    called = "stand-ins"

    def __init__(self, folder: Path, clock: Callable[[], float] = time.monotonic) -> None:
        self._file, self._clock = folder / FILE, clock

    def stand_ins(self) -> tuple[StandIn, ...]:
        """Raises KyklonError for a file that is none."""
        if not self._file.exists():
            return ()
        try:
            return _File.model_validate(json_of(bytes_of(self._file), str(self._file))).devices
        except ValidationError as bad:
            raise KyklonError(f"{self._file} lists no stand-ins: {bad.errors()[0]['msg']}.") from bad

    def put(self, *devices: StandIn) -> None:
        durable.keep(self._file, _File(devices=devices).model_dump_json(indent=1).encode())

    def list(self) -> tuple[InputFacts, ...]:
        """Override."""
        return tuple(stand_in.facts for stand_in in self.stand_ins())

    def barred(self) -> tuple[str, ...]:
        """Override."""
        return ()

    @contextlib.contextmanager
    def open(self, identity: str) -> Iterator[SimulatedInput]:
        """Override."""
        found = next((stand_in for stand_in in self.stand_ins() if stand_in.identity == identity), None)
        if found is None:
            raise KyklonError(f"{identity} is not plugged in.", do="Plug it in again.")
        yield SimulatedInput(found, self._clock)


class SimulatedInput:
    """An open stand-in. Contacts bounce at random, yet the same for one seed; the host sees what it asks for."""

    def __init__(self, device: StandIn, clock: Callable[[], float] = time.monotonic) -> None:
        self.device, self._clock = device, clock
        self._random = random.Random(device.seed)
        self._start = clock()
        self._closed: dict[str, list[tuple[float, bool]]] = {}  # by event: when it changed, and to what
        self._due: deque[tuple[float, InputEvent]] = deque()
        self._sent: dict[str, bool] = {}
        for switch in device.switches:
            if switch.id in device.stuck:
                self._bounce(switch.event, self._start, closes=True)

    def press(self, switch_id: str, at: float | None = None) -> None:
        """Close a switch now, or at a second of the clock."""
        self._move(switch_id, at, closes=True)

    def release(self, switch_id: str, at: float | None = None) -> None:
        self._move(switch_id, at, closes=False)

    def _move(self, switch_id: str, at: float | None, *, closes: bool) -> None:
        device = self.device
        if switch_id not in {switch.id for switch in device.switches}:
            raise WrongUse(f"{device.name} has no terminal {switch_id!r}.")
        when = self._clock() if at is None else at
        ids = {switch_id}
        for tied in device.tied:
            ids |= set(tied) if switch_id in tied else set()
        for each in ids:
            if each in device.silent or each in device.stuck:
                continue
            self._bounce(self._event_of(each), when, closes=closes)

    def _event_of(self, switch_id: str) -> str:
        for one, other in self.device.crossed:
            if switch_id in (one, other):
                switch_id = other if switch_id == one else one
                break
        return next(switch.event for switch in self.device.switches if switch.id == switch_id)

    def _bounce(self, event: str, at: float, *, closes: bool) -> None:
        """The contact's own movements, and what the host sees of them when it asks."""
        moves, length = [(at, closes)], self._random.uniform(0.3, 1.0) * self.device.bounce_ms / 1000
        place = at
        while length and (place := place + self._random.uniform(0.1, 0.5) * length) < at + length:
            moves.append((place, not moves[-1][1]))
        if moves[-1][1] is not closes:
            moves.append((at + length, closes))
        step = self.device.interval_ms / 1000
        index = int((at - self._start) / step) + 1
        while True:
            asked = self._start + index * step
            state = [now for when, now in moves if when <= asked][-1]
            if self._sent.get(event, False) is not state:
                self._sent[event] = state
                self._due.append((asked, self._told(event, asked, state)))
            if asked >= moves[-1][0]:
                return
            index += 1

    @staticmethod
    def _told(event: str, at: float, state: bool) -> InputEvent:
        code, sign = (event[:-1], 1 if event[-1] == "+" else -1) if event[-1] in "+-" else (event, 1)
        return InputEvent(1, code, sign if state else 0, at)

    def waiting(self) -> tuple[InputEvent, ...]:
        """Override."""
        now = self._clock()
        ready = sorted((each for each in self._due if each[0] <= now), key=lambda each: each[0])
        self._due = deque(each for each in self._due if each[0] > now)
        return tuple(event for _at, event in ready)
