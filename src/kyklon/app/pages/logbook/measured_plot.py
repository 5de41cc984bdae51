"""What was measured, over the days."""

from __future__ import annotations

from datetime import datetime
from itertools import pairwise

from PyQt6.QtCore import QPointF, QRectF, QSize
from PyQt6.QtGui import QPainter, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.plot import Plot

Row = tuple[str, float, str]


class MeasuredPlot(Plot):
    """One quantity: its values by day, with their unit."""

    least = QSize(220, 150)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Measured values")
        self._name, self._rows = "", list[Row]()

    def show_values(self, name: str, rows: tuple[Row, ...]) -> None:
        """rows: time in ISO 8601, value, unit; the oldest first. Times that are none are left out."""
        if not self.shows(name, rows):
            return
        self._name, self._rows = name, [row for row in rows if _when(row[0]) is not None]
        self.setAccessibleDescription("; ".join(f"{at[:10]} {value:g} {unit}" for at, value, unit in rows[-20:]))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        if not self._rows:
            self.text(painter, QPointF(box.left() + 4, box.top() + 14), "Nothing was measured yet.", token="muted")
            return
        first = _when(self._rows[0][0]) or 0.0
        days = [((_when(at) or first) - first) / 86_400 for at, _value, _unit in self._rows]
        values = [value for _at, value, _unit in self._rows]
        low, high = min(values), max(values)
        room = (high - low) * 0.15 or max(abs(high) * 0.1, 0.5)
        unit = self._rows[-1][2]
        began = self._rows[0][0]
        hours = days[-1] < 2
        days = [day * 24 for day in days] if hours else days
        span = (0.0, max(days[-1], 1.0))
        since = f"hours since {began[11:16]}" if hours else f"days since {began[:10]}"
        name = f"{self._name}, {unit}" if unit else self._name
        axes = self.axes(painter, box, span, (low - room, high + room), since, name)
        painter.setPen(QPen(self.theme.color("teal"), 1.6))
        points = [axes.at(day, value) for day, value in zip(days, values, strict=True)]
        for a, b in pairwise(points):
            painter.drawLine(a, b)
        for point in points:
            self.block(painter, QRectF(point.x() - 3, point.y() - 3, 6, 6), "teal", radius=3)
        last = points[-1]
        words = f"{values[-1]:g} {unit}".strip()
        self.text(
            painter, QPointF(max(axes.box.left(), last.x() - 50), last.y() - 12), words, font=self.theme.mono("small")
        )


def _when(at: str) -> float | None:
    try:
        return datetime.fromisoformat(at).timestamp()
    except ValueError:
        return None
