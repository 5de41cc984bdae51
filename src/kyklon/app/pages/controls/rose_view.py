"""The rose of a lever: how often it came to each of its eight ways, drawn as spokes from the middle."""

from __future__ import annotations

from math import cos, pi, sin

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.operations.controls.levers import OCTANTS, Rose

_LETTERS = ("U", "", "R", "", "D", "", "L", "")


class RoseView(Instrument):
    least = QSize(110, 116)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "The joystick's directions")
        self._rose = Rose()
        self._words = ""

    def show_rose(self, rose: Rose, words: str) -> None:
        if self.shows(rose, words):
            self._rose, self._words = rose, words
            told = ", ".join(f"{name} {count}" for name, count in zip(OCTANTS, rose.counts, strict=True) if count)
            self.setAccessibleDescription(f"{words}; {told}" if told else words)
            self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        self.text(painter, QPointF(box.left(), box.top() + px(8)), "Lever", font=self.theme.font("label", weight=600))
        self.text(
            painter,
            QRectF(box.left(), box.top() + px(17), box.width(), px(16)),
            self._words,
            font=self.theme.font("small"),
            token="teal" if sum(self._rose.counts) else "muted",
        )
        area = box.adjusted(0, px(38), 0, -px(2))
        radius = min(area.width(), area.height()) / 2 - px(15)
        middle = area.center()
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for part in (0.5, 1.0):
            painter.setPen(self.theme.color("hairline"))
            painter.drawEllipse(middle, radius * part, radius * part)
        most = max(1, *self._rose.counts)
        for index, count in enumerate(self._rose.counts):
            angle = index * pi / 4 - pi / 2
            way = QPointF(cos(angle), sin(angle))
            if count:
                token = "teal" if index % 2 == 0 else "amber"
                self.line(painter, middle, middle + way * radius * (0.25 + 0.75 * count / most), token, px(5))
            if _LETTERS[index]:
                self.text(
                    painter,
                    middle + way * (radius + px(9)),
                    _LETTERS[index],
                    font=self.theme.font("small"),
                    token="muted",
                    align=Qt.AlignmentFlag.AlignHCenter,
                )
