"""Speed against time of a write and its reading back."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.plot import Axes, Plot

Rates = tuple[tuple[float, float], ...]


class RateCurve(Plot):
    least = QSize(300, 110)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Speed against time")
        self._write: Rates = ()
        self._verify: Rates = ()

    def show_rates(self, write: Rates, verify: Rates) -> None:
        """Pairs of seconds since the start and bytes per second."""
        self._write, self._verify = write, verify
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        if not self._write:
            at = QPointF(points[0].x() + 2, axes.box.top() + self.theme.px(7))
        self.text(painter, at, words, font=self.theme.font("label", weight=600), token=token)
