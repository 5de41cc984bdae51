"""The rehearsal: the card started on the desk, beside the forecast."""

from __future__ import annotations

from typing import cast

from PyQt6.QtWidgets import QWidget

from kyklon.app.pages.poweron.side_drawing import SideBySide
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Sheet, TextBox, button, column, label, line_pitch, row, scrolled, set_role
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.shown import visible
from kyklon.operations.poweron.rehearsal import WAYS, Terms, WayKey
from kyklon.operations.poweron.side_by_side import lay, of_forecast, of_rehearsal, verdict

_LIMITS = ((30.0, "30\u202fs"), (60.0, "1\u202fmin"), (300.0, "5\u202fmin"), (900.0, "15\u202fmin"))

_WHAT_FOR = (
    "The card boots on this computer from a snapshot; nothing is written to it. The kernel's messages are "
    "compared with the forecast, stage by stage."
)
_WHAT_FITS = (
    "Boot files with labels: a real boot loader, then the root. Otherwise the root alone: a real kernel "
    "mounts it and starts init and services."
)


class RehearsalView(QWidget):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.theme = session, session.theme
        self._sides = SideBySide(self.theme)
        sheet = Sheet("Forecast and rehearsal")
        self._sheet = sheet
        self._empty = label(_WHAT_FOR, "muted", wrap=True)
        self._drawing = scrolled(self._sides, lambda: self.theme.px(25))
        sheet.add(self._empty, self._drawing)
        act = Sheet("On this computer")
        self._way = Choice(self.theme, "What is rehearsed", lambda _key: self._show_way())
        self._way.set_choices((("", "Automatic"), *((key, way.title) for key, way in WAYS.items())), "")
        self._limit = Choice(self.theme, "Time limit", lambda _key: None)
        self._limit.set_choices(tuple((str(seconds), words) for seconds, words in _LIMITS), "60.0")
        self._limit.setMinimumContentsLength(5)
        self._shows = label("", "small", wrap=True)
        self._start = button("Rehearse", self._on_start_clicked, "primary")
        self._verdict, self._why = label("", "strong", wrap=True), label("", wrap=True)
        self._unseen = label("", "small", wrap=True)
        limits = row(label("Limit", "muted"), self._limit, 1)
        act.add(
            self._way,
            self._shows,
            limits,
            self._start,
            self._verdict,
            self._why,
            scrolled(self._unseen, lambda: line_pitch(self._unseen)),
        )
        act.setFixedWidth(round(self.theme.px(290)))
        said = Sheet("Its output", "the serial port")
        self._said_sheet = said
        self._log = TextBox()
        self._log.setReadOnly(True)
        self._log.setProperty("role", "mono")
        self._log.setLineWrapMode(TextBox.LineWrapMode.NoWrap)
        self._log.setAccessibleName("Boot messages")
        said.add(self._log)
        upper = row(sheet, act, spacing=14)
        upper.setStretch(0, 1)
        whole = column(upper, said, spacing=14)
        whole.setStretch(0, 7)
        whole.setStretch(1, 3)
        self.setLayout(whole)
        self._show_way()

    @property
    def instrument(self) -> Instrument:
        return self._sides

    def _show_way(self) -> None:
        way = WAYS.get(cast(WayKey, self._way.value))
        told = f"{way.shows[:1].upper()}{way.shows[1:]}." if way else _WHAT_FITS
        self._shows.setText(told)

    def refresh(self) -> None:
        """Show the last rehearsal."""
        done = self.session.rehearsal
        self._drawing.setVisible(done is not None)
        self._empty.setVisible(done is None)
        self._said_sheet.setVisible(done is not None)
        if done is None:
            self._verdict.setText("")
            self._why.setText("")
            self._unseen.setText("")
            return
        sides = (
            of_forecast(done.run, done.school, tried=done.rehearsal.tried),
            of_rehearsal(done.rehearsal, done.school),
        )
        rows = lay(*sides)
        said = verdict(*sides, rows)
        self._sides.show_rows(rows, (sides[0].title, sides[1].title))
        stale = "" if done.build == self.session.build else "The build has changed since. "
        self._sheet.set_note(stale or f"{sum(phase.seconds for phase in done.rehearsal.phases):.0f} s on this computer")
        self._verdict.setText(said.text)
        set_role(self._verdict, "good" if said.agree else "caution")
        self._why.setText(said.why)
        self._why.setVisible(bool(said.why))
        self._unseen.setText("\n".join(f"Not shown: {words}" for words in done.rehearsal.unseen))
        text = visible(done.rehearsal.said, lines=True)
        if self._log.toPlainText() != text:
            self._log.setPlainText(text)
            self._log.verticalScrollBar().setValue(self._log.verticalScrollBar().maximum())
        self._start.setText("Rehearse again")

    def _on_start_clicked(self) -> None:
        ways = (cast(WayKey, self._way.value),) if self._way.value else ()
        self.session.rehearse(Terms(ways, float(self._limit.value)))
