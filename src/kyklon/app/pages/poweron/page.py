"""Operation 90: one switch between the forecast, a rehearsal on the desk, the real machine, and practice."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, cast

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QTabBar, QWidget

from kyklon.app.pages.page import OperationPage
from kyklon.app.pages.poweron.finder_view import FinderView
from kyklon.app.pages.poweron.forecast_view import ForecastView
from kyklon.app.pages.poweron.log_view import LogView
from kyklon.app.pages.poweron.practice_view import PracticeView
from kyklon.app.pages.poweron.rehearsal_view import RehearsalView
from kyklon.app.pages.poweron.steps_view import StepsView
from kyklon.app.pages.view_stack import ViewStack
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import row
from kyklon.app.widgets.instrument import Instrument

FORECAST, REHEARSAL, STEPS, LOG, FINDER, PRACTICE = range(6)
_VIEWS: tuple[Callable[[Session], QWidget], ...] = (
    ForecastView,
    RehearsalView,
    StepsView,
    LogView,
    FinderView,
    PracticeView,
)
_TABS = ("Forecast", "Rehearsal", "Real machine", "Practice")
_REAL = ("Steps", "Boot log", "Fault finder")


class PowerOnPage(OperationPage):
    number = 90
    remedy_asked = pyqtSignal(object, str)  # Remedy, title
    operation_asked = pyqtSignal(int)  # where a failure without a remedy is put right
    cautions = ("A picture that rolls or a tube that whines: switch off at once.",)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._stack = ViewStack(session, _VIEWS, self._connect)
        self._tabs, self._real = QTabBar(), QTabBar()
        for bar, names, called in ((self._tabs, _TABS, "What is shown"), (self._real, _REAL, "Of the real machine")):
            bar.setAccessibleName(called)
            bar.setDrawBase(False)
            bar.setExpanding(False)
            for name in names:
                bar.addTab(name)
            bar.currentChanged.connect(lambda _index: self._on_switched())
        self.body.addLayout(row(self._tabs, 1, self._real))
        self.body.addWidget(self._stack, 1)
        self._on_switched()

    def _connect(self, made: QWidget) -> None:
        """Hear what a new view asks for."""
        receivers = {
            "remedy_asked": self.remedy_asked.emit,
            "operation_asked": self.operation_asked.emit,
            "finder_asked": self._to_finder,
        }
        for name, receiver in receivers.items():
            asked = getattr(made, name, None)
            if asked is not None:
                asked.connect(receiver)

    def _view(self, view: int) -> Any:
        return self._stack.view(view)

    def _to_finder(self) -> None:
        self.show_view(FINDER)

    @property
    def forecast(self) -> ForecastView:
        return cast(ForecastView, self._view(FORECAST))

    @property
    def rehearsal(self) -> RehearsalView:
        return cast(RehearsalView, self._view(REHEARSAL))

    @property
    def steps(self) -> StepsView:
        return cast(StepsView, self._view(STEPS))

    @property
    def log(self) -> LogView:
        return cast(LogView, self._view(LOG))

    @property
    def finder(self) -> FinderView:
        return cast(FinderView, self._view(FINDER))

    @property
    def practice(self) -> PracticeView:
        return cast(PracticeView, self._view(PRACTICE))

    # --- switching ---------------------------------------------------------------------------------------------

    @property
    def view(self) -> int:
        """Which view is shown."""
        index = self._tabs.currentIndex()
        return (FORECAST, REHEARSAL, STEPS + self._real.currentIndex(), PRACTICE)[index]

    def show_view(self, view: int) -> None:
        """Switch to a view."""
        self._tabs.setCurrentIndex({FORECAST: 0, REHEARSAL: 1, PRACTICE: 3}.get(view, 2))
        if STEPS <= view <= FINDER:
            self._real.setCurrentIndex(view - STEPS)

    def instrument(self) -> Instrument | None:
        """Override."""
        return getattr(self._view(self.view), "instrument", None)

    @property
    def remedy_button(self) -> QWidget:
        return self.log.remedy_button if self.view == LOG else self.forecast.remedy_button

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        run = self.session.bring_up
        stale = "" if self.session.bring_up_current else "The build has changed since; run it again. "
        self.set_subject(f"{stale}Predicted to reach: {run.reached}" if run else "not predicted yet")
        self._view(self.view).refresh()

    def _on_switched(self) -> None:
        self._real.setVisible(self._tabs.currentIndex() == 2)
        self._view(self.view).refresh()
        self._stack.setCurrentIndex(self.view)
