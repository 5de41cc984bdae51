"""The cascade of settings, and what stands on the machine instead."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QApplication, QMenu

from kyklon.app.pages.tab_view import SystemView
from kyklon.app.pages.tuning.cascade_view import CascadeView
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Elided, Sheet, button, column, label, row, unmarked
from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.catalogue.system_records import Emulator, System
from kyklon.catalogue.text_records import TuningSetting
from kyklon.model.build import Value
from kyklon.operations.library.acts import opened
from kyklon.operations.tuning.cascade import LAYERS, effective, folder_of, issue, with_unit
from kyklon.operations.tuning.settings_back import Difference, differences, put, taken_over

# fields of TuningLayers by layer, from the front end on
_FIELDS = ("", "front_end", "emulators", "systems", "folders", "games")


class SettingsView(SystemView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.found: tuple[Difference, ...] = ()
        self.cascade = CascadeView(self.theme)
        self.cascade.asked.connect(self._on_cell_asked)
        self.instrument = self.cascade
        self._game = Choice(self.theme, "Game", lambda _value: self.refresh())
        self._game.setMinimumContentsLength(20)
        settings = Sheet("Effective settings", "each layer overrides the one before it; the value in effect is marked")
        bar = row(label("Game", "small"), self._game, 1, button("Copy the settings file", self._on_copy_clicked))
        settings.add(bar, self.cascade)
        settings.body.setStretch(1, 1)
        self._machine = Sheet("On the machine", "not compared yet")
        self._told = Elided("muted")
        self._take, self._put = (
            button("Use the machine's values", self.take_over),
            button("Restore the build's values", self.put_right),
        )
        self._machine.add(row(self._told, button("Compare", self.compare), self._take, self._put))
        self._machine.body.itemAt(0).layout().setStretch(0, 1)
        whole = column(settings, self._machine, spacing=12)
        whole.setStretch(0, 1)
        self.setLayout(whole)

    def show_system(self, system: str) -> None:
        """Override."""
        if system != self.system_id:
            self._game.clear()
        super().show_system(system)

    def refresh(self) -> None:
        """Override."""
        build, catalogue, world = self.build, self.session.catalogue, self.session.world
        system = catalogue.find(System, self.system_id)
        if system is None:
            return
        own = [key for key in build.tuning.games if key.startswith(f"{system.id}/")]
        titles = sorted({game.title for game in world.scan.of(system.id)} if world.scan else set())
        games = [("", "all games"), *((key, key.partition("/")[2]) for key in own)]
        games += [(f"{system.id}/{title}", title) for title in titles if f"{system.id}/{title}" not in own]
        self._game.set_choices(tuple(games), self._game.value)
        game = self._game.value
        folder = folder_of(game, world, system) if game else ""
        rows = effective(
            catalogue.all(TuningSetting), build.tuning, system.id, game or None, emulator=system.emulator, folder=folder
        )
        emulator = catalogue.find(Emulator, system.emulator)
        self._folder = folder
        self.cascade.show_rows(
            rows,
            (
                "default",
                "front end",
                emulator.name if emulator else "emulator",
                system.name,
                folder.partition("/")[2],
                game.partition("/")[2],
            ),
        )
        own_found = [each for each in self.found if each.place.system.id == system.id]
        rest = f", {len(self.found) - len(own_found)} more in other systems" if len(self.found) > len(own_found) else ""
        words = "; ".join(
            f"{each.setting or each.path} is {each.theirs}" + (f", not {each.ours}" if each.ours else "")
            for each in own_found[:3]
        )
        self._told.set_full(f"{words}{rest}" if self.found else "")
        for each in (self._take, self._put):
            each.setEnabled(bool(self.found))

    # --- acting --------------------------------------------------------------------------------------------------

    def _on_cell_asked(self, setting_id: str, layer: int) -> None:
        setting = self.session.catalogue.get(TuningSetting, setting_id)
        menu = QMenu(self)
        for value in _values(setting):
            menu.addAction(
                unmarked(with_unit(setting, value)), lambda value=value: self.set_value(setting_id, layer, value)
            )
        menu.addSeparator()
        menu.addAction("Not set", lambda: self.set_value(setting_id, layer, None))
        menu.exec(self.cursor().pos())

    def set_value(self, setting_id: str, layer: int, value: Value | None) -> None:
        """Set a setting in a layer, as LAYERS counts them, or let the layer say nothing."""
        system = self.session.catalogue.find(System, self.system_id)
        if system is None:
            return
        tuning, name = self.build.tuning, _FIELDS[layer]
        keys = {"emulators": system.emulator, "systems": system.id, "folders": self._folder, "games": self._game.value}
        if name == "front_end":
            own = dict(tuning.front_end)
        else:
            own = dict(getattr(tuning, name).get(keys[name], {}))
        if value is None:
            own.pop(setting_id, None)
        else:
            own[setting_id] = value
        kept: Any = own
        if name != "front_end":
            kept = {key: dict(each) for key, each in getattr(tuning, name).items() if key != keys[name]}
            kept |= {keys[name]: own} if own and keys[name] else {}
        self.session.edit("tuning", tuning.model_copy(update={name: kept}), f"Setting of the {LAYERS[layer]}")

    def _on_copy_clicked(self) -> None:
        files = issue(self.build, self.session.catalogue, self.session.world)
        name = next((path for path in files if f"/{self.system_id}." in path), "")
        if name:
            QApplication.clipboard().setText(files[name])
            self.session.said.emit(f"Copied {name}")

    def compare(self) -> None:
        """Read the settings files on the machine."""
        build, catalogue, world = self.build, self.session.catalogue, self.session.world

        def done(found: tuple[Difference, ...]) -> None:
            self.found = found
            count = len(found)
            self._machine.set_note(f"{count} differ" if count else "as the build has them")
            self.refresh()

        self._at_machine("Comparing settings", lambda place: differences(build, catalogue, world, place), done)

    def put_right(self) -> None:
        """Write the build's settings to the machine."""
        build, catalogue, world = self.build, self.session.catalogue, self.session.world

        def done(count: int) -> None:
            self.session.log(70, f"{count} settings files written to the machine")
            self.session.said.emit(f"{count} settings files written.")
            self.compare()

        self._at_machine("Writing settings", lambda place: put(build, catalogue, world, place), done)

    def take_over(self) -> None:
        """Give the build what stands on the machine, as one step that can be undone."""
        build, catalogue = self.build, self.session.catalogue
        for each in self.found:
            if each.setting:
                try:
                    build = build.model_copy(update={"tuning": taken_over(build, catalogue, each)})
                except KyklonError as bad:
                    self.session.said.emit(str(bad))
                    return
        self.session.put("Settings of the machine", build)
        self.compare()

    def _at_machine(self, title: str, act: Any, done: Any) -> None:
        build, folder = self.build, self.session.folder

        def work(_watch: Watch) -> Any:
            with opened(build, folder) as place:
                return act(place)

        self.session.jobs.start(title, work, done)


def _values(setting: TuningSetting) -> tuple[Value, ...]:
    """The values worth offering."""
    if setting.kind == "switch":
        return (True, False)
    if setting.kind == "choice":
        return setting.choices
    span = setting.high - setting.low
    step = 1 if span <= 8 else 25 if setting.kind == "percent" else 8
    offered = list(range(setting.low, min(setting.high, setting.low + 12 * step) + 1, step))
    return tuple(offered)
