"""Plans side by side: a column each, with its price, its parts and how hard the board works for each system."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument

_LOAD = 24  # px: a system with its load
_BROAD = 100  # px: a column that takes whole words


@dataclass(frozen=True)
class PlanColumn:
    """price, further: in words. rows: what it is, its name, and 'have' where it is at hand. loads: systems with the
    share of a frame that they take."""

    title: str
    price: str
    further: str
    rows: tuple[tuple[str, str, str], ...]
    loads: tuple[tuple[str, float], ...]


class PlanColumns(Instrument):
    """chosen: the number of a column that was clicked, or walked to with the arrow keys."""

    least = QSize(420, 300)
    chosen = pyqtSignal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Plans side by side")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._columns: tuple[PlanColumn, ...] = ()
        self._words: tuple[str, ...] = ()
        self.current = 0

    def show_plans(self, columns: tuple[PlanColumn, ...], words: tuple[str, ...] = ()) -> None:
        """words: what is said where there is no plan."""
        if not self.shows(columns, words):
            return
        self._columns, self._words = columns, words
        self.current = min(self.current, max(0, len(columns) - 1))
        self._tell()
        self.update()

    def _tell(self) -> None:
        told = [
            f"{column.title}{', chosen' if number == self.current else ''}: {column.price}, "
            + ", ".join(f"{role} {name}{' at hand' if have else ''}" for role, name, have in column.rows)
            for number, column in enumerate(self._columns)
        ]
        self.setAccessibleDescription("; ".join(told) or " ".join(self._words))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        if event is not None and self._columns:
            wide = self.width() / len(self._columns)
            self._choose(min(len(self._columns) - 1, int(event.position().x() / wide)))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()), 0) if event is not None else 0
        if step and self._columns:
            self._choose(max(0, min(len(self._columns) - 1, self.current + step)))
        else:
            super().keyPressEvent(event)

    def _choose(self, number: int) -> None:
        self.current = number
        self._tell()
        self.update()
        self.chosen.emit(number)

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        if not self._columns:
            at = box.center() - QPointF(0, px(10) * len(self._words))
            for number, words in enumerate(self._words or ("Tick a system: plans for it are drawn here.",)):
                place = QRectF(box.left() + px(10), at.y() + number * px(22), box.width() - px(20), px(22))
                first = number == 0
                font = self.theme.font("label", weight=600) if first else self.theme.font("label")
                self.text(painter, place, words, font=font, align=Qt.AlignmentFlag.AlignCenter)
            return
        gap = px(12 if len(self._columns) < 4 else 6)
        wide = (box.width() - gap * (len(self._columns) - 1)) / len(self._columns)
        legend = wide - px(18) < px(_BROAD)
        if legend:
            box = box.adjusted(0, 0, 0, -px(18))
        for number, column in enumerate(self._columns):
            place = QRectF(box.left() + number * (wide + gap), box.top() + 1, wide, box.height() - 2)
            self._draw_column(painter, place, column, chosen=number == self.current)
        if legend:
            spot = QRectF(box.left(), box.bottom() + px(2), box.width(), px(16))
            self.text(painter, spot, "● at hand", font=self.theme.font("small"), token="teal")

    def _draw_column(self, painter: QPainter, box: QRectF, column: PlanColumn, *, chosen: bool) -> None:
        px = self.theme.px
        edge = QPen(self.theme.color("teal" if chosen else "hairline"), 2.2 if chosen else 1.2)
        self.block(painter, box.adjusted(1, 1, -1, -1), "field", edge)
        inner = box.adjusted(px(10), px(8), -px(8), -px(8))
        head = QRectF(inner.left(), inner.top(), inner.width(), px(20))
        mark = "● " if chosen else ""
        self.text(painter, head, f"{mark}{column.title}", font=self.theme.font("label", weight=600))
        price = QRectF(inner.left(), head.bottom(), inner.width(), px(30))
        self.text(painter, price, column.price, font=self.theme.font("title"))
        under = QRectF(inner.left(), price.bottom(), inner.width(), px(18))
        self.text(painter, under, column.further, font=self.theme.font("small"), token="muted")
        at = under.bottom() + px(8)
        broad = inner.width() >= px(_BROAD)
        loads_high = px(_LOAD) * len(column.loads) + (px(24) if column.loads else 0)
        pitch = max(px(31), min(px(40), (inner.bottom() - loads_high - at) / max(1, len(column.rows))))
        for role, name, have in column.rows:
            if at + pitch > inner.bottom() - loads_high + 1:
                break
            self.line(painter, QPointF(inner.left(), at), QPointF(inner.right(), at), "grid")
            line = QRectF(inner.left(), at + px(1), inner.width(), px(15))
            self.text(painter, line, role, font=self.theme.font("small"), token="muted")
            if have:
                small, right = self.theme.font("small"), Qt.AlignmentFlag.AlignRight
                self.text(painter, line, "● at hand" if broad else "●", font=small, token="teal", align=right)
            below = QRectF(inner.left(), at + px(13), inner.width(), px(16))
            self.text(painter, below, name, font=self.theme.font("label", weight=500))
            at += pitch
        self._draw_loads(painter, QRectF(inner.left(), inner.bottom() - loads_high, inner.width(), loads_high), column)

    def _draw_loads(self, painter: QPainter, box: QRectF, column: PlanColumn) -> None:
        """How much of a frame each system takes, 99 frames of 100."""
        px = self.theme.px
        if not column.loads:
            return
        head = QRectF(box.left(), box.top() + px(4), box.width(), px(16))
        self.text(
            painter,
            head,
            "Load of a frame" if box.width() >= px(_BROAD) else "Frame load",
            font=self.theme.font("small"),
            token="muted",
        )
        for number, (name, share) in enumerate(column.loads):
            line = QRectF(box.left(), box.top() + px(22) + number * px(_LOAD), box.width(), px(16))
            figure = QRectF(line.right() - px(38), line.top(), px(38), line.height())
            words = QRectF(line.left(), line.top(), line.width() - px(40), line.height())
            self.text(painter, words, name, font=self.theme.font("small"))
            right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            self.text(painter, figure, f"{share * 100:.0f}\u202f%", font=self.theme.mono("small"), align=right)
            bar = QRectF(line.left(), line.bottom(), line.width(), px(4))
            self.block(painter, bar, "grid", radius=2)
            filled = QRectF(bar.left(), bar.top(), bar.width() * min(1.0, share), bar.height())
            self.block(painter, filled, "teal" if share <= 0.9 else "amber", radius=2)
