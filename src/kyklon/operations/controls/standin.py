"""A stand-in panel that is wired as a hypothesis has it: right, or wrong on purpose."""

from __future__ import annotations

import random
from collections.abc import Sequence

from kyklon.base.errors import WrongUse
from kyklon.devices.simulated.panel import PanelDevice, PanelStandIn, PanelTerminal, SimulatedPanel
from kyklon.operations.controls.faulty import COMMON, WIRES, Fault, Pin, Plan, World, single_faults
from kyklon.operations.controls.proof import Session
from kyklon.operations.controls.reports import Answer, Listener

ASKED_KINDS = tuple(kind for kind in COMMON if kind not in ("moved", "bridged"))
_REST_S = 0.3  # s that is listened before the first press
_STEP_S, _HELD_S, _GAP_S = 0.02, 0.12, 2.0  # s between switches, of a press, and after it; a person's, CP
_WORN = 5  # times the debounce that a worn contact bounces, CP


def of(plan: Plan, faults: Sequence[Fault] = (), seed: int = 1) -> PanelStandIn:
    """The panel of a plan with these faults in its copper."""
    world = World(plan, tuple(faults))
    kinds: dict[str, list[Fault]] = {}
    for fault in faults:
        kinds.setdefault(fault.kind, []).append(fault)
    unsplit = {fault.detail for fault in kinds.get("quirk", ())}
    bare = {fault.detail for fault in kinds.get("ghost", ())}
    devices = []
    for device in plan.hookup.devices:
        encoder = device.encoder
        terminals = tuple(
            PanelTerminal(id=terminal.id, event=terminal.event, player=terminal.player, line=terminal.line)
            for terminal in encoder.terminals
        )
        devices.append(
            PanelDevice(
                role=device.role,
                terminals=terminals,
                poll_ms=encoder.poll_ms,
                debounce_ms=encoder.debounce_ms,
                split=device.role not in unsplit,
                diodes=device.role not in bare,
                axis=encoder.axis,
            )
        )
    worn = {}
    for fault in kinds.get("bounce", ()):
        end = world.wires.get(fault.controls[0]) or plan.wires[fault.controls[0]]
        found = plan.hookup.device(end[0])
        assert found is not None
        worn[fault.controls[0]] = _WORN * (found.encoder.debounce_ms + found.encoder.poll_ms)
    bridged = [kind.controls for kind in kinds.get("bridged", ())]
    return PanelStandIn(
        devices=tuple(devices),
        ends={switch: pin for switch, pin in world.wires.items() if pin is not None},
        planned=dict(plan.wires),
        bridges=tuple((plan.wires[one], plan.wires[other]) for one, other in bridged),
        shorts=tuple(plan.wires[fault.controls[0]] for fault in kinds.get("short", ())),
        jams=tuple(fault.controls[0] for fault in kinds.get("stuck", ())),
        bounce_ms=worn,
        seed=seed,
    )


def followed(panel: PanelStandIn, plan: Plan) -> PanelStandIn:
    """The panel when the build's wires have changed: one that is right is wired anew; one with faults keeps its copper,
    and only switches that are new are wired."""
    ends: dict[str, Pin] = dict(panel.ends)
    if ends == panel.planned:
        ends = dict(plan.wires)
    else:
        ends |= {switch: pin for switch, pin in plan.wires.items() if switch not in panel.planned}
        ends = {switch: pin for switch, pin in ends.items() if switch in plan.hookup.switches}
    return panel.model_copy(update={"ends": ends, "planned": dict(plan.wires)})


def repaired(panel: PanelStandIn, plan: Plan, faults: Sequence[Fault]) -> PanelStandIn:
    """The panel after a hand has put right what these faults say: wires moved, contacts freed, bridges taken out."""
    ends: dict[str, Pin] = dict(panel.ends)
    found = World(plan, tuple(faults)).wires
    for switch, pin in plan.wires.items():
        if found.get(switch) != pin:
            ends[switch] = pin
    touched = {plan.wires[control] for fault in faults for control in fault.controls if control in plan.wires}
    cured = {
        kind: {each for fault in faults if fault.kind == kind for each in (*fault.controls, fault.detail)}
        for kind in COMMON
    }
    devices = tuple(
        device.model_copy(
            update={
                "split": device.split or device.role in cured["quirk"],
                "diodes": device.diodes or device.role in cured["ghost"],
            }
        )
        for device in panel.devices
    )
    bridges = tuple(pair for pair in panel.bridges if not (cured["bridged"] and set(pair) <= touched))
    shorts = tuple(pin for pin in panel.shorts if not (cured["short"] and pin in touched))
    return panel.model_copy(
        update={
            "devices": devices,
            "ends": ends,
            "bridges": bridges,
            "shorts": shorts,
            "jams": tuple(jam for jam in panel.jams if jam not in cured["stuck"]),
            "bounce_ms": {name: ms for name, ms in panel.bounce_ms.items() if name not in cured["bounce"]},
        }
    )


def drawn(plan: Plan, count: int, seed: int) -> tuple[Fault, ...]:
    """So many faults at random, or as many as the wiring can have: each kind as likely as any other; no two turn one
    lever. Same seed, same faults. Raises WrongUse where nothing is wired."""
    chance = random.Random(seed)
    by_kind: dict[str, list[Fault]] = {}
    for fault in single_faults(plan):
        if fault.kind in ASKED_KINDS:
            by_kind.setdefault(fault.kind, []).append(fault)
    if not by_kind:
        raise WrongUse("No switch is wired yet, so no faults can be added.", do="Wire the panel first.")
    found: list[Fault] = []
    while by_kind and len(found) < count:
        kind = chance.choice(sorted(by_kind))
        fault = by_kind[kind].pop(chance.randrange(len(by_kind[kind])))
        by_kind = {each: rows for each, rows in by_kind.items() if rows}
        turned = [each.controls for each in found if each.kind in ("swapped", "rotated")]
        if not (fault.kind in ("swapped", "rotated") and fault.controls in turned):
            found.append(fault)
    order = ("player", "rows", "rotated", "swapped")  # the whole harness first, then single wires

    def rank(fault: Fault) -> tuple[int, bool]:
        return (order.index(fault.kind) if fault.kind in order else len(order)), fault.kind not in WIRES

    return tuple(sorted(found, key=rank))


class Hand:
    """Presses on a stand-in what is asked for, in a time of its own, and gathers what its devices send."""

    def __init__(self, panel: PanelStandIn) -> None:
        self._now = 0.0
        self.panel = SimulatedPanel(panel, lambda: self._now)
        self.listener = Listener()
        self.presses = 0
        self._wait(_REST_S)

    def _wait(self, seconds: float) -> None:
        self._now += seconds
        for role in self.panel.roles:
            for event in self.panel.waiting(role):
                self.listener = self.listener.heard(role, event)

    def press(self, act: tuple[str, ...]) -> Answer:
        """Close these switches one after the other, open them again, and wait."""
        self.listener = self.listener.asked()
        self.presses += len(act)
        for move in (self.panel.press, self.panel.release):
            for switch in act:
                move(switch)
                self._wait(_STEP_S)
            self._wait(_HELD_S)
        self._wait(_GAP_S)
        return self.listener.answer

    def prove(self, session: Session) -> Session:
        """A whole proof from here."""
        while session.current is not None:
            session = session.answered(self.press(session.current))
        return session
