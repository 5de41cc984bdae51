"""The measures of a panel: each a line to scale with its bound, the ones that do not hold first."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPolygonF
from PyQt6.QtWidgets import QSizePolicy

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.operations.controls.clearance import Check
from kyklon.operations.controls.mapping import spoken

_ROW = 52.0  # px


class MeasureList(Instrument):
    """asked carries the seat and the controls of a measure that was clicked."""

    least = QSize(200, 60)
    asked = pyqtSignal(int, tuple)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Measures of the panel")
        self._checks: tuple[Check, ...] = ()
        self._seats: tuple[tuple[int, ...], ...] = ()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def show_checks(self, checks: Sequence[Check]) -> None:
        if self.shows(tuple(checks)):
            self._checks, self._seats = merged(checks)
            self.setAccessibleDescription("; ".join(check.words for check in checks if not check.ok) or "all pass")
            self.updateGeometry()
            self.update()

    def sizeHint(self) -> QSize:
        """Override."""
        return QSize(220, max(60, round(self.theme.px(_ROW) * len(self._checks))))

    def minimumSizeHint(self) -> QSize:
        """Override."""
        return self.sizeHint()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        if not self._checks:
            self.text(painter, QRectF(0, 0, box.width(), px(40)), "Lay out a panel to see its measures.", token="muted")
        for index, check in enumerate(self._checks):
            top = index * px(_ROW)
            token = "ink" if check.ok else "red" if check.hard else "amber"
            self._mark(painter, QPointF(px(8), top + px(12)), check)
            seats = self._seats[index]
            where = (
                f"seat {seats[0]}"
                if len(seats) == 1
                else f"seats {seats[0]} to {seats[-1]}"
                if len(seats) > 2
                else f"seats {seats[0]}, {seats[-1]}"
            )
            where += f" · {' and '.join(map(spoken, check.where[1][:2]))}" if len(check.where[1]) in (1, 2) else ""
            self.text(painter, QRectF(px(20), top + px(3), box.width() - px(20), px(18)), check.title)
            self.text(
                painter,
                QRectF(px(20), top + px(20), box.width() * 0.5 - px(20), px(16)),
                where,
                font=self.theme.font("small"),
                token="muted",
            )
            sign = "≥" if _least(check) else "≤"
            unit = check.unit if check.unit == "°" else f"\u202f{check.unit}"
            words = f"{check.measured:.0f}{unit}  {sign} {check.bound:.0f}{unit}"
            self.text(
                painter,
                QRectF(box.width() * 0.5, top + px(20), box.width() * 0.5, px(16)),
                words,
                font=self.theme.mono("small", 500),
                token=token,
                align=Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            )
            self._bar(painter, QRectF(px(20), top + px(40), box.width() - px(20), px(4)), check, token)

    def _mark(self, painter: QPainter, at: QPointF, check: Check) -> None:
        """Filled circle, triangle, or square with a bar."""
        size = self.theme.px(4.5)
        painter.setPen(Qt.PenStyle.NoPen)
        if check.ok:
            painter.setBrush(self.theme.color("teal"))
            painter.drawEllipse(at, size, size)
        elif check.hard:
            painter.setBrush(self.theme.color("red"))
            painter.drawRect(QRectF(at.x() - size, at.y() - size, 2 * size, 2 * size))
            self.line(painter, at - QPointF(size * 0.6, 0), at + QPointF(size * 0.6, 0), "sheet", 1.6)
        else:
            painter.setBrush(self.theme.color("amber"))
            corners = [at + QPointF(0, -size), at + QPointF(size, size), at + QPointF(-size, size)]
            painter.drawPolygon(QPolygonF(corners))

    def _bar(self, painter: QPainter, box: QRectF, check: Check, token: str) -> None:
        """The measure against its bound, which is a tick."""
        most = max(abs(check.measured), abs(check.bound), 1.0) * 1.25
        self.block(painter, box, "grid", radius=2)
        wide = max(0.0, check.measured) / most * box.width()
        self.block(painter, QRectF(box.left(), box.top(), wide, box.height()), "teal" if check.ok else token, radius=2)
        x = box.left() + check.bound / most * box.width()
        self.line(painter, QPointF(x, box.top() - 3), QPointF(x, box.bottom() + 3), "ink", 1.4)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        index = int(event.position().y() // self.theme.px(_ROW))
        if 0 <= index < len(self._checks):
            self.asked.emit(*self._checks[index].where)


def merged(checks: Sequence[Check]) -> tuple[tuple[Check, ...], tuple[tuple[int, ...], ...]]:
    """Equal measures of seats that are alike as one; beside each the seats."""
    found: dict[object, tuple[Check, list[int]]] = {}
    for check in checks:
        key = check.code, check.title, check.where[1], round(check.measured, 1)
        found.setdefault(key, (check, []))[1].append(check.where[0])
    return tuple(each for each, _seats in found.values()), tuple(tuple(seats) for _each, seats in found.values())


def _least(check: Check) -> bool:
    """Whether the bound is the least, not the most."""
    return (check.measured >= check.bound) == check.ok
