"""How much of a kernel line is used: a bar with its words, full where the firmware stops reading."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument


@dataclass(frozen=True)
class LineUse:
    """words: lengths of the line's words with their blanks, those of this build marked. most: characters that are
    read."""

    words: tuple[tuple[int, bool], ...]
    most: int

    @property
    def used(self) -> int:
        return max(0, sum(length for length, _own in self.words) - 1)


class LineBudget(Instrument):
    least = QSize(200, 34)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Kernel command line")
        self._use: LineUse | None = None
        self.setFixedHeight(round(theme.px(34)))

    def show_use(self, use: LineUse | None) -> None:
        """None hides it."""
        self.setVisible(use is not None)
        if use is None or not self.shows(use):
            return
        self._use = use
        self.setAccessibleDescription(f"{use.used} of {use.most} characters used")
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        use, px = self._use, self.theme.px
        if use is None:
            return
        over = use.used > use.most
        words = f"{use.used} of {use.most} characters" + (": the rest is cut off" if over else "")
        font = self.theme.font("small")
        self.text(painter, QPointF(box.left(), box.top() + px(7)), "Kernel command line", font=font, token="muted")
        self.text(
            painter,
            QPointF(box.right(), box.top() + px(7)),
            words,
            font=font,
            token="red" if over else "muted",
            align=Qt.AlignmentFlag.AlignRight,
        )
        bar = QRectF(box.left(), box.top() + px(18), box.width(), px(9))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.theme.color("grid"))
        painter.drawRoundedRect(bar, px(2), px(2))
        scale, at = bar.width() / max(use.most, use.used), bar.left()
        for length, own in use.words:
            piece = QRectF(at, bar.top(), max(px(1), (length - 1) * scale), bar.height())
            painter.setBrush(self.theme.color("teal" if own else "teal_soft"))
            painter.drawRect(piece)
            at += length * scale
        if over:
            edge = bar.left() + use.most * scale
            painter.setBrush(self.theme.color("red"))
            painter.drawRect(QRectF(edge - px(1), bar.top() - px(3), px(2), bar.height() + px(6)))
