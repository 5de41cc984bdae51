"""The blocks of identification data, byte by byte: what is said in which bytes."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument

_PARTS = (
    (0, 8, "header", "muted"),
    (8, 20, "maker, date, version", "teal"),
    (20, 25, "kind and size", "amber"),
    (25, 35, "colour", "red"),
    (35, 54, "old modes", "muted"),
    (54, 126, "timings, name, rates", "teal"),
    (126, 127, "count", "amber"),
    (127, 128, "sum", "muted"),
)
_COLUMNS = 32


@dataclass(frozen=True)
class BlockDrawn:
    name: str
    data: bytes


class BlocksDrawing(Instrument):
    least = QSize(480, 130)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "EDID blocks")
        self._blocks: tuple[BlockDrawn, ...] = ()
        self._words = ""

    def show_blocks(self, blocks: tuple[BlockDrawn, ...], words: str) -> None:
        """words: shown where there is no block."""
        if not self.shows(blocks, words):
            return
        self._blocks, self._words = blocks, words
        self.setAccessibleDescription(", ".join(block.name for block in blocks) or words)
        self.update()

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        if not self._blocks:
            painter.setPen(self.theme.color("muted"))
            painter.setFont(self.theme.font("label"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self._words)
            return
        scale, count = self.theme.scale, len(self._blocks)
        gap = 14 * scale
        wide = (box.width() - gap * (min(count, 2) - 1)) / min(count, 2)
        rows = -(-count // 2)
        high = (box.height() - gap * 0.5 * (rows - 1)) / rows
        for index, block in enumerate(self._blocks):
            spot = QRectF(
                box.left() + index % 2 * (wide + gap), box.top() + index // 2 * (high + gap * 0.5), wide, high
            )
            self._draw_block(painter, spot, block, first=index == 0)

    def _draw_block(self, painter: QPainter, spot: QRectF, block: BlockDrawn, *, first: bool) -> None:
        scale = self.theme.scale
        head = QRectF(spot.left(), spot.top(), spot.width(), 16 * scale)
        self.text(painter, head, block.name, font=self.theme.font("label", weight=600))
        used = sum(1 for byte in block.data if byte)
        self.text(
            painter,
            head,
            f"{used} of 128 bytes in use",
            font=self.theme.mono("small"),
            token="muted",
            align=Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
        )
        grid = spot.adjusted(0, 19 * scale, 0, -(18 * scale if first else 0))
        rows = 128 // _COLUMNS
        across, down = grid.width() / _COLUMNS, min(28 * scale, grid.height() / rows)
        for place, byte in enumerate(block.data):
            row, column = divmod(place, _COLUMNS)
            token = self._token(place) if first or place in (0, 127) else self._token_of_extension(block, place)
            cell = QRectF(grid.left() + column * across, grid.top() + row * down, across - 1, down - 1)
            self.block(painter, cell, self.theme.color(token, 40 + (150 if byte else 0)), radius=1)
        if first:
            x = spot.left()
            for words, token in (
                ("maker", "teal"),
                ("size", "amber"),
                ("colour", "red"),
                ("timings, name, rates", "teal"),
            ):
                key = QRectF(x, grid.top() + rows * down + 4 * scale, 9 * scale, 9 * scale)
                if key.bottom() > spot.bottom():
                    break
                self.block(painter, key, self.theme.color(token, 190), radius=1)
                self.text(
                    painter,
                    QRectF(key.right() + 4, key.top() - 4, 150 * scale, 16 * scale),
                    words,
                    font=self.theme.font("small"),
                    token="muted",
                )
                x = key.right() + 14 * scale + painter.fontMetrics().horizontalAdvance(words)

    @staticmethod
    def _token(place: int) -> str:
        return next(token for low, high, _words, token in _PARTS if low <= place < high)

    @staticmethod
    def _token_of_extension(block: BlockDrawn, place: int) -> str:
        timings = block.data[2] if block.data[0] == 2 else 5
        return "teal" if place >= timings else "amber"
