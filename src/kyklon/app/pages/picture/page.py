"""Operation 50: the right signal on the glass, in seven views."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

from PyQt6.QtWidgets import QScrollArea, QTabBar

from kyklon.app.pages.page import OperationPage
from kyklon.app.pages.picture.chain_view import ChainView
from kyklon.app.pages.picture.geometry_view import GeometryView
from kyklon.app.pages.picture.identification_view import IdentificationView
from kyklon.app.pages.picture.judder_view import JudderView
from kyklon.app.pages.picture.light import LightView
from kyklon.app.pages.picture.papers import PicturePapers
from kyklon.app.pages.picture.ranges_view import RangesView
from kyklon.app.pages.picture.schools_view import SchoolsView
from kyklon.app.pages.picture.signals_view import SignalsView
from kyklon.app.pages.view_stack import ViewStack
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import button, row
from kyklon.app.widgets.instrument import Instrument
from kyklon.catalogue.records import Display

RANGES, CHAIN, SIGNALS, SCHOOLS, JUDDER, GEOMETRY, IDENTIFICATION = range(7)
LEAST = (690, 530)  # px at 100 % that every view needs
_VIEWS: tuple[tuple[str, Callable[[Session], LightView]], ...] = (
    ("Ranges", RangesView), ("Chain", ChainView), ("Switch to game", SignalsView), ("Which modes", SchoolsView),
    ("Judder", JudderView), ("Geometry", GeometryView), ("Identification", IdentificationView),
)  # fmt: skip


class PicturePage(OperationPage):
    number = 50
    cautions = (
        "Tubes keep a lethal charge after the plug is out. Leave the chassis to someone qualified.",
        "Never tie two sync outputs together.",
        "A picture that rolls or a tube that whines: switch off at once.",
    )

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._front = -1
        self._stack = ViewStack(session, tuple(maker for _name, maker in _VIEWS))
        self._tabs = QTabBar()
        self._tabs.setAccessibleName("Part of the picture")
        self._tabs.setDrawBase(False)
        self._tabs.setExpanding(False)
        for name, _view in _VIEWS:
            self._tabs.addTab(name)
        self._tabs.currentChanged.connect(lambda _index: self._on_switched())
        self.papers = PicturePapers(session)
        self.export = button("Export…", lambda: self.papers.open(self.export))
        self.body.addLayout(row(self._tabs, 1, self.export))
        around = QScrollArea()
        around.setWidgetResizable(True)
        around.setWidget(self._stack)
        self.body.addWidget(around, 1)
        self.theme.changed.connect(self._fit)
        self._fit()
        self._on_switched()

    def _fit(self) -> None:
        """Room for large letters: what does not fit the window is scrolled to."""
        self._stack.setMinimumSize(*(round(self.theme.px(each)) for each in LEAST))

    def view_at(self, view: int) -> LightView:
        """A view, made if it is not there yet."""
        return cast(LightView, self._stack.view(view))

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

    @property
    def view(self) -> int:
        """Which view is shown."""
        return self._tabs.currentIndex()

    def show_view(self, view: int) -> None:
        """Switch to a view."""
        self._tabs.setCurrentIndex(view)

    def instrument(self) -> Instrument | None:
        """Override."""
        return self.view_at(self.view).instrument

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        display = self.session.catalogue.find(Display, self.session.build.part("display"))
        self.set_subject(f"{display.name} · {display.note}" if display else "Choose a display in Plan.")
        self.view_at(self.view).refresh()

    def showEvent(self, event: object) -> None:
        """Override."""
        super().showEvent(event)  # type: ignore[arg-type] # a QShowEvent
        self.view_at(self.view).shown()

    def hideEvent(self, event: object) -> None:
        """Override."""
        super().hideEvent(event)  # type: ignore[arg-type] # a QHideEvent
        if self.view in self._stack.made and not self.session.ended:  # at the end its timers are gone already
            self._stack.made[self.view].hidden()

    def _on_switched(self) -> None:
        if self._front in self._stack.made and self._front != self.view:
            self._stack.made[self._front].hidden()
        self._front = self.view
        front = self.view_at(self.view)
        front.refresh()
        self._stack.setCurrentIndex(self.view)
        if self.isVisible():
            front.shown()
