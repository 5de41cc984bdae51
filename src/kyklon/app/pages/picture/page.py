"""Operation 50: the right signal on the glass, in seven views."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

from PyQt6.QtWidgets import QScrollArea

from kyklon.app.pages.picture.chain_view import ChainView
from kyklon.app.pages.picture.geometry_view import GeometryView
from kyklon.app.pages.picture.identification_view import IdentificationView
from kyklon.app.pages.picture.judder_view import JudderView
from kyklon.app.pages.picture.light import LightView
from kyklon.app.pages.picture.papers import PicturePapers
from kyklon.app.pages.picture.ranges_view import RangesView
from kyklon.app.pages.picture.schools_view import SchoolsView
from kyklon.app.pages.picture.signals_view import SignalsView
from kyklon.app.pages.tabbed_page import TabbedPage
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import button
from kyklon.catalogue.records import Display

RANGES, CHAIN, SIGNALS, SCHOOLS, JUDDER, GEOMETRY, IDENTIFICATION = range(7)
LEAST = (690, 530)  # px at 100 % that every view needs
_VIEWS: tuple[tuple[str, Callable[[Session], LightView]], ...] = (
    ("Ranges", RangesView),
    ("Chain", ChainView),
    ("Switch to game", SignalsView),
    ("Which modes", SchoolsView),
    ("Frame pacing", JudderView),
    ("Geometry", GeometryView),
    ("EDID", IdentificationView),
)


class PicturePage(TabbedPage):
    number = 50
    cautions = (
        "Tubes keep a lethal charge after the plug is out. Leave the chassis to someone qualified.",
        "Never tie two sync outputs together.",
        "A picture that rolls or a tube that whines: switch off at once.",
    )

    def __init__(self, session: Session) -> None:
        super().__init__(session, _VIEWS, "Part of the picture")
        self.papers = PicturePapers(session)
        self.export = button("Export…", lambda: self.papers.open(self.export))
        around = QScrollArea()
        around.setAccessibleName("Picture, can be scrolled")
        around.setWidgetResizable(True)
        around.setWidget(self.stack)
        self.theme.tell(self, lambda own: own._fit())
        self._fit()
        self.lay_out(self.export, around)

    def _fit(self) -> None:
        """Room for large letters: what does not fit the window is scrolled to."""
        self.stack.setMinimumSize(*(round(self.theme.px(each)) for each in LEAST))

    @property
    def ranges(self) -> RangesView:
        return cast(RangesView, self.view_at(RANGES))

    @property
    def schools(self) -> SchoolsView:
        return cast(SchoolsView, self.view_at(SCHOOLS))

    @property
    def judder(self) -> JudderView:
        return cast(JudderView, self.view_at(JUDDER))

    @property
    def geometry_view(self) -> GeometryView:
        return cast(GeometryView, self.view_at(GEOMETRY))

    @property
    def identification(self) -> IdentificationView:
        return cast(IdentificationView, self.view_at(IDENTIFICATION))

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        display = self.session.catalogue.find(Display, self.session.build.part("display"))
        self.set_subject(f"{display.name} · {display.note}" if display else "Choose a display in Plan.")
        self.view_at(self.view).refresh()
