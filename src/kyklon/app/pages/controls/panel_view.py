"""The panel to scale. Press a control, by mouse or key, and the path lights up: switch, terminal, code, game input."""

from __future__ import annotations

from dataclasses import dataclass
from math import atan2, degrees

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QKeyEvent, QMouseEvent, QPainter, QPen, QTransform

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import set_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.catalogue.records import Control, Panel

KEYS = {  # our own keys for the simulated presses: left hand for seat 1, right hand and number pad for seat 2
    Qt.Key.Key_W: "p1.up", Qt.Key.Key_S: "p1.down", Qt.Key.Key_A: "p1.left", Qt.Key.Key_D: "p1.right",
    Qt.Key.Key_V: "p1.b1", Qt.Key.Key_B: "p1.b2", Qt.Key.Key_N: "p1.b3", Qt.Key.Key_F: "p1.b4", Qt.Key.Key_G: "p1.b5",
    Qt.Key.Key_H: "p1.b6", Qt.Key.Key_1: "p1.start", Qt.Key.Key_Q: "p1.select",
    Qt.Key.Key_Up: "p2.up", Qt.Key.Key_Down: "p2.down", Qt.Key.Key_Left: "p2.left", Qt.Key.Key_Right: "p2.right",
    Qt.Key.Key_J: "p2.b1", Qt.Key.Key_K: "p2.b2", Qt.Key.Key_L: "p2.b3", Qt.Key.Key_U: "p2.b4", Qt.Key.Key_I: "p2.b5",
    Qt.Key.Key_O: "p2.b6", Qt.Key.Key_2: "p2.start", Qt.Key.Key_P: "p2.select",
}  # fmt: skip


@dataclass(frozen=True)
class Lit:
    """The path of a press. words: switch, terminal, code, game input, each '' where the path ends."""

    control: str
    words: tuple[str, str, str, str]
    wrong: bool = False  # it ends in another player's game


