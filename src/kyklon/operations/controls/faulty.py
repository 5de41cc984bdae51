"""Ways in which a panel is wired wrongly, and what each makes of a press. A hypothesis is a set of them."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import combinations
from typing import Literal

from kyklon.model.controls import DIRECTIONS, Seat
from kyklon.operations.controls.hookup import Hookup
from kyklon.operations.controls.mapping import player_of
from kyklon.operations.controls.reports import Answer, Report

Kind = Literal[
    "player",
    "quirk",
    "rows",
    "rotated",
    "swapped",
    "crossed",
    "shared",
    "moved",
    "open",
    "bridged",
    "short",
    "stuck",
    "bounce",
    "ghost",
]
Pin = tuple[str, str]  # device by role, terminal by id

# how often each is met, against the others; CP, from the order in which builders' notes name them
COMMON: Mapping[Kind, float] = {
    "swapped": 6,
    "open": 6,
    "crossed": 5,
    "quirk": 4,
    "player": 3,
    "shared": 3,
    "moved": 2,
    "rows": 2,
    "rotated": 2,
    "bounce": 2,
    "stuck": 1.5,
    "bridged": 1,
    "short": 1,
    "ghost": 1,
}
WIRES = ("player", "rows", "rotated", "swapped", "crossed", "moved", "shared", "open")  # faults that move wires
TURNS: Mapping[str, tuple[str, ...]] = {  # what up, down, left, right close instead
    "up and down": ("down", "up", "left", "right"),
    "left and right": ("up", "down", "right", "left"),
    "both ways": ("down", "up", "right", "left"),
    "a quarter to the right": ("right", "left", "up", "down"),
    "a quarter to the left": ("left", "right", "down", "up"),
}


@dataclass(frozen=True, order=True)
class Fault:
    """controls: switches it is about; for 'shared' the second's wire is on the first's terminal. detail: which way a
    lever is turned, a terminal that a wire was moved to, a device."""

    kind: Kind
    controls: tuple[str, ...] = ()
    detail: str = ""


@dataclass(frozen=True)
class Plan:
    """A rig as the proof needs it. wires: where each switch should end. told: the quirk of these devices is given."""

    hookup: Hookup
    quirks: frozenset[str] = frozenset()

    @cached_property
    def wires(self) -> Mapping[str, Pin]:
        return {control: (device.role, terminal.id) for control, (device, terminal) in self.hookup.wired.items()}

    @cached_property
    def switches(self) -> tuple[str, ...]:
        """The switches that are wired: only they can be proven."""
        return tuple(switch for switch in self.hookup.switches if switch in self.wires)

    @cached_property
    def owners(self) -> Mapping[Pin, str]:
        return {pin: switch for switch, pin in self.wires.items()}

    @cached_property
    def events(self) -> Mapping[Pin, Report]:
        """What each terminal says when its device is as it should be."""
        return {
            (device.role, terminal.id): Report(device.role, terminal.player, terminal.event)
            for device in self.hookup.devices
            for terminal in device.encoder.terminals
        }

    @cached_property
    def pins_of(self) -> Mapping[Report, tuple[Pin, ...]]:
        """The terminals that may be behind a report, without the quirk too."""
        found: dict[Report, list[Pin]] = {}
        for pin, report in self.events.items():
            for each in {report, report._replace(player=1)}:
                found.setdefault(each, []).append(pin)
        return {report: tuple(pins) for report, pins in found.items()}

    @cached_property
    def lines(self) -> Mapping[Pin, tuple[int, int]]:
        """Row and column of terminals that are read as a matrix."""
        return {
            (device.role, terminal.id): terminal.line
            for device in self.hookup.devices
            for terminal in device.encoder.terminals
            if terminal.line is not None
        }

    def levers(self) -> Iterable[tuple[str, tuple[str, ...]]]:
        """Every lever as p1.lever, with its four switches, where all four are wired."""
        for player, seat in enumerate(self.hookup.layout.seats, 1):
            for control in seat.controls:
                names = tuple(f"p{player}.{name}" for name in control.switches)
                if control.kind == "lever" and all(name in self.wires for name in names):
                    yield f"p{player}.{control.id}", names

    def rows(self, player: int) -> tuple[tuple[str, ...], tuple[str, ...]] | None:
        """The near and the far row of a seat's buttons, of two each at least; None for a seat that has no two rows."""
        seat = self.hookup.layout.seat(player)
        found = rows_of(seat) if seat else ()
        if len(found) < 2:
            return None
        near, far = (tuple(f"p{player}.{name}" for name in row) for row in found[:2])
        count = min(len(near), len(far))
        near, far = near[:count], far[:count]
        return (near, far) if count > 1 and all(name in self.wires for name in (*near, *far)) else None

    def same_side(self, control: str, other: str) -> bool:
        """Whether two switches are opposite ways of one lever: crossing them is a lever that is swapped."""
        one, two = control.rpartition("-")[2].rpartition(".")[2], other.rpartition("-")[2].rpartition(".")[2]
        pairs = ({"up", "down"}, {"left", "right"})
        return {one, two} in pairs and control.removesuffix(one) == other.removesuffix(two)


