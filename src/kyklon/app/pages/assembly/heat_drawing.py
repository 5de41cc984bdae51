"""A case in section with what is warm in it, the chip's warming in time, and what each remedy brings."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.app.widgets.plot import Plot


@dataclass(frozen=True)
class Section:
    """celsius: by node. case, sink, fan: as the settings have them. watts: of the board. out_w: by way out."""

    celsius: tuple[tuple[str, float], ...]
    case: str
    sink: str
    fan: str
    watts: float
    out_w: tuple[tuple[str, float], ...]
    lying: bool
    limit_c: float


class SectionDrawing(Instrument):
    least = QSize(300, 200)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "The case in section with its temperatures")
        self._section: Section | None = None

    def show_section(self, section: Section | None) -> None:
        if not self.shows(section):
            return
        self._section = section
        if section is not None:
            told = [f"{name} {value:.0f} °C" for name, value in section.celsius]
            told += [f"{watts:.1f} W leave {way}" for way, watts in section.out_w]
            self.setAccessibleDescription("; ".join(told))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        made, px = self._section, self.theme.px
        if made is None:
            words = "Choose a board in Plan."
            self.say(painter, box, words)
            return
        celsius = dict(made.celsius)
        case = QRectF(box.left() + px(84), box.top() + px(12), box.width() - px(184), box.height() - px(46))
        closed = made.case != "open bench"
        if closed:
            thick = px(7 if made.case == "metal" else 5)
            self.block(
                painter, case.adjusted(-thick, -thick, thick, thick), "muted" if made.case == "metal" else "hairline"
            )
            self.block(painter, case, "field", "ink", radius=2)
            if made.case == "vented":
                for y, side in ((case.bottom() - px(26), case.left()), (case.top() + px(12), case.right())):
                    gap = QRectF(side - thick - px(1), y, 2 * thick + px(2), px(14))
                    self.block(painter, gap, "field", radius=0)
                    self._arrow(painter, QPointF(side - px(26), y + px(7)), px(44))
        self._draw_board(painter, case, made, celsius)
        self._say(painter, QPointF(box.left(), case.center().y()), "room", celsius["room"])
        if closed:
            at = QPointF(case.left() + px(10), case.top() + px(16))
            self._say(painter, at, "air", celsius["air"])
            wall = QPointF(case.right() + px(14), case.bottom() - px(10))
            if "wall" in celsius:
                self._say(painter, wall, "wall", celsius["wall"])
        for number, (way, watts) in enumerate(made.out_w):
            at = QPointF(case.right() if number else case.left(), case.bottom() + px(20))
            side = Qt.AlignmentFlag.AlignRight if number else Qt.AlignmentFlag.AlignLeft
            words = f"{watts:.1f}\u202fW {way}"
            self.text(painter, at, words, font=self.theme.font("small"), token="muted", align=side)

    def _draw_board(self, painter: QPainter, case: QRectF, made: Section, celsius: dict[str, float]) -> None:
        px = self.theme.px
        floor = case.bottom() - px(30)
        board = QRectF(case.left() + case.width() * 0.1, floor, case.width() * 0.8, px(6))
        for x in (board.left() + px(8), board.right() - px(10)):
            self.line(painter, QPointF(x, board.bottom()), QPointF(x, case.bottom()), "ink", 1.6)
        self.block(painter, board, "teal_soft", "teal", radius=1)
        chip = QRectF(board.center().x() - px(20), board.top() - px(8), px(40), px(8))
        hot = celsius["chip"] >= made.limit_c
        self.block(painter, chip, "red" if hot else "ink", radius=1)
        top = chip.top()
        if made.sink in ("small", "large"):
            wide = px(34) if made.sink == "small" else board.width() * 0.62
            base = QRectF(chip.center().x() - wide / 2, top - px(4), wide, px(4))
            self.block(painter, base, "muted", radius=0)
            fins = max(4, int(wide / px(8)))
            for number in range(fins):
                x = base.left() + wide * (number + 0.5) / fins
                self.line(painter, QPointF(x, base.top()), QPointF(x, base.top() - px(16)), "muted", 2.2)
            top = base.top() - px(16)
        elif made.sink == "case":
            self.block(
                painter, QRectF(chip.center().x() - px(12), case.top(), px(24), top - case.top()), "muted", radius=0
            )
            top = case.top() + px(30)
        if made.fan == "on the chip":
            self._draw_fan(painter, QPointF(chip.center().x(), top - px(8)))
            top -= px(16)
        elif made.fan == "in the case":
            self._draw_fan(painter, QPointF(case.right() - px(22), case.top() + px(20)))
        self._say(painter, QPointF(chip.right() + px(10), chip.top() - px(8)), "chip", celsius["chip"], hot=hot)
        self._say(painter, QPointF(board.left() + px(8), board.bottom() + px(11)), "board", celsius["board"])
        words = f"{made.watts:.1f}\u202fW" + ("" if made.lying else ", upright")
        at = QPointF(board.right() - px(8), board.bottom() + px(11))
        right = Qt.AlignmentFlag.AlignRight
        self.text(painter, at, words, font=self.theme.font("small"), token="muted", align=right)

    def _say(self, painter: QPainter, at: QPointF, name: str, celsius: float, *, hot: bool = False) -> None:
        drawn = self.text(painter, at, f"{name} ", font=self.theme.font("small"), token="muted")
        words = f"{celsius:.0f}\u202f°C" + (" ▲" if hot else "")
        token = "red" if hot else "ink"
        self.text(painter, QPointF(drawn.right(), at.y()), words, font=self.theme.mono("label", 500), token=token)

    def _draw_fan(self, painter: QPainter, middle: QPointF) -> None:
        px = self.theme.px
        painter.setPen(QPen(self.theme.color("ink"), 1.4))
        painter.setBrush(self.theme.color("sheet"))
        painter.drawEllipse(middle, px(9), px(9))
        for x, y in ((6, 6), (6, -6)):
            self.line(painter, middle - QPointF(px(x), px(y)), middle + QPointF(px(x), px(y)), "ink", 1.6)

    def _arrow(self, painter: QPainter, start: QPointF, wide: float) -> None:
        px = self.theme.px
        end = start + QPointF(wide, 0)
        self.line(painter, start, end, "teal", 1.6)
        for y in (-4, 4):
            self.line(painter, end, end + QPointF(-px(6), px(y)), "teal", 1.6)


class WarmingPlot(Plot):
    """°C of the chip from a cold start, minute by minute, for every load."""

    least = QSize(180, 170)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "The chip's temperature from a cold start")
        self._curves: tuple[tuple[str, tuple[tuple[float, float], ...]], ...] = ()
        self._limit, self._chosen = 80.0, ""

    def show_curves(
        self, curves: tuple[tuple[str, tuple[tuple[float, float], ...]], ...], chosen: str, limit: float
    ) -> None:
        """curves: by load, minutes and °C."""
        if not self.shows(curves, chosen, limit):
            return
        self._curves, self._chosen, self._limit = curves, chosen, limit
        self.setAccessibleDescription("; ".join(f"{name}: {rows[-1][1]:.0f} °C" for name, rows in curves if rows))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        if not self._curves:
            return
        values = [value for _name, rows in self._curves for _minutes, value in rows]
        span = (min(values), max(max(values), self._limit) + 4)
        last = self._curves[0][1][-1][0]
        axes = self.axes(painter, box, (0.0, last), span, "minutes after the start", "°C")
        limit = axes.y(self._limit)
        self.line(
            painter, QPointF(axes.box.left(), limit), QPointF(axes.box.right(), limit), "red", 1.2, Qt.PenStyle.DashLine
        )
        for name, rows in self._curves:
            chosen = name == self._chosen
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(self.theme.color("teal" if chosen else "muted"), 2.4 if chosen else 1.1))
            painter.drawPolyline(QPolygonF([axes.at(minutes, value) for minutes, value in rows]))
            at = axes.at(*rows[-1]) - QPointF(self.theme.px(4), self.theme.px(8))
            font = self.theme.font("small", weight=600 if chosen else 400)
            token = "ink" if chosen else "muted"
            self.text(painter, at, name, font=font, token=token, align=Qt.AlignmentFlag.AlignRight)


class HelpBars(Instrument):
    """What each remedy brings, in kelvin, and where the chip is then."""

    least = QSize(150, 120)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Cooling options")
        self._rows: tuple[tuple[str, float, float, str], ...] = ()
        self._limit = 80.0

    def show_helps(self, rows: tuple[tuple[str, float, float, str], ...], limit: float) -> None:
        """rows: name, kelvin that it brings, °C of the chip then, what it costs besides."""
        if not self.shows(rows, limit):
            return
        self._rows, self._limit = rows, limit
        told = [f"{name}: {kelvin:.0f} K less, to {celsius:.0f} °C" for name, kelvin, celsius, _price in rows]
        self.setAccessibleDescription("; ".join(told))
        self.setMinimumHeight(round(self.theme.px(30 * max(1, len(rows)))))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        if not self._rows:
            self.say(painter, box, "Nothing more.")
            return
        most = max(row[1] for row in self._rows)
        pitch = min(px(34), box.height() / len(self._rows))
        for number, (name, kelvin, celsius, price) in enumerate(self._rows):
            top = box.top() + number * pitch
            self.text(
                painter, QRectF(box.left(), top, box.width() - px(96), px(16)), name, font=self.theme.font("label")
            )
            right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            figure = f"−{kelvin:.0f}\u202fK  {celsius:.0f}\u202f°C"
            token = "ink" if celsius < self._limit else "red"
            at = QRectF(box.right() - px(96), top, px(96), px(16))
            self.text(painter, at, figure, font=self.theme.mono("small"), token=token, align=right)
            bar = QRectF(box.left(), top + px(18), (box.width() - px(130)) * kelvin / most, px(5))
            self.block(painter, bar, "teal" if celsius < self._limit else "amber", radius=2)
            if price:
                spot = QRectF(box.right() - px(126), top + px(15), px(126), px(14))
                self.text(painter, spot, price, font=self.theme.font("small"), token="muted", align=right)
