"""The base of all drawings: painted from plain values, crisp at any scale, exported as PDF, SVG or PNG."""

from __future__ import annotations

from math import ceil
from typing import Any

from PyQt6.QtCore import QBuffer, QIODevice, QPointF, QRectF, QSize, QSizeF, Qt
from PyQt6.QtGui import QColor, QFont, QImage, QPageSize, QPainter, QPaintEvent, QPdfWriter, QPen, QPixmap
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QSizePolicy, QWidget

from kyklon.app.theme.tokens import Theme
from kyklon.base.errors import WrongUse
from kyklon.base.shown import visible


class Instrument(QWidget):
    """Subclasses draw in draw(painter, box); text helpers keep to the tokens."""

    least = QSize(300, 160)

    def __init__(self, theme: Theme, name: str) -> None:
        super().__init__()
        self.theme = theme
        self._kept: QPixmap | None = None
        self._what: tuple[Any, ...] = ()
        self.setAccessibleName(name)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        theme.tell(self, lambda own: own.update())

    def sizeHint(self) -> QSize:
        """Override."""
        return self.least * self.theme.scale

    def minimumSizeHint(self) -> QSize:
        """Override."""
        return QSize(self.least.width(), round(self.least.height() * self.theme.scale))  # a page scrolls upright

    def draw(self, painter: QPainter, box: QRectF) -> None:
        raise NotImplementedError

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override."""
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._drawn())
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(self.theme.color("teal"), 1, Qt.PenStyle.DotLine))
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
        painter.end()

    def shows(self, *what: Any) -> bool:
        """Whether this is news; what is shown already need not be drawn again."""
        if what == self._what:
            return False
        self._what = what
        return True

    def update(self) -> None:
        """Override: draw it anew. Where Qt alone wants it painted, the last drawing serves."""
        self._kept = None
        super().update()

    def _drawn(self) -> QPixmap:
        ratio = self.devicePixelRatioF()
        wanted = QSize(ceil(self.width() * ratio), ceil(self.height() * ratio))
        if self._kept is None or self._kept.size() != wanted or self._kept.devicePixelRatio() != ratio:
            self._kept = QPixmap(wanted)
            self._kept.setDevicePixelRatio(ratio)
            self._kept.fill(Qt.GlobalColor.transparent)
            self._render(QPainter(self._kept), QRectF(self.rect()))
        return self._kept

    # --- helpers -----------------------------------------------------------------------------------------------

    def text(
        self,
        painter: QPainter,
        at: QPointF | QRectF,
        words: str,
        *,
        font: QFont | None = None,
        token: str = "ink",
        align: Qt.AlignmentFlag = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
    ) -> QRectF:
        """Text in a box (shortened to fit) or from a point on its middle line; returns what it covers."""
        words = visible(words)
        painter.setFont(font or self.theme.font("label"))
        painter.setPen(self.theme.color(token))
        metrics = painter.fontMetrics()
        wide = metrics.horizontalAdvance(words) + 1
        if isinstance(at, QPointF):
            left = at.x()
            if align & Qt.AlignmentFlag.AlignHCenter:
                left -= wide / 2
            elif align & Qt.AlignmentFlag.AlignRight:
                left -= wide
            at = QRectF(left, at.y() - metrics.height() / 2, wide, metrics.height())
        elif wide > at.width():
            words = metrics.elidedText(words, Qt.TextElideMode.ElideRight, int(at.width()))
        painter.drawText(at, align, words)
        return at

    def say(self, painter: QPainter, box: QRectF, words: str) -> None:
        """Words in the middle, where there is nothing to draw yet."""
        self.text(painter, box.center(), words, token="muted", align=Qt.AlignmentFlag.AlignHCenter)

    def line(
        self,
        painter: QPainter,
        a: QPointF,
        b: QPointF,
        token: str = "hairline",
        width: float = 1.0,
        style: Qt.PenStyle = Qt.PenStyle.SolidLine,
    ) -> None:
        painter.setPen(QPen(self.theme.color(token), width, style))
        painter.drawLine(a, b)

    def block(
        self,
        painter: QPainter,
        box: QRectF,
        fill: str | QColor,
        edge: str | QPen = "",
        *,
        radius: float = 3.0,
        width: float = 1.0,
    ) -> None:
        """A filled box; fill is a token or a colour, edge a token, a pen or ''."""
        painter.setBrush(self.theme.color(fill) if isinstance(fill, str) else fill)
        if isinstance(edge, str):
            painter.setPen(QPen(self.theme.color(edge), width) if edge else Qt.PenStyle.NoPen)
        else:
            painter.setPen(edge)
        painter.drawRoundedRect(box, radius, radius)

    # --- export ------------------------------------------------------------------------------------------------

    def rendered(self, ending: str) -> bytes:
        """The drawing as it is now, as the bytes of a .pdf, .svg or .png. Raises WrongUse for another ending."""
        area = QRectF(0, 0, self.width(), self.height())
        buffer = QBuffer()
        buffer.open(QIODevice.OpenModeFlag.WriteOnly)
        if ending.lower() == ".pdf":
            writer = QPdfWriter(buffer)
            writer.setPageSize(QPageSize(QSizeF(area.width(), area.height()) * 0.75, QPageSize.Unit.Point))
            writer.setPageMargins(writer.pageLayout().margins() * 0)
            writer.setResolution(96)
            self._render(QPainter(writer), area)
        elif ending.lower() == ".svg":
            drawing = QSvgGenerator()
            drawing.setOutputDevice(buffer)
            drawing.setSize(self.size())
            drawing.setViewBox(area)
            self._render(QPainter(drawing), area)
        elif ending.lower() == ".png":
            image = QImage(self.size() * 2, QImage.Format.Format_ARGB32)
            image.setDevicePixelRatio(2)
            image.fill(self.theme.color("sheet"))
            self._render(QPainter(image), area)
            image.save(buffer, "PNG")
        else:
            raise WrongUse(
                f"A drawing cannot be written as {ending or 'a file without an extension'}.",
                do="Use .pdf, .svg or .png.",
            )
        return buffer.data().data()

    def _render(self, painter: QPainter, box: QRectF) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.draw(painter, box)
        painter.end()
