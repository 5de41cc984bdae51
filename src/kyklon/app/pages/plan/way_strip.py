"""Steps to the first game as a strip: a box a step, with its minutes, and what it still asks."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.operations.plan.way import Step, in_words
from kyklon.operations.registry import operation


class WayStrip(Instrument):
    least = QSize(420, 68)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Steps to the first game")
        self._steps: tuple[Step, ...] = ()

    def show_steps(self, steps: tuple[Step, ...]) -> None:
        if not self.shows(steps):
            return
        self._steps = steps
        self.setAccessibleDescription(
            "; ".join(
                f"{step.what}, {in_words(step.minutes)}"
                + (f", needs your input: {' and '.join(step.asks)}" if step.asks else "")
                for step in steps
            )
        )
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px, count = self.theme.px, len(self._steps)
        if not count:
            self.text(
                painter,
                box.center(),
                "Choose the system software: its steps are drawn here.",
                token="muted",
                align=Qt.AlignmentFlag.AlignHCenter,
            )
            return
        gap = px(18)
        wide = (box.width() - gap * (count - 1) - 2) / count
        for index, step in enumerate(self._steps):
            place = QRectF(box.left() + 1 + index * (wide + gap), box.top() + px(2), wide, px(46))
            style = Qt.PenStyle.DashLine if step.alone else Qt.PenStyle.SolidLine
            self.block(painter, place, "field", QPen(self.theme.color("hairline"), 1.4, style))
            inner = place.adjusted(px(10), px(4), -px(8), -place.height() / 2 + px(1))
            self.text(painter, inner, step.what, font=self.theme.font("label", weight=500))
            words = f"{operation(step.operation).name} · {in_words(step.minutes)}"
            below = place.adjusted(px(10), place.height() / 2 - px(1), -px(8), -px(4))
            self.text(painter, below, words, font=self.theme.font("small"), token="muted")
            asks = f"needs your input: {' and '.join(step.asks)}" if step.asks else ""
            following = next((n for n in range(index + 1, count) if self._steps[n].asks), count)
            room = (following - index) * (wide + gap) - px(8)
            under = QRectF(place.left(), place.bottom() + px(2), min(room, box.right() - place.left()), px(18))
            self.text(painter, under, asks, font=self.theme.font("small"), token="amber")
            if index:
                end = QPointF(place.left() - 3, place.center().y())
                painter.setPen(QPen(self.theme.color("muted"), 1.4))
                painter.drawLine(QPointF(place.left() - gap + 3, end.y()), end)
                painter.drawLine(end, end + QPointF(-5, -4))
                painter.drawLine(end, end + QPointF(-5, 4))
