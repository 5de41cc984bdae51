"""Drawings in mm as pages of their own size."""

from __future__ import annotations

from PyQt6.QtCore import QBuffer, QByteArray, QIODevice, QRectF, QSizeF
from PyQt6.QtGui import QPageSize, QPainter, QPdfWriter
from PyQt6.QtSvg import QSvgRenderer

_MM = 25.4  # mm an inch, exact
_DPI = 600  # of the written page: a hairline is 0.04 mm


def pdf_of(svg: str) -> bytes:
    """An SVG drawing in mm as a PDF page of its own size, so that 100 % on the printer is its true size."""
    drawing = QSvgRenderer(QByteArray(svg.encode()))
    box = drawing.viewBoxF()
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    writer = QPdfWriter(buffer)
    writer.setPageSize(QPageSize(QSizeF(box.width(), box.height()), QPageSize.Unit.Millimeter))
    writer.setPageMargins(writer.pageLayout().margins() * 0)
    writer.setResolution(_DPI)
    painter = QPainter(writer)
    drawing.render(painter, QRectF(0, 0, box.width() / _MM * _DPI, box.height() / _MM * _DPI))
    painter.end()
    return bytes(buffer.data().data())
