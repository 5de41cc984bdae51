"""The schedule against other libraries: chains by networkx, finishes by exhaustive search and by numpy, events by
icalendar."""

from __future__ import annotations

import random
from datetime import datetime
from itertools import pairwise, permutations

import icalendar
import networkx
import numpy as np
import pytest

from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import edited
from kyklon.model.plan import Done, Evening
from kyklon.model.world import World
from kyklon.operations.plan.schedule import (
    FAR,
    arranged,
    as_icalendar,
    critical_path,
    decoded,
    ordered,
    schedule,
    simulated,
    tails,
)
from kyklon.operations.plan.steps import Step, expected, steps
from support import Demo

NOW = datetime(2027, 3, 1, 18, 0)
ALWAYS = ((0.0, FAR),)


def net(chance: random.Random, count: int, *, alone: bool = True) -> list[Step]:
    made = []
    for number in range(count):
        hands = sorted(chance.uniform(5, 90) for _ in range(3))
        runs = sorted(chance.uniform(0, 240) for _ in range(3)) if alone and chance.random() < 0.4 else [0.0] * 3
        uses = tuple(chance.sample(["bench", "computer", "machine"], chance.randint(0, 2)))
        before = chance.sample(range(number), min(number, chance.randint(0, 2)))
        made.append(
            Step(
                f"s{number}",
                20,
                f"Step {number}",
                "kind",
                tuple(hands),  # type: ignore[arg-type]
                tuple(runs),  # type: ignore[arg-type]
                uses,
                uses[:1] if any(runs) else (),
                tuple((f"s{index}", "first") for index in before),
            )
        )
    return made


def graph_of(net_: list[Step]) -> networkx.DiGraph:
    graph = networkx.DiGraph()
    for step in net_:
        graph.add_node(step.id)
        for name, _why in step.after:
            graph.add_edge(name, step.id)
    return graph


@pytest.mark.parametrize("seed", range(20))
def test_the_critical_path_is_that_of_networkx(seed: int) -> None:
    made = net(random.Random(seed), 25)
    graph, minutes = graph_of(made), {step.id: step.minutes for step in made}
    for start, end in graph.edges:
        graph[start][end]["weight"] = minutes[start]
    for step in made:  # the last one counts, too
        graph.add_edge(step.id, "end", weight=minutes[step.id])
    longest = networkx.dag_longest_path(graph)[:-1]
    assert sum(minutes[name] for name in critical_path(made)) == pytest.approx(sum(minutes[name] for name in longest))
    assert max(tails(made).values()) == pytest.approx(networkx.dag_longest_path_length(graph))
    order = [step.id for step in ordered(made)]
    assert all(order.index(start) < order.index(end) for start, end in graph_of(made).edges)


@pytest.mark.long(keep=20)
@pytest.mark.parametrize("seed", range(200))
def test_the_finish_is_within_a_twentieth_of_the_best_of_all_orders(seed: int) -> None:
    """Eight steps: one more than those of which every order is tried."""
    chance = random.Random(seed)
    made = net(chance, 8 if seed % 4 == 0 else 6)
    windows = ALWAYS if seed % 2 else tuple((day * 1440.0, day * 1440.0 + 150) for day in range(30))
    slots, _order = arranged(made, windows)
    minutes = {step.id: (expected(step.hands), expected(step.alone)) for step in made}
    best = FAR
    for order in permutations(made):
        place = {step.id: index for index, step in enumerate(order)}
        if all(place[name] < place[step.id] for step in order for name, _why in step.after):
            found = decoded(order, minutes, windows)
            if len(found) == len(made):
                best = min(best, max(slot.end for slot in found))
    assert len(slots) == len(made)
    assert max(slot.end for slot in slots) <= best * 1.05


@pytest.mark.parametrize("seed", range(30))
def test_nothing_happens_twice_at_once_or_too_early(seed: int) -> None:
    made = net(random.Random(seed), 14)
    windows = tuple((day * 1440.0, day * 1440.0 + 120) for day in range(60))
    slots, _order = arranged(made, windows)
    ends = {slot.step.id: slot.end for slot in slots}
    assert len(ends) == len(made)
    hands = sorted(piece for slot in slots for piece in slot.pieces)
    for (_a, end), (start, _b) in pairwise(hands):
        assert start >= end - 1e-6
    for start, end in hands:
        assert any(low <= start + 1e-6 and end <= high + 1e-6 for low, high in windows)
    for slot in slots:
        assert all(ends[name] <= slot.start + 1e-6 for name, _why in slot.step.after)
        assert sum(end - start for start, end in slot.pieces) == pytest.approx(expected(slot.step.hands))
    for one in slots:
        for other in slots:
            if one is other or not set(one.step.uses) & set(other.step.uses):
                continue
            shared = set(one.step.uses) & set(other.step.uses)
            end = one.end if shared & set(one.step.holds) else one.hands_end
            assert not (one.start + 1e-6 < other.start < end - 1e-6), (one.step.id, other.step.id)


