"""The panel or table to scale, seen from above: every seat at its place and turn."""

from __future__ import annotations

from dataclasses import dataclass, field

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF, QTransform
from PyQt6.QtWidgets import QWidget

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.model.controls import Control, Layout, Seat
from kyklon.operations.controls.clearance import LEVER_PLATE

WAYS = {"up": (0, -1), "down": (0, 1), "left": (-1, 0), "right": (1, 0)}
PUSH = 19.0  # mm from a lever's middle to where its direction is drawn
WIRES = {  # insulation, as the eye takes it on paper; IEC 60757 names them
    "white": "#F4F1E8",
    "yellow": "#D9B400",
    "orange": "#D9741A",
    "red": "#B5301F",
    "green": "#3C7A3A",
    "blue": "#2C5A9B",
    "violet": "#71459B",
    "grey": "#8A8F92",
    "brown": "#70452A",
    "pink": "#D68AA0",
    "black": "#1B2327",
}


@dataclass(frozen=True)
class Shown:
    """What the drawing says. tags: words on a switch. wired: switches that end somewhere, None for all. marks: a token
    and a sign for a switch: asked, right, wrong. runs: lines from switch to encoder, with their colour. boxes: encoders
    by title and place in mm."""

    layout: Layout | None = None
    tags: dict[str, str] = field(default_factory=dict)
    wired: frozenset[str] | None = None
    marks: dict[str, str] = field(default_factory=dict)
    runs: tuple[tuple[str, tuple[float, float], str], ...] = ()
    boxes: tuple[tuple[str, str, float, float], ...] = ()
    glass: str = ""


