"""The cascade of settings: one line a setting, one column a layer, the winning value marked. Click a cell to set it."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import set_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.operations.tuning.cascade import LAYERS, Effective, with_unit


class CascadeView(Instrument):
    """`asked` carries the setting's id and the layer to edit, as LAYERS counts them."""

    least = QSize(420, 220)
    asked = pyqtSignal(str, int)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Layers of settings")
        self._rows: tuple[Effective, ...] = ()
        self._titles: tuple[str, ...] = LAYERS
        self._current = (0, 1)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        set_tip(self, "Click a cell to set it; arrow keys and Enter do the same")

    def show_rows(self, rows: tuple[Effective, ...], titles: tuple[str, ...]) -> None:
        """titles: of the layers, the weakest first; '' hides a column."""
        if not self.shows(rows, titles):
            return
        self._rows, self._titles = rows, titles
        told = [f"{row.setting.name} {with_unit(row.setting, row.value)} from {row.layer}" for row in rows]
        self.setAccessibleDescription("; ".join(told))
        self.update()

    @property
    def _layers(self) -> list[int]:
        """The layers that are shown, by column."""
        return [index for index, title in enumerate(self._titles) if title]

    def _cell(self, row: int, column: int) -> QRectF:
        px = self.theme.px
        name = px(150)
        wide = (self.width() - name - 2) / max(1, len(self._layers))
        pitch = (self.height() - px(26)) / max(1, len(self._rows))
        return QRectF(name + column * wide, px(26) + row * pitch, wide, pitch)

    def centre_of(self, row: int, layer: int) -> QPointF:
        """Where a cell is drawn, in widget pixels."""
        return self._cell(row, self._layers.index(layer)).center()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        for column, layer in enumerate(self._layers):
            title = self._titles[layer]
            if title:
                head = self._cell(0, column)
                self.text(painter, QRectF(head.left() + px(10), 0, head.width() - px(12), px(24)), title, token="muted")
                if column:
                    self.line(
                        painter, QPointF(head.left() - px(4), px(12)), QPointF(head.left() + px(3), px(12)), "muted"
                    )
        for index, row in enumerate(self._rows):
            first = self._cell(index, 0)
            self.line(painter, QPointF(0, first.top()), QPointF(self.width(), first.top()), "grid")
            self.text(
                painter,
                QRectF(2, first.top(), px(146), first.height()),
                row.setting.name,
                font=self.theme.font("body", weight=500),
            )
            for column in range(len(self._layers)):
                self._draw_cell(painter, index, column, row)

    def _draw_cell(self, painter: QPainter, index: int, column: int, row: Effective) -> None:
        px = self.theme.px
        cell = self._cell(index, column)
        value = row.by_layer[self._layers[column]]
        layer = self._layers[column]
        wins = LAYERS[layer] == row.layer
        plate = cell.adjusted(px(4), px(3), -px(6), -px(3))
        if wins:
            self.block(painter, plate, "teal_soft", "teal", radius=3, width=1.4)
        if self.hasFocus() and self._current == (index, column):
            self.block(painter, plate.adjusted(-2, -2, 2, 2), self.theme.color("teal", 0), "teal", radius=4)
        if value is None:
            words, token = "·", "hairline"
        else:
            words, token = with_unit(row.setting, value), "ink" if wins else "muted"
        font = self.theme.mono(weight=500 if wins else 400)
        self.text(painter, plate.adjusted(px(8), 0, -px(4), 0), words, font=font, token=token)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        for index in range(len(self._rows)):
            for column in range(1, len(self._layers)):
                if self._cell(index, column).contains(event.position()):
                    self._current = (index, column)
                    self.update()
                    self.asked.emit(self._rows[index].setting.id, self._layers[column])

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        row, column = self._current
        step = {Qt.Key.Key_Up: (-1, 0), Qt.Key.Key_Down: (1, 0), Qt.Key.Key_Left: (0, -1), Qt.Key.Key_Right: (0, 1)}
        key = Qt.Key(event.key())
        if key in step:
            row = min(max(0, row + step[key][0]), len(self._rows) - 1)
            column = min(max(1, column + step[key][1]), len(self._layers) - 1)
            self._current = (row, column)
            self.update()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and self._rows:
            self.asked.emit(self._rows[row].setting.id, self._layers[column])
        else:
            super().keyPressEvent(event)
