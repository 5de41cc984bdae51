"""Operation 80: current, heat, space, wires and order, before anything is cut."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

from kyklon.app.pages.assembly.heat_view import HeatView
from kyklon.app.pages.assembly.order_view import OrderView
from kyklon.app.pages.assembly.power_view import PowerView
from kyklon.app.pages.assembly.space_view import SpaceView
from kyklon.app.pages.assembly.sums_view import SumsView
from kyklon.app.pages.assembly.switch_view import SwitchView
from kyklon.app.pages.assembly.wires_view import WiresView
from kyklon.app.pages.tab_view import TabView
from kyklon.app.pages.tabbed_page import TabbedPage
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import label
from kyklon.base.quantities import show
from kyklon.operations.assembly.findings import CAUTIONS
from kyklon.operations.assembly.heat import temperature
from kyklon.operations.assembly.tree import feed

POWER, HEAT, SPACE, WIRES, ORDER, SWITCH, SUMS = range(7)
_VIEWS: tuple[tuple[str, Callable[[Session], TabView]], ...] = (
    ("Power", PowerView),
    ("Heat", HeatView),
    ("Space", SpaceView),
    ("Wires", WiresView),
    ("Order", OrderView),
    ("Shutdown", SwitchView),
    ("Calculators", SumsView),
)


class AssemblyPage(TabbedPage):
    number = 80
    cautions = CAUTIONS

    def __init__(self, session: Session) -> None:
        super().__init__(session, _VIEWS, "Part of the assembly")
        self.lay_out(label("", "muted"))

    @property
    def power(self) -> PowerView:
        return cast(PowerView, self.view_at(POWER))

    @property
    def heat(self) -> HeatView:
        return cast(HeatView, self.view_at(HEAT))

    @property
    def space(self) -> SpaceView:
        return cast(SpaceView, self.view_at(SPACE))

    @property
    def wires(self) -> WiresView:
        return cast(WiresView, self.view_at(WIRES))

    @property
    def sums(self) -> SumsView:
        return cast(SumsView, self.view_at(SUMS))

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        build, catalogue = self.session.build, self.session.catalogue
        found = feed(build, catalogue)
        if found is not None:
            chip = temperature(build, catalogue)
            self.set_subject(f"{show(found.low.root_a, 'A', prefix='')} with {found.load} · chip at {chip:.0f} °C")
        self.view_at(self.view).refresh()
