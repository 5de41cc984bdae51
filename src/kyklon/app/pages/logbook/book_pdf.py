"""A book on paper, in the look of the window: contents with page numbers and links, sections, tables, drawings, photos.

Laid out twice: once to learn the page numbers, once to write. A unit is a CSS pixel, 1/96 inch.
"""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import dataclass, field

from PyQt6.QtCore import QBuffer, QByteArray, QIODevice, QPointF, QRectF, Qt
from PyQt6.QtGui import (
    QColor,
    QFont,
    QFontMetricsF,
    QImage,
    QPageSize,
    QPainter,
    QPdfWriter,
    QPen,
    QTextLayout,
    QTextOption,
)
from PyQt6.QtSvg import QSvgRenderer

from kyklon.app.theme.tokens import LIGHT, Theme
from kyklon.base.progress import UNWATCHED, Progress, Watch
from kyklon.base.shown import visible
from kyklon.operations.book.blocks import Block, Book, Code, Head, Picture, Section, Table, Text

_WIDE, _HIGH = 794.0, 1123.0  # ISO 216 A4 in CSS pixels
_LEFT, _RIGHT, _TOP, _BOTTOM = 64.0, 56.0, 72.0, 70.0
_SCALE = 4.0  # device pixels a unit: 384 dpi
_GAP, _CELL = 12.0, 7.0
_MOST_COLUMN = 0.6  # of the page's width, that one column may take
_PHOTO_PX = 1400  # longer side of a photo on paper; 150 dpi over the page's width
_CONTENTS_LINES = 36
_CARD_SCALE = 1.35  # of the type on the page for the cabinet, which is read from a step away


@dataclass
class _Link:
    """A line of the contents: its box on which page, and the section that it leads to."""

    page: int
    box: QRectF
    section: int


