"""The parts of the shelf as lines: thousands of them, filtered while somebody types."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from PyQt6.QtCore import QAbstractListModel, QModelIndex, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QFrame, QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem

from kyklon.app.theme.tokens import Theme
from kyklon.base.shown import visible

ROLE = Qt.ItemDataRole.UserRole


@dataclass(frozen=True)
class Entry:
    """A line. kind and id as in the catalogue; words: its kind for the screen; broken: why it cannot be used."""

    kind: str
    id: str
    name: str
    words: str
    note: str = ""
    own: bool = False
    used: bool = False
    broken: str = ""

    @property
    def place(self) -> tuple[str, str]:
        return self.kind, self.id


class _Model(QAbstractListModel):
    def __init__(self) -> None:
        super().__init__()
        self.entries: list[Entry] = []

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008 # Qt's own default
        """Override."""
        return 0 if parent.isValid() else len(self.entries)

    def data(self, index: QModelIndex, role: int = 0) -> Any:
        """Override."""
        if not index.isValid() or index.row() >= len(self.entries):
            return None
        entry = self.entries[index.row()]
        if role == ROLE:
            return entry
        if role in (Qt.ItemDataRole.AccessibleTextRole, Qt.ItemDataRole.DisplayRole):
            return visible(f"{entry.name}, {entry.words}, {'own' if entry.own else 'shipped'}")
        return None

    def put(self, entries: list[Entry]) -> None:
        self.beginResetModel()
        self.entries = entries
        self.endResetModel()


class _Delegate(QStyledItemDelegate):
    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        """Override."""
        return QSize(200, round(self._theme.px(44)))

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        """Override."""
        assert painter is not None
        entry: Entry = index.data(ROLE)
        theme, px = self._theme, self._theme.px
        box = QRectF(option.rect)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(box, theme.color("teal_soft"))
            painter.fillRect(QRectF(box.left(), box.top(), 3, box.height()), theme.color("teal"))
        painter.setPen(theme.color("grid"))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        tag = "cannot be used" if entry.broken else "yours" if entry.own else "shipped"
        painter.setFont(theme.font("label", weight=600 if entry.own else 400))
        wide = painter.fontMetrics().horizontalAdvance(tag) + px(4)
        painter.setPen(theme.color("red" if entry.broken else "teal" if entry.own else "muted"))
        right = QRectF(box.right() - wide - px(10), box.top() + px(4), wide, px(19))
        painter.drawText(right, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, tag)
        upper = QRectF(box.left() + px(12), box.top() + px(4), right.left() - box.left() - px(18), px(19))
        painter.setFont(theme.font("body", weight=600))
        painter.setPen(theme.color("ink"))
        name = painter.fontMetrics().elidedText(visible(entry.name), Qt.TextElideMode.ElideRight, int(upper.width()))
        painter.drawText(upper, Qt.AlignmentFlag.AlignVCenter, name)
        painter.setFont(theme.font("label"))
        painter.setPen(theme.color("muted"))
        said = " · ".join(
            filter(None, (entry.words, "in this build" if entry.used else "", visible(entry.broken or entry.note)))
        )
        lower = QRectF(upper.left(), upper.bottom(), box.width() - px(24), px(18))
        said = painter.fontMetrics().elidedText(said, Qt.TextElideMode.ElideRight, int(lower.width()))
        painter.drawText(lower, Qt.AlignmentFlag.AlignVCenter, said)
        painter.restore()


class PartList(QListView):
    """All parts that match what is asked for; emits the entry that was chosen."""

    chosen = pyqtSignal(object)  # Entry

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._model = _Model()
        self._all: list[Entry] = []
        self._words: list[str] = []
        self._delegate = _Delegate(theme)
        self.setModel(self._model)
        self.setItemDelegate(self._delegate)
        self.setUniformItemSizes(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("Parts")
        self.selectionModel().currentChanged.connect(self._on_current)

    def show_entries(self, entries: list[Entry]) -> None:
        """All that there are; what is shown of them is said by filter()."""
        self._all = entries
        self._words = [
            f"{entry.name} {entry.id} {entry.words} {entry.note} {'yours' if entry.own else 'shipped'}".lower()
            for entry in entries
        ]

    def filter(self, words: str, kind: str, *, own: bool) -> int:
        """Show those that hold every word, of one kind or '' for all; how many there are."""
        texts: list[str] = self._words
        rows: Sequence[int] = range(len(self._all))
        for word in words.lower().split():  # word by word, so that each has less to look through
            rows = [row for row in rows if word in texts[row]]
        found = [self._all[row] for row in rows]
        if kind or own:
            found = [entry for entry in found if kind in ("", entry.kind) and (entry.own or not own)]
        if found != self._model.entries:
            place = self.current.place if self.current else None
            self._model.put(found)
            if place:
                self.choose(*place)
        return len(found)

    @property
    def shown(self) -> list[Entry]:
        return self._model.entries

    @property
    def current(self) -> Entry | None:
        index = self.currentIndex()
        return index.data(ROLE) if index.isValid() else None

    def choose(self, kind: str, part_id: str) -> bool:
        """Make a part the current one; False when it is not shown."""
        for number, entry in enumerate(self._model.entries):
            if entry.place == (kind, part_id):
                self.setCurrentIndex(self._model.index(number))
                self.scrollTo(self._model.index(number))
                return True
        return False

    def _on_current(self, index: QModelIndex, _before: QModelIndex) -> None:
        if index.isValid():
            self.chosen.emit(index.data(ROLE))
