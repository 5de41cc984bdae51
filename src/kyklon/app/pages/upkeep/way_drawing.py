"""A way in numbered steps on two lanes: what is done at this computer, and what at the machine."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPen, QPolygonF, QResizeEvent

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument

HERE, MACHINE = "On this computer", "On the machine"


@dataclass(frozen=True)
class Station:
    """state: done, next, stop, open. note: a second text, minutes or what stands against it."""

    title: str
    state: str
    lane: str = HERE
    note: str = ""


_MARKS = {"done": "✓", "stop": "▲", "next": "", "open": ""}
_GAP, _PAD, _LINE, _NOTE = 12.0, 6.0, 17.0, 16.0  # px between two steps, inside one, of a line, of its note
_INNER = 48.0  # px of a step that its number and edges take


class WayDrawing(Instrument):
    least = QSize(280, 240)

    def __init__(self, theme: Theme, name: str) -> None:
        super().__init__(theme, name)
        self._stations: tuple[Station, ...] = ()

    def show_way(self, stations: tuple[Station, ...]) -> None:
        if not self.shows(stations):
            return
        self._stations = stations
        self._fit()
        self.setAccessibleDescription(
            "; ".join(f"{n}. {each.lane}: {each.title}, {each.state}" for n, each in enumerate(stations, 1))
        )
        self.update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Override: narrower steps are higher."""
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        px = self.theme.px
        heights = self._heights(self.width() or self.least.width())
        self.setMinimumHeight(round(px(30) + sum(heights) + px(_GAP) * len(heights)))

    def _wide(self, whole: float) -> float:
        return (whole - self.theme.px(18)) / 2

    def _lines(self, station: Station, wide: float) -> list[str]:
        bold = self.theme.font("label", weight=600)
        return _wrapped(QFontMetricsF(bold), station.title, wide - self.theme.px(_INNER))

    def _notes(self, station: Station, wide: float) -> list[str]:
        return _wrapped(QFontMetricsF(self.theme.font("small")), station.note, wide - self.theme.px(_INNER))

    def _heights(self, whole: float) -> list[float]:
        px, found = self.theme.px, []
        for station in self._stations:
            wide = self._wide(whole)
            lines, notes = len(self._lines(station, wide)), len(self._notes(station, wide))
            found.append(max(px(46), px(2 * _PAD + _LINE * lines + _NOTE * notes)))
        return found

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px, font = self.theme.px, self.theme.font
        if not self._stations:
            return
        wide = self._wide(box.width())
        lefts = {HERE: box.left(), MACHINE: box.right() - wide}
        for lane, left in lefts.items():
            at = QPointF(left + wide / 2, box.top() + px(8))
            middle = Qt.AlignmentFlag.AlignHCenter
            self.text(painter, at, lane, font=font("small", weight=600), token="muted", align=middle)
        heights = self._heights(box.width())
        spare = box.height() - px(24) - sum(heights) - px(_GAP) * (len(heights) - 1)
        gap = px(_GAP) + max(0.0, min(px(26), spare / max(1, len(heights))))
        before: QPointF | None = None
        top = box.top() + px(22)
        for number, (station, high) in enumerate(zip(self._stations, heights, strict=True), 1):
            place = QRectF(lefts[station.lane], top, wide, high)
            top += high + gap
            dot = QPointF(place.left() + px(20), place.top() + px(20))
            if before is not None:
                self._arrow(painter, before, place, station)
            before = QPointF(place.left() + px(20), place.bottom())
            self._draw_station(painter, place, station, number, dot)

    def _arrow(self, painter: QPainter, start: QPointF, place: QRectF, station: Station) -> None:
        px = self.theme.px
        end = QPointF(place.left() + px(20), place.top())
        colour = "teal" if station.state == "done" else "muted"
        painter.setPen(QPen(self.theme.color(colour), 1.6))
        if abs(end.x() - start.x()) > 1:
            middle = (start.y() + end.y()) / 2
            painter.drawPolyline(QPolygonF([start, QPointF(start.x(), middle), QPointF(end.x(), middle), end]))
        else:
            painter.drawLine(start, end)

    def _draw_station(self, painter: QPainter, place: QRectF, station: Station, number: int, dot: QPointF) -> None:
        px, font = self.theme.px, self.theme.font
        fills = {"done": "teal_soft", "stop": "red_soft", "next": "amber_soft", "open": "field"}
        edges = {"done": "teal", "stop": "red", "next": "amber", "open": "hairline"}
        self.block(painter, place, fills[station.state], edges[station.state], radius=4, width=1.3)
        ring = QRectF(dot.x() - px(11), dot.y() - px(11), px(22), px(22))
        self.block(painter, ring, "sheet", edges[station.state], radius=px(11), width=1.4)
        mark = _MARKS[station.state] or str(number)
        self.text(painter, ring, mark, font=font("small", weight=700), align=Qt.AlignmentFlag.AlignCenter)
        inner = place.adjusted(px(40), px(6), -px(8), -px(5))
        bold = font("label", weight=600 if station.state in ("next", "stop") else 500)
        y = inner.top()
        for line in self._lines(station, place.width()):
            self.text(painter, QRectF(inner.left(), y, inner.width(), px(_LINE)), line, font=bold)
            y += px(_LINE)
        token = "red" if station.state == "stop" else "muted"
        for line in self._notes(station, place.width()):
            self.text(painter, QRectF(inner.left(), y, inner.width(), px(_NOTE)), line, font=font("small"), token=token)
            y += px(_NOTE)


def _wrapped(metrics: QFontMetricsF, text: str, width: float) -> list[str]:
    """Words in lines of a width."""
    lines, line = [], ""
    for word in text.split():
        wider = f"{line} {word}".strip()
        if line and metrics.horizontalAdvance(wider) > width:
            lines.append(line)
            line = word
        else:
            line = wider
    return [*lines, line] if line else lines
