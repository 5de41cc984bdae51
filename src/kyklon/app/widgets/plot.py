"""A small plot: linear axes with round ticks, a grid, and places for labels with leaders."""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil, floor, log10

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter

from kyklon.app.widgets.instrument import Instrument


def ticks(low: float, high: float, wanted: int) -> tuple[float, ...]:
    """About `wanted` round values from low to high: steps of 1, 2 or 5 times a power of ten."""
    rough = max((high - low) / max(1, wanted), 1e-12)
    power = 10.0 ** floor(log10(rough))
    step = min((each * power for each in (1, 2, 5, 10)), key=lambda each: abs(log10(each / rough)))
    first = ceil(low / step - 1e-9)
    return tuple(step * index for index in range(first, floor(high / step + 1e-9) + 1))


def _fitting(span: tuple[float, float], room: float, metrics: QFontMetricsF, gap: float) -> tuple[float, ...]:
    """As many ticks as have room for their figures side by side."""
    for wanted in range(max(2, int(room / 40)), 1, -1):
        found = ticks(*span, wanted)
        widest = max((metrics.horizontalAdvance(f"{value:g}") for value in found), default=0.0)
        if len(found) * (widest + gap) <= room:
            return found
    return ticks(*span, 2)


@dataclass(frozen=True)
class Axes:
    """The map from values to the drawing. box: where the curves are; spans: lowest and highest value."""

    box: QRectF
    x_span: tuple[float, float]
    y_span: tuple[float, float]

    def x(self, value: float) -> float:
        low, high = self.x_span
        return self.box.left() + (value - low) / (high - low) * self.box.width()

    def y(self, value: float) -> float:
        low, high = self.y_span
        return self.box.bottom() - (value - low) / (high - low) * self.box.height()

    def at(self, x: float, y: float) -> QPointF:
        return QPointF(self.x(x), self.y(y))


class Plot(Instrument):
    """Draws a grid with axis labels in the tokens' type."""

    def axes(
        self,
        painter: QPainter,
        box: QRectF,
        x_span: tuple[float, float],
        y_span: tuple[float, float],
        x_name: str,
        y_name: str,
    ) -> Axes:
        """Grid and labels; returns the axes to draw the curves with."""
        scale = self.theme.scale
        font = self.theme.mono("small")
        metrics = QFontMetricsF(font)
        upright = ticks(*y_span, max(2, int((box.height() - 46 * scale) / (34 * scale))))
        widest = max(metrics.horizontalAdvance(f"{value:g}") for value in (*upright, *y_span[1:]))
        inner = box.adjusted(24 * scale + widest, 8 * scale, -12 * scale, -38 * scale)
        axes = Axes(inner, x_span, y_span)
        for value in _fitting(x_span, inner.width(), metrics, 14 * scale):
            self.line(painter, QPointF(axes.x(value), inner.top()), QPointF(axes.x(value), inner.bottom()), "grid")
            self.text(
                painter,
                QPointF(axes.x(value), inner.bottom() + 11 * scale),
                f"{value:g}",
                font=font,
                token="muted",
                align=Qt.AlignmentFlag.AlignHCenter,
            )
        for value in upright:
            self.line(painter, QPointF(inner.left(), axes.y(value)), QPointF(inner.right(), axes.y(value)), "grid")
            self.text(
                painter,
                QPointF(inner.left() - 6 * scale, axes.y(value)),
                f"{value:g}",
                font=font,
                token="muted",
                align=Qt.AlignmentFlag.AlignRight,
            )
        right = QPointF(inner.right(), inner.bottom() + 28 * scale)
        self.text(painter, right, x_name, token="muted", align=Qt.AlignmentFlag.AlignRight)
        painter.save()
        painter.translate(box.left() + 9 * scale, inner.bottom())
        painter.rotate(-90)
        self.text(painter, QPointF(0, 0), y_name, token="muted")
        painter.restore()
        return axes
