"""Operation 70: which layer wins, and the latency that comes of it."""

from __future__ import annotations

from PyQt6.QtWidgets import QApplication, QMenu

from kyklon.app.pages.page import OperationPage
from kyklon.app.pages.tuning.cascade_view import CascadeView
from kyklon.app.pages.tuning.latency_plot import LatencyPlot
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Sheet, button, label, row, unmarked
from kyklon.app.widgets.instrument import Instrument
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.records import Board, Display, Emulator, Encoder, System, TuningSetting
from kyklon.model.build import TuningLayers, Value
from kyklon.operations.picture.ranges import adapters_of
from kyklon.operations.tuning.cascade import effective, issue, with_unit
from kyklon.operations.tuning.latency import Way, ear_shares, shares, total


class TuningPage(OperationPage):
    number = 70

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._cascade, self._plot = CascadeView(self.theme), LatencyPlot(self.theme)
        self._cascade.asked.connect(self._on_cell_asked)
        self._system = Choice(self.theme, "System", lambda _value: self._on_system_chosen())
        self._game = Choice(self.theme, "Game", lambda _value: self.refresh())
        self._system.setMinimumContentsLength(12)
        self._game.setMinimumContentsLength(20)
        settings = Sheet("Effective settings", "each layer overrides the one before it; the value in effect is marked")
        bar = row(label("System", "small"), self._system, label("Game", "small"), self._game, 1,
                  button("Copy the settings file", self._on_copy_clicked))  # fmt: skip
        settings.add(bar, self._cascade)
        self._latency_sheet = Sheet("From switch to photon")
        self._latency_sheet.add(self._plot)
        self.body.addWidget(settings, 11)
        self.body.addWidget(self._latency_sheet, 10)

    def instrument(self) -> Instrument | None:
        """Override."""
        return self._plot

    def _on_system_chosen(self) -> None:
        self._game.clear()
        self.refresh()

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        build, catalogue, world = self.session.build, self.session.catalogue, self.session.world
        systems = systems_of(build, catalogue)
        default = self._system.value or next((each.id for each in systems if each.id in build.tuning.systems), "")
        self._system.set_choices(tuple((each.id, each.name) for each in systems), default)
        system = catalogue.find(System, self._system.value)
        if system is None:
            return
        own = [key for key in build.tuning.games if key.startswith(f"{system.id}/")]
        titles = sorted({game.title for game in world.scan.of(system.id)} if world.scan else set())
        games = [("", "all games"), *((key, key.partition("/")[2]) for key in own)]
        games += [(f"{system.id}/{title}", title) for title in titles if f"{system.id}/{title}" not in own]
        self._game.set_choices(tuple(games), self._game.value)
        game = self._game.value
        rows = effective(catalogue.all(TuningSetting), build.tuning, system.id, game or None)
        title = game.partition("/")[2]
        self._cascade.show_rows(rows, ("default", "front end", system.name, title))
        self.set_subject(f"{system.name} · {catalogue.get(Emulator, system.emulator).name}")
        self._show_latency(system, {each.setting.id: each.value for each in rows})

    def _show_latency(self, system: System, values: dict[str, Value]) -> None:
        build, catalogue = self.session.build, self.session.catalogue
        encoder, display = (
            catalogue.find(Encoder, build.part("encoder")),
            catalogue.find(Display, build.part("display")),
        )
        if encoder is None or display is None:
            self._plot.show_latency(None)
            return
        rate = float(build.system_mode(system.id).timing.vertical_hz)
        board = catalogue.find(Board, build.part("board"))
        clock = build.boot.processor_mhz or (board.processor_mhz[0] if board else 1000)
        emulator = catalogue.get(Emulator, system.emulator)
        way = Way(system, emulator, encoder, adapters_of(build, catalogue), display, clock)
        latency, heard = total(shares(way, values, rate)), total(ear_shares(way, values, rate))
        self._plot.show_latency(latency)
        self._latency_sheet.set_note(
            f"{system.name}: half of all presses are seen within {latency.percentile(50):.0f}\u202fms, heard within "
            f"{heard.percentile(50):.0f}\u202fms"
        )

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
        """Set a setting in layer 1, 2 or 3, or let the layer say nothing."""
        tuning = self.session.build.tuning
        front = dict(tuning.front_end)
        systems = {key: dict(each) for key, each in tuning.systems.items()}
        games = {key: dict(each) for key, each in tuning.games.items()}
        place = (front, systems.setdefault(self._system.value, {}), games.setdefault(self._game.value, {}))[layer - 1]
        if value is None:
            place.pop(setting_id, None)
        else:
            place[setting_id] = value
        kept = TuningLayers(
            front_end=front,
            systems={key: each for key, each in systems.items() if each},
            games={key: each for key, each in games.items() if each and key},
        )
        self.session.edit("tuning", kept, "Setting")

    def _on_copy_clicked(self) -> None:
        files = issue(self.session.build, self.session.catalogue, self.session.world)
        name = next((path for path in files if f"/{self._system.value}." in path), "")
        if name:
            QApplication.clipboard().setText(files[name])
            self.session.said.emit(f"Copied {name}")


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
