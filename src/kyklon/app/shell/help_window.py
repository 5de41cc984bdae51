"""The help as a window: contents and search at the left, the topic with its drawing at the right."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from PyQt6.QtCore import QSize, Qt, QUrl
from PyQt6.QtGui import QImage, QKeySequence, QShortcut, QTextBlockFormat, QTextCursor, QTextDocument
from PyQt6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QTextBrowser, QWidget

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import button, column, label, row
from kyklon.base.errors import KyklonError
from kyklon.help import topics

_ID, _HEADING = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1
_WIDE = 600  # pixels of a drawing at 100 % text

DrawingOf = Callable[[str], QImage | None]  # by topic


def escaped(text: str) -> str:
    """Plain text as Markdown shows it: what a build holds never becomes a link, a picture or a heading."""
    return re.sub(r"([\\`*_{}\[\]<>()#+\-.!|~&])", r"\\\1", text.replace("\n", " "))


class _Pages(QTextBrowser):
    """Shows a topic; pictures are the drawings of the open build."""

    def __init__(self, theme: Theme, drawing: DrawingOf) -> None:
        super().__init__()
        self._theme, self._drawing = theme, drawing
        self.topic = ""
        self.setOpenLinks(False)
        self.setAccessibleName("Help")

    def loadResource(self, kind: int, name: QUrl) -> Any:
        """Override."""
        if kind == int(QTextDocument.ResourceType.ImageResource.value):
            image = self._drawing(self.topic)
            if image is None:
                return QImage(1, 1, QImage.Format.Format_ARGB32)
            wide = round(self._theme.px(_WIDE))
            return image.scaledToWidth(min(wide, image.width()), Qt.TransformationMode.SmoothTransformation)
        return None  # nothing is ever read from a disk or a network

    def show_topic(self, found: topics.Topic, heading: str = "") -> None:
        self.topic = found.id
        self.document().setDefaultFont(self._theme.font("body"))
        self.setMarkdown(found.text)
        self._space()
        self.moveCursor(self.textCursor().MoveOperation.Start)
        if heading:
            self.find(heading)
            cursor = self.textCursor()
            cursor.clearSelection()
            self.setTextCursor(cursor)
            self.verticalScrollBar().setValue(self.verticalScrollBar().value() + self.cursorRect().top())

    def _space(self) -> None:
        """Air between paragraphs, which Markdown leaves to whoever shows it."""
        px = self._theme.px
        cursor = QTextCursor(self.document())
        cursor.beginEditBlock()
        block = self.document().begin()
        while block.isValid():
            shape, listed = block.blockFormat(), block.textList() is not None
            heading = shape.headingLevel()
            if not cursor.currentTable():
                shape.setTopMargin(px(14) if heading > 1 else 0)
                shape.setBottomMargin(px(4) if listed else px(8) if heading < 2 else px(3))
            picture = "\N{OBJECT REPLACEMENT CHARACTER}" in block.text()
            shape.setLineHeight(100 if picture else 125, QTextBlockFormat.LineHeightTypes.ProportionalHeight.value)  # type: ignore[arg-type] # Qt wants the number
            cursor.setPosition(block.position())
            cursor.setBlockFormat(shape)
            if listed:
                style = block.textList().format()
                style.setIndent(1)
                block.textList().setFormat(style)
            block = block.next()
        self.document().setIndentWidth(px(20))
        cursor.endEditBlock()


class HelpWindow(QWidget):
    """further: topics that the program makes, by id, shown below those of the files."""

    def __init__(self, theme: Theme, drawing: DrawingOf, further: tuple[topics.Topic, ...] = ()) -> None:
        super().__init__()
        self.setWindowTitle("Help – Kyklon")
        self.setObjectName("centre")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground, True)
        self._theme = theme
        self._further = {each.id: each for each in further}
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search all topics")
        self.search.setAccessibleName("Search the help")
        self.search.textChanged.connect(lambda _text: self._fill())
        self.search.returnPressed.connect(self._first)
        self.contents = QListWidget()
        self.contents.setAccessibleName("Topics")
        self.contents.setWordWrap(True)
        self.contents.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.contents.currentItemChanged.connect(lambda item, _old: self._show_item(item))
        self._browser = _Pages(theme, drawing)
        left = QWidget()
        left.setLayout(column(label("Help", "title"), self.search, self.contents, spacing=10))
        left.setFixedWidth(round(theme.px(270)))
        close = button("Close", self.close, "outline")
        right = column(self._browser, row(label("F1 shows the topic of the page.", "muted"), 1, close), spacing=10)
        body = row(left, right, spacing=14, margins=(20, 16, 20, 16))
        body.setStretch(1, 1)
        self.setLayout(body)
        QShortcut(QKeySequence(QKeySequence.StandardKey.Find), self, self.search.setFocus)
        QShortcut(QKeySequence("Esc"), self, self.close)
        self._fill()
        self.resize(QSize(round(theme.px(1040)), round(theme.px(720))))

    def show_topic(self, name: str, here: str = "") -> None:
        """A topic by id, or a finding's code; the first where there is none. here: what it says of this build."""
        self.search.clear()
        try:
            found = self._further.get(name) or topics.topic(name)
        except KyklonError:
            found = topics.topic("start")
        if here:
            head, _, body = found.text.partition("\n")
            found = replace(found, text=f"{head}\n\n**In this build:** {escaped(here)}\n\n{body}")
        listed = found.id if found.id in topics.topics() or found.id in self._further else "findings"
        for number in range(self.contents.count()):
            item = self.contents.item(number)
            if item is not None and item.data(_ID) == listed:
                self.contents.setCurrentItem(item)
        self._browser.show_topic(found)
        self.show()
        self.raise_()
        self.activateWindow()

    @property
    def text(self) -> str:
        """What is shown, as plain text."""
        return self._browser.toPlainText()

    def _fill(self) -> None:
        """The contents, or what the search finds."""
        self.contents.blockSignals(True)
        self.contents.clear()
        words = self.search.text().strip()
        if words:
            for hit in topics.find(words):
                where = f"{hit.topic.title} · {hit.heading}" if hit.heading else hit.topic.title
                self._add(f"{where}\n{hit.line}" if hit.line not in where else where, hit.topic.id, hit.heading)
            if not self.contents.count():
                self._add_heading("Nothing was found")
        else:
            known = topics.topics()
            for heading, ids in topics.GROUPS:
                if heading:
                    self._add_heading(heading)
                for name in ids:
                    self._add(known[name].title, name)
            for name, each in self._further.items():
                self._add(each.title, name)
        self.contents.blockSignals(False)

    def _add(self, text: str, name: str, heading: str = "") -> None:
        item = QListWidgetItem(text)
        item.setData(_ID, name)
        item.setData(_HEADING, heading)
        self.contents.addItem(item)

    def _add_heading(self, text: str) -> None:
        item = QListWidgetItem(text.upper())
        item.setFlags(Qt.ItemFlag.NoItemFlags)
        item.setFont(self._theme.font("label", weight=600))
        self.contents.addItem(item)

    def _first(self) -> None:
        """Enter in the search shows the first that was found."""
        self.contents.setCurrentRow(0)
        self.contents.setFocus()

    def _show_item(self, item: QListWidgetItem | None) -> None:
        if item is not None and (name := item.data(_ID)):
            self._browser.show_topic(self._further.get(name) or topics.topic(name), item.data(_HEADING) or "")
