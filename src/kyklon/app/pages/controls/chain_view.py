"""The path of a press: switch, terminal, code, game input, as four boxes with arrows between."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize
from PyQt6.QtGui import QFont, QPainter
from PyQt6.QtWidgets import QSizePolicy

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument

_TITLES = ("Switch", "Terminal", "Event code", "In the game")


@dataclass(frozen=True)
class Lit:
    """The path of a press. words: switch, terminal, code, game input, each '' where the path ends."""

    control: str
    words: tuple[str, str, str, str]
    wrong: bool = False  # it ends in another player's game, or at another switch's terminal


class ChainView(Instrument):
    least = QSize(420, 66)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "The path of the last press")
        self._lit: Lit | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def light(self, lit: Lit | None) -> None:
        if lit != self._lit:
            self._lit = lit
            self.setAccessibleDescription(" to ".join(lit.words) if lit else "nothing pressed")
            self.update()

    @property
    def lit(self) -> Lit | None:
        return self._lit

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        gap = px(28)
        wide = (box.width() - 3 * gap) / 4
        words = self._lit.words if self._lit else ("", "", "", "")
        alive = True
        for index, title in enumerate(_TITLES):
            place = QRectF(box.left() + index * (wide + gap), box.top() + 2, wide, box.height() - 4)
            alive = alive and bool(words[index])
            wrong = alive and index == 3 and self._lit is not None and self._lit.wrong
            fill, edge = ("red_soft", "red") if wrong else ("teal_soft", "teal") if alive else ("field", "hairline")
            self.block(painter, place, fill, edge, width=1.4)
            head = QRectF(place.left() + px(10), place.top() + px(5), wide - px(16), px(18))
            self.text(painter, head, title, font=self.theme.font("small"), token="muted")
            told = words[index] or (
                "press a control" if index == 0 and self._lit is None else "nothing" if self._lit else ""
            )
            body = QRectF(place.left() + px(10), place.top() + px(25), wide - px(16), px(24))
            font = self._fitting(painter, told, wide) if alive else self.theme.font("body")
            self.text(painter, body, told, font=font, token="ink" if alive else "muted")
            if index:
                token, width = ("teal", 2.0) if alive else ("hairline", 1.0)
                a, b = (
                    QPointF(place.left() - gap + 5, place.center().y()),
                    QPointF(place.left() - 5, place.center().y()),
                )
                self.line(painter, a, b, token, width)
                self.line(painter, b, b + QPointF(-6, -5), token, width)
                self.line(painter, b, b + QPointF(-6, 5), token, width)

    def _fitting(self, painter: QPainter, words: str, wide: float) -> QFont:
        """The larger type where the words fit their box, the smaller one where not."""
        font = self.theme.mono("body", 500)
        painter.setFont(font)
        fits = painter.fontMetrics().horizontalAdvance(words) < wide - self.theme.px(18)
        return font if fits else self.theme.mono("small", 500)
