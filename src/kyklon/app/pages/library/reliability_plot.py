"""What confidence is worth: said against what was right, on titles whose game is known."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show_share
from kyklon.operations.library.match import Reliability


def wilson(share: float, count: int) -> tuple[float, float]:
    """Where the true share lies with 68 %: Wilson 1927, equation for one standard deviation."""
    middle = (share + 0.5 / count) / (1 + 1 / count)
    half = (share * (1 - share) / count + 0.25 / count**2) ** 0.5 / (1 + 1 / count)
    return max(0.0, middle - half), min(1.0, middle + half)


class ReliabilityPlot(Instrument):
    least = QSize(200, 180)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Confidence against share that was right")
        self._bins: tuple[Reliability, ...] = ()
        self._error, self._threshold = 0.0, 1.0

    def show_bins(self, bins: tuple[Reliability, ...], error: float) -> None:
        self._bins, self._error = bins, error
        self.setAccessibleDescription(
            "; ".join(f"stated {show_share(b.said)}, right {show_share(b.was)} of {b.count}" for b in bins)
        )
        self.update()

    def show_threshold(self, threshold: float) -> None:
        if threshold != self._threshold:
            self._threshold = threshold
            self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        plot = QRectF(box.left() + px(34), box.top() + px(20), box.width() - px(58), box.height() - px(58))

        def at(said: float, was: float) -> QPointF:
            return QPointF(plot.left() + said * plot.width(), plot.bottom() - was * plot.height())

        for tick in (0.0, 0.5, 1.0):
            self.line(painter, at(tick, 0), at(tick, 1), "grid")
            self.line(painter, at(0, tick), at(1, tick), "grid")
            self.text(
                painter,
                at(tick, 0) + QPointF(0, px(10)),
                show_share(tick),
                font=self.theme.mono("small"),
                token="muted",
                align=Qt.AlignmentFlag.AlignHCenter,
            )
            self.text(
                painter,
                at(0, tick) - QPointF(px(4), 0),
                show_share(tick),
                font=self.theme.mono("small"),
                token="muted",
                align=Qt.AlignmentFlag.AlignRight,
            )
        self.text(painter, QPointF(plot.left() - px(30), box.top() + px(7)), "right", token="muted")
        self.text(
            painter,
            QPointF(plot.right(), plot.bottom() + px(26)),
            "stated confidence",
            token="muted",
            align=Qt.AlignmentFlag.AlignRight,
        )
        self.line(painter, at(0, 0), at(1, 1), "hairline", 1.2, Qt.PenStyle.DashLine)
        most = max((each.count for each in self._bins), default=1)
        for each in self._bins:  # where the true share may lie: Wilson's interval of 68 %
            low, high = wilson(each.was, each.count)
            self.line(painter, at(each.said, low), at(each.said, high), "teal", 1.2)
            size = px(2.5 + 4 * (each.count / most) ** 0.5)
            painter.setPen(QPen(self.theme.color("teal"), 1.2))
            painter.setBrush(self.theme.color("teal_soft"))
            painter.drawEllipse(at(each.said, each.was), size, size)
        if self._threshold <= 1:
            self.line(painter, at(self._threshold, 0), at(self._threshold, 1), "amber", 1.4)
