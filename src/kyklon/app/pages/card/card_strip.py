"""The card as a strip of bytes to scale: the image enlarged above, the whole drive below, the lens between them.

The write and verify fronts move over the enlarged strip; what will be lost is hatched; bad and slow places are marked.
"""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QBrush, QPainter, QPen, QPolygonF

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show_bytes

_SLIVER = 46.0  # pixels at 100 %: a part narrower than this is shown under a lens of its own


@dataclass(frozen=True)
class Span:
    """A named stretch of bytes. token: its fill. used: bytes in use, None while unknown."""

    start: int
    end: int
    name: str
    token: str
    used: int | None = None


@dataclass(frozen=True)
class Strip:
    """image: its parts and size. drive_size: 0 without a drive. there: what is on the drive now. loss: '' or what will
    be gone. state: what is known of the card, with its lamp. written, verified: bytes so far of a running job.
    grows_to: where the root partition will end after the first start, 0 when it does not grow. bad, slow: places."""

    image_name: str
    image_size: int
    spans: tuple[Span, ...]
    drive_name: str = ""
    drive_size: int = 0
    loss: str = ""
    state: str = ""
    lamp: str = ""
    written: int = 0
    verified: int = 0
    there: tuple[Span, ...] = ()
    grows_to: int = 0
    bad: tuple[int, ...] = ()
    slow: tuple[int, ...] = ()


