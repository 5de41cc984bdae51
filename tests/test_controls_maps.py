"""Inputs on buttons, hotkeys, the ribbon of a keyboard, and pins of the header: what is found is the best there is."""

from __future__ import annotations

import itertools
import random
from collections.abc import Sequence
from dataclasses import replace

import networkx as nx
import numpy as np
import pytest

from kyklon.catalogue.control_records import Header, Keyboard
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Overlay
from kyklon.catalogue.system_records import System
from kyklon.demo import school_fair
from kyklon.model.build import edited, remedied
from kyklon.model.controls import ControlSettings, KeyReading, MapPair, Seat, SystemMap
from kyklon.model.world import World
from kyklon.operations.controls import assignment, hotkeys, keymaps, maps, matrix, pins
from kyklon.operations.controls.assignment import Problem
from kyklon.operations.controls.extras import clashes, read
from kyklon.operations.controls.findings import findings
from kyklon.operations.controls.hookup import Hookup, hookup_of
from kyklon.operations.controls.matrix import Pair, cures, ghosts, reconstruct
from kyklon.operations.controls.pins import Wish
from support import Demo
from test_controls import rig_for

SYSTEMS = ("alder-8", "birch-16", "cedar-disc", "elm-micro", "fir-board-v")


def drawn(rng: np.random.Generator, inputs: int, buttons: int, ideas: int) -> Problem:
    spots = np.array([(place % 4, place // 4) for place in range(buttons)], float)
    away = np.hypot(*(spots[:, None] - spots[None]).transpose(2, 0, 1))
    follows = [-1] * inputs
    if inputs >= 2:
        start = int(rng.integers(0, inputs - 1))
        for place in range(start + 1, min(inputs, start + 3)):
            follows[place] = place - 1
    own_ideas = [int(each) if rng.random() < 0.9 else -1 for each in rng.permutation(ideas)[:inputs]]
    own_ideas += [-1] * (inputs - len(own_ideas))
    return Problem(
        rng.uniform(0, 3, (inputs, buttons)),
        np.maximum(0, away - 1),
        tuple(follows),
        rng.uniform(2, 4, inputs),
        tuple(own_ideas),
        rng.uniform(0.1, 1.2, inputs),
    )


def answers_of(problem: Problem, buttons: int) -> list[tuple[int, ...]]:
    found = itertools.product(range(-1, buttons), repeat=len(problem.follows))
    return [each for each in found if len([x for x in each if x >= 0]) == len({x for x in each if x >= 0})]


def exhaustive(problems: Sequence[Problem], ideas: int, buttons: int) -> float:
    """The optimum, by trying every home of every idea and every answer of every system."""
    tables = [[(answer, problem.cost(answer)) for answer in answers_of(problem, buttons)] for problem in problems]
    return min(
        sum(
            min(cost + problem.strayed(answer, np.array(homes)) for answer, cost in table)
            for problem, table in zip(problems, tables, strict=True)
        )
        for homes in itertools.product(range(buttons), repeat=ideas)
    )


@pytest.mark.parametrize("seed", range(24))
def test_joint_maps_are_within_five_percent_of_trying_everything(seed: int) -> None:
    rng = np.random.default_rng(seed)
    buttons, ideas = int(rng.integers(2, 4)), int(rng.integers(1, 4))
    problems = [drawn(rng, int(rng.integers(1, 4)), buttons, ideas) for _system in range(int(rng.integers(2, 4)))]
    found = assignment.solve(problems, ideas)
    best = exhaustive(problems, ideas, buttons)
    assert best - 1e-6 <= found.cost <= best * 1.05 + 1e-9
    assert found.bound <= best + 1e-6  # the bound that is shown is one
    for answer in found.answers:
        used = [each for each in answer if each >= 0]
        assert len(used) == len(set(used))


def test_one_system_alone_is_solved_exactly() -> None:
    for seed in range(30):
        rng = np.random.default_rng(100 + seed)
        buttons = int(rng.integers(2, 6))
        problem = drawn(rng, int(rng.integers(1, 5)), buttons, 1)
        _answer, cost = assignment.best(problem)
        assert cost == pytest.approx(min(problem.cost(answer) for answer in answers_of(problem, buttons)))


@pytest.mark.parametrize("seed", range(6))
def test_moving_single_ideas_is_priced_by_trying_every_answer(seed: int) -> None:
    """Each move and each swap once, each at the sum of the systems' own optima there; the best of them is taken."""
    rng = np.random.default_rng(500 + seed)
    buttons, ideas = 3, 2
    problems = tuple(drawn(rng, int(rng.integers(1, 4)), buttons, ideas) for _system in range(3))
    tables = [[(answer, problem.cost(answer)) for answer in answers_of(problem, buttons)] for problem in problems]

    def least(homes: tuple[int, ...]) -> float:
        return sum(
            min(cost + problem.strayed(answer, np.array(homes)) for answer, cost in table)
            for problem, table in zip(problems, tables, strict=True)
        )

    search = assignment._Search(problems, ideas, buttons)
    for start in itertools.product(range(buttons), repeat=ideas):
        search._homes = np.array(start, dtype=np.int64)
        moves = [tuple(move) for move in search._moves().tolist()]
        single = {
            tuple(button if place == idea else home for place, home in enumerate(start))
            for idea in range(ideas)
            for button in range(buttons)
        }
        wanted = sorted([*(single - {start}), *([start[::-1]] if start[0] != start[1] else [])])
        assert sorted(moves) == wanted
        assert search._totals(np.array(moves)) == pytest.approx([least(move) for move in moves], abs=1e-9)
    worst = max(itertools.product(range(buttons), repeat=ideas), key=least)
    search = assignment._Search(problems, ideas, buttons)
    search._homes, search._cost = np.array(worst, dtype=np.int64), least(worst)
    around = min(least(tuple(move)) for move in search._moves().tolist())
    search._polish()
    assert search._cost <= around + 1e-9
    assert search._cost == pytest.approx(least(tuple(search._homes.tolist())), abs=1e-9) or search._cost == around


def test_what_no_idea_joins_has_no_moves() -> None:
    problem = drawn(np.random.default_rng(1), 2, 3, 0)
    search = assignment._Search((problem,), 0, 3)
    assert search._moves().shape == (0, 0)
    assert search._totals(search._moves()).shape == (0,)
    assert assignment.solve([problem], 0).cost == pytest.approx(assignment.best(problem)[1])


def test_a_held_pair_stays_and_what_it_costs_is_told(demo: Demo, catalogue: Catalogue) -> None:
    hookup = hookup_of(demo.build, catalogue)
    systems = [catalogue.get(System, system) for system in SYSTEMS]
    solved = maps.solve(hookup.layout, systems)
    settings = maps.taken(demo.build.controls, solved)
    made, cost = maps.moved(hookup.layout, systems, settings, "birch-16", "act", "b6")
    assert cost > 0
    held = maps.with_map(settings, made)
    again = maps.solve(hookup.layout, systems, held)
    birch = next(system_map for system_map in again.maps if system_map.system == "birch-16")
    assert next(pair for pair in birch.pairs if pair.input == "act").place == "b6"
    assert again.total >= solved.total - 1e-9
    assert maps.priced(hookup.layout, systems, maps.taken(held, again)).total == pytest.approx(again.total)


def test_an_input_without_a_button_is_named(catalogue: Catalogue) -> None:
    hookup = rig_for(catalogue, "cocktail-pair", "tackle-pair")
    few = hookup.layout.model_copy(
        update={
            "seats": tuple(
                seat.model_copy(
                    update={"controls": tuple(c for c in seat.controls if c.id not in ("b3", "b4", "b5", "b6"))}
                )
                for seat in hookup.layout.seats
            )
        }
    )
    solved = maps.solve(few, [catalogue.get(System, "birch-16")])
    assert len(solved.empty("birch-16")) == 4
    used = {each.use for each in solved.empty("birch-16")}
    kept = [pair.input.use for pair in solved.costs["birch-16"] if pair.place]
    assert min(kept) >= max(used) - 0.3  # what is used most has a button


def test_a_games_own_map_leaves_what_it_does_not_use(demo: Demo, catalogue: Catalogue) -> None:
    hookup, systems = hookup_of(demo.build, catalogue), [catalogue.get(System, system) for system in SYSTEMS]
    made = maps.game_map(hookup.layout, systems, demo.build.controls, systems[1], "Brass Parade", ("act", "hop"))
    on = {pair.input: pair.place for pair in made.pairs}
    assert on["act"]
    assert on["hop"]
    assert not any(place for own, place in on.items() if own not in ("act", "hop"))


# --- hotkeys -----------------------------------------------------------------------------------------------------


def test_the_proposal_is_the_safest_of_all_pairs(demo: Demo, catalogue: Catalogue) -> None:
    hookup, systems = hookup_of(demo.build, catalogue), [catalogue.get(System, system) for system in SYSTEMS]
    key, found = hotkeys.proposed(hookup, systems)
    names = hotkeys.reachable(hookup)
    least = min(hotkeys.risk(hookup, systems, one, other).hourly for one in names for other in names if one != other)
    leave = next(each for each in found if each.action == "leave")
    assert hotkeys.risk(hookup, systems, key, leave.control).hourly == pytest.approx(least, abs=1e-3)
    assert len({each.control for each in found} | {key}) == len(found) + 1


def test_the_safest_hotkeys_cure_what_they_are_offered_for(demo: Demo, catalogue: Catalogue) -> None:
    told = next(
        finding for finding in findings(demo.build, catalogue, World()) if finding.code == "controls.hotkeys:accident"
    )
    assert "about 41 times an hour in Cedar Disc" in told.message
    after = remedied(demo.build, told.remedy)
    assert not [
        finding for finding in findings(after, catalogue, World()) if finding.code.startswith("controls.hotkeys")
    ]


def test_of_equally_safe_pairs_the_small_buttons_come_first(demo: Demo, catalogue: Catalogue) -> None:
    """No game uses the small ones: every pair of them is free of accidents, and play buttons come after them."""
    hookup = hookup_of(demo.build, catalogue)
    seat = hookup.layout.seat(1)
    small = {control.id for control in seat.controls if control.kind in ("select", "start", "coin")}
    free = [risk for risk in hotkeys.candidates(hookup, []) if risk.hourly == 0]
    assert len(free) == len(hotkeys.reachable(hookup)) * (len(hotkeys.reachable(hookup)) - 1)
    held = [risk.hotkey for risk in free]
    assert held[0] == "select"
    first_other = next(index for index, name in enumerate(held) if name not in small)
    assert not set(held[first_other:]) & small
    key, keys = hotkeys.proposed(hookup, [])
    assert (key, keys[0].action, keys[0].control) == ("select", "leave", "start")
    assert hotkeys.safest(hookup, []) == (key, keys, 0.0)
    # where even the longest hold is not enough, it is still what is proposed
    always = [catalogue.get(System, system) for system in SYSTEMS]
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(hotkeys, "RARE", -1.0)
        assert hotkeys.safest(hookup, always)[2] == hotkeys.HOLDS_S[-1]


def test_a_chord_of_games_is_named_by_its_inputs(demo: Demo, catalogue: Catalogue) -> None:
    hookup, system = hookup_of(demo.build, catalogue), catalogue.get(System, "cedar-disc")
    assert system.chords
    play = next(play for play in hotkeys.plays_of(hookup, [system]) if play.chords)
    labels = {inputs.id: inputs.label for inputs in system.inputs}
    assert set(play.chords.values()) == {" and ".join(labels[name] for name in chord) for chord in system.chords}
    (pair, words), *_rest = play.chords.items()
    risk = hotkeys.risk(hookup, [system], *sorted(pair), 0.0)
    assert risk.why == f"games hold {words} together"


def test_holding_longer_makes_an_accident_rarer(demo: Demo, catalogue: Catalogue) -> None:
    hookup, systems = hookup_of(demo.build, catalogue), [catalogue.get(System, system) for system in SYSTEMS]
    hourly = [hotkeys.risk(hookup, systems, "select", "b1", hold).hourly for hold in (0.0, 0.5, 1.0, 2.0)]
    assert hourly == sorted(hourly, reverse=True)
    play = next(each for each in hotkeys.plays_of(hookup, systems) if {"select", "b1"} <= set(each.down))
    for hold in (0.0, 0.2):
        own, why = hotkeys._hourly(play, "select", "b1", hold, finger=False)
        assert why.startswith("play uses both")
        assert own == pytest.approx(simulated(play.down["select"], play.down["b1"], hold), rel=0.05)
    assert hourly[0] > 0
    build = edited(
        demo.build,
        "controls.maps",
        [SystemMap(system="alder-8", game="Brass Parade", pairs=(MapPair(input="pick", place="b1"),)).model_dump()],
    )
    worse = hotkeys.risk(hookup_of(build, catalogue), systems, "select", "b1").hourly
    assert worse <= hourly[0] + 1e-9  # over the games' maps too: there nothing lies on select


@pytest.mark.parametrize(
    ("hourly", "words"),
    [
        (240.0, "4 times a minute"),
        (90.0, "2 times a minute"),
        (89.0, "once a minute"),
        (50.0, "once a minute"),
        (49.0, "49 times an hour"),
        (1.5, "2 times an hour"),
        (1.4, "once an hour"),
        (0.7, "once an hour"),
        (0.5, "once every 2 hours"),
        (0.21, "once every 5 hours"),
    ],
)
def test_a_rate_is_said_as_people_say_it(hourly: float, words: str) -> None:
    assert hotkeys._often(hourly) == words


def test_what_adds_to_the_accidents_of_two_switches() -> None:
    """Presses at random: a a second held for s, b for t; a·b·(s + t) for small rates, chords and rolls on top."""
    a, b, s, t = 0.01, 0.02, 0.15, 0.5
    play = hotkeys.Play("p", {"x": (a, s), "y": (b, t)}, {"x": "Hop", "y": "Act"}, {})
    plain, why = hotkeys._hourly(play, "x", "y", 0.0, finger=False)
    assert plain == pytest.approx(3600 * a * b * (s + t), rel=0.02)
    assert why == "play uses both: Hop and Act"
    rolled, why = hotkeys._hourly(play, "x", "y", 0.0, finger=True)
    assert rolled - plain == pytest.approx(3600 * 0.25 * a)
    assert why == "one finger rolls over Hop and Act"
    held = hotkeys.Play("p", play.down, play.labels, {frozenset("xy"): "Hop and Act"})
    chord, why = hotkeys._hourly(held, "x", "y", 0.3, finger=True)
    assert chord == pytest.approx(plain * np.exp(-0.3 / s) + 3600 * 2.0 * 0.5 * np.exp(-0.3 / s))
    assert why == "games hold Hop and Act together"
    assert (
        hotkeys._hourly(play, "x", "z", 0.0, finger=True)
        == hotkeys._hourly(play, "z", "x", 0.0, finger=True)
        == (0.0, "")
    )
    assert hotkeys.Risk("x", "y", 0.2).bad is False
    assert hotkeys.Risk("x", "y", 0.21).bad is True


def test_one_finger_reaches_what_lies_behind_one_another_in_any_seat(catalogue: Catalogue) -> None:
    hookup = rig_for(catalogue, "cocktail-pair", "tackle-pair")
    seat = hookup.layout.seats[0]
    one = next(control for control in seat.controls if control.id == "b1")
    for dx, dy, reached in (
        (0, 1.5, True),
        (0, 1.7, False),
        (0.7, 1.0, True),
        (0.9, 1.0, False),
        (-0.7, -1.5, True),
        (0, -1.7, False),
    ):
        other = one.model_copy(update={"id": "b2", "x": one.x + dx * one.bore, "y": one.y + dy * one.bore})
        near = seat.model_copy(update={"controls": (one, other)})
        bare = seat.model_copy(update={"controls": (one,)})
        for seats in ((near,), (bare, near), (bare,)):
            placed = _with_seats(hookup, seats)
            assert hotkeys._one_finger(placed, "b1", "b2") == (reached and near in seats), (dx, dy)
    assert not hotkeys._one_finger(_with_seats(hookup, (seat,)), "b1", "none")
    assert not hotkeys._one_finger(_with_seats(hookup, (seat,)), "none", "b1")


def _with_seats(hookup: Hookup, seats: Sequence[Seat]) -> Hookup:
    return replace(hookup, layout=hookup.layout.model_copy(update={"seats": tuple(seats)}))


@pytest.mark.parametrize(
    ("keys", "hotkey", "codes"),
    [
        ([("leave", "start"), ("save", "start")], "select", {"clash"}),
        ([("leave", "select")], "select", {"clash"}),
        ([("save", "start")], "select", {"no-exit"}),
        ([], "select", {"no-exit"}),
        ([], "", set()),
        ([("leave", "nowhere")], "select", {"exit-lost"}),
        ([("leave", "start")], "nowhere", {"exit-lost"}),
        ([("leave", "start")], "select", set()),
    ],
)
def test_each_trouble_of_hotkeys_is_told_and_no_other(
    keys: list[tuple[str, str]], hotkey: str, codes: set[str], demo: Demo, catalogue: Catalogue
) -> None:
    chosen_keys = [{"action": action, "control": control} for action, control in keys]
    build = edited(edited(demo.build, "controls.hotkeys", chosen_keys), "controls.hotkey", hotkey)
    found = list(hotkeys.troubles(hookup_of(build, catalogue), []))
    assert {each.code for each in found} == codes
    assert all(each.stop == (each.code == "exit-lost") for each in found)
    for each in found:
        if each.code == "clash" and len(keys) == 2:
            assert each.words == "start does both leave and save."
        if each.code == "clash" and len(keys) == 1:
            assert each.words == "“leave” uses the hotkey itself."
        if each.code == "exit-lost":
            assert each.words.startswith("nowhere cannot be pressed at seat 1")


# --- the ribbon --------------------------------------------------------------------------------------------------


def a_matrix(rng: random.Random) -> dict[str, Pair]:
    """Keys on a random matrix of up to 8 by 10, its pins in any order, every pin with a key and all tied together."""
    rows, columns = rng.randint(2, 8), rng.randint(2, 10)
    numbers = list(range(1, rows + columns + 1))
    rng.shuffle(numbers)
    row_pins, column_pins = numbers[:rows], numbers[rows:]
    places = {(row_pins[0], column) for column in column_pins} | {(row, column_pins[0]) for row in row_pins}
    places |= {(row, column) for row in row_pins for column in column_pins if rng.random() < 0.75}
    return {f"k{number}": place for number, place in enumerate(sorted(places))}


def same(found: dict[str, Pair], true: dict[str, Pair]) -> bool:
    """Whether two matrices are one, rows and columns exchanged or not."""
    turned = {key: (column, row) for key, (row, column) in found.items()}
    return dict(found) == true or turned == true


def read_all(true: dict[str, Pair], rng: random.Random) -> tuple[list[KeyReading], int]:
    """Every key twice, then what is in doubt until nothing is; a reading in ten slips to another pin."""
    every = sorted({pin for pair in true.values() for pin in pair})
    readings: list[KeyReading] = []
    slips = 0

    def read(key: str) -> None:
        nonlocal slips
        pair = true[key]
        if rng.random() < 0.1:
            pair = (rng.choice([pin for pin in every if pin not in pair]), pair[1])
            slips += 1
        readings.append(KeyReading(key=key, pins=pair))

    for key in [*true, *true]:
        read(key)
    for _turn in range(20):
        doubtful = reconstruct(readings).doubtful
        if not doubtful:
            break
        for key in doubtful:
            read(key)
    return readings, slips


@pytest.mark.parametrize("seed", range(60))
def test_a_matrix_is_found_with_a_tenth_of_its_readings_wrong(seed: int) -> None:
    rng = random.Random(seed)
    true = a_matrix(rng)
    readings, slips = read_all(true, rng)
    found = reconstruct(readings)
    assert found.whole
    assert same(dict(found.keys), true), slips


def test_every_slip_of_a_single_pass_that_contradicts_is_flagged() -> None:
    """Read once: what is not flagged slipped to a crossing that no other key was read at."""
    for seed in range(40):
        rng = random.Random(seed)
        true = a_matrix(rng)
        key = rng.choice(sorted(true))
        pin = rng.choice(
            [each for each in sorted({p for pair in true.values() for p in pair}) if each not in true[key]]
        )
        readings = [KeyReading(key=each, pins=(pin, pair[1]) if each == key else pair) for each, pair in true.items()]
        found = reconstruct(readings)
        slipped = tuple(sorted((pin, true[key][1])))
        others = {tuple(sorted(pair)) for each, pair in true.items() if each != key}
        if slipped in others:
            assert key in found.doubtful


def test_ghosts_are_those_that_current_makes() -> None:
    """Against a flood of current through closed keys, key by key."""
    for seed in range(40):
        rng = random.Random(seed)
        keys = a_matrix(rng)
        names = sorted(keys)[:14]
        keys = {name: keys[name] for name in names}
        diodes = {name for name in names if rng.random() < 0.2}
        found = {(ghost.held, ghost.seen) for ghost in ghosts(keys, None, diodes) if len(ghost.held) == 3}
        wanted = set()
        for held in itertools.combinations(names, 3):
            pairs = [keys[name] for name in held]
            for seen in set(names) - set(held):
                row, column = keys[seen]
                if (
                    row in {r for r, _c in pairs}
                    and column in {c for _r, c in pairs}
                    and flows(held, keys, diodes, row, column)
                ):
                    wanted.add((held, seen))
        assert found == wanted
        cured = diodes | set(cures(ghosts(keys, None, diodes)))
        assert ghosts(keys, None, cured) == ()


def simulated(first: tuple[float, float], then: tuple[float, float], hold: float) -> float:
    """Accidents an hour of two switches that go down and up at random for long."""
    draw = np.random.default_rng(3)
    pauses = 400_000
    starts, ends = [], []
    for rate, seconds in (first, then):
        steps = np.stack((draw.exponential(1 / rate, pauses), draw.exponential(seconds, pauses)), axis=1)
        times = np.cumsum(steps.ravel()).reshape(-1, 2)
        starts.append(times[:, 0])
        ends.append(times[:, 1])
    span = min(ends[0][-1], ends[1][-1])
    inside = ends[0] < span
    begin, end = starts[0][inside] + hold, ends[0][inside]
    at = np.searchsorted(ends[1], begin)  # the first press of the other that ends after it
    met = (begin < end) & (starts[1][np.minimum(at, pauses - 1)] < end)
    up_share = 1 / (1 + first[0] * first[1])  # the rate is that of presses in all, here that of presses while it is up
    return float(3600 * met.sum() / span / up_share)


def test_ghosts_of_five_keys_and_more_are_told_and_cured() -> None:
    """Sparse matrices, where crossings on the way have no key; what current reaches, by networkx."""
    longer = 0
    for seed in range(60):
        rng = random.Random(seed)
        places = rng.sample([(row, 10 + column) for row in range(6) for column in range(6)], 14)
        keys = {f"k{number}": place for number, place in enumerate(places)}
        held = rng.sample(sorted(keys), 9)
        found = ghosts(keys, [held])
        longer += any(len(ghost.held) > 3 for ghost in found)
        for ghost in found:
            assert ghost.seen in leaking(ghost.held, keys, set())
            assert ghost.seen not in leaking(ghost.held, keys, {ghost.cure})
        assert bool(found) == bool(leaking(held, keys, set()))
        assert not leaking(held, keys, set(cures(found)))
        assert ghosts(keys, [held], cures(found)) == ()
    assert longer > 5


def leaking(held: Sequence[str], keys: dict[str, Pair], diodes: set[str]) -> set[str]:
    """Keys whose row is tied to their column by the others that are held."""
    found = set()
    for key, (row, column) in keys.items():
        wires = nx.DiGraph()
        for each in set(held) - {key}:
            wires.add_edge(*keys[each])
            if each not in diodes:
                wires.add_edge(*reversed(keys[each]))
        if row in wires and column in wires and nx.has_path(wires, row, column):
            found.add(key)
    return found


def flows(held: Sequence[str], keys: dict[str, Pair], diodes: set[str], row: int, column: int) -> bool:
    """Whether current finds from a row to a column: through a key both ways, through a diode from row to column."""
    at, seen = [("row", row)], {("row", row)}
    while at:
        side, pin = at.pop()
        for name in held:
            r, c = keys[name]
            for here, there in ((("row", r), ("column", c)), (("column", c), ("row", r))):
                if here == (side, pin) and there not in seen and not (here[0] == "column" and name in diodes):
                    seen.add(there)
                    at.append(there)
    return ("column", column) in seen


def test_both_schools_of_a_keyboard(catalogue: Catalogue) -> None:
    own, target = catalogue.get(Keyboard, "fair-50"), catalogue.get(Keyboard, "elm-keys")
    for pairs in (keymaps.by_position(own, target), keymaps.by_symbol(own, target)):
        assert [pair.target.id for pair in pairs] == [key.id for key in target.keys]
        used = [(pair.own.id, pair.shift) for pair in pairs if pair.own is not None]
        assert len(used) == len(set(used))
        assert own.restore not in {name for name, _shift in used}
    for pair in keymaps.by_symbol(own, target):
        if pair.own is not None and pair.target.signs and not pair.why:
            assert pair.target.signs[0] == pair.own.signs[1 if pair.shift else 0]


def test_ghosts_among_what_games_hold_are_a_finding_until_a_diode_is_there(catalogue: Catalogue) -> None:
    own = catalogue.get(Keyboard, "fair-50")
    readings = [{"key": key.id, "pins": key.line} for key in own.keys if key.line is not None]
    build = edited(school_fair.build(), "controls.keyboard", {"layout": own.id, "readings": readings})
    told = next(finding for finding in findings(build, catalogue, World()) if finding.code == "controls.ghosts")
    assert "A + D + K" in told.message
    assert "Elm Micro" in told.message
    after = remedied(build, told.remedy)
    assert after.controls.keyboard.diodes == ("k",)
    assert findings(after, catalogue, World()) == []


# --- the header --------------------------------------------------------------------------------------------------


def wishes(catalogue: Catalogue, *ids: str) -> tuple[Wish, ...]:
    return pins.with_buses(tuple(Wish(catalogue.get(Overlay, each), {}) for each in ids), catalogue)


def test_the_fairs_three_wishes_fit_and_the_fourth_does_not(catalogue: Catalogue) -> None:
    header = catalogue.get(Header, "merrow-40")
    told = pins.allocate(wishes(catalogue, "stick-bank", "bus-sound", "shutdown-button"), header)
    assert told.solved
    assert len(set(told.pins.values())) == len(told.pins) == 10
    for wish in wishes(catalogue, "stick-bank", "bus-sound", "shutdown-button"):
        for line in wish.lines:
            assert pins.barred(line, header.pin(told.pins[wish.overlay.id, line.name]), header) == ""
    four = pins.allocate(wishes(catalogue, "stick-bank", "bus-sound", "shutdown-button", "marquee-panel"), header)
    assert four.conflict is not None
    assert "pin 23" in four.conflict.reason
    assert len(four.conflict.wishes) == 2  # the fewest that already contradict each other
    words = told.words
    assert not clashes(read(words, catalogue))
    again = pins.allocate(pins.wishes_of(words, catalogue), header)
    assert dict(again.pins) == dict(told.pins)  # the boot file's words mean these pins


def test_an_allocation_is_refused_only_where_none_is_there(catalogue: Catalogue) -> None:
    """Every small set of wishes against trying all pins."""
    header = catalogue.get(Header, "merrow-40")
    ids = [each.id for each in catalogue.all(Overlay) if len(Wish(each, {}).lines) <= 2]
    for chosen in itertools.combinations(ids, 2):
        found = wishes(catalogue, *chosen)
        rows = [(wish, line) for wish in found for line in wish.lines]
        if len(rows) > 4 or sum(line.ma for _wish, line in rows) > header.most_ma[1]:
            continue
        options = [pins.allowed(wish, line, header) for wish, line in rows]
        possible = any(len(set(each)) == len(each) for each in itertools.islice(itertools.product(*options), 200_000))
        assert pins.allocate(found, header).solved == possible, chosen


def test_five_volts_never_meet_a_signal_pin(catalogue: Catalogue) -> None:
    header = catalogue.get(Header, "merrow-40")
    line = catalogue.get(Overlay, "power-lamp").lines[0].model_copy(update={"volts": "5"})
    assert all(pins.barred(line, pin, header) for pin in header.pins)


def test_settings_of_controls_survive_a_round_trip() -> None:
    settings = ControlSettings(panel="cocktail-pair", maps=(SystemMap(system="a", picture=90, flips=False),))
    assert ControlSettings.model_validate_json(settings.model_dump_json()) == settings


@pytest.mark.parametrize("seed", range(6))
def test_wide_ribbons_are_cut_exactly(seed: int) -> None:
    """Up to 12 by 12 with wrong readings: as few readings contradict as by trying every colouring of a small one;
    on a wide one no single pin's other side makes fewer."""
    chance = random.Random(seed)
    for rows, columns in ((5, 6), (12, 12), (11, 13)):
        own = list(range(1, rows + columns + 1))
        pairs = [(a, b) for a in own[:rows] for b in own[rows:]]
        edges = {tuple(sorted(pair)): chance.choice((1, 2)) for pair in chance.sample(pairs, 2 * len(own))}
        for _ in range(len(own) // 5):
            edges[tuple(sorted(chance.sample(own, 2)))] = 1
        part = max(matrix._parts(own, edges), key=len)
        inner = {pair: weight for pair, weight in edges.items() if pair[0] in part}
        index = {pin: place for place, pin in enumerate(part)}
        ends = np.array([(index[a], index[b]) for a, b in inner], dtype=np.int64)
        sides = matrix._cut_by_milp(part, ends, np.array(list(inner.values()), dtype=np.int64))

        def inside(of: dict[int, int], inner: dict[tuple[int, int], int] = inner) -> int:
            return sum(weight for (a, b), weight in inner.items() if of[a] == of[b])

        assert inside(sides) <= inside({pin: int(pin > rows) for pin in part})  # the truth itself is no better
        if len(part) <= 12:
            every = ({pin: bits >> place & 1 for place, pin in enumerate(part)} for bits in range(1 << len(part)))
            assert inside(sides) == min(map(inside, every))
        assert all(inside({**sides, pin: 1 - sides[pin]}) >= inside(sides) for pin in part)
