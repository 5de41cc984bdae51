"""Where events come from in the live test: a stand-in panel, or the devices that are plugged in.

Both are asked; neither waits.
"""

from __future__ import annotations

import contextlib
import time
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

from kyklon.base.errors import KyklonError
from kyklon.devices.ports import InputEvent, InputFacts, InputHandle, Inputs
from kyklon.devices.simulated.panel import SimulatedPanel
from kyklon.operations.controls.hookup import Hookup

FLOOD_S = 4000  # events a second beyond which a device is not listened to: a hand on thirty switches makes 200


@dataclass(frozen=True)
class Heard:
    """events: each with its device's role. said: sentences of devices that came, went or were shut up."""

    events: tuple[tuple[str, InputEvent], ...] = ()
    said: tuple[str, ...] = ()


class Source(Protocol):
    """called: as the screen names it."""

    called: str

    @property
    def roles(self) -> frozenset[str]:
        """The devices that answer."""
        ...

    def poll(self) -> Heard: ...

    def close(self) -> None: ...


class _Gate:
    """Shuts a device up that sends more than any hand could, until it is plugged in anew."""

    def __init__(self, clock: Callable[[], float]) -> None:
        self._clock = clock
        self._counts: dict[str, deque[tuple[float, int]]] = {}
        self.shut: set[str] = set()

    def passes(self, role: str, count: int) -> bool:
        now = self._clock()
        counts = self._counts.setdefault(role, deque())
        counts.append((now, count))
        while counts and now - counts[0][0] > 1.0:
            counts.popleft()
        if sum(each for _at, each in counts) > FLOOD_S:
            self.shut.add(role)
        return role not in self.shut

    def opened(self, role: str) -> None:
        self.shut.discard(role)
        self._counts.pop(role, None)


def _flooded(name: str) -> str:
    return f"{name} sends more than {FLOOD_S} events per second and is ignored. Unplug it and plug it in again."


class StandInSource:
    """The stand-in panel of a build."""

    called = "simulated panel"

    def __init__(self, panel: SimulatedPanel, hookup: Hookup, clock: Callable[[], float] = time.monotonic) -> None:
        self.panel, self._hookup = panel, hookup
        self._gate = _Gate(clock)
        self._gone: set[str] = set()

    @property
    def roles(self) -> frozenset[str]:
        """Override."""
        return frozenset(self.panel.roles) - self._gate.shut

    def unplug(self, role: str) -> None:
        self.panel.unplug(role)

    def plug(self, role: str) -> None:
        self.panel.plug(role)
        self._gate.opened(role)

    def poll(self) -> Heard:
        """Override."""
        events: list[tuple[str, InputEvent]] = []
        said = []
        for device in self._hookup.devices:
            role = device.role
            try:
                came = self.panel.waiting(role)
            except KyklonError:
                if role not in self._gone:
                    self._gone.add(role)
                    said.append(f"{device.title} was unplugged. Plug it in again; its readings are kept.")
                continue
            if role in self._gone:
                self._gone.discard(role)
                said.append(f"{device.title} is back.")
            was_shut = role in self._gate.shut
            if self._gate.passes(role, len(came)):
                events += [(role, event) for event in came]
            elif not was_shut:
                said.append(_flooded(device.title))
        return Heard(tuple(events), tuple(said))

    def close(self) -> None:
        """Override."""


