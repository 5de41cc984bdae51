"""The test card alone on a screen, in its own pixels; a key or a click closes it, the arrows make it scroll."""

from __future__ import annotations

from PyQt6.QtCore import QRect, Qt, QTimer
from PyQt6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QWidget

_TICK_MS = 16  # a field of 60 Hz
_MOST = 16  # pixels a tick


class CardWindow(QWidget):
    def __init__(self, image: QImage) -> None:
        super().__init__()
        self.setWindowTitle("Test pattern")
        self._image = image
        self.speed = 0
        self._at = 0
        self._timer = QTimer(self)
        self._timer.setInterval(_TICK_MS)
        self._timer.timeout.connect(self._on_tick)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override: as large as the screen, wrapped round where it scrolls."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor("black"))
        wide = self.width()
        for start in (-self._at, wide - self._at):
            painter.drawImage(QRect(start, 0, wide, self.height()), self._image)
        painter.end()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        key = event.key() if event is not None else 0
        step = 1 if key == Qt.Key.Key_Right else -1 if key == Qt.Key.Key_Left else 0
        if not step:
            self.close()
            return
        self.speed = max(-_MOST, min(_MOST, self.speed + step))
        if self.speed:
            self._timer.start()
        else:
            self._timer.stop()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        self.close()

    def _on_tick(self) -> None:
        self._at = (self._at + self.speed) % max(1, self.width())
        self.update()
