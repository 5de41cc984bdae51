"""How many games fit into how much room, and what the systems take of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.app.widgets.plot import ticks
from kyklon.base.quantities import show_bytes


@dataclass(frozen=True)
class Part:
    """A system's share of what goes along: bytes and games."""

    name: str
    size: int
    games: int


@dataclass(frozen=True)
class Fit:
    """curve: room in bytes and how many games fit into it. room: that is set, 0 for no bound. kept: games."""

    curve: tuple[tuple[int, int], ...]
    room: int
    kept: int
    parts: tuple[Part, ...]


class ChoicePlot(Instrument):
    least = QSize(420, 240)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Games by space used")
        self._fit: Fit | None = None

    def show_fit(self, fit: Fit) -> None:
        if not self.shows(fit):
            return
        self._fit = fit
        told = "; ".join(f"{part.name} {part.games} games, {show_bytes(part.size)}" for part in fit.parts)
        self.setAccessibleDescription(f"{fit.kept} games included: {told}")
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        fit, px = self._fit, self.theme.px
        if fit is None or not fit.curve:
            self.say(painter, box, "Choose a library folder to see what fits.")
            return
        shares = QRectF(box.left() + px(50), box.bottom() - px(56), box.width() - px(70), px(26))
        plot = QRectF(shares.left(), box.top() + px(14), shares.width(), shares.top() - box.top() - px(70))
        end, most = fit.curve[-1][0] * 1.04, fit.curve[-1][1] * 1.08

        def at(room: float, games: float) -> QPointF:
            return QPointF(plot.left() + room / end * plot.width(), plot.bottom() - games / most * plot.height())

        self._draw_axes(painter, plot, at, (end, most))
        points = [at(0, 0), *(at(room, games) for room, games in fit.curve)]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.theme.color("teal_soft"))
        painter.drawPolygon(QPolygonF([*points, at(fit.curve[-1][0], 0)]))
        painter.setPen(QPen(self.theme.color("teal"), 1.8))
        painter.drawPolyline(QPolygonF(points))
        if 0 < fit.room < end:
            self.line(painter, at(fit.room, 0), at(fit.room, most), "amber", 1.6)
            self._draw_here(painter, at(fit.room, fit.kept), fit, left=at(fit.room, 0).x() <= plot.center().x())
        self._draw_shares(painter, shares, fit)

    def _draw_axes(
        self, painter: QPainter, plot: QRectF, at: Callable[[float, float], QPointF], ends: tuple[float, float]
    ) -> None:
        """ends: bytes and games at the far ends."""
        px, (end, most) = self.theme.px, ends
        for value in ticks(0, most, max(2, int(plot.height() / px(38)))):
            self.line(painter, at(0, value), at(end, value), "grid")
            self.text(
                painter,
                at(0, value) - QPointF(px(6), 0),
                f"{value:g}",
                font=self.theme.mono("small"),
                token="muted",
                align=Qt.AlignmentFlag.AlignRight,
            )
        scale, unit = _unit(end)
        for value in ticks(0, end / scale, max(2, int(plot.width() / px(90)))):
            self.line(painter, at(value * scale, 0), at(value * scale, most), "grid")
            self.text(
                painter,
                at(value * scale, 0) + QPointF(0, px(11)),
                f"{value:g}",
                font=self.theme.mono("small"),
                token="muted",
                align=Qt.AlignmentFlag.AlignHCenter,
            )
        self.text(
            painter,
            QPointF(plot.right(), plot.bottom() + px(26)),
            f"{unit} of space",
            token="muted",
            align=Qt.AlignmentFlag.AlignRight,
        )
        self.text(painter, QPointF(plot.left() + px(4), plot.top() - px(6)), "games", token="muted")

    def _draw_here(self, painter: QPainter, here: QPointF, fit: Fit, *, left: bool) -> None:
        """How many games fit. left: the words stand to the right of it, else to its left."""
        px = self.theme.px
        painter.setPen(QPen(self.theme.color("amber"), 1.6))
        painter.setBrush(self.theme.color("sheet"))
        painter.drawEllipse(here, px(5), px(5))
        self.text(
            painter,
            here + QPointF(px(10) if left else -px(10), px(14)),
            f"{fit.kept} games fit into {show_bytes(fit.room)}",
            font=self.theme.font("body", weight=600),
            align=Qt.AlignmentFlag.AlignLeft if left else Qt.AlignmentFlag.AlignRight,
        )

    def _draw_shares(self, painter: QPainter, bar: QRectF, fit: Fit) -> None:
        """One strip of what goes along, a piece a system."""
        px = self.theme.px
        whole = sum(each.size for each in fit.parts) or 1
        x = bar.left()
        for index, each in enumerate(part for part in fit.parts if part.size):
            wide = bar.width() * each.size / whole
            piece = QRectF(x, bar.top(), wide, bar.height())
            self.block(
                painter, piece.adjusted(0.5, 0, -0.5, 0), "teal_soft" if index % 2 else "field", "teal", radius=2
            )
            if wide > px(64):
                self.text(
                    painter, piece.adjusted(px(6), 0, -px(4), 0), each.name, font=self.theme.font("small", weight=600)
                )
                self.text(
                    painter,
                    QRectF(piece.left() + px(6), bar.bottom() + px(2), wide - px(8), px(18)),
                    f"{each.games}, {show_bytes(each.size)}",
                    token="muted",
                    font=self.theme.mono("small"),
                )
            x += wide


def _unit(end: float) -> tuple[float, str]:
    return next(((scale, unit) for scale, unit in ((1e9, "GB"), (1e6, "MB"), (1e3, "kB")) if end >= scale), (1.0, "B"))