class PluggedSource:
    """Input devices of this machine, told apart by their ids and, of a kind, by the socket or their order."""

    def __init__(self, inputs: Inputs, hookup: Hookup, clock: Callable[[], float] = time.monotonic) -> None:
        self.called = inputs.called
        self._inputs, self._hookup = inputs, hookup
        self._gate = _Gate(clock)
        self._open: dict[str, tuple[str, int, InputHandle, contextlib.ExitStack]] = {}  # by identity: role, player
        self.facts: dict[str, InputFacts] = {}

    @property
    def roles(self) -> frozenset[str]:
        """Override."""
        return frozenset(role for role, _player, _handle, _stack in self._open.values()) - self._gate.shut

    def attach(self, listed: Sequence[InputFacts]) -> tuple[str, ...]:
        """Open what has come, close what has gone; what was said of it. listed: from Inputs.list()."""
        said = []
        wanted = {facts.identity: (role, player, facts) for role, player, facts in matched(self._hookup, listed)}
        for identity in [each for each in self._open if each not in wanted]:
            said.append(
                f"{self._title(self._open[identity][0])} was unplugged. Plug it in again; its readings are kept."
            )
            self._drop(identity)
        for identity, (role, player, facts) in wanted.items():
            if identity in self._open:
                continue
            stack = contextlib.ExitStack()
            try:
                handle = stack.enter_context(self._inputs.open(identity))
            except KyklonError as bad:
                said.append(str(bad))
                continue
            self._open[identity] = role, player, handle, stack
            self.facts[role] = facts
            self._gate.opened(role)
            many = self._players(role) > 1
            said.append(f"{self._title(role)} is plugged in{f', player {player} of it' if many else ''}.")
        return tuple(said)

    def poll(self) -> Heard:
        """Override."""
        events: list[tuple[str, InputEvent]] = []
        said = []
        for identity, (role, player, handle, _stack) in list(self._open.items()):
            try:
                came = handle.waiting()
            except KyklonError:
                said.append(f"{self._title(role)} was unplugged. Plug it in again; its readings are kept.")
                self._drop(identity)
                continue
            was_shut = role in self._gate.shut
            if self._gate.passes(role, len(came)):
                events += [(role, replace(event, player=player)) for event in came]
            elif not was_shut:
                said.append(_flooded(self._title(role)))
        return Heard(tuple(events), tuple(dict.fromkeys(said)))

    def close(self) -> None:
        """Override."""
        for identity in list(self._open):
            self._drop(identity)

    def _drop(self, identity: str) -> None:
        _role, _player, _handle, stack = self._open.pop(identity)
        with contextlib.suppress(OSError):
            stack.close()

    def _title(self, role: str) -> str:
        device = self._hookup.device(role)
        return device.title if device else role

    def _players(self, role: str) -> int:
        device = self._hookup.device(role)
        return device.encoder.players if device else 1


def matched(hookup: Hookup, listed: Sequence[InputFacts]) -> tuple[tuple[str, int, InputFacts], ...]:
    """Role and player of each input device that is an encoder of the rig. Nodes of one socket are one device, its
    players in the order of the nodes; of a kind, the one whose socket is noted goes first to its role, the others by
    order."""
    ports = {place.role: place.port for place in hookup.settings.places if place.port}
    bodies: dict[tuple[int, int, str], list[InputFacts]] = {}
    for number, facts in enumerate(sorted(listed, key=_node_number)):
        socket = facts.place or f"node {number}"  # a node without a socket is a device of its own
        bodies.setdefault((facts.vendor, facts.product, socket), []).append(facts)
    found: list[tuple[str, int, InputFacts]] = []
    taken: set[tuple[int, int, str]] = set()

    def take(role: str, key: tuple[int, int, str]) -> None:
        taken.add(key)
        found.extend((role, player, facts) for player, facts in enumerate(bodies[key], 1))

    waiting = []
    for device in hookup.devices:
        ids = device.encoder.vendor, device.encoder.product
        own = [key for key in bodies if key[:2] == ids]
        if not device.encoder.is_known:  # any that is no other's, and speaks as it does
            others = {(each.encoder.vendor, each.encoder.product) for each in hookup.devices}
            events = {terminal.event.rstrip("+-") for terminal in device.encoder.terminals}
            own = [key for key in bodies if key[:2] not in others and events & set(bodies[key][0].buttons)]
        port = ports.get(device.role, "")
        key = next((each for each in own if each not in taken and port and _same_socket(port, each[2])), None)
        if key is not None:
            take(device.role, key)
        else:
            waiting.append((device.role, own))
    for role, own in waiting:
        key = next((each for each in own if each not in taken), None)
        if key is not None:
            take(role, key)
    return tuple(found)


def _same_socket(id_path: str, phys: str) -> bool:
    """Whether udev's ID_PATH (pci-0000:01:00.0-usb-0:1.2:1.0) and the kernel's phys (usb-0000:01:00.0-1.2/input0) name
    one socket: the host's address and the chain of ports."""
    host, _, rest = id_path.removeprefix("pci-").removeprefix("platform-").partition("-usb-")
    chain = rest.split(":")
    told = phys.removeprefix("usb-").partition("/")[0]
    return len(chain) > 1 and told == f"{host}-{chain[1]}"


def _node_number(facts: InputFacts) -> tuple[int, str]:
    digits = "".join(each for each in facts.identity if each.isdigit())
    return (int(digits) if digits else 0), facts.identity
