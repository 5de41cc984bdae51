"""A row of words, one of them current: which bench of a page is open."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
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

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override: left and right walk along the row."""
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()), 0)
        if not step:
            super().keyPressEvent(event)
            return
        index = (self._current + step) % len(self.buttons)
        self.buttons[index].setFocus()
        self.choose(index)
