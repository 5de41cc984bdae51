"""The live test: press and follow the path to the game; prove every wire, and put right what is not."""

from __future__ import annotations

import random

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QStackedWidget, QTabBar, QWidget

from kyklon.app.pages.controls.bench import BenchView
from kyklon.app.pages.controls.chain_view import ChainView, Lit
from kyklon.app.pages.controls.live_bench import PLUGGED, STAND_IN, LiveBench
from kyklon.app.pages.controls.rose_view import RoseView
from kyklon.app.pages.controls.table_drawing import Shown
from kyklon.app.pages.controls.table_view import TableView
from kyklon.app.pages.shelf.encoder_drawings import Histogram
from kyklon.app.pages.tab_view import side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row, scrolled, set_role
from kyklon.app.widgets.kept import Kept, Make
from kyklon.base.errors import KyklonError
from kyklon.base.quantities import counted
from kyklon.model.controls import AxisLimits
from kyklon.operations.controls import findings
from kyklon.operations.controls.fault_words import FaultWords, name_of
from kyklon.operations.controls.faulty import Fault, World
from kyklon.operations.controls.levers import Rose, judged
from kyklon.operations.controls.mapping import paths
from kyklon.operations.controls.proof import Session as Proving
from kyklon.parts.encoder import measured

_SEEN_MS = 300  # between two looks at what the presses measured
_FRAME_MS = 16  # a frame: events that come within one are drawn together


