"""A lesson for a group: seats, the questions of the route, answers checked by the same computations."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter
from PyQt6.QtWidgets import QDialog, QFileDialog, QLineEdit, QVBoxLayout, QWidget

from kyklon.app.pages.logbook.book_pdf import pdf_of_book
from kyklon.app.session.session import Session
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row, scrolled
from kyklon.app.widgets.instrument import Instrument
from kyklon.app.widgets.kept import emptied
from kyklon.base import durable
from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.base.shown import visible
from kyklon.operations.book.blocks import Book
from kyklon.operations.book.lesson import Question, SeatResult, hand_outs, judge, questions, report, results
from kyklon.operations.poweron.checklist import items
from kyklon.record import classroom

_ROW, _COLUMN, _NAME = 30, 46, 130  # px


class SeatGrid(Instrument):
    """Seats down, questions across in the order of the route; right, wrong and open differ in shape."""

    least = QSize(420, 160)
    chosen = pyqtSignal(int)  # a question

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Answers by seat and question")
        self._asked: tuple[Question, ...] = ()
        self._seats: dict[str, dict[str, str]] = {}
        self._at = ("", 0)

    def show_class(self, asked: tuple[Question, ...], seats: dict[str, dict[str, str]], at: tuple[str, int]) -> None:
        """at: the seat and the question that are chosen."""
        if not self.shows(asked, seats, at):
            return
        self._asked, self._seats, self._at = asked, seats, at
        told = []
        for name, given in seats.items():
            right = sum(judge(each, given[each.key]).right is True for each in asked if each.key in given)
            told.append(f"{name}: {right} of {len(asked)} right")
        self.setAccessibleDescription("; ".join(told))
        self.setMinimumHeight(round(self.theme.px(_ROW * (len(seats) + 1) + 16)))
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        left, across = self.theme.px(_NAME), self._across(self.width())
        place = int((event.position().x() - left) // across) if event is not None else -1
        if 0 <= place < len(self._asked):
            self.chosen.emit(place)

    def _across(self, wide: float) -> float:
        """Width of a question's column."""
        px = self.theme.px
        return min(px(_COLUMN), max(px(14), (wide - px(_NAME) - px(56)) / max(1, len(self._asked))))

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        across, down, left = self._across(box.width()), px(_ROW), px(_NAME)
        middle = Qt.AlignmentFlag.AlignHCenter
        at = QRectF(left + self._at[1] * across, 0, across, down * (len(self._seats) + 1))
        self.block(painter, at, "teal_soft")
        for place, each in enumerate(self._asked):
            where = QPointF(left + (place + 0.5) * across, down / 2)
            self.text(painter, where, str(each.operation), font=self.theme.head("section"), token="teal", align=middle)
        if not self._seats:
            self.text(painter, QPointF(px(4), down * 1.5), "No seats yet: add one below.", token="muted")
        for number, (name, given) in enumerate(self._seats.items(), 1):
            y = (number + 0.5) * down
            self.line(painter, QPointF(0, number * down), QPointF(box.right(), number * down), "grid")
            weight = 600 if name == self._at[0] else 400
            space = QRectF(px(4), number * down, left - px(8), down)
            self.text(painter, space, name, font=self.theme.font("body", weight=weight))
            right = 0
            for place, each in enumerate(self._asked):
                words, token = "·", "muted"
                if each.key in given:
                    good = judge(each, given[each.key]).right is True
                    right += good
                    words, token = ("✓", "teal") if good else ("✗", "red")
                where = QPointF(left + (place + 0.5) * across, y)
                self.text(painter, where, words, font=self.theme.font("section"), token=token, align=middle)
            end = QPointF(left + len(self._asked) * across + px(8), y)
            self.text(painter, end, f"{right}/{len(self._asked)}", font=self.theme.mono("small"))


