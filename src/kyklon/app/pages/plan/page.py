"""Operation 10: from wishes to parts, how they connect, what to buy, and when what is done."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

from PyQt6.QtWidgets import QMenu

from kyklon.app.pages.plan.choose_view import ChooseView
from kyklon.app.pages.plan.map_view import MapView
from kyklon.app.pages.plan.parts_view import PartsView
from kyklon.app.pages.plan.schedule_view import ScheduleView
from kyklon.app.pages.tab_view import TabView
from kyklon.app.pages.tabbed_page import TabbedPage
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import label

MAP, CHOOSE, PARTS, SCHEDULE = range(4)
_VIEWS: tuple[tuple[str, Callable[[Session], TabView]], ...] = (
    ("Map", MapView),
    ("Choose", ChooseView),
    ("Parts list", PartsView),
    ("Schedule", ScheduleView),
)


class PlanPage(TabbedPage):
    number = 10
    cautions = (
        "A cable with the same plug on both ends can connect two power supplies to each other.",
        "Mains wiring follows local codes and is a licensed electrician's work.",
    )

    def __init__(self, session: Session) -> None:
        super().__init__(session, _VIEWS, "Part of the plan")
        self.lay_out(label("", "muted"))

    @property
    def map(self) -> MapView:
        return cast(MapView, self.view_at(MAP))

    @property
    def choose(self) -> ChooseView:
        return cast(ChooseView, self.view_at(CHOOSE))

    @property
    def parts(self) -> PartsView:
        return cast(PartsView, self.view_at(PARTS))

    @property
    def schedule(self) -> ScheduleView:
        return cast(ScheduleView, self.view_at(SCHEDULE))

    def cable_menu(self) -> QMenu:
        """Every cable with those that fit in its place, and every open plug with the sockets that feed it."""
        return self.map.cable_menu()

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        self.set_subject(self.session.build.kind)
        self.view_at(self.view).refresh()
