"""Operation 40 in figures: the proof of the wiring, the joint mapping, the matrix and its ghosts, events to the window.

Run `.venv/bin/python benchmarks/controls.py [prove|map|matrix|all] [how many]`.
"""

from __future__ import annotations

import sys
import time
from collections import Counter

from kyklon.catalogue.loader import load
from kyklon.catalogue.records import Encoder, Panel
from kyklon.model.controls import ControlSettings
from kyklon.operations.controls import standin
from kyklon.operations.controls.faulty import Fault, Plan, World
from kyklon.operations.controls.mapping import wire_in_order
from kyklon.operations.controls.proof import Reasoner, Session
from kyklon.operations.controls.rig import Device, Rig, from_panel


def rig(panel_id: str, *encoder_ids: str) -> Rig:
    """A rig of the catalogue, wired in terminal order."""
    catalogue = load()
    layout = from_panel(catalogue.get(Panel, panel_id))
    devices, first = [], 1
    for number, encoder_id in enumerate(encoder_ids, 1):
        encoder = catalogue.get(Encoder, encoder_id)
        devices.append(Device("encoder" if number == 1 else f"encoder-{number}", encoder, first))
        first += encoder.players
    bare = Rig(layout, tuple(devices), ControlSettings(panel=panel_id))
    return Rig(layout, tuple(devices), ControlSettings(panel=panel_id, wires=wire_in_order(bare)))


def prove(count: int) -> None:
    """Random wirings with none to three faults: what is found, how many presses, against the least that can be.

    The least: an open wire shows itself to a press of its own switch only, so each switch must be closed once; and a
    device that is a matrix must be asked with three held.
    """
    right = presses = least = wrong = seconds = rounds = 0
    missed: Counter[str] = Counter()
    benches = [rig("cocktail-pair", "tackle-pair"), rig("single-eight", "tackle-12"),
               rig("cocktail-pair", "rowlock-grid"), rig("cocktail-pair", "tackle-12", "thole-pad")]  # fmt: skip
    plans = [Plan(each) for each in benches]
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


def main() -> None:
    what = sys.argv[1] if len(sys.argv) > 1 else "all"
    count = int(sys.argv[2]) if len(sys.argv) > 2 and sys.argv[2].isdecimal() else 1000
    if what in ("prove", "all"):
        prove(count)


if __name__ == "__main__":
    main()