class ClassDialog(QDialog):
    """Stays open beside the window; every answer is kept at once."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Class")
        self.session, theme = session, session.theme
        self.asked = questions(session.build, session.catalogue, session.world, session.bring_up)
        self.room = self._read()
        self.at = 0
        self.grid = SeatGrid(theme)
        self.grid.chosen.connect(self.show_question)
        seats = Sheet("Seats", "the number above a column is the operation")
        sheets = button("Hand-outs…", self.ask_sheets, "outline", tip="A sheet for each seat, and the answers")
        seats.head.addWidget(button("Results…", self.ask_results, tip="What each seat has right, as PDF"))
        seats.head.addWidget(sheets)
        self._seat_name = QLineEdit()
        self._seat_name.setPlaceholderText("Name or number of a seat")
        self._seat_name.setAccessibleName("New seat")
        self._seat_name.returnPressed.connect(self.add_seat)
        seats.add(scrolled(self.grid), row(self._seat_name, button("Add seat", self.add_seat)))
        seats.body.setStretch(0, 1)
        self._question = Sheet("Question")
        self._words = label("", "section", wrap=True)
        self._choices = QVBoxLayout()
        self._seat = Choice(theme, "Seat that answers", lambda _value: self.refresh())
        self.answer = QLineEdit()
        self.answer.setAccessibleName("Answer")
        self.answer.returnPressed.connect(self.give)
        self._said = label("", "muted", wrap=True)
        before = button("Back", lambda: self.show_question(self.at - 1), "quiet")
        after = button("Next", lambda: self.show_question(self.at + 1), "quiet")
        self._question.add(
            self._words,
            self._choices,
            row(label("Seat", "small"), self._seat, 1),
            row(self.answer, button("Check", self.give, "primary")),
            self._said,
            1,
            row(before, after, 1, button("Close", self.accept)),
        )
        layout = row(seats, self._question, spacing=14)
        layout.setStretch(0, 3)
        layout.setStretch(1, 2)
        self.setLayout(column(layout, margins=(16, 14, 16, 14)))
        self.resize(round(theme.px(1060)), round(theme.px(600)))
        self.show_question(0)

    def _read(self) -> classroom.Classroom:
        try:
            return classroom.read(self.session.folder)
        except KyklonError as bad:
            self.session.said.emit(str(bad))
            return classroom.Classroom()

    def refresh(self) -> None:
        names = tuple((visible(name), visible(name)) for name in self.room.seats) or (("", "no seat yet"),)
        value = self._seat.value if self._seat.value in self.room.seats else names[0][0]
        self._seat.set_choices(names, value)
        self.grid.show_class(self.asked, dict(self.room.seats), (value, self.at))

    def show_question(self, place: int) -> None:
        """Another question of the route."""
        if not self.asked:
            self._words.setText("This build has nothing to ask about yet: choose its parts in Plan.")
            return
        self.at = max(0, min(place, len(self.asked) - 1))
        each = self.asked[self.at]
        self._question.set_title(f"Question {self.at + 1} of {len(self.asked)}, operation {each.operation}")
        self._words.setText(visible(each.words))
        emptied(self._choices)
        for choice in each.choices:
            self._choices.addWidget(button(visible(choice), lambda choice=choice: self._pick(choice), "outline"))
        self.answer.clear()
        self.answer.setPlaceholderText(f"Answer in {each.unit}" if each.unit else "Answer")
        self._said.setText("")
        self.refresh()

    def _pick(self, choice: str) -> None:
        self.answer.setText(choice)
        self.give()

    def add_seat(self) -> None:
        """A seat more in the class."""
        self._keep(self._seat_name.text().strip())
        self._seat_name.clear()

    def _keep(self, seat: str, key: str = "", given: str = "") -> None:
        try:
            self.room = classroom.put(self.session.folder, seat, key, given)
        except (KyklonError, OSError) as bad:
            self.session.said.emit(str(bad))
            self._said.setText(str(bad))
        self.refresh()

    def give(self) -> None:
        """Check the answer, and keep it for the seat."""
        if not self.asked:
            return
        each, given = self.asked[self.at], self.answer.text()
        told = judge(each, given)
        if told.right is None:
            self._said.setText(told.words)
            return
        self._said.setText(f"{'Right' if told.right else 'Wrong'}. {told.words}")
        if self._seat.value:
            self._keep(self._seat.value, each.key, given)

    def ask_sheets(self) -> None:
        """Write the sheets as PDF."""
        start = str(self.session.folder / "class.pdf")
        path, _kind = QFileDialog.getSaveFileName(self, "Hand-outs", start, "PDF (*.pdf)")
        if path:
            self.write_sheets(Path(path))

    def ask_results(self) -> None:
        """Write the results as PDF."""
        start = str(self.session.folder / "results.pdf")
        path, _kind = QFileDialog.getSaveFileName(self, "Results", start, "PDF (*.pdf)")
        if path:
            self.write_results(Path(path))

    def write_results(self, path: Path) -> None:
        """In the background."""
        room, session = self.room, self.session
        rows = [
            SeatResult(seat, right, count, dict(room.drills.get(seat, {})), len(room.ticks.get(seat, ())))
            for seat, right, count in results(self.asked, dict(room.seats))
        ]
        checks = len(items(session.build, session.catalogue))
        self._write(report(session.build.name, self.asked, rows, checks), path)

    def write_sheets(self, path: Path) -> None:
        """In the background; told in the window's bottom bar."""
        self._write(hand_outs(self.session.build.name, self.asked, list(self.room.seats) or ["1"]), path)

    def _write(self, book: Book, path: Path) -> None:
        session = self.session

        def work(watch: Watch) -> None:
            durable.keep(path, pdf_of_book(book, Theme(), watch))

        session.jobs.start(f"Writing {path.name}", work, lambda _none: session.said.emit(f"Wrote {path}"))
