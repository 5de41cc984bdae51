"""What the display is sent, from the switch to the game and back: line rates over time, against what it takes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QBrush, QPainter, QPen

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.plot import Plot, ticks
from kyklon.catalogue.records import Range


@dataclass(frozen=True)
class Step:
    """A while on the time line. line_khz: None for no signal. wrong: shown in red. guarded: the display is off."""

    title: str
    line_khz: float | None
    field_hz: float
    wrong: bool
    guarded: bool


class SignalsDrawing(Plot):
    least = QSize(520, 240)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Signals from the switch to the game")
        self._steps: tuple[Step, ...] = ()
        self._ranges: tuple[Range, ...] = ()
        self.chosen = -1

    def show_steps(self, steps: tuple[Step, ...], ranges: tuple[Range, ...], chosen: int) -> None:
        """chosen: the place of the step that is looked at, -1 for none."""
        if not self.shows(steps, ranges, chosen):
            return
        self._steps, self._ranges, self.chosen = steps, ranges, chosen
        told = [
            f"{step.title}: {f'{step.line_khz:.2f} kHz' if step.line_khz else 'no signal'}"
            f"{', must not be' if step.wrong else ''}"
            for step in steps
        ]
        self.setAccessibleDescription("; ".join(told))
        self.update()

    def _area(self, box: QRectF) -> QRectF:
        scale = self.theme.scale
        return box.adjusted(58 * scale, 14 * scale, -10 * scale, -92 * scale)

    def step_at(self, x: float) -> int:
        """The place of the step at a position, -1 for none."""
        area = self._area(QRectF(self.rect()))
        if not self._steps or not area.left() <= x <= area.right():
            return -1
        return min(len(self._steps) - 1, int((x - area.left()) / area.width() * len(self._steps)))

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        if not self._steps or not self._ranges:
            self.say(painter, box, "Choose a board and a display in Plan.")
            return
        scale, area = self.theme.scale, self._area(box)
        rates = [step.line_khz for step in self._steps if step.line_khz]
        rates += [each for band in self._ranges for each in band.line_khz]
        low, high = min(rates), max(rates)
        spread = max(high - low, 2.0)
        low, high = low - spread * 0.12, high + spread * 0.15
        floor = area.bottom() - 26 * scale  # below: no signal

        def y(khz: float) -> float:
            return floor - (khz - low) / (high - low) * (floor - area.top())

        for value in ticks(low, high, 5):
            self.line(painter, QPointF(area.left(), y(value)), QPointF(area.right(), y(value)), "grid")
            self.text(
                painter,
                QPointF(area.left() - 6 * scale, y(value)),
                f"{value:g}",
                font=self.theme.mono("small"),
                token="muted",
                align=Qt.AlignmentFlag.AlignRight,
            )
        for band in self._ranges:
            block = QRectF(QPointF(area.left(), y(band.line_khz[1])), QPointF(area.right(), y(band.line_khz[0])))
            self.block(painter, block, "teal_soft", "teal", radius=0)
        self._axis_name(painter, box, area)
        self._draw_steps(painter, area, y)
        self.line(painter, QPointF(area.left(), area.bottom()), QPointF(area.right(), area.bottom()), "hairline")

    def _draw_steps(self, painter: QPainter, area: QRectF, y: Callable[[float], float]) -> None:
        """y: where a line rate stands."""
        scale = self.theme.scale
        quiet = area.bottom() - 8 * scale
        self.text(
            painter,
            QPointF(area.left() - 6 * scale, quiet),
            "none",
            font=self.theme.font("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight,
        )
        wide = area.width() / len(self._steps)
        before: QPointF | None = None
        for index, step in enumerate(self._steps):
            left, right = area.left() + index * wide, area.left() + (index + 1) * wide
            at = quiet if step.line_khz is None else y(step.line_khz)
            column = QRectF(left, area.top(), wide, area.height())
            if index == self.chosen:
                self.block(painter, column, self.theme.color("amber_soft", 130), radius=0)
            if step.guarded:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(QBrush(self.theme.color("muted", 90), Qt.BrushStyle.BDiagPattern))
                painter.drawRect(column)
            token = "red" if step.wrong else "muted" if step.line_khz is None else "teal"
            if before is not None:
                self.line(painter, before, QPointF(left, at), "muted", 1.2)
            style = Qt.PenStyle.DotLine if step.line_khz is None else Qt.PenStyle.SolidLine
            painter.setPen(QPen(self.theme.color(token), 4 * scale, style, Qt.PenCapStyle.FlatCap))
            painter.drawLine(QPointF(left, at), QPointF(right, at))
            before = QPointF(right, at)
            if step.wrong:
                side = 12 * scale
                paint_lamp(
                    painter,
                    QRectF((left + right - side) / 2, at - side - 6 * scale, side, side),
                    "stop" if not step.guarded else "note",
                    self.theme,
                )
            self._label(painter, QPointF((left + right) / 2, area.bottom() + 10 * scale), step, index == self.chosen)

    def _axis_name(self, painter: QPainter, box: QRectF, area: QRectF) -> None:
        painter.save()
        painter.translate(box.left() + 9 * self.theme.scale, area.bottom())
        painter.rotate(-90)
        self.text(painter, QPointF(0, 0), "horizontal frequency, kHz", token="muted")
        painter.restore()

    def _label(self, painter: QPainter, at: QPointF, step: Step, chosen: bool) -> None:
        painter.save()
        painter.translate(at)
        painter.rotate(-48)
        font = self.theme.font("label", weight=600 if chosen or step.wrong else 500)
        self.text(
            painter,
            QPointF(0, 0),
            step.title,
            font=font,
            token="red" if step.wrong else "ink",
            align=Qt.AlignmentFlag.AlignRight,
        )
        painter.restore()
