"""The base of all drawings: painted from plain values, crisp at any scale, exported as PDF, SVG or PNG."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, QSize, QSizeF, Qt
from PyQt6.QtGui import QColor, QFont, QImage, QPageSize, QPainter, QPaintEvent, QPdfWriter, QPen
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QSizePolicy, QWidget

from kyklon.app.theme.tokens import Theme
from kyklon.base.errors import WrongUse


class Instrument(QWidget):
    """Subclasses draw in draw(painter, bounds); text helpers keep to the tokens."""

    least = QSize(300, 160)

    def __init__(self, theme: Theme, name: str) -> None:
        super().__init__()
        self.theme = theme
        self.setAccessibleName(name)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        theme.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """Override."""
        return self.least * self.theme.scale

    def minimumSizeHint(self) -> QSize:
        """Override."""
        return self.least

    def draw(self, painter: QPainter, bounds: QRectF) -> None:
        raise NotImplementedError

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.draw(painter, QRectF(self.rect()))
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(self.theme.color("teal"), 1, Qt.PenStyle.DotLine))
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
        painter.end()

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
        elide: Qt.TextElideMode = Qt.TextElideMode.ElideRight,
    ) -> QRectF:
        """Text in a bounds (shortened to fit) or from a point on its middle line; returns what it covers."""
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
            words = metrics.elidedText(words, elide, int(at.width()))
        painter.drawText(at, align, words)
        return at

    def line(self, painter: QPainter, a: QPointF, b: QPointF, token: str = "hairline", width: float = 1.0,
             style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> None:  # fmt: skip
        painter.setPen(QPen(self.theme.color(token), width, style))
        painter.drawLine(a, b)

    def block(self, painter: QPainter, bounds: QRectF, fill: str | QColor, edge: str = "", *, radius: float = 3.0,
              width: float = 1.0, style: Qt.PenStyle = Qt.PenStyle.SolidLine) -> None:  # fmt: skip
        """A filled bounds; fill is a token or a colour, edge a token or ''."""
        painter.setBrush(self.theme.color(fill) if isinstance(fill, str) else fill)
        painter.setPen(QPen(self.theme.color(edge), width, style) if edge else Qt.PenStyle.NoPen)
        painter.drawRoundedRect(bounds, radius, radius)

    # --- export ------------------------------------------------------------------------------------------------

    def export(self, path: Path) -> None:
        """Write the drawing as it is now; the ending says how. Raises WrongUse for another ending."""
        kind = path.suffix.lower()
        bounds = QRectF(0, 0, self.width(), self.height())
        if kind == ".pdf":
            writer = QPdfWriter(str(path))
            writer.setPageSize(QPageSize(QSizeF(bounds.width(), bounds.height()) * 0.75, QPageSize.Unit.Point))
            writer.setPageMargins(writer.pageLayout().margins() * 0)
            writer.setResolution(96)
            self._render(QPainter(writer), bounds)
        elif kind == ".svg":
            drawing = QSvgGenerator()
            drawing.setFileName(str(path))
            drawing.setSize(self.size())
            drawing.setViewBox(bounds)
            self._render(QPainter(drawing), bounds)
        elif kind == ".png":
            image = QImage(self.size() * 2, QImage.Format.Format_ARGB32)
            image.setDevicePixelRatio(2)
            image.fill(self.theme.color("sheet"))
            self._render(QPainter(image), bounds)
            image.save(str(path))
        else:
            raise WrongUse(f"{path.name}: a drawing is written as .pdf, .svg or .png.")

    def _render(self, painter: QPainter, bounds: QRectF) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.draw(painter, bounds)
        painter.end()
