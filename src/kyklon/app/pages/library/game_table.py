"""The games that will not appear, and why, as a table model."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import PurePosixPath
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt

from kyklon.base.shown import visible
from kyklon.model.library import REASONS, Game

COLUMNS: tuple[tuple[str, Callable[[Game], str]], ...] = (
    ("File", lambda game: PurePosixPath(game.files[0]).name),
    ("Where", lambda game: PurePosixPath(game.files[0]).parent.as_posix() + "/"),
    ("Why it will not appear", lambda game: "; ".join(REASONS[reason.code] for reason in game.reasons)),
    ("In full", lambda game: " ".join(reason.text for reason in game.reasons)),
)


class GameModel(QAbstractTableModel):
    """Rows of games; replaced as a whole."""

    def __init__(self) -> None:
        super().__init__()
        self._games: tuple[Game, ...] = ()
        self._cells: list[tuple[str, ...]] = []

    def set_games(self, games: tuple[Game, ...]) -> None:
        self.beginResetModel()
        self._games = games
        self._cells = [
            tuple(visible(words(game)) for _name, words in COLUMNS) for game in games
        ]  # asked for at every paint
        self.endResetModel()

    @property
    def games(self) -> tuple[Game, ...]:
        return self._games

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008 # Qt's own default
        """Override."""
        return 0 if parent.isValid() else len(self._games)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008 # Qt's own default
        """Override."""
        return 0 if parent.isValid() else len(COLUMNS)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Override."""
        if not index.isValid() or role not in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            return None
        column = len(COLUMNS) - 1 if role == Qt.ItemDataRole.ToolTipRole else index.column()
        return self._cells[index.row()][column]

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """Override."""
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return COLUMNS[section][0]
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        return None