class TableDrawing(Instrument):
    """The drawing, with what is chosen and what is held."""

    least = QSize(420, 260)

    def __init__(self, theme: Theme, name: str, label: str) -> None:
        super().__init__(theme, name)
        self._shown, self._none = Shown(), label
        self._held: frozenset[str] = frozenset()
        self._lit: frozenset[str] = frozenset()  # of them what is drawn now: they lie over the drawing
        self._selected: frozenset[tuple[int, str]] = frozenset()
        self._dragged = False
        self._slip = (0.0, 0.0)
        self._box = ""
        self._seats: dict[int, QTransform] = {}
        self._base = QTransform()

    def show_table(self, shown: Shown) -> None:
        if self.shows(shown):
            self._shown = shown
            self.update()

    def hold(self, switches: frozenset[str]) -> None:
        """Light what is held."""
        if switches != self._held:
            self._held = switches
            words = ", ".join(sorted(switches)) or "nothing pressed"
            self.setAccessibleDescription(words)
            QWidget.update(self)  # the drawing below it stays: a frame has 16 ms

    def select(self, chosen: frozenset[tuple[int, str]]) -> None:
        if chosen != self._selected:
            self._selected = chosen
            self.update()

    @property
    def held(self) -> frozenset[str]:
        return self._held

    # --- drawing -----------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override: what is held is painted over the drawing, which is kept."""
        super().paintEvent(event)
        layout = self._shown.layout
        if not self._held or layout is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._lit = self._held
        self._draw_runs(painter, only_lit=True)
        owners = {
            (player, control.id): control
            for player, seat in enumerate(layout.seats, 1)
            for name in seat.switches
            if f"p{player}.{name}" in self._held and (control := seat.owner(name)) is not None
        }
        for (player, _id), control in owners.items():
            if player in self._seats:
                self._draw_control(painter, player, control)
        self._lit = frozenset()
        painter.end()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        layout = self._shown.layout
        if layout is None or not layout.seats:
            self.say(painter, box, self._none)
            return
        self._lay_out(layout, box)
        table = self._base.mapRect(QRectF(0, 0, layout.width_mm, layout.height_mm))
        if len(layout.seats) > 1:
            self.block(painter, table.adjusted(-6, -6, 6, 6), "grid", "hairline", radius=8)
        if layout.facing:
            self._draw_glass(painter, layout)
        for player, seat in enumerate(layout.seats, 1):
            self._draw_seat(painter, player, seat)
        self._draw_runs(painter)
        self._draw_boxes(painter)
        self._draw_scale(painter, box)

    def _lay_out(self, layout: Layout, box: QRectF) -> None:
        room = box.adjusted(14, 14, -14, -self.theme.px(24))
        whole = QRectF(0, 0, layout.width_mm, layout.height_mm)
        for seat in layout.seats:  # a seat that is turned may stand out
            corners = [seat.on_table(x, y) for x in (0, seat.width_mm) for y in (0, seat.height_mm)]
            whole = whole.united(QPolygonF([QPointF(x, y) for x, y in corners]).boundingRect())
        scale = min(room.width() / whole.width(), room.height() / whole.height())
        self._base = QTransform()
        self._base.translate(
            room.center().x() - whole.center().x() * scale, room.center().y() - whole.center().y() * scale
        )
        self._base.scale(scale, scale)
        self._seats = {}
        for player, seat in enumerate(layout.seats, 1):
            own = QTransform(self._base)
            own.translate(seat.x, seat.y)
            own.rotate(seat.turn)
            self._seats[player] = own

    def _draw_glass(self, painter: QPainter, layout: Layout) -> None:
        """The tube between the boards."""
        free = QRectF(0, 0, layout.width_mm, layout.height_mm)
        for seat in layout.seats:
            if seat.turn % 180 == 0:
                low, high = sorted((seat.y, seat.y + (seat.height_mm if seat.turn % 360 == 0 else -seat.height_mm)))
                if low < layout.height_mm / 2:
                    free.setTop(max(free.top(), high))
                else:
                    free.setBottom(min(free.bottom(), low))
            else:
                wide = seat.height_mm
                if seat.x < layout.width_mm / 2 + 1 and seat.turn % 360 == 90:
                    free.setLeft(max(free.left(), wide))
                else:
                    free.setRight(min(free.right(), layout.width_mm - wide))
        if free.width() < 60 or free.height() < 60:
            return
        side = min(free.width() * 0.86, free.height() * 1.28)
        glass = QRectF(0, 0, side, min(free.height() * 0.86, side * 0.78))
        glass.moveCenter(free.center())
        place = self._base.mapRect(glass)
        if self._shown.runs:  # the wires go below it
            self.block(painter, place, "grid", "muted", radius=8)
            return
        self.block(painter, place, "bezel", radius=8)
        self.block(painter, place.adjusted(7, 7, -7, -7), "glass", radius=4)
        self.text(
            painter, place, self._shown.glass or "tube, laid flat", token="phosphor", align=Qt.AlignmentFlag.AlignCenter
        )

    def _draw_seat(self, painter: QPainter, player: int, seat: Seat) -> None:
        own = self._seats[player]
        painter.save()
        painter.setTransform(own, combine=True)
        painter.setBrush(self.theme.color("sheet"))
        pen = QPen(self.theme.color("ink"), 1.2)
        pen.setCosmetic(True)
        painter.setPen(pen)
        painter.drawRoundedRect(QRectF(0, 0, seat.width_mm, seat.height_mm), 4, 4)
        painter.restore()
        corner = own.map(QPointF(12, seat.height_mm - 10))
        centre = own.map(QPointF(seat.width_mm / 2, seat.height_mm / 2))
        align = Qt.AlignmentFlag.AlignLeft if corner.x() < centre.x() else Qt.AlignmentFlag.AlignRight
        words = f"Seat {player}"
        self.text(painter, corner, words, font=self.theme.font("small", weight=600), token="muted", align=align)
        for control in seat.controls:
            if (player, control.id) in self._selected and self._dragged:
                control = control.model_copy(update={"x": control.x + self._slip[0], "y": control.y + self._slip[1]})
            self._draw_control(painter, player, control)

    def _fill_of(self, switch: str) -> tuple[str, str, float]:
        """Fill, edge and its width for a switch."""
        mark = self._shown.marks.get(switch, "")
        if switch in self._lit:
            return "teal", "teal", 1.6
        if mark:
            return {
                "asked": ("amber_soft", "amber", 3.0),
                "right": ("teal_soft", "teal", 2.0),
                "wrong": ("red_soft", "red", 2.4),
                "skipped": ("field", "muted", 1.2),
            }[mark]
        wired = self._shown.wired is None or switch in self._shown.wired
        return "field", "ink" if wired else "red", 1.6

    def _draw_control(self, painter: QPainter, player: int, control: Control) -> None:
        own = self._seats[player]
        at, scale = own.map(QPointF(control.x, control.y)), (own.m11() ** 2 + own.m12() ** 2) ** 0.5
        switch, radius = f"p{player}.{control.id}", control.bore / 2 * scale
        if (player, control.id) in self._selected:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(self.theme.color("teal"), 1.4, Qt.PenStyle.DashLine))
            grow = max(radius, 20 * scale if control.kind == "lever" else 0) + 6
            painter.drawEllipse(at, grow, grow)
        if control.kind in ("lever", "trackball"):
            self._draw_lever(painter, player, control, at, scale)
            return
        fill, edge, width = self._fill_of(switch)
        painter.setBrush(self.theme.color(fill))
        wired = self._shown.wired is None or switch in self._shown.wired
        pen = QPen(self.theme.color(edge), width)
        if not wired and edge == "red":
            pen.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(pen)
        painter.drawEllipse(at, radius, radius)
        if control.kind != "button" or not self._shown.tags.get(switch):
            painter.drawEllipse(at, radius * 0.72, radius * 0.72)
        self._draw_words(painter, player, control, switch, at, radius)
        self._draw_sign(painter, switch, at + QPointF(radius * 0.85, -radius * 0.85))

    def _draw_sign(self, painter: QPainter, switch: str, at: QPointF) -> None:
        """What the proof says of a switch, as a sign: a tick, a cross, an arrow for what is asked."""
        size = self.theme.px(4)
        mark = self._shown.marks.get(switch, "")
        if mark == "right":
            a, b, c = at + QPointF(-size, 0), at + QPointF(-size * 0.2, size * 0.8), at + QPointF(size, -size)
            self.line(painter, a, b, "teal", 2.0)
            self.line(painter, b, c, "teal", 2.0)
        elif mark == "wrong":
            for x in (-size, size):
                self.line(painter, at + QPointF(-x, -size), at + QPointF(x, size), "red", 2.2)
        elif mark == "asked":
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(self.theme.color("amber"))
            tip = [at + QPointF(0, size * 1.6), at + QPointF(-size * 1.4, -size), at + QPointF(size * 1.4, -size)]
            painter.drawPolygon(QPolygonF(tip))

    def _draw_words(
        self, painter: QPainter, player: int, control: Control, switch: str, at: QPointF, radius: float
    ) -> None:
        words = self._shown.tags.get(switch, "")
        font = self.theme.font("small", weight=600)
        painter.setFont(font)
        room = radius * 1.9
        if control.kind == "button":
            inside = words or control.label
            if painter.fontMetrics().horizontalAdvance(inside) > room:
                inside = "".join(word[0].upper() for word in inside.split()) if " " in inside else inside[:3]
            token = "on_teal" if switch in self._lit else "ink" if words or not self._shown.tags else "muted"
            self.text(painter, at, inside, font=font, token=token, align=Qt.AlignmentFlag.AlignHCenter)
            return
        own = self._seats[player]
        scale = (own.m11() ** 2 + own.m12() ** 2) ** 0.5
        told, font = words or control.label, self.theme.font("small")
        painter.setFont(font)
        small = [each for each in self._small(player) if each.id != control.id]
        if any(abs(each.x - control.x) < each.bore and 0 < each.y - control.y < 2 * each.bore for each in small):
            side = own.map(QPointF(control.x - control.bore / 2 - self.theme.px(4) / scale, control.y))
            align = Qt.AlignmentFlag.AlignRight if side.x() < at.x() else Qt.AlignmentFlag.AlignLeft
            self.text(painter, side, told, font=font, token="muted", align=align)
            return
        room = min((abs(each.x - control.x) for each in small if abs(each.y - control.y) < each.bore), default=300.0)
        if painter.fontMetrics().horizontalAdvance(told) > (room - 4) * scale:
            told = told[:3]
        below = own.map(QPointF(control.x, control.y + control.bore / 2 + self.theme.px(8) / scale))
        self.text(painter, below, told, font=font, token="muted", align=Qt.AlignmentFlag.AlignHCenter)

    def _small(self, player: int) -> list[Control]:
        layout = self._shown.layout
        every = layout.seats[player - 1].controls if layout else ()
        return [each for each in every if each.kind not in ("lever", "button", "trackball")]

    def _draw_lever(self, painter: QPainter, player: int, control: Control, at: QPointF, scale: float) -> None:
        own = self._seats[player]
        painter.save()
        painter.setTransform(own, combine=True)
        pen = QPen(self.theme.color("hairline"), 1.0)
        pen.setCosmetic(True)
        painter.setPen(pen)
        painter.setBrush(self.theme.color("field"))
        wide, deep = LEVER_PLATE
        painter.drawRoundedRect(QRectF(control.x - wide / 2, control.y - deep / 2, wide, deep), 3, 3)
        painter.restore()
        slip = QPointF(0, 0)
        for name in control.switches:
            way = WAYS[name.rpartition("-")[2]]
            switch = f"p{player}.{name}"
            tip = own.map(QPointF(control.x + way[0] * PUSH, control.y + way[1] * PUSH))
            fill, edge, width = self._fill_of(switch)
            painter.setPen(QPen(self.theme.color(edge if edge != "ink" else "hairline"), width))
            painter.setBrush(self.theme.color(fill if fill != "field" else "hairline"))
            size = self.theme.px(4.5 if self._shown.marks.get(switch) else 3.4)
            painter.drawEllipse(tip, size, size)
            if self._shown.marks.get(switch) in ("wrong", "asked"):
                out = QPointF(tip - at) / max(1.0, (QPointF(tip - at).manhattanLength())) * self.theme.px(13)
                self._draw_sign(painter, switch, tip + out)
            if switch in self._lit:
                slip += own.map(QPointF(way[0] * 8, way[1] * 8)) - own.map(QPointF(0, 0))
        painter.setPen(QPen(self.theme.color("ink"), 1.2))
        painter.setBrush(self.theme.color("teal" if not slip.isNull() else "ink"))
        painter.drawEllipse(at + slip, 12 * scale, 12 * scale)
        if control.kind == "lever" and control.ways == 4:
            self.text(
                painter,
                at + slip,
                "4",
                font=self.theme.font("small", weight=600),
                token="sheet",
                align=Qt.AlignmentFlag.AlignHCenter,
            )

    def _draw_runs(self, painter: QPainter, *, only_lit: bool = False) -> None:
        layout = self._shown.layout
        for switch, end, colour in self._shown.runs:
            if only_lit and switch not in self._lit:
                continue
            start = layout.place(switch) if layout else None
            if start is None:
                continue
            a, b = self._base.map(QPointF(*start)), self._base.map(QPointF(*end))
            on = switch in self._lit
            painter.setPen(QPen(self.theme.color("ink", 60), 3.4 if on else 2.6))
            painter.drawPolyline(QPolygonF([a, QPointF(a.x(), b.y()), b]))
            painter.setPen(QPen(self._wire(colour), 2.2 if on else 1.4))
            painter.drawPolyline(QPolygonF([a, QPointF(a.x(), b.y()), b]))

    def _wire(self, colour: str) -> QColor:
        return QColor(WIRES[colour]) if colour in WIRES else self.theme.color("muted")

    def _draw_boxes(self, painter: QPainter) -> None:
        for role, title, x, y in self._shown.boxes:
            at = self._base.map(QPointF(x, y))
            painter.setFont(self.theme.font("small", weight=600))
            wide = painter.fontMetrics().horizontalAdvance(title) + self.theme.px(16)
            place = QRectF(at.x() - wide / 2, at.y() - self.theme.px(11), wide, self.theme.px(22))
            self.block(painter, place, "teal_soft" if role == self._box else "sheet", "teal", radius=3, width=1.4)
            self.text(
                painter, place, title, font=self.theme.font("small", weight=600), align=Qt.AlignmentFlag.AlignCenter
            )

    def _draw_scale(self, painter: QPainter, box: QRectF) -> None:
        """A line of 100 mm."""
        long = abs(self._base.m11()) * 100
        y = box.bottom() - self.theme.px(9)
        a, b = QPointF(box.right() - long - 14, y), QPointF(box.right() - 14, y)
        self.line(painter, a, b, "muted", 1.2)
        for end in (a, b):
            self.line(painter, end - QPointF(0, 3), end + QPointF(0, 3), "muted", 1.2)
        self.text(
            painter,
            a - QPointF(6, 0),
            "100\u202fmm",
            font=self.theme.mono("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight,
        )

    def centre_of(self, switch: str) -> QPointF:
        """Where a switch is drawn, in widget pixels. Raises KeyError for one that is not there."""
        player, _, name = switch.partition(".")
        layout = self._shown.layout
        seat = layout.seat(int(player[1:])) if layout else None
        control = seat.owner(name) if seat else None
        if control is None:
            raise KeyError(switch)
        x, y = WAYS.get(name.rpartition("-")[2], (0, 0)) if len(control.switches) > 1 else (0, 0)
        return self._seats[int(player[1:])].map(QPointF(control.x + x * PUSH, control.y + y * PUSH))
