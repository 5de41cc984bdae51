"""From inputs to buttons for every system: what it costs, why, and the cheapest of all.

Costs are in pitches, the distance from one button to the next: an input that lies one button from where people look for
it costs 1. The other weights below say how many pitches each other wish is worth.
"""

from __future__ import annotations

import math
import statistics
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from kyklon.catalogue.system_records import Input, System
from kyklon.model.controls import DIRECTIONS, Control, ControlSettings, Layout, MapPair, Seat, SystemMap
from kyklon.operations.controls import assignment
from kyklon.operations.controls.assignment import NOWHERE, Problem

FREE_KINDS = ("button", "side")
SMALL_KINDS = ("start", "select", "coin")
FINGERS = ("index", "middle", "ring", "little")
_FINGER_COST = (0.0, 0.1, 0.4, 0.7)  # pitches at full use: tapping grows slower from the index to the little finger, CP
_FAR_ROW = 0.15  # pitches at full use: the hand reaches over the near row, CP
_ROW = 1.0  # for each pitch that two inputs of a row lie farther apart than neighbours
_OTHER_ROW = 0.3  # two inputs of a row that are not in one row of buttons
_IDEA = 0.8  # the same idea on another button than elsewhere, at full use; half of it at no use
_SIDE = 0.6  # for each column between a shoulder input and the outside
_EMPTY = 3.0  # an input without a button, and once more at full use
_WHERE: Mapping[str, tuple[float, float]] = {  # columns and rows from b1, to the right and away, of places by name
    "b1": (0, 0),
    "b2": (1, 0),
    "b3": (2, 0),
    "b4": (0, 1),
    "b5": (1, 1),
    "b6": (2, 1),
    "b7": (3, 0),
    "b8": (3, 1),
    "start": (4, 2),
    "select": (3, 2),
    "coin": (4, 3),
}


@dataclass(frozen=True)
class Term:
    """A part of what a pair costs, in pitches, with its reason."""

    name: str
    cost: float


@dataclass(frozen=True)
class PairCost:
    """An input on its place, '' for none, with what that costs."""

    input: Input
    place: str
    terms: tuple[Term, ...]

    @property
    def cost(self) -> float:
        return sum(term.cost for term in self.terms)


@dataclass(frozen=True)
class Mapped:
    """maps: for each system its map. costs: of each system, pair by pair. total and bound in pitches."""

    maps: tuple[SystemMap, ...]
    costs: Mapping[str, tuple[PairCost, ...]]
    total: float
    bound: float

    @property
    def gap(self) -> float:
        return max(0.0, (self.total - self.bound) / self.total) if self.total > 1e-9 else 0.0

    def empty(self, system: str) -> tuple[Input, ...]:
        """Inputs of a system that have no button."""
        return tuple(pair.input for pair in self.costs.get(system, ()) if not pair.place)


class Board:
    """The buttons that the seats share, with what each is like. A place counts where every seat has it."""

    def __init__(self, layout: Layout) -> None:
        seats = [seat for seat in layout.seats if seat.controls]
        if not seats:
            seats = [Seat(x=0, y=0, width_mm=1, height_mm=1)]
        self.seats = seats
        shared = set.intersection(*({control.id for control in seat.controls} for seat in seats))
        first = seats[0]
        self.free = tuple(
            control.id for control in first.controls if control.id in shared and control.kind in FREE_KINDS
        )
        self.free = self.free[: assignment.MOST_BUTTONS]
        self.small = tuple(
            control.id for control in first.controls if control.id in shared and control.kind in SMALL_KINDS
        )
        self.levers = any(control.id == "lever" for control in first.controls)

    def control(self, seat: Seat, place: str) -> Control:
        found = seat.control(place)
        assert found is not None
        return found

    @cached_property
    def pitch(self) -> float:
        """mm from a button to its nearest neighbour, the median over all seats."""
        gaps = []
        for seat in self.seats:
            own = [self.control(seat, place) for place in self.free]
            for one in own:
                others = [math.hypot(one.x - other.x, one.y - other.y) for other in own if other is not one]
                gaps += [min(others)] if others else []
        return statistics.median(gaps) if gaps else 36.0

    def spot(self, place: str) -> tuple[float, float]:
        """Where a place lies from the first button, in pitches to the right and away from the player; the mean over
        the seats."""
        xs, ys = [], []
        for seat in self.seats:
            origin, own = self.control(seat, self.free[0]), self.control(seat, place)
            lever = seat.control("lever")
            side = -1.0 if lever is not None and lever.x > origin.x else 1.0  # a seat for the other hand is mirrored
            xs.append(side * (own.x - origin.x) / self.pitch)
            ys.append((origin.y - own.y) / self.pitch)
        return sum(xs) / len(xs), sum(ys) / len(ys)

    @cached_property
    def spots(self) -> dict[str, tuple[float, float]]:
        return {place: self.spot(place) for place in self.free}

    @cached_property
    def columns(self) -> dict[str, int]:
        """The column of each button, from the index finger's; side buttons have the outermost."""
        order = sorted((x for place, (x, _y) in self.spots.items() if not place.startswith("side")))
        edges: list[float] = []
        for x in order:
            if not edges or x - edges[-1] > 0.6:
                edges.append(x)
        found = {}
        for place, (x, _y) in self.spots.items():
            near = min(range(len(edges)), key=lambda index: abs(edges[index] - x)) if edges else 0
            found[place] = near if not place.startswith("side") else len(edges)
        return found

    @cached_property
    def rows(self) -> dict[str, int]:
        """0 for the near row, 1 for the next."""
        return {place: max(0, round(y - 0.2)) for place, (_x, y) in self.spots.items()}

    def wanted(self, place: str) -> tuple[float, float]:
        """Where people look for a place, in pitches: where it lies here, else where it lies on a full panel."""
        if place in self.spots:
            return self.spots[place]
        return _WHERE.get(place, (1.0, 0.5))


