"""What is drawn while an encoder is learnt: its terminals, how its contacts bounce, how often it reports."""

from __future__ import annotations

import math
from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument


class TerminalBoard(Instrument):
    """A strip of screw tabs, each with what is printed at it and what is said of it. pressed, released: by the
    mouse."""

    least = QSize(340, 40)
    pressed = pyqtSignal(str)
    released = pyqtSignal(str)

    def __init__(self, theme: Theme, name: str, *, small: bool = False) -> None:
        super().__init__(theme, name)
        self._small = small  # prints alone, close together
        self._tabs: tuple[tuple[str, str, str, str], ...] = ()
        self._boxes: dict[str, QRectF] = {}
        self._down = ""

    def show_tabs(self, tabs: tuple[tuple[str, str, str, str], ...]) -> None:
        """tabs: id, print, what is said below it, and its state: '', 'asked', 'known', 'skipped' or 'on'."""
        if not self.shows(tabs):
            return
        self._tabs = tabs
        rows = math.ceil(len(tabs) / self._columns(max(self.width(), self.least.width())))
        self.setMinimumHeight(round(self.theme.px(32 if self._small else 44) * max(1, rows)))
        self.setAccessibleDescription(
            "; ".join(f"{printed} {said} {state}".strip() for _id, printed, said, state in tabs)
        )
        self.update()

    def _columns(self, wide: float) -> int:
        return max(1, min(len(self._tabs) or 1, int(wide // self.theme.px(42 if self._small else 62))))

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        if not self._tabs:
            self.say(painter, box, "Choose a device; its terminals appear here.")
            return
        count = len(self._tabs)
        columns = self._columns(box.width())
        rows = math.ceil(count / columns)
        columns = math.ceil(count / rows)
        wide, high = box.width() / columns, min(px(32 if self._small else 64), box.height() / rows)
        self._boxes = {}
        for index, (tab_id, printed, said, state) in enumerate(self._tabs):
            cell = QRectF(box.left() + index % columns * wide, box.top() + index // columns * high, wide, high)
            tab = QRectF(
                cell.left() + px(3),
                cell.top() + px(3),
                cell.width() - px(6),
                high - px(6) if self._small else min(px(26), high - px(20)),
            )
            fill = {"asked": "teal", "known": "teal_soft", "on": "amber_soft", "skipped": "sheet"}.get(state, "field")
            edge = "amber" if state == "on" else "teal" if state in ("asked", "known") else "hairline"
            self.block(painter, tab, fill, edge, radius=2, width=2.0 if state in ("asked", "on") else 1.0)
            token = "on_teal" if state == "asked" else "ink"
            self.text(
                painter,
                tab,
                printed,
                font=self.theme.mono("small", 600),
                token=token,
                align=Qt.AlignmentFlag.AlignCenter,
            )
            self._boxes[tab_id] = cell
            if self._small:
                continue
            below = QRectF(tab.left() - px(2), tab.bottom() + px(1), tab.width() + px(4), px(16))
            words = said.removeprefix("BTN_").removeprefix("ABS_").removeprefix("KEY_") or {
                "asked": "press it now",
                "skipped": "skipped",
            }.get(state, "")
            self.text(
                painter,
                below,
                words,
                font=self.theme.font("small"),
                token="teal" if state == "asked" else "muted",
                align=Qt.AlignmentFlag.AlignCenter,
            )

    def box_of(self, tab_id: str) -> QRectF:
        """Where a terminal is drawn."""
        self._drawn()
        return self._boxes[tab_id]

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        self._down = next((tab_id for tab_id, box in self._boxes.items() if box.contains(event.position())), "")
        if self._down:
            self.pressed.emit(self._down)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        if self._down:
            self.released.emit(self._down)
        self._down = ""


class Histogram(Instrument):
    """How often each length was seen, with its unit and the longest named."""

    least = QSize(150, 88)

    def __init__(self, theme: Theme, name: str, empty: str) -> None:
        super().__init__(theme, name)
        self._title, self._empty = name, empty
        self._values: tuple[float, ...] = ()
        self._words = ""

    def show_values(self, values: Sequence[float], words: str) -> None:
        """values in ms; words: what they come to."""
        if not self.shows(tuple(values), words):
            return
        self._values, self._words = tuple(values), words
        self.setAccessibleDescription(f"{self._title}: {words or self._empty}")
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        self.text(
            painter, QPointF(box.left(), box.top() + px(8)), self._title, font=self.theme.font("label", weight=600)
        )
        if not self._values:
            self.text(painter, QRectF(box.left(), box.top() + px(18), box.width(), px(20)), self._empty, token="muted")
            return
        self.text(
            painter,
            QRectF(box.left(), box.top() + px(17), box.width(), px(16)),
            self._words,
            font=self.theme.mono("small"),
            token="teal",
        )
        area = box.adjusted(px(2), px(38), -px(4), -px(18))
        most = max(1.0, *self._values)
        bins = max(4, min(24, int(area.width() // px(13))))
        counts = [0] * bins
        for value in self._values:
            counts[min(bins - 1, int(value / most * bins))] += 1
        wide = area.width() / bins
        for index, count in enumerate(counts):
            if count:
                high = max(2.0, area.height() * count / max(counts))
                self.block(
                    painter,
                    QRectF(area.left() + index * wide + 1, area.bottom() - high, wide - 2, high),
                    "teal",
                    radius=0,
                )
        painter.setPen(QPen(self.theme.color("hairline"), 1))
        painter.drawLine(area.bottomLeft(), area.bottomRight())
        self.text(
            painter, QPointF(area.left(), area.bottom() + px(9)), "0", font=self.theme.mono("small"), token="muted"
        )
        self.text(
            painter,
            QPointF(area.right(), area.bottom() + px(9)),
            f"{most:.1f}\u202fms",
            font=self.theme.mono("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight,
        )
