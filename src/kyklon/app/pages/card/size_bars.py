"""Which card to buy: what is needed, stacked, above each card's capacity, all to one scale."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show_bytes, show_duration, show_money
from kyklon.operations.card.sizing import Offer, Sizing

_AT_ONCE_S = 0.1  # seconds that nobody notices, CP


def _load_words(seconds: float) -> str:
    """How long the largest game loads, as people notice it."""
    return "at once" if seconds < _AT_ONCE_S else f"in {show_duration(seconds)}"


_TOKENS = {"Image": "teal", "Library": "amber", "Saves": "muted", "Pictures": "hairline", "Spare": "teal_soft"}


class SizeBars(Instrument):
    least = QSize(420, 200)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Which card to buy")
        self._sizing: Sizing | None = None

    def show_sizing(self, sizing: Sizing | None) -> None:
        if not self.shows(sizing):
            return
        self._sizing = sizing
        self.setAccessibleDescription(sizing.sentence if sizing else "")
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        sizing, px = self._sizing, self.theme.px
        if sizing is None:
            self.say(painter, box, "The library is being read…")
            return
        top = self._draw_legend(painter, box, sizing)
        left = box.left() + px(118)
        wide = box.width() - px(118) - px(236)
        # the largest card would squeeze all else: what is twice the need is cut, and says so
        widest = max(sizing.need * 2.4, min((offer.capacity for offer in sizing.offers), default=sizing.need))
        scale = wide / widest
        pitch = min(px(40), (box.bottom() - top) / (len(sizing.offers) + 1))
        line = QRectF(left, top, wide, pitch)
        self._draw_need(painter, line, sizing, scale)
        for index, offer in enumerate(sizing.offers, 1):
            self._draw_offer(painter, line.translated(0, index * pitch), sizing, offer, scale, box.right())
        x = left + sizing.need * scale
        self.line(
            painter,
            QPointF(x, top),
            QPointF(x, top + pitch * (len(sizing.offers) + 1)),
            "ink",
            1.2,
            Qt.PenStyle.DashLine,
        )

    def _draw_legend(self, painter: QPainter, box: QRectF, sizing: Sizing) -> float:
        px = self.theme.px
        x = box.left()
        for item in sizing.items:
            side = px(11)
            swatch = QRectF(x, box.top() + px(3), side, side)
            self.block(painter, swatch, _TOKENS[item.name], "ink", radius=1)
            words = f"{item.name} {show_bytes(item.size)}"
            drawn = self.text(painter, QPointF(swatch.right() + 6, swatch.center().y()), words)
            x = drawn.right() + px(16)
        return box.top() + px(26)

    def _draw_need(self, painter: QPainter, line: QRectF, sizing: Sizing, scale: float) -> None:
        head = QRectF(line.left() - self.theme.px(118), line.top(), self.theme.px(112), line.height())
        self.text(painter, head, "Needed", font=self.theme.font("body", weight=600))
        body = line.adjusted(0, 5, 0, -5)
        left = body.left()
        for item in sizing.items:
            area = QRectF(left, body.top(), item.size * scale, body.height())
            self.block(painter, area, _TOKENS[item.name], "ink", radius=0)
            left = area.right()
        self.text(
            painter, QPointF(left + 8, body.center().y()), show_bytes(sizing.need), font=self.theme.mono(weight=500)
        )

    def _draw_offer(
        self, painter: QPainter, line: QRectF, sizing: Sizing, offer: Offer, scale: float, right: float
    ) -> None:
        px = self.theme.px
        best = offer.card == sizing.advice
        head = QRectF(line.left() - px(118), line.top(), px(112), line.height())
        self.text(painter, head, offer.name, font=self.theme.font("body", weight=600 if best else 400))
        body = line.adjusted(0, 7, 0, -7)
        full = offer.capacity * scale
        area = QRectF(body.left(), body.top(), min(full, body.width()), body.height())
        self.block(
            painter,
            area,
            "teal_soft" if offer.fits else "red_soft",
            "teal" if offer.fits else "red",
            radius=2,
            width=2 if best else 1,
        )
        words = show_bytes(offer.capacity)
        if full > body.width():
            for step in (0, 5):
                x = area.right() - 16 - step
                self.line(painter, QPointF(x, area.bottom() + 2), QPointF(x + 6, area.top() - 2), "ink", 1.2)
        self.text(painter, area.adjusted(8, 0, -26, 0), words, font=self.theme.mono("small"))
        side = px(10)
        lamp = QRectF(line.right() + px(12), line.center().y() - side / 2, side, side)
        paint_lamp(painter, lamp, "clear" if offer.fits else "stop", self.theme)
        time = show_duration(offer.minutes * 60)
        place = QRectF(lamp.right() + 8, line.top() + 2, right - lamp.right() - px(70), line.height() - 4)
        if not offer.fits:
            self.text(painter, place, "too small")
        else:
            half = place.height() / 2
            self.text(painter, place.adjusted(0, 0, 0, -half), f"{offer.speed_class}: {time} to fill")
            self.text(
                painter,
                place.adjusted(0, half, 0, 0),
                f"largest game loads {_load_words(offer.load_s)}",
                token="muted",
            )
        self.text(
            painter,
            QPointF(right, line.center().y()),
            show_money(offer.price),
            font=self.theme.mono("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight,
        )
