"""A board with its sockets at its edges: power and card at the left, pictures and sound on top, USB at the right."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument

Port = dict[str, Any]


def side_of(port: Port) -> str:
    """The edge that a socket is drawn at."""
    if port["signal"] == "SD" or (port["signal"] == "power" and port["direction"] == "in"):
        return "left"
    return "right" if str(port["signal"]).startswith("USB") else "top"


class BoardDrawing(Instrument):
    """Click a socket, or go to it with the arrow keys, to change it."""

    least = QSize(340, 190)
    chosen = pyqtSignal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Sockets of the board")
        self._ports: tuple[Port, ...] = ()
        self._current = -1
        self._name = ""
        self._boxes: list[QRectF] = []
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def show_ports(self, name: str, ports: tuple[Port, ...], current: int) -> None:
        if not self.shows(name, str(ports), current):
            return
        self._name, self._ports, self._current = name, ports, current
        self.setAccessibleDescription("; ".join(f"{port['label']} {port['connector']}" for port in ports))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        board = box.adjusted(px(96), px(52), -px(104), -px(16))
        self.block(painter, board, "teal_soft", "teal", radius=px(6), width=1.5)
        for x, y in ((10, 10), (-10, 10), (10, -10), (-10, -10)):  # the holes of its corners
            at = QPointF(
                board.left() + px(x) if x > 0 else board.right() + px(x),
                board.top() + px(y) if y > 0 else board.bottom() + px(y),
            )
            painter.setBrush(self.theme.color("sheet"))
            painter.setPen(self.theme.color("teal"))
            painter.drawEllipse(at, px(3.5), px(3.5))
        self.text(
            painter,
            board.center(),
            self._name or "The board",
            font=self.theme.head("section"),
            align=Qt.AlignmentFlag.AlignHCenter,
        )
        if not self._ports:
            self.text(
                painter,
                QPointF(board.center().x(), board.center().y() + px(22)),
                "no sockets yet: add them below",
                token="muted",
                align=Qt.AlignmentFlag.AlignHCenter,
            )
        self._boxes = [QRectF()] * len(self._ports)
        for side in ("left", "right", "top"):
            rows = [index for index, each in enumerate(self._ports) if side_of(each) == side]
            for place, index in enumerate(rows):
                self._port(painter, board, side, (place + 0.5) / len(rows), index)

    def _port(self, painter: QPainter, board: QRectF, side: str, share: float, index: int) -> None:
        px, port = self.theme.px, self._ports[index]
        long, deep = px(26), px(14)
        if side == "top":
            middle = QPointF(board.left() + board.width() * share, board.top())
            socket = QRectF(middle.x() - long / 2, middle.y() - deep, long, deep)
        else:
            x = board.left() - deep if side == "left" else board.right()
            y = board.top() + board.height() * share
            socket = QRectF(x, y - long / 2, deep, long)
        current = index == self._current
        self.block(painter, socket, "teal" if current else "field", "teal" if current else "ink", radius=2, width=1.5)
        weight = 600 if current else 500
        font = self.theme.font("label", weight=weight)
        words = (str(port["label"]), str(port["connector"]))
        if side == "top":
            area = QRectF(socket.center().x() - px(44), socket.top() - px(35), px(88), px(16))
            align = Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignVCenter
        elif side == "left":
            area = QRectF(socket.left() - px(92), socket.center().y() - px(16), px(86), px(16))
            align = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        else:
            area = QRectF(socket.right() + px(6), socket.center().y() - px(16), px(92), px(16))
            align = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        self.text(painter, area, words[0], font=font, token="teal" if current else "ink", align=align)
        self.text(
            painter, area.translated(0, px(15)), words[1], font=self.theme.font("small"), token="muted", align=align
        )
        self._boxes[index] = socket.united(area).united(area.translated(0, px(15)))

    def box_of(self, index: int) -> QRectF:
        """Where a socket is drawn."""
        self._drawn()
        return self._boxes[index]

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        for index, area in enumerate(self._boxes):
            if area.contains(event.position()):
                self.chosen.emit(index)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Down: 1, Qt.Key.Key_Left: -1, Qt.Key.Key_Up: -1}.get(
            Qt.Key(event.key())
        )
        if step and self._ports:
            self.chosen.emit((self._current + step) % len(self._ports))
        else:
            super().keyPressEvent(event)
