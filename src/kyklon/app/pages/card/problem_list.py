"""What is wrong with a file set, as lines: lamp, sentence, why, and the renaming that puts it right."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QScrollArea, QWidget

from kyklon.app.theme.lamps import Lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import button, column, label, row


@dataclass(frozen=True)
class ProblemLine:
    """remedy: '' or the words of a button; key: handed back when it is pressed."""

    lamp: str
    sentence: str
    why: str
    remedy: str = ""
    key: Any = None


class ProblemList(QScrollArea):
    asked = pyqtSignal(object)  # the line's key

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.lines: tuple[ProblemLine, ...] = ()
        self._empty = ""
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)

    def show_lines(self, lines: tuple[ProblemLine, ...], empty: str) -> None:
        if (lines, empty) == (self.lines, self._empty) and self.widget() is not None:
            return
        self.lines, self._empty = lines, empty
        layout = column(spacing=0)
        for line in lines:
            layout.addWidget(self._line(line))
        if not lines:
            layout.addWidget(label(empty, "muted", wrap=True))
        layout.addStretch(1)
        holder = QWidget()
        holder.setLayout(layout)
        self.setWidget(holder)

    def _line(self, line: ProblemLine) -> QWidget:
        made = QFrame()
        made.setAccessibleName(f"{line.lamp}: {line.sentence}")
        word = {"stop": "stop", "caution": "caution"}.get(line.lamp, "muted")
        head = row(Lamp(self._theme, line.lamp, 10), label(line.lamp.capitalize(), word), 1, spacing=8)
        if line.remedy:
            head.addWidget(button(line.remedy, lambda: self.asked.emit(line.key), "outline"))
        made.setLayout(
            column(
                head,
                label(line.sentence, wrap=True),
                label(line.why, "small", wrap=True),
                spacing=2,
                margins=(2, 6, 8, 8),
            )
        )
        return made
