"""Parts as blocks with their real ports, cables as routed lines, current and voltage on them, faults where they are."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPainterPath, QPen

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument


@dataclass(frozen=True)
class PortMark:
    id: str
    text: str


@dataclass(frozen=True)
class Block:
    """column: 0 feeds the board, 1 is the board, 2 and more hang on it."""

    role: str
    title: str
    note: str
    ports: tuple[PortMark, ...]
    column: int


@dataclass(frozen=True)
class Wire:
    """start, end: (role, port). tag: what flows. fault: '' or what is wrong."""

    start: tuple[str, str]
    end: tuple[str, str]
    name: str
    tag: str
    fault: str
    power: bool


class ConnectionMap(Instrument):
    """joined: two sockets, as role.port, between which a cable was dragged."""

    least = QSize(480, 280)
    joined = pyqtSignal(str, str)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Connection map")
        self._blocks: tuple[Block, ...] = ()
        self._wires: tuple[Wire, ...] = ()
        self._spots: list[tuple[QRectF, str]] = []
        self._from = ""
        self._at = QPointF()
        self.setMouseTracking(True)

    def show_values(self, blocks: tuple[Block, ...], wires: tuple[Wire, ...]) -> None:
        if not self.shows(blocks, wires):
            return
        self._blocks, self._wires = blocks, wires
        told = [f"{wire.start[0]} to {wire.end[0]}: {wire.name}, {wire.fault or wire.tag or 'fits'}" for wire in wires]
        self.setAccessibleDescription("; ".join(told))
        self.update()

    # --- dragging --------------------------------------------------------------------------------------------

    def _socket_at(self, at: QPointF) -> str:
        return next((socket for spot, socket in self._spots if spot.contains(at)), "")

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override: a cable begins at a socket."""
        if event is not None:
            self._from, self._at = self._socket_at(event.position()), event.position()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Override: it follows the mouse."""
        if event is None:
            return
        over = bool(self._from or self._socket_at(event.position()))
        self.setCursor(Qt.CursorShape.PointingHandCursor if over else Qt.CursorShape.ArrowCursor)
        if self._from:
            self._at = event.position()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Override: it ends at another socket, or snaps back."""
        start, self._from = self._from, ""
        self.update()
        end = self._socket_at(event.position()) if event is not None else ""
        if start and end and start.partition(".")[0] != end.partition(".")[0]:
            self.joined.emit(start, end)

    def _draw_dragged(self, painter: QPainter) -> None:
        spot = next((spot for spot, socket in self._spots if socket == self._from), None)
        if spot is not None:
            self.line(painter, QPointF(spot.right(), spot.center().y()), self._at, "amber", 2.0, Qt.PenStyle.DashLine)

    # --- geometry --------------------------------------------------------------------------------------------

    def _height(self, block: Block) -> float:
        return self.theme.px(44 + 20 * max(1, len(block.ports)))

    def _places(self, box: QRectF) -> dict[str, QRectF]:
        """Where each block stands: columns from left to right, blocks of a column spread evenly."""
        stacks = self._stacks(box.height())
        wide = min(self.theme.px(160), box.width() / max(1, len(stacks)) * 0.7)
        gap = (box.width() - wide * len(stacks)) / max(1, len(stacks) - 1)
        places: dict[str, QRectF] = {}
        for index, own in enumerate(stacks):
            free = (box.height() - sum(map(self._height, own))) / (len(own) + 1)
            y = box.top() + free
            for block in own:
                places[block.role] = QRectF(box.left() + index * (wide + gap), y, wide, self._height(block))
                y += self._height(block) + free
        return places

    def _stacks(self, high: float) -> list[list[Block]]:
        """The blocks by column; those that a column has no room for stand in one more beside it."""
        found: list[list[Block]] = []
        for column in sorted({block.column for block in self._blocks}):
            stack: list[Block] = []
            for block in (each for each in self._blocks if each.column == column):
                if stack and sum(map(self._height, (*stack, block))) + self.theme.px(4) * len(stack) > high:
                    found.append(stack)
                    stack = []
                stack.append(block)
            found.append(stack)
        return found

    def _port_at(self, places: dict[str, QRectF], end: tuple[str, str], toward: str) -> QPointF | None:
        role, port = end
        block = next((each for each in self._blocks if each.role == role), None)
        if block is None or role not in places:
            return None
        index = next((number for number, mark in enumerate(block.ports) if mark.id == port), 0)
        box, other = places[role], places.get(toward)
        right = other is not None and other.center().x() > box.center().x()
        return QPointF(box.right() if right else box.left(), box.top() + self.theme.px(54 + 20 * index))

    # --- drawing ---------------------------------------------------------------------------------------------

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        if not self._blocks:
            self.say(painter, box, "Choose a board below to begin.")
            return
        rows = (len(self._wires) + 1) // 2
        legend = QRectF(
            box.left(), box.bottom() - self.theme.px(18 * rows + 8), box.width(), self.theme.px(18 * rows + 8)
        )
        places = self._places(box.adjusted(4, 2, -4, -2 - legend.height()))
        self._spots = []
        self._draw_legend(painter, legend)
        for number, wire in enumerate(self._wires):
            self._draw_wire(painter, places, wire, number)
        for block in self._blocks:
            self._draw_block(painter, places[block.role], block)
        if self._from:
            self._draw_dragged(painter)

    def _draw_legend(self, painter: QPainter, box: QRectF) -> None:
        """Every cable by name, in two columns."""
        px = self.theme.px
        self.line(painter, box.topLeft(), box.topRight(), "grid")
        names = {block.role: block.title for block in self._blocks}
        for index, wire in enumerate(self._wires):
            x = box.left() + (index % 2) * box.width() / 2
            y = box.top() + px(8 + 18 * (index // 2)) + px(9)
            ends = f"{names.get(wire.start[0], wire.start[0])} to {names.get(wire.end[0], wire.end[0])}"
            drawn = self.text(painter, QPointF(x, y), ends, font=self.theme.font("label", weight=500))
            rest = QRectF(drawn.right() + px(8), y - px(9), x + box.width() / 2 - drawn.right() - px(18), px(18))
            self.text(painter, rest, wire.fault or wire.name, token="red" if wire.fault else "muted")

    def _draw_block(self, painter: QPainter, box: QRectF, block: Block) -> None:
        px = self.theme.px
        self.block(painter, box, "field", "ink", radius=3, width=1.2)
        self.text(
            painter,
            box.adjusted(px(10), px(5), -px(6), 0).adjusted(0, 0, 0, px(22) - box.height()),
            block.title,
            font=self.theme.font("body", weight=600),
        )
        note = QRectF(box.left() + px(10), box.top() + px(22), box.width() - px(14), px(16))
        self.text(painter, note, block.note, font=self.theme.font("small"), token="muted")
        self.line(
            painter,
            QPointF(box.left(), box.top() + px(42)),
            QPointF(box.right(), box.top() + px(42)),
            "grid",
        )
        used = {port for wire in self._wires for role, port in (wire.start, wire.end) if role == block.role}
        for index, mark in enumerate(block.ports):
            y = box.top() + px(54 + 20 * index)
            token = "ink" if mark.id in used else "muted"
            row = QRectF(box.left() + px(12), y - px(9), box.width() - px(22), px(18))
            if mark.id:  # what no cable goes into has none
                self._spots.append((QRectF(box.left(), y - px(10), box.width(), px(20)), f"{block.role}.{mark.id}"))
            self.text(painter, row, mark.text, font=self.theme.font("small"), token=token)

    def _draw_wire(self, painter: QPainter, places: dict[str, QRectF], wire: Wire, number: int) -> None:
        a, b = self._port_at(places, wire.start, wire.end[0]), self._port_at(places, wire.end, wire.start[0])
        if a is None or b is None:
            return
        token = "red" if wire.fault else "teal"
        middle = (a.x() + b.x()) / 2 + (number % 3 - 1) * self.theme.px(7)
        route = QPainterPath(a)
        for point in (QPointF(middle, a.y()), QPointF(middle, b.y()), b):
            route.lineTo(point)
        style = Qt.PenStyle.DashLine if wire.fault else Qt.PenStyle.SolidLine
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(self.theme.color(token), 2.6 if wire.power else 1.6, style))
        painter.drawPath(route)
        for point in (a, b):
            side = self.theme.px(7)
            self.block(painter, QRectF(point.x() - side / 2, point.y() - side / 2, side, side), token, radius=1)
        self._draw_tag(painter, QPointF(middle, (a.y() + b.y()) / 2), wire, token)

    def _draw_tag(self, painter: QPainter, at: QPointF, wire: Wire, token: str) -> None:
        """What flows, on paper of its own so that the line does not strike it through."""
        if wire.fault:
            side = self.theme.px(14)
            back = QRectF(at.x() - side, at.y() - side, 2 * side, 2 * side)
            self.block(painter, back, "sheet", radius=side)
            paint_lamp(painter, QRectF(at.x() - side / 2, at.y() - side / 2, side, side), "stop", self.theme)
            return
        if not wire.tag:
            return
        painter.setFont(self.theme.mono("small"))
        lines = wire.tag.split("\n")
        wide = max(painter.fontMetrics().horizontalAdvance(line) for line in lines) + self.theme.px(8)
        pitch = self.theme.px(14)
        paper = QRectF(at.x() - wide / 2, at.y() - pitch * len(lines) / 2 - 2, wide, pitch * len(lines) + 4)
        self.block(painter, paper, "sheet", radius=2)
        for index, words in enumerate(lines):
            spot = QPointF(at.x(), paper.top() + 2 + pitch * (index + 0.5))
            self.text(
                painter, spot, words, font=self.theme.mono("small"), token=token, align=Qt.AlignmentFlag.AlignHCenter
            )
