"""The wiring list from geometry: every run with length and colour, the chained ground, crimps. Lengths in mm."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

from kyklon.base.tables import csv_of
from kyklon.model.controls import DIRECTIONS
from kyklon.operations.controls.hookup import Hookup
from kyklon.operations.controls.mapping import player_of

SLACK = 1.15  # of the way along the sides, CP
ENDS = 80.0  # mm for both crimps and to turn the board over, CP
COLOURS = ("white", "yellow", "orange", "red", "green", "blue", "violet", "grey", "brown", "pink")
GROUND = "black"
TABS: Mapping[str, float] = {  # mm: tabs of switches, CP
    "lever": 4.8,
    "button": 2.8,
    "start": 2.8,
    "select": 2.8,
    "coin": 4.8,
    "side": 4.8,
    "spinner": 2.8,
    "trackball": 2.8,
}


@dataclass(frozen=True)
class Run:
    """A wire from a switch to a terminal. tabs: width at the switch and at the encoder."""

    control: str
    role: str
    terminal: str
    printed: str
    length: float
    colour: str
    tabs: tuple[float, float]
    done: bool


@dataclass(frozen=True)
class Chain:
    """The ground of a device: switches in the order of the wire, and its length; pieces: from each to the next."""

    role: str
    controls: tuple[str, ...]
    pieces: tuple[float, ...]

    @property
    def length(self) -> float:
        return sum(self.pieces)


@dataclass(frozen=True)
class Harness:
    """All there is to cut and crimp. crimps: by tab width. mixed: whether a ready harness with one width does not
    fit."""

    runs: tuple[Run, ...]
    chains: tuple[Chain, ...]

    @property
    def metres(self) -> dict[str, float]:
        """By colour, in m."""
        found: dict[str, float] = {}
        for run in self.runs:
            found[run.colour] = found.get(run.colour, 0.0) + run.length / 1000
        ground = sum(chain.length for chain in self.chains) / 1000
        return found | ({GROUND: ground} if ground else {})

    @property
    def crimps(self) -> dict[float, int]:
        found: Counter[float] = Counter()
        for run in self.runs:
            found.update(run.tabs)
            found[run.tabs[0]] += 1  # the switch's other tab, for the ground
        return dict(sorted(found.items()))

    @property
    def mixed(self) -> dict[str, int]:
        """For each device the runs whose two ends want different crimps: a harness with one width will not do."""
        found: Counter[str] = Counter()
        for run in self.runs:
            found[run.role] += run.tabs[0] != run.tabs[1]
        return {role: count for role, count in found.items() if count}


def colour_of(hookup: Hookup, control: str) -> str:
    """The colour of a run: the four directions have four, the buttons go on from there; the same in every seat."""
    name = control.partition(".")[2]
    if name in DIRECTIONS:
        return COLOURS[DIRECTIONS.index(name)]
    seat = hookup.layout.seat(player_of(control))
    rest = [each for each in (seat.switches if seat else ()) if each not in DIRECTIONS]
    return COLOURS[(4 + rest.index(name)) % len(COLOURS)] if name in rest else COLOURS[0]


def harness(hookup: Hookup) -> Harness:
    """Runs along the sides of the board, not through the air, and a ground for each device along the shortest chain."""
    ticked = {wire.control for wire in hookup.settings.wires if wire.done}
    runs, of_device = [], dict[str, list[str]]()
    for control, (device, terminal) in hookup.wired.items():
        seat = hookup.layout.seat(player_of(control))
        owner = seat.owner(control.partition(".")[2]) if seat else None
        at = hookup.layout.place(control)
        if owner is None or at is None:
            continue
        x, y = hookup.at(device.role)
        length = SLACK * (abs(at[0] - x) + abs(at[1] - y)) + ENDS
        tabs = TABS[owner.kind], device.encoder.tab_mm
        runs.append(
            Run(
                control,
                device.role,
                terminal.id,
                terminal.printed,
                math.ceil(length / 10) * 10.0,
                colour_of(hookup, control),
                tabs,
                control in ticked,
            )
        )
        of_device.setdefault(device.role, []).append(control)
    chains = tuple(_chain(hookup, role, tuple(controls)) for role, controls in of_device.items())
    return Harness(tuple(runs), chains)


def _chain(hookup: Hookup, role: str, controls: Sequence[str]) -> Chain:
    """From the encoder to its nearest switch and on, every switch once; crossings are taken out (2-opt)."""
    points = {control: place for control in controls if (place := hookup.layout.place(control)) is not None}
    start = hookup.at(role)

    def way(one: tuple[float, float], other: tuple[float, float]) -> float:
        return abs(one[0] - other[0]) + abs(one[1] - other[1])

    left, order, at = dict(points), list[str](), start
    while left:
        nearest = min(left, key=lambda control: way(at, left[control]))
        order.append(nearest)
        at = left.pop(nearest)
    for _turn in range(len(order)):
        better = False
        for i in range(len(order) - 1):
            for j in range(i + 1, len(order)):
                before = start if i == 0 else points[order[i - 1]]
                old = way(before, points[order[i]])
                new = way(before, points[order[j]])
                if j + 1 < len(order):
                    old += way(points[order[j]], points[order[j + 1]])
                    new += way(points[order[i]], points[order[j + 1]])
                if new < old - 1e-6:
                    order[i : j + 1] = order[i : j + 1][::-1]
                    better = True
        if not better:
            break
    spots = [start, *(points[control] for control in order)]
    pieces = tuple(SLACK * way(one, other) + ENDS for one, other in pairwise(spots))
    return Chain(role, tuple(order), pieces)


def table(hookup: Hookup, made: Harness) -> str:
    """The harness as CSV: runs, then the ground, piece by piece."""
    rows: list[tuple[object, ...]] = [
        (
            "label",
            "player",
            "switch",
            "encoder",
            "terminal",
            "length_mm",
            "colour",
            "tab_at_switch_mm",
            "tab_at_encoder_mm",
            "done",
        )
    ]
    for number, run in enumerate(made.runs, 1):
        device = hookup.device(run.role)
        rows.append(
            (
                number,
                player_of(run.control),
                run.control.partition(".")[2],
                device.title if device else "",
                run.printed,
                round(run.length),
                run.colour,
                *run.tabs,
                "yes" if run.done else "",
            )
        )
    for chain in made.chains:
        device = hookup.device(chain.role)
        for control, piece in zip(chain.controls, chain.pieces, strict=True):
            rows.append(
                (
                    "ground",
                    player_of(control),
                    control.partition(".")[2],
                    device.title if device else "",
                    "ground",
                    math.ceil(piece / 10) * 10,
                    GROUND,
                    "",
                    "",
                    "",
                )
            )
    return csv_of(rows)
