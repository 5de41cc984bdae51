"""The panel or table to scale, seen from above. Press a control, or pick and drag."""

from __future__ import annotations

from math import atan2, degrees

from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent

from kyklon.app.pages.controls.table_drawing import TableDrawing
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import set_tip

KEYS = {  # our own keys for presses on a stand-in: left hand for seat 1, right hand for seat 2
    Qt.Key.Key_W: "p1.up",
    Qt.Key.Key_S: "p1.down",
    Qt.Key.Key_A: "p1.left",
    Qt.Key.Key_D: "p1.right",
    Qt.Key.Key_V: "p1.b1",
    Qt.Key.Key_B: "p1.b2",
    Qt.Key.Key_N: "p1.b3",
    Qt.Key.Key_F: "p1.b4",
    Qt.Key.Key_G: "p1.b5",
    Qt.Key.Key_H: "p1.b6",
    Qt.Key.Key_1: "p1.start",
    Qt.Key.Key_Q: "p1.select",
    Qt.Key.Key_Up: "p2.up",
    Qt.Key.Key_Down: "p2.down",
    Qt.Key.Key_Left: "p2.left",
    Qt.Key.Key_Right: "p2.right",
    Qt.Key.Key_J: "p2.b1",
    Qt.Key.Key_K: "p2.b2",
    Qt.Key.Key_L: "p2.b3",
    Qt.Key.Key_U: "p2.b4",
    Qt.Key.Key_I: "p2.b5",
    Qt.Key.Key_O: "p2.b6",
    Qt.Key.Key_2: "p2.start",
    Qt.Key.Key_P: "p2.select",
}
_ARROWS = {Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1), Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0)}
_SNAP = 2.0  # mm that a drag goes by


class TableView(TableDrawing):
    """pressed and released carry a switch as p1.b2; picked a seat, a control and whether it is added to the choice;
    dragged a seat and millimetres on its board; boxed an encoder's role and where it was dropped."""

    pressed = pyqtSignal(str)
    released = pyqtSignal(str)
    picked = pyqtSignal(int, str, bool)
    dragged = pyqtSignal(int, float, float)
    boxed = pyqtSignal(str, float, float)

    def __init__(self, theme: Theme, name: str, *, editable: bool = False, label: str = "No panel is chosen.") -> None:
        super().__init__(theme, name, label)
        self._editable = editable
        self.takes_keys = not editable  # a keyboard encoder's own keys must not press a stand-in
        self._down: set[str] = set()  # what mouse and keys hold, whatever comes of it
        self._grab: tuple[int, str, QPointF] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)

    def control_under(self, at: QPointF) -> tuple[int, str]:
        """Seat and control at a point, (0, '') for none."""
        layout = self._shown.layout
        for player, own in self._seats.items():
            back, fine = own.inverted()
            spot = back.map(at)
            for control in layout.seats[player - 1].controls if fine and layout else ():
                reach = 28 if control.kind == "lever" else control.bore / 2 + 2
                if (spot.x() - control.x) ** 2 + (spot.y() - control.y) ** 2 <= reach**2:
                    return player, control.id
        return 0, ""

    def control_at(self, at: QPointF) -> str:
        """The switch under a point, '' for none; a lever's quarter tells the direction."""
        player, control_id = self.control_under(at)
        layout = self._shown.layout
        control = layout.seats[player - 1].control(control_id) if player and layout else None
        if control is None:
            return ""
        if len(control.switches) == 1:
            return f"p{player}.{control.switches[0]}"
        back, _fine = self._seats[player].inverted()
        spot = back.map(at)
        quarter = round(degrees(atan2(spot.y() - control.y, spot.x() - control.x)) / 90) % 4
        way = ("right", "down", "left", "up")[quarter]
        return next((f"p{player}.{name}" for name in control.switches if name.rpartition("-")[2] == way), "")

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        self.setFocus()
        at = event.position()
        self._box = next(
            (
                role
                for role, _title, x, y in self._shown.boxes
                if (self._base.map(QPointF(x, y)) - at).manhattanLength() < self.theme.px(40)
            ),
            "",
        )
        if self._box:
            return
        player, control = self.control_under(at)
        if self._editable:
            shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self.picked.emit(player, control, shift)
            if player:
                self._grab, self._slip, self._dragged = (player, control, at), (0.0, 0.0), True
        elif name := self.control_at(at):
            self._push(name)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        at = event.position()
        if self._grab is not None:
            player, _control, start = self._grab
            back, _fine = self._seats[player].inverted()
            away = back.map(at) - back.map(start)
            self._slip = round(away.x() / _SNAP) * _SNAP, round(away.y() / _SNAP) * _SNAP
            self.update()
            return
        over = self.control_at(at)
        self.setCursor(Qt.CursorShape.PointingHandCursor if over else Qt.CursorShape.ArrowCursor)
        tag = self._shown.tags.get(over)
        set_tip(self, f"{over}: {tag}" if over and tag else over)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        if self._box:
            back, _fine = self._base.inverted()
            spot = back.map(event.position())
            self.boxed.emit(self._box, round(spot.x(), 1), round(spot.y(), 1))
            self._box = ""
            return
        if self._grab is not None:
            player, (dx, dy) = self._grab[0], self._slip
            self._grab, self._slip, self._dragged = None, (0.0, 0.0), False
            if dx or dy:
                self.dragged.emit(player, dx, dy)
            self.update()
            return
        for name in tuple(self._down):
            self._let_go(name)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        key = Qt.Key(event.key())
        if self._editable and self._selected and key in _ARROWS:
            dx, dy = _ARROWS[key]
            self.dragged.emit(next(iter(self._selected))[0], float(dx), float(dy))
        elif not self._editable and (name := KEYS.get(key)):
            if not event.isAutoRepeat() and self.takes_keys:
                self._push(name)
        else:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        name = KEYS.get(Qt.Key(event.key()))
        if self._editable or name is None:
            super().keyReleaseEvent(event)
        elif not event.isAutoRepeat():
            self._let_go(name)

    def focusOutEvent(self, event: object) -> None:
        """Override: a key that comes up elsewhere is not heard here."""
        super().focusOutEvent(event)  # type: ignore[arg-type] # a QFocusEvent
        for name in tuple(self._down):
            self._let_go(name)

    def _push(self, name: str) -> None:
        self._down.add(name)
        self.pressed.emit(name)

    def _let_go(self, name: str) -> None:
        if name in self._down:
            self._down.discard(name)
            self.released.emit(name)
