"""The shelves, and every game of them in a table."""

from __future__ import annotations

from math import ceil
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence, QResizeEvent, QShortcut
from PyQt6.QtWidgets import QAbstractItemView, QCheckBox, QFileDialog, QHeaderView, QLineEdit, QTableView

from kyklon.app.pages.library.game_table import GameModel
from kyklon.app.pages.library.shelf_map import Shelf, ShelfMap
from kyklon.app.pages.library.text_dialog import TextDialog
from kyklon.app.pages.tab_view import TabView
from kyklon.app.session.session import Session
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Elided, Sheet, button, column, row, set_tip
from kyklon.catalogue.chosen import known_systems
from kyklon.model.library import Game

# key, list of the build, sign before the title, words
MARKS = (
    ("F", "favourites", "★", "favourite"),
    ("M", "must", "＋", "always include"),
    ("X", "never", "−", "never include"),
)


class _WholeRows(QTableView):
    """Ends with a whole row: the rows share the height there is."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Override."""
        room = self.viewport().height()
        self.verticalHeader().setDefaultSectionSize(ceil(room / max(1, int(room / self._theme.px(24)))))
        super().resizeEvent(event)


class ShelvesView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.map = ShelfMap(self.theme)
        self.map.chosen.connect(self._on_game_chosen)
        self.instrument = self.map
        self._shelves = Sheet("Shelves", "each spine is a game, as wide as it is large; hatched ones will not appear")
        self._shelves.add(self.map)
        self.model = GameModel()
        self.table = self._made_table()
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find a game")
        self.search.setAccessibleName("Find a game")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _text: self._filter())
        self.waiting = QCheckBox("only games that will not appear")
        self.waiting.toggled.connect(lambda _on: self._filter())
        self._all = QCheckBox("all versions of a game")
        set_tip(self._all, "Off: one version per game, by language and region priority, then latest revision")
        self._all.toggled.connect(self._on_all_toggled)
        self._why = Elided("muted")
        self._games = Sheet("Games")
        bar = row(self.search, self.waiting, self._all, button("Choose library…", self._on_library_clicked))
        bar.setStretch(0, 1)
        foot = row(
            self._why,
            *(
                button(f"{words} ({key})", lambda name=name: self.mark(name), "quiet")
                for key, name, _sign, words in MARKS
            ),
            button("Description… (D)", self.describe, "quiet"),
        )
        foot.setStretch(0, 1)
        self._games.add(bar, self.table, foot)
        whole = column(self._shelves, self._games, spacing=12)
        whole.setStretch(0, 5)
        whole.setStretch(1, 6)
        self.setLayout(whole)

    def _made_table(self) -> QTableView:
        table = _WholeRows(self.theme)
        table.setModel(self.model)
        table.setShowGrid(False)
        table.setSortingEnabled(True)
        table.horizontalHeader().setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        table.verticalHeader().hide()
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        table.setAccessibleName("Games")
        table.setTabKeyNavigation(False)  # Tab goes on to what comes next, and never stays in a table
        header = table.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        table.hideColumn(4)
        for section, wide in ((1, 100), (3, 76), (5, 176)):
            header.setSectionResizeMode(section, QHeaderView.ResizeMode.Fixed)
            table.setColumnWidth(section, round(self.theme.px(wide)))
        table.selectionModel().currentRowChanged.connect(self._on_row_chosen)
        for key, name, _sign, _words in MARKS:
            made = QShortcut(QKeySequence(key), table)
            made.setContext(Qt.ShortcutContext.WidgetShortcut)
            made.activated.connect(lambda name=name: self.mark(name))
        described = QShortcut(QKeySequence("D"), table)
        described.setContext(Qt.ShortcutContext.WidgetShortcut)
        described.activated.connect(self.describe)
        return table

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Override."""
        scan, build = self.session.world.scan, self.build
        self._all.blockSignals(True)
        self._all.setChecked(build.library.keep_all_revisions)
        self._all.blockSignals(False)
        if scan is None:
            return
        systems = known_systems(build, self.session.catalogue)
        shelves = []
        for system in systems:
            files = [file for file in scan.system_files if file.system == system.id]
            waits = any(not file.usable and file.wanted.required for file in files)
            shelves.append(Shelf(system.name, scan.of(system.id), "firmware file missing" if waits else ""))
        self.map.show_shelves(tuple(shelves))
        marks = {key: sign for _key, name, sign, _words in MARKS for key in getattr(build.library, name)}
        self.model.set_games(tuple(sorted(scan.games, key=_mess_first)), {s.id: s.name for s in systems}, marks)
        self._say_count()

    def _say_count(self) -> None:
        scan = self.session.world.scan
        if scan is not None:
            ready = f"{len(scan.ready)} of {len(scan.games)} will appear"
            shown = self.model.rowCount()
            self._games.set_note(ready if shown == len(scan.games) else f"{shown} shown; {ready}")

    def _filter(self) -> None:
        self.model.filter(self.search.text(), waiting=self.waiting.isChecked())
        self._say_count()

    # --- acting --------------------------------------------------------------------------------------------------

    def _on_game_chosen(self, game: Game) -> None:
        at = self.model.row_of(game)
        if at >= 0:
            self.table.selectRow(at)
        self._say_why(game)

    def _on_row_chosen(self, current: Any, _previous: Any) -> None:
        if current.isValid():
            self._say_why(self.model.game_at(current.row()))

    def _say_why(self, game: Game) -> None:
        why = " ".join(reason.text for reason in game.reasons) or "ready"
        self._why.set_full(f"{game.called}: {why}")

    def _chosen(self) -> Game | None:
        index = self.table.currentIndex()
        if not index.isValid():
            self.session.said.emit("Choose a game in the table first.")
            return None
        return self.model.game_at(index.row())

    def describe(self) -> None:
        """Edit what is told of the chosen game."""
        if (game := self._chosen()) is not None:
            TextDialog(self.session, game, self).exec()

    def mark(self, name: str) -> None:
        """Put the chosen game on one of the build's lists, or take it off."""
        game = self._chosen()
        if game is None:
            return
        key, library = game.key, self.build.library
        update = {
            each: tuple(k for k in getattr(library, each) if k != key or each != name)
            for each in ("favourites", "must", "never")
        }
        if key not in getattr(library, name):
            update[name] = (*update[name], key)
            for other in {"must": ("never",), "never": ("must",)}.get(name, ()):
                update[other] = tuple(each for each in update[other] if each != key)
        self.session.edit("library", library.model_copy(update=update), "Mark of a game")

    def _on_library_clicked(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "Folder with the games", str(self.session.folder))
        if path:
            self.session.edit("library.folder", path)

    def _on_all_toggled(self, on: bool) -> None:
        if on != self.build.library.keep_all_revisions:
            self.session.edit("library.keep_all_revisions", on)


def _mess_first(game: Game) -> tuple[int, str]:
    """Games with a fault of their own, those that only wait for a system file, those that are left out, the rest."""
    codes = {reason.code for reason in game.reasons}
    place = 3 if not codes else 2 if codes <= {"left-out", "version"} else 1 if codes == {"system-file"} else 0
    return place, game.key
