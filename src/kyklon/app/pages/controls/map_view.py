"""Inputs on buttons for every system: solved together, held by hand, and a game's own map over its system's."""

from __future__ import annotations

from PyQt6.QtWidgets import QGridLayout, QLineEdit, QMenu, QWidget

from kyklon.app.pages.controls.bench import BenchView
from kyklon.app.pages.controls.map_grid import NONE, Cell, Grid, MapGrid
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, FigureRows, Sheet, button, column, label, row, scrolled, unmarked
from kyklon.app.widgets.kept import emptied
from kyklon.app.widgets.tick import Tick
from kyklon.base.shown import visible
from kyklon.catalogue.system_records import Emulator, System
from kyklon.model.build import edited
from kyklon.model.controls import ControlSettings, GameControls, MapPair, SystemMap
from kyklon.operations.controls import maps
from kyklon.operations.controls.hookup import chosen
from kyklon.operations.controls.maps import Board, Mapped

_TOPS = (("0", "away from seat 1"), ("90", "to its right"), ("180", "towards it"), ("270", "to its left"))


class MapView(BenchView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._pick = ("", "")
        self._game = ""
        self._solved: Mapped | None = None
        self._for: object = None
        self.grid = MapGrid(self.theme)
        self.instrument = self.grid
        self.grid.picked.connect(self._on_picked)
        self.grid.put.connect(self._on_put)
        sheet = Sheet("Button mapping", "pick an input, then the button for it; figures are costs in button spacings")
        self.solve = button(
            "Optimise mapping", self.on_solve, "outline", tip="Finds the cheapest mapping for all systems together"
        )
        self.clear = button("Reset to defaults", self._on_clear, "quiet", tip="Resets every mapping that is not locked")
        self.choose = button("Systems…", self._on_systems, tip="Which systems this build has")
        self._total = label("", "small")
        sheet.add(row(self.solve, self.clear, self._total, 1, self.choose), self.grid)
        sheet.body.setStretch(1, 1)
        lower = row(self._make_pair(), self._make_game(), self._make_picture(), spacing=12)
        for place, part in enumerate((4, 5, 3)):
            lower.setStretch(place, part)
        self.setLayout(column(sheet, lower, spacing=12))
        self.layout().setStretch(0, 1)

    def _make_pair(self) -> Sheet:
        self._pair = Sheet("The input", "cost and reason")
        self._terms = FigureRows(self.theme)
        self._why = label("", "muted", wrap=True)
        self.hold = button("Lock to this button", self._on_hold, tip="Stays put when the mapping is optimised again")
        self._pair.add(self._why, self._terms, 1, row(self.hold, 1))
        return self._pair

    def _make_game(self) -> Sheet:
        game = Sheet("Mapping for one game")
        self._games = Choice(self.theme, "Game", self._on_game)
        self._games.setMinimumContentsLength(12)
        self._name = QLineEdit()
        self._name.setPlaceholderText("a game's title")
        self._name.setAccessibleName("Title of the game")
        self._name.setMaxLength(200)
        self.own = button("Create game mapping", self._on_own)
        self.drop = button("Remove mapping", self._on_drop, "quiet")
        self._uses = QGridLayout()
        self._uses.setVerticalSpacing(2)
        self._ticks: dict[str, Tick] = {}
        holder = QWidget()
        holder.setLayout(column(self._uses, 1))
        game.add(row(self._games, self.drop), row(self._name, self.own), scrolled(holder, lambda: 24))
        game.setFixedHeight(round(self.theme.px(236)))
        game.body.setStretch(2, 1)
        return game

    def _make_picture(self) -> Sheet:
        picture = Sheet("The picture")
        self._top = Choice(self.theme, "Top of the picture points to", lambda _value: self._on_picture())
        self._top.set_choices(_TOPS, "0")
        self._top.setMinimumContentsLength(14)
        self._flips = Tick("flips for the player opposite")
        self._flips.clicked.connect(lambda _on: self._on_picture())
        picture.add(label("Its top points", "small"), self._top, self._flips, 1)
        return picture

    # --- showing -----------------------------------------------------------------------------------------------

    @property
    def picked(self) -> System | None:
        return next((system for system in self.systems if system.id == self._pick[0]), None)

    def refresh(self) -> None:
        """Override."""
        layout, systems, settings = self.layout_now, self.systems, self.settings
        if not any(system.id == self._pick[0] for system in systems):
            self._pick, self._game = (systems[0].id if systems else "", ""), ""
        if layout is None or not systems:
            self.grid.show_grid(Grid(), ("", ""))
            return
        board = Board(layout)
        told = maps.priced(layout, systems, settings)
        self.grid.show_grid(self._grid_of(board, systems, told, settings), self._pick)
        solved = self._solved if self._for == (layout, tuple(system.id for system in systems)) else None
        words = f"{told.total:.1f} button spacings in all"
        if solved is not None:
            more = told.total - solved.bound
            words += f"; no mapping costs less than {solved.bound:.1f}"
            if told.total > 1e-9:
                words += (
                    f", at most {100 * more / told.total:.1f}\u202f% above the best" if more > 1e-6 else ": the best"
                )
        self._total.setText(words)
        self._show_pair(told)
        self._show_game()
        own = settings.map_of(self._pick[0], self._game)
        self._top.setCurrentIndex(max(0, self._top.findData(str(own.picture if own else 0))))
        self._flips.setChecked(own.flips if own else True)

    def _grid_of(self, board: Board, systems: tuple[System, ...], told: Mapped, settings: ControlSettings) -> Grid:
        first = board.seats[0]
        ids = (*board.free, *board.small)
        names = {control.id: control.label for control in first.controls}
        cells: dict[tuple[str, str], tuple[Cell, ...]] = {}
        for system in systems:
            game = self._game if system.id == self._pick[0] else ""
            costs = {pair.input.id: pair.cost for pair in told.costs[system.id]}
            general, places = chosen(settings, system), chosen(settings, system, game)
            held = {
                pair.input
                for each in (settings.map_of(system.id), settings.map_of(system.id, game))
                if each
                for pair in each.pairs
                if pair.locked
            }
            free = {each.id for each in maps.free_inputs(system, board)}
            used = next((each.uses for each in settings.games if (each.system, each.game) == (system.id, game)), ())
            for each in system.inputs:
                place = places[each.id]
                if each.id not in free and place not in board.small:
                    continue
                if game and used and each.id in free and each.id not in used:
                    continue
                spot = place if place in ids else NONE
                cell = Cell(
                    each.id,
                    each.label,
                    costs.get(each.id, 0.0),
                    each.id in held,
                    each.id not in free,
                    bool(game) and places[each.id] != general[each.id],
                )
                cells[system.id, spot] = (*cells.get((system.id, spot), ()), cell)
        rows = tuple(
            (each.id, f"{each.name}*" if self._game and each.id == self._pick[0] else each.name) for each in systems
        )
        return Grid(rows, tuple((each, names[each]) for each in ids), cells)

    def _show_pair(self, told: Mapped) -> None:
        pair = next((cost for cost in told.costs.get(self._pick[0], ()) if cost.input.id == self._pick[1]), None)
        if pair is None:
            system = self.picked
            empty = told.empty(system.id) if system else ()
            names = ", ".join(each.label for each in empty)
            words = "Pick an input in the drawing."
            if empty and system is not None:
                emulator = self.session.catalogue.find(Emulator, system.emulator)
                asked = f" When {emulator.name} asks for one, hold any other button to skip it." if emulator else ""
                words = f"No button for {names}.{asked}"
            self._pair.set_title("The input")
            self._why.setText(words)
            self._why.show()
            self._terms.set_rows(())
            self.hold.setEnabled(False)
            return
        self._pair.set_title(visible(pair.input.label))
        self._why.setVisible(not pair.terms)
        self._why.setText("Already where players expect it: no cost.")
        rows = [(term.name, f"{term.cost:.2f}") for term in pair.terms]
        self._terms.set_rows((*rows, ("in all", f"{pair.cost:.2f} button spacings")) if rows else ())
        own = self.settings.map_of(self._pick[0])
        held = own is not None and any(each.input == pair.input.id and each.locked for each in own.pairs)
        self.hold.setEnabled(True)
        self.hold.setText("Unlock" if held else "Lock to this button")

    def _show_game(self) -> None:
        system = self.picked
        settings = self.settings
        games = tuple(game.game for game in settings.games if system is not None and game.system == system.id)
        self._games.set_choices(
            (("", "the system's map"), *((game, game) for game in games)), self._game if self._game in games else ""
        )
        if self._game not in games:
            self._game = ""
        self.drop.setEnabled(bool(self._game))
        layout = self.layout_now
        free = maps.free_inputs(system, Board(layout)) if system and layout else ()
        used = next(
            (game.uses for game in settings.games if system and (game.system, game.game) == (system.id, self._game)),
            None,
        )
        if list(self._ticks) != [f"{self._pick[0]} {each.id}" for each in free]:
            emptied(self._uses)
            self._ticks = {}
            for line, each in enumerate(free):
                tick = Tick(unmarked(visible(f"uses {each.label}")))
                self._ticks[f"{self._pick[0]} {each.id}"] = tick
                self._uses.addWidget(tick, line // 2, line % 2)
                tick.setChecked(True)
        if used is not None:
            for name, tick in self._ticks.items():
                tick.setChecked(name.rpartition(" ")[2] in used)

    def _on_systems(self) -> None:
        menu = QMenu(self)
        for system in self.session.catalogue.all(System):
            act = menu.addAction(unmarked(visible(system.name)))
            if act is not None:
                act.setCheckable(True)
                act.setChecked(system.id in self.session.build.systems)
                act.triggered.connect(lambda on, key=system.id: self.with_system(key, on=on))
        menu.exec(self.choose.mapToGlobal(self.choose.rect().bottomLeft()))

    def with_system(self, system: str, *, on: bool) -> None:
        """Take a system into the build, or out of it."""
        kept = tuple(each for each in self.session.build.systems if each != system)
        self.session.put("Systems", edited(self.session.build, "systems", (*kept, system) if on else kept))

    # --- acting ------------------------------------------------------------------------------------------------

    def _on_picked(self, system: str, input_id: str) -> None:
        if system != self._pick[0]:
            self._game = ""
        self._pick = system, input_id
        self.refresh()

    def on_solve(self) -> None:
        """Optimise mapping systems together, in the background."""
        layout, systems, settings = self.layout_now, self.systems, self.settings
        if layout is None or not systems:
            self.session.said.emit("Choose systems in Plan, and lay out a panel first.")
            return
        self.solve.setEnabled(False)

        def done(solved: Mapped) -> None:
            self.solve.setEnabled(True)
            self._solved, self._for = solved, (layout, tuple(system.id for system in systems))
            self.put("Mapped", maps=maps.taken(self.settings, solved).maps)
            words = f"{len(systems)} systems mapped: {solved.total:.1f} button spacings"
            gap = f", at most {100 * solved.gap:.1f} % above the best" if solved.gap > 1e-6 else ", the best there is"
            self.session.said.emit(words + gap)
            self.session.log(40, "Systems mapped", words + gap)
            self.refresh()

        self.session.ask_logbook(lambda _book: maps.solve(layout, systems, settings), done)

    def _on_put(self, system: str, input_id: str, place: str) -> None:
        layout = self.layout_now
        if layout is None:
            return
        if self._game and system == self._pick[0]:
            self._put_game(input_id, place)
            return
        made, cost = maps.moved(layout, self.systems, self.settings, system, input_id, place)
        old = self.settings.map_of(system)
        if old is not None:
            made = made.model_copy(update={"picture": old.picture, "flips": old.flips})
        self.put("Input moved", maps=maps.with_map(self.settings, made).maps)
        worse = (
            f"costs {cost:.2f} button spacings more"
            if cost > 0
            else f"saves {-cost:.2f} button spacings"
            if cost < 0
            else "costs the same"
        )
        self.session.said.emit(f"Moved and locked there: it {worse}")

    def _put_game(self, input_id: str, place: str) -> None:
        """In a game's map: whatever was on that button goes where this input was."""
        system = self.picked
        own = self.settings.map_of(self._pick[0], self._game)
        if system is None or own is None:
            return
        old = next((pair.place for pair in own.pairs if pair.input == input_id), "")
        pairs = tuple(
            MapPair(input=pair.input, place=place, locked=True)
            if pair.input == input_id
            else pair.model_copy(update={"place": old})
            if place and pair.place == place
            else pair
            for pair in own.pairs
        )
        made = own.model_copy(update={"pairs": pairs})
        self.put("Input moved in a game", maps=maps.with_map(self.settings, made).maps)

    def _on_hold(self) -> None:
        layout, system = self.layout_now, self.picked
        if layout is None or system is None or not self._pick[1]:
            return
        told = maps.priced(layout, self.systems, self.settings)
        now = next(system_map for system_map in told.maps if system_map.system == system.id)
        old = self.settings.map_of(system.id)
        held = {pair.input for pair in old.pairs if pair.locked} if old else set()
        held ^= {self._pick[1]}
        pairs = tuple(pair.model_copy(update={"locked": pair.input in held}) for pair in now.pairs)
        made = (old or SystemMap(system=system.id)).model_copy(update={"pairs": pairs})
        self.put("Held" if self._pick[1] in held else "Let go", maps=maps.with_map(self.settings, made).maps)

    def _on_clear(self) -> None:
        kept = []
        for system_map in self.settings.maps:
            pairs = tuple(pair for pair in system_map.pairs if pair.locked)
            if pairs or system_map.game:
                kept.append(system_map.model_copy(update={"pairs": pairs}) if not system_map.game else system_map)
        self.put("Mapping reset", maps=tuple(kept))

    def _on_game(self, game: str) -> None:
        self._game = game
        self.refresh()

    def _on_own(self) -> None:
        system, layout = self.picked, self.layout_now
        title = self._name.text().strip() or self._game
        if system is None or layout is None or not title:
            self.session.said.emit("Pick a system, and type the game's title first.")
            return
        uses = tuple(name.rpartition(" ")[2] for name, tick in self._ticks.items() if tick.isChecked())
        if not uses:
            self.session.said.emit("Tick at least one input that the game uses.")
            return
        made = maps.game_map(layout, self.systems, self.settings, system, title, uses)
        games = tuple(game for game in self.settings.games if (game.system, game.game) != (system.id, title))
        own = GameControls(system=system.id, game=title, uses=uses)
        self._game = title
        self._name.clear()
        self.put(f"{title}: own mapping", games=(*games, own), maps=maps.with_map(self.settings, made).maps)

    def _on_drop(self) -> None:
        system, game = self._pick[0], self._game
        games = tuple(each for each in self.settings.games if (each.system, each.game) != (system, game))
        kept = tuple(
            system_map for system_map in self.settings.maps if (system_map.system, system_map.game) != (system, game)
        )
        self._game = ""
        self.put(f"{game}: mapping removed", games=games, maps=kept)

    def _on_picture(self) -> None:
        if not self._pick[0]:
            return
        own = self.settings.map_of(self._pick[0], self._game) or SystemMap(system=self._pick[0], game=self._game)
        made = own.model_copy(update={"picture": int(self._top.value), "flips": self._flips.isChecked()})
        self.put("Picture turned", maps=maps.with_map(self.settings, made).maps)
