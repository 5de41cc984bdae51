"""The services in their order as a track; what never starts is behind a closed gate."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import set_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.operations.boot.services import Step


class ServiceTrack(Instrument):
    """Click a service (or use the arrow keys) to choose it; `moved` asks for it to go earlier (-1) or later (+1)."""

    least = QSize(300, 66)
    moved = pyqtSignal(int, int)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Service order")
        self._steps: tuple[Step, ...] = ()
        self._chosen = 0
        self._boxes: list[QRectF] = []
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        set_tip(self, "Click a service; Ctrl+Left and Ctrl+Right move it")

    def show_steps(self, steps: tuple[Step, ...]) -> None:
        if not self.shows(steps):
            return
        self._steps = steps
        self._chosen = min(self._chosen, max(0, len(steps) - 1))
        self.setAccessibleDescription(", ".join(f"{s.name}{'' if s.starts else ' never starts'}" for s in steps))
        self.update()

    @property
    def chosen(self) -> int:
        return self._chosen

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        if not self._steps:
            return
        gap = px(26)
        wide = min(px(170), (box.width() - gap * (len(self._steps) - 1) - 2) / len(self._steps))
        self._boxes = []
        for index, step in enumerate(self._steps):
            place = QRectF(box.left() + 1 + index * (wide + gap), box.top() + px(4), wide, px(34))
            self._boxes.append(place)
            fill = "teal_soft" if index == self._chosen else "field"
            edge = "red" if not step.starts else "teal" if step.foreground else "hairline"
            style = Qt.PenStyle.SolidLine if step.starts else Qt.PenStyle.DashLine
            self.block(painter, place, fill, QPen(self.theme.color(edge), 1.4, style))
            inner = place.adjusted(px(10), 0, -px(20), 0)
            self.text(
                painter,
                inner,
                step.name,
                font=self.theme.font("body", weight=500),
                token="ink" if step.starts else "muted",
            )
            note = (
                "never starts"
                if not step.starts
                else "foreground, never exits"
                if step.foreground
                else "starts, keeps running"
            )
            under = QRectF(place.left(), place.bottom() + 1, place.width() + gap, px(18))
            self.text(painter, under, note, font=self.theme.font("small"), token="muted" if step.starts else "red")
            side = px(9)
            lamp = QRectF(place.right() - px(8) - side, place.center().y() - side / 2, side, side)
            paint_lamp(painter, lamp, "clear" if step.starts else "stop", self.theme)
            if index:
                self._draw_arrow(painter, self._boxes[index - 1], place, broken=not step.starts)

    def _draw_arrow(self, painter: QPainter, before: QRectF, after: QRectF, *, broken: bool) -> None:
        a, b = QPointF(before.right() + 3, before.center().y()), QPointF(after.left() - 3, after.center().y())
        token = "red" if broken else "muted"
        painter.setPen(QPen(self.theme.color(token), 1.4))
        if broken:
            x = (a.x() + b.x()) / 2
            painter.drawLine(QPointF(x, a.y() - 9), QPointF(x, a.y() + 9))
            painter.drawLine(a, QPointF(x - 2, a.y()))
            return
        painter.drawLine(a, b)
        painter.drawLine(b, b + QPointF(-5, -4))
        painter.drawLine(b, b + QPointF(-5, 4))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        for index, place in enumerate(self._boxes):
            if place.contains(event.position()):
                self._chosen = index
                self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
        elif event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.moved.emit(self._chosen, step)
        else:
            self._chosen = min(max(0, self._chosen + step), len(self._steps) - 1)
            self.update()

    def move_chosen(self, step: int) -> None:
        self.moved.emit(self._chosen, step)
        self._chosen = min(max(0, self._chosen + step), len(self._steps) - 1)
        self.update()
