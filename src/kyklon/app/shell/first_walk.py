"""A first walk through a demo, in six steps: what to do now, and why; it can be left and taken up again.

A step is done when the build says so, however its user came there; nothing is done in their place.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from kyklon.app.session.session import Session
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import button, column, label, row
from kyklon.model.build import CardState


@dataclass(frozen=True)
class Step:
    """operation: where it is done. done: whether it is, from the build and from the operations that were opened."""

    title: str
    words: str
    operation: int
    done: Callable[[Session, set[int]], bool]


def _passes(session: Session) -> bool:
    run = session.bring_up
    return run is not None and session.bring_up_current and run.failure is None


STEPS = (
    Step(
        "Look at a stop",
        "A square on the route card is a stop. Open 30 Boot: the finding says what is wrong, why, and what would help.",
        30,
        lambda _session, seen: 30 in seen,
    ),
    Step(
        "Apply a remedy",
        "Press ‘Preview’ on the finding: you see what it changes before anything changes. Ctrl+Z takes it back.",
        30,
        lambda session, _seen: bool(session.history.undo_label) or session.build.card.state is CardState.PROVEN,
    ),
    Step(
        "Write the card",
        "On 20 Card choose ‘blank-card’, a simulated one, and write: every byte is read back. Click refused ones, too.",
        20,
        lambda session, _seen: session.build.card.state is CardState.PROVEN,
    ),
    Step(
        "Predict the first power-on",
        "Press ‘Run bring-up’ (F9): from the bytes on the card it tells what the machine will do, second by second.",
        90,
        lambda session, _seen: session.bring_up is not None,
    ),
    Step(
        "Cure what it ends at",
        "The forecast shows where it ends and offers a remedy. Apply it, run again, until it reaches the front end.",
        90,
        lambda session, _seen: _passes(session),
    ),
    Step(
        "Bring the games",
        "On 60 Library press ‘Copy’ under Transfer, then run the bring-up once more: the games are in the menu.",
        60,
        lambda session, _seen: _passes(session) and any((session.bring_up.games if session.bring_up else {}).values()),
    ),
)


class _Dots(QWidget):
    """How far the walk is: a filled dot a step that is done, a ring for the one at hand."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._done: tuple[bool, ...] = ()
        self._current = 0
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)

    def show_steps(self, done: tuple[bool, ...], current: int) -> None:
        self._done, self._current = done, current
        self.setAccessibleName(f"{sum(done)} of {len(done)} steps done")
        self.update()

    def sizeHint(self) -> QSize:
        """Override."""
        return QSize(round(self._theme.px(16 * len(STEPS))), round(self._theme.px(14)))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        px = self._theme.px
        for number, done in enumerate(self._done):
            painter.setPen(self._theme.color("teal" if number == self._current or done else "muted"))
            painter.setBrush(self._theme.color("teal") if done else Qt.BrushStyle.NoBrush)
            side = px(9 if number == self._current else 7)
            painter.drawEllipse(QRectF(px(8 + 16 * number) - side / 2, px(7) - side / 2, side, side))
        painter.end()


class FirstWalk(QWidget):
    """The strip below the top bar. left: its user wants no more of it; asked: an operation to open."""

    left = pyqtSignal()
    asked = pyqtSignal(int)
    started = pyqtSignal()  # a machine of one's own

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("walk")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._session = session
        self._seen: set[int] = set()
        self._done = [False] * len(STEPS)
        self._dots = _Dots(session.theme)
        self._title = label("", "strong")
        self._words = label("", wrap=True)
        self._show = button("Show me", self._on_show, "outline", tip="Open the page where this is done")
        leave = button("Leave the walk", self.left.emit, "quiet", tip="The menu takes it up again (F10, First walk)")
        body = row(
            column(self._dots, self._title, spacing=2),
            self._words,
            self._show,
            leave,
            spacing=16,
            margins=(20, 7, 16, 8),
        )
        body.setStretch(1, 1)
        self.setLayout(body)
        session.changed.connect(self.refresh)
        self.refresh()

    @property
    def current(self) -> int:
        """Number of the step at hand, from 0; how many there are when all are done."""
        return next((number for number, done in enumerate(self._done) if not done), len(STEPS))

    def on_opened(self, operation: int) -> None:
        """Its user opened an operation."""
        self._seen.add(operation)
        self.refresh()

    def refresh(self) -> None:
        """A step that was done stays done: whoever takes a remedy back is not sent back."""
        for number, step in enumerate(STEPS):
            self._done[number] = self._done[number] or step.done(self._session, self._seen)
        at = self.current
        self._dots.show_steps(tuple(self._done), at)
        if at == len(STEPS):
            self._title.setText("That was the whole way")
            self._words.setText("From here on it is your own machine: what shall be played?")
            self._show.setText("Start my own machine")
        else:
            self._title.setText(f"{at + 1} of {len(STEPS)}  {STEPS[at].title}")
            self._words.setText(STEPS[at].words)
            self._show.setText("Show me")

    def _on_show(self) -> None:
        if self.current == len(STEPS):
            self.started.emit()
        else:
            self.asked.emit(STEPS[self.current].operation)
