"""Three methods side by side, and the front of choices from the fewest modes to the most."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetricsF, QMouseEvent, QPainter, QPen

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.app.widgets.plot import Plot
from kyklon.base.quantities import show_share


@dataclass(frozen=True)
class SchoolDrawn:
    """rows: a measure's name, its value from 0 (good) to 1 (bad), and in words. state: lamp; '' for none."""

    key: str
    title: str
    modes: str
    rows: tuple[tuple[str, float, str], ...]
    current: bool
    why: str = ""


class SchoolsDrawing(Instrument):
    least = QSize(520, 170)
    chosen = pyqtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Three methods side by side")
        self._schools: tuple[SchoolDrawn, ...] = ()
        self._picked = ""
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def show_schools(self, schools: tuple[SchoolDrawn, ...], picked: str) -> None:
        if not self.shows(schools, picked):
            return
        self._schools, self._picked = schools, picked
        told = [
            f"{school.title}: {school.modes}, {', '.join(f'{name} {words}' for name, _value, words in school.rows)}"
            for school in schools
        ]
        self.setAccessibleDescription("; ".join(told))
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        if event is not None and self._schools:
            place = int(event.position().x() / max(1, self.width()) * len(self._schools))
            self.chosen.emit(self._schools[min(place, len(self._schools) - 1)].key)

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        if not self._schools:
            self.say(painter, box, "Choose a board and a display in Plan.")
            return
        scale, gap = self.theme.scale, 12 * self.theme.scale
        wide = (box.width() - gap * (len(self._schools) - 1)) / len(self._schools)
        for index, school in enumerate(self._schools):
            spot = QRectF(box.left() + index * (wide + gap), box.top() + 2, wide, box.height() - 4)
            picked = school.key == self._picked
            self.block(
                painter,
                spot,
                "teal_soft" if picked else "field",
                "teal" if picked else "hairline",
                radius=4,
                width=2 * scale if picked else 1,
            )
            self._draw_school(painter, spot.adjusted(11 * scale, 8 * scale, -11 * scale, -8 * scale), school)

    def _draw_school(self, painter: QPainter, spot: QRectF, school: SchoolDrawn) -> None:
        scale = self.theme.scale
        head = QRectF(spot.left(), spot.top(), spot.width(), 20 * scale)
        self.text(painter, head, school.title, font=self.theme.font("body", weight=600))
        under = head.translated(0, 19 * scale)
        self.text(painter, under, school.modes, font=self.theme.font("label", weight=500), token="teal")
        if school.current:
            self.text(
                painter,
                under,
                "in use",
                font=self.theme.font("label", weight=600),
                token="muted",
                align=Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            )
        if school.why:
            side = 12 * scale
            paint_lamp(painter, QRectF(spot.right() - side, spot.top() + 3, side, side), "stop", self.theme)
        y = under.bottom() + 12 * scale
        pitch = max(17 * scale, min(30 * scale, (spot.bottom() - y) / max(1, len(school.rows))))
        for name, value, words in school.rows:
            room = QRectF(spot.left(), y - 8 * scale, spot.width(), 16 * scale)
            self.text(painter, room, name, font=self.theme.font("small"), token="muted")
            self.text(
                painter,
                room,
                words,
                font=self.theme.mono("small"),
                align=Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            )
            track = QRectF(spot.left(), y + 8 * scale, spot.width(), 4 * scale)
            self.block(painter, track, "grid", radius=2)
            if value > 0:
                filled = QRectF(track.left(), track.top(), track.width() * min(1.0, value), track.height())
                self.block(painter, filled, "amber" if value > 0.5 else "teal", radius=2)
            y += pitch


@dataclass(frozen=True)
class FrontPoint:
    """modes: how many; suffered: the mean of what games suffer, 0 to 1 of their limits; gap: as a part."""

    modes: int
    suffered: float
    gap: float