class CardStrip(Instrument):
    least = QSize(420, 152)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "The card as a strip of bytes")
        self._strip: Strip | None = None

    def show_strip(self, strip: Strip) -> None:
        self._strip = strip
        places = f"bad at {', '.join(map(str, strip.bad))}" if strip.bad else ""
        self.setAccessibleDescription(f"{strip.drive_name} {strip.state} {strip.loss} {places}".strip())
        self.update()

    @property
    def strip(self) -> Strip | None:
        return self._strip

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        strip, px = self._strip, self.theme.px
        if strip is None or not strip.image_size:
            self.say(painter, box, "Choose an image file: its partitions are drawn here.")
            return
        high = min(px(46), box.height() * 0.22)
        upper = QRectF(box.left(), box.top() + px(22), box.width(), high)
        lower = QRectF(box.left(), box.bottom() - px(24) - high * 0.8, box.width(), high * 0.8)
        self.text(
            painter,
            QPointF(box.left(), box.top() + px(9)),
            f"The image, enlarged: {strip.image_name}",
            font=self.theme.font("label", weight=600),
        )
        self.text(
            painter,
            QPointF(box.right(), box.top() + px(9)),
            show_bytes(strip.image_size),
            font=self.theme.mono("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight,
        )
        if strip.drive_size:
            self._draw_lens(painter, upper, lower, strip)
            self._draw_drive(painter, lower, strip)
        else:
            self.text(
                painter,
                lower,
                "Choose a drive below: it is drawn here to scale.",
                token="muted",
                align=Qt.AlignmentFlag.AlignCenter,
            )
        self._draw_image(painter, upper, strip)

    # --- the image -----------------------------------------------------------------------------------------------

    def _draw_image(self, painter: QPainter, box: QRectF, strip: Strip) -> None:
        self.block(painter, box, "field", "hairline", radius=2)
        scale = box.width() / strip.image_size
        for span in strip.spans:
            area = QRectF(box.left() + span.start * scale, box.top(), (span.end - span.start) * scale, box.height())
            self.block(painter, area, span.token, "ink", radius=0)
            if area.width() > self.theme.px(_SLIVER):
                self._label_span(painter, area, span)
            else:
                self._draw_sliver(painter, area, span, box)
        for count, token, words in ((strip.written, "teal", "written"), (strip.verified, "amber", "read back")):
            if count:
                self._draw_front(painter, box, box.left() + min(count, strip.image_size) * scale, token, words)
        for places, token in ((strip.slow, "amber"), (strip.bad, "red")):
            for place in places:
                self._mark(painter, box, box.left() + min(place, strip.image_size) * scale, token)

    def _label_span(self, painter: QPainter, area: QRectF, span: Span) -> None:
        inner = area.adjusted(8, 3, -4, -3)
        upper = inner.adjusted(0, 0, 0, -inner.height() / 2)
        lower = inner.adjusted(0, inner.height() / 2, 0, 0)
        self.text(painter, upper, span.name, font=self.theme.font("label", weight=600))
        used = f", {show_bytes(span.used)} used" if span.used is not None else ""
        self.text(
            painter, lower, show_bytes(span.end - span.start) + used, font=self.theme.mono("small"), token="muted"
        )

    def _draw_sliver(self, painter: QPainter, area: QRectF, span: Span, box: QRectF) -> None:
        """A part too narrow for words, enlarged beneath."""
        px = self.theme.px
        wide = px(150)
        left = max(box.left(), min(area.center().x() - wide / 2, box.right() - wide))
        lens = QRectF(left, box.bottom() + px(26), wide, px(36))
        painter.setPen(QPen(self.theme.color("ink"), 1))
        painter.drawPolyline(QPolygonF([area.bottomLeft(), QPointF(lens.left(), lens.top())]))
        painter.drawPolyline(QPolygonF([area.bottomRight(), QPointF(lens.right(), lens.top())]))
        self.block(painter, lens, span.token, "ink", radius=2)
        self._label_span(painter, lens, span)

    def _mark(self, painter: QPainter, box: QRectF, x: float, token: str) -> None:
        """A place: a red bar with a cross above, or an amber notch."""
        self.line(painter, QPointF(x, box.top() - 5), QPointF(x, box.bottom()), token, 2)
        if token == "red":
            top = box.top() - 5
            for sign in (-1, 1):
                self.line(painter, QPointF(x - 4, top - 4 * sign), QPointF(x + 4, top + 4 * sign), token, 2)

    def _draw_front(self, painter: QPainter, box: QRectF, x: float, token: str, words: str) -> None:
        done = QRectF(box.left(), box.bottom() + 2 if token == "teal" else box.bottom() + 7, x - box.left(), 4)
        self.block(painter, done, token, radius=2)
        self.line(painter, QPointF(x, box.top() - 3), QPointF(x, box.bottom() + 11), token, 2)
        align = Qt.AlignmentFlag.AlignRight if x > box.center().x() else Qt.AlignmentFlag.AlignLeft
        self.text(
            painter,
            QPointF(x + (-5 if x > box.center().x() else 5), box.bottom() + self.theme.px(20)),
            words,
            token=token,
            align=align,
        )

    # --- the drive -----------------------------------------------------------------------------------------------

    def _draw_lens(self, painter: QPainter, upper: QRectF, lower: QRectF, strip: Strip) -> None:
        share = max(2.0, lower.width() * min(1.0, strip.image_size / strip.drive_size))
        lens = QPolygonF(
            [
                QPointF(upper.left(), upper.bottom() + 14),
                QPointF(upper.right(), upper.bottom() + 14),
                QPointF(lower.left() + share, lower.top()),
                lower.topLeft(),
            ]
        )
        painter.setPen(QPen(self.theme.color("hairline"), 1))
        painter.setBrush(self.theme.color("grid", 90))
        painter.drawPolygon(lens)

    def _draw_drive(self, painter: QPainter, box: QRectF, strip: Strip) -> None:
        self.block(painter, box, "field", "hairline", radius=2)
        scale = box.width() / strip.drive_size
        for span in strip.there:
            used = span.used if span.used is not None else span.end - span.start
            area = QRectF(box.left() + span.start * scale, box.top(), (span.end - span.start) * scale, box.height())
            self.block(painter, area, "field", "hairline", radius=0)
            self.block(
                painter, QRectF(area.left(), area.top(), max(2.0, used * scale), area.height()), "grid", radius=0
            )
        if strip.loss:
            painter.setBrush(QBrush(self.theme.color("red", 120), Qt.BrushStyle.BDiagPattern))
            painter.setPen(QPen(self.theme.color("red"), 1.2))
            painter.drawRect(box)
        share = max(2.0, min(box.width(), strip.image_size * scale))
        if strip.grows_to and not strip.loss:
            grown = QRectF(box.left() + share, box.top(), strip.grows_to * scale - share, box.height())
            dashed = QPen(self.theme.color("amber"), 1, Qt.PenStyle.DashLine)
            self.block(painter, grown.adjusted(0, 1, -1, -1), "amber_soft", dashed, radius=0)
        self.block(painter, QRectF(box.left(), box.top(), share, box.height()), "teal", radius=0)
        self._word_drive(painter, box.adjusted(share + 8, 0, -8, 0), strip)
        for place in strip.bad:
            self._mark(painter, box, box.left() + place * scale, "red")
        self._name_drive(painter, box, strip)

    def _word_drive(self, painter: QPainter, inner: QRectF, strip: Strip) -> None:
        words = strip.loss or "the rest stays free"
        if not strip.loss and strip.grows_to:
            words = f"the first boot grows the root partition to {show_bytes(strip.grows_to - self._root_start(strip))}"
        painter.setFont(self.theme.font("label", weight=600 if strip.loss else 400))
        wide = min(inner.width(), painter.fontMetrics().horizontalAdvance(words) + 10)
        paper = QRectF(inner.left(), inner.center().y() - self.theme.px(10), wide, self.theme.px(20))
        if strip.loss:
            self.block(painter, paper, "sheet", radius=2)
        self.text(painter, paper.adjusted(4, 0, 0, 0), words, font=painter.font(), token="red" if strip.loss else "ink")

    @staticmethod
    def _root_start(strip: Strip) -> int:
        return strip.spans[-1].start if strip.spans else 0

    def _name_drive(self, painter: QPainter, box: QRectF, strip: Strip) -> None:
        below = box.bottom() + self.theme.px(12)
        drawn = self.text(
            painter,
            QPointF(box.left(), below),
            f"{strip.drive_name}, to scale",
            font=self.theme.font("label", weight=600),
        )
        self.text(
            painter,
            QPointF(box.right(), below),
            f"{show_bytes(strip.drive_size)}, {strip.drive_size / 2**30:.1f} GiB",
            font=self.theme.mono("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight,
        )
        if strip.state:
            side = self.theme.px(10)
            lamp = QRectF(drawn.right() + 14, below - side / 2, side, side)
            paint_lamp(painter, lamp, strip.lamp, self.theme)
            self.text(painter, QPointF(lamp.right() + 6, below), strip.state, token="muted")
