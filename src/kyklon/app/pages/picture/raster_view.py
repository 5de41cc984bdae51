"""The display to scale with the raster as it will look: picture, borders, what the bezel hides, test pattern."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument

BARS = ("#D9C79A", "#58B7B5", "#58A98D", "#4F9F58", "#8F529C", "#A34A3C", "#3E5E95", "#222B2E")  # muted colour bars


@dataclass(frozen=True)
class Raster:
    """aspect: width to height of the glass. left, top: border as a share of the active area. overscan: share of an
    edge. turned: the picture lies on its side. lines: lines of the picture, for the scan-line texture."""

    aspect: float
    left: float
    top: float
    overscan: float
    tube: bool
    turned: bool
    lines: int
    holds: bool


class RasterView(Instrument):
    least = QSize(240, 180)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "The picture as it will look")
        self._raster: Raster | None = None

    def show_raster(self, raster: Raster | None) -> None:
        self._raster = raster
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        raster = self._raster
        if raster is None:
            self.say(painter, box, "Choose a display in Plan.")
            return
        rim = 20 * self.theme.scale
        high = min(box.height(), (box.width() - 2 * rim) / raster.aspect + 2 * rim) - 2
        case = QRectF(0, 0, (high - 2 * rim) * raster.aspect + 2 * rim, high)
        case.moveCenter(box.center())
        glass = case.adjusted(rim, rim, -rim, -rim)
        self.block(painter, case, "bezel", radius=14 if raster.tube else 5)
        self.block(painter, glass.adjusted(-8, -8, 8, 8), "glass", radius=10 if raster.tube else 2)
        if not raster.holds:
            self._draw_rolling(painter, glass)
            return
        # the active area overshoots the glass: `overscan` of each edge lies behind the bezel
        grow_x, grow_y = (glass.width() * raster.overscan, glass.height() * raster.overscan)
        active = glass.adjusted(-grow_x, -grow_y, grow_x, grow_y) if raster.tube else glass
        picture = active.adjusted(
            active.width() * raster.left,
            active.height() * raster.top,
            -active.width() * raster.left,
            -active.height() * raster.top,
        )
        painter.save()
        painter.setClipRect(glass)
        self._draw_pattern(painter, picture, raster)
        painter.restore()
        edge = QPen(QColor("#E7C877"), 1.2, Qt.PenStyle.DashLine)
        painter.setPen(edge)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(picture.intersected(glass.adjusted(-6, -6, 6, 6)))

    def _draw_pattern(self, painter: QPainter, picture: QRectF, raster: Raster) -> None:
        painter.save()
        if raster.turned:
            painter.translate(picture.center())
            painter.rotate(90)
            picture = QRectF(-picture.height() / 2, -picture.width() / 2, picture.height(), picture.width())
        painter.setPen(Qt.PenStyle.NoPen)
        bar = picture.width() / len(BARS)
        for index, color in enumerate(BARS):
            painter.setBrush(QColor(color))
            painter.drawRect(QRectF(picture.left() + index * bar, picture.top(), bar + 0.5, picture.height() * 0.62))
        step = picture.width() / 16
        for index in range(16):
            painter.setBrush(QColor.fromHsv(0, 0, 10 + index * 14))
            painter.drawRect(
                QRectF(
                    picture.left() + index * step,
                    picture.top() + picture.height() * 0.62,
                    step + 0.5,
                    picture.height() * 0.16,
                )
            )
        painter.setBrush(QColor("#11191C"))
        painter.drawRect(
            QRectF(picture.left(), picture.top() + picture.height() * 0.78, picture.width(), picture.height() * 0.22)
        )
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(255, 255, 255, 170), 1.2))
        # the circle is round only where the pixels come out square: drawn in the picture's own shape
        radius = min(picture.width(), picture.height()) * 0.44
        painter.drawEllipse(picture.center(), radius, radius)
        painter.restore()
        if raster.tube:
            self._draw_scan_lines(painter, picture, raster)

    def _draw_scan_lines(self, painter: QPainter, picture: QRectF, raster: Raster) -> None:
        if raster.turned or picture.height() / raster.lines < 1.0:
            return
        painter.setPen(QPen(QColor(0, 0, 0, 70), 0.6))
        for index in range(raster.lines):
            y = picture.top() + index * picture.height() / raster.lines
            painter.drawLine(QPointF(picture.left(), y), QPointF(picture.right(), y))

    def _draw_rolling(self, painter: QPainter, glass: QRectF) -> None:
        """No lock: torn bands."""
        painter.save()
        painter.setClipRect(glass)
        painter.setPen(Qt.PenStyle.NoPen)
        band = glass.height() / 14
        for index in range(14):
            slip = (index * 37 % 90) - 45
            painter.setBrush(QColor(BARS[index % len(BARS)]))
            painter.setOpacity(0.55)
            painter.drawRect(QRectF(glass.left() + slip, glass.top() + index * band, glass.width(), band * 0.7))
        painter.restore()
        words = QRectF(0, 0, glass.width() * 0.8, self.theme.px(30))
        words.moveCenter(glass.center())
        self.block(painter, words, "red", radius=3)
        self.text(
            painter,
            words,
            "Out of range",
            font=self.theme.font("body", weight=600),
            token="sheet",
            align=Qt.AlignmentFlag.AlignCenter,
        )