def test_a_simulated_finish_is_that_of_an_independent_simulation() -> None:
    """Chains without common resources: the finish is the longest chain; drawn anew by numpy (20 000 runs)."""
    chance = random.Random(4)
    made = []
    for number in range(12):
        runs = sorted(chance.uniform(10, 90) for _ in range(3))
        after = ((f"s{number - 3}", "first"),) if number >= 3 else ()
        made.append(Step(f"s{number}", 20, f"Step {number}", "k", (0.0, 0.0, 0.0), tuple(runs), (), (), after))  # type: ignore[arg-type]
    draws = np.random.default_rng(9)
    chains = np.zeros((3, 20_000))
    for number, step in enumerate(made):
        low, usual, high = step.alone
        chains[number % 3] += draws.triangular(low, usual, high, 20_000)
    whole = chains.max(axis=0)
    half, most = simulated(made, 2000)
    assert half == pytest.approx(float(np.quantile(whole, 0.5)), rel=0.02)
    assert most == pytest.approx(float(np.quantile(whole, 0.9)), rel=0.02)


def test_the_demos_evenings_are_filled(demo: Demo, catalogue: Catalogue) -> None:
    fresh = edited(demo.build, "card", {})
    fresh = edited(fresh, "controls.wires", [wire.model_copy(update={"done": False}) for wire in fresh.controls.wires])
    made = steps(fresh, catalogue, World())
    titles = {step.id: step.title for step in made}
    assert {"open-start", "mount", "close", "wire", "prove", "way-0"} <= set(titles)
    close = next(step for step in made if step.id == "close")
    assert {name for name, _why in close.after} >= {"mount", "prove"}
    without = tuple(step for step in made if step.id != "parcels")
    two = [Evening(day="2027-03-02"), Evening(day="2027-03-04", start="20:00", minutes=120)]
    plan = schedule(without, two, NOW)
    assert plan.begin == datetime(2027, 3, 2, 19, 0)
    assert plan.left, "two evenings are not enough for a table"
    assert {slot.step.id for slot in plan.slots} & {"way-0", "drill"}
    whole = schedule(without, [Evening(day=f"2027-03-{day:02d}") for day in range(2, 28)], NOW)
    assert not whole.left
    assert whole.hands == pytest.approx(sum(expected(step.hands) for step in without if not step.done))
    assert whole.likely[0] <= whole.likely[1]


def test_steps_that_were_done_are_gone_and_teach(demo: Demo, catalogue: Catalogue) -> None:
    made = steps(demo.build, catalogue, World())
    drill = next(step for step in made if step.id == "drill")
    slow = edited(demo.build, "plan.done", [Done(step="drill", minutes=expected(drill.hands) * 2)])
    after = {step.id: step for step in steps(slow, catalogue, World())}
    assert after["drill"].done
    assert after["drill"].learnt
    assert expected(after["drill"].hands) == pytest.approx(2 * expected(drill.hands))
    library = next(step for step in made if step.id == "library")
    assert expected(after["library"].hands) > expected(library.hands), "the bench's own pace counts for others"
    elsewhere = {step.id: step for step in steps(demo.build, catalogue, World(), [Done(step="drill", minutes=5)])}
    assert expected(elsewhere["drill"].hands) == pytest.approx(5)


def test_a_circle_is_refused() -> None:
    one = Step("a", 20, "A", "k", (1, 1, 1), after=(("b", "x"),))
    other = Step("b", 20, "B", "k", (1, 1, 1), after=(("a", "x"),))
    with pytest.raises(ValueError, match="wait for each other: A, B"):
        ordered([one, other])


def test_the_calendar_is_read_by_icalendar(demo: Demo, catalogue: Catalogue) -> None:
    made = [
        Step("odd", 20, "Fix; this, and \\ that — ä long title " * 4, "k", (30, 30, 30), (60, 60, 60)),
        Step("b", 20, "B", "k", (80, 80, 80), after=(("odd", "first; this"),)),
    ]
    plan = schedule(made, [Evening(day="2027-03-02", minutes=90), Evening(day="2027-03-03", minutes=90)], NOW)
    text = as_icalendar(plan, "My, build", NOW)
    assert all(len(line.encode()) <= 75 for line in text.split("\r\n"))
    calendar = icalendar.Calendar.from_ical(text)
    events = list(calendar.walk("VEVENT"))
    assert len(events) == sum(len(slot.pieces) for slot in plan.slots)
    assert str(events[0]["SUMMARY"]) == " ".join(made[0].title.split())
    assert events[0]["DTSTART"].dt == datetime(2027, 3, 2, 19, 0)
    total = sum((event["DTEND"].dt - event["DTSTART"].dt).total_seconds() / 60 for event in events)
    assert total == pytest.approx(110)
    assert "First; this" in str(events[-1]["DESCRIPTION"])
