"""What fits: games against room, the systems' shares, what stays behind, and what a larger card would add."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableView

from kyklon.app.pages.library.choice_plot import ChoicePlot, Fit, Part
from kyklon.app.pages.library.game_table import GameModel
from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, FigureRows, Sheet, column, label, row
from kyklon.app.widgets.fields import FieldEditor
from kyklon.base.quantities import counted, show_bytes, show_share
from kyklon.catalogue.chosen import known_systems
from kyklon.model.library import Scan
from kyklon.operations.library.choose import SIZES
from kyklon.operations.library.naming import chosen_more, curve_of

_SHARE = 0.9  # of a card's bytes that games may take beside the system, CP


class ChoiceView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.plot = ChoicePlot(self.theme)
        self.instrument = self.plot
        self._sheet = Sheet("What fits", "games by space used: best value per byte first")
        self._sheet.add(self.plot)
        self.model = GameModel()
        self._table = QTableView()
        self._table.setTabKeyNavigation(False)
        self._table.setModel(self.model)
        self._table.setShowGrid(False)
        self._table.verticalHeader().hide()
        self._table.setAccessibleName("Games left out")
        self._table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self._table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        for hidden in (2, 4, 5):
            self._table.hideColumn(hidden)
        for section, wide in ((1, 110), (3, 84)):
            self._table.horizontalHeader().setSectionResizeMode(section, QHeaderView.ResizeMode.Fixed)
            self._table.setColumnWidth(section, round(self.theme.px(wide)))
        self._left = Sheet("Left out")
        self._left.add(self._table)
        self._room = Choice(self.theme, "Space for games", self._on_room)
        self._room.setMinimumContentsLength(14)
        self._bytes = FieldEditor(self.theme, "library.room_bytes", session.edit)
        self._saves = FieldEditor(self.theme, "library.save_bytes", session.edit)
        self._figures = FigureRows(self.theme)
        self._more = label("", "small", wrap=True)
        side = Sheet("Space")
        side.add(
            label("Card", "small"),
            self._room,
            label("or in bytes; 0 = no limit", "small"),
            self._bytes.widget,
            label("Saves, for each game", "small"),
            self._saves.widget,
            self._figures,
            self._more,
            1,
            label("Set marks on the Shelves tab: favourite, always include, never include.", "small", wrap=True),
        )
        side.setFixedWidth(side_px(self.theme))
        left = column(self._sheet, self._left, spacing=12)
        left.setStretch(0, 6)
        left.setStretch(1, 5)
        whole = row(left, side, spacing=14)
        whole.setStretch(0, 1)
        self.setLayout(whole)
        self._shown: Any = None

    def refresh(self) -> None:
        """Override."""
        build, scan = self.build, self.session.world.scan
        choices = [("0", "no limit"), *((str(round(gb * 1e9 * _SHARE)), f"card of {gb}\u202fGB") for gb in SIZES)]
        value = str(build.library.room_bytes)
        if value not in {key for key, _words in choices}:
            choices.append((value, show_bytes(build.library.room_bytes)))
        self._room.set_choices(tuple(choices), value)
        self._bytes.show(build.library.room_bytes)
        self._saves.show(build.library.save_bytes)
        asked = (scan, build.library)
        if scan is None or asked == self._shown:
            return
        self._shown = asked
        systems = known_systems(build, self.session.catalogue)
        kept = [game for game in scan.games if game.ready]
        parts = tuple(
            Part(
                system.name,
                sum(g.size for g in kept if g.system == system.id),
                sum(g.system == system.id for g in kept),
            )
            for system in systems
        )
        self.plot.show_fit(Fit(curve_of(scan, build.library), build.library.room_bytes, len(kept), parts))
        left = tuple(game for game in scan.games if any(reason.code == "left-out" for reason in game.reasons))
        self.model.set_games(left, {system.id: system.name for system in systems})
        self._left.set_note(counted(len(left), "game") if left else "nothing: all ready games are included")
        self._show_figures(scan, len(kept))

    def _show_figures(self, scan: Scan, kept: int) -> None:
        told = scan.choice
        rows = [("Included", f"{kept} games")]
        if told is not None:
            rows += [
                ("Space used", show_bytes(told.used)),
                ("Free space left", show_bytes(told.room - told.used)),
                ("Short of the optimum by, at most", show_share(told.gap, 2)),
            ]
        else:
            rows.append(("Space used", show_bytes(sum(game.size for game in scan.ready))))
        rows.append(("In clusters of", show_bytes(scan.cluster)))
        self._figures.set_rows(tuple(rows))
        more = chosen_more(scan, self.build, self.session.folder) if told is not None and told.left else None
        errors = "\n".join(scan.list_errors)
        self._more.setText(
            errors
            or (f"A {more[0] // 10**9} GB card would hold {len(more[1].kept) - kept} more games." if more else "")
        )

    def _on_room(self, value: str) -> None:
        self.session.edit("library.room_bytes", int(value))
