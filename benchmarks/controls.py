"""Operation 40 in figures: the proof of the wiring, the joint mapping, the matrix and its ghosts, events to the window.

Run `.venv/bin/python benchmarks/controls.py [prove|map|matrix|events|all] [how many]`.
"""

from __future__ import annotations

import itertools
import os
import random
import statistics
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import numpy as np

from kyklon.catalogue.control_records import Arrangement
from kyklon.catalogue.loader import load
from kyklon.catalogue.records import Encoder
from kyklon.catalogue.system_records import Panel, System
from kyklon.model.controls import ControlSettings, KeyReading
from kyklon.operations.controls import arrange, assignment, maps, matrix, standin
from kyklon.operations.controls.assignment import Problem
from kyklon.operations.controls.faulty import Fault, Plan, World
from kyklon.operations.controls.hookup import Device, Hookup, from_panel
from kyklon.operations.controls.mapping import wire_in_order
from kyklon.operations.controls.proof import Reasoner, Session
from kyklon.operations.controls.sources import Heard
from kyklon.record import folder as store


def hookup(panel_id: str, *encoder_ids: str) -> Hookup:
    """A rig of the catalogue, wired in terminal order."""
    catalogue = load()
    layout = from_panel(catalogue.get(Panel, panel_id))
    devices, first = [], 1
    for number, encoder_id in enumerate(encoder_ids, 1):
        encoder = catalogue.get(Encoder, encoder_id)
        devices.append(Device("encoder" if number == 1 else f"encoder-{number}", encoder, first))
        first += encoder.players
    bare = Hookup(layout, tuple(devices), ControlSettings(panel=panel_id))
    return Hookup(layout, tuple(devices), ControlSettings(panel=panel_id, wires=wire_in_order(bare)))


def prove(count: int) -> None:
    """Random wirings with none to three faults: what is found, how many presses, against the least that can be.

    The least: an open wire shows itself to a press of its own switch only, so each switch must be closed once; and a
    device that is a matrix must be asked with three held.
    """
    right = presses = least = wrong = seconds = rounds = 0
    missed: Counter[str] = Counter()
    benches = [
        hookup("cocktail-pair", "tackle-pair"),
        hookup("single-eight", "tackle-12"),
        hookup("cocktail-pair", "rowlock-grid"),
        hookup("cocktail-pair", "tackle-12", "thole-pad"),
    ]
    plans = [Plan(bench) for bench in benches]
    reasoners = [Reasoner(plan) for plan in plans]
    for seed in range(count):
        plan, reasoner = plans[seed % len(plans)], reasoners[seed % len(plans)]
        faults = standin.drawn(plan, seed % 4, seed)
        found: tuple[Fault, ...] = ()
        left = faults
        for _round in range(3):  # what hides behind another fault shows itself when that is cured
            hand = standin.Hand(standin.of(plan, left, seed))
            begun = time.perf_counter()
            told = hand.prove(Session(reasoner, rest=hand.listener.active)).diagnosis
            seconds += time.perf_counter() - begun
            presses += hand.presses
            rounds += 1
            if _round == 0:
                least += sum(len(act) for act in reasoner.acts)
            named = told.faults or ()
            found += named
            if not named or World(plan, named).state == World(plan, left).state:
                left = () if named else left
                break
            left = tuple(fault for fault in left if fault not in named)
            if not left:
                break
        good = World(plan, found).state == World(plan, faults).state or set(found) == set(faults)
        right += good
        wrong += not good
        if not good:
            missed[" + ".join(sorted(each.kind for each in faults))] += 1
            if "-v" in sys.argv:
                print("  ", faults, "->", found)
    print(f"proof: {right} of {count} named rightly ({100 * right / count:.2f} %)")
    print(f"  presses {presses / count:.1f} a wiring, {presses / least:.3f} of the least ({least / count:.1f})")
    print(f"  {1000 * seconds / rounds:.0f} ms of reasoning a proof; missed: {dict(missed.most_common(6))}")


