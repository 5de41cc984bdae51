"""Operation 60: the shelves, what will not show, and the way onto the machine."""

from __future__ import annotations

from math import ceil
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QAbstractItemView, QCheckBox, QFileDialog, QHeaderView, QTableView

from kyklon.app.pages.library.game_table import GameModel
from kyklon.app.pages.library.shelf_map import Shelf, ShelfMap
from kyklon.app.pages.page import OperationPage
from kyklon.app.session.session import Session
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Elided, FigureRows, Sheet, button, row, set_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show_bytes
from kyklon.catalogue.chosen import systems_of
from kyklon.model.library import Game
from kyklon.operations.library.acts import copy_games
from kyklon.record.folder import resolve

COPYING = "Copying games"


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


class LibraryPage(OperationPage):
    number = 60
    cautions = (
        "Use only games and system files that you have the right to use. Nothing is downloaded.",
        "A front end shows a system only when its folder holds a game, and only after a restart.",
    )

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._map = ShelfMap(self.theme)
        self._map.chosen.connect(self._on_game_chosen)
        self._shelves = Sheet("Shelves", "each spine is a game, as wide as it is large; hatched ones will not appear")
        self._shelves.add(self._map)
        self._model = GameModel()
        self._table = _WholeRows(self.theme)
        self._table.setModel(self._model)
        self._table.setShowGrid(False)
        self._table.verticalHeader().hide()
        self._table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self._table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self._table.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self._table.setAccessibleName("Games that will not appear")
        header = self._table.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        self._table.hideColumn(3)
        self._table.selectionModel().currentRowChanged.connect(self._on_row_chosen)
        self._why = Elided("muted")
        self._waiting = Sheet("Games that will not appear")
        self._waiting.add(self._table, self._why)
        self._figures = FigureRows(self.theme)
        self._all = QCheckBox("all versions of a game")
        set_tip(self._all, "Off: one version of each, by the order of regions and the later revision")
        self._all.toggled.connect(self._on_all_toggled)
        self._copy = button("Copy the games", self._on_copy_clicked, "primary")
        move = Sheet("Onto the machine")
        move.add(
            self._figures,
            1,
            self._all,
            self._copy,
            row(button("Choose library…", self._on_library_clicked), button("Choose stick…", self._on_stick_clicked)),
        )
        move.setFixedWidth(round(self.theme.px(264)))
        self.body.addWidget(self._shelves, 5)
        self.body.addLayout(row(self._waiting, move, spacing=14), 4)

    def instrument(self) -> Instrument | None:
        """Override."""
        return self._map

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        session = self.session
        scan, build = session.world.scan, session.build
        self._all.blockSignals(True)
        self._all.setChecked(build.library.keep_all_revisions)
        self._all.blockSignals(False)
        if scan is None:
            self.set_subject(session.world.scan_error or "Reading the library…")
            return
        shelves = []
        for system in systems_of(build, session.catalogue):
            games = scan.of(system.id)
            waits = any(
                not each.usable and each.wanted.required for each in scan.system_files if each.system == system.id
            )
            shelves.append(Shelf(system.name, games, "system file missing" if waits else ""))
        self._map.show_shelves(tuple(shelves))
        waiting = tuple(sorted((game for game in scan.games if not game.ready), key=_mess_first))
        if waiting != self._model.games:
            self._model.set_games(waiting)
        self._waiting.set_note(f"{len(waiting)} of {len(scan.games)}")
        there = sum(map(len, session.world.on_machine.games.values())) if session.world.on_machine else 0
        size = sum(game.size for game in scan.ready)
        self.set_subject(f"{len(scan.ready)} of {len(scan.games)} games are ready")
        self._figures.set_rows((
            ("Ready", f"{len(scan.ready)} games"),
            ("Size", show_bytes(size)),
            ("Destination", build.library.destination.rsplit("/", 1)[-1] or "none"),
            ("Already there", f"{there} games"),
        ))  # fmt: skip
        self._show_copy()

    def _show_copy(self) -> None:
        scan, destination = self.session.world.scan, self.session.build.library.destination
        ready = len(scan.ready) if scan else 0
        busy = any(job.title == COPYING for job in self.session.jobs.running)
        self._copy.setEnabled(bool(ready) and bool(destination) and not busy)
        self._copy.setText(f"Copy {ready} games" if destination else "Choose a stick first")

    # --- acting --------------------------------------------------------------------------------------------------

    def _on_game_chosen(self, game: Game) -> None:
        if game in self._model.games:
            self._table.selectRow(self._model.games.index(game))
        why = " ".join(reason.text for reason in game.reasons) or "ready"
        self._why.set_full(f"{game.title}: {why}")

    def _on_row_chosen(self, current: Any, _previous: Any) -> None:
        if current.isValid():
            game = self._model.games[current.row()]
            self._why.set_full(" ".join(reason.text for reason in game.reasons))

    def _on_library_clicked(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "Folder with the games", str(self.session.folder))
        if path:
            self.session.edit("library.folder", path)

    def _on_stick_clicked(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "Where the games go", str(self.session.folder))
        if path:
            self.session.edit("library.destination", path)

    def _on_all_toggled(self, on: bool) -> None:
        if on != self.session.build.library.keep_all_revisions:
            self.session.edit("library.keep_all_revisions", on)

    def _on_copy_clicked(self) -> None:
        self.copy_games()

    def copy_games(self) -> None:
        """Copy what is ready, as a job; then look at the destination again."""
        session = self.session
        folder, build, catalogue = session.folder, session.build, session.catalogue
        destination = resolve(folder, build.library.destination)

        def done(result: Any) -> None:
            _build, report = result
            session.said.emit(
                f"{report.games} games copied and read back; {report.already_there} files were already there."
            )
            session.acted()
            session.look("library")

        session.jobs.start(COPYING, lambda watch: copy_games(folder, build, catalogue, destination, watch), done)
        self._show_copy()


def _mess_first(game: Game) -> tuple[bool, str]:
    """Games with a fault of their own before those that only wait for a system file."""
    return all(reason.code == "system-file" for reason in game.reasons), game.files[0]
