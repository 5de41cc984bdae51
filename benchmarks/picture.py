"""Modes, the smallest set and identification data against edid-decode, exhaustive search.

Usage: .venv/bin/python benchmarks/picture.py
"""

from __future__ import annotations

import itertools
import random
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from kyklon.catalogue.loader import load, standard_timings
from kyklon.catalogue.records import Adapter, Board, Display
from kyklon.catalogue.system_records import System
from kyklon.model.display import Edid, RangeLimits
from kyklon.operations.picture import edid, testcard
from kyklon.operations.picture.repair import repaired, with_timings
from kyklon.operations.picture.schools import SCHOOLS, plan
from kyklon.operations.picture.signal_path import SignalPath
from kyklon.operations.picture.smallest import Asking, front, solve

ROUNDS = 9


def timed(act: Callable[[], object], rounds: int = ROUNDS) -> float:
    """Median seconds of an act."""
    found = []
    for _ in range(rounds):
        began = time.perf_counter()
        act()
        found.append(time.perf_counter() - began)
    return statistics.median(found)


def row(what: str, reference: str, ours: float, theirs: float = 0.0) -> None:
    ratio = f"{ours / theirs:.2f}" if theirs else ""
    print(f"| {what} | {reference} | {ours * 1000:.1f} ms | {ratio} |")


def main() -> None:
    catalogue = load()
    systems = catalogue.all(System)
    own = SignalPath(
        catalogue.get(Display, "casement-19"), catalogue.get(Board, "herring"), (catalogue.get(Adapter, "gantry-rgb"),)
    )
    print("| What | Reference | Ours | Ratio |\n|---|---|---|---|")
    cvt = timed(lambda: subprocess.run(["edid-decode", "--cvt", "w=640,h=480,fps=60"], capture_output=True, check=True))
    each = timed(lambda: plan("own modes", own, systems)) / len(systems)
    row("a mode of its own for a system", f"edid-decode --cvt, a process: {cvt * 1000:.1f} ms", each, cvt)
    for school in SCHOOLS[1:]:
        row(f"{school}, {len(systems)} systems", "", timed(lambda school=school: plan(school, own, systems)))
    pick = random.Random(3)
    askings = []
    for number, shape in itertools.product(range(12), range(5)):
        base = systems[number % len(systems)]
        rate = float(base.refresh_hz) + pick.uniform(-0.8, 0.8)
        other = {"width": base.width + pick.randrange(-20, 20), "refresh": str(round(rate, 3))}
        askings.append(Asking(f"{number}/{shape}", base.model_copy(update=other), 50.0))
    front(askings[:2], own)
    row("the smallest set, 3000 games of 12 systems", "", timed(lambda: front(askings, own), 3))
    tables = [np.array([[pick.random() for _ in range(15)] for _ in range(12)]) for _ in range(3)]
    weights = np.ones(12)

    def searched() -> None:
        for table in tables:
            for count in range(1, 10):
                min(table[:, taken].min(axis=1).sum() for taken in itertools.combinations(range(15), count))

    brute = timed(searched, 3)
    row(
        "three small sets",
        f"every possible one: {brute * 1000:.1f} ms",
        timed(lambda: [solve(table, weights) for table in tables], 3),
        brute,
    )
    timings = tuple(each.timing for each in itertools.islice(standard_timings("cta").values(), 12))
    data = with_timings(
        Edid("KYK", 1, 1, 2026, "Bench", timings, (400, 300), RangeLimits((48, 75), (15, 90), 170)), timings
    )
    with tempfile.TemporaryDirectory() as held:
        file = Path(held) / "data.edid"
        file.write_bytes(edid.write(data))
        decode = timed(lambda: subprocess.run(["edid-decode", "--check", file], capture_output=True))
        raw = file.read_bytes()
        row(
            "data of twelve modes: read, repair, write",
            f"edid-decode --check, a process: {decode * 1000:.1f} ms",
            timed(lambda: edid.write(edid.read(repaired(raw).data))),
            decode,
        )
    card = standard_timings("cta")[16].timing
    row("the test card at 1920 by 1080, as PNG", "", timed(lambda: testcard.png(testcard.card(card, own.display)), 3))


main()
