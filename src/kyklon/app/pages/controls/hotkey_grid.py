"""Hold against press: how often play would do it by accident, for every pair of buttons of seat 1."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import set_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.operations.controls.hotkeys import Risk


@dataclass(frozen=True)
class Pairs:
    """names: id and label of each button. risks by hold and press. actions: what a pair does now."""

    names: tuple[tuple[str, str], ...] = ()
    risks: Mapping[tuple[str, str], Risk] = field(default_factory=dict)
    actions: Mapping[tuple[str, str], str] = field(default_factory=dict)


class HotkeyGrid(Instrument):
    """chosen carries the buttons to hold and to press."""

    least = QSize(360, 240)
    chosen = pyqtSignal(str, str)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Accidental triggers per hour, for each pair of buttons")
        self._pairs = Pairs()
        self.setMouseTracking(True)

    def show_pairs(self, pairs: Pairs) -> None:
        if self.shows(pairs):
            self._pairs = pairs
            told = [f"hold {one}, press {other}: {action}" for (one, other), action in pairs.actions.items()]
            self.setAccessibleDescription("; ".join(told))
            self.update()

    def cell_box(self, hold: str, press: str) -> QRectF:
        """Where a pair is drawn."""
        names = [each for each, _label in self._pairs.names]
        left, top = self.theme.px(66), self.theme.px(42)
        count = max(1, len(names))
        wide = (self.width() - left) / count
        high = min(self.theme.px(44), (self.height() - top - self.theme.px(26)) / count)
        return QRectF(left + names.index(press) * wide, top + names.index(hold) * high, wide, high)

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        pairs, px = self._pairs, self.theme.px
        if not pairs.names:
            self.say(painter, box, "Wire the buttons of seat 1 first.")
            return
        small = self.theme.font("small", weight=600)
        self.text(painter, QRectF(px(66), 0, box.width() - px(66), px(18)), "press …", font=small, token="muted")
        self.text(painter, QPointF(px(4), px(32)), "hold …", font=small, token="muted")
        for name, words in pairs.names:
            across, down = self.cell_box(pairs.names[0][0], name), self.cell_box(name, pairs.names[0][0])
            brief = words.removeprefix("Button ")
            self.text(
                painter,
                QRectF(across.left(), px(20), across.width(), px(20)),
                brief,
                font=small,
                align=Qt.AlignmentFlag.AlignCenter,
            )
            self.text(painter, QRectF(px(4), down.top(), px(60), down.height()), words, font=small)
        for hold, _one in pairs.names:
            for press, _other in pairs.names:
                self._draw_pair(painter, hold, press)
        last = self.cell_box(pairs.names[-1][0], pairs.names[0][0]).bottom()
        foot = QRectF(px(66), last + px(6), box.width() - px(66), px(18))
        self.text(
            painter, foot, "accidental triggers per hour, worst system", token="muted", font=self.theme.font("small")
        )

    def _draw_pair(self, painter: QPainter, hold: str, press: str) -> None:
        box = self.cell_box(hold, press).adjusted(1.5, 1.5, -1.5, -1.5)
        risk = self._pairs.risks.get((hold, press))
        if risk is None:
            self.line(painter, box.topLeft(), box.bottomRight(), "hairline")
            return
        action = self._pairs.actions.get((hold, press), "")
        fill = "teal_soft" if not risk.bad else "amber_soft" if risk.hourly < 20 else "red_soft"
        self.block(painter, box, fill, "teal" if action else "", width=2.4)
        words = _figure(risk.hourly)
        if action and box.height() > self.theme.px(30):
            upper = QRectF(box.left(), box.top() + 1, box.width(), box.height() * 0.5)
            lower = QRectF(box.left(), upper.bottom() - 2, box.width(), box.height() * 0.5)
            self.text(
                painter,
                upper,
                action,
                font=self.theme.font("small", weight=600),
                token="teal",
                align=Qt.AlignmentFlag.AlignCenter,
            )
            self.text(painter, lower, words, font=self.theme.mono("small"), align=Qt.AlignmentFlag.AlignCenter)
            return
        self.text(
            painter,
            box,
            action or words,
            font=self.theme.mono("small"),
            align=Qt.AlignmentFlag.AlignCenter,
            token="ink" if risk.bad or action else "muted",
        )

    def _under(self, at: QPointF) -> tuple[str, str] | None:
        return next((pair for pair in self._pairs.risks if self.cell_box(*pair).contains(at)), None)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        pair = self._under(event.position())
        risk = self._pairs.risks[pair] if pair else None
        set_tip(self, f"{risk.system}: {risk.why}" if risk is not None and risk.why else "")
        self.setCursor(Qt.CursorShape.PointingHandCursor if pair else Qt.CursorShape.ArrowCursor)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        pair = self._under(event.position())
        if pair is not None:
            self.chosen.emit(*pair)


def _figure(hourly: float) -> str:
    return "0" if hourly < 0.005 else f"{hourly:.2g}" if hourly < 10 else f"{hourly:.0f}"
