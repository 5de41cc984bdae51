"""The likely causes as bars; one of them is chosen, and its reasons stand beside."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show_probability
from kyklon.faults.finder import Likely


class CauseBars(Instrument):
    least = QSize(220, 180)
    chosen = pyqtSignal(str)  # a cause's id

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Likely causes")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._rows: tuple[Likely, ...] = ()
        self._chosen = ""

    def show_causes(self, rows: tuple[Likely, ...], chosen: str) -> None:
        if not self.shows(tuple((row.cause.id, round(row.chance, 4)) for row in rows), chosen):
            return
        self._rows, self._chosen = rows, chosen
        self.setAccessibleDescription("; ".join(f"{row.cause.name} {show_probability(row.chance)}" for row in rows))
        self.setMinimumHeight(round(self._pitch() * len(rows)))
        self.update()

    def _pitch(self) -> float:
        return self.theme.px(36)

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px, pitch = self.theme.px, self._pitch()
        for index, each in enumerate(self._rows):
            line = QRectF(box.left(), box.top() + index * pitch, box.width(), pitch)
            if each.cause.id == self._chosen:
                self.block(painter, line.adjusted(0, 1, 0, -1), "teal_soft", radius=3)
            percent = show_probability(each.chance)
            figure = QRectF(line.right() - px(78), line.top(), px(74), px(22))
            self.text(
                painter,
                figure,
                percent,
                font=self.theme.mono("label", 500),
                align=Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            )
            self.text(
                painter,
                QRectF(line.left() + px(6), line.top(), line.width() - px(88), px(22)),
                each.cause.name,
                font=self.theme.font("label", weight=600 if index == 0 else 400),
            )
            track = QRectF(line.left() + px(6), line.top() + px(23), line.width() - px(12), px(6))
            self.block(painter, track, "grid", radius=2)
            track.setWidth(max(px(2), track.width() * each.chance))
            self.block(painter, track, "teal", radius=2)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        if event is not None:
            self._choose(int(event.position().y() // self._pitch()))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        if event is None:
            return
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()), 0)
        now = next((index for index, each in enumerate(self._rows) if each.cause.id == self._chosen), 0)
        if step:
            self._choose(now + step)
        else:
            super().keyPressEvent(event)

    def _choose(self, index: int) -> None:
        if 0 <= index < len(self._rows):
            self.chosen.emit(self._rows[index].cause.id)
