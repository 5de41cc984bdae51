"""Two boots side by side, stage by stage; the first difference marked."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize
from PyQt6.QtGui import QHelpEvent, QPainter
from PyQt6.QtWidgets import QToolTip

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import plain_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.operations.poweron.side_by_side import Cell, StageRow

_LAMPS = {"passed": "clear", "stopped": "stop", "not reached": "not started", "unseen": "stale"}
WORDS = {
    "passed": "passed",
    "stopped": "stops here",
    "not reached": "not reached",
    "unseen": "passed, not in the log",
    "not tried": "not tried",
}


class SideBySide(Instrument):
    least = QSize(300, 200)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Two boots side by side")
        self._rows: tuple[StageRow, ...] = ()
        self._titles = ("", "")

    def show_rows(self, rows: tuple[StageRow, ...], titles: tuple[str, str]) -> None:
        if not self.shows(rows, titles):
            return
        self._rows, self._titles = rows, titles
        told = [f"{row.stage}: {titles[0]} {WORDS[row.left.came]}, {titles[1]} {WORDS[row.right.came]}" for row in rows]
        self.setAccessibleDescription("; ".join(told))
        self.setMinimumHeight(round(self.theme.px(25 + 25 * len(rows))))
        self.update()

    def event(self, event: QEvent | None) -> bool:
        """Override: what is shortened stands whole in the tip."""
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            at = event.pos()
            index = int((at.y() - self.theme.px(25)) // self.theme.px(25))
            if 0 <= index < len(self._rows):
                row = self._rows[index]
                wide = (self.width() + self.theme.px(104)) / 2
                cell = row.right if at.x() > wide else row.left
                QToolTip.showText(event.globalPos(), plain_tip(cell.text or WORDS[cell.came]), self)
                return True
            QToolTip.hideText()
        return super().event(event)

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        first = next((row for row in self._rows if row.differs), None)
        name = px(104)
        wide = (box.width() - name) / 2
        columns = (box.left() + name, box.left() + name + wide)
        for left, title in zip(columns, self._titles, strict=True):
            self.text(
                painter,
                QRectF(left + px(20), box.top(), wide - px(24), px(22)),
                title,
                font=self.theme.font("label", weight=600),
                token="muted",
            )
        for index, row in enumerate(self._rows):
            top = box.top() + px(25) + index * px(25)
            line = QRectF(box.left(), top, box.width(), px(25))
            if row is first:
                self.block(painter, line.adjusted(0, 1, 0, -1), "amber_soft", radius=3)
            token = "amber" if row is first else "ink" if row.differs else "muted"
            self.text(
                painter,
                QRectF(line.left() + px(4), top, name - px(6), px(25)),
                row.stage,
                font=self.theme.font("label", weight=600 if row.differs else 400),
                token=token,
            )
            for left, cell in zip(columns, (row.left, row.right), strict=True):
                self._draw_cell(painter, QRectF(left, top, wide, px(25)), cell, differs=row.differs)
        if first is not None:
            self.line(
                painter,
                QPointF(columns[1] - px(4), box.top() + px(4)),
                QPointF(columns[1] - px(4), box.top() + px(25 + 25 * len(self._rows))),
                "grid",
            )

    def _draw_cell(self, painter: QPainter, box: QRectF, cell: Cell, *, differs: bool) -> None:
        px = self.theme.px
        mark = QRectF(box.left() + px(3), box.center().y() - px(5), px(10), px(10))
        if cell.came == "not tried":
            middle = mark.center()
            self.line(painter, middle - QPointF(px(4), 0), middle + QPointF(px(4), 0), "muted", 1.4)
        else:
            paint_lamp(painter, mark, _LAMPS[cell.came], self.theme)
        words = cell.text or WORDS[cell.came]
        token = "red" if cell.came == "stopped" else "ink" if differs or cell.text else "muted"
        self.text(
            painter, QRectF(box.left() + px(20), box.top(), box.width() - px(25), box.height()), words, token=token
        )