def free_inputs(system: System, board: Board, uses: Sequence[str] = ()) -> tuple[Input, ...]:
    """The inputs that want a button: not the lever's ways, nor what a small button of that name serves."""
    return tuple(
        each
        for each in system.inputs
        if (not uses or each.id in uses)
        and not (each.place in DIRECTIONS and board.levers)
        and each.place not in board.small
    )


def own_terms(each: Input, place: str, board: Board) -> tuple[Term, ...]:
    """What an input on a button costs by itself."""
    x, y = board.spots[place]
    wx, wy = board.wanted(each.place)
    terms = [Term("away from where players expect it", math.hypot(x - wx, y - wy))]
    finger = min(board.columns[place], len(FINGERS) - 1)
    reach = _FINGER_COST[finger] * each.use + _FAR_ROW * each.use * min(1, board.rows[place])
    if reach:
        terms.append(Term(f"{FINGERS[finger]} finger" + (", far row" if board.rows[place] else ""), reach))
    if each.side:
        outer = max(board.columns.values()) - board.columns[place]
        terms.append(Term("a shoulder button that is not on the outside", _SIDE * outer))
    return tuple(term for term in terms if term.cost > 1e-9)


def empty_cost(each: Input) -> float:
    return _EMPTY * (1 + each.use)


def apart_cost(one: str, other: str, board: Board) -> float:
    """What two neighbours of a row cost on these buttons."""
    (ax, ay), (bx, by) = board.spots[one], board.spots[other]
    far = max(0.0, math.hypot(ax - bx, ay - by) - 1.15)  # a curve is a little more than a pitch
    return _ROW * far + (_OTHER_ROW if board.rows[one] != board.rows[other] else 0.0)


def idea_cost(each: Input) -> float:
    return _IDEA * (0.5 + 0.5 * each.use)


def _problem(
    system: System, inputs: Sequence[Input], board: Board, ideas: Mapping[str, int], locks: Mapping[str, str]
) -> Problem:
    count, buttons = len(inputs), len(board.free)
    own = np.zeros((count, buttons))
    ids = [each.id for each in inputs]
    for row, each in enumerate(inputs):
        for column, place in enumerate(board.free):
            own[row, column] = sum(term.cost for term in own_terms(each, place, board))
        if each.id in locks:
            held = locks[each.id]
            own[row, [column for column, place in enumerate(board.free) if place != held]] = np.inf
    taken = {place for place in locks.values() if place}
    for row, each in enumerate(inputs):
        if each.id not in locks:
            own[row, [column for column, place in enumerate(board.free) if place in taken]] = np.inf
    empty = np.array([empty_cost(each) if locks.get(each.id, "-") in ("", "-") else 1e3 for each in inputs])
    apart = np.array(
        [[apart_cost(one, other, board) if one != other else 0.0 for other in board.free] for one in board.free]
    ).reshape(buttons, buttons)
    follows = tuple(ids.index(each.beside) if each.beside in ids else -1 for each in inputs)
    return Problem(
        own,
        apart,
        follows,
        empty,
        tuple(ideas.get(each.idea, -1) for each in inputs),
        np.array([idea_cost(each) for each in inputs]),
    )


