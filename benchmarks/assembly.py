"""Assembly's own work against public tools: space against NumPy's comparison of every pair, the tree against SciPy's
sparse solver, and what an edit costs.

Usage: .venv/bin/python benchmarks/assembly.py
"""

from __future__ import annotations

import random
import statistics
import time
from collections.abc import Callable

import numpy as np
from scipy import sparse
from scipy.sparse.linalg import spsolve

from kyklon.catalogue.loader import load
from kyklon.demo import camper
from kyklon.model.build import edited
from kyklon.model.world import World
from kyklon.operations.assembly.findings import findings
from kyklon.operations.assembly.heat import helps
from kyklon.operations.assembly.rooms import rooms
from kyklon.operations.assembly.space import Box, Space, clashes, space_of
from kyklon.operations.assembly.tree import Segment, Sink, Tree, solved

INNER = (600.0, 400.0, 120.0)


def median_ms(work: Callable[[], object], times: int = 15) -> float:
    found = []
    for _ in range(times):
        begin = time.perf_counter()
        work()
        found.append((time.perf_counter() - begin) * 1000)
    return statistics.median(found)


def bodies(count: int) -> tuple[Box, ...]:
    pick = random.Random(6)
    found = []
    for number in range(count):
        near = tuple(pick.uniform(0, size - 40) for size in INNER)
        far = tuple(a + pick.uniform(8, 60) for a in near)
        found.append(Box(f"b{number}", f"B{number}", near, far))  # type: ignore[arg-type]
    return tuple(found)


def by_numpy(boxes: tuple[Box, ...]) -> int:
    near, far = np.array([box.near for box in boxes]), np.array([box.far for box in boxes])
    depth = np.minimum(far[:, None], far[None]) - np.maximum(near[:, None], near[None])
    return int(np.triu(depth.min(axis=2) > 0.2, 1).sum())


def main() -> None:
    boxes = bodies(60)
    space = Space(INNER, boxes, ())
    ours, its = median_ms(lambda: clashes(space)), median_ms(lambda: by_numpy(boxes))
    assert sum(clash.other.startswith("b") for clash in clashes(space)) == by_numpy(boxes)
    print(f"60 bodies: ours {ours:.2f} ms, NumPy's every pair {its:.2f} ms, ratio {ours / its:.2f}; at most 50 ms")
    pick = random.Random(1)
    names, segments = ["root"], []
    for number in range(40):
        segments.append(Segment("s", pick.choice(names), f"n{number}", 0.03))
        names.append(f"n{number}")
    tree = Tree("root", 5.1, tuple(segments), tuple(Sink("s", name, 0.1) for name in names[1:]))
    place = {name: number for number, name in enumerate(names[1:])}
    rows, columns, values = [], [], []
    for segment in segments:
        for one, other in ((segment.start, segment.end), (segment.end, segment.start)):
            if one in place:
                rows.append(place[one])
                columns.append(place[one])
                values.append(1 / 0.03)
                if other in place:
                    rows.append(place[one])
                    columns.append(place[other])
                    values.append(-1 / 0.03)
    matrix, right = sparse.coo_matrix((values, (rows, columns))).tocsr(), np.ones(len(place))
    ours, its = median_ms(lambda: solved(tree)), median_ms(lambda: spsolve(matrix, right))
    print(f"tree of 40: ours {ours:.2f} ms with loads in watts, one sparse solve {its:.2f} ms, ratio {ours / its:.1f}")
    catalogue = load()
    build = camper.build(catalogue, "0" * 64)
    for name, value in (("source", "battery"), ("load", "demanding play")):
        build = edited(build, f"assembly.{name}", value)
    print(f"findings of an edit: {median_ms(lambda: findings(build, catalogue, World())):.1f} ms")
    print(f"what would cool it: {median_ms(lambda: helps(build, catalogue)):.1f} ms")
    for name, size in (("inner_wide", 250.0), ("inner_deep", 154.0), ("inner_high", 62.0)):
        build = edited(build, f"assembly.{name}", size)
    found = clashes(space_of(build, catalogue))
    print(f"{len(found)} clashes; room for one: {median_ms(lambda: rooms(build, catalogue, found[0])):.1f} ms")
    print(f"findings of a full case: {median_ms(lambda: findings(build, catalogue, World())):.1f} ms")


if __name__ == "__main__":
    main()
