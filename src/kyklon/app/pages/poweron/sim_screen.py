"""The simulated screen and the board's lamp, as they would look at the end of the bring-up."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, QTimer
from PyQt6.QtGui import QColor, QHideEvent, QPainter, QPaintEvent, QShowEvent
from PyQt6.QtWidgets import QWidget

from kyklon.app.pages.picture.raster_view import BARS
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.shown import visible
from kyklon.catalogue.records import RHYTHM_WORDS, Rhythm
from kyklon.operations.poweron.events import Screen

_BEAT_MS = 150
# lit and unlit, a sign a beat: what the rhythms' names say
_BEATS = {"steady": "x", "dark": ".", "slow": "xxxxxx......", "quick": "x.", "paired": "x.x....."}


class SimScreen(Instrument):
    least = QSize(220, 150)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Simulated screen")
        self._screen: Screen | None = None
        self._lamp: Rhythm | None = None
        self._aspect = 4 / 3
        self._sound = ""
        self._step, self._spot = 0, QPointF()
        self._timer = QTimer(self)
        self._timer.setInterval(_BEAT_MS)
        self._timer.timeout.connect(self._on_beat)

    def showEvent(self, event: QShowEvent | None) -> None:
        """Override: the lamp moves while it is seen."""
        super().showEvent(event)
        self._beat()

    def hideEvent(self, event: QHideEvent | None) -> None:
        """Override."""
        super().hideEvent(event)
        self._timer.stop()

    def _beat(self) -> None:
        """Let the lamp move where its rhythm does."""
        self._step = 0
        if len(_BEATS.get(self._lamp or "dark", "x")) > 1 and self.isVisible() and not self.theme.still:
            self._timer.start()
        else:
            self._timer.stop()

    def _on_beat(self) -> None:
        beats = _BEATS[self._lamp or "dark"]
        before, self._step = beats[self._step], (self._step + 1) % len(beats)
        if beats[self._step] != before:
            px = self.theme.px(8)
            QWidget.update(self, QRectF(self._spot.x() - px, self._spot.y() - px, 2 * px, 2 * px).toAlignedRect())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override: the drawing, and the lamp in its moment over it."""
        super().paintEvent(event)
        if not self._timer.isActive():
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._draw_lamp(painter, lit=_BEATS[self._lamp or "dark"][self._step] == "x")
        painter.end()

    def _draw_lamp(self, painter: QPainter, *, lit: bool) -> None:
        painter.setPen(self.theme.color("muted"))
        painter.setBrush(self.theme.color("amber") if lit else self.theme.color("sheet"))
        painter.drawEllipse(self._spot, self.theme.px(4.5), self.theme.px(4.5))

    def show_screen(self, screen: Screen | None, lamp: Rhythm | None, aspect: float, sound: str = "") -> None:
        """sound: what is heard, in words."""
        if not self.shows(screen, lamp, aspect, sound):
            return
        self._screen, self._lamp, self._aspect, self._sound = screen, lamp, aspect, sound
        self._beat()
        if screen:
            self.setAccessibleDescription(f"{screen.title}: {'; '.join(screen.lines)}. Lamp: {lamp}. Sound: {sound}")
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        rim = px(14)
        high = min(box.height() - px(48), (box.width() - 2 * rim) / self._aspect + 2 * rim)
        case = QRectF(0, 0, (high - 2 * rim) * self._aspect + 2 * rim, high)
        case.moveCenter(QPointF(box.center().x(), box.top() + high / 2))
        glass = case.adjusted(rim, rim, -rim, -rim)
        self.block(painter, case, "bezel", radius=12)
        self.block(painter, glass, "glass", radius=7)
        if self._screen is not None:
            painter.save()
            painter.setClipRect(glass)
            self._draw_content(painter, glass, self._screen)
            painter.restore()
        spot = self._spot = QPointF(case.left() + px(10), case.bottom() + px(16))
        self._draw_lamp(painter, lit=self._lamp not in (None, "dark"))
        words = f"board lamp: {RHYTHM_WORDS[self._lamp] if self._lamp else 'off'}"
        self.text(painter, QPointF(spot.x() + px(12), spot.y()), words, token="muted")
        if self._sound:
            below = QRectF(spot.x() + px(12), spot.y() + px(10), box.right() - spot.x() - px(12), px(18))
            self.text(painter, below, f"sound: {self._sound}", token="muted")

    def _draw_content(self, painter: QPainter, glass: QRectF, screen: Screen) -> None:
        if screen.kind == "out of range":
            self._draw_torn(painter, glass)
        if screen.kind == "front end":
            self._draw_menu(painter, glass, screen)
        elif screen.kind in ("text", "crash"):
            for index, line in enumerate((screen.title, *screen.lines, "_")):
                at = QPointF(glass.left() + self.theme.px(14), glass.top() + self.theme.px(20 + 20 * index))
                self.text(painter, at, line, font=self.theme.mono("label"), token="phosphor")
        else:
            paper = QRectF(0, 0, glass.width() * 0.9, self.theme.px(52))
            paper.moveCenter(glass.center())
            if screen.kind == "out of range":
                self.block(painter, paper, QColor(12, 17, 19, 220), radius=3)
            self.text(
                painter,
                QRectF(paper.left(), paper.top() + 4, paper.width(), paper.height() / 2 - 4),
                screen.title,
                font=self.theme.font("body", weight=600),
                token="phosphor",
                align=Qt.AlignmentFlag.AlignCenter,
            )
            self.text(
                painter,
                QRectF(paper.left(), paper.center().y(), paper.width(), paper.height() / 2 - 4),
                ", ".join(screen.lines),
                font=self.theme.mono("small"),
                token="phosphor",
                align=Qt.AlignmentFlag.AlignCenter,
            )

    def _draw_menu(self, painter: QPainter, glass: QRectF, screen: Screen) -> None:
        px = self.theme.px
        inner = glass.adjusted(px(14), px(8), -px(14), -px(8))
        self.text(
            painter,
            QRectF(inner.left(), inner.top(), inner.width(), px(24)),
            screen.title,
            font=self.theme.head("section"),
            token="phosphor",
        )
        pitch = min(px(22), (inner.height() - px(28)) / max(1, len(screen.lines)))
        for index, line in enumerate(screen.lines):
            row = QRectF(inner.left(), inner.top() + px(28) + index * pitch, inner.width(), pitch)
            if index == 0:
                self.block(painter, row.adjusted(-4, 0, 4, -2), QColor(BARS[1]), radius=2)
            name, _, count = line.partition(":")
            painter.setPen(QColor("#0C1113") if index == 0 else self.theme.color("phosphor"))
            painter.setFont(self.theme.font("label", weight=600))
            painter.drawText(row, Qt.AlignmentFlag.AlignVCenter, visible(name))
            painter.setFont(self.theme.mono("small"))
            painter.drawText(row, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, count.strip())

    def _draw_torn(self, painter: QPainter, glass: QRectF) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        band = glass.height() / 11
        for index in range(11):
            painter.setBrush(QColor(BARS[index % len(BARS)]))
            painter.setOpacity(0.6)
            slip = (index * 41 % 80) - 40
            painter.drawRect(QRectF(glass.left() + slip, glass.top() + index * band, glass.width(), band * 0.66))
        painter.setOpacity(1.0)