def rows_of(seat: Seat) -> tuple[tuple[str, ...], ...]:
    """The rows of a seat's plain buttons, the nearest to the player first, each from the left. A row is what lies
    within two thirds of a bore of the row's running height, so that a curve stays one row."""
    buttons = sorted((control for control in seat.controls if control.kind == "button"), key=lambda each: each.x)
    rows: list[list[tuple[float, float, str]]] = []
    for button in buttons:
        near = [row for row in rows if abs(row[-1][1] - button.y) < button.bore * 0.67 and row[-1][0] < button.x - 1]
        if near:
            min(near, key=lambda row: abs(row[-1][1] - button.y)).append((button.x, button.y, button.id))
        else:
            rows.append([(button.x, button.y, button.id)])
    rows.sort(key=lambda row: -sum(y for _x, y, _name in row) / len(row))
    return tuple(tuple(name for _x, _y, name in row) for row in rows)


@dataclass(frozen=True)
class World:
    """A panel under a hypothesis: what it answers to a press. faults: wires are moved in this order."""

    plan: Plan
    faults: tuple[Fault, ...] = ()

    @cached_property
    def _by_kind(self) -> Mapping[str, tuple[Fault, ...]]:
        found: dict[str, list[Fault]] = {}
        for fault in self.faults:
            found.setdefault(fault.kind, []).append(fault)
        return {kind: tuple(each) for kind, each in found.items()}

    @cached_property
    def wires(self) -> Mapping[str, Pin | None]:
        """Where each switch's wire really ends."""
        wires: dict[str, Pin | None] = dict(self.plan.wires)
        for fault in self.faults:
            _rewire(self.plan, wires, fault)
        return wires

    @cached_property
    def state(self) -> tuple[object, ...]:
        """What is so on the panel, however it is named: where every wire ends, and all that is no wire."""
        electric = frozenset(fault for fault in self.faults if fault.kind not in WIRES)
        return tuple(sorted(self.wires.items(), key=lambda each: each[0])), electric

    @property
    def dead(self) -> frozenset[Pin]:
        """Terminals that are closed whatever is pressed."""
        jammed = {self.wires[control] for fault in self._by_kind.get("stuck", ()) for control in fault.controls}
        return self._shorted | {pin for pin in jammed if pin is not None}

    @cached_property
    def _bridges(self) -> tuple[frozenset[Pin], ...]:
        bridged = self._by_kind.get("bridged", ())
        return tuple(frozenset(self.plan.wires[control] for control in fault.controls) for fault in bridged)

    @cached_property
    def _shorted(self) -> frozenset[Pin]:
        return frozenset(self.plan.wires[fault.controls[0]] for fault in self._by_kind.get("short", ()))

    @cached_property
    def _no_quirk(self) -> frozenset[str]:
        return frozenset(fault.detail for fault in self._by_kind.get("quirk", ()))

    @cached_property
    def _ghosts(self) -> frozenset[str]:
        return frozenset(fault.detail for fault in self._by_kind.get("ghost", ()))

    def _heard(self, closed: Iterable[Pin]) -> frozenset[Report]:
        """What the machine hears while these terminals are closed; opposite ways of one axis cancel."""
        pins = set(closed) | self._shorted
        for bridge in self._bridges:
            if pins & bridge:
                pins |= bridge
        if self._ghosts:
            pins |= self._ghosted(pins)
        said = set()
        for pin in pins:
            report = self.plan.events[pin]
            said.add(report._replace(player=1) if pin[0] in self._no_quirk else report)
        for report in [each for each in said if each.event.endswith("-")]:
            other = report._replace(event=f"{report.event[:-1]}+")
            if other in said:
                said -= {report, other}
        return frozenset(said)

    def _ghosted(self, pins: set[Pin]) -> set[Pin]:
        """Terminals of a matrix without diodes that read as closed: rows and columns that are joined."""
        return {
            pin
            for role in self._ghosts
            for pin in conducting({line: self.plan.lines[line] for line in self.plan.lines if line[0] == role}, pins)
        }

    @cached_property
    def rest(self) -> frozenset[Report]:
        """What is heard before anything is touched."""
        return self._heard(())

    def answers(self, acts: Sequence[tuple[str, ...]]) -> list[Answer]:
        """What each act gets, one after the other: each closes its switches and opens them again."""
        jammed: set[Pin] = set()
        stuck = {control for fault in self._by_kind.get("stuck", ()) for control in fault.controls}
        bouncing = {control for fault in self._by_kind.get("bounce", ()) for control in fault.controls}
        found = []
        before = self._heard(jammed)
        for act in acts:
            pins = {pin for switch in act if (pin := self.wires.get(switch)) is not None}
            held = self._heard(jammed | pins)
            jammed |= {pin for switch in act if switch in stuck and (pin := self.wires.get(switch)) is not None}
            after = self._heard(jammed)
            moved = (held - before) | (after - held)
            found.append(
                Answer(moved, before - held, after - before, bool(held - before) and bool(set(act) & bouncing))
            )
            before = after
        return found


