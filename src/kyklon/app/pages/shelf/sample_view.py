"""A boot file's lines as its grammar takes them: what each is, and which decision it carries."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.parts.dialect import SampleLine

_TOKENS = {"setting": "ink", "remark": "muted", "section": "teal", "not understood": "red", "blank": "muted"}


class SampleView(Instrument):
    """Click a line, or go there with the arrow keys."""

    least = QSize(360, 200)
    chosen = pyqtSignal(int)  # the line's number, from 1

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Lines of the sample")
        self._lines: tuple[SampleLine, ...] = ()
        self._names: dict[str, str] = {}
        self._current = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def show_lines(self, lines: tuple[SampleLine, ...], names: dict[str, str], current: int) -> None:
        """names: of decisions, by path. current: the chosen line's number."""
        if not self.shows(lines, current):
            return
        self._lines, self._names, self._current = lines, names, current
        self.setMinimumHeight(round(self.theme.px(22) * max(8, len(lines)) + self.theme.px(6)))
        self.setAccessibleDescription("; ".join(f"{line.number} {line.kind}" for line in lines[:50]))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        if not self._lines:
            self.say(painter, box, "Open a boot file; its lines appear here.")
            return
        pitch, side = px(22), px(150)
        for index, each in enumerate(self._lines):
            area = QRectF(box.left(), box.top() + index * pitch, box.width(), pitch)
            if each.number == self._current:
                painter.fillRect(area, self.theme.color("teal_soft"))
            self.text(
                painter,
                QRectF(area.left() + px(2), area.top(), px(26), pitch),
                str(each.number),
                font=self.theme.mono("small"),
                token="muted",
                align=Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            )
            middle = QRectF(area.left() + px(36), area.top(), area.width() - side - px(44), pitch)
            weight = 600 if each.setting else 400
            self.text(
                painter,
                middle,
                each.text.replace("\t", "    "),
                font=self.theme.mono("small", weight),
                token=_TOKENS[each.kind],
            )
            words = (
                f"→ {self._names.get(each.setting, each.setting)}".replace("→ ", "= ")
                if each.setting
                else ""
                if each.kind == "blank"
                else each.kind
            )
            self.text(
                painter,
                QRectF(area.right() - side, area.top(), side - px(4), pitch),
                words,
                font=self.theme.font("label", weight=600 if each.setting else 400),
                token="teal" if each.setting else "red" if each.kind == "not understood" else "muted",
                align=Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            )

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        self.setFocus()
        self._choose(int(event.position().y() // self.theme.px(22)) + 1)

    def _choose(self, number: int) -> None:
        if 1 <= number <= len(self._lines):
            self.chosen.emit(number)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if step:
            self._choose(self._current + step)
        else:
            super().keyPressEvent(event)