class LiveView(BenchView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.bench = LiveBench(session)
        self.bench.changed.connect(self._on_changed)
        self.bench.found.connect(self._show_proof)
        self.bench.told.connect(session.said)
        self._seed = random.SystemRandom()
        self.view = TableView(self.theme, "The panel; press a control", label="Choose a panel and an encoder first.")
        self.instrument = self.view
        self.view.pressed.connect(self.bench.press)
        self.view.released.connect(self.bench.release)
        self.chain = ChainView(self.theme)
        self._source = Choice(self.theme, "Input from", self.bench.choose)
        self._source.set_choices(((STAND_IN, "the simulated panel"), (PLUGGED, "connected devices")), self.bench.kind)
        self._source.setMinimumContentsLength(15)
        self._system = Choice(self.theme, "As in", lambda _value: self.refresh())
        self._system.setMinimumContentsLength(11)
        self.begin = button("Start wiring test", self.bench.prove, "outline")
        self.skip = button("Skip", self.bench.skip, tip="Skip this control; it stays untested")
        self.stop = button("Stop test", self.bench.stop, "quiet")
        self._ask = label("", "strong", wrap=True)
        sheet = Sheet("Live test", "press a control: its path lights up")
        sheet.add(row(label("Input from", "small"), self._source, label("as in", "small"), self._system, 1), self.view)
        sheet.body.setStretch(1, 1)
        self._stack = QStackedWidget()
        self._stack.addWidget(self._make_proof())
        self._stack.addWidget(self._make_seen())
        self._tabs = QTabBar()
        self._tabs.setAccessibleName("Views beside the panel")
        self._tabs.setDrawBase(False)
        self._tabs.addTab("Wiring test")
        self._tabs.addTab("Inputs seen")
        self._tabs.currentChanged.connect(self._stack.setCurrentIndex)
        side = QWidget()
        side.setLayout(column(row(self._tabs, 1), self._stack, spacing=6))
        side.layout().setStretch(1, 1)
        side.setFixedWidth(side_px(self.theme))
        path = Sheet()
        path.add(self.chain)
        upper = row(sheet, side, spacing=14)
        upper.setStretch(0, 1)
        self.setLayout(column(upper, path, spacing=12))
        self.layout().setStretch(0, 1)
        self._frame, self._seen = QTimer(self), QTimer(self)
        self._frame.setSingleShot(True)
        self._frame.timeout.connect(self._draw)
        self._seen.setInterval(_SEEN_MS)
        self._seen.timeout.connect(self._show_seen)

    def _make_proof(self) -> Sheet:
        self._proof = Sheet("Guided", " ")
        self._hint = label("", "muted", wrap=True)
        rows = column(spacing=8)
        self._kept = Kept[QWidget](rows)
        holder = QWidget()
        holder.setLayout(column(rows, 1))
        self._count = Choice(self.theme, "Faults to add", lambda _value: None)
        self._count.setMinimumContentsLength(7)
        self._count.set_choices((("1", "1 fault"), ("2", "2 faults"), ("3", "3 faults")), "2")
        self.miswire = button("Add faults", self._on_miswire, tip="Practice: adds hidden faults for you to find")
        self.right = button("Remove faults", self.bench.set_right, "quiet")
        self._practice = QWidget()
        practice = row(self._count, self.miswire, 1, spacing=6)
        self._practice.setLayout(
            column(label("Practice on the simulated panel", "small"), practice, row(self.right, 1), spacing=4)
        )
        acts = row(self.begin, self.skip, self.stop, 1, spacing=6)
        self._proof.add(acts, self._ask, self._hint, scrolled(holder), self._practice)
        self._proof.body.setStretch(3, 1)
        return self._proof

    def _make_seen(self) -> Sheet:
        self._bounce = Histogram(self.theme, "Bounce", "press one button many times")
        self._report = Histogram(self.theme, "Report interval, ms", "comes with it")
        self._rose = RoseView(self.theme)
        self._axis = label("", "small", wrap=True)
        self.keep = button(
            "Save axis ranges", self._on_keep, "quiet", tip="Saves the measured ends and centre for the export"
        )
        seen = Sheet("From the presses")
        seen.add(self._bounce, self._report, self._rose, self._axis, row(self.keep, 1))
        seen.body.setStretch(2, 1)
        return seen

    # --- showing -----------------------------------------------------------------------------------------------

    def shown(self) -> None:
        """Override."""
        self.bench.begin()
        self._seen.start()

    def hidden(self) -> None:
        """Override."""
        self.bench.rest()
        self._seen.stop()

    def refresh(self) -> None:
        """Override."""
        systems = self.systems
        self._system.set_choices(
            tuple((system.id, system.name) for system in systems),
            self._system.value or (systems[0].id if systems else ""),
        )
        self.bench.system = next((system for system in systems if system.id == self._system.value), None)
        self.bench.refresh()
        self._show_table()
        self._show_proof()

    def _show_table(self) -> None:
        hookup = self.hookup
        if hookup is None:
            self.view.show_table(Shown(layout=self.layout_now))
            return
        tags = {path.control: " / ".join(path.inputs) for path in paths(hookup, self.bench.system) if path.inputs}
        self.view.show_table(
            Shown(layout=hookup.layout, tags=tags, wired=frozenset(hookup.wired), marks=self._marks(self.bench.proof))
        )

    def _marks(self, proof: Proving | None) -> dict[str, str]:
        """What the proof says of each switch so far."""
        if proof is None or self.bench.plan is None:
            return {}
        marks = {act[0]: "skipped" for act in proof.skipped if len(act) == 1}
        right = World(self.bench.plan).answers(proof.asked)
        for act, answer, wanted in zip(proof.asked, proof.answers, right, strict=True):
            if len(act) == 1:
                marks[act[0]] = "right" if answer == wanted else "wrong"
        if not self.bench.busy:
            marks |= dict.fromkeys(proof.current or (), "asked")
        return marks

    def _on_changed(self) -> None:
        if not self._frame.isActive():
            self._frame.start(0)

    def _draw(self) -> None:
        self.view.hold(self.bench.held)
        last = self.bench.last
        self.chain.light(Lit(last.control, last.words, last.wrong) if last else None)

    def _show_proof(self) -> None:
        bench, proof, hookup = self.bench, self.bench.proof, self.hookup
        asking = proof is not None and proof.current is not None and not bench.busy
        self.begin.setText("Start again" if proof is not None else "Start wiring test")
        self.begin.setEnabled(hookup is not None and bool(hookup.wired) and not bench.busy)
        self.skip.setVisible(asking)
        self.stop.setVisible(proof is not None)
        self._practice.setVisible(bench.kind == STAND_IN)
        self.view.takes_keys = bench.kind == STAND_IN
        self._show_ask()
        self._show_faults()
        self._show_table()

    def _show_ask(self) -> None:
        bench, proof, hookup = self.bench, self.bench.proof, self.hookup
        words, role = "", "strong"
        if proof is not None and hookup is not None and not bench.busy and (act := proof.current) is not None:
            names = [name_of(hookup, each) for each in act]
            done, every = len(proof.asked) + len(proof.skipped), len(proof.reasoner.acts)
            left = every - done
            if len(act) > 1:
                words = f"Hold {names[0]} and {names[1]}, then press {names[2]} too, and let go."
            else:
                push = "Push" if hookup.layout.switches and _is_way(act[0]) else "Press"
                words = f"{push} {names[0]} once."
            words += f"   {done + 1} of {every}, about {max(1, round(left * 2 / 10) * 10)}\u202fs to go"
        self._ask.setText(words)
        self._ask.setVisible(bool(words))
        set_role(self._ask, role)

    def _show_faults(self) -> None:
        bench, proof = self.bench, self.bench.proof
        hint, note = self._hint_now()
        self._hint.setText(hint)
        self._hint.setVisible(bool(hint))
        self._proof.set_note(note)
        rows: list[tuple[object, Make]] = [(each, lambda each=each: self._fault_row(each)) for each in bench.faults]
        if bench.diagnosis is not None and bench.diagnosis.faults is None and proof is not None:
            for words in bench.diagnosis.unexplained[:8]:
                act = tuple(words.split(" and "))
                rows.append(
                    (words, lambda words=words, act=act: button(f"{words}: ask again", lambda: bench.again(act)))
                )
        self._kept.show(rows)

    def _fault_row(self, each: FaultWords) -> QWidget:
        box, acts, fault = QWidget(), row(spacing=6), each.fault
        if fault.kind == "quirk":
            acts.addWidget(button("Add the quirk", lambda: self._on_quirk(fault.detail)))
        else:
            tip = "I rewired it: test these switches again"
            acts.addWidget(button("Fixed", lambda: self._on_moved(fault), "outline", tip=tip))
        if fault.kind != "quirk" and each.software:
            tip = "Leaves the wires alone and changes the mapping"
            acts.addWidget(button("Fix in software", lambda: self.bench.in_software(fault), tip=tip))
        acts.addStretch(1)
        title, cure = label(f"{each.title}.", "strong", wrap=True), label(f"{each.cure}.", "small", wrap=True)
        box.setLayout(column(title, cure, acts, spacing=3))
        return box

    def _hint_now(self) -> tuple[str, str]:
        """What the proof says in a sentence, and beside its heading."""
        bench, proof, told = self.bench, self.bench.proof, self.settings.proof
        if self.hookup is None:
            return "Choose an encoder under Wiring first.", ""
        if bench.busy:
            return "Thinking …", ""
        if proof is None:
            if told is not None and told.wiring == findings.fingerprint(self.hookup):
                was = "; ".join(told.faults) or f"every switch right, {told.presses} presses"
                return f"Proven on {told.at[:10]} at {told.at[11:16]}: {was}.", ""
            return "The wiring test asks for each control once and works out which wires are wrong.", ""
        if proof.current is not None:
            wrong = sum(mark == "wrong" for mark in self._marks(proof).values())
            return "", f"{len(proof.asked)} of {len(proof.reasoner.acts)} tested, {wrong} not as wired"
        if bench.diagnosis is None:
            return "", ""
        if bench.diagnosis.right:
            skipped = f", {len(proof.skipped)} skipped" if proof.skipped else ""
            return f"Every switch does what it should: {sum(map(len, proof.asked))} presses{skipped}.", "right"
        if bench.diagnosis.faults is None:
            return "No set of up to five faults explains these presses. Repeat:", "not clear"
        others = len(bench.diagnosis.others)
        more = f" {counted(others, 'other explanation')} would fit too, less likely." if others else ""
        return f"Correct them one by one, in wire or in software.{more}", f"{len(bench.faults)} found"

    def _show_seen(self) -> None:
        seen = measured(self.bench.trace.last_events)
        hookup = self.hookup
        self._bounce.show_values(seen.bounces[-60:], f"longest {seen.longest_ms:.1f}\u202fms" if seen.presses else "")
        per = f"every {seen.interval_ms:g}\u202fms" if seen.interval_ms else "so far"
        self._report.show_values(seen.gaps[-200:], per if seen.gaps else "")
        place = self.bench.trace.lever
        rose = self.bench.trace.roses.get(place, Rose())
        levers = {
            c.ways for seat in (hookup.layout.seats if hookup else ()) for c in seat.controls if c.kind == "lever"
        }
        self._rose.show_rose(rose, rose.words(4 if levers == {4} else 8))
        told = [self._axis_words(limit) for limit in self._limits() if limit.device == place.partition(" ")[0]]
        self._axis.setText("   ".join(told[:2]))
        self.keep.setEnabled(bool(self._limits()))

    def _axis_words(self, limits: AxisLimits) -> str:
        hookup = self.hookup
        device = hookup.device(limits.device) if hookup else None
        bad = judged(limits, device.encoder.axis if device else None)
        return f"{limits.axis}: {limits.low} to {limits.high}, centre {limits.rest}" + (f": {bad}" if bad else "")

    def _limits(self) -> tuple[AxisLimits, ...]:
        return tuple(limits for axis in self.bench.trace.axes.values() if (limits := axis.limits) is not None)

    # --- acting ------------------------------------------------------------------------------------------------

    def _on_miswire(self) -> None:
        count = int(self._count.value)
        try:
            count = len(self.bench.miswire(count, self._seed.randrange(1, 1 << 30)))
        except KyklonError as bad:
            self.session.said.emit(str(bad))
            return
        self.session.said.emit(f"{counted(count, 'fault')} added to the simulated panel; test it")

    def _on_moved(self, fault: Fault) -> None:
        self.bench.moved(fault)

    def _on_quirk(self, role: str) -> None:
        hookup = self.hookup
        device = hookup.device(role) if hookup else None
        if device is not None:
            remedy = findings.quirk_remedy(self.session.build, device.encoder)
            if remedy is None:
                self.session.said.emit(
                    "The kernel command line already has four USB quirks; the kernel reads no more than four."
                )
                return
            self.session.apply_remedy(remedy, remedy.label)
            self.bench.moved(Fault("quirk", (), role))

    def _on_keep(self) -> None:
        limits = self._limits()
        kept = {(each.device, each.axis): each for each in (*self.settings.axes, *limits)}
        self.put("Axis ranges saved", axes=tuple(kept.values()))
        told = "; ".join(self._axis_words(limit) for limit in limits)
        self.session.log(40, "Measured axis ranges", told)
        self.session.said.emit(f"{len(limits)} axis ranges saved")


def _is_way(switch: str) -> bool:
    return switch.rpartition(".")[2].rpartition("-")[2] in ("up", "down", "left", "right")
