"""Operation 95: the machine after its first game."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

from PyQt6.QtCore import pyqtSignal

from kyklon.app.pages.tab_view import TabView
from kyklon.app.pages.tabbed_page import TabbedPage
from kyklon.app.pages.upkeep.exchange_view import ExchangeView
from kyklon.app.pages.upkeep.machine_view import MachineView
from kyklon.app.pages.upkeep.saves_view import SavesView
from kyklon.app.pages.upkeep.stick_view import StickView
from kyklon.app.pages.upkeep.update_view import UpdateView
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import label
from kyklon.operations.upkeep.findings import CAUTIONS

MACHINE, SAVES, STICK, UPDATE, EXCHANGE = range(5)
_VIEWS: tuple[tuple[str, Callable[[Session], TabView]], ...] = (
    ("Machine", MachineView),
    ("Saves", SavesView),
    ("Stick", StickView),
    ("Update", UpdateView),
)


class UpkeepPage(TabbedPage):
    number = 95
    cautions = CAUTIONS
    operation_asked = pyqtSignal(int)

    def __init__(self, session: Session) -> None:
        views = (*_VIEWS, ("Exchange", lambda own: ExchangeView(own, self.operation_asked.emit)))
        super().__init__(session, views, "Part of the upkeep")
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

    @property
    def exchange(self) -> ExchangeView:
        return cast(ExchangeView, self.view_at(EXCHANGE))

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        own = self.session.build
        kept = f"saves backed up {own.upkeep.saves_at[:10]}" if own.upkeep.saves_at else "saves never backed up"
        self.set_subject(f"{own.library.host or 'no address yet'} · {kept}")
        self.view_at(self.view).refresh()