class FrontPlot(Plot):
    least = QSize(240, 150)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Trade-off: number of modes against picture errors")
        self._points: tuple[FrontPoint, ...] = ()
        self._picked = -1
        self._words = ""

    def show_front(self, points: tuple[FrontPoint, ...], picked: int, words: str) -> None:
        """picked: place of the choice that is looked at. words: shown where there is no point."""
        if not self.shows(points, picked, words):
            return
        self._points, self._picked, self._words = points, picked, words
        self.setAccessibleDescription(
            "; ".join(f"{point.modes} modes {show_share(point.suffered, 1)}" for point in points)
        )
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        if not self._points:
            self.text(painter, box, self._words, token="muted", align=Qt.AlignmentFlag.AlignCenter)
            return
        most = max(point.suffered for point in self._points) * 100
        first, last = self._points[0].modes, self._points[-1].modes
        axes = self.axes(
            painter, box, (first - 0.8, last + 0.8), (0, max(1.0, most * 1.2)), "modes", "worst error, % of the limits"
        )
        scale, before = self.theme.scale, None
        for each in self._points:
            at = axes.at(each.modes, each.suffered * 100)
            if before is not None:
                corner = QPointF(at.x(), before.y())
                self.line(painter, before, corner, "teal", 1.5)
                self.line(painter, corner, at, "teal", 1.5)
            before = at
        for index, each in enumerate(self._points):
            at = axes.at(each.modes, each.suffered * 100)
            radius = (7 if index == self._picked else 4.5) * scale
            painter.setPen(QPen(self.theme.color("teal"), 1.5))
            painter.setBrush(self.theme.color("teal" if index == self._picked else "sheet"))
            painter.drawEllipse(at, radius, radius)
            if index == self._picked:
                gap = f", within {show_share(each.gap, 1)}" if each.gap > 1e-6 else ", exact"
                words = f"{each.modes} modes: {show_share(each.suffered, 1)}{gap}"
                right = at.x() < axes.box.center().x()
                spot = QPointF(at.x() + (12 if right else -12) * scale, at.y() - 14 * scale)
                self.text(
                    painter,
                    spot,
                    words,
                    font=self.theme.font("label", weight=600),
                    token="teal",
                    align=Qt.AlignmentFlag.AlignLeft if right else Qt.AlignmentFlag.AlignRight,
                )


@dataclass(frozen=True)
class ServedDrawn:
    """A system and the mode that serves it. place: of the mode among those taken, -1 for none. wish: its weight, 1 for
    as much as its games."""

    key: str
    name: str
    place: int
    wish: float = 1.0


class ServedDrawing(Instrument):
    """Systems at the left, modes at the right, a line from each system to its mode. wished: a system was clicked."""

    least = QSize(260, 150)
    wished = pyqtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Which mode serves which system")
        self._rows: tuple[ServedDrawn, ...] = ()
        self._modes: tuple[str, ...] = ()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        if event is None or not self._rows or event.position().x() > self.width() * 0.34:
            return
        pitch = min(24 * self.theme.scale, self.height() / len(self._rows))
        place = int(event.position().y() / pitch)
        if place < len(self._rows):
            self.wished.emit(self._rows[place].key)

    def show_served(self, rows: tuple[ServedDrawn, ...], modes: tuple[str, ...]) -> None:
        if not self.shows(rows, modes):
            return
        self._rows, self._modes = rows, modes
        told = [f"{row.name}: {modes[row.place] if row.place >= 0 else 'none'}" for row in rows]
        self.setAccessibleDescription("; ".join(told))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        if not self._rows:
            return
        scale = self.theme.scale
        left_w, right_w = box.width() * 0.34, box.width() * 0.42
        pitch = min(24 * scale, box.height() / len(self._rows))
        mode_pitch = box.height() / max(1, len(self._modes))
        spots = []
        for index, words in enumerate(self._modes):
            y = box.top() + (index + 0.5) * mode_pitch
            spot = QRectF(
                box.right() - right_w,
                y - min(11 * scale, mode_pitch * 0.45),
                right_w,
                min(22 * scale, mode_pitch * 0.9),
            )
            self.block(painter, spot, "field", "teal", radius=3)
            self.text(painter, spot.adjusted(7, 0, -4, 0), words, font=self.theme.mono("small"))
            spots.append(spot)
        for index, row in enumerate(self._rows):
            y = box.top() + (index + 0.5) * pitch
            room = QRectF(box.left(), y - 9 * scale, left_w, 18 * scale)
            bad = row.place < 0
            name = row.name if row.wish == 1 else f"{row.name}  × {row.wish:g}"
            drawn = self.text(
                painter, room, name, font=self.theme.font("label", weight=500), token="red" if bad else "ink"
            )
            if bad:
                self.text(
                    painter,
                    QPointF(drawn.right() + 6, y),
                    "no mode within the limits: uses the menu's",
                    token="red",
                    font=self.theme.font("small"),
                )
                continue
            end = spots[row.place]
            metrics = QFontMetricsF(self.theme.font("label", weight=500))
            start = QPointF(room.left() + min(metrics.horizontalAdvance(name) + 8 * scale, left_w), y)
            painter.setPen(QPen(self.theme.color("teal", 150), 1.4))
            painter.drawLine(start, QPointF(end.left(), end.center().y()))
