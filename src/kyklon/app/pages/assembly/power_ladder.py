"""The way of the current drawn to its values: supply, cable as thick as its wire, board, and the voltage along it."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show
from kyklon.operations.assembly.budget import Budget
from kyklon.operations.assembly.electrics import awg_diameter_m


class PowerLadder(Instrument):
    least = QSize(460, 250)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Current and voltage from the power supply to the board")
        self._budget: Budget | None = None

    def show_budget(self, budget: Budget | None) -> None:
        if not self.shows(budget):
            return
        self._budget = budget
        self.setAccessibleDescription(" ".join(budget.working) if budget else "")
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        budget, px = self._budget, self.theme.px
        if budget is None:
            self.say(painter, box, "Choose a board and a power supply in Plan.")
            return
        row = box.top() + px(10)
        supply = QRectF(box.left(), row, px(130), px(76))
        board = QRectF(box.left() + box.width() * 0.46, row, px(140), px(76))
        self._draw_part(
            painter,
            supply,
            budget.supply.name,
            f"{budget.supply.volts:.2f}\u202fV, up to {budget.supply.amps:.1f}\u202fA",
        )
        self._draw_part(painter, board, budget.board.name, f"{budget.draws[0].amps:.2f}\u202fA at its peak")
        self._draw_cable(painter, supply, board, budget)
        self._draw_consumers(painter, board, box, budget)
        profile = QRectF(
            box.left() + px(56),
            board.bottom() + px(34),
            box.width() - px(58),
            box.bottom() - board.bottom() - px(48),
        )
        self._draw_profile(painter, profile, supply, board, budget)

    def _draw_part(self, painter: QPainter, box: QRectF, name: str, note: str) -> None:
        px = self.theme.px
        self.block(painter, box, "field", "ink", width=1.3)
        self.text(
            painter,
            QRectF(box.left() + px(10), box.top() + px(12), box.width() - px(14), px(22)),
            name,
            font=self.theme.font("body", weight=600),
        )
        self.text(
            painter,
            QRectF(box.left() + px(10), box.top() + px(36), box.width() - px(14), px(20)),
            note,
            font=self.theme.font("small"),
            token="muted",
        )

    def _draw_cable(self, painter: QPainter, supply: QRectF, board: QRectF, budget: Budget) -> None:
        px = self.theme.px
        gauge = budget.cable.awg if budget.cable and budget.cable.awg is not None else 24
        thick = awg_diameter_m(gauge) * 1000 * px(5.5)  # 5.5 px a millimetre: a 20 gauge wire is 4.5 px
        for shift in (-px(7), px(7)):
            y = supply.center().y() + shift
            painter.setPen(
                QPen(
                    self.theme.color("red" if shift < 0 else "ink"),
                    thick,
                    Qt.PenStyle.SolidLine,
                    Qt.PenCapStyle.FlatCap,
                )
            )
            painter.drawLine(QPointF(supply.right(), y), QPointF(board.left(), y))
        middle = QPointF((supply.right() + board.left()) / 2, supply.center().y())
        if budget.cable:
            words = f"AWG {gauge}, {show(budget.cable.length_m, 'm', prefix='')}"
            self.text(painter, middle - QPointF(0, px(26)), words, align=Qt.AlignmentFlag.AlignHCenter)
        self.text(
            painter,
            middle + QPointF(0, px(26)),
            f"{show(budget.way_a, 'A')} at the peak",
            font=self.theme.mono("small"),
            align=Qt.AlignmentFlag.AlignHCenter,
        )

    def _draw_consumers(self, painter: QPainter, board: QRectF, box: QRectF, budget: Budget) -> None:
        px = self.theme.px
        rest = budget.draws[1:]
        for index, draw in enumerate(rest):
            place = QRectF(
                board.right() + px(46), board.top() + index * px(34), box.right() - board.right() - px(50), px(28)
            )
            self.block(painter, place, "field", "hairline")
            self.text(
                painter, place.adjusted(px(8), 0, -px(60), 0), draw.name, font=self.theme.font("label", weight=500)
            )
            self.text(
                painter,
                QPointF(place.right() - px(8), place.center().y()),
                show(draw.amps, "A", prefix=""),
                font=self.theme.mono("small"),
                align=Qt.AlignmentFlag.AlignRight,
            )
            self.line(
                painter,
                QPointF(board.right(), place.center().y()),
                QPointF(place.left(), place.center().y()),
                "ink",
                1.4,
            )

    def _draw_profile(self, painter: QPainter, box: QRectF, supply: QRectF, board: QRectF, budget: Budget) -> None:
        """Volts under the parts they are measured at; the warning line of the board across."""
        px = self.theme.px
        volts = budget.board_v if budget.board_v is not None else budget.supply.volts
        low, high = min(budget.board.low_voltage_v, volts) - 0.15, budget.supply.volts + 0.1

        def y(value: float) -> float:
            return box.bottom() - (value - low) / (high - low) * box.height()

        for value in (budget.supply.volts, volts, budget.board.low_voltage_v):
            self.line(painter, QPointF(box.left(), y(value)), QPointF(box.right(), y(value)), "grid")
        warn = budget.board.low_voltage_v
        area = QRectF(box.left(), y(warn), box.width(), box.bottom() - y(warn))
        painter.fillRect(area, self.theme.color("red_soft"))
        self.line(painter, area.topLeft(), area.topRight(), "red", 1.2, Qt.PenStyle.DashLine)
        self.text(
            painter,
            QPointF(box.right() - px(6), y(warn) + px(10)),
            f"undervoltage warning below {warn:.2f}\u202fV",
            token="red",
            align=Qt.AlignmentFlag.AlignRight,
        )
        points = [
            QPointF(box.left(), y(budget.supply.volts)),
            QPointF(supply.right(), y(budget.supply.volts)),
            QPointF(board.left(), y(volts)),
            QPointF(box.right(), y(volts)),
        ]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        good = volts >= warn
        painter.setPen(QPen(self.theme.color("teal" if good else "red"), 2.4))
        painter.drawPolyline(QPolygonF(points))
        self.text(
            painter,
            QPointF(box.left() - px(6), y(budget.supply.volts)),
            f"{budget.supply.volts:.2f}\u202fV",
            font=self.theme.mono("small"),
            align=Qt.AlignmentFlag.AlignRight,
        )
        side = px(11)
        lamp = QRectF(board.left() + px(8), y(volts) - px(14) - side / 2, side, side)
        paint_lamp(painter, lamp, "clear" if good else "stop", self.theme)
        self.text(
            painter,
            QPointF(lamp.right() + px(6), lamp.center().y()),
            f"{volts:.2f}\u202fV at the board",
            font=self.theme.mono("body", 500),
            token="teal" if good else "red",
        )
