"""A keyboard to scale, and its matrix: rows and columns of the ribbon with a key at each crossing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import set_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.catalogue.control_records import Keyboard


@dataclass(frozen=True)
class Caps:
    """What stands on the keys. said: below the label; states: '', 'known', 'doubt', 'ghost', 'picked', 'diode',
    'lost'."""

    keyboard: Keyboard | None = None
    labels: Mapping[str, str] = field(default_factory=dict)
    said: Mapping[str, str] = field(default_factory=dict)
    states: Mapping[str, str] = field(default_factory=dict)
    tips: Mapping[str, str] = field(default_factory=dict)


_FILLS = {
    "known": "teal_soft",
    "doubt": "amber_soft",
    "ghost": "red_soft",
    "picked": "teal_soft",
    "diode": "teal_soft",
    "lost": "red_soft",
}
_EDGES = {"known": "teal", "doubt": "amber", "ghost": "red", "picked": "teal", "diode": "ink", "lost": "red"}


class KeyDrawing(Instrument):
    """pressed carries a key's id."""

    least = QSize(420, 150)
    pressed = pyqtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "The keyboard; close a key")
        self._caps = Caps()
        self._chosen = ""
        self.setMouseTracking(True)

    def show_caps(self, caps: Caps, chosen: str = "") -> None:
        if self.shows(caps, chosen):
            self._caps, self._chosen = caps, chosen
            told = [f"{caps.labels.get(key, key)} {said}" for key, said in caps.said.items() if said]
            self.setAccessibleDescription("; ".join(told))
            self.update()

    def _unit(self) -> tuple[float, float, float]:
        """Pixels of a key pitch, and where the upper left key lies."""
        keyboard = self._caps.keyboard
        if keyboard is None:
            return 1.0, 0.0, 0.0
        wide = max(key.x + key.width for key in keyboard.keys)
        high = max(key.y + 1 for key in keyboard.keys)
        unit = min((self.width() - 16) / wide, (self.height() - 16) / high, self.theme.px(62))
        return unit, (self.width() - unit * wide) / 2, (self.height() - unit * high) / 2

    def key_box(self, key_id: str) -> QRectF:
        """Where a key is drawn. Raises KeyError for one that is not there."""
        key = self._caps.keyboard.key(key_id) if self._caps.keyboard else None
        if key is None:
            raise KeyError(key_id)
        unit, left, top = self._unit()
        return QRectF(left + key.x * unit, top + key.y * unit, key.width * unit, unit).adjusted(1.5, 1.5, -1.5, -1.5)

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        caps, px = self._caps, self.theme.px
        if caps.keyboard is None:
            self.say(painter, box, "Choose the keyboard at the right.")
            return
        unit, left, top = self._unit()
        wide = max(key.x + key.width for key in caps.keyboard.keys) * unit
        high = max(key.y + 1 for key in caps.keyboard.keys) * unit
        self.block(
            painter, QRectF(left - px(6), top - px(6), wide + px(12), high + px(12)), "grid", "hairline", radius=6
        )
        for key in caps.keyboard.keys:
            place = self.key_box(key.id)
            state = caps.states.get(key.id, "")
            edge = "teal" if key.id == self._chosen else _EDGES.get(state, "hairline")
            self.block(
                painter, place, _FILLS.get(state, "sheet"), edge, radius=3, width=2.4 if key.id == self._chosen else 1.2
            )
            said = caps.said.get(key.id, "")
            deep = bool(said) and place.height() > px(34)
            upper = QRectF(
                place.left() + 3, place.top() + 1, place.width() - 6, place.height() * (0.56 if deep else 1.0)
            )
            lower = QRectF(
                place.left() + 1, place.top() + place.height() * 0.5, place.width() - 2, place.height() * 0.46
            )
            words = caps.labels.get(key.id, key.label)
            self.text(
                painter,
                upper,
                words,
                font=self.theme.font("label", weight=600),
                align=Qt.AlignmentFlag.AlignCenter,
                token="red" if state == "lost" else "ink",
            )
            token = "amber" if state == "doubt" else "muted"
            if deep:
                self.text(
                    painter, lower, said, font=self.theme.font("small"), token=token, align=Qt.AlignmentFlag.AlignCenter
                )
            if state == "diode":
                at = QPointF(place.right() - px(7), place.top() + px(7))
                self.line(painter, at - QPointF(4, 0), at + QPointF(4, 0), "ink", 1.4)
                self.line(painter, at + QPointF(3, -4), at + QPointF(3, 4), "ink", 1.4)

    def _under(self, at: QPointF) -> str:
        keyboard = self._caps.keyboard
        return next((key.id for key in keyboard.keys if self.key_box(key.id).contains(at)), "") if keyboard else ""

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        over = self._under(event.position())
        set_tip(self, self._caps.tips.get(over, ""))
        self.setCursor(Qt.CursorShape.PointingHandCursor if over else Qt.CursorShape.ArrowCursor)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        key = self._under(event.position())
        if key:
            self.pressed.emit(key)


@dataclass(frozen=True)
class Crossings:
    """keys by row and column pin. loose: pins whose side is a guess."""

    rows: tuple[int, ...] = ()
    columns: tuple[int, ...] = ()
    keys: Mapping[tuple[int, int], str] = field(default_factory=dict)
    doubtful: frozenset[str] = frozenset()
    loose: frozenset[int] = frozenset()


class MatrixDrawing(Instrument):
    least = QSize(300, 130)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "The matrix of the ribbon")
        self._shown = Crossings()

    def show_matrix(self, shown: Crossings) -> None:
        if self.shows(shown):
            self._shown = shown
            told = [f"{key} at {row} and {column}" for (row, column), key in shown.keys.items()]
            self.setAccessibleDescription("; ".join(told))
            self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        shown, px = self._shown, self.theme.px
        if not shown.rows or not shown.columns:
            self.say(painter, box, "Rows and columns come out of the readings.")
            return
        left, top = px(62), px(24)
        wide, high = (box.width() - left) / len(shown.columns), (box.height() - top) / len(shown.rows)
        small = self.theme.mono("small")
        self.text(painter, QPointF(px(2), px(10)), "row · col", font=self.theme.font("small"), token="muted")
        for index, pin in enumerate(shown.columns):
            x = left + (index + 0.5) * wide
            self.line(painter, QPointF(x, top), QPointF(x, box.height()), "hairline")
            token = "amber" if pin in shown.loose else "teal"
            self.text(
                painter, QPointF(x, px(10)), f"{pin}", font=small, token=token, align=Qt.AlignmentFlag.AlignHCenter
            )
        for index, pin in enumerate(shown.rows):
            y = top + (index + 0.5) * high
            self.line(painter, QPointF(left, y), QPointF(box.width(), y), "hairline")
            self.text(
                painter, QPointF(px(24), y), f"{pin}", font=small, token="amber" if pin in shown.loose else "teal"
            )
        for (row, column), key in shown.keys.items():
            x = left + (shown.columns.index(column) + 0.5) * wide
            y = top + (shown.rows.index(row) + 0.5) * high
            painter.setFont(small)
            room = min(wide - 3, max(px(18), painter.fontMetrics().horizontalAdvance(key) + px(8)))
            place = QRectF(x - room / 2, y - min(high - 2, px(18)) / 2, room, min(high - 2, px(18)))
            doubt = key in shown.doubtful
            self.block(painter, place, "amber_soft" if doubt else "teal_soft", "amber" if doubt else "teal")
            self.text(painter, place, key, font=small, align=Qt.AlignmentFlag.AlignCenter)
