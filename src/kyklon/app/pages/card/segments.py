"""A row of words, one of them current: which bench of a page is open."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QPushButton, QWidget

from kyklon.app.widgets.basic import button, row


class Segments(QWidget):
    chosen = pyqtSignal(int)

    def __init__(self, names: tuple[str, ...]) -> None:
        super().__init__()
        self.buttons: list[QPushButton] = []
        for index, name in enumerate(names):
            made = button(name, lambda index=index: self.choose(index), "segment")
            made.setCheckable(True)
            made.installEventFilter(self)
            self.buttons.append(made)
        layout = row(*self.buttons, 1, spacing=2)
        self.setLayout(layout)
        self._current = -1
        self.show_current(0)

    def show_current(self, index: int) -> None:
        self._current = index
        for number, each in enumerate(self.buttons):
            each.setChecked(number == index)

    def choose(self, index: int) -> None:
        self.show_current(index)
        self.chosen.emit(index)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Override: left and right walk along the row; a button by itself would only move the focus."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            step = int(event.key() == Qt.Key.Key_Right) - int(event.key() == Qt.Key.Key_Left)
            if step:
                index = (self._current + step) % len(self.buttons)
                self.buttons[index].setFocus()
                self.choose(index)
                return True
        return super().eventFilter(watched, event)
