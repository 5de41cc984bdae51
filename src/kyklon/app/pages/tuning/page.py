"""Operation 70: which layer wins, whether the board holds it, and the latency that comes of it."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

from kyklon.app.pages.tab_view import SystemView
from kyklon.app.pages.tabbed_page import TabbedPage
from kyklon.app.pages.tuning.latency_view import LatencyView
from kyklon.app.pages.tuning.settings_view import SettingsView
from kyklon.app.pages.tuning.speed_view import SpeedView
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice
from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.system_records import Emulator, System
from kyklon.model.build import Value

SETTINGS, SPEED, LATENCY = range(3)
_VIEWS: tuple[tuple[str, Callable[[Session], SystemView]], ...] = (
    ("Settings", SettingsView),
    ("Speed", SpeedView),
    ("Latency", LatencyView),
)


class TuningPage(TabbedPage):
    number = 70
    cautions = ("A higher CPU clock makes the board hotter and draws more current: check Assembly first.",)

    def __init__(self, session: Session) -> None:
        super().__init__(session, _VIEWS, "Part of the tuning")
        self._system = Choice(self.theme, "System", lambda _value: self.refresh())
        self._system.setMinimumContentsLength(14)
        self.lay_out(self._system)

    @property
    def settings(self) -> SettingsView:
        return cast(SettingsView, self.view_at(SETTINGS))

    @property
    def speed(self) -> SpeedView:
        return cast(SpeedView, self.view_at(SPEED))

    @property
    def latency(self) -> LatencyView:
        return cast(LatencyView, self.view_at(LATENCY))

    @property
    def system(self) -> str:
        """The system that is looked at."""
        return self._system.value

    def choose_system(self, system: str) -> None:
        """Look at a system."""
        self._system.setCurrentIndex(self._system.findData(system))
        self.refresh()

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        build, catalogue = self.session.build, self.session.catalogue
        systems = known_systems(build, catalogue)
        default = self._system.value or next((each.id for each in systems if each.id in build.tuning.systems), "")
        self._system.set_choices(tuple((each.id, each.name) for each in systems), default)
        system = catalogue.find(System, self._system.value)
        if system is None:
            self.set_subject("Choose systems in Plan.")
            return
        emulator = catalogue.find(Emulator, system.emulator)
        self.set_subject(f"{system.name} · {emulator.name if emulator else 'no emulator'}")
        self._show()

    def _on_switched(self) -> None:
        super()._on_switched()
        if hasattr(self, "_system"):
            self._show()

    def _show(self) -> None:
        view = self.view_at(self.view)
        view.show_system(self._system.value)

    def set_value(self, setting_id: str, layer: int, value: Value | None) -> None:
        """Set a setting in a layer, counted from 1 for the front end, or let the layer say nothing."""
        self.show_view(SETTINGS)
        self._show()
        self.settings.set_value(setting_id, layer, value)
