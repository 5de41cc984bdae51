"""Every game as a row of a table: filtered and sorted at a key, however many there are."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import PurePosixPath
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt

from kyklon.base.quantities import show_bytes
from kyklon.base.shown import visible
from kyklon.model.library import REASONS, Game

NAMED_BY = {"list": "by its checksum", "title": "by its name", "yours": "by you", "": "from the file"}


def state_of(game: Game) -> str:
    """In a word or two what becomes of it."""
    if game.reasons:
        return "; ".join(dict.fromkeys(REASONS[reason.code] for reason in game.reasons))
    return "ready, uncertain match" if game.doubtful else "ready"


COLUMNS: tuple[tuple[str, Callable[[Game], str]], ...] = (
    ("Title", lambda game: game.called),
    ("System", lambda game: game.system),
    ("File", lambda game: PurePosixPath(game.files[0]).name),
    ("Size", lambda game: show_bytes(game.size)),
    ("Named", lambda game: "uncertain" if game.doubtful else NAMED_BY[game.naming.how if game.naming else ""]),
    ("Status", state_of),
)
_KEYS: tuple[Callable[[Game], Any], ...] = (
    lambda game: game.called.casefold(),
    lambda game: game.system,
    lambda game: game.key.casefold(),
    lambda game: game.size,
    lambda game: game.naming.confidence if game.naming else -1.0,
    state_of,
)


class GameModel(QAbstractTableModel):
    """Rows of games; replaced as a whole. marks: a word before the title, by key."""

    def __init__(self) -> None:
        super().__init__()
        self._all: tuple[Game, ...] = ()
        self._hay: list[str] = []
        self._rows: list[int] = []
        self._orders: dict[int, list[int]] = {}
        self._sorted: tuple[int, bool] = (-1, False)
        self._needle, self._waiting = "", False
        self._names: Mapping[str, str] = {}
        self._marks: Mapping[str, str] = {}

    def set_games(
        self, games: tuple[Game, ...], names: Mapping[str, str] | None = None, marks: Mapping[str, str] | None = None
    ) -> None:
        """names: of the systems, by id."""
        names, marks = names or {}, marks or {}
        if games == self._all and names == self._names:
            if marks != self._marks:
                self._marks = marks
                self.dataChanged.emit(self.index(0, 0), self.index(max(0, len(self._rows) - 1), 0))
            return
        self._all, self._names, self._marks, self._orders = games, names, marks, {}
        self._hay = [f"{g.called}\n{g.key}\n{names.get(g.system, g.system)}\n{state_of(g)}".casefold() for g in games]
        self._apply()

    def filter(self, needle: str, *, waiting: bool = False) -> None:
        """Only rows in which every word of the needle stands; waiting: only games that will not appear."""
        self._needle, self._waiting = needle.casefold(), waiting
        self._apply()

    def _apply(self) -> None:
        self.beginResetModel()
        words, hay = self._needle.split(), self._hay
        rows: list[int] | range = self._order()
        for word in words:
            rows = [row for row in rows if word in hay[row]]
        if self._waiting:
            rows = [row for row in rows if self._all[row].reasons]
        self._rows = list(rows)
        self.endResetModel()

    def _order(self) -> list[int] | range:
        column, down = self._sorted
        if column < 0:
            return range(len(self._all))
        if column not in self._orders:
            key = _KEYS[column]
            keys = [key(game) for game in self._all]
            self._orders[column] = sorted(range(len(keys)), key=keys.__getitem__)
        return self._orders[column][::-1] if down else self._orders[column]

    @property
    def games(self) -> list[Game]:
        """Those that are shown, in order."""
        return [self._all[row] for row in self._rows]

    def game_at(self, row: int) -> Game:
        return self._all[self._rows[row]]

    def row_of(self, game: Game) -> int:
        """The row of a game, -1 where it is not shown."""
        return next((row for row, number in enumerate(self._rows) if self._all[number].key == game.key), -1)

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        """Override."""
        self._sorted = column, order == Qt.SortOrder.DescendingOrder
        self._apply()

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008 # Qt's own default
        """Override."""
        return 0 if parent.isValid() else len(self._rows)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008 # Qt's own default
        """Override."""
        return 0 if parent.isValid() else len(COLUMNS)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Override."""
        if not index.isValid():
            return None
        game, column = self.game_at(index.row()), index.column()
        if role == Qt.ItemDataRole.ToolTipRole:
            return visible(" ".join(reason.text for reason in game.reasons) or COLUMNS[column][1](game))
        if role == Qt.ItemDataRole.TextAlignmentRole and column == 3:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        if column == 0 and game.key in self._marks:
            return visible(f"{self._marks[game.key]} {game.called}")
        words = COLUMNS[column][1](game)
        return visible(self._names.get(words, words) if column == 1 else words)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Override."""
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return COLUMNS[section][0]
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if section == 3 else Qt.AlignmentFlag.AlignLeft
            return side | Qt.AlignmentFlag.AlignVCenter
        return None