def solve(
    layout: Layout, systems: Sequence[System], settings: ControlSettings | None = None, *, rounds: int = 10
) -> Mapped:
    """The cheapest maps of all systems together; locked pairs of the settings' maps stay.

    Raises WrongUse for more buttons than are mapped.
    """
    board = Board(layout)
    inputs = {system.id: free_inputs(system, board) for system in systems}
    shared = _ideas(inputs)
    locks = {system.id: _locks(settings, system.id, "") for system in systems}
    if not board.free:
        answers = {system.id: {each.id: "" for each in inputs[system.id]} for system in systems}
        return _priced(board, systems, inputs, answers, {}, 0.0)
    problems = [_problem(system, inputs[system.id], board, shared, locks[system.id]) for system in systems]
    told = assignment.solve(problems, len(shared), rounds=rounds)
    answers = {
        system.id: {
            each.id: board.free[button] if button != NOWHERE else ""
            for each, button in zip(inputs[system.id], answer, strict=True)
        }
        for system, answer in zip(systems, told.answers, strict=True)
    }
    homes = {idea: board.free[told.homes[number]] for idea, number in shared.items()}
    return _priced(board, systems, inputs, answers, homes, told.bound, locks)


def _ideas(inputs: Mapping[str, Sequence[Input]]) -> dict[str, int]:
    """Ideas that more than one system has."""
    counts: dict[str, int] = {}
    for own in inputs.values():
        for idea in {each.idea for each in own if each.idea}:
            counts[idea] = counts.get(idea, 0) + 1
    return {idea: number for number, idea in enumerate(sorted(idea for idea, count in counts.items() if count > 1))}


def _locks(settings: ControlSettings | None, system: str, game: str) -> dict[str, str]:
    found = settings.map_of(system, game) if settings else None
    return {pair.input: pair.place for pair in found.pairs if pair.locked} if found else {}


def _priced(
    board: Board,
    systems: Sequence[System],
    inputs: Mapping[str, Sequence[Input]],
    answers: Mapping[str, Mapping[str, str]],
    homes: Mapping[str, str],
    bound: float,
    locks: Mapping[str, Mapping[str, str]] | None = None,
) -> Mapped:
    costs, maps = {}, []
    for system in systems:
        answer = answers[system.id]
        costs[system.id] = tuple(
            _pair_cost(each, answer, inputs[system.id], board, homes) for each in inputs[system.id]
        )
        held = (locks or {}).get(system.id, {})
        maps.append(
            SystemMap(
                system=system.id,
                pairs=tuple(MapPair(input=own, place=place, locked=own in held) for own, place in answer.items()),
            )
        )
    total = sum(pair.cost for own in costs.values() for pair in own)
    return Mapped(tuple(maps), costs, total, min(bound, total))


def _pair_cost(
    each: Input, answer: Mapping[str, str], inputs: Sequence[Input], board: Board, homes: Mapping[str, str]
) -> PairCost:
    place = answer.get(each.id, "")
    if not place or place not in board.spots:
        terms = [Term("no button", empty_cost(each))]
    else:
        terms = list(own_terms(each, place, board))
        before = answer.get(each.beside, "") if any(other.id == each.beside for other in inputs) else ""
        if before and before in board.spots and (apart := apart_cost(before, place, board)) > 1e-9:
            name = next(other.label for other in inputs if other.id == each.beside)
            terms.append(Term(f"not next to {name}", apart))
    if each.idea in homes and place != homes[each.idea]:
        terms.append(Term("elsewhere in other systems", idea_cost(each)))
    return PairCost(each, place, tuple(terms))


def priced(layout: Layout, systems: Sequence[System], settings: ControlSettings) -> Mapped:
    """What the maps cost that the build has now: its own, else the places that the inputs prefer."""
    board = Board(layout)
    inputs = {system.id: free_inputs(system, board) for system in systems}
    shared = _ideas(inputs)
    answers: dict[str, dict[str, str]] = {}
    for system in systems:
        own = settings.map_of(system.id)
        told = {pair.input: pair.place for pair in own.pairs} if own else {}
        answers[system.id] = {
            each.id: (place if (place := told.get(each.id, each.place)) in board.free else "")
            for each in inputs[system.id]
        }
    homes = _homes(inputs, answers, shared, board)
    return _priced(board, systems, inputs, answers, homes, 0.0)


