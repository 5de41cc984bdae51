"""The thin-line icon set: SVG on a 20 px grid, coloured from the tokens."""

from __future__ import annotations

from functools import cache
from importlib import resources

from PyQt6.QtCore import QByteArray, QRectF, Qt
from PyQt6.QtGui import QIcon, QPainter, QPixmap
from PyQt6.QtSvg import QSvgRenderer

from kyklon.app.theme.tokens import Theme


@cache
def _drawing(name: str) -> str:
    return (resources.files("kyklon.app.theme") / "icons" / f"{name}.svg").read_text(encoding="utf-8")


def icon(name: str, theme: Theme, token: str = "ink") -> QIcon:
    """An icon in a palette colour, at twice its size for sharp edges on dense screens."""
    text = _drawing(name).replace("currentColor", theme.color(token).name())
    side = round(40 * theme.scale)
    pixmap = QPixmap(side, side)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    QSvgRenderer(QByteArray(text.encode())).render(painter, QRectF(0, 0, side, side))
    painter.end()
    return QIcon(pixmap)
