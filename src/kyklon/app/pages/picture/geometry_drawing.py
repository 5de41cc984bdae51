"""The glass to scale: bezel, test card as it lies there, what is hidden, and where the picture would go."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QImage, QPainter, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.shown import visible


@dataclass(frozen=True)
class GlassDrawn:
    """size_mm: of the lit area. hidden: pixels and lines behind the bezel at left, right, top and bottom; size: of the
    mode. tube: or a panel. box: of a system's picture in the mode, None for the card. title: what is shown. circle:
    width to height of one in the system's picture."""

    size_mm: tuple[float, float]
    tube: bool
    size: tuple[int, int]
    hidden: tuple[float, float, float, float]
    box: tuple[int, int, int, int] | None = None
    title: str = ""
    circle: float = 1.0


class GeometryDrawing(Instrument):
    least = QSize(320, 260)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "The picture on its screen, to scale")
        self._glass: GlassDrawn | None = None
        self._image: QImage | None = None

    def show_glass(self, glass: GlassDrawn | None, image: QImage | None) -> None:
        """image: the test card in the mode's own size."""
        self._glass, self._image = glass, image
        if glass is not None:
            left, right, top, bottom = glass.hidden
            self.setAccessibleDescription(
                f"{glass.title}: hidden left {left:g}, right {right:g}, top {top:g}, bottom {bottom:g}"
            )
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        glass, scale = self._glass, self.theme.scale
        if glass is None:
            self.say(painter, box, "Choose a display in Plan.")
            return
        rim, foot = 26 * scale, 38 * scale
        wide_mm, high_mm = glass.size_mm
        room = box.adjusted(rim + 20, rim, -rim - 20, -rim - foot)
        per_mm = min(room.width() / wide_mm, room.height() / high_mm)
        seen = QRectF(0, 0, wide_mm * per_mm, high_mm * per_mm)
        seen.moveCenter(room.center())
        case = seen.adjusted(-rim, -rim, rim, rim)
        self.block(painter, case, "bezel", radius=16 if glass.tube else 5)
        self.block(painter, seen.adjusted(-3, -3, 3, 3), "glass", radius=12 if glass.tube else 2)
        picture = self._picture(glass, seen)
        if self._image is not None:
            painter.save()
            painter.setClipRect(seen)
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(picture, self._fitted(picture))
            if glass.box is not None:
                self._shade(painter, picture, glass)
            painter.restore()
        pen = QPen(self.theme.color("amber"), 1.4, Qt.PenStyle.DashLine)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(pen)
        painter.drawRect(picture)
        self._measures(painter, glass, seen, case)
        words = glass.title if glass.box else f"{wide_mm:g} × {high_mm:g}\u202fmm; dashed: where the picture ends"
        painter.setFont(self.theme.font("label"))
        painter.setPen(self.theme.color("muted"))
        room = QRectF(box.left(), box.bottom() - 34 * scale, box.width(), 34 * scale)
        painter.drawText(room, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, visible(words))

    def _fitted(self, picture: QRectF) -> QImage:
        """The card in about the pixels that it takes here: lines of one pixel stay visible."""
        assert self._image is not None
        ratio = self.devicePixelRatioF()
        size = QSize(max(1, round(picture.width() * ratio)), max(1, round(picture.height() * ratio)))
        return self._image.scaled(size, transformMode=Qt.TransformationMode.SmoothTransformation)

    @staticmethod
    def _picture(glass: GlassDrawn, seen: QRectF) -> QRectF:
        """Where the whole of the mode's picture lies, behind the bezel too."""
        left, right, top, bottom = glass.hidden
        across, down = glass.size
        x = seen.width() / max(1.0, across - left - right)
        y = seen.height() / max(1.0, down - top - bottom)
        return QRectF(seen.left() - left * x, seen.top() - top * y, across * x, down * y)

    def _shade(self, painter: QPainter, picture: QRectF, glass: GlassDrawn) -> None:
        """A system's own box in the mode: round it the glass is dark."""
        assert glass.box is not None
        left, top, wide, high = glass.box
        x, y = picture.width() / glass.size[0], picture.height() / glass.size[1]
        own = QRectF(picture.left() + left * x, picture.top() + top * y, wide * x, high * y)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.theme.color("glass", 235))
        for dark in (
            QRectF(picture.left(), picture.top(), picture.width(), own.top() - picture.top()),
            QRectF(picture.left(), own.bottom(), picture.width(), picture.bottom() - own.bottom()),
            QRectF(picture.left(), own.top(), own.left() - picture.left(), own.height()),
            QRectF(own.right(), own.top(), picture.right() - own.right(), own.height()),
        ):
            if dark.width() > 0 and dark.height() > 0:
                painter.drawRect(dark)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(self.theme.color("phosphor"), 1.6))
        painter.drawRect(own)
        radius = min(own.width(), own.height()) * 0.4
        painter.drawEllipse(own.center(), radius * glass.circle, radius)

    def _measures(self, painter: QPainter, glass: GlassDrawn, seen: QRectF, case: QRectF) -> None:
        scale, font = self.theme.scale, self.theme.mono("small")
        left, right, top, bottom = glass.hidden
        places = (
            (QPointF((case.left() + seen.left()) / 2, seen.center().y()), left),
            (QPointF((case.right() + seen.right()) / 2, seen.center().y()), right),
            (QPointF(seen.center().x(), (case.top() + seen.top()) / 2), top),
            (QPointF(seen.center().x(), (case.bottom() + seen.bottom()) / 2), bottom),
        )
        for index, (at, value) in enumerate(places):
            spot = QRectF(0, 0, (38 if index > 1 else 26) * scale, 16 * scale)
            spot.moveCenter(at)
            painter.setPen(self.theme.color("phosphor"))
            painter.setFont(font)
            painter.drawText(spot.adjusted(-8, 0, 8, 0), Qt.AlignmentFlag.AlignCenter, f"{value:.0f}")
