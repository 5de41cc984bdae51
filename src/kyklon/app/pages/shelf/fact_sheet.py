"""What is known of a part, fact by fact, each with the sign of where it comes from; or two parts side by side."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPen, QResizeEvent

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.shown import visible
from kyklon.parts.facts import Fact

SIGNS = (
    ("read", "read from the part itself"),
    ("measured", "measured"),
    ("typed", "typed"),
    ("shipped", "shipped, or a copy"),
)


class FactSheet(Instrument):
    """Facts as ruled lines; it grows with them."""

    least = QSize(360, 120)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Facts")
        self._one: tuple[Fact, ...] = ()
        self._two: tuple[Fact, ...] | None = None
        self._names = ("", "")

    def show_facts(
        self, one: tuple[Fact, ...], two: tuple[Fact, ...] | None = None, names: tuple[str, str] = ("", "")
    ) -> None:
        """two: of a second part, to lay beside the first; what differs is marked."""
        if not self.shows(one, two, names):
            return
        self._one, self._two, self._names = one, two, names
        self.setAccessibleDescription("; ".join(f"{fact.label} {fact.words}, {fact.origin}" for fact in one))
        self._fit()
        self.update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Override: long values take more lines where it is narrow."""
        self._fit()
        super().resizeEvent(event)

    def _fit(self) -> None:
        rows = sum(height for _label, _cells, height in self._rows(self.width()))
        self.setMinimumHeight(round(rows + self.theme.px(34)))

    def _columns(self, wide: float) -> list[tuple[float, float]]:
        """Left edge and width of the values' columns; of a single part the origin has one of its own."""
        px = self.theme.px
        left = px(158)
        if self._two is None:
            return [(left, max(px(80), wide - left - self._origin(wide) - px(8)))]
        half = (wide - left - px(18)) / 2
        return [(left, half), (left + half + px(12), half)]

    def _origin(self, wide: float) -> float:
        return min(self.theme.px(262), wide * 0.42)

    def _rows(self, wide: float) -> list[tuple[str, list[Fact | None], float]]:
        px = self.theme.px
        names = [each.name for each in self._one]
        names += [each.name for each in self._two or () if each.name not in names]
        metrics = QFontMetricsF(self.theme.font("body", weight=500))
        columns = self._columns(wide)
        sides = (self._one,) if self._two is None else (self._one, self._two)
        indent = px(0 if self._two is None else 16)
        found = []
        for name in names:
            cells = [next((each for each in side if each.name == name), None) for side in sides]
            label = next(each.label for each in cells if each is not None)
            lines = 1
            for cell, (_left, width) in zip(cells, columns, strict=True):
                if cell is not None:
                    area = QRectF(0, 0, width - px(4) - indent, 1e4)
                    box = metrics.boundingRect(area, int(Qt.TextFlag.TextWordWrap), cell.words)
                    lines = max(lines, min(8, round(box.height() / metrics.lineSpacing())))
            found.append((label, cells, lines * metrics.lineSpacing() + px(9)))
        return found

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        y = box.top() + px(2)
        columns = self._columns(box.width())
        if self._two is not None:
            for (left, width), name in zip(columns, self._names, strict=True):
                place = QRectF(box.left() + left, y, width, px(20))
                self.text(painter, place, name, font=self.theme.font("body", weight=600))
            y += px(24)
        for label, cells, height in self._rows(box.width()):
            self.line(painter, QPointF(box.left(), y), QPointF(box.right(), y), "grid")
            differs = len(cells) == 2 and (cells[0] is None or cells[1] is None or cells[0].words != cells[1].words)
            top, weight = y + px(4), 600 if differs else 400
            place = QRectF(box.left(), top, px(152), px(18))
            self.text(
                painter, place, label, font=self.theme.font("body", weight=weight), token="ink" if differs else "muted"
            )
            for cell, (left, width) in zip(cells, columns, strict=True):
                self._cell(
                    painter, cell, QRectF(box.left() + left, top, width - px(4), height - px(6)), differs=differs
                )
            if self._two is None and cells[0] is not None:
                wide = self._origin(box.width())
                self._sign(painter, QPointF(box.right() - wide + px(5), top + px(9)), cells[0].how)
                place = QRectF(box.right() - wide + px(16), top, wide - px(18), px(18))
                self.text(painter, place, cells[0].origin, font=self.theme.font("label"), token="muted")
            y += height
        if self._two is not None:
            self._legend(painter, QPointF(box.left(), y + px(12)))

    def _cell(self, painter: QPainter, cell: Fact | None, area: QRectF, *, differs: bool) -> None:
        px = self.theme.px
        if cell is None:
            self.text(painter, QRectF(area.left(), area.top(), area.width(), px(18)), "not there", token="muted")
            return
        if self._two is not None:
            self._sign(painter, QPointF(area.left() + px(5), area.top() + px(9)), cell.how)
            area = area.adjusted(px(16), 0, 0, 0)
        painter.setFont(self.theme.font("body", weight=600 if differs else 500))
        painter.setPen(self.theme.color("ink" if differs or self._two is None else "muted"))
        painter.drawText(area, int(Qt.TextFlag.TextWordWrap), visible(cell.words))

    def _legend(self, painter: QPainter, at: QPointF) -> None:
        """What the signs stand for, where there is no room for words beside each."""
        for how, words in SIGNS:
            self._sign(painter, at + QPointF(self.theme.px(5), 0), how)
            drawn = self.text(
                painter, at + QPointF(self.theme.px(14), 0), words, font=self.theme.font("label"), token="muted"
            )
            at = QPointF(drawn.right() + self.theme.px(14), at.y())

    def _sign(self, painter: QPainter, at: QPointF, how: str) -> None:
        """A shape of its own for each origin: a full dot was read, bars were measured, a stroke typed, a ring ships."""
        px, color = self.theme.px, self.theme.color("muted" if how in ("shipped", "copied") else "teal")
        painter.setPen(QPen(color, px(1.5)))
        painter.setBrush(color if how == "read" else Qt.BrushStyle.NoBrush)
        if how in ("read", "shipped", "copied"):
            painter.drawEllipse(at, px(3.2), px(3.2))
        elif how == "measured":
            for step, tall in ((-3, 2.0), (0, 4.0), (3, 3.0)):
                painter.drawLine(
                    QPointF(at.x() + px(step), at.y() + px(3.5)),
                    QPointF(at.x() + px(step), at.y() + px(3.5 - 2 * tall / 1.2)),
                )
        else:
            painter.drawLine(QPointF(at.x() - px(3.5), at.y() + px(3.5)), QPointF(at.x() + px(3.5), at.y() - px(3.5)))
