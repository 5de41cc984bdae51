"""Operation 95: the machine after its first game."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

from kyklon.app.pages.tab_view import TabView
from kyklon.app.pages.tabbed_page import TabbedPage
from kyklon.app.pages.upkeep.machine_view import MachineView
from kyklon.app.pages.upkeep.saves_view import SavesView
from kyklon.app.pages.upkeep.stick_view import StickView
from kyklon.app.pages.upkeep.update_view import UpdateView
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import label
from kyklon.operations.upkeep.findings import CAUTIONS

MACHINE, SAVES, STICK, UPDATE = range(4)
_VIEWS: tuple[tuple[str, Callable[[Session], TabView]], ...] = (
    ("Machine", MachineView),
    ("Saves", SavesView),
    ("Stick", StickView),
    ("Update", UpdateView),
)


class UpkeepPage(TabbedPage):
    number = 95
    cautions = CAUTIONS

    def __init__(self, session: Session) -> None:
        super().__init__(session, _VIEWS, "Part of the upkeep")
        self.lay_out(label("", "muted"))

    @property
    def machine(self) -> MachineView:
        return cast(MachineView, self.view_at(MACHINE))

    @property
    def saves(self) -> SavesView:
        return cast(SavesView, self.view_at(SAVES))

    @property
    def stick(self) -> StickView:
        return cast(StickView, self.view_at(STICK))

    @property
    def update_view(self) -> UpdateView:
        return cast(UpdateView, self.view_at(UPDATE))

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        own = self.session.build
        kept = f"saves backed up {own.upkeep.saves_at[:10]}" if own.upkeep.saves_at else "saves never backed up"
        self.set_subject(f"{own.library.host or 'no address yet'} · {kept}")
        self.view_at(self.view).refresh()