class PanelView(Instrument):
    """`pressed` and `released` carry a switch name as p1.b2."""

    least = QSize(480, 330)
    pressed = pyqtSignal(str)
    released = pyqtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Control panel; press a control to test it")
        self._panel: Panel | None = None
        self._tags: dict[str, str] = {}
        self._wiring: dict[str, str] = {}
        self._lit: Lit | None = None
        self._held: set[str] = set()
        self._seats: dict[int, QTransform] = {}
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)

    def show_panel(self, panel: Panel | None, tags: dict[str, str], wiring: dict[str, str]) -> None:
        """tags: what each switch does in the system looked at; wiring: its terminal and code; by switch name."""
        if not self.shows(panel, tags, wiring):
            return
        self._panel, self._tags, self._wiring = panel, tags, wiring
        self.update()

    def light(self, lit: Lit | None, held: set[str]) -> None:
        self._lit, self._held = lit, set(held)
        self.setAccessibleDescription(" to ".join(lit.words) if lit else "nothing pressed")
        self.update()

    @property
    def lit(self) -> Lit | None:
        return self._lit

    # --- drawing -----------------------------------------------------------------------------------------------

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        panel = self._panel
        if panel is None:
            self.text(painter, box.center(), "No panel is chosen.", token="muted", align=Qt.AlignmentFlag.AlignHCenter)
            return
        chain = QRectF(box.left(), box.bottom() - self.theme.px(74), box.width(), self.theme.px(74))
        table = box.adjusted(0, 0, 0, -self.theme.px(84))
        self._seats = self._lay_out(panel, table)
        if panel.facing:
            self._draw_table(painter, table, panel)
        for player, seat in self._seats.items():
            self._draw_seat(painter, seat, player, panel)
            if panel.facing:
                self._draw_wiring(painter, table, player, panel)
        self._draw_chain(painter, chain)

    def _lay_out(self, panel: Panel, table: QRectF) -> dict[int, QTransform]:
        """Millimetres of each seat to pixels; facing seats are turned by half a turn."""
        rows = panel.players if panel.facing else 1
        depth = panel.height_mm * rows + (self.theme.px(0) + 150 if panel.facing else 0)
        across = panel.width_mm * (1 if panel.facing else panel.players)
        scale = min((table.width() - 8) / across, (table.height() - 8) / depth)
        seats = {}
        for player in range(1, panel.players + 1):
            seat = QTransform()
            if panel.facing and player == 2:
                seat.translate(
                    table.center().x() + panel.width_mm * scale / 2, table.top() + 4 + panel.height_mm * scale
                )
                seat.rotate(180)
            elif panel.facing:
                seat.translate(
                    table.center().x() - panel.width_mm * scale / 2, table.bottom() - 4 - panel.height_mm * scale
                )
            else:
                seat.translate(
                    table.center().x() - across * scale / 2 + (player - 1) * panel.width_mm * scale, table.top() + 4
                )
            seat.scale(scale, scale)
            seats[player] = seat
        return seats

    def _draw_table(self, painter: QPainter, table: QRectF, panel: Panel) -> None:
        upper = self._seats[2].mapRect(QRectF(0, 0, panel.width_mm, panel.height_mm))
        lower = self._seats[1].mapRect(QRectF(0, 0, panel.width_mm, panel.height_mm))
        self.block(painter, upper.united(lower).adjusted(-8, -4, 8, 4), "grid", "hairline", radius=10)
        glass = QRectF(0, 0, (lower.top() - upper.bottom()) * 1.5, lower.top() - upper.bottom() - 16)
        glass.moveCenter(QPointF(upper.center().x(), (upper.bottom() + lower.top()) / 2))
        self.block(painter, glass, "bezel", radius=8)
        self.block(painter, glass.adjusted(8, 8, -8, -8), "glass", radius=4)
        self.text(painter, glass, "tube, laid flat", token="phosphor", align=Qt.AlignmentFlag.AlignCenter)

    def _draw_seat(self, painter: QPainter, seat: QTransform, player: int, panel: Panel) -> None:
        board = seat.mapRect(QRectF(0, 0, panel.width_mm, panel.height_mm))
        self.block(painter, board, "sheet", "ink", radius=4, width=1.2)
        corner = seat.map(QPointF(14, panel.height_mm - 12))
        self.text(
            painter,
            corner,
            f"Seat {player}",
            font=self.theme.font("small", weight=600),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight if player == 2 and panel.facing else Qt.AlignmentFlag.AlignLeft,
        )
        for control in panel.controls:
            self._draw_control(painter, seat, player, control)

    def _draw_wiring(self, painter: QPainter, table: QRectF, player: int, panel: Panel) -> None:
        """The wiring list of a seat beside it: switch, terminal, code."""
        px = self.theme.px
        edge = min(seat.mapRect(QRectF(0, 0, panel.width_mm, 1)).left() for seat in self._seats.values()) - px(20)
        wide = min(px(176), edge - table.left())
        if wide < px(120):
            return
        left = table.left() if player == 1 else table.right() - wide
        names = panel.switches()
        pitch = min(px(25), (table.height() - px(24)) / len(names))
        title = QPointF(left, table.top() + px(10))
        self.text(painter, title, f"Seat {player}, wiring", font=self.theme.font("label", weight=600))
        for index, name in enumerate(names):
            row = QRectF(left, table.top() + px(22) + index * pitch, wide, pitch)
            switch = f"p{player}.{name}"
            on = switch in self._held
            if on:
                painter.fillRect(row, self.theme.color("teal_soft"))
            self.line(painter, row.bottomLeft(), row.bottomRight(), "grid")
            words = self._wiring.get(switch)
            self.text(
                painter,
                QRectF(row.left() + 2, row.top(), px(48), pitch),
                name,
                font=self.theme.font("small", weight=500),
                token="teal" if on else "ink",
            )
            self.text(
                painter,
                QRectF(row.left() + px(50), row.top(), wide - px(50), pitch),
                words or "not wired",
                font=self.theme.mono("small"),
                token="red" if words is None else "ink" if on else "muted",
            )

    def _draw_control(self, painter: QPainter, seat: QTransform, player: int, control: Control) -> None:
        at = seat.map(QPointF(control.x, control.y))
        scale = abs(seat.m11())
        radius = control.bore / 2 * scale
        name = f"p{player}.{control.id}"
        if control.kind == "lever":
            self._draw_lever(painter, seat, player, at, scale)
            return
        on = name in self._held
        wired = self._tags.get(name) is not None
        painter.setBrush(self.theme.color("teal" if on else "field"))
        pen = QPen(self.theme.color("teal" if on else "ink" if wired else "red"), 1.6)
        if not wired:
            pen.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(pen)
        painter.drawEllipse(at, radius, radius)
        painter.drawEllipse(at, radius * 0.72, radius * 0.72)
        words = self._tags.get(name) or ""
        font = self.theme.font("small", weight=600)
        text = words if len(words) <= 4 else "".join(word[0].upper() for word in words.split())
        if control.kind == "button":
            self.text(
                painter, at, text, font=font, token="on_teal" if on else "ink", align=Qt.AlignmentFlag.AlignHCenter
            )
            return
        side = -1 if seat.m11() < 0 else 1  # the label stands beside the small buttons, toward the middle of the board
        align = Qt.AlignmentFlag.AlignRight if side > 0 else Qt.AlignmentFlag.AlignLeft
        self.text(
            painter, at - QPointF(side * (radius + 5), 0), words or control.label, font=font, token="muted", align=align
        )

    def _draw_lever(self, painter: QPainter, seat: QTransform, player: int, at: QPointF, scale: float) -> None:
        px = self.theme.px
        plate = 26 * scale
        self.block(painter, QRectF(at.x() - plate, at.y() - plate, 2 * plate, 2 * plate), "field", "ink", radius=3)
        turn = -1 if seat.m11() < 0 else 1
        slip = QPointF(0, 0)
        for direction, way in (("up", (0, -1)), ("down", (0, 1)), ("left", (-1, 0)), ("right", (1, 0))):
            on = f"p{player}.{direction}" in self._held
            tip = at + QPointF(way[0], way[1]) * (turn * 19 * scale)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(self.theme.color("teal" if on else "hairline"))
            painter.drawEllipse(tip, px(3.2), px(3.2))
            if on:
                slip += QPointF(way[0], way[1]) * (turn * 7 * scale)
        painter.setBrush(self.theme.color("teal" if not slip.isNull() else "ink"))
        painter.drawEllipse(at + slip, 12 * scale, 12 * scale)

    def _draw_chain(self, painter: QPainter, box: QRectF) -> None:
        """Switch, terminal, code, game input: four boxes with arrows between."""
        px = self.theme.px
        titles = ("Switch", "Terminal", "Event code", "In the game")
        gap = px(30)
        wide = (box.width() - 3 * gap) / 4
        words = self._lit.words if self._lit else ("", "", "", "")
        alive = True
        for index, title in enumerate(titles):
            place = QRectF(box.left() + index * (wide + gap), box.top() + px(8), wide, px(58))
            alive = alive and bool(words[index])
            wrong = alive and index == 3 and self._lit is not None and self._lit.wrong
            fill, edge = ("red_soft", "red") if wrong else ("teal_soft", "teal") if alive else ("field", "hairline")
            self.block(painter, place, fill, edge, width=1.4)
            self.text(painter, QRectF(place.left() + px(10), place.top() + px(6), wide - px(16), px(18)), title,
                      font=self.theme.font("small"), token="muted")  # fmt: skip
            told = words[index] or (
                "press a control" if index == 0 and self._lit is None else "nothing" if self._lit else ""
            )
            self.text(
                painter,
                QRectF(place.left() + px(10), place.top() + px(26), wide - px(16), px(24)),
                told,
                font=self._fitting(painter, told, wide) if alive else self.theme.font("body"),
                token="ink" if alive else "muted",
            )
            if index:
                a, b = (
                    QPointF(place.left() - gap + 5, place.center().y()),
                    QPointF(place.left() - 5, place.center().y()),
                )
                token = "teal" if alive else "hairline"
                self.line(painter, a, b, token, 2 if alive else 1)
                self.line(painter, b, b + QPointF(-6, -5), token, 2 if alive else 1)
                self.line(painter, b, b + QPointF(-6, 5), token, 2 if alive else 1)

    def _fitting(self, painter: QPainter, words: str, wide: float) -> QFont:
        """The larger type where the words fit their box, the smaller one where not."""
        font = self.theme.mono("body", 500)
        painter.setFont(font)
        fits = painter.fontMetrics().horizontalAdvance(words) < wide - self.theme.px(18)
        return font if fits else self.theme.mono("small", 500)

    # --- pressing ----------------------------------------------------------------------------------------------

    def control_at(self, at: QPointF) -> str:
        """The switch under a point, '' for none; the lever's quarter tells the direction."""
        if self._panel is None:
            return ""
        for player, seat in self._seats.items():
            back, fine = seat.inverted()
            spot = back.map(at)
            for control in self._panel.controls if fine else ():
                away = QPointF(spot.x() - control.x, spot.y() - control.y)
                reach = 28 if control.kind == "lever" else control.bore / 2 + 2
                if away.x() ** 2 + away.y() ** 2 <= reach**2:
                    if control.kind != "lever":
                        return f"p{player}.{control.id}"
                    quarter = round(degrees(atan2(away.y(), away.x())) / 90) % 4
                    return f"p{player}.{('right', 'down', 'left', 'up')[quarter]}"
        return ""

    def centre_of(self, switch: str) -> QPointF:
        """Where a switch is drawn, in widget pixels."""
        player, _, name = switch.partition(".")
        ways = {"up": (0, -19), "down": (0, 19), "left": (-19, 0), "right": (19, 0)}
        assert self._panel is not None
        control = next(each for each in self._panel.controls if each.id == (name if name not in ways else "lever"))
        x, y = ways.get(name, (0, 0))
        return self._seats[int(player[1:])].map(QPointF(control.x + x, control.y + y))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        self.setFocus()
        if name := self.control_at(event.position()):
            self.pressed.emit(name)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        for name in tuple(self._held):
            self.released.emit(name)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        over = self.control_at(event.position())
        self.setCursor(Qt.CursorShape.PointingHandCursor if over else Qt.CursorShape.ArrowCursor)
        tag = self._tags.get(over)
        set_tip(self, f"{over}: {tag or 'does nothing here'}" if over else "")

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        name = KEYS.get(Qt.Key(event.key()))
        if name is None:
            super().keyPressEvent(event)
        elif not event.isAutoRepeat():
            self.pressed.emit(name)

    def keyReleaseEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        name = KEYS.get(Qt.Key(event.key()))
        if name is None:
            super().keyReleaseEvent(event)
        elif not event.isAutoRepeat():
            self.released.emit(name)
