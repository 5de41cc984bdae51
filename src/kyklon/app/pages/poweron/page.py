"""Operation 90: one switch between the forecast, a rehearsal on the desk, the real machine, and practice."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QStackedWidget, QTabBar, QWidget

from kyklon.app.pages.page import OperationPage
from kyklon.app.pages.poweron.finder_view import FinderView
from kyklon.app.pages.poweron.forecast_view import ForecastView
from kyklon.app.pages.poweron.log_view import LogView
from kyklon.app.pages.poweron.practice_view import PracticeView
from kyklon.app.pages.poweron.rehearsal_view import RehearsalView
from kyklon.app.pages.poweron.steps_view import StepsView
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import row
from kyklon.app.widgets.instrument import Instrument

FORECAST, REHEARSAL, STEPS, LOG, FINDER, PRACTICE = range(6)
_TABS = ("Forecast", "Rehearsal", "Real machine", "Practice")
_REAL = ("Steps", "Boot log", "Fault finder")


class PowerOnPage(OperationPage):
    number = 90
    remedy_asked = pyqtSignal(object, str)  # Remedy, title
    operation_asked = pyqtSignal(int)  # where a failure without a remedy is put right
    cautions = ("A picture that rolls or a tube that whines: switch off at once.",)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.forecast, self.rehearsal = ForecastView(session), RehearsalView(session)
        self.steps, self.log, self.finder = StepsView(session), LogView(session), FinderView(session)
        self.practice = PracticeView(session)
        self._views = (self.forecast, self.rehearsal, self.steps, self.log, self.finder, self.practice)
        self._stack = QStackedWidget()
        for view in self._views:
            self._stack.addWidget(view)
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
        for source in (self.forecast, self.log, self.finder):
            source.remedy_asked.connect(self.remedy_asked.emit)
        self.forecast.operation_asked.connect(self.operation_asked.emit)
        for asking in (self.log, self.steps):
            asking.finder_asked.connect(lambda: self.show_view(FINDER))
        self._on_switched()

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
        drawings = {FORECAST: self.forecast.instrument, REHEARSAL: self.rehearsal.instrument, LOG: self.log.instrument}
        return drawings.get(self.view)

    @property
    def remedy_button(self) -> QWidget:
        return self.log.remedy_button if self.view == LOG else self.forecast.remedy_button

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        run = self.session.bring_up
        stale = "" if self.session.bring_up_current else "The build has changed since; run it again. "
        self.set_subject(f"{stale}Foretold to reach: {run.reached}" if run else "not foretold yet")
        self._views[self.view].refresh()

    def _on_switched(self) -> None:
        self._real.setVisible(self._tabs.currentIndex() == 2)
        self._stack.setCurrentIndex(self.view)
        self._views[self.view].refresh()
