"""Operation 90: the bring-up as a time line beside the simulated screen; the first-boot checklist."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QGridLayout, QScrollArea, QWidget

from kyklon.app.pages.page import OperationPage
from kyklon.app.pages.poweron.sim_screen import SimScreen
from kyklon.app.pages.poweron.time_line import TimeLine
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import (
    Sheet,
    button,
    column,
    label,
    line_pitch,
    row,
    scrolled,
    set_role,
    set_tip,
    unmarked,
)
from kyklon.app.widgets.instrument import Instrument
from kyklon.catalogue.records import Display, Image
from kyklon.model.findings import Remedy
from kyklon.operations.poweron.checklist import items
from kyklon.operations.poweron.comparison import compare, first_difference
from kyklon.operations.poweron.events import PUT_ON_CARD, BringUp, Failure
from kyklon.operations.registry import operation


class PowerOnPage(OperationPage):
    number = 90
    remedy_asked = pyqtSignal(object, str)  # Remedy, title
    operation_asked = pyqtSignal(int)  # where a failure without a remedy is put right
    cautions = ("A picture that rolls or a tube that whines: switch off at once.",)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._line, self._screen = TimeLine(self.theme), SimScreen(self.theme)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self._line)
        self._time_sheet = Sheet("What will happen", "from the bytes on the card")
        self._time_sheet.add(scroll)
        screen = Sheet("The screen")
        screen.add(self._screen)
        self._title, self._cause = label("", "strong", wrap=True), label("", wrap=True)
        self._remedy = button("", self._on_remedy_clicked, "primary")
        self._later = label("", "small", wrap=True)
        self._outcome = Sheet("Outcome")
        self._later.setAlignment(Qt.AlignmentFlag.AlignTop)
        later = scrolled(self._later, lambda: line_pitch(self._later))
        self._outcome.add(self._title, self._cause, self._remedy, later)
        side = column(screen, self._outcome, spacing=14)
        side.setStretch(0, 1)
        checks = Sheet("First boot", "tick what you see; every tick is logged")
        self._checks = QGridLayout()
        self._checks.setVerticalSpacing(4)
        self._checks.setContentsMargins(0, 0, 0, 0)
        holder = QWidget()
        holder.setLayout(self._checks)
        check_scroll = QScrollArea()
        check_scroll.setWidgetResizable(True)
        check_scroll.setWidget(holder)
        check_scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        checks.add(check_scroll)
        checks.setMinimumHeight(round(self.theme.px(172)))
        upper = row(self._time_sheet, side, spacing=14)
        screen.setFixedWidth(round(self.theme.px(266)))
        self._outcome.setFixedWidth(round(self.theme.px(266)))
        self.body.addLayout(upper, 8)
        self.body.addWidget(checks, 3)
        self._boxes: dict[str, QCheckBox] = {}

    def instrument(self) -> Instrument | None:
        """Override."""
        return self._line

    @property
    def remedy_button(self) -> QWidget:
        return self._remedy

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        session = self.session
        run = session.bring_up
        display = session.catalogue.find(Display, session.build.part("display"))
        aspect = display.aspect[0] / display.aspect[1] if display else 4 / 3
        before = session.bring_up_before
        self._line.show_run(run, before)
        parted = first_difference(compare(before, run)) if before and run else None
        note = f"marked: not as in the run before, from {parted.stage} on" if parted else ""
        self._time_sheet.set_note(note or "from the bytes on the card")
        lamp = run.events[-1].lamp if run and run.events else None
        self._screen.show_screen(run.screen if run else None, lamp, aspect)
        if run is None:
            self.set_subject("not run yet")
            self._show_outcome("Nothing predicted yet", "Run the bring-up: it changes nothing.", "Run bring-up", "")
        else:
            self._show_run(run)
        self._show_checks()

    def _show_run(self, run: BringUp) -> None:
        stale = "" if self.session.bring_up_current else "The build has changed since; run it again. "
        self.set_subject(f"{stale}Reached: {run.reached}")
        failure = run.failure
        if failure is None:
            again = f" Later starts take about {run.again_s:.0f}\u202fs." if run.again_s else ""
            self._show_outcome("It reaches the front end", stale + self._listed(run) + again, "Run again",
                               "\n".join(self._assumed(run)), good=True)  # fmt: skip
            return
        words = self._words(failure)
        later = "\n".join((*(f"Then: {each.cause}" for each in run.failures[1:]), *self._assumed(run)))
        cause = failure.cause if failure.remedy else f"{failure.cause} {failure.advice}."
        self._show_outcome(f"Fails at {failure.stage}", stale + cause, words, later)

    def _assumed(self, run: BringUp) -> tuple[str, ...]:
        return tuple(f"Assumed: {words}" for words in run.assumed)

    def _listed(self, run: BringUp) -> str:
        count = sum(map(len, run.games.values()))
        if count:
            return f"{count} games for {len(run.games)} systems are listed."
        image = self.session.catalogue.find(Image, self.session.build.part("image"))
        if image is not None and not image.has_system:
            return f"The list offers {', '.join(run.screen.lines)}." if run.screen.lines else run.events[-1].text
        return "No games are on the machine yet."

    def _words(self, failure: Failure) -> str:
        if not self.session.bring_up_current:
            return "Run again"
        if failure.remedy is None:
            return f"Go to {operation(failure.operation).name}" if failure.operation else "Run again"
        if failure.remedy == PUT_ON_CARD or not failure.remedy.changes:
            return failure.remedy.label
        return f"Preview: {failure.remedy.label}"

    def _show_outcome(self, title: str, cause: str, words: str, later: str, *, good: bool = False) -> None:
        self._title.setText(title)
        failed = self.session.bring_up is not None and not good
        set_role(self._title, "good" if good else "stop" if failed else "strong")
        self._cause.setText(cause)
        self._remedy.setText(words)
        self._later.setText(later)
        self._later.setVisible(bool(later))

    def _show_checks(self) -> None:
        ticked = {tick.item: tick.at for tick in self.session.build.ticks}
        wanted = items(self.session.build, self.session.catalogue)
        if list(self._boxes) != [item.key for item in wanted]:
            self._make_checks()
        for item in wanted:
            tick = self._boxes[item.key]
            tick.setChecked(item.key in ticked)
            when = f"   {ticked[item.key][11:16]}" if item.key in ticked else ""
            tick.setText(item.look + when)

    def _make_checks(self) -> None:
        while self._checks.count():
            entry = self._checks.takeAt(0)
            if entry.widget():
                entry.widget().hide()
                entry.widget().deleteLater()
        self._boxes = {}
        wanted = items(self.session.build, self.session.catalogue)
        for index, item in enumerate(wanted):
            tick = QCheckBox(unmarked(item.look))
            set_tip(tick, f"If not: {item.otherwise}")
            tick.clicked.connect(lambda on, item=item: self.session.tick(item.key, item.look, on=on))
            self._boxes[item.key] = tick
            half = (len(wanted) + 1) // 2 if self.theme.scale < 1.2 else len(wanted)
            self._checks.addWidget(tick, index % half, index // half)

    # --- acting --------------------------------------------------------------------------------------------------

    def _on_remedy_clicked(self) -> None:
        run = self.session.bring_up
        failure = run.failure if run else None
        if failure is None or not self.session.bring_up_current:
            self.session.run_bring_up()
            return
        if failure.remedy is None:
            self.operation_asked.emit(failure.operation)
            return
        self._offer(failure.remedy, failure)

    def _offer(self, remedy: Remedy, failure: Failure) -> None:
        self.remedy_asked.emit(remedy, failure.cause)
