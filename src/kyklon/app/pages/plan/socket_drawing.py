"""Every USB socket of the board: what hangs on it, and what is drawn of what it gives."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show
from kyklon.operations.plan.parts_list import SocketUse


class SocketDrawing(Instrument):
    least = QSize(200, 118)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "USB sockets")
        self._sockets: tuple[SocketUse, ...] = ()

    def show_sockets(self, sockets: tuple[SocketUse, ...]) -> None:
        if not self.shows(sockets):
            return
        self._sockets = sockets
        self.setAccessibleDescription(
            "; ".join(
                f"{use.name}: {use.takes or 'free'}, {use.play:.2f} A in play, {use.set_up:.2f} A at the set-up"
                for use in sockets
            )
        )
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        if not self._sockets:
            self.text(painter, box, "The board has no USB socket.", token="muted", align=Qt.AlignmentFlag.AlignCenter)
            return
        pitch = min(px(38), box.height() / len(self._sockets))
        for number, use in enumerate(self._sockets):
            top = box.top() + number * pitch
            head = QRectF(box.left(), top, box.width(), px(17))
            self.text(painter, head, f"{use.name} · {use.takes or 'free'}", font=self.theme.font("label", weight=500))
            bar = QRectF(box.left(), top + px(19), box.width() * 0.5, px(9))
            self.block(painter, bar, "grid", radius=2)
            most = use.gives or 1.0
            for amps, token, high in ((use.set_up, "amber_soft", px(9)), (use.play, "teal", px(5))):
                wide = bar.width() * min(1.0, amps / most)
                self.block(painter, QRectF(bar.left(), bar.top() + (px(9) - high) / 2, wide, high), token, radius=2)
            words = QRectF(bar.right() + px(8), top + px(15), box.right() - bar.right() - px(8), px(17))
            told = f"{max(use.set_up, use.play):.2f} of {show(use.gives, 'A', prefix='')}" if use.gives else "not said"
            self.text(painter, words, told, font=self.theme.mono("small"))
