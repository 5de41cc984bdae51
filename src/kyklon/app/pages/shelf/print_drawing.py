"""A supply's label, a cable with its plugs, a card: drawn with what is known of it so far."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument

_CENTRE = Qt.AlignmentFlag.AlignCenter


class PrintDrawing(Instrument):
    """kind: of part: supplies, cables, cards, adapters, disks or bridges."""

    least = QSize(300, 150)

    def __init__(self, theme: Theme, kind: str) -> None:
        super().__init__(theme, "The part as known so far")
        self._kind = kind
        self._words: dict[str, str] = {}

    def show_words(self, words: Mapping[str, str]) -> None:
        """words: by field, as the screen says each."""
        if not self.shows(tuple(words.items())):
            return
        self._words = dict(words)
        self.setAccessibleDescription("; ".join(words.values()))
        self.update()

    def _of(self, name: str) -> str:
        return self._words.get(name) or "…"

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        room = QRectF(0, 0, min(box.width() - px(20), px(380)), min(box.height() - px(10), px(190)))
        room.moveCenter(box.center())
        ways = {"supplies": self._label, "cables": self._cable, "cards": self._card}
        ways.get(self._kind, self._plate)(painter, room)

    def _plate(self, painter: QPainter, room: QRectF) -> None:
        """A box between its two plugs, or with what is printed on it."""
        px = self.theme.px
        rows = {
            "adapters": (f"{self._of('socket_in')} → {self._of('socket_out')}", f"sync {self._of('sync_out')}"),
            "disks": (self._of("capacity_bytes"), f"{self._of('read_mb_s')}, {self._of('peak_a')}"),
            "bridges": (self._of("usb_id"), f"UAS {self._of('uas')}"),
        }.get(self._kind, ("", ""))
        self.block(painter, room, "field", "ink", radius=px(8), width=1.5)
        for at, words, font, token in (
            (0.22, rows[0], self.theme.head("big"), "ink"),
            (0.62, rows[1], self.theme.font("label"), "muted"),
        ):
            line = QRectF(room.left() + px(12), room.top() + room.height() * at, room.width() - px(24), px(34))
            self.text(painter, line, words, font=font, token=token, align=_CENTRE)

    def _label(self, painter: QPainter, room: QRectF) -> None:
        px = self.theme.px
        self.block(painter, room, "field", "ink", radius=px(8), width=1.5)
        plate = room.adjusted(px(22), px(22), -px(22), -px(40))
        self.block(painter, plate, "sheet", "hairline", radius=2)
        rows = (
            ("OUTPUT", self.theme.head("label"), "muted"),
            (f"{self._of('volts')}   {self._of('amps')}", self.theme.head("big"), "ink"),
        )
        for index, (words, font, token) in enumerate(rows):
            line = QRectF(
                plate.left(), plate.top() + plate.height() * (0.08 + 0.42 * index), plate.width(), plate.height() * 0.45
            )
            self.text(painter, line, words, font=font, token=token, align=_CENTRE)
        below = QRectF(room.left(), room.bottom() - px(34), room.width(), px(24))
        self.text(
            painter, below, f"plug: {self._of('socket')}", font=self.theme.font("label"), token="muted", align=_CENTRE
        )

    def _cable(self, painter: QPainter, room: QRectF) -> None:
        px = self.theme.px
        ends = [word.strip() for word in self._words.get("ends", "").split(",") if word.strip()] or ["…", "…"]
        wide, high, y = px(92), px(40), room.center().y()
        left = QRectF(room.left(), y - high / 2, wide, high)
        right = QRectF(room.right() - wide, y - high / 2, wide, high)
        painter.setPen(QPen(self.theme.color("teal"), px(4)))
        painter.drawLine(QPointF(left.right(), y), QPointF(right.left(), y))
        for plug, name in ((left, ends[0]), (right, ends[-1])):
            self.block(painter, plug, "field", "ink", radius=px(4), width=1.5)
            self.text(painter, plug, name, font=self.theme.font("label", weight=600), align=_CENTRE)
        for above, words in ((True, f"{self._of('length_m')}, {self._of('awg')}"), (False, self._of("signals"))):
            line = QRectF(left.right(), y - px(30) if above else y + px(8), right.left() - left.right(), px(20))
            self.text(
                painter, line, words, font=self.theme.mono("small"), token="ink" if above else "muted", align=_CENTRE
            )

    def _card(self, painter: QPainter, room: QRectF) -> None:
        px = self.theme.px
        card = QRectF(0, 0, room.height() * 0.78, room.height())
        card.moveCenter(room.center())
        cut = px(22)
        shape = QPolygonF(
            [
                card.topLeft(),
                QPointF(card.right() - cut, card.top()),
                QPointF(card.right(), card.top() + cut),
                card.bottomRight(),
                card.bottomLeft(),
            ]
        )
        painter.setBrush(self.theme.color("field"))
        painter.setPen(QPen(self.theme.color("ink"), 1.5))
        painter.drawPolygon(shape)
        rows = (
            (self._of("capacity_bytes"), self.theme.head("section"), "ink"),
            (self._of("socket"), self.theme.font("label"), "muted"),
            (self._of("speed_class"), self.theme.font("body", weight=600), "teal"),
            (f"reads {self._of('read_mb_s')}", self.theme.mono("small"), "muted"),
            (f"writes {self._of('write_mb_s')}", self.theme.mono("small"), "muted"),
        )
        for index, (words, font, token) in enumerate(rows):
            line = QRectF(
                card.left() + px(4),
                card.top() + px(26) + index * (card.height() - px(34)) / len(rows),
                card.width() - px(8),
                px(22),
            )
            self.text(painter, line, words, font=font, token=token, align=_CENTRE)
