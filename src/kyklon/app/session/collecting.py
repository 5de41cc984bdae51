"""Python's cycles are collected on the GUI thread alone while a window is open.

Python collects in whatever thread happens to allocate; what it frees there may be a widget, and a widget that goes in
another thread than its own takes the program with it (Qt: 'QObject, thread affinity').
"""

from __future__ import annotations

import gc

from PyQt6.QtCore import QObject, QTimer, pyqtSlot

_EVERY_MS = 250  # between two looks; a job makes some 100 000 objects meanwhile, CP
_YOUNG, _MIDDLE, _OLD = 700, 10, 10  # objects, then collections of the generation before: Python's own thresholds


class Collector(QObject):
    """Collects until it is ended. Several may run at once, one for each window."""

    _at_work = 0

    def __init__(self) -> None:
        super().__init__()
        self._ended = False
        Collector._at_work += 1
        gc.disable()
        self._timer = QTimer(self)
        self._timer.timeout.connect(self._collect)
        self._timer.start(_EVERY_MS)

    @pyqtSlot()
    def _collect(self) -> None:
        young, middle, old = gc.get_count()
        if young > _YOUNG:
            gc.collect(2 if old >= _OLD else 1 if middle >= _MIDDLE else 0)

    def end(self) -> None:
        """Leave it to Python again, once nobody else collects."""
        if self._ended:
            return
        self._ended = True
        self._timer.stop()
        Collector._at_work -= 1
        if not Collector._at_work:
            gc.enable()
