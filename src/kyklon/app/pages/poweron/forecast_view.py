"""The forecast: a time line beside the simulated screen; or two forecasts side by side."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QStackedWidget, QWidget

from kyklon.app.pages.poweron.side_drawing import SideBySide
from kyklon.app.pages.poweron.sim_screen import SimScreen
from kyklon.app.pages.poweron.time_line import TimeLine
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, line_pitch, row, scrolled, set_role
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import counted
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.records import Display
from kyklon.operations.poweron.events import PUT_ON_CARD, BringUp, Failure
from kyklon.operations.poweron.side_by_side import lay, of_forecast, parted
from kyklon.operations.registry import operation


class ForecastView(QWidget):
    remedy_asked = pyqtSignal(object, str)  # Remedy, title
    operation_asked = pyqtSignal(int)  # where a failure without a remedy is put right

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.theme = session, session.theme
        self._line, self._screen, self._sides = TimeLine(self.theme), SimScreen(self.theme), SideBySide(self.theme)
        self._wanted = "alone"  # what is to stand beside it, once it is there
        self._time_sheet = Sheet("What will happen", "from the card")
        self._beside = Choice(self.theme, "Compare with", self._on_beside_chosen)
        self._beside.setMinimumContentsLength(13)
        self._time_sheet.head.addWidget(self._beside)
        self._stack = QStackedWidget()
        self._stack.addWidget(scrolled(self._line))
        self._stack.addWidget(scrolled(self._sides))
        self._time_sheet.add(self._stack)
        screen = Sheet("The screen")
        screen.add(self._screen)
        self._title, self._cause = label("", "strong", wrap=True), label("", wrap=True)
        self._remedy = button("", self._on_remedy_clicked, "primary")
        self._later = label("", "small", wrap=True)
        self._later.setAlignment(Qt.AlignmentFlag.AlignTop)
        outcome = Sheet("Outcome")
        outcome.add(self._title, self._cause, self._remedy, scrolled(self._later, lambda: line_pitch(self._later)))
        side = column(screen, outcome, spacing=14)
        side.setStretch(0, 1)
        side.setStretch(1, 1)
        for sheet in (screen, outcome):
            sheet.setFixedWidth(round(self.theme.px(290)))
        self.setLayout(row(self._time_sheet, side, spacing=14))

    @property
    def instrument(self) -> Instrument:
        return self._line if self._stack.currentIndex() == 0 else self._sides

    @property
    def remedy_button(self) -> QWidget:
        return self._remedy

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the bring-up as it is now."""
        session = self.session
        run, before = session.bring_up, session.bring_up_before
        display = session.catalogue.find(Display, session.build.part("display"))
        aspect = display.aspect[0] / display.aspect[1] if display else 4 / 3
        self._show_choices()
        self._line.show_run(run, before)
        lamp = run.events[-1].lamp if run and run.events else None
        sound = run.sound if run and not any(failure.blocks for failure in run.failures) else ""
        self._screen.show_screen(run.screen if run else None, lamp, aspect, sound)
        self._show_sides(run)
        if run is None:
            self._show_outcome("Nothing predicted yet", "Run the bring-up: it changes nothing.", "Run bring-up", "")
        else:
            self._show_run(run)

    def _show_choices(self) -> None:
        choices = [("alone", "Compare with nothing")]
        choices += [("before", "Previous run")] if self.session.bring_up_before else []
        other = self.session.other_bring_up
        choices += [("other", f"Compared with {other[0]}")] if other else []
        keys = [key for key, _words in choices]
        chosen = self._wanted if self._wanted in keys else "alone"
        self._beside.set_choices((*choices, ("file", "Compare with another card or image…")), chosen)
        self._beside.setVisible(self.session.bring_up is not None)

    def _show_sides(self, run: BringUp | None) -> None:
        """Two forecasts, where another is chosen."""
        session, which = self.session, self._beside.value
        pairs = {"before": session.bring_up_before, "other": session.other_bring_up and session.other_bring_up[1]}
        other = pairs.get(which)
        self._stack.setCurrentIndex(1 if run is not None and other is not None else 0)
        note = "from the card"
        if run is not None and other is not None:
            ours, theirs = (
                of_forecast(run, session.school, "Now"),
                of_forecast(other, session.school, self._beside.currentText()),
            )
            pair = (theirs, ours) if which == "before" else (ours, theirs)
            rows = lay(*pair)
            self._sides.show_rows(rows, (pair[0].title, pair[1].title))
            first = parted(rows)
            note = f"first difference: {first.stage}" if first else "no difference"
        elif run is not None and session.bring_up_before is not None:
            sides = [of_forecast(each, session.school) for each in (session.bring_up_before, run)]
            first = parted(lay(*sides))
            note = f"marked: differs from {first.stage} on" if first else note
        self._time_sheet.set_note(note)

    def _show_run(self, run: BringUp) -> None:
        stale = "" if self.session.bring_up_current else "The build has changed since; run it again. "
        failure = run.failure
        if failure is None:
            again = f" Later boots take about {run.again_s:.0f} s." if run.again_s else ""
            self._show_outcome(
                "It reaches the front end",
                stale + self._listed(run) + again,
                "Run again",
                "\n".join(_assumed(run)),
                good=True,
            )
            return
        later = "\n".join((*(f"Then: {each.cause}" for each in run.failures[1:]), *_assumed(run)))
        cause = failure.cause if failure.remedy else f"{failure.cause} {failure.advice}."
        self._show_outcome(f"Fails at {failure.stage}", stale + cause, self._words(failure), later)

    def _listed(self, run: BringUp) -> str:
        count = sum(map(len, run.games.values()))
        if count:
            return f"The menu lists {counted(count, 'game')} for {counted(len(run.games), 'system')}."
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

    # --- acting --------------------------------------------------------------------------------------------------

    def _on_beside_chosen(self, which: str) -> None:
        if which == "file":
            name, _kind = QFileDialog.getOpenFileName(self, "A card's image", str(self.session.folder))
            if name:
                self.session.foretell_other(Path(name))
                which = "other"
            else:
                which = self._wanted
        self._wanted = which
        self.refresh()

    def _on_remedy_clicked(self) -> None:
        run = self.session.bring_up
        failure = run.failure if run else None
        if failure is None or not self.session.bring_up_current:
            self.session.run_bring_up()
        elif failure.remedy is None:
            self.operation_asked.emit(failure.operation)
        else:
            self.remedy_asked.emit(failure.remedy, failure.cause)


def _assumed(run: BringUp) -> tuple[str, ...]:
    return tuple(f"Assumed: {words}" for words in run.assumed)
