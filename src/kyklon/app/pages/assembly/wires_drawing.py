"""A connector from end to end: every contact, its wire in its own colour, what must not meet, what the meter found."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QPainter, QPainterPath, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.model.casework import Connector, Contact
from kyklon.operations.assembly.connectors import Fault, is_ground, key

_PITCH = 26.0  # px from one contact to the next
_HEAD = 34.0
# insulation of wires as it is seen, close to IEC 60757's colours; anything else is drawn as a plain wire
_WIRES: Mapping[str, str] = {
    "black": "#1d1d1d",
    "brown": "#7a4a23",
    "red": "#c33127",
    "orange": "#e08a1e",
    "yellow": "#e3c62b",
    "green": "#3d8a45",
    "blue": "#2b62b8",
    "violet": "#7d4fa3",
    "grey": "#8d9096",
    "white": "#f6f4ee",
    "pink": "#e39bb0",
}


class WiresDrawing(Instrument):
    least = QSize(280, 240)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "The wires of a connector")
        self._connector: Connector | None = None
        self._faults: Mapping[str, Fault] = {}
        self._done: frozenset[str] = frozenset()

    def show_connector(self, connector: Connector | None, faults: tuple[Fault, ...], done: frozenset[str]) -> None:
        """faults: of this connector. done: keys of the contacts that the meter found right."""
        if not self.shows(connector, faults, done):
            return
        self._connector, self._done = connector, done
        self._faults = {fault.contact: fault for fault in reversed(faults)}
        count = len(connector.contacts) if connector is not None else 0
        self.setMinimumHeight(round(self.theme.px(_HEAD + _PITCH * (count + 1))))
        told = [f"{row.one} to {row.other}, {_words(row)}" for row in connector.contacts] if connector else []
        self.setAccessibleDescription("; ".join([*told, *(fault.words for fault in faults)]))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        connector, px = self._connector, self.theme.px
        if connector is None:
            middle = Qt.AlignmentFlag.AlignCenter
            words = "No wires yet: choose controls and an encoder, or import a table."
            self.text(painter, box, words, font=self.theme.font("body"), token="muted", align=middle)
            return
        names = self.theme.font("small", weight=600)
        metrics = QFontMetricsF(self.theme.font("small"))
        widest = [
            max(metrics.horizontalAdvance(getattr(row, end)) for row in connector.contacts) for end in ("one", "other")
        ]
        left = box.left() + min(widest[0], box.width() * 0.28) + px(24)
        right = box.right() - min(widest[1], box.width() * 0.4) - px(24)
        top, bottom = box.top() + px(_HEAD), box.top() + px(_HEAD + _PITCH * len(connector.contacts) + 4)
        for x, name, align in (
            (left, connector.one, Qt.AlignmentFlag.AlignLeft),
            (right, connector.other, Qt.AlignmentFlag.AlignRight),
        ):
            at = QPointF(box.left() + px(8) if x == left else box.right() - px(8), box.top() + px(14))
            self.text(painter, at, name, font=names, token="ink", align=align)
        for x, start in ((left, box.left() + px(6)), (box.right() - px(6), right)):
            self.block(painter, QRectF(start, top - px(4), x - start, bottom - top), "field", "hairline", radius=4)
        for number, contact in enumerate(connector.contacts):
            self._draw_wire(painter, contact, left, right, top + px(_PITCH * (number + 0.5)), box)

    def _draw_wire(self, painter: QPainter, contact: Contact, left: float, right: float, y: float, box: QRectF) -> None:
        px, figure = self.theme.px, self.theme.font("small")
        fault = self._faults.get(key(contact))
        colour = QColor(_WIRES.get(contact.colour.strip().lower(), self.theme.color("muted").name()))
        pen = QPen(colour, px(3.4))
        if fault is not None and fault.stop:
            pen.setStyle(Qt.PenStyle.DashLine)
        path = QPainterPath(QPointF(left, y))
        path.lineTo(QPointF(right, y))
        rim = QPen(self.theme.color("ink"), px(4.6))  # a white wire is seen on white, a black one on black
        rim.setColor(self.theme.color("hairline"))
        painter.strokePath(path, rim)
        painter.strokePath(path, pen)
        for x in (left, right):
            self.block(painter, QRectF(x - px(4), y - px(4), px(8), px(8)), "sheet", "ink", radius=px(4), width=1.2)
        room = QRectF(box.left() + px(10), y - px(10), left - box.left() - px(18), px(20))
        self.text(painter, room, contact.one, font=figure, token="ink", align=Qt.AlignmentFlag.AlignVCenter)
        other = QRectF(right + px(8), y - px(10), box.right() - right - px(18), px(20))
        align = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        self.text(painter, other, contact.other, font=figure, token="ink", align=align)
        words = _words(contact)
        if fault is not None:
            words = f"{'▲' if fault.stop else '△'} {words}"
        elif key(contact) in self._done:
            words = f"✓ {words}"
        font = self.theme.font("small")
        wide = QFontMetricsF(font).horizontalAdvance(words) + px(14)
        plate = QRectF((left + right) / 2 - wide / 2, y - px(9), wide, px(18))
        self.block(painter, plate, "red_soft" if fault is not None and fault.stop else "sheet", "hairline", radius=4)
        token = "red" if fault is not None and fault.stop else "teal" if key(contact) in self._done else "ink"
        self.text(painter, plate, words, font=font, token=token, align=Qt.AlignmentFlag.AlignCenter)


def _words(contact: Contact) -> str:
    """What a wire carries, in words."""
    if is_ground(contact):
        return "ground"
    given = [] if contact.gives_v is None else [f"{contact.gives_v:g}\u202fV"]
    if contact.takes_v is not None and contact.takes_v != contact.gives_v:
        given.append(f"into {contact.takes_v:g}\u202fV")
    parts = [part for part in (contact.signal, " ".join(given), contact.colour) if part]
    return ", ".join(parts) or "signal"
