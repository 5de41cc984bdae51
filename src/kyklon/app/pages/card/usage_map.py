"""What a card holds: each partition as a bar of its own, its bytes in use where they lie."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QBrush, QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show_bytes


@dataclass(frozen=True)
class Bar:
    """A partition. used: stretches in bytes from its start; None where nobody tells what is in use."""

    name: str
    size: int
    used: tuple[tuple[int, int], ...] | None

    @property
    def total(self) -> int:
        return sum(end - start for start, end in self.used) if self.used is not None else self.size


@dataclass(frozen=True)
class Map:
    """bad: places in bytes of the drive, with a word for each kind. note: what was not understood."""

    drive: str
    size: int
    bars: tuple[Bar, ...]
    note: str = ""
    bad: tuple[tuple[int, int, str], ...] = ()


class UsageMap(Instrument):
    least = QSize(420, 150)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Contents of the card")
        self._map: Map | None = None

    def show_map(self, shown: Map | None) -> None:
        if not self.shows(shown):
            return
        self._map = shown
        words = (
            [f"{bar.name}: {show_bytes(bar.total)} of {show_bytes(bar.size)} in use" for bar in shown.bars]
            if shown
            else []
        )
        self.setAccessibleDescription("; ".join(words))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        shown, px = self._map, self.theme.px
        if shown is None:
            self.say(painter, box, "Choose a drive below: what it holds is drawn here.")
            return
        if shown.bad:
            box = self._draw_places(painter, box, shown)
        if not shown.bars:
            words = shown.note or f"{shown.drive} begins with nothing but zeros: it is empty."
            self.say(painter, box, words)
            return
        each = min(px(62), (box.height() - px(18)) / len(shown.bars))
        for index, bar in enumerate(shown.bars):
            self._draw_bar(painter, QRectF(box.left(), box.top() + index * each, box.width(), each), bar)
        if shown.note:
            self.text(painter, QPointF(box.left(), box.bottom() - px(7)), shown.note, token="muted")

    def _draw_bar(self, painter: QPainter, area: QRectF, bar: Bar) -> None:
        px = self.theme.px
        head = QRectF(area.left(), area.top(), area.width(), px(18))
        self.text(painter, head, bar.name, font=self.theme.font("label", weight=600))
        words = (
            f"{show_bytes(bar.total)} of {show_bytes(bar.size)} in use"
            if bar.used is not None
            else show_bytes(bar.size)
        )
        self.text(
            painter,
            QPointF(area.right(), head.center().y()),
            words,
            font=self.theme.mono("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight,
        )
        body = QRectF(area.left(), head.bottom() + 2, area.width(), min(px(26), area.height() - px(24)))
        self.block(painter, body, "field", "hairline", radius=2)
        if bar.used is None:
            painter.setBrush(QBrush(self.theme.color("muted", 90), Qt.BrushStyle.FDiagPattern))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.drawRect(body)
            return
        scale = body.width() / max(1, bar.size)
        last = -1.0
        for start, end in bar.used:
            left, wide = body.left() + start * scale, max(1.5, (end - start) * scale)
            if left + wide - last < 0.7:  # already painted by the stretch before
                continue
            self.block(painter, QRectF(left, body.top(), wide, body.height()), "teal", radius=0)
            last = left + wide

    def _draw_places(self, painter: QPainter, box: QRectF, shown: Map) -> QRectF:
        """A proof's result over the whole drive."""
        px = self.theme.px
        head = QRectF(box.left(), box.top(), box.width(), px(18))
        self.text(painter, head, f"{shown.drive}, to scale", font=self.theme.font("label", weight=600))
        self.text(
            painter,
            QPointF(box.right(), head.center().y()),
            show_bytes(shown.size),
            font=self.theme.mono("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight,
        )
        body = QRectF(box.left(), head.bottom() + 2, box.width(), px(30))
        self.block(painter, body, "teal_soft", "teal", radius=2)
        scale = body.width() / max(1, shown.size)
        for start, end, word in shown.bad:
            area = QRectF(body.left() + start * scale, body.top(), max(3.0, (end - start) * scale), body.height())
            self.block(painter, area, "red_soft", "red", radius=0)
            painter.setBrush(QBrush(self.theme.color("red", 120), Qt.BrushStyle.BDiagPattern))
            painter.drawRect(area)
            if area.width() > px(90):
                paper = QRectF(area.left() + 8, area.center().y() - px(9), px(74), px(18))
                self.block(painter, paper, "sheet", radius=2)
                self.text(painter, paper, word, token="red", align=Qt.AlignmentFlag.AlignCenter)
        return box.adjusted(0, px(64), 0, 0)
