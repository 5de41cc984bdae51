"""Evenings at the bench: a band each, with a lane for the hands and one for what runs by itself."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import counted, show_duration

_BAND, _THIN, _LEFT = 92, 52, 84  # px: height of a band, of one without handwork, and what stands before it


@dataclass(frozen=True)
class Mark:
    """A step in a lane, from and to in minutes. on: it runs on beyond the evening."""

    step: str
    title: str
    start: float
    end: float
    critical: bool
    on: bool = False


@dataclass(frozen=True)
class Day:
    """name, start: in words; low, high: minutes."""

    name: str
    start: str
    low: float
    high: float
    hands: tuple[Mark, ...]
    alone: tuple[Mark, ...]


def _height(day: Day) -> int:
    return _BAND if day.hands else _THIN


class BenchDays(Instrument):
    """chosen: id of the step that was clicked, or walked to with the arrow keys."""

    least = QSize(400, 240)
    chosen = pyqtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Evenings at the bench")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._days: tuple[Day, ...] = ()
        self._left: tuple[str, ...] = ()
        self._boxes: list[tuple[QRectF, str]] = []
        self.current = ""

    def show_days(self, days: tuple[Day, ...], left: tuple[str, ...]) -> None:
        """left: titles of what no evening holds."""
        if not self.shows(days, left):
            return
        self._days, self._left = days, left
        told = [
            f"{day.name}: "
            + ", ".join(f"{mark.title} {show_duration(round(mark.end - mark.start) * 60)}" for mark in day.hands)
            for day in days
        ]
        self.setAccessibleDescription("; ".join([*told, *(f"no time for {title}" for title in left)]))
        high = sum(_height(day) for day in days) + (30 + 18 * -(-len(left) // 2) if left else 0) + 8
        self.setMinimumHeight(round(self.theme.px(max(high, 240))))
        self.update()

    def sizeHint(self) -> QSize:
        """Override."""
        return QSize(420, max(self.minimumHeight(), 240))

    def _ids(self) -> list[str]:
        return list(dict.fromkeys(mark.step for day in self._days for mark in day.hands))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        if event is not None:
            found = next((step for box, step in self._boxes if box.contains(event.position())), "")
            self._choose(found)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}
        move = step.get(Qt.Key(event.key()), 0) if event is not None else 0
        ids = self._ids()
        if move and ids:
            at = ids.index(self.current) + move if self.current in ids else 0
            self._choose(ids[max(0, min(len(ids) - 1, at))])
        else:
            super().keyPressEvent(event)

    def _choose(self, step: str) -> None:
        self.current = step
        self.update()
        self.chosen.emit(step)

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        self._boxes = []
        if not self._days and not self._left:
            self.text(painter, box, "Everything is done.", token="muted", align=Qt.AlignmentFlag.AlignCenter)
            return
        at = box.top()
        for day in self._days:
            self._draw_day(painter, QRectF(box.left(), at, box.width(), px(_height(day))), day)
            at += px(_height(day))
        at += px(6)
        if self._left:
            head = QRectF(box.left() + px(4), at, box.width(), px(20))
            words = f"More evenings are needed for {counted(len(self._left), 'step')}"
            self.text(painter, head, words, font=self.theme.font("label", weight=600), token="amber")
            half = box.width() / 2
            for number, title in enumerate(self._left):
                spot = QRectF(
                    box.left() + px(4) + number % 2 * half, at + px(22) + number // 2 * px(18), half - px(8), px(18)
                )
                self.text(painter, spot, f"○ {title}", font=self.theme.font("small"))

    def _draw_day(self, painter: QPainter, box: QRectF, day: Day) -> None:
        px = self.theme.px
        self.text(
            painter,
            QRectF(box.left() + px(4), box.top() + px(8), px(_LEFT), px(18)),
            day.name,
            font=self.theme.font("label", weight=600),
        )
        self.text(
            painter,
            QRectF(box.left() + px(4), box.top() + px(26), px(_LEFT), px(16)),
            f"{day.start}, {show_duration(round(day.high - day.low) * 60)}",
            font=self.theme.font("small"),
            token="muted",
        )
        left, wide = box.left() + px(_LEFT + 16), box.width() - px(_LEFT + 20)
        longest = day.high - day.low
        scale = wide / longest
        span = QRectF(left, box.top() + px(6), wide, px(_height(day) - 14))
        self.block(painter, span, "sheet", "hairline", radius=3)
        step = 30 if longest <= 400 else 120 if longest <= 1500 else 480
        minutes = step
        while minutes < day.high - day.low:
            x = left + minutes * scale
            self.line(painter, QPointF(x, span.top()), QPointF(x, span.bottom()), "grid")
            minutes += step
        for lane, (marks, fill) in enumerate(((day.hands, "teal_soft"), (day.alone, "amber_soft"))):
            y = span.top() + px(4) + (lane * px(37) if day.hands else 0)
            for mark in marks:
                place = QRectF(
                    left + (mark.start - day.low) * scale, y, max(px(3), (mark.end - mark.start) * scale), px(33)
                )
                chosen = mark.step == self.current
                style = Qt.PenStyle.SolidLine if lane == 0 else Qt.PenStyle.DashLine
                edge = QPen(self.theme.color("teal" if lane == 0 else "amber"), 2.4 if chosen else 1.1, style)
                self.block(painter, place.adjusted(0.5, 0, -0.5, 0), fill, edge, radius=2)
                self._boxes.append((place, mark.step))
                if place.width() > px(34):
                    sign = "◆ " if mark.critical and lane == 0 else ""
                    more = " →" if mark.on else ""
                    inner = place.adjusted(px(4), px(1), -px(3), -px(15))
                    self.text(painter, inner, f"{sign}{mark.title}{more}", font=self.theme.font("small", weight=500))
                    under = place.adjusted(px(4), px(16), -px(3), -px(1))
                    words = show_duration(round(mark.end - mark.start) * 60)
                    self.text(painter, under, words, font=self.theme.mono("small"), token="muted")
