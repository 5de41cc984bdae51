"""The power-on as a time line: every event with its second, the stage's name and the lamp; the failure in red."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.shown import visible
from kyklon.operations.poweron.comparison import compare
from kyklon.operations.poweron.events import BringUp


class TimeLine(Instrument):
    least = QSize(300, 200)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Timeline of the power-on")
        self._run: BringUp | None = None
        self._fresh: frozenset[int] = frozenset()

    def show_run(self, run: BringUp | None, before: BringUp | None = None) -> None:
        """before: an earlier run; what is not as it was then bears a mark."""
        rows = compare(before, run) if before and run else ()
        fresh = frozenset(id(row.right) for row in rows if row.right and not row.same)
        places = frozenset(index for index, event in enumerate(run.events if run else ()) if id(event) in fresh)
        if not self.shows((run, places)):
            return
        self._run, self._fresh = run, places
        if run:
            self.setAccessibleDescription("; ".join(f"{e.at_s:.0f} s {e.text}" for e in run.events))
            self.setMinimumHeight(round(len(run.events) * self.theme.px(26) + self.theme.px(46)))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        run, px = self._run, self.theme.px
        if run is None:
            words = QRectF(box.left() + px(20), box.top(), box.width() - px(40), min(box.height(), px(160)))
            painter.setFont(self.theme.font("body"))
            painter.setPen(self.theme.color("muted"))
            painter.drawText(
                words,
                Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap,
                "What will happen at power-on, second by second, from the bytes on the card.\nPress Run bring-up.",
            )
            return
        pitch = min(px(36), max(px(25), (box.height() - px(44)) / max(1, len(run.events))))
        rail = box.left() + px(62)
        blocked = any(failure.blocks for failure in run.failures)
        last = len(run.events) - 1
        self.line(
            painter,
            QPointF(rail, box.top() + pitch / 2),
            QPointF(rail, box.top() + pitch * (last + 0.5)),
            "hairline",
            2,
        )
        stage = ""
        for index, event in enumerate(run.events):
            y = box.top() + pitch * (index + 0.5)
            failed = blocked and index == last
            if index in self._fresh:
                self.block(painter, QRectF(box.left(), y - px(10), px(4), px(20)), "amber", radius=2)
            self.text(
                painter,
                QPointF(rail - px(14), y),
                f"{event.at_s:.1f}\u202fs",
                font=self.theme.mono("small"),
                token="muted",
                align=Qt.AlignmentFlag.AlignRight,
            )
            side = px(11)
            back = QRectF(rail - side / 2 - 2, y - side / 2 - 2, side + 4, side + 4)
            self.block(painter, back, "sheet", radius=side)
            paint_lamp(
                painter, QRectF(rail - side / 2, y - side / 2, side, side), "stop" if failed else "clear", self.theme
            )
            if event.stage != stage:
                stage = event.stage
                self.text(
                    painter,
                    QRectF(rail + px(14), y - px(9), px(96), px(18)),
                    stage,
                    font=self.theme.font("label", weight=600),
                    token="red" if failed else "ink",
                )
            words = QRectF(rail + px(108), y - px(9), box.right() - rail - px(110), px(18))
            if failed:
                self._draw_cause(painter, words, event.text)
                continue
            self.text(painter, words, event.text, font=self.theme.font("label"), token="red" if failed else "ink")

    def _draw_cause(self, painter: QPainter, line: QRectF, words: str) -> None:
        """The failure in full, over as many lines as it takes."""
        painter.setFont(self.theme.font("label", weight=500))
        painter.setPen(self.theme.color("red"))
        room = line.adjusted(0, 0, 0, self.theme.px(60))
        painter.drawText(room, Qt.TextFlag.TextWordWrap, visible(words))
