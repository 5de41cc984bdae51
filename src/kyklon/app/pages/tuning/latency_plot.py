"""Input latency from switch to screen: shares stacked along a time axis, the distribution of their sum above."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.app.widgets.plot import ticks
from kyklon.operations.tuning.latency import Latency


class LatencyPlot(Instrument):
    least = QSize(360, 200)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Input latency from switch to screen")
        self._latency: Latency | None = None

    def show_latency(self, latency: Latency | None) -> None:
        self._latency = latency
        if latency:
            self.setAccessibleDescription(f"mean {latency.mean:.0f} ms")
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        latency, px = self._latency, self.theme.px
        if latency is None:
            self.say(painter, box, "Choose an encoder and a display in Plan.")
            return
        left = px(104)
        end = float(latency.times[-1]) * 1.04
        plot = QRectF(box.left() + left, box.top() + px(4), box.width() - left - px(14), box.height() - px(40))

        def x(ms: float) -> float:
            return plot.left() + ms / end * plot.width()

        for value in ticks(0, end, int(plot.width() / px(60))):
            self.line(painter, QPointF(x(value), plot.top()), QPointF(x(value), plot.bottom()), "grid")
            self.text(
                painter,
                QPointF(x(value), plot.bottom() + px(11)),
                f"{value:g}",
                font=self.theme.mono("small"),
                token="muted",
                align=Qt.AlignmentFlag.AlignHCenter,
            )
        self.text(
            painter,
            QPointF(plot.right(), plot.bottom() + px(28)),
            "ms after the switch closes",
            token="muted",
            align=Qt.AlignmentFlag.AlignRight,
        )
        curve = QRectF(plot.left(), plot.top() + px(18), plot.width(), plot.height() * 0.36 - px(18))
        self._draw_sum(painter, curve, latency, end)
        self._draw_shares(painter, plot, curve.bottom() + px(8), latency, end)

    def _draw_sum(self, painter: QPainter, box: QRectF, latency: Latency, end: float) -> None:
        px = self.theme.px
        top = float(latency.density.max()) * 1.1
        stride = max(1, len(latency.times) // 300)
        points = [
            QPointF(box.left() + float(ms) / end * box.width(), box.bottom() - float(p) / top * box.height())
            for ms, p in zip(latency.times[::stride], latency.density[::stride], strict=True)
        ]
        closed = [QPointF(points[0].x(), box.bottom()), *points, QPointF(points[-1].x(), box.bottom())]
        painter.setPen(QPen(self.theme.color("teal"), 1.6))
        painter.setBrush(self.theme.color("teal_soft"))
        painter.drawPolygon(QPolygonF(closed))
        self.text(
            painter,
            QPointF(box.left() - px(100), box.center().y() - px(8)),
            "Total",
            font=self.theme.font("body", weight=600),
        )
        low, high = latency.percentile(5), latency.percentile(95)
        self.text(
            painter,
            QPointF(box.left() - px(100), box.center().y() + px(9)),
            f"{low:.0f} to {high:.0f}\u202fms",
            font=self.theme.mono("small"),
            token="muted",
        )
        at = box.left() + latency.mean / end * box.width()
        self.line(painter, QPointF(at, box.top()), QPointF(at, box.bottom()), "ink", 1.4)
        above = QPointF(at, box.top() - px(9))  # clear of the line and of the curve
        self.text(
            painter,
            above,
            f"mean {latency.mean:.1f}\u202fms",
            font=self.theme.mono("label", 500),
            align=Qt.AlignmentFlag.AlignHCenter,
        )

    def _draw_shares(self, painter: QPainter, plot: QRectF, top: float, latency: Latency, end: float) -> None:
        """A stair: every share begins where those before it end on average; its spread is the lighter part."""
        px = self.theme.px
        pitch = (plot.bottom() - top) / len(latency.shares)
        begun = 0.0
        for index, share in enumerate(latency.shares):
            y = top + index * pitch
            bar = QRectF(plot.left() + begun / end * plot.width(), y + pitch * 0.16, 0, pitch * 0.68)
            fixed, spread = QRectF(bar), QRectF(bar)
            fixed.setWidth(share.low / end * plot.width())
            spread.setLeft(fixed.right())
            spread.setWidth((share.high - share.low) / end * plot.width())
            if share.low:
                self.block(painter, fixed, "teal", radius=1)
            if share.high > share.low:
                self.block(painter, spread, "teal_soft", "teal", radius=1)
            self.text(painter, QPointF(plot.left() - px(100), y + pitch / 2), share.name, font=self.theme.font("label"))
            words = f"{share.mean:.1f}\u202fms  {share.how}"
            start = max(fixed.right(), spread.right()) + px(8)
            painter.setFont(self.theme.font("small"))
            wide = painter.fontMetrics().horizontalAdvance(words)
            if start + wide > plot.right() and bar.left() - px(8) - wide < plot.left():
                words = f"{share.mean:.1f}\u202fms"  # its working does not fit; the mean does
                wide = painter.fontMetrics().horizontalAdvance(words)
            if start + wide > plot.right():
                start = max(plot.left() + 2, bar.left() - px(8) - wide)
            self.text(painter, QPointF(start, y + pitch / 2), words, font=self.theme.font("small"), token="muted")
            begun += share.mean