def conducting(lines: Mapping[Pin, tuple[int, int]], pins: Iterable[Pin]) -> set[Pin]:
    """Every crossing of a matrix whose row and column are joined through closed crossings."""
    joined: dict[tuple[str, int], tuple[str, int]] = {}

    def root(line: tuple[str, int]) -> tuple[str, int]:
        while joined.setdefault(line, line) != line:
            line = joined[line]
        return line

    for pin in pins:
        if pin in lines:
            row, column = lines[pin]
            joined[root(("row", row))] = root(("column", column))
    return {pin for pin, (row, column) in lines.items() if root(("row", row)) == root(("column", column))}


def _rewire(plan: Plan, wires: dict[str, Pin | None], fault: Fault) -> None:
    """Move the wires as a fault has them."""
    if fault.kind == "player":
        one, other = fault.controls
        for name in list(wires):
            seat, _, own = name.partition(".")
            far = f"{other}.{own}"
            if seat == one and far in wires:
                wires[name], wires[far] = wires[far], wires[name]
    elif fault.kind == "rows":
        rows = plan.rows(player_of(fault.controls[0]))
        for near, far in zip(*rows, strict=True) if rows else ():
            wires[near], wires[far] = wires[far], wires[near]
    elif fault.kind in ("rotated", "swapped"):
        names = fault.controls
        old = [wires[name] for name in names]
        for name, way in zip(names, TURNS[fault.detail], strict=True):
            wires[name] = old[DIRECTIONS.index(way)]
    elif fault.kind == "crossed":
        one, other = fault.controls
        wires[one], wires[other] = wires[other], wires[one]
    elif fault.kind == "shared":
        one, other = fault.controls
        wires[other] = wires[one]
    elif fault.kind == "moved":
        role, _, terminal = fault.detail.partition("/")
        wires[fault.controls[0]] = (role, terminal)
    elif fault.kind == "open":
        wires[fault.controls[0]] = None


def wide_faults(plan: Plan) -> tuple[Fault, ...]:
    """Faults that turn many switches at once."""
    found: list[Fault] = []
    seats = [f"p{player}" for player in range(1, len(plan.hookup.layout.seats) + 1)]
    found += [Fault("player", pair) for pair in combinations(seats, 2) if _any_shared(plan, *pair)]
    for player in range(1, len(seats) + 1):
        if plan.rows(player):
            found.append(Fault("rows", (f"p{player}.b",)))
    for _lever, names in plan.levers():
        for turn in TURNS:
            kind: Kind = "rotated" if turn.startswith("a quarter") else "swapped"
            found.append(Fault(kind, names, turn))
    for device in plan.hookup.devices:
        players = {terminal.player for terminal in device.encoder.terminals}
        if device.encoder.quirk_flags and len(players) > 1:
            found.append(Fault("quirk", (), device.role))
    return tuple(found)


def _any_shared(plan: Plan, one: str, other: str) -> bool:
    own = {switch.partition(".")[2] for switch in plan.wires if switch.startswith(f"{one}.")}
    return any(switch.partition(".")[2] in own for switch in plan.wires if switch.startswith(f"{other}."))


def single_faults(plan: Plan) -> tuple[Fault, ...]:
    """Every fault of every kind alone."""
    switches = plan.switches
    found = list(wide_faults(plan))
    for kind in ("open", "short", "stuck", "bounce"):
        found += [Fault(kind, (switch,)) for switch in switches]
    for one, other in combinations(switches, 2):
        if not plan.same_side(one, other):
            found.append(Fault("crossed", (one, other)))
        found += [Fault("shared", (one, other)), Fault("shared", (other, one)), Fault("bridged", (one, other))]
    spare = [pin for pin in plan.events if pin not in plan.owners]
    found += [Fault("moved", (switch,), "/".join(pin)) for switch in switches for pin in spare]
    roles = {pin[0] for pin in plan.lines}
    return (*found, *(Fault("ghost", (), role) for role in sorted(roles)))


def cost(plan: Plan, fault: Fault, places: Mapping[str, int]) -> float:
    """-ln of how likely a fault is: how common its kind, over the places where it can be."""
    return -math.log(COMMON[fault.kind] / sum(COMMON.values()) / max(1, places.get(fault.kind, 1)))