def drawn(rng: np.random.Generator, inputs: int, buttons: int, ideas: int) -> Problem:
    """A random system on a random panel, in rows of four."""
    spots = np.array([(place % 4, place // 4) for place in range(buttons)], float)
    away = np.hypot(*(spots[:, None] - spots[None]).transpose(2, 0, 1))
    follows = [-1] * inputs
    for place in range(1, min(inputs, 4)):
        follows[place] = place - 1 if rng.random() < 0.7 else -1
    own = [int(each) for each in rng.permutation(ideas)[:inputs]]
    own += [-1] * (inputs - len(own))
    return Problem(
        rng.uniform(0, 3, (inputs, buttons)),
        np.maximum(0, away - 1),
        tuple(follows),
        rng.uniform(2, 4, inputs),
        tuple(own),
        rng.uniform(0.1, 1.2, inputs),
    )


def exhaustive(problems: list[Problem], ideas: int, buttons: int) -> float:
    """Every answer of every system under every set of homes."""
    tables = []
    for problem in problems:
        every = itertools.product(range(-1, buttons), repeat=len(problem.follows))
        tables.append(
            [
                (each, problem.cost(each))
                for each in every
                if len([x for x in each if x >= 0]) == len({x for x in each if x >= 0})
            ]
        )
    return min(
        sum(
            min(cost + problem.strayed(each, np.array(homes)) for each, cost in table)
            for problem, table in zip(problems, tables, strict=True)
        )
        for homes in itertools.product(range(buttons), repeat=ideas)
    )


def mapped(count: int) -> None:
    """The joint mapping: time on the catalogue and on twelve inputs, and how far above the optimum."""
    catalogue = load()
    systems = list(catalogue.all(System))
    layout = from_panel(catalogue.get(Panel, "cocktail-pair"))
    best = min(_timed(lambda: maps.solve(layout, systems)) for _turn in range(5))
    told = maps.solve(layout, systems)
    print(
        f"mapping: {len(systems)} systems of the catalogue, two seats, {1000 * best:.0f} ms, gap {100 * told.gap:.2f} %"
    )
    rng = np.random.default_rng(1)
    times, gaps = [], []
    for _turn in range(8):
        problems = [drawn(rng, 12, 8, 9) for _system in range(10)]
        times.append(_timed(lambda problems=problems: gaps.append(assignment.solve(problems, 9).gap)))
    median, worst = (1000 * each for each in (statistics.median(times), max(times)))
    print(
        f"  ten systems of twelve inputs on eight buttons: {median:.0f} ms, {worst:.0f} at worst; "
        f"gap {100 * statistics.mean(gaps):.1f} %, {100 * max(gaps):.1f} at worst"
    )
    over = []
    for _turn in range(count):
        buttons, ideas = int(rng.integers(2, 4)), int(rng.integers(1, 4))
        problems = [drawn(rng, int(rng.integers(2, 5)), buttons, ideas) for _system in range(int(rng.integers(2, 4)))]
        least = exhaustive(problems, ideas, buttons)
        over.append(assignment.solve(problems, ideas).cost / least - 1)
    print(
        f"  {count} small ones against trying everything: {100 * max(over):.2f} % above at worst, "
        f"{sum(each < 1e-9 for each in over)} exact"
    )


def _timed(act: Callable[[], object]) -> float:
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def ribbon(count: int) -> None:
    """Random matrices, every key read twice, a reading in ten wrong, those in doubt read again; ghosts counted anew."""
    exact = readings_in_all = keys_in_all = flagged = wrong_in_all = 0
    begun = time.perf_counter()
    for seed in range(count):
        rng = random.Random(seed)
        rows, columns = rng.randint(2, 8), rng.randint(2, 10)
        numbers = list(range(1, rows + columns + 1))
        rng.shuffle(numbers)
        ups, downs = numbers[:rows], numbers[rows:]
        places = {(ups[0], each) for each in downs} | {(each, downs[0]) for each in ups}
        places |= {(up, down) for up in ups for down in downs if rng.random() < 0.75}
        true = {f"k{number}": place for number, place in enumerate(sorted(places))}
        readings: list[KeyReading] = []
        slipped: set[str] = set()

        def read(
            key: str,
            rng: random.Random = rng,
            true: dict[str, tuple[int, int]] = true,
            readings: list[KeyReading] = readings,
            numbers: list[int] = numbers,
            slipped: set[str] = slipped,
        ) -> None:
            pair = true[key]
            if rng.random() < 0.1:
                pair = (rng.choice([pin for pin in numbers if pin not in pair]), pair[1])
                slipped.add(key)
            readings.append(KeyReading(key=key, pins=pair))

        for key in [*true, *true]:
            read(key)
        first = matrix.reconstruct(readings)
        wrong_in_all += len(slipped)
        flagged += len(slipped & set(first.doubtful))
        for _turn in range(20):
            doubtful = matrix.reconstruct(readings).doubtful
            if not doubtful:
                break
            for key in doubtful:
                read(key)
        found = dict(matrix.reconstruct(readings).keys)
        exact += found == true or {key: pair[::-1] for key, pair in found.items()} == true
        readings_in_all += len(readings)
        keys_in_all += len(true)
    seconds = time.perf_counter() - begun
    print(f"ribbon: {exact} of {count} matrices exact, {readings_in_all / keys_in_all:.2f} readings a key")
    print(f"  {flagged} of {wrong_in_all} keys that slipped flagged at once; {1000 * seconds / count:.1f} ms each")


def events(seconds: float) -> None:
    """Eight devices, a thousand events a second, in the real window: from the event to the drawn path."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtCore import QEvent, QObject

    from kyklon.app.pages.controls.page import LIVE
    from kyklon.app.start import make_application, open_window
    from kyklon.app.theme.tokens import Theme
    from kyklon.demo import lighthouse
    from kyklon.model.build import edited
    from kyklon.operations.controls.acts import wired
    from kyklon.operations.plan.acts import with_another_encoder

    class Painted(QObject):
        """When a widget was painted last."""

        def __init__(self) -> None:
            super().__init__()
            self.times: list[float] = []

        def eventFilter(self, _thing: QObject | None, event: QEvent | None) -> bool:
            if event is not None and event.type() == QEvent.Type.Paint:
                self.times.append(time.monotonic())
            return False

    catalogue = load()
    application = make_application()
    with tempfile.TemporaryDirectory(prefix="kyklon-bench-") as held:
        folder = lighthouse.make(Path(held) / "build", catalogue)
        seat = arrange.layout_seat(catalogue.get(Arrangement, "curved-six"), arrange.HANDS[1], 420, 150)
        build = store.load(folder).build.with_part("encoder", "tackle-12")
        build = edited(build, "controls.layout", arrange.table_of(seat, 4, facing=True))
        for _turn in range(7):
            build = with_another_encoder(build, "tackle-12", catalogue)
        store.save(folder, wired(build, catalogue))
        window = open_window(folder, Theme())
        window.resize(1280, 800)
        window.show()
        window.open_operation(40)
        page = window.page(40)
        page.show_view(LIVE)
        bench = page.live.bench
        until = time.monotonic() + 2
        while time.monotonic() < until:
            application.processEvents()
        painted = Painted()
        page.live.view.installEventFilter(painted)
        panel = bench.stand_in
        assert panel is not None
        switches = [each for each in bench.plan.switches if not each.endswith(("up", "down", "left", "right"))]
        source = bench.source
        ask, sent = source.poll, []

        def heard() -> Heard:
            told = ask()
            sent.extend(event.at for _role, event in told.events)
            return told

        source.poll = heard  # to note when each event was there
        waits: list[float] = []
        count = 0
        due, number = time.monotonic(), 0
        end = due + seconds
        while time.monotonic() < end:
            now = time.monotonic()
            while due < now:  # a press or a release every millisecond, each switch in its turn
                switch = switches[number % len(switches)]
                (panel.release if number // len(switches) % 2 else panel.press)(switch)
                number += 1
                due += 0.001
            application.processEvents()
            for at in painted.times:
                waits += [at - each for each in sent if each <= at]
                sent[:] = [each for each in sent if each > at]
            count += len(painted.times)
            painted.times.clear()
        waits.sort()
        median, most = (1000 * each for each in (statistics.median(waits), waits[int(len(waits) * 0.95)]))
        devices = len(bench.plan.hookup.devices)
        print(f"events: {len(waits) / seconds:.0f} a second of {devices} devices; from the event to the drawn path")
        print(f"  {median:.1f} ms, 95 % {most:.1f} ms; {count / seconds:.0f} drawings a second")
        window.close()
        window.session.end()


def main() -> None:
    what = sys.argv[1] if len(sys.argv) > 1 else "all"
    count = int(sys.argv[2]) if len(sys.argv) > 2 and sys.argv[2].isdecimal() else 1000
    if what in ("prove", "all"):
        prove(count)
    if what in ("map", "all"):
        mapped(min(count, 200))
    if what in ("matrix", "all"):
        ribbon(min(count, 500))
    if what in ("events", "all"):
        events(5.0)


if __name__ == "__main__":
    main()
