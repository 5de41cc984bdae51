"""Transfer to the machine: library, route, machine; and for each system what was foretold beside what is there."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument


@dataclass(frozen=True)
class Line:
    """A system: titles that its menu will list, and that it lists now. note: '' or what stands against it."""

    name: str
    foretold: int
    there: int
    missing: int
    note: str = ""


@dataclass(frozen=True)
class Way:
    """start, way, end: name and a second line of each. lines: by system. seen: whether the machine was looked at."""

    start: tuple[str, str]
    way: tuple[str, str]
    end: tuple[str, str]
    lines: tuple[Line, ...]
    seen: bool


class TransferDrawing(Instrument):
    least = QSize(460, 260)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Transfer to the machine")
        self._way: Way | None = None

    def show_way(self, way: Way | None) -> None:
        if not self.shows(way):
            return
        self._way = way
        told = "; ".join(f"{e.name}: {e.foretold} predicted, {e.there} found" for e in way.lines) if way else ""
        self.setAccessibleDescription(told)
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px, way = self.theme.px, self._way
        if way is None:
            self.say(painter, box, "Choose a library folder, and where the games go.")
            return
        wide = box.width() * 0.27
        top = box.top() + px(6)
        left = QRectF(box.left() + px(4), top, wide, px(54))
        right = QRectF(box.right() - wide - px(4), top, wide, px(54))
        for place, (name, second) in ((left, way.start), (right, way.end)):
            self.block(painter, place, "field", "ink", radius=4, width=1.3)
            self.text(
                painter,
                QRectF(place.left() + px(10), top + px(6), wide - px(20), px(22)),
                name,
                font=self.theme.font("body", weight=600),
            )
            self.text(
                painter,
                QRectF(place.left() + px(10), top + px(28), wide - px(20), px(20)),
                second,
                font=self.theme.mono("small"),
                token="muted",
            )
        middle = left.center().y()
        self.line(painter, QPointF(left.right(), middle), QPointF(right.left() - px(8), middle), "teal", 2.2)
        tip = QPointF(right.left() - px(1), middle)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.theme.color("teal"))
        painter.drawPolygon(QPolygonF([tip, tip + QPointF(-px(11), -px(5)), tip + QPointF(-px(11), px(5))]))
        between = QRectF(left.right() + px(8), top, right.left() - left.right() - px(24), px(22))
        self.text(
            painter,
            between,
            way.way[0],
            font=self.theme.font("body", weight=500),
            align=Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignVCenter,
        )
        self.text(
            painter,
            between.translated(0, px(32)),
            way.way[1],
            font=self.theme.font("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignVCenter,
        )
        self._draw_lines(
            painter,
            QRectF(
                box.left() + px(4), left.bottom() + px(16), box.width() - px(8), box.bottom() - left.bottom() - px(20)
            ),
            way,
        )

    def _draw_lines(self, painter: QPainter, box: QRectF, way: Way) -> None:
        px = self.theme.px
        name, said = px(112), px(170)
        pitch = min(px(72), (box.height() - px(20)) / max(1, len(way.lines)))
        most = max((max(line.foretold, line.there) for line in way.lines), default=1) or 1
        head = "titles in the menu: predicted above, found below"
        self.text(
            painter, QPointF(box.left() + name, box.top() + px(6)), head, font=self.theme.font("small"), token="muted"
        )
        for index, each in enumerate(way.lines):
            y = box.top() + px(20) + index * pitch
            self.line(painter, QPointF(box.left(), y), QPointF(box.right(), y), "grid")
            self.text(painter, QRectF(box.left(), y, name, pitch), each.name, font=self.theme.font("body", weight=600))
            room = box.width() - name - said
            high = min(px(14), pitch * 0.26)
            upper = QRectF(box.left() + name, y + pitch / 2 - high - 1, room * each.foretold / most, high)
            lower = QRectF(box.left() + name, y + pitch / 2 + 1, room * each.there / most, high)
            self.block(painter, upper, "field", "teal", radius=1)
            if way.seen:
                self.block(painter, lower, "teal", radius=1)
            self._draw_state(painter, QRectF(box.right() - said + px(10), y, said - px(10), pitch), each, way.seen)

    def _draw_state(self, painter: QPainter, box: QRectF, line: Line, seen: bool) -> None:
        """A shape and words: as foretold, games missing, or not looked at."""
        px = self.theme.px
        at = QPointF(box.left() + px(7), box.center().y())
        if not seen:
            token, words = "muted", f"{line.foretold} predicted"
            painter.setPen(QPen(self.theme.color(token), 1.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, px(4.5), px(4.5))
        elif not line.foretold and not line.there and not line.note:
            token, words = "muted", "none included"
            painter.setPen(QPen(self.theme.color(token), 1.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, px(4.5), px(4.5))
        elif line.note or line.missing:
            token, words = "amber", line.note or f"{line.missing} of {line.foretold} missing"
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(self.theme.color(token))
            painter.drawPolygon(
                QPolygonF([at + QPointF(0, -px(5)), at + QPointF(px(5.5), px(4.5)), at + QPointF(-px(5.5), px(4.5))])
            )
        else:
            token, words = "teal", f"{line.there} found, as predicted"
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(self.theme.color(token))
            painter.drawEllipse(at, px(5), px(5))
        self.text(
            painter,
            QRectF(at.x() + px(12), box.top(), box.width() - px(22), box.height()),
            words,
            font=self.theme.font("label"),
        )
