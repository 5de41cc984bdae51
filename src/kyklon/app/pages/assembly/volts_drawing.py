"""Where the volts go: every piece of the way as a step down, from the source to the board and to what hangs on it."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.app.widgets.plot import ticks


@dataclass(frozen=True)
class Drop:
    """A piece of the way: volts before and after it, and the amps through it."""

    name: str
    before: float
    after: float
    amps: float


@dataclass(frozen=True)
class End:
    """What is fed: the volts that reach it, and below which it fails; 0 where nobody says."""

    name: str
    volts: float
    least_v: float


@dataclass(frozen=True)
class Way:
    """A source with its drops in order and the ends that it feeds."""

    source: str
    volts: float
    amps: float
    drops: tuple[Drop, ...]
    ends: tuple[End, ...]

    @property
    def rows(self) -> int:
        return 1 + len(self.drops) + len(self.ends)


_PITCH, _HEAD, _AXIS = 20, 22, 18  # px: a row, a heading, the figures below


class VoltsDrawing(Instrument):
    least = QSize(330, 220)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Volts along the way from the source to every load")
        self._ways: tuple[Way, ...] = ()

    def show_ways(self, ways: tuple[Way, ...]) -> None:
        if not self.shows(ways):
            return
        self._ways = ways
        told = []
        for way in ways:
            told.append(f"{way.source} {way.volts:.2f} V")
            told += [f"{drop.name} loses {drop.before - drop.after:.2f} V" for drop in way.drops]
            told += [f"{end.name} gets {end.volts:.2f} V" for end in way.ends]
        self.setAccessibleDescription("; ".join(told))
        rows = sum(way.rows for way in ways)
        self.setMinimumHeight(round(self.theme.px(rows * _PITCH + len(ways) * (_HEAD + _AXIS) + 8)))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        if not self._ways:
            words = "Choose a board and a power supply in Plan."
            self.say(painter, box, words)
            return
        px = self.theme.px
        free = box.height() - px(len(self._ways) * (_HEAD + _AXIS))
        pitch = min(px(28), free / sum(way.rows for way in self._ways))
        top = box.top()
        for way in self._ways:
            high = pitch * way.rows + px(_HEAD + _AXIS)
            self._draw_way(painter, QRectF(box.left(), top, box.width(), high), way, pitch)
            top += high

    def _draw_way(self, painter: QPainter, box: QRectF, way: Way, pitch: float) -> None:
        px = self.theme.px
        names = box.width() * 0.42
        left, right = box.left() + names + px(8), box.right() - px(72)
        limits = [end.least_v for end in way.ends if end.least_v]
        lowest = min([*(end.volts for end in way.ends), *limits, way.volts * 0.97])
        low, high = lowest - (way.volts - lowest) * 0.08, way.volts + (way.volts - lowest) * 0.04

        def x(volts: float) -> float:
            return left + (volts - low) / (high - low) * (right - left)

        self.text(
            painter,
            QRectF(box.left(), box.top(), box.width(), px(_HEAD)),
            f"{way.source}: {way.volts:.2f}\u202fV, {way.amps:.2f}\u202fA",
            font=self.theme.font("label", weight=600),
        )
        top = box.top() + px(_HEAD)
        bottom = top + pitch * way.rows
        for volts in ticks(low, high, max(2, int((right - left) / px(64)))):
            self.line(painter, QPointF(x(volts), top), QPointF(x(volts), bottom), "grid")
            self.text(
                painter,
                QPointF(x(volts), bottom + px(9)),
                f"{volts:g}\u202fV",
                font=self.theme.mono("small"),
                token="muted",
                align=Qt.AlignmentFlag.AlignHCenter,
            )
        y = top + pitch / 2
        self.line(painter, QPointF(x(way.volts), top), QPointF(x(way.volts), y), "ink", 1.4)
        for drop in way.drops:
            y = self._draw_drop(
                painter, QRectF(box.left(), y, names, pitch), drop, (x(drop.before), x(drop.after)), right
            )
        for end in way.ends:
            self._draw_end(painter, QRectF(box.left(), y, names, pitch), end, x, right)
            y += pitch

    def _draw_drop(self, painter: QPainter, at: QRectF, drop: Drop, span: tuple[float, float], right: float) -> float:
        """A step down; returns where the next row begins."""
        px = self.theme.px
        line = QRectF(at.left(), at.top(), at.width(), at.height())
        self.text(painter, line, drop.name, font=self.theme.font("label"))
        bar = QRectF(span[1], line.center().y() - px(5), max(px(1.5), span[0] - span[1]), px(10))
        self.block(painter, bar, "teal_soft", "teal", radius=1.5)
        figures = QRectF(right + px(6), line.top(), px(66), line.height())
        words = f"−{(drop.before - drop.after) * 1000:.0f}\u202fmV"
        self.text(
            painter,
            figures,
            words,
            font=self.theme.mono("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
        )
        self.line(painter, QPointF(span[1], bar.bottom()), QPointF(span[1], line.bottom() + px(5)), "teal", 1.0)
        return line.bottom()

    def _draw_end(self, painter: QPainter, line: QRectF, end: End, x: object, right: float) -> None:
        px, place = self.theme.px, x
        assert callable(place)
        low = bool(end.least_v) and end.volts < end.least_v
        self.text(painter, line, end.name, font=self.theme.font("label", weight=600))
        if end.least_v:
            at = place(end.least_v)
            pen = QPen(self.theme.color("red"), 1.4, Qt.PenStyle.DashLine)
            painter.setPen(pen)
            painter.drawLine(QPointF(at, line.top() + px(2)), QPointF(at, line.bottom() - px(2)))
        side = px(10)
        paint_lamp(
            painter,
            QRectF(place(end.volts) - side / 2, line.center().y() - side / 2, side, side),
            "stop" if low else "clear",
            self.theme,
        )
        words = f"{end.volts:.2f}\u202fV" + (" low" if low else "")
        self.text(
            painter,
            QRectF(right + px(6), line.top(), px(66), line.height()),
            words,
            font=self.theme.mono("small", 500),
            token="red" if low else "ink",
            align=Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
        )
