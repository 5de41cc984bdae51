"""The wiring list from geometry: every run with length and colour, the chained ground, crimps. Lengths in mm."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
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


EXACT = 11  # places up to which the shortest way is found for certain; a seat has fewer


@lru_cache(maxsize=64)
def shortest_path(
    start: tuple[float, float], places: tuple[tuple[float, float], ...]
) -> tuple[tuple[float, float], ...]:
    """The order of places in which a wire along the board's sides from `start` is shortest. Exact up to EXACT of them
    (Held and Karp 1962), beyond that the best of many starts with 2-opt and Or-opt."""
    if len(places) <= EXACT:
        return _exact_path(start, places)
    tries = [_uncrossed(start, _nearest_path(start, places))]
    for first in places:
        rest = tuple(place for place in places if place != first)
        tries.append(_uncrossed(start, [first, *_nearest_path(first, rest)]))
    return tuple(_improved_path(start, min(tries, key=lambda tried: _length(start, tried))))


def _uncrossed(start: tuple[float, float], order: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """2-opt: pieces are turned round as long as that makes the way shorter."""
    better = True
    while better:
        better = False
        for i in range(len(order) - 1):
            before = start if i == 0 else order[i - 1]
            for j in range(i + 1, len(order)):
                old, new = _apart(before, order[i]), _apart(before, order[j])
                if j + 1 < len(order):
                    old += _apart(order[j], order[j + 1])
                    new += _apart(order[i], order[j + 1])
                if new < old - 1e-9:
                    order[i : j + 1] = order[i : j + 1][::-1]
                    better = True
    return order


def _apart(one: tuple[float, float], other: tuple[float, float]) -> float:
    return abs(one[0] - other[0]) + abs(one[1] - other[1])


def _length(start: tuple[float, float], order: Sequence[tuple[float, float]]) -> float:
    return sum(_apart(one, other) for one, other in pairwise((start, *order)))


def _nearest_path(start: tuple[float, float], places: Sequence[tuple[float, float]]) -> list[tuple[float, float]]:
    left, order, at = list(places), list[tuple[float, float]](), start
    while left:
        at = min(left, key=lambda place: _apart(at, place))
        left.remove(at)
        order.append(at)
    return order


def _improved_path(start: tuple[float, float], order: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """Pieces turned round or moved elsewhere as long as that makes the way shorter."""
    best, better = _length(start, order), True
    while better:
        better = False
        for i in range(len(order)):
            for j in range(i + 1, len(order) + 1):
                piece, rest = order[i:j], [*order[:i], *order[j:]]
                turned = [*order[:i], *piece[::-1], *order[j:]]
                moved = [
                    [*rest[:at], *some, *rest[at:]]
                    for at in range(len(rest) + 1)
                    for some in (piece, piece[::-1])
                    if j - i <= 3
                ]
                for tried in (turned, *moved):
                    if (length := _length(start, tried)) < best - 1e-9:
                        order, best, better = tried, length, True
    return order


def _exact_path(start: tuple[float, float], places: Sequence[tuple[float, float]]) -> tuple[tuple[float, float], ...]:
    """By the shortest way to each place over each set of others."""
    count = len(places)
    if not count:
        return ()
    apart = [[_apart(one, other) for other in places] for one in places]
    first = [_apart(start, place) for place in places]
    costs: list[dict[int, float]] = [{} for _ in range(1 << count)]
    came: list[dict[int, int]] = [{} for _ in range(1 << count)]
    for last in range(count):
        costs[1 << last][last] = first[last]
    for mask in range(1, 1 << count):
        for last, cost in costs[mask].items():
            row = apart[last]
            for other in range(count):
                bit = 1 << other
                if mask & bit:
                    continue
                further, known = cost + row[other], costs[mask | bit]
                if other not in known or further < known[other] - 1e-12:
                    known[other] = further
                    came[mask | bit][other] = last
    mask = (1 << count) - 1
    last = min(costs[mask], key=lambda end: costs[mask][end])
    found = []
    while True:
        found.append(places[last])
        before = came[mask].get(last)
        mask &= ~(1 << last)
        if before is None:
            return tuple(reversed(found))
        last = before


def _chain(hookup: Hookup, role: str, controls: Sequence[str]) -> Chain:
    """From the encoder to its nearest switch and on, every switch once. Those at one place, such as a joystick's four,
    follow each other."""
    points = {control: place for control in controls if (place := hookup.layout.place(control)) is not None}
    start = hookup.at(role)

    places = tuple(dict.fromkeys(points.values()))
    order = [control for place in shortest_path(start, places) for control, at in points.items() if at == place]
    spots = [start, *(points[control] for control in order)]
    pieces = tuple(SLACK * _apart(one, other) + ENDS for one, other in pairwise(spots))
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
