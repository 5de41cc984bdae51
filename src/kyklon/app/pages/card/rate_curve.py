"""Speed against time of a write and its reading back."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.plot import Axes, Plot

Rates = tuple[tuple[float, float], ...]


class RateCurve(Plot):
    least = QSize(300, 88)

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
            self.say(painter, box, "The speed is drawn here while a card is written.")
            return
        begun = self._write[-1][0]
        verify = tuple((begun + at, rate) for at, rate in self._verify)
        longest = max(1.0, (verify or self._write)[-1][0])
        fastest = max(rate for _at, rate in (*self._write, *verify)) / 1e6
        axes = self.axes(painter, box, (0, longest), (0, fastest * 1.4), "seconds", "MB/s")
        for rates, token, words in ((self._write, "teal", "writing"), (verify, "amber", "reading back")):
            if len(rates) > 1:
                self._draw_curve(painter, axes, rates, token, words)

    def _draw_curve(self, painter: QPainter, axes: Axes, rates: Rates, token: str, words: str) -> None:
        points = [axes.at(at, rate / 1e6) for at, rate in rates]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(self.theme.color(token), 1.8))
        painter.drawPolyline(QPolygonF(points))
        at = QPointF(points[0].x() + 2, axes.box.top() + self.theme.px(7))
        self.text(painter, at, words, font=self.theme.font("label", weight=600), token=token)
