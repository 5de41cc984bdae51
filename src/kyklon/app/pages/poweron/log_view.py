"""The real machine's own words: a log pasted or opened, laid beside the forecast."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QWidget

from kyklon.app.pages.poweron.side_drawing import SideBySide
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Sheet, TextBox, button, column, label, row, scrolled, set_role
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.errors import KyklonError
from kyklon.base.reading import bytes_of
from kyklon.catalogue.records import Board
from kyklon.model.findings import Remedy
from kyklon.operations.poweron.boot_log import MOST_LOG, LogReading, measured
from kyklon.operations.poweron.events import PUT_ON_CARD
from kyklon.operations.poweron.side_by_side import lay, of_forecast, of_log, remedy_for, verdict

_WHAT_FOR = (
    "Paste what the real machine printed: a kernel log, a journal, or the last lines on its screen. It is compared "
    "with the forecast, and the line that explains the failure is picked out."
)


class LogView(QWidget):
    remedy_asked = pyqtSignal(object, str)  # Remedy, title
    finder_asked = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.theme = session, session.theme
        self._remedy_now: Remedy | None = None
        self._sides = SideBySide(self.theme)
        self._sheet = Sheet("Forecast and real machine")
        self._empty = label(_WHAT_FOR, "muted", wrap=True)
        self._drawing = scrolled(self._sides, lambda: self.theme.px(25))
        self._sheet.add(self._empty, self._drawing)
        told = Sheet("What it says")
        self._verdict, self._why = label("", "strong", wrap=True), label("", wrap=True)
        self._line = label("", "mono", wrap=True)
        self._remedy = button("", self._on_remedy_clicked, "primary")
        self._finder = button("To the fault finder", self.finder_asked.emit, "quiet")
        self._times = button(
            "Use these times for the board",
            self._on_times_clicked,
            "quiet",
            tip="The forecast will use the log's kernel timestamps",
        )
        self._also = label("", "small", wrap=True)
        told.add(self._verdict, self._why, self._line, self._remedy, self._finder, self._times, scrolled(self._also))
        told.setFixedWidth(round(self.theme.px(290)))
        given = Sheet("The log")
        self._text = TextBox()
        self._text.setProperty("role", "mono")
        self._text.setLineWrapMode(TextBox.LineWrapMode.NoWrap)
        self._text.setAccessibleName("The real machine's log")
        self._text.setPlaceholderText("Paste it here, or type the last lines of its screen")
        given.head.addWidget(button("Open …", self._on_open_clicked, "quiet", tip="A log saved as a file"))
        given.head.addWidget(button("Read", self.read, "primary"))
        given.add(self._text)
        upper = row(self._sheet, told, spacing=14)
        upper.setStretch(0, 1)
        whole = column(upper, given, spacing=14)
        whole.setStretch(0, 7)
        whole.setStretch(1, 4)
        self.setLayout(whole)

    @property
    def instrument(self) -> Instrument:
        return self._sides

    @property
    def remedy_button(self) -> QWidget:
        return self._remedy

    def set_log(self, text: str) -> None:
        """Put a log into the field, as pasting does."""
        self._text.setPlainText(text)

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show what the log says."""
        reading, run = self.session.log_reading, self.session.bring_up
        self._drawing.setVisible(reading is not None)
        self._empty.setVisible(reading is None)
        for widget in (self._line, self._remedy, self._times, self._finder):
            widget.setVisible(False)
        if reading is None:
            self._verdict.setText("Nothing read yet")
            return
        school = self.session.school
        right = of_log(reading, school)
        left = of_forecast(run, school) if run else of_log(reading, school, "Forecast: run it first")
        rows = lay(left, right)
        self._sides.show_rows(rows, (left.title, right.title))
        said = verdict(left, right, rows)
        stop = reading.stop
        self._verdict.setText(f"Stops at {stop.stage}" if stop else said.text)
        set_role(self._verdict, "stop" if stop else "good" if said.agree else "caution")
        words = [stop.text if stop else "", said.text if stop and run else "", said.why]
        self._why.setText(" ".join(word for word in words if word))
        self._show_rest(reading)
        starts = f"{reading.starts} boots; the last one is read" if reading.starts > 1 else ""
        stale = "the forecast is of an earlier state of this build" if run and not self.session.bring_up_current else ""
        self._sheet.set_note(stale or starts)

    def _show_rest(self, reading: LogReading) -> None:
        stop, run = reading.stop, self.session.bring_up
        if stop is not None:
            self._line.setText(f"{stop.line.number}: {stop.line.text[:160]}")
            self._line.setVisible(True)
            self._remedy_now = remedy_for(reading, run)
            self._remedy.setVisible(self._remedy_now is not None)
            if self._remedy_now is not None:
                preview = "" if self._remedy_now == PUT_ON_CARD or not self._remedy_now.changes else "Preview: "
                self._remedy.setText(f"{preview}{self._remedy_now.label}")
            self._finder.setVisible(self._remedy_now is None)
        self._times.setVisible(bool(reading.times) and run is not None)
        also = [f"Line {hurt.line.number}: {hurt.text}" for hurt in reading.hurts]
        also += [f"{time.stage}: {time.seconds:.1f}\u202fs" for time in reading.times]
        also += [f"Kernel command line: {reading.kernel_line}"] if reading.kernel_line else []
        also += [f"Device tree: {reading.model}"] if reading.model else []
        self._also.setText("\n".join(also))

    # --- acting --------------------------------------------------------------------------------------------------

    def read(self) -> None:
        """Read what stands in the field."""
        text = self._text.toPlainText()
        if not text.strip():
            self.session.said.emit("No log yet: paste it, type it, or open a file.")
            return
        self.session.read_boot_log(text.encode("utf-8", "surrogatepass"))

    def _on_open_clicked(self) -> None:
        name, _kind = QFileDialog.getOpenFileName(self, "A boot log", str(self.session.folder))
        if not name:
            return

        def opened(data: bytes) -> None:
            self._text.setPlainText(data.decode("utf-8", "replace"))
            self.read()

        self.session.jobs.start(
            "Opening the log",
            lambda _watch: bytes_of(Path(name), MOST_LOG),
            opened,
            bad=lambda bad: self._told(bad),
            cancellable=False,
        )

    def _told(self, bad: KyklonError) -> None:
        self.session.said.emit(str(bad))

    def _on_remedy_clicked(self) -> None:
        reading = self.session.log_reading
        if self._remedy_now is not None and reading is not None and reading.stop is not None:
            self.remedy_asked.emit(self._remedy_now, reading.stop.text)

    def _on_times_clicked(self) -> None:
        reading, run = self.session.log_reading, self.session.bring_up
        board = self.session.catalogue.find(Board, self.session.build.part("board"))
        if reading is None or run is None or board is None:
            return
        fresh = measured(reading.times, run, board.id)
        names = {each.stage for each in fresh}
        rest = [each for each in self.session.build.measured if each.board != board.id or each.stage not in names]
        self.session.edit("measured", (*rest, *fresh), "Use the measured times")
        self.session.log(90, "Measured stage times saved", "\n".join(f"{e.stage}: {e.seconds} s" for e in fresh))
        self.session.run_bring_up()
