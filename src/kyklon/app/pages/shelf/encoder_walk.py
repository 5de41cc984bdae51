"""Learning an encoder or controller by pressing: how its switches bounce, then which terminal sends what."""

from __future__ import annotations

import contextlib
from dataclasses import replace

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QLineEdit, QSpinBox, QWidget

from kyklon.app.pages.shelf.encoder_drawings import Histogram, TerminalBoard
from kyklon.app.pages.shelf.walk import Walk
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row
from kyklon.app.widgets.tick import Tick
from kyklon.base.errors import KyklonError
from kyklon.devices import choose
from kyklon.devices.ports import InputEvent, InputFacts, InputHandle, Inputs
from kyklon.parts import encoder
from kyklon.parts.draft import Draft

POLL_MS = 12  # how often the device is asked by the window


class EncoderWalk(Walk):
    kind = "encoders"
    title = "Learn an encoder or controller"
    first = "Choose the device. Then press one button thirty times, and press the switch at each terminal in turn."

    def make_side(self) -> QWidget:
        """Override."""
        self._inputs: Inputs | None = None
        self._facts: InputFacts | None = None
        self._handle: InputHandle | None = None
        self._stack = contextlib.ExitStack()
        self._events: list[InputEvent] = []
        self._measured: encoder.Measured | None = None
        self._terminals = encoder.Walk(())
        self._stage = ""
        self._timer = QTimer(self)
        self._timer.setInterval(POLL_MS)
        self._timer.timeout.connect(self._poll)
        self._device = Choice(self.theme, "Device", self._on_device)
        self._device.setMinimumContentsLength(24)
        self._count = QSpinBox()
        self._count.setRange(0, 24)
        self._count.setValue(8)
        self._count.setAccessibleName("Buttons of each player")
        self._count.valueChanged.connect(lambda _value: self._lay_out())
        self._seats = QSpinBox()
        self._seats.setRange(1, 4)
        self._seats.setAccessibleName("Players")
        self._seats.valueChanged.connect(lambda _value: self._lay_out())
        self._prints = QLineEdit()
        self._prints.setAccessibleName("Terminals as printed")
        self._prints.setPlaceholderText("as printed, comma-separated: 1U, 1D, 1L …")
        self._prints.editingFinished.connect(self._lay_out)
        source = Sheet("The device")
        seats, count = label("Players", "small"), label("Buttons each", "small")
        source.add(row(self._device, seats, self._seats, count, self._count, 1))
        pressing, walk = self._make_pressing(), self._make_walk()
        self._make_stand_in()
        side = QWidget()
        layout = column(source, pressing, walk, self._standin, spacing=10)
        layout.setStretch(2, 1)
        side.setLayout(layout)
        side.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._look()
        return side

    def _make_pressing(self) -> Sheet:
        self._bounce = Histogram(self.theme, "Bounce", "press one button thirty times")
        self._report = Histogram(self.theme, "Report interval, ms", "measured from the same presses")
        self._measure = button("Measure a button", self._on_measure)
        pressing = Sheet("Thirty presses")
        self._pressing = pressing
        pressing.add(row(self._measure, self._bounce, self._report, spacing=14))
        return pressing

    def _make_walk(self) -> Sheet:
        self.board = TerminalBoard(self.theme, "Terminals")
        self.board.pressed.connect(self._on_again)
        self._begin = button("Start terminal test", self._on_begin, "outline")
        self._skip = button("Skip", self._on_skip)
        self._ask_words = label("", "strong")
        walk = Sheet("Terminals", "in any order: click the one you press next")
        bar = row(self._begin, self._skip, self._ask_words, self._prints)
        bar.setStretch(2, 1)
        bar.setStretch(3, 3)
        walk.add(bar, self.board)
        walk.body.setStretch(1, 1)
        self._quirk = Tick("Two players share the device: write the quirk")
        self._why = label("", "small", wrap=True)
        walk.add(self._quirk, self._why)
        return walk

    def _make_stand_in(self) -> None:
        self._bench = TerminalBoard(self.theme, "The simulated encoder's switches", small=True)
        self._bench.pressed.connect(lambda each: self._press(each, closes=True))
        self._bench.released.connect(lambda each: self._press(each, closes=False))
        self._standin = Sheet("Simulated: press its switches here", "instead of a connected device")
        self._standin.add(self._bench)

    def _look(self) -> None:
        """List what is plugged in, in the background."""
        folder = self.session.folder

        def work(_book: object) -> tuple[Inputs, tuple[InputFacts, ...]]:
            inputs = choose.inputs_of(folder)
            return inputs, inputs.list()

        def done(found: tuple[Inputs, tuple[InputFacts, ...]]) -> None:
            self._inputs, listed = found
            self._listed = listed
            rows = tuple((each.identity, f"{each.name} ({each.vendor:04x}:{each.product:04x})") for each in listed)
            self._device.set_choices(
                (
                    (
                        "",
                        f"{len(rows)} at {found[0].called}: choose"
                        if rows
                        else "nothing is connected, or there is no permission to read it",
                    ),
                    *rows,
                ),
                "",
            )

        self.session.ask_logbook(work, done)

    _listed: tuple[InputFacts, ...] = ()

    def choose_device(self, identity: str) -> None:
        """Open a device and take what it says of itself."""
        self._device.setCurrentIndex(max(0, self._device.findData(identity)))
        self._on_device(identity)

    def _on_device(self, identity: str) -> None:
        facts = next((each for each in self._listed if each.identity == identity), None)
        if facts is None or self._inputs is None:
            return
        self._stack.close()
        try:
            self._handle = self._stack.enter_context(self._inputs.open(identity))
        except KyklonError as bad:
            self._say(str(bad))
            return
        self._facts, self._events, self._measured, self._stage = facts, [], None, ""
        guess = encoder.players_in(facts)
        for box, value in (
            (self._seats, guess.count),
            (self._count, max(1, min(24, round(len(facts.buttons) / guess.count)))),
        ):
            box.blockSignals(True)
            box.setValue(value)
            box.blockSignals(False)
        self._timer.start()
        self._name.setModified(False)
        self._terminals = encoder.Walk(encoder.stops_for(self._seats.value(), self._count.value()))
        self.take(encoder.from_facts(facts))

    def _lay_out(self) -> None:
        """The terminals anew; those that have another print, or are in another number, are asked again."""
        names = [word.strip()[:12] for word in self._prints.text().split(",") if word.strip()][:200]
        stops = encoder.stops_for(self._seats.value(), self._count.value(), names)
        if [stop.printed for stop in stops] == [stop.printed for stop in self._terminals.stops]:
            return
        self._terminals = encoder.Walk(stops, resting=self._terminals.resting)
        self._stage = ""
        self._show()

    # --- listening -----------------------------------------------------------------------------------------------

    def _poll(self) -> None:
        if self._handle is None:
            return
        try:
            came = self._handle.waiting()
        except KyklonError as bad:
            self._timer.stop()
            self._say(str(bad))
            return
        if not came:
            return
        if self._stage == "measure":
            self._events += came
            self._measured = encoder.measured(self._events)
            if self._measured.enough:
                self._stage = ""
                if self.draft is not None:
                    self.draft = encoder.with_presses(self.draft, self._measured)
        elif self._stage == "walk":
            for event in came:
                self._terminals = self._terminals.heard(event)
        else:
            self._terminals = self._terminals.listening(came)
        self._show()

    def _on_measure(self) -> None:
        self._stage = "" if self._stage == "measure" else "measure"
        self._events, self._measured = [], None
        self._show()

    def _on_begin(self) -> None:
        self._stage = "" if self._stage == "walk" else "walk"
        self._show()

    def _on_skip(self) -> None:
        self._terminals = self._terminals.skip()
        self._show()

    def _on_again(self, stop_id: str) -> None:
        self._terminals = self._terminals.again(stop_id)
        self._stage = "walk"
        self._show()

    def _press(self, switch_id: str, *, closes: bool) -> None:
        handle = self._handle
        act = getattr(handle, "press" if closes else "release", None)
        if act is not None:
            act(switch_id)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override: a keyboard encoder's keys are not for the window while it is learnt."""
        if self._stage:
            event.accept()
        else:
            super().keyPressEvent(event)

    # --- showing -------------------------------------------------------------------------------------------------

    def show_draft(self, draft: Draft | None) -> None:
        """Override."""
        told = self._measured
        self._measure.setEnabled(self._handle is not None)
        self._measure.setText("Stop" if self._stage == "measure" else "Measure a button")
        count = len(told.presses) if told else 0
        self._pressing.set_note(
            f"{count} of {encoder.PRESSES}" + ("; enough" if told and told.enough else "; press it and hold it briefly")
            if self._stage == "measure" or count
            else "any one button"
        )
        bounce = f"longest {told.longest_ms:.1f}\u202fms" if told and told.presses else ""
        if told and told.presses and not told.longest_ms:
            bounce = "none seen: shorter than one report"
        self._bounce.show_values(told.bounces if told else (), bounce)
        interval = (
            f"every {told.interval_ms:g}\u202fms"
            if told and told.interval_ms
            else "no steady step yet"
            if told and told.gaps
            else ""
        )
        self._report.show_values(told.gaps if told else (), interval)
        walk = self._terminals
        self._begin.setEnabled(self._handle is not None)
        self._begin.setText(
            "Pause the terminal test"
            if self._stage == "walk"
            else "Start terminal test"
            if not any(stop.event for stop in walk.stops)
            else "Resume the terminal test"
        )
        self._skip.setEnabled(self._stage == "walk" and walk.current is not None)
        self._ask_words.setText(walk.ask if self._stage == "walk" else "")
        self._ask_words.setVisible(self._stage == "walk")
        self._prints.setVisible(self._stage != "walk")
        tabs = []
        for each in walk.stops if self._facts else ():
            state = (
                "asked"
                if self._stage == "walk" and each is walk.current
                else "skipped"
                if each.skipped
                else "known"
                if each.event
                else ""
            )
            tabs.append((each.id, each.printed, each.event, state))
        self.board.show_tabs(tuple(tabs))
        self._show_quirk()
        device = getattr(self._handle, "device", None)
        self._standin.setVisible(device is not None and hasattr(device, "switches"))
        if device is not None and hasattr(device, "switches"):
            self._bench.show_tabs(tuple((switch.id, switch.printed, "", "") for switch in device.switches))

    def _show_quirk(self) -> None:
        proposal = encoder.quirk_for(self._terminals, self._facts) if self._facts else encoder.Proposal()
        self._quirk.setVisible(bool(proposal.flags))
        odd = (*self._terminals.stuck, *self._terminals.odd) if self._stage == "walk" or self._terminals.odd else ()
        odd = tuple(each for each in odd if not proposal.flags or "and so does" not in each)
        words = [proposal.why] if proposal.flags else []
        self._why.setText(" ".join([*words, *(f"{each}." for each in odd[-2:])]))
        self._why.setVisible(bool(self._why.text()))

    def ready(self) -> Draft:
        """Override. Raises ValueError while no terminal is known."""
        assert self.draft is not None
        if self._facts is None or not any(stop.event for stop in self._terminals.stops):
            raise ValueError("No terminal known yet: start the terminal test")
        proposal = encoder.quirk_for(self._terminals, self._facts)
        if not self._quirk.isChecked():
            proposal = replace(proposal, flags=0)
        return encoder.finished(self.draft, self._terminals, proposal, self._measured).agreed()

    def end(self) -> None:
        """Override."""
        self._timer.stop()
        self._stack.close()
        self._handle = None
