"""Every system on the same glass, side by side: how much of it its picture takes, and what is lost."""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument


@dataclass(frozen=True)
class Thumb:
    """box: left, top, width and height of the picture as parts of the seen glass; it may reach out of it. words: what
    is worth saying. bad: it must not be sent. upright_lines: its lines run from top to bottom."""

    key: str
    name: str
    box: tuple[float, float, float, float]
    words: str
    bad: bool = False
    upright_lines: bool = False


class StripDrawing(Instrument):
    least = QSize(300, 120)
    chosen = pyqtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Every system on the screen")
        self._thumbs: tuple[Thumb, ...] = ()
        self._aspect, self._picked = 4 / 3, ""
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def show_thumbs(self, thumbs: tuple[Thumb, ...], aspect: float, picked: str) -> None:
        """aspect: of the glass; picked: key of the one that is looked at."""
        if not self.shows(thumbs, aspect, picked):
            return
        self._thumbs, self._aspect, self._picked = thumbs, aspect, picked
        self.setAccessibleDescription(
            "; ".join(f"{thumb.name}: {thumb.words or 'fills the screen'}" for thumb in thumbs)
        )
        self.update()

    def _places(self, box: QRectF) -> list[QRectF]:
        """A place for each, in as many rows as make them largest."""
        count, best = max(1, len(self._thumbs)), (0.0, 1)
        words, gap = 34 * self.theme.scale, 10 * self.theme.scale
        for rows in range(1, 5):
            columns = ceil(count / rows)
            wide = (box.width() - gap * (columns - 1)) / columns
            high = (box.height() - gap * (rows - 1)) / rows - words
            best = max(best, (min(wide, high * self._aspect), rows))
        rows = best[1]
        columns = ceil(count / rows)
        wide, high = (box.width() - gap * (columns - 1)) / columns, (box.height() - gap * (rows - 1)) / rows
        spots = (
            (index % columns * (wide + gap), index // columns * (high + gap)) for index in range(len(self._thumbs))
        )
        return [QRectF(box.left() + x, box.top() + y, wide, high) for x, y in spots]

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        if event is None:
            return
        for thumb, place in zip(self._thumbs, self._places(QRectF(self.rect())), strict=True):
            if place.contains(event.position()):
                self.chosen.emit(thumb.key)

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        scale = self.theme.scale
        for thumb, place in zip(self._thumbs, self._places(box), strict=True):
            room = place.adjusted(0, 0, 0, -34 * scale)
            wide = min(room.width(), room.height() * self._aspect)
            if wide < 12:
                continue
            glass = QRectF(0, 0, wide - 6, (wide - 6) / self._aspect)
            glass.moveCenter(room.center())
            edge = QPen(self.theme.color("teal"), 2.5) if thumb.key == self._picked else ""
            self.block(painter, glass.adjusted(-3, -3, 3, 3), "bezel", edge, radius=4)
            self.block(painter, glass, "glass", radius=2)
            left, top, across, down = thumb.box
            own = QRectF(
                glass.left() + left * glass.width(),
                glass.top() + top * glass.height(),
                across * glass.width(),
                down * glass.height(),
            )
            painter.save()
            painter.setClipRect(glass)
            self.block(painter, own, self.theme.color("phosphor", 60), "phosphor", radius=0)
            painter.setPen(QPen(self.theme.color("phosphor", 90), 0.7))
            for index in range(1, 9):
                if thumb.upright_lines:
                    x = own.left() + own.width() * index / 9
                    painter.drawLine(round(x), round(own.top()), round(x), round(own.bottom()))
                else:
                    y = own.top() + own.height() * index / 9
                    painter.drawLine(round(own.left()), round(y), round(own.right()), round(y))
            painter.restore()
            centre = Qt.AlignmentFlag.AlignCenter
            below = QRectF(place.left(), room.bottom() + 2 * scale, place.width(), 16 * scale)
            self.text(
                painter,
                below,
                thumb.name,
                font=self.theme.font("label", weight=600),
                token="red" if thumb.bad else "ink",
                align=centre,
            )
            self.text(
                painter,
                below.translated(0, 15 * scale),
                thumb.words,
                font=self.theme.font("small"),
                token="red" if thumb.bad else "muted",
                align=centre,
            )
