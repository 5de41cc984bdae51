"""State lamps: shape, colour and word together."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from kyklon.app.theme.tokens import Theme

TOKEN = {"stop": "red", "caution": "amber", "clear": "teal", "note": "muted", "stale": "muted", "not started": "muted"}


def paint_lamp(painter: QPainter, box: QRectF, state: str, theme: Theme) -> None:
    """clear: disc; caution: triangle; stop: square with a bar; stale: half ring; not started: ring; note: dot."""
    color = theme.color(TOKEN[state])
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(color)
    if state == "clear":
        painter.drawEllipse(box.adjusted(0.5, 0.5, -0.5, -0.5))
    elif state == "note":
        painter.drawEllipse(box.center(), box.width() / 4, box.height() / 4)
    elif state == "caution":
        corners = [QPointF(box.center().x(), box.top()), box.bottomRight(), box.bottomLeft()]
        painter.drawPolygon(QPolygonF(corners))
    elif state == "stop":
        painter.drawRect(box)
        painter.setBrush(theme.color("sheet"))
        bar = QRectF(
            box.left() + box.width() * 0.2,
            box.center().y() - box.height() * 0.1,
            box.width() * 0.6,
            box.height() * 0.2,
        )
        painter.drawRect(bar)
    else:
        _paint_ring(painter, box.adjusted(1, 1, -1, -1), color, half=state == "stale")
    painter.restore()


def _paint_ring(painter: QPainter, box: QRectF, color: QColor, *, half: bool) -> None:
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(color, 1.5))
    painter.drawEllipse(box)
    if half:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color)
        painter.drawChord(box, 90 * 16, 180 * 16)


class Lamp(QWidget):
    """A lamp as a widget; its accessible name is the state's word."""

    def __init__(self, theme: Theme, state: str = "not started", size: int = 12) -> None:
        super().__init__()
        self._theme, self._state, self._size = theme, state, size
        self._fit()
        theme.tell(self, lambda own: own._fit())
        self.set_state(state)

    def _fit(self) -> None:
        self.setFixedSize(self.sizeHint())

    def set_state(self, state: str) -> None:
        if state == self._state and self.accessibleName():
            return
        self._state = state
        self.setAccessibleName(state)
        self.setToolTip(state.capitalize())
        self.update()

    def sizeHint(self) -> QSize:
        """Override."""
        side = round(self._theme.px(self._size)) + 2
        return QSize(side, side)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override."""
        side = self._theme.px(self._size)
        box = QRectF((self.width() - side) / 2, (self.height() - side) / 2, side, side)
        painter = QPainter(self)
        paint_lamp(painter, box, self._state, self._theme)
        painter.end()