def _homes(
    inputs: Mapping[str, Sequence[Input]],
    answers: Mapping[str, Mapping[str, str]],
    ideas: Mapping[str, int],
    board: Board,
) -> dict[str, str]:
    """For each idea the button that most weight lies on."""
    votes: dict[str, dict[str, float]] = {idea: {} for idea in ideas}
    for system, own in inputs.items():
        for each in own:
            place = answers[system].get(each.id, "")
            if each.idea in votes and place:
                votes[each.idea][place] = votes[each.idea].get(place, 0.0) + idea_cost(each)
    order = {place: number for number, place in enumerate(board.free)}
    return {idea: max(own, key=lambda place: (own[place], -order[place])) for idea, own in votes.items() if own}


def moved(
    layout: Layout, systems: Sequence[System], settings: ControlSettings, system: str, input_id: str, place: str
) -> tuple[SystemMap, float]:
    """A system's map with one input moved by hand, whatever was on that button going where it was; and what that
    change costs, in pitches (a gain is negative)."""
    before = priced(layout, systems, settings)
    told = next(system_map for system_map in before.maps if system_map.system == system)
    old = next((pair.place for pair in told.pairs if pair.input == input_id), "")
    pairs = []
    for pair in told.pairs:
        if pair.input == input_id:
            pairs.append(MapPair(input=pair.input, place=place, locked=True))
        elif place and pair.place == place:
            pairs.append(MapPair(input=pair.input, place=old))
        else:
            locked = any(each.input == pair.input and each.locked for each in (settings.map_of(system) or told).pairs)
            pairs.append(MapPair(input=pair.input, place=pair.place, locked=locked))
    made = SystemMap(system=system, pairs=tuple(pairs))
    after = priced(layout, systems, with_map(settings, made))
    return made, after.total - before.total


def game_map(
    layout: Layout, systems: Sequence[System], settings: ControlSettings, system: System, game: str, uses: Sequence[str]
) -> SystemMap:
    """The cheapest map of a game that uses some of its system's inputs only; ideas stay where the other maps have
    them. Inputs that it does not use have no button."""
    board = Board(layout)
    inputs = free_inputs(system, board, uses)
    now = priced(layout, systems, settings)
    everything = {each.id: free_inputs(each, board) for each in systems}
    answers = {system_map.system: {pair.input: pair.place for pair in system_map.pairs} for system_map in now.maps}
    homes = _homes(everything, answers, _ideas(everything), board)
    if not board.free:
        return SystemMap(system=system.id, game=game)
    ideas = {idea: number for number, idea in enumerate(homes)}
    problem = _problem(system, inputs, board, ideas, _locks(settings, system.id, game))
    own = problem.own.copy()
    for row, each in enumerate(inputs):
        if each.idea in homes:
            own[row, [column for column, place in enumerate(board.free) if place != homes[each.idea]]] += idea_cost(
                each
            )
    answer, _cost = assignment.best(
        Problem(own, problem.apart, problem.follows, problem.empty, (-1,) * len(inputs), problem.weight)
    )
    pairs = [
        MapPair(input=each.id, place=board.free[button] if button != NOWHERE else "")
        for each, button in zip(inputs, answer, strict=True)
    ]
    unused = [MapPair(input=each.id, place="") for each in free_inputs(system, board) if each.id not in uses]
    return SystemMap(system=system.id, game=game, pairs=(*pairs, *unused))


def taken(settings: ControlSettings, mapped: Mapped) -> ControlSettings:
    """The settings with the maps of a solution; where the picture's top points stays as it was."""
    for made in mapped.maps:
        old = settings.map_of(made.system, made.game)
        if old is not None:
            made = made.model_copy(update={"picture": old.picture, "flips": old.flips})
        settings = with_map(settings, made)
    return settings


def with_map(settings: ControlSettings, made: SystemMap) -> ControlSettings:
    """The settings with a map in the place of the one of its system and game."""
    kept = tuple(
        system_map for system_map in settings.maps if (system_map.system, system_map.game) != (made.system, made.game)
    )
    return settings.model_copy(update={"maps": (*kept, made)})
