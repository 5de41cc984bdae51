"""Line rate against field rate: the display's ranges as boxes, every mode as a point with its name."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.plot import Axes, Plot
from kyklon.catalogue.records import Range


@dataclass(frozen=True)
class Point:
    """A mode: line_khz, field_hz, what is wrong with it ('' for nothing), and whether it is the one looked at."""

    name: str
    line_khz: float
    field_hz: float
    fault: str
    current: bool
    edge_khz: float  # the nearest edge of the range it misses


class RangesPlot(Plot):
    least = QSize(360, 200)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Ranges of the display and modes of the systems")
        self._ranges: tuple[Range, ...] = ()
        self._points: tuple[Point, ...] = ()
        self._words = ""

    def show_values(self, ranges: tuple[Range, ...], points: tuple[Point, ...], words: str) -> None:
        """words: what the display holds, written beside its first range."""
        if not self.shows(ranges, points, words):
            return
        self._ranges, self._points, self._words = ranges, points, words
        told = [f"{point.name} {point.line_khz:.2f} kHz {point.fault or 'inside'}" for point in points]
        self.setAccessibleDescription("; ".join(told))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        if not self._ranges:
            self.say(painter, box, "Choose a display in Plan; its ranges are drawn here.")
            return
        lines = [each for band in self._ranges for each in band.line_khz] + [point.line_khz for point in self._points]
        rates = [each for band in self._ranges for each in band.field_hz] + [point.field_hz for point in self._points]
        spread = max(max(lines) - min(lines), 8.0)
        x_span = (min(lines) - 1.2, min(lines) + spread * 1.16)
        axes = self.axes(
            painter, box, x_span, (min(rates) - 2, max(rates) + 3), "horizontal frequency, kHz", "refresh rate, Hz"
        )
        for band in self._ranges:
            self._draw_range(painter, axes, band)
        inside = [point for point in self._points if not point.fault]
        for point in self._points:
            if point.fault:
                self._draw_fault(painter, axes, point)
        self._draw_labels(painter, axes, inside)

    def _draw_range(self, painter: QPainter, axes: Axes, band: Range) -> None:
        area = QRectF(axes.at(band.line_khz[0], band.field_hz[1]), axes.at(band.line_khz[1], band.field_hz[0]))
        self.block(painter, area, "teal_soft", "teal", radius=0, width=1.5)

    def _draw_labels(self, painter: QPainter, axes: Axes, inside: list[Point]) -> None:
        """Names in one column right of the first range, spread so that none covers another, joined by leaders."""
        scale = self.theme.scale
        column = min(axes.x(self._ranges[0].line_khz[1]) + 46 * scale, axes.box.right() - 140 * scale)
        pitch = 19 * scale
        wanted = sorted(inside, key=lambda point: -point.field_hz)
        rows: list[float] = []
        for point in wanted:
            rows.append(max(axes.y(point.field_hz) - pitch, rows[-1] + pitch if rows else axes.box.top() + 10))
        if rows and rows[-1] > axes.box.bottom() - 2 * pitch:
            shift = rows[-1] - (axes.box.bottom() - 2 * pitch)
            rows = [max(axes.box.top() + 10, row - shift) for row in rows]
        for point, y in zip(wanted, rows, strict=True):
            at = axes.at(point.line_khz, point.field_hz)
            self.line(painter, at, QPointF(column - 12 * scale, y), "muted")
            self.line(painter, QPointF(column - 12 * scale, y), QPointF(column - 5 * scale, y), "muted")
            radius = (5.5 if point.current else 4.5) * scale
            self.block(painter, QRectF(at.x() - radius, at.y() - radius, 2 * radius, 2 * radius), "teal", radius=radius)
            font = self.theme.font("label", weight=600 if point.current else 500)
            painter.setFont(font)
            wide = painter.fontMetrics().horizontalAdvance(point.name) + 72 * scale
            self.block(painter, QRectF(column - 3, y - 8 * scale, wide, 16 * scale), "sheet", radius=2)
            drawn = self.text(painter, QPointF(column, y), point.name, font=font)
            self.text(
                painter,
                QPointF(drawn.right() + 6 * scale, y),
                f"{point.field_hz:.2f}\u202fHz",
                font=self.theme.mono("small"),
                token="muted",
            )
        below = QPointF(column, (rows[-1] if rows else axes.box.center().y()) + pitch * 1.25)
        self.text(painter, below, self._words, font=self.theme.font("label", weight=500), token="teal")

    def _draw_fault(self, painter: QPainter, axes: Axes, point: Point) -> None:
        scale = self.theme.scale
        at, edge = axes.at(point.line_khz, point.field_hz), axes.at(point.edge_khz, point.field_hz)
        painter.setPen(QPen(self.theme.color("red"), 1.5, Qt.PenStyle.DashLine))
        painter.drawLine(edge, at)
        side = 11 * scale
        painter.setPen(Qt.PenStyle.NoPen)
        paint_lamp(painter, QRectF(at.x() - side / 2, at.y() - side / 2, side, side), "stop", self.theme)
        bold = self.theme.font("label", weight=600)
        above = QPointF(min(at.x(), axes.box.right() - 60 * scale), at.y() - 18 * scale)
        self.text(painter, above, point.name, font=bold, token="red", align=Qt.AlignmentFlag.AlignHCenter)
        middle = QPointF((edge.x() + at.x()) / 2 + 60 * scale, at.y() + 14 * scale)
        self.text(painter, middle, point.fault, font=bold, token="red", align=Qt.AlignmentFlag.AlignHCenter)