@dataclass
class _Layout:
    """painter: None while page numbers are learnt. turn: begins a new page."""

    theme: Theme
    book: Book
    pages: dict[int, int]
    painter: QPainter | None = None
    turn: Callable[[], object] = lambda: None
    page: int = 1
    y: float = _TOP
    section: Section | None = None
    begun: dict[int, int] = field(default_factory=dict)
    links: list[_Link] = field(default_factory=list)

    # --- pages -----------------------------------------------------------------------------------------------

    def new_page(self) -> None:
        self.foot()
        self.page += 1
        self.turn()
        self.y = _TOP
        self.head()

    def head(self) -> None:
        if self.section is None:
            return
        small = self.theme.font("small")
        self.words(QPointF(_LEFT, 34), self.book.title, small, LIGHT.muted)
        name = f"{self.section.number or ''} {self.section.title}".strip()
        self.words(QPointF(_WIDE - _RIGHT, 34), name, small, LIGHT.muted, right=True)
        self.rule(46)

    def foot(self) -> None:
        if self.book.card:
            return
        self.rule(_HIGH - 52)
        self.words(
            QPointF(_WIDE - _RIGHT, _HIGH - 36), str(self.page), self.theme.mono("small"), LIGHT.muted, right=True
        )
        self.words(QPointF(_LEFT, _HIGH - 36), "Made with Kyklon", self.theme.font("small"), LIGHT.muted)

    def room(self, high: float) -> None:
        """A new page where less than that is left."""
        if self.y + high > _HIGH - _BOTTOM and self.y > _TOP:
            self.new_page()

    # --- drawing ---------------------------------------------------------------------------------------------

    def words(self, at: QPointF, words: str, font: QFont, colour: str, *, right: bool = False) -> None:
        """One line; at its middle's left, or right, end."""
        if self.painter is None:
            return
        metrics = QFontMetricsF(font)
        left = at.x() - (metrics.horizontalAdvance(words) if right else 0)
        self.painter.setFont(font)
        self.painter.setPen(QColor(colour))
        self.painter.drawText(QPointF(left, at.y() + (metrics.ascent() - metrics.descent()) / 2), words)

    def rule(self, y: float, colour: str = LIGHT.hairline, width: float = 1.0, left: float = _LEFT) -> None:
        if self.painter is not None:
            self.painter.setPen(QPen(QColor(colour), width))
            self.painter.drawLine(QPointF(left, y), QPointF(_WIDE - _RIGHT, y))

    def lines(self, words: str, font: QFont, wide: float) -> list[str]:
        """The words broken to a width; also where a single word is wider."""
        found = []
        for row in visible(words, lines=True).expandtabs(4).split("\n"):
            if not row:
                found.append("")
                continue
            layout = QTextLayout(row, font)
            option = QTextOption()
            option.setWrapMode(QTextOption.WrapMode.WrapAtWordBoundaryOrAnywhere)
            layout.setTextOption(option)
            layout.beginLayout()
            while (line := layout.createLine()).isValid():
                line.setLineWidth(max(20.0, wide))
                found.append(row[line.textStart() : line.textStart() + line.textLength()].rstrip())
            layout.endLayout()
        return found or [""]

    def text(self, words: str, font: QFont, colour: str, left: float = _LEFT) -> None:
        pitch = QFontMetricsF(font).height() * 1.15
        for line in self.lines(words, font, _WIDE - _RIGHT - left):
            self.room(pitch)
            self.words(QPointF(left, self.y + pitch / 2), line, font, colour)
            self.y += pitch

    # --- blocks ----------------------------------------------------------------------------------------------

    def block(self, block: Block) -> None:
        theme = self.theme
        if isinstance(block, Head):
            self.room(90)
            self.y += _GAP
            self.text(block.words, theme.head("section"), LIGHT.ink)
            self.y += 4
        elif isinstance(block, Text):
            self.said(block)
        elif isinstance(block, Table):
            self.table(block)
        elif isinstance(block, Code):
            self.code(block)
        else:
            self.picture(block)

    def said(self, block: Text) -> None:
        strong = block.role == "strong"
        font = self.theme.font("body", weight=600 if strong else 400)
        colour = {"muted": LIGHT.muted, "caution": LIGHT.amber}.get(block.role, LIGHT.ink)
        if block.role == "caution":
            self.room(26)
            self.words(QPointF(_LEFT, self.y + 10), "▲", font, LIGHT.amber)
            self.text(block.words, font, LIGHT.ink, _LEFT + 20)
        else:
            self.text(block.words, font, colour)
        self.y += 6

    def table(self, block: Table) -> None:
        head, body = self.theme.font("small", weight=600), self.theme.font("label")
        pitch = QFontMetricsF(body).height() * 1.12
        widths = self.widths(block, head, body)
        self.room(pitch * 3)
        self.heads(block, widths, head, pitch)
        most = _HIGH - _TOP - _BOTTOM - 3 * pitch
        for row in block.rows:
            cells = [self.lines(cell, body, wide - _CELL) for cell, wide in zip(row, widths, strict=True)]
            high = min(max(len(cell) for cell in cells) * pitch + 4, most)
            before = self.page
            self.room(high)
            if self.page != before:
                self.heads(block, widths, head, pitch)
            x = _LEFT
            for cell, wide in zip(cells, widths, strict=True):
                for number, line in enumerate(cell[: int(most / pitch)]):
                    self.words(QPointF(x, self.y + 2 + (number + 0.5) * pitch), line, body, LIGHT.ink)
                x += wide
            self.y += high
            self.rule(self.y, LIGHT.grid)
        self.y += _GAP

    def heads(self, block: Table, widths: list[float], font: QFont, pitch: float) -> None:
        if any(block.heads):
            x = _LEFT
            for name, wide in zip(block.heads, widths, strict=True):
                self.words(QPointF(x, self.y + pitch / 2), self.lines(name, font, wide)[0], font, LIGHT.muted)
                x += wide
            self.y += pitch + 2
        self.rule(self.y, LIGHT.ink, 1.2)

    def widths(self, block: Table, head: QFont, body: QFont) -> list[float]:
        """As wide as the widest cell where that fits, the widest columns giving way first."""
        heads, bodies = QFontMetricsF(head), QFontMetricsF(body)
        whole = _WIDE - _LEFT - _RIGHT
        wanted = []
        for place, name in enumerate(block.heads):
            rows = [line for row in block.rows for line in row[place].split("\n")]
            widest = max([bodies.horizontalAdvance(line[:200]) for line in rows] or [0.0])
            wanted.append(min(max(widest, heads.horizontalAdvance(name)) + _CELL + 6, whole * _MOST_COLUMN))
        if sum(wanted) <= whole:
            wanted[-1] += whole - sum(wanted)
            return wanted
        low, high = 20.0, whole
        for _ in range(40):  # the width above which columns are cut, so that all fit
            cut = (low + high) / 2
            low, high = (cut, high) if sum(min(each, cut) for each in wanted) <= whole else (low, cut)
        return [min(each, low) for each in wanted]

    def code(self, block: Code) -> None:
        font = self.theme.mono("small")
        pitch = QFontMetricsF(font).height() * 1.08
        self.room(pitch * 3)
        self.text(block.name, self.theme.font("label", weight=600), LIGHT.ink)
        for row in block.lines:
            for line in self.lines(row, font, _WIDE - _LEFT - _RIGHT - 12):
                self.room(pitch)
                if self.painter is not None:
                    self.painter.fillRect(
                        QRectF(_LEFT, self.y, _WIDE - _LEFT - _RIGHT, pitch + 0.5), QColor(LIGHT.sheet)
                    )
                    self.painter.fillRect(QRectF(_LEFT, self.y, 2, pitch + 0.5), QColor(LIGHT.teal))
                self.words(QPointF(_LEFT + 10, self.y + pitch / 2), line, font, LIGHT.ink)
                self.y += pitch
        self.y += _GAP

    def picture(self, block: Picture) -> None:
        wide = _WIDE - _LEFT - _RIGHT
        drawing = QSvgRenderer(QByteArray(block.data)) if block.ending == ".svg" else None
        image = QImage() if drawing is not None else QImage.fromData(block.data)
        size = drawing.viewBoxF().size() if drawing is not None else image.size().toSizeF()
        if size.width() <= 0 or size.height() <= 0:
            return
        most = (_HIGH - _TOP - _BOTTOM) * (0.8 if drawing is not None else 0.42)
        scale = min(wide / size.width(), most / size.height(), 1.6 if drawing is not None else 1.0)
        box = QRectF(_LEFT, self.y, size.width() * scale, size.height() * scale)
        self.room(box.height() + 26)
        box.moveTop(self.y)
        if self.painter is not None:
            if drawing is not None:
                drawing.setAspectRatioMode(Qt.AspectRatioMode.KeepAspectRatio)
                drawing.render(self.painter, box)
            else:
                small = Qt.TransformationMode.SmoothTransformation
                if max(image.width(), image.height()) > _PHOTO_PX:
                    image = image.scaled(_PHOTO_PX, _PHOTO_PX, Qt.AspectRatioMode.KeepAspectRatio, small)
                self.painter.drawImage(box, image)
        self.y += box.height() + 3
        self.text(block.caption, self.theme.font("small"), LIGHT.muted)
        self.y += _GAP

    # --- the whole -------------------------------------------------------------------------------------------

    def all(self, watch: Watch) -> None:
        if not self.book.card:
            self.cover()
            self.contents()
        for number, section in enumerate(self.book.sections):
            watch.check()
            if self.painter is not None:
                watch.sink(Progress("Writing the book", number, len(self.book.sections)))
            self.section = section
            if not self.book.card:
                self.new_page()
            self.begun[number] = self.page
            self.title(section)
            for block in section.blocks:
                self.block(block)
        self.foot()

    def cover(self) -> None:
        self.y = 150 if self.book.cover is not None else 300
        self.rule(self.y - 20, LIGHT.teal, 4)
        self.text(self.book.title, self._large(44), LIGHT.ink)
        self.y += 8
        self.text(self.book.subtitle, self.theme.font("title"), LIGHT.muted)
        self.y += 24
        for line in self.book.notes:
            self.text(line, self.theme.font("body"), LIGHT.ink)
        if self.book.cover is not None:
            self.y += 30
            self.picture(self.book.cover)
        self.foot()

    def _large(self, px: int) -> QFont:
        font = self.theme.head("title")
        font.setPixelSize(px)
        return font

    def contents(self) -> None:
        self.section = Section(0, "Contents", ())
        self.new_page()
        self.title(self.section)
        font, figures = self.theme.font("body"), self.theme.mono("body")
        for number, section in enumerate(self.book.sections[:_CONTENTS_LINES]):
            name = f"{section.number} {section.title}" if section.number else section.title
            middle = self.y + 12
            self.words(QPointF(_LEFT, middle), name, font, LIGHT.ink)
            page = str(self.pages.get(number, 0))
            self.words(QPointF(_WIDE - _RIGHT, middle), page, figures, LIGHT.ink, right=True)
            self.rule(self.y + 24, LIGHT.grid)
            self.links.append(_Link(self.page, QRectF(_LEFT, self.y, _WIDE - _LEFT - _RIGHT, 24), number))
            self.y += 26

    def title(self, section: Section) -> None:
        if section.number:
            self.words(QPointF(_LEFT, self.y + 18), str(section.number), self._large(34), LIGHT.teal)
        left = _LEFT + (56 if section.number else 0)
        self.words(QPointF(left, self.y + 20), section.title, self._large(26), LIGHT.ink)
        self.y += 44


