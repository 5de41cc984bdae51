"""A page of several views, one at a time, chosen by tabs."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, cast

from PyQt6.QtWidgets import QTabBar, QWidget

from kyklon.app.pages.page import OperationPage
from kyklon.app.pages.view_stack import ViewStack
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import row
from kyklon.app.widgets.instrument import Instrument


class TabbedPage(OperationPage):
    """Each view has refresh(), shown(), hidden() and an instrument."""

    def __init__(self, session: Session, views: Sequence[tuple[str, Callable[[Session], Any]]], called: str) -> None:
        """views: their names and makers, in order. called: what the tabs choose, for those who do not see them."""
        super().__init__(session)
        self._front = -1
        self.stack = ViewStack(session, tuple(maker for _name, maker in views))
        self._tabs = QTabBar()
        self._tabs.setAccessibleName(called)
        self._tabs.setDrawBase(False)
        self._tabs.setExpanding(False)
        for name, _maker in views:
            self._tabs.addTab(name)
        self._tabs.currentChanged.connect(lambda _index: self._on_switched())

    def lay_out(self, beside: QWidget, around: QWidget | None = None) -> None:
        """The tabs with something beside them, and the views below. around: what holds the views, where they do not
        stand alone."""
        if self.theme.scale > 1:  # large text: one below the other
            self.body.addLayout(row(self._tabs, 1))
            self.body.addLayout(row(1, beside))
        else:
            self.body.addLayout(row(self._tabs, 1, beside))
        self.body.addWidget(around or self.stack, 1)
        self._on_switched()

    def view_at(self, view: int) -> Any:
        """A view, made if it is not there yet."""
        return self.stack.view(view)

    @property
    def view(self) -> int:
        """Which view is shown."""
        return self._tabs.currentIndex()

    def show_view(self, view: int) -> None:
        """Switch to a view."""
        self._tabs.setCurrentIndex(view)

    def instrument(self) -> Instrument | None:
        """Override."""
        return cast("Instrument | None", self.view_at(self.view).instrument)

    def showEvent(self, event: object) -> None:
        """Override."""
        super().showEvent(event)  # type: ignore[arg-type] # a QShowEvent
        self.view_at(self.view).shown()

    def hideEvent(self, event: object) -> None:
        """Override."""
        super().hideEvent(event)  # type: ignore[arg-type] # a QHideEvent
        if self.view in self.stack.made and not self.session.ended:  # at the end its timers are gone already
            self.stack.made[self.view].hidden()

    def _on_switched(self) -> None:
        if self._front in self.stack.made and self._front != self.view:
            self.stack.made[self._front].hidden()
        self._front = self.view
        front = self.view_at(self.view)
        front.refresh()
        self.stack.setCurrentIndex(self.view)
        if self.isVisible():
            front.shown()
