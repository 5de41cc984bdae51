"""Files of a set on the left, the card on the right, a line for each that goes on."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPainterPath, QPen

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show_bytes


@dataclass(frozen=True)
class SetLine:
    """target: '' for a file that stays off; why: the reason, either way. lamp: clear, note or stop."""

    source: str
    target: str
    size: int
    why: str
    lamp: str


class SetMap(Instrument):
    least = QSize(420, 240)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "From the set to the card")
        self._lines: tuple[SetLine, ...] = ()
        self._total = 0

    def show_lines(self, lines: tuple[SetLine, ...], total: int) -> None:
        """total: bytes that go on the card."""
        if not self.shows(lines, total):
            return
        self._lines, self._total = lines, total
        self.setAccessibleDescription("; ".join(f"{line.source} {line.target or line.why}" for line in lines))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        if not self._lines:
            self.say(painter, box, "Choose an unpacked set: where each file goes is drawn here.")
            return
        px = self.theme.px
        top = box.top() + px(24)
        pitch = max(px(16), min(px(21), (box.bottom() - top) / len(self._lines)))
        shown = int((box.bottom() - top) / pitch)
        lines = self._lines if len(self._lines) <= shown else self._lines[: shown - 1]
        left = QRectF(box.left(), top, box.width() * 0.48, box.height())
        right = QRectF(box.left() + box.width() * 0.53, top, box.width() * 0.47, box.height())
        head = self.theme.font("label", weight=600)
        self.text(painter, QPointF(left.left(), box.top() + px(9)), "In the set", font=head)
        self.text(painter, QPointF(right.left(), box.top() + px(9)), "On the card", font=head)
        self.text(
            painter,
            QPointF(right.right(), box.top() + px(9)),
            show_bytes(self._total),
            font=self.theme.mono("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight,
        )
        goes = [line for line in lines if line.target]
        card = QRectF(right.left(), top - 2, right.width(), max(1, len(goes)) * pitch + 4)
        self.block(painter, card, "teal_soft", "teal", radius=3)
        place = 0
        for index, line in enumerate(lines):
            area = QRectF(left.left(), top + index * pitch, left.width(), pitch)
            self._draw_source(
                painter, area, line, box.right() if area.top() >= card.bottom() - 4 else area.right() + px(10)
            )
            if line.target:
                to = QRectF(right.left() + 8, top + place * pitch, right.width() - 16, pitch)
                self._draw_target(painter, area, to, line)
                place += 1
        if len(lines) < len(self._lines):
            rest = QPointF(left.left() + px(18), top + len(lines) * pitch + pitch / 2)
            self.text(painter, rest, f"and {len(self._lines) - len(lines)} more", token="muted")

    def _draw_source(self, painter: QPainter, area: QRectF, line: SetLine, most: float) -> None:
        """most: how far to the right the reason of a file that stays off may go."""
        side = self.theme.px(9)
        paint_lamp(painter, QRectF(area.left(), area.center().y() - side / 2, side, side), line.lamp, self.theme)
        inner = area.adjusted(self.theme.px(18), 0, -4, 0)
        token = "ink" if line.target else "muted"
        self._draw_name(painter, inner, line.source, token)
        if not line.target:
            wide = min(inner.width(), painter.fontMetrics().horizontalAdvance(line.source) + 10.0)
            rest = QRectF(inner.left() + wide, area.top(), most - inner.left() - wide, area.height())
            self.text(painter, rest, line.why, token="red" if line.lamp == "stop" else "muted")

    def _draw_name(self, painter: QPainter, area: QRectF, name: str, token: str) -> None:
        """A path; of a long one the end tells most."""
        font = self.theme.mono("small")
        shown = QFontMetricsF(font).elidedText(name, Qt.TextElideMode.ElideLeft, area.width() - 2)
        self.text(painter, area, shown, font=font, token=token)

    def _draw_target(self, painter: QPainter, area: QRectF, to: QRectF, line: SetLine) -> None:
        start, end = QPointF(area.right() - 2, area.center().y()), QPointF(to.left() - 8, to.center().y())
        path = QPainterPath(start)
        middle = (start.x() + end.x()) / 2
        path.cubicTo(QPointF(middle, start.y()), QPointF(middle, end.y()), end)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(self.theme.color("teal"), 1.1))
        painter.drawPath(path)
        size = show_bytes(line.size)
        self._draw_name(painter, to.adjusted(0, 0, -self.theme.px(56), 0), line.target, "ink")
        self.text(
            painter,
            QPointF(to.right(), to.center().y()),
            size,
            font=self.theme.mono("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight,
        )
