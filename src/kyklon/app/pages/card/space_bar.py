"""The target's space as a bar: what the chooser keeps, each chosen system, what is left, and what does not fit."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QBrush, QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show_bytes


@dataclass(frozen=True)
class Share:
    """A system or a part. grows: whether it takes what is left at its first start."""

    name: str
    size: int
    token: str = "teal_soft"
    grows: bool = False


@dataclass(frozen=True)
class Space:
    """capacity: of the target in bytes. shares in order from its beginning."""

    name: str
    capacity: int
    shares: tuple[Share, ...]


class SpaceBar(Instrument):
    least = QSize(420, 112)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Space on the target")
        self._space: Space | None = None

    def show_space(self, space: Space | None) -> None:
        if not self.shows(space):
            return
        self._space = space
        if space is not None:
            used = sum(share.size for share in space.shares)
            self.setAccessibleDescription(f"{show_bytes(used)} of {show_bytes(space.capacity)} on {space.name}")
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        space, px = self._space, self.theme.px
        if space is None or not space.capacity:
            self.say(painter, box, "Choose the folder of the bundles: their space is drawn here.")
            return
        used = sum(share.size for share in space.shares)
        whole = max(space.capacity, used)
        body = QRectF(box.left(), box.top() + px(24), box.width(), min(px(54), box.height() - px(50)))
        head = self.theme.font("label", weight=600)
        self.text(painter, QPointF(box.left(), box.top() + px(9)), space.name, font=head)
        over = used > space.capacity
        words = f"{show_bytes(used)} of {show_bytes(space.capacity)}"
        self.text(
            painter,
            QPointF(box.right(), box.top() + px(9)),
            words,
            font=self.theme.mono("small"),
            token="red" if over else "muted",
            align=Qt.AlignmentFlag.AlignRight,
        )
        self.block(painter, body, "field", "hairline", radius=2)
        scale = body.width() / whole
        left = body.left()
        for share in space.shares:
            area = QRectF(left, body.top(), share.size * scale, body.height())
            self._draw_share(painter, area, share)
            left = area.right()
        edge = body.left() + space.capacity * scale
        if over:
            rest = QRectF(edge, body.top(), body.right() - edge, body.height())
            painter.setBrush(QBrush(self.theme.color("red", 140), Qt.BrushStyle.BDiagPattern))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.drawRect(rest)
            self.line(painter, QPointF(edge, body.top() - 4), QPointF(edge, body.bottom() + 6), "red", 2)
            self.text(
                painter,
                QPointF(edge, body.bottom() + px(14)),
                f"ends here: {show_bytes(used - space.capacity)} too much",
                token="red",
                align=Qt.AlignmentFlag.AlignRight,
            )
        else:
            self._draw_free(painter, QRectF(left, body.top(), body.right() - left, body.height()), space, used)

    def _draw_share(self, painter: QPainter, area: QRectF, share: Share) -> None:
        self.block(painter, area, share.token, "ink", radius=0)
        if area.width() < self.theme.px(30):
            return
        inner = area.adjusted(6, 4, -3, -4)
        upper = inner.adjusted(0, 0, 0, -inner.height() / 2)
        self.text(painter, upper, share.name, font=self.theme.font("label", weight=600))
        lower = inner.adjusted(0, inner.height() / 2, 0, 0)
        self.text(painter, lower, show_bytes(share.size), font=self.theme.mono("small"), token="muted")

    def _draw_free(self, painter: QPainter, area: QRectF, space: Space, used: int) -> None:
        growing = [share.name for share in space.shares if share.grows]
        words = f"{show_bytes(space.capacity - used)} free"
        if growing:
            words += ", split between " if growing[1:] else ", all for "
            words += f"{' and '.join(filter(None, (', '.join(growing[:-1]), growing[-1])))} at first boot"
        painter.setFont(self.theme.font("label"))
        if area.width() > painter.fontMetrics().horizontalAdvance(words) + 20:
            self.text(painter, area.adjusted(10, 0, -6, 0), words, token="muted")
        else:
            self.text(
                painter,
                QPointF(self.width(), area.bottom() + self.theme.px(14)),
                words,
                token="muted",
                align=Qt.AlignmentFlag.AlignRight,
            )
