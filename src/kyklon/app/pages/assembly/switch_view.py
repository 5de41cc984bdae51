"""Switched off, second by second: the finger, the system, the power and the lamp in lanes below each other."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QBoxLayout

from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.session.session import Session
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Sheet, column, label, row
from kyklon.app.widgets.fields import FieldForm
from kyklon.app.widgets.instrument import Instrument
from kyklon.app.widgets.plot import ticks
from kyklon.operations.assembly.switching import Stopping, stopping

_FIELDS = ("switch", "press_s", "watcher_s", "stop_s", "board_waits", "board_off_s", "force_s")
_SHOWN: dict[str, tuple[str, ...]] = {
    "plug": ("switch",),
    "in the line": ("switch",),
    "momentary": ("switch", "press_s", "watcher_s", "stop_s"),
    "power board": _FIELDS,
    "latching board": ("switch", "watcher_s", "stop_s", "board_waits", "board_off_s"),
}


class LanesDrawing(Instrument):
    least = QSize(380, 240)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Shutdown, second by second")
        self._found: Stopping | None = None

    def show_stopping(self, found: Stopping) -> None:
        if not self.shows(found):
            return
        self._found = found
        told = [
            f"{lane.name}: "
            + ", ".join(f"{span.state} from {span.start:.1f} to {span.end:.1f} s" for span in lane.spans if span.state)
            for lane in found.lanes
        ]
        self.setAccessibleDescription("; ".join(told))
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        found, px = self._found, self.theme.px
        if found is None:
            return
        left, right = box.left() + px(64), box.right() - px(10)
        last = max(span.end for lane in found.lanes for span in lane.spans)

        def x(seconds: float) -> float:
            return left + seconds / last * (right - left)

        pitch = min(px(112), (box.height() - px(34)) / len(found.lanes))
        bottom = box.top() + pitch * len(found.lanes)
        for second in ticks(0, last, 8):
            self.line(painter, QPointF(x(second), box.top()), QPointF(x(second), bottom), "grid")
            at = QPointF(x(second), bottom + px(10))
            middle = Qt.AlignmentFlag.AlignHCenter
            self.text(painter, at, f"{second:g}\u202fs", font=self.theme.mono("small"), token="muted", align=middle)
        for number, lane in enumerate(found.lanes):
            top = box.top() + number * pitch
            name = QRectF(box.left(), top, px(60), pitch)
            self.text(painter, name, lane.name, font=self.theme.font("label", weight=600))
            for span in lane.spans:
                place = QRectF(x(span.start), top + pitch * 0.24, x(span.end) - x(span.start), pitch * 0.52)
                torn = span.state == "cut off"
                fill = "red_soft" if torn else "teal_soft" if span.live else "field"
                edge = QPen(self.theme.color("red" if torn else "teal" if span.live else "hairline"), 1.2)
                self.block(painter, place.adjusted(0.5, 0, -0.5, 0), fill, edge, radius=2)
                words = f"▲ {span.state}" if torn else span.state
                if place.width() > px(30) and words:
                    inner = place.adjusted(px(5), 0, -px(3), 0)
                    self.text(painter, inner, words, font=self.theme.font("small"), token="red" if torn else "ink")
        for moment, words, token in ((found.stopped_s, "halted", "teal"), (found.cut_s, "power cut", "ink")):
            if moment is not None:
                pen = Qt.PenStyle.DashLine
                self.line(painter, QPointF(x(moment), box.top()), QPointF(x(moment), bottom), token, 1.6, pen)
                spot = QPointF(
                    x(moment) + px(4), box.top() + (px(6) if words == "halted" else bottom - box.top() - px(4))
                )
                self.text(painter, spot, words, font=self.theme.font("small", weight=600), token=token)


class SwitchView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.instrument = self._drawing = LanesDrawing(self.theme)
        self._words = label("", wrap=True)
        lanes = Sheet("Shutdown", "what button, system, power and LED do")
        lanes.add(self._drawing, self._words)
        lanes.body.setStretch(0, 1)
        self._form = FieldForm(self.theme, tuple(f"assembly.{name}" for name in _FIELDS), self.session.edit)
        settings = Sheet("Switch")
        settings.add(self._form, 1)
        if self.theme.scale > 1:
            lanes.setMinimumHeight(round(self.theme.px(380)))
            layout: QBoxLayout = column(lanes, settings, spacing=14)
        else:
            settings.setFixedWidth(side_px(self.theme, 40))
            layout = row(lanes, settings, spacing=14)
        layout.setStretch(0, 1)
        self.setLayout(layout)

    def refresh(self) -> None:
        """Override."""
        build = self.build
        self._form.show_build(build, {})
        self._form.show_only({f"assembly.{name}" for name in _SHOWN[build.assembly.switch]})
        found = stopping(build, self.session.catalogue)
        self._drawing.show_stopping(found)
        self._words.setText(("▲ " if found.bad else "") + found.words)