def pdf_of_book(book: Book, theme: Theme, watch: Watch = UNWATCHED) -> bytes:
    """A4 pages with outline, contents that lead there, and page numbers. Raises Cancelled."""
    if book.card:
        theme = Theme()
        theme.set_scale(_CARD_SCALE)
    learnt = _Layout(theme, book, {})
    learnt.all(watch)
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    writer = QPdfWriter(buffer)
    writer.setPageSize(QPageSize(QPageSize.PageSizeId.A4))
    writer.setPageMargins(writer.pageLayout().margins() * 0)
    writer.setResolution(round(96 * _SCALE))
    writer.setTitle(book.title)
    writer.setCreator("Kyklon")
    painter = QPainter(writer)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.scale(_SCALE, _SCALE)
    layout = _Layout(theme, book, learnt.begun, painter, writer.newPage)
    try:
        layout.all(watch)
    finally:
        painter.end()
    return _linked(bytes(buffer.data().data()), layout)


def _linked(data: bytes, layout: _Layout) -> bytes:
    """The outline, and links from the contents to the sections."""
    from pypdf import PdfWriter
    from pypdf.annotations import Link

    made = PdfWriter(clone_from=io.BytesIO(data))
    for number, section in enumerate(layout.book.sections):
        name = f"{section.number or ''} {section.title}".strip()
        made.add_outline_item(title=name, page_number=layout.begun[number] - 1)
    high = float(made.pages[0].mediabox.height)
    unit = 72 / 96
    for link in layout.links:
        box = link.box
        place = (box.left() * unit, high - box.bottom() * unit, box.right() * unit, high - box.top() * unit)
        target = Link(rect=place, target_page_index=layout.begun[link.section] - 1)
        made.add_annotation(page_number=link.page - 1, annotation=target)
    held = io.BytesIO()
    made.write(held)
    return held.getvalue()
