"""Frames of a game on the fields of a display, and a bar that moves as they do."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from math import floor

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.operations.picture.glass import Play, cadence

FIELDS = 26  # drawn side by side
_BARS = 7  # of the moving picture
_WAY = 120.0  # frames from edge to edge: two seconds at 60 Hz, as games scroll, CP


class FramesDrawing(Instrument):
    """Above, the game's frames as they are made; below, the fields as they are shown. The first trouble is in the
    middle."""

    least = QSize(480, 150)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Frame pacing")
        self._play: Play | None = None

    def show_play(self, play: Play | None) -> None:
        if not self.shows(play):
            return
        self._play = play
        words = "no game" if play is None else f"{play.lost_per_min:.2f} frames per minute"
        self.setAccessibleDescription(words)
        self.update()

    @staticmethod
    def phase(play: Play) -> Fraction:
        """How far the first frame is, so that what goes wrong first goes wrong in the middle of the drawing."""
        ratio = play.game_hz / play.shown_hz
        whole = round(ratio * FIELDS / 2)
        return (whole - ratio * Fraction(FIELDS, 2) + (Fraction(1, 1000) if ratio < 1 else -Fraction(1, 1000))) % 1

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        play = self._play
        if play is None:
            self.say(painter, box, "Choose a system.")
            return
        scale = self.theme.scale
        left = box.left() + 62 * scale
        top = box.top() + box.height() * 0.24
        high = min(34 * scale, box.height() * 0.24)
        lower = top + high + box.height() * 0.2
        wide = (box.right() - left - 6) / FIELDS
        for words, y in (("game", top), ("display", lower)):
            self.text(painter, QPointF(box.left(), y + high / 2), words, font=self.theme.font("label", weight=600))
        phase = self.phase(play)
        shown = cadence(play, FIELDS + 1, phase)
        self._draw_frames(painter, QRectF(left, top, wide, high), play, shown)
        self._draw_fields(painter, QRectF(left, lower, wide, high), (play, top + high, box.right()), shown)
        for words, y in (
            (f"game frames at {float(play.game_hz):.3f} Hz", top - 13 * scale),
            (f"refreshes at {float(play.shown_hz):.3f} Hz", min(box.bottom() - 8, lower + high + 30 * scale)),
        ):
            self.text(painter, QPointF(left, y), words, font=self.theme.mono("small"), token="muted")

    def _draw_frames(self, painter: QPainter, first: QRectF, play: Play, shown: Sequence[int]) -> None:
        """The game's frames. first: where one would stand that lasts a field."""
        phase, ratio, wide = self.phase(play), play.game_hz / play.shown_hz, first.width()
        for frame in range(shown[0], shown[-1] + 1):
            start, end = float((frame - phase) / ratio), float((frame + 1 - phase) / ratio)
            x, until = first.left() + max(0.0, start) * wide, first.left() + min(float(FIELDS), end) * wide
            if until - x > 1:
                lost = frame < shown[FIELDS - 1] and frame not in shown
                spot = QRectF(x + 1, first.top(), until - x - 2, first.height())
                self.block(painter, spot, *(("red_soft", "red") if lost else ("teal_soft", "teal")), radius=2)
                self._number(painter, QRectF(x, first.top(), until - x, first.height()), frame - shown[0], lost)

    def _draw_fields(
        self, painter: QPainter, first: QRectF, above: tuple[Play, float, float], shown: Sequence[int]
    ) -> None:
        """What the display shows. above: the play, the lower edge of its frames, and how far to the right they go."""
        play, edge, rightmost = above
        phase, ratio, wide = self.phase(play), play.game_hz / play.shown_hz, first.width()
        before = shown[0] - 1
        for field in range(FIELDS):
            frame = shown[field]
            again = frame == before
            spot = QRectF(first.left() + field * wide + 1, first.top(), wide - 2, first.height())
            odd = again or frame > before + 1
            token = "amber" if again else "red" if odd else "teal"
            self.block(painter, spot, f"{token}_soft", token, radius=2)
            self._number(painter, spot, frame - shown[0], odd)
            if odd and field:
                self.text(
                    painter,
                    QPointF(spot.center().x(), spot.bottom() + 13 * self.theme.scale),
                    "twice" if again else "one dropped",
                    font=self.theme.font("label", weight=600),
                    token=token,
                    align=Qt.AlignmentFlag.AlignHCenter,
                )
            begin = float((frame - phase) / ratio)
            x = first.left() + (max(0.0, begin) + 0.5 * float(1 / ratio)) * wide
            painter.setPen(QPen(self.theme.color("muted", 110), 1))
            painter.drawLine(QPointF(min(x, rightmost), edge), QPointF(spot.center().x(), first.top()))
            before = frame

    def _number(self, painter: QPainter, spot: QRectF, number: int, odd: bool) -> None:
        self.text(
            painter,
            spot,
            str(number),
            font=self.theme.mono("small"),
            token="red" if odd else "ink",
            align=Qt.AlignmentFlag.AlignCenter,
        )


class MovingDrawing(Instrument):
    """Two bars that run across: above as smooth as the display can, below as the game's frames arrive on it."""

    least = QSize(320, 110)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "A moving bar, smooth and as the game shows it")
        self._play: Play | None = None
        self.seconds = 0.0

    def show_play(self, play: Play | None) -> None:
        self._play = play
        self.update()

    def at(self, seconds: float) -> None:
        """Show the moment `seconds` after the start."""
        self.seconds = seconds
        self.update()

    def places(self) -> tuple[float, float]:
        """How far the upper and the lower bar are, as a part of the way."""
        play = self._play
        if play is None:
            return 0.0, 0.0
        field = floor(self.seconds * float(play.shown_hz))
        # the same rule as glass.cadence, for one field
        frame = floor(Fraction(1, 2) + play.game_hz / play.shown_hz * field)
        smooth = field / float(play.shown_hz) * float(play.game_hz) + 0.5
        return smooth / _WAY % 1, frame / _WAY % 1

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        scale = self.theme.scale
        lane = (box.height() - 8 * scale) / 2
        names = ("even steps", "as shown")
        for index, part in enumerate(self.places()):
            spot = QRectF(
                box.left() + 92 * scale, box.top() + index * (lane + 8 * scale), box.width() - 92 * scale, lane
            )
            self.block(painter, spot, "glass", radius=3)
            painter.save()
            painter.setClipRect(spot)
            bar = spot.width() / (_BARS * 2)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(self.theme.color("phosphor"))
            for number in range(_BARS + 1):
                x = (part * spot.width() + number * 2 * bar) % (spot.width() + 2 * bar) - 2 * bar
                painter.drawRect(QRectF(spot.left() + x, spot.top() + 6, bar * 0.5, spot.height() - 12))
            painter.restore()
            self.text(
                painter, QPointF(box.left(), spot.center().y()), names[index], font=self.theme.font("label", weight=600)
            )
