"""The pin header as it lies on the board: two rows of pins, what each can do, and what sits on it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import set_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.catalogue.control_records import Header, HeaderPin


@dataclass(frozen=True)
class Seated:
    """used: by pin, what sits there. wanted: pins that several want. open: pins where the picked wire may go."""

    header: Header | None = None
    used: Mapping[int, str] = field(default_factory=dict)
    wanted: Mapping[int, str] = field(default_factory=dict)
    picked: int = 0
    open: frozenset[int] = frozenset()


class HeaderDrawing(Instrument):
    """pressed carries a pin's number."""

    least = QSize(460, 320)
    pressed = pyqtSignal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "The pin header; pick a wire, then the pin for it")
        self._seated = Seated()
        self.setMouseTracking(True)

    def show_header(self, seated: Seated) -> None:
        if self.shows(seated):
            self._seated = seated
            told = [f"pin {number}: {words}" for number, words in sorted(seated.used.items())]
            self.setAccessibleDescription("; ".join(told) or "nothing sits on the header")
            self.update()

    def pin_box(self, number: int) -> QRectF:
        """Where a pin's square is drawn."""
        header = self._seated.header
        count = len(header.pins) if header else 40
        high = (self.height() - self.theme.px(8)) / ((count + 1) // 2)
        side = min(high - 2, self.theme.px(22))
        row, left = divmod(number - 1, 2)
        middle = self.width() / 2 + (-1 if left == 0 else 1) * (side / 2 + self.theme.px(2))
        return QRectF(middle - side / 2, self.theme.px(4) + row * high + (high - side) / 2, side, side)

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        header, px = self._seated.header, self.theme.px
        if header is None:
            self.say(painter, box, "This build's board has no pin header in the catalogue.")
            return
        first, last = self.pin_box(header.pins[0].number), self.pin_box(header.pins[-1].number)
        body = first.united(last).united(self.pin_box(2)).adjusted(-px(6), -px(4), px(6), px(4))
        self.block(painter, body, "bezel", radius=4)
        for pin in header.pins:
            self._draw_pin(painter, pin)

    def _draw_pin(self, painter: QPainter, pin: HeaderPin) -> None:
        px, seated = self.theme.px, self._seated
        place = self.pin_box(pin.number)
        used, wanted = seated.used.get(pin.number, ""), seated.wanted.get(pin.number, "")
        fill = (
            "red"
            if wanted
            else "teal"
            if used
            else {"ground": "ink", "5 V": "red_soft", "3.3 V": "amber_soft"}.get(pin.kind, "sheet")
        )
        edge = "amber" if pin.number == seated.picked else "teal" if pin.number in seated.open else "hairline"
        self.block(
            painter,
            place,
            fill,
            edge,
            radius=place.width() / 2 if pin.number > 1 else 2,
            width=2.6 if edge != "hairline" else 1.0,
        )
        light = fill in ("red", "teal", "ink")
        self.text(
            painter,
            place,
            str(pin.number),
            font=self.theme.mono("small"),
            token="on_teal" if light else "ink",
            align=Qt.AlignmentFlag.AlignCenter,
        )
        left = pin.number % 2 == 1
        room = self.width() / 2 - place.width() - px(14)
        side = QRectF(
            0 if left else place.right() + px(10), place.top(), place.left() - px(10) if left else room, place.height()
        )
        align = Qt.AlignmentFlag.AlignVCenter | (Qt.AlignmentFlag.AlignRight if left else Qt.AlignmentFlag.AlignLeft)
        words = wanted or used or self._own_words(pin)
        token = "red" if wanted else "ink" if used else "muted"
        font = self.theme.font("label", weight=600) if used or wanted else self.theme.font("small")
        self.text(painter, side, words, font=font, token=token, align=align)
        if used and not wanted:
            a = (
                QPointF(place.left() - px(7), place.center().y())
                if left
                else QPointF(place.right() + px(1), place.center().y())
            )
            self.line(painter, a, a + QPointF(px(6), 0), "teal", 2.0)

    @staticmethod
    def _own_words(pin: HeaderPin) -> str:
        if pin.kind != "signal":
            return pin.kind
        boot = f"at power-on: {pin.boot}" if pin.boot else ""
        pull = f"pulled {pin.pull}" if pin.pull != "none" else ""
        return " · ".join(each for each in (", ".join(pin.functions), pull, boot) if each)

    def _under(self, at: QPointF) -> HeaderPin | None:
        header = self._seated.header
        if header is None:
            return None
        for pin in header.pins:
            place = self.pin_box(pin.number)
            start, end = (0.0, place.right()) if pin.number % 2 else (place.left(), float(self.width()))
            wide = QRectF(start, place.top(), end - start, place.height())
            if wide.contains(at):
                return pin
        return None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        pin = self._under(event.position())
        set_tip(self, f"Pin {pin.number}: {self._own_words(pin) or 'plain GPIO, on/off only'}" if pin else "")
        self.setCursor(Qt.CursorShape.PointingHandCursor if pin else Qt.CursorShape.ArrowCursor)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Override."""
        pin = self._under(event.position())
        if pin is not None:
            self.pressed.emit(pin.number)
