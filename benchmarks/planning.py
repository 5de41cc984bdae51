"""Plans over five hundred parts against one bare solve of the same model (scipy.optimize.milp), and three hundred steps
against networkx.

Usage: .venv/bin/python benchmarks/planning.py
"""

from __future__ import annotations

import random
import statistics
import time
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime

import networkx

from kyklon.catalogue.loader import Catalogue, load
from kyklon.catalogue.system_records import System
from kyklon.model.plan import Evening
from kyklon.operations.plan import planned
from kyklon.operations.plan.constraints import ROLES
from kyklon.operations.plan.schedule import schedule
from kyklon.operations.plan.steps import Step
from kyklon.operations.plan.wishes import Wish


def large(catalogue: Catalogue, copies: int) -> Catalogue:
    """A shelf with so many dearer copies of each part."""
    parts = dict(catalogue.parts)
    for kind, _record in ROLES.values():
        rows = list(catalogue.parts[kind].values())
        made = [
            row.model_copy(update={"id": f"{row.id}-{number}", "price": (row.price or 30) + number})
            for number in range(copies)
            for row in rows
        ]
        parts[kind] = {row.id: row for row in made}
    return replace(catalogue, parts=parts)


def median_ms(work: Callable[[], object], times: int = 5) -> float:
    found = []
    for _ in range(times):
        begin = time.perf_counter()
        work()
        found.append((time.perf_counter() - begin) * 1000)
    return statistics.median(found)


def net(count: int) -> list[Step]:
    chance = random.Random(3)
    found = []
    for number in range(count):
        hands = tuple(sorted(chance.uniform(5, 60) for _ in range(3)))
        after = tuple((f"s{index}", "first") for index in chance.sample(range(number), min(number, 2)))
        uses = (chance.choice(("bench", "computer", "machine")),)
        found.append(Step(f"s{number}", 20, f"Step {number}", "k", hands, (0.0, 0.0, 0.0), uses, (), after))  # type: ignore[arg-type]
    return found


def main() -> None:
    catalogue = load()
    systems = tuple(catalogue.get(System, name) for name in ("alder-8", "birch-16", "cedar-disc"))
    for copies in (1, 11):
        shelf = large(catalogue, copies)
        count = sum(len(shelf.parts[kind]) for kind, _record in ROLES.values())
        planner = planned.planner_of(Wish(systems, {}), shelf)
        reference = median_ms(planner._solve)
        ours = median_ms(lambda shelf=shelf: planned.planner_of(Wish(systems, {}), shelf).answer())  # type: ignore[misc]
        print(f"{count} parts: {ours:.0f} ms; one bare solve {reference:.0f} ms; ratio {ours / reference:.1f}")
    steps = net(300)
    graph = networkx.DiGraph()
    for step in steps:
        for name, _why in step.after:
            graph.add_edge(name, step.id, weight=step.minutes)
    evenings = [Evening(day=f"2027-{month:02d}-{day:02d}") for month in range(1, 13) for day in range(1, 29)]
    reference = median_ms(lambda: networkx.dag_longest_path(graph))
    ours = median_ms(lambda: schedule(steps, evenings, datetime(2027, 1, 1), samples=0))
    print(
        f"300 steps planned: {ours:.0f} ms; longest path by networkx {reference:.1f} ms; ratio {ours / reference:.0f}"
    )


if __name__ == "__main__":
    main()
