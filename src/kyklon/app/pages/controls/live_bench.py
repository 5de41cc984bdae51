"""The live test without its picture: devices are asked, presses followed, the guided proof led and kept."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from kyklon.app.session.session import Session
from kyklon.base.errors import KyklonError
from kyklon.catalogue.system_records import System
from kyklon.devices import choose
from kyklon.devices.ports import InputEvent, InputFacts
from kyklon.devices.simulated import panel as panels
from kyklon.devices.simulated.panel import PanelStandIn, SimulatedPanel
from kyklon.model.build import edited
from kyklon.model.kernel_line import given as words_given
from kyklon.operations.controls import standin
from kyklon.operations.controls.acts import as_found
from kyklon.operations.controls.fault_words import FaultWords, ends_found, told
from kyklon.operations.controls.faulty import Fault, Plan, World
from kyklon.operations.controls.findings import fingerprint
from kyklon.operations.controls.hookup import Hookup, hookup_of
from kyklon.operations.controls.proof import Act, Diagnosis, Reasoner, kept
from kyklon.operations.controls.proof import Session as Proving
from kyklon.operations.controls.quirks import encoder_quirk, quirk_given
from kyklon.operations.controls.reports import Listener
from kyklon.operations.controls.sources import PluggedSource, Source, StandInSource
from kyklon.operations.controls.trace import Followed, Trace, followed, owner_of

POLL_MS = 4  # so that an event is drawn within a frame of 16 ms
SETTLE_MS = 250  # after a hand was in the wires: what it let go of has been said by then
LOOK_MS = 1000  # between two looks at what is plugged in
STAND_IN, PLUGGED = "stand-in", "plugged"


class LiveBench(QObject):
    """changed: what is held or asked. found: the proof, its answers or its faults. told: a sentence."""

    changed = pyqtSignal()
    found = pyqtSignal()
    told = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.kind = STAND_IN if self._has_stand_ins(session.folder) else PLUGGED
        self.source: Source | None = None
        self.listener = Listener()
        self.plan: Plan | None = None
        self.proof: Proving | None = None
        self.diagnosis: Diagnosis | None = None
        self.faults: tuple[FaultWords, ...] = ()
        self.busy = False
        self.last: Followed | None = None
        self.system: System | None = None
        self.trace = Trace()
        self._latched: set[str] = set()
        self._pressed = ""
        self._hookup: Hookup | None = None
        self._timer, self._look = QTimer(self), QTimer(self)
        self._timer.setInterval(POLL_MS)
        self._timer.timeout.connect(self.poll)
        self._look.setInterval(LOOK_MS)
        self._look.timeout.connect(self._look_again)
        self._looking = False

    @staticmethod
    def _has_stand_ins(folder: Path) -> bool:
        return choose.has_stand_ins(folder)

    # --- the source --------------------------------------------------------------------------------------------

    @property
    def folder(self) -> Path:
        return self.session.folder / choose.STAND_INS

    def begin(self) -> None:
        """Listen from now on, if it does not yet."""
        self.refresh()
        self._timer.start()
        if self.kind == PLUGGED:
            self._look.start()
            self._look_again()

    def rest(self) -> None:
        """Another view is in front: what is plugged in is let go, a stand-in keeps its switches."""
        self._timer.stop()
        self._look.stop()
        if self.kind == PLUGGED and self.source is not None:
            self.source.close()

    def choose(self, kind: str) -> None:
        """Listen to the stand-in panel, or to what is plugged in."""
        if kind == self.kind and self.source is not None:
            return
        self.kind = kind
        if self.source is not None:
            self.source.close()
        self.source, self.listener = None, Listener()
        self.proof, self.diagnosis, self.faults = None, None, ()
        self.begin()
        self.found.emit()

    def refresh(self) -> None:
        """The build has changed: its plan, and the stand-in, whose encoders are split where the kernel line says so."""
        hookup = hookup_of(self.session.build, self.session.catalogue)
        if hookup is None:
            if self.source is not None:
                self.source.close()
            self._hookup, self.plan, self.source = None, None, None
            self.proof, self.diagnosis, self.faults = None, None, ()
            return
        plan = Plan(hookup)
        rewired = (
            self.plan is None
            or plan.wires != self.plan.wires
            or hookup.devices != self.plan.hookup.devices
            or hookup.layout != self.plan.hookup.layout
        )
        if not rewired and self.source is not None:
            self._split()
            return
        devices_same = self._hookup is not None and self._hookup.devices == hookup.devices
        self._hookup, self.plan = hookup, plan
        if self.kind == STAND_IN:
            if devices_same and isinstance(self.source, StandInSource):
                followed = standin.followed(self.source.panel.panel, plan)
                if followed != self.source.panel.panel:
                    self.source.panel.take(followed)
                    self._keep_panel(followed)
            else:
                self._make_stand_in()
        elif self.source is None or not devices_same:
            if self.source is not None:
                self.source.close()
            self.source = PluggedSource(choose.inputs_of(None), hookup)
            self.listener = Listener()
        self._split()
        if self.proof is not None:
            self._reason_anew()

    def _make_stand_in(self, panel: PanelStandIn | None = None) -> None:
        assert self.plan is not None
        assert self._hookup is not None
        kept = panel or self._kept_panel() or standin.of(self.plan)
        self.source = StandInSource(SimulatedPanel(kept), self._hookup)
        self.listener = Listener()
        self._split()

    def _kept_panel(self) -> PanelStandIn | None:
        """The panel of the folder, if it is one of these devices."""
        assert self._hookup is not None
        try:
            kept = panels.load(self.folder)
        except Exception as bad:  # a spoilt stand-in must not stop the test
            self.told.emit(str(bad))
            return None
        if kept is None:
            return None
        mine = {(device.role, terminal.id) for device in self._hookup.devices for terminal in device.encoder.terminals}
        theirs = {(device.role, terminal.id) for device in kept.devices for terminal in device.terminals}
        return kept if mine == theirs else None

    def _split(self) -> None:
        """Two players in one device are told apart only with the quirk on the kernel line."""
        if not isinstance(self.source, StandInSource) or self._hookup is None:
            return
        given = words_given(" ".join(self.session.build.boot.kernel_words))
        stand_in = self.source.panel
        devices = []
        for each in stand_in.panel.devices:
            device = self._hookup.device(each.role)
            quirk = encoder_quirk(device.encoder) if device else ""
            devices.append(each.model_copy(update={"split": not quirk or quirk_given(quirk, given)}))
        if tuple(devices) != stand_in.panel.devices:
            stand_in.take(stand_in.panel.model_copy(update={"devices": tuple(devices)}))

    def _look_again(self) -> None:
        """See what is plugged in, in the background."""
        source = self.source
        if self._looking or not isinstance(source, PluggedSource):
            return
        self._looking = True
        inputs = choose.inputs_of(None)

        def done(seen: tuple[tuple[InputFacts, ...], tuple[str, ...]]) -> None:
            self._looking = False
            listed, barred = seen
            if self.source is source and self._timer.isActive():
                for words in source.attach(listed):
                    self.told.emit(words)
                if not source.roles and barred:
                    self.told.emit(
                        f"No permission to read {len(barred)} input devices, {barred[0]} included. "
                        "Add your user to the 'input' group, then log in again."
                    )
                elif not source.roles:
                    self.told.emit("No encoder from this build is connected. Plug one in and it shows up here.")
                self.changed.emit()

        self.session.ask_logbook(lambda _book: (inputs.list(), inputs.barred()), done)

    # --- a stand-in's switches ---------------------------------------------------------------------------------

    @property
    def stand_in(self) -> SimulatedPanel | None:
        return self.source.panel if isinstance(self.source, StandInSource) else None

    def press(self, switch: str) -> None:
        """Close a switch of the stand-in. Where three are asked for together it stays closed until the last."""
        panel = self.stand_in
        if panel is None:
            self.told.emit("Press it on the panel itself; the simulated panel can be chosen above.")
            return
        self._pressed = switch
        panel.press(switch)
        act = self.proof.current if self.proof is not None else None
        if act is not None and len(act) > 1 and switch in act:
            self._latched.add(switch)
            if self._latched >= set(act):
                QTimer.singleShot(120, self._let_go)
        self.poll()

    def release(self, switch: str) -> None:
        panel = self.stand_in
        if panel is not None and switch not in self._latched:
            panel.release(switch)

    def _let_go(self) -> None:
        panel = self.stand_in
        for switch in sorted(self._latched):
            if panel is not None:
                panel.release(switch)
        self._latched.clear()

    def miswire(self, count: int, seed: int) -> tuple[Fault, ...]:
        """Put so many faults into the stand-in that its user does not see."""
        if self.plan is None:
            return ()
        faults = standin.drawn(self.plan, count, seed)
        panel = standin.of(self.plan, faults, seed)
        self._keep_panel(panel)
        self._make_stand_in(panel)
        self.proof, self.diagnosis, self.faults = None, None, ()
        self.session.log(40, "Faults added to the simulated panel", f"{count} faults, drawn by {seed}")
        self.found.emit()
        return faults

    def set_right(self) -> None:
        """A stand-in whose wires are as the build says."""
        if self.plan is not None:
            self._make_stand_in(standin.of(self.plan))
            assert self.stand_in is not None
            self._keep_panel(self.stand_in.panel)
            self.proof, self.diagnosis, self.faults = None, None, ()
            self.found.emit()

    def _keep_panel(self, panel: PanelStandIn) -> None:
        folder = self.folder

        def keep(_book: object) -> None:
            folder.mkdir(exist_ok=True)
            panels.put(folder, panel)

        self.session.ask_logbook(keep, lambda _none: None)

    # --- listening ---------------------------------------------------------------------------------------------

    def poll(self) -> None:
        """Ask every device once."""
        source = self.source
        if source is None or self.plan is None:
            return
        heard = source.poll()
        for words in heard.said:
            self.told.emit(words)
        if heard.said:
            kept = frozenset(each for each in self.listener.active if each.role in source.roles)
            self.listener = replace(self.listener, active=kept)
        before = self.listener.active
        for role, event in heard.events:
            self._hear(role, event)
        if heard.events:
            fresh = sorted(self.listener.active - before)
            if fresh:
                pressed = self._pressed if self.stand_in is not None else ""
                self.last = followed(self.plan, fresh[-1], self.system, pressed)
        asking = self.proof is not None and self.proof.current is not None and not self.busy and not self._latched
        if asking and self.listener.ready(self._now()):
            self._answered()
        if heard.events or heard.said:
            self.changed.emit()

    def _now(self) -> float:
        return time.monotonic() if self.kind == STAND_IN else time.time()

    def _hear(self, role: str, event: InputEvent) -> None:
        self.listener = self.listener.heard(role, event)
        self.trace.heard(role, event)

    @property
    def held(self) -> frozenset[str]:
        """Switches that are closed, as the build's wires say."""
        if self.plan is None:
            return frozenset()
        return frozenset(own for report in self.listener.active if (own := owner_of(self.plan, report)))

    # --- the guided proof --------------------------------------------------------------------------------------

    def prove(self) -> None:
        """Start wiring test anew. What is active before the first press is kept as its rest."""
        if self.plan is None or not self.plan.switches or self.busy:
            return
        plan, rest = self.plan, self.listener.active
        self.diagnosis, self.faults, self.proof = None, (), None

        def done(reasoner: Reasoner) -> None:
            if self.plan is plan:
                self.proof = Proving(reasoner, rest=rest)
                self.listener = self.listener.asked()
            self._ready()

        self._think(lambda: _warm(Reasoner(plan)), done)

    def skip(self) -> None:
        if self.proof is not None and self.proof.current is not None:
            self.proof = self.proof.skip()
            self._asked_next()

    def again(self, act: Act) -> None:
        """Ask for one control once more."""
        if self.proof is not None and not self.busy:
            self.proof = self.proof.again(act)
            self.diagnosis, self.faults = None, ()
            self.listener = self.listener.asked()
            self.found.emit()

    def stop(self) -> None:
        """Leave the proof; what it heard is forgotten."""
        self.proof, self.diagnosis, self.faults = None, None, ()
        self._latched.clear()
        self.found.emit()

    def _answered(self) -> None:
        assert self.proof is not None
        self.proof = self.proof.answered(self.listener.answer)
        self._asked_next()

    def _asked_next(self) -> None:
        assert self.proof is not None
        self.listener = self.listener.asked()
        if self.proof.done:
            self._explain()
        self.found.emit()

    def _explain(self) -> None:
        proof = self.proof
        assert proof is not None

        def done(diagnosis: Diagnosis) -> None:
            if self.proof is proof and self.plan is not None:
                self.diagnosis = diagnosis
                self.faults = tuple(told(self.plan, fault) for fault in diagnosis.faults or ())
                self._keep_proof()
            self._ready()

        def stopped(_bad: KyklonError) -> None:
            self.told.emit("No clear answer yet: start the test again, or repeat one control")
            self._ready()

        self.busy = True
        self.session.jobs.start("Finding the faults", proof.explained, done, bad=stopped)
        self.found.emit()

    def _reason_anew(self) -> None:
        """The same answers against another plan: what is wrong now is what the new wires do not explain."""
        plan, proof = self.plan, self.proof
        assert plan is not None
        assert proof is not None

        def done(reasoner: Reasoner) -> None:
            if self.plan is plan and self.proof is proof:
                kept = [
                    (act, answer)
                    for act, answer in zip(proof.asked, proof.answers, strict=True)
                    if all(each in plan.wires for each in act)
                ]
                self.proof = replace(
                    proof,
                    reasoner=reasoner,
                    asked=tuple(act for act, _answer in kept),
                    answers=tuple(answer for _act, answer in kept),
                )
                self.diagnosis, self.faults = None, ()
                if self.proof.done:
                    self.busy = False
                    self._explain()
                    return
            self._ready()

        self._think(lambda: _warm(Reasoner(plan)), done)

    def _keep_proof(self) -> None:
        """Into the build and the log, with its date."""
        proof, plan = self.proof, self.plan
        assert proof is not None
        assert plan is not None
        clear = self.diagnosis is not None and self.diagnosis.faults is not None
        made = kept(proof, tuple(fault.title for fault in self.faults), fingerprint(plan.hookup), clear=clear)
        before = self.session.build.controls.proof
        if before is None or before.model_copy(update={"at": made.at}) != made:
            self.session.put("Wiring proven", edited(self.session.build, "controls.proof", made))
        detail = "; ".join(made.faults) or f"every switch is right, {made.presses} presses"
        self.session.log(40, "Wiring proven", detail)

    # --- cures -------------------------------------------------------------------------------------------------

    def moved(self, fault: Fault) -> None:
        """A hand has put it right: on the stand-in it is done; those switches are asked for again."""
        if self.plan is None or self.proof is None or self.busy:
            return
        panel = self.stand_in
        self.session.log(40, "Rewired by hand", told(self.plan, fault).title)
        if panel is not None:
            mended = standin.repaired(panel.panel, self.plan, (fault,))
            self._keep_panel(mended)
            panel.take(mended)
        touched = set(fault.controls) | set(ends_found(self.plan, (fault,)))
        seats = {control for control in fault.controls if "." not in control}
        kept = [
            (act, answer)
            for act, answer in zip(self.proof.asked, self.proof.answers, strict=True)
            if not (
                set(act) & touched
                or {each.partition(".")[0] for each in act} & seats
                or fault.kind in ("quirk", "ghost", "short", "stuck")
            )
        ]
        self.diagnosis, self.faults, self.busy = None, (), True
        proof = self.proof = replace(
            self.proof,
            asked=tuple(act for act, _answer in kept),
            answers=tuple(answer for _act, answer in kept),
            skipped=(),
        )

        def settled() -> None:
            if self.session.ended:
                return
            self.busy = False
            if self.proof is proof:
                self.proof = replace(proof, rest=self.listener.active)
                self.listener = self.listener.asked()
            self.found.emit()

        QTimer.singleShot(SETTLE_MS, settled)
        self.found.emit()

    def in_software(self, fault: Fault) -> None:
        """Take the wires as they are: the build says from now on where they really end."""
        if self.plan is None or self.diagnosis is None or self.diagnosis.faults is None or self.busy:
            return
        real = World(self.plan, self.diagnosis.faults).wires
        ends = {switch: real.get(switch) for switch in ends_found(self.plan, (fault,))}
        title = told(self.plan, fault).title
        self.session.put(f"Fixed in software: {title}", as_found(self.session.build, self.session.catalogue, ends))
        self.session.log(40, "Fixed in software", title)

    # --- the background ----------------------------------------------------------------------------------------

    def _think(self, work: Callable[[], Any], done: Callable[[Any], object]) -> None:
        self.busy = True
        self.session.ask_logbook(lambda _book: work(), done)
        self.found.emit()

    def _ready(self) -> None:
        self.busy = False
        self.found.emit()


def _warm(reasoner: Reasoner) -> Reasoner:
    """Work out its table in the background."""
    reasoner.next_act((), ())
    return reasoner
