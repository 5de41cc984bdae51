"""Entries as ruled lines: time, operation, what, and its first details; read piece by piece, however many there are."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QAbstractListModel, QItemSelectionModel, QModelIndex, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QFont, QImage, QPainter, QPen, QPixmap
from PyQt6.QtWidgets import QAbstractItemView, QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem

from kyklon.app.theme.tokens import Theme
from kyklon.base.shown import visible
from kyklon.record.logbook import Entry, noted_words

PIECE = 200  # entries read at a time
_DETAILS = 3  # lines of its details that an entry shows in the list
_PITCH, _DAY, _THUMB = 21, 25, 52  # px: a line, a day's heading, a row of thumbnails
_MOST_THUMBS = 8

More = Callable[[int, Callable[[tuple[Entry, ...]], object]], object]


class EntryModel(QAbstractListModel):
    """Newest first. more: asks for entries before an id; the answer comes when it comes."""

    def __init__(self, more: More) -> None:
        super().__init__()
        self._more = more
        self._asked = False
        self._ended = True
        self._turn = 0
        self.rows: list[Entry] = []

    def show(self, rows: tuple[Entry, ...]) -> None:
        """Begin anew with the first piece."""
        self.beginResetModel()
        self.rows, self._asked, self._ended = list(rows), False, len(rows) < PIECE
        self._turn += 1
        self.endResetModel()

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008 # Qt's own default
        """Override."""
        return 0 if parent.isValid() else len(self.rows)

    def canFetchMore(self, _parent: QModelIndex) -> bool:
        """Override."""
        return not self._ended and not self._asked

    def fetchMore(self, _parent: QModelIndex) -> None:
        """Override."""
        if self._ended or self._asked or not self.rows:
            return
        self._asked, turn = True, self._turn

        def there(rows: tuple[Entry, ...]) -> None:
            if turn != self._turn:
                return
            self._asked, self._ended = False, len(rows) < PIECE
            if rows:
                self.beginInsertRows(QModelIndex(), len(self.rows), len(self.rows) + len(rows) - 1)
                self.rows += rows
                self.endInsertRows()

        self._more(self.rows[-1].id, there)

    def first_of_day(self, row: int) -> bool:
        """Whether the entry above it is of another day."""
        return row == 0 or self.rows[row - 1].at[:10] != self.rows[row].at[:10]

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Override."""
        if not index.isValid():
            return None
        entry = self.rows[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return visible(f"{entry.at[:16].replace('T', ' ')} {entry.words}")
        if role == Qt.ItemDataRole.ToolTipRole and entry.detail:
            return visible(entry.detail[:600], lines=True)
        return None


def _details(entry: Entry) -> list[str]:
    lines = entry.detail.splitlines()
    return [*lines[: _DETAILS - 1], f"… {len(lines) - _DETAILS + 1} more lines"] if len(lines) > _DETAILS else lines


class _Lines(QStyledItemDelegate):
    def __init__(self, theme: Theme, model: EntryModel) -> None:
        super().__init__()
        self._theme, self._model = theme, model
        self._thumbs: dict[str, QPixmap] = {}

    def sizeHint(self, _option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        """Override."""
        entry, px = self._model.rows[index.row()], self._theme.px
        high = px(_PITCH) * (1 + len(_details(entry)))
        high += px(_DAY) if self._model.first_of_day(index.row()) else 0
        high += px(_THUMB + 6) if any(each.thumb for each in entry.files) else 0
        return QSize(200, round(high))

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        """Override."""
        if painter is None:
            return
        entry, theme, px = self._model.rows[index.row()], self._theme, self._theme.px
        box = QRectF(option.rect)
        painter.save()
        y = box.top()
        if self._model.first_of_day(index.row()):
            place = QRectF(box.left() + px(4), y, box.width(), px(_DAY))
            self._write(painter, place, entry.at[:10], theme.head("label"), "muted")
            y += px(_DAY)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(QRectF(box.left(), y, box.width(), box.bottom() - y), theme.color("teal_soft"))
        painter.setPen(QPen(theme.color("grid"), 1))
        painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
        pitch = px(_PITCH)
        place = QRectF(box.left() + px(4), y, px(46), pitch)
        self._write(painter, place, entry.at[11:16], theme.mono("small"), "muted")
        if entry.operation:
            place = QRectF(box.left() + px(50), y, px(28), pitch)
            self._write(painter, place, str(entry.operation), theme.head("section"), "teal")
        words = f"“{entry.title}”{noted_words(entry.noted)}" if entry.kind == "own" else entry.words
        left = box.left() + px(80)
        weight = 600 if entry.kind == "own" else 500
        place = QRectF(left, y, box.right() - left - px(4), pitch)
        self._write(painter, place, words, theme.font("body", weight=weight), "ink")
        y += pitch
        for line in _details(entry):
            place = QRectF(left, y, box.right() - left - px(4), pitch)
            font = theme.mono("small") if line[:1] in "+-@" else theme.font("label")
            self._write(painter, place, line, font, "muted")
            y += pitch
        shown = [each for each in entry.files if each.thumb][:_MOST_THUMBS]
        for number, each in enumerate(shown):
            picture = self.thumb(each.digest, each.thumb)
            if not picture.isNull():
                small = picture.scaledToHeight(round(px(_THUMB)), Qt.TransformationMode.SmoothTransformation)
                painter.drawPixmap(QPointF(left + number * px(_THUMB * 1.5), y + px(2)), small)
        painter.restore()

    def thumb(self, digest: str, data: bytes) -> QPixmap:
        """A thumbnail, decoded once."""
        if digest not in self._thumbs:
            if len(self._thumbs) > 600:
                self._thumbs.clear()
            self._thumbs[digest] = QPixmap.fromImage(QImage.fromData(data, "JPEG"))
        return self._thumbs[digest]

    def _write(self, painter: QPainter, box: QRectF, words: str, font: QFont, token: str) -> None:
        painter.setFont(font)
        painter.setPen(self._theme.color(token))
        plain = painter.fontMetrics().elidedText(visible(words), Qt.TextElideMode.ElideRight, int(box.width()))
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, plain)


class EntryList(QListView):
    """One or two entries can be chosen."""

    def __init__(self, theme: Theme, model: EntryModel) -> None:
        super().__init__()
        self.setModel(model)
        self._lines = _Lines(theme, model)
        self.setItemDelegate(self._lines)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setUniformItemSizes(False)
        self.setAccessibleName("Logbook entries, newest first")
        self.setFrameShape(QListView.Shape.NoFrame)
        self.viewport().setAutoFillBackground(False)
        self.setStyleSheet("QListView { background: transparent; }")

    def choose(self, rows: list[int]) -> None:
        """Choose these rows, and no others."""
        selection = self.selectionModel()
        if selection is not None:
            selection.clearSelection()
            for row in rows:
                selection.select(self.model().index(row, 0), QItemSelectionModel.SelectionFlag.Select)

    def chosen(self) -> list[int]:
        """Rows that are chosen, from the top."""
        selection = self.selectionModel()
        return sorted(index.row() for index in selection.selectedIndexes()) if selection is not None else []
