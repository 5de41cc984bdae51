"""Operation 40 in figures: the proof of the wiring, the joint mapping, the matrix and its ghosts, events to the window.

Run `.venv/bin/python benchmarks/controls.py [prove|map|matrix|all] [how many]`.
"""

from __future__ import annotations

import sys
import time
from collections import Counter

from kyklon.catalogue.loader import load
from kyklon.catalogue.records import Encoder, Panel
from kyklon.devices.simulated.panel import SimulatedPanel
from kyklon.model.controls import ControlSettings
from kyklon.operations.controls import standin
from kyklon.operations.controls.faulty import Fault, Plan, World
from kyklon.operations.controls.mapping import wire_in_order
from kyklon.operations.controls.proof import Reasoner, Session
from kyklon.operations.controls.reports import Answer, Listener
from kyklon.operations.controls.rig import Device, Rig, from_panel

HELD_S, GAP_S = 0.12, 2.0  # a press, and the pause after it, of the simulated hand


class Clock:
    """Time that passes when it is told to."""

    def __init__(self) -> None:
        self.now = 0.0

    def __call__(self) -> float:
        return self.now


class Hand:
    """Presses what is asked for on a stand-in panel and gathers what its devices send."""

    def __init__(self, panel: SimulatedPanel, clock: Clock) -> None:
        self._panel, self._clock = panel, clock
        self.listener = Listener()
        self.presses = 0
        self._wait(0.3)

    def _wait(self, seconds: float) -> None:
        self._clock.now += seconds
        for role in self._panel.roles:
            for event in self._panel.waiting(role):
                self.listener = self.listener.heard(role, event)

    def press(self, act: tuple[str, ...]) -> Answer:
        self.listener = self.listener.asked()
        self.presses += len(act)
        for switch in act:
            self._panel.press(switch)
            self._wait(0.02)
        self._wait(HELD_S)
        for switch in act:
            self._panel.release(switch)
            self._wait(0.02)
        self._wait(GAP_S)
        return self.listener.answer


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
            clock = Clock()
            hand = Hand(SimulatedPanel(standin.of(plan, left, seed), clock), clock)
            session = Session(reasoner, rest=hand.listener.active)
            begun = time.perf_counter()
            while session.current is not None:
                session = session.answered(hand.press(session.current))
            told = session.diagnosis
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
