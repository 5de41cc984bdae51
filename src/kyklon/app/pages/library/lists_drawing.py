"""The lists in use: for which system, how written, and how many of its games they know."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument


@dataclass(frozen=True)
class ListLine:
    """known, games: of the system. error: why the list was not read."""

    name: str
    system: str
    written: str
    known: int
    games: int
    error: str = ""


class ListsDrawing(Instrument):
    """`dropped` carries the place of a list that is to be used no more."""

    least = QSize(420, 150)
    dropped = pyqtSignal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Lists in use")
        self._lines: tuple[ListLine, ...] = ()
        self._crosses: list[QRectF] = []

    def show_lists(self, lines: tuple[ListLine, ...]) -> None:
        if not self.shows(lines):
            return
        self._lines = lines
        told = [
            f"{line.name} for {line.system}: {line.error or f'{line.known} of {line.games} known'}" for line in lines
        ]
        self.setAccessibleDescription("; ".join(told))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        self._crosses = []
        if not self._lines:
            self.say(painter, box, "No list yet. Open one below: checksums, CSV, XML or JSON.")
            return
        pitch = min(px(50), box.height() / len(self._lines))
        name, drop = box.width() * 0.44, px(64)
        for index, each in enumerate(self._lines):
            y = box.top() + index * pitch
            if index:
                self.line(painter, QPointF(box.left(), y), QPointF(box.right(), y), "grid")
            self.text(
                painter,
                QRectF(box.left(), y + pitch * 0.08, name, pitch * 0.44),
                each.name,
                font=self.theme.font("body", weight=600),
            )
            self.text(
                painter,
                QRectF(box.left(), y + pitch * 0.48, name, pitch * 0.44),
                f"{each.system}, {each.written}",
                font=self.theme.font("small"),
                token="muted",
            )
            bar = QRectF(box.left() + name, y + pitch * 0.24, box.width() - name - drop - px(12), px(9))
            words = QRectF(bar.left(), bar.bottom() + px(2), bar.width(), px(18))
            if each.error:
                self.text(
                    painter,
                    QRectF(bar.left(), y, bar.width(), pitch),
                    each.error,
                    token="red",
                    font=self.theme.font("small"),
                )
            else:
                self.block(painter, bar, "grid", radius=2)
                share = each.known / each.games if each.games else 0.0
                self.block(painter, QRectF(bar.left(), bar.top(), bar.width() * share, bar.height()), "teal", radius=2)
                self.text(
                    painter,
                    words,
                    f"{each.known} of {each.games} known by checksum",
                    token="muted",
                    font=self.theme.font("small"),
                )
            cross = QRectF(box.right() - drop, y + pitch / 2 - px(11), drop, px(22))
            self._crosses.append(cross)
            self.block(painter, cross, "field", "hairline", radius=3)
            self.text(
                painter,
                cross.center(),
                "Remove list",
                font=self.theme.font("small"),
                align=Qt.AlignmentFlag.AlignHCenter,
            )

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        for index, each in enumerate(self._crosses):
            if each.contains(event.position()):
                self.dropped.emit(index)
                return
