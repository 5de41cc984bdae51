"""Saves against their archives: a row for each save, a column for each archive, and one for the machine now.

The same contents have the same letter; a later letter is a later version.
"""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument


@dataclass(frozen=True)
class Line:
    """versions: for each archive and, last, the machine: a letter, '' where it is not there. kept: whether the
    machine's own version lies in an archive."""

    name: str
    second: str
    versions: tuple[str, ...]
    kept: bool


_PITCH, _HEAD, _CELL = 34.0, 44.0, 30.0  # px


class SavesDrawing(Instrument):
    least = QSize(280, 240)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Saves and their archives")
        self._lines: tuple[Line, ...] = ()
        self._columns: tuple[str, ...] = ()
        self._looked = False

    def show_saves(self, columns: tuple[str, ...], lines: tuple[Line, ...], *, looked: bool) -> None:
        """columns: of the archives, as dates; looked: whether the machine was."""
        if not self.shows(columns, lines, looked):
            return
        self._columns, self._lines, self._looked = columns, lines, looked
        self.setMinimumHeight(round(self.theme.px(_HEAD + _PITCH * max(3, len(lines)))))
        told = [f"{line.name}, {'backed up' if line.kept else 'not backed up'}" for line in lines]
        self.setAccessibleDescription("; ".join(told))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px, font = self.theme.px, self.theme.font
        if not self._lines:
            words = "No saves found." if self._looked else "Scan the machine, a stick or a card first."
            self.text(painter, box, words, token="muted", align=Qt.AlignmentFlag.AlignCenter)
            return
        names = (*self._columns, "now" if self._looked else "")
        cell = px(_CELL)
        left = box.right() - cell * len(names) - px(6)
        for number, name in enumerate(names):
            at = QPointF(left + (number + 0.5) * cell, box.top() + px(34))
            now = number == len(names) - 1
            painter.save()
            painter.translate(at)
            painter.rotate(-38)
            weight = 600 if now else 400
            self.text(painter, QPointF(0, 0), name, font=font("small", weight=weight), token="ink" if now else "muted")
            painter.restore()
        for row, line in enumerate(self._lines):
            y = box.top() + px(_HEAD + _PITCH * row)
            wide = left - box.left() - px(10)
            self.text(painter, QRectF(box.left(), y, wide, px(17)), line.name, font=font("label", weight=500))
            second = QRectF(box.left(), y + px(15), wide, px(15))
            self.text(painter, second, line.second, font=font("small"), token="muted")
            for number, letter in enumerate(line.versions):
                now = number == len(line.versions) - 1
                place = QRectF(left + number * cell + px(3), y + px(3), cell - px(6), px(23))
                if not letter:
                    dot = QPointF(place.center().x(), place.center().y() + px(4))
                    self.text(painter, dot, "·", token="muted", align=Qt.AlignmentFlag.AlignHCenter)
                    continue
                unkept = now and not line.kept
                fill = "amber_soft" if unkept else "teal_soft" if now else "field"
                edge = "amber" if unkept else "teal" if now else "hairline"
                self.block(painter, place, fill, edge, radius=3, width=1.4 if now else 1)
                mark = f"{letter}!" if unkept else letter
                self.text(painter, place, mark, font=self.theme.mono("small"), align=Qt.AlignmentFlag.AlignCenter)
            bottom = y + px(_PITCH) - px(2)
            self.line(painter, QPointF(box.left(), bottom), QPointF(box.right(), bottom), "grid")
