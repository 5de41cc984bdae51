"""A card's history as lines: when, what, and a lamp for what it said of the card."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import set_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.model.build import CardEvent, KnownCard

_LAMPS = {"": "note", "good": "clear", "slow": "caution", "cancelled": "note", "worn": "caution"}


class HistoryView(Instrument):
    least = QSize(260, 60)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "History of the card")
        self._card: KnownCard | None = None

    def show_card(self, card: KnownCard | None) -> None:
        if not self.shows(card):
            return
        self._card = card
        self.setAccessibleDescription("; ".join(f"{e.at} {e.what} {e.detail}" for e in card.events) if card else "")
        set_tip(
            self, "\n".join(f"{e.at.replace('T', ' ')[:16]} {e.what}: {e.detail}" for e in card.events) if card else ""
        )
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        events = tuple(reversed(self._card.events)) if self._card else ()
        if not events:
            self.text(
                painter,
                box,
                "Everything done with this card is listed here.",
                token="muted",
                align=Qt.AlignmentFlag.AlignCenter,
            )
            return
        pitch = self.theme.px(22)
        for index, event in enumerate(events):
            line = QRectF(box.left(), box.top() + index * pitch, box.width(), pitch)
            if line.bottom() > box.bottom() + 1:
                break
            self._draw_event(painter, line, event)

    def _draw_event(self, painter: QPainter, line: QRectF, event: CardEvent) -> None:
        px = self.theme.px
        side = px(10)
        lamp = QRectF(line.left() + 1, line.center().y() - side / 2, side, side)
        paint_lamp(painter, lamp, _LAMPS.get(event.verdict, "stop"), self.theme)
        when = QRectF(line.left() + px(20), line.top(), px(122), line.height())
        self.text(painter, when, event.at.replace("T", " ")[:16], font=self.theme.mono("small"), token="muted")
        rest = QRectF(when.right() + px(6), line.top(), line.right() - when.right() - px(6), line.height())
        words = f"{event.what}: {event.detail.splitlines()[0]}" if event.detail else event.what
        self.text(painter, rest, words)
        self.line(painter, line.bottomLeft(), line.bottomRight(), "grid")
