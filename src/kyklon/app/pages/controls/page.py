"""Operation 40: from the switch to the game, in seven views."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

from PyQt6.QtWidgets import QTabBar

from kyklon.app.pages.controls.bench import BenchView
from kyklon.app.pages.controls.hotkey_view import HotkeyView
from kyklon.app.pages.controls.keyboard_view import KeyboardView
from kyklon.app.pages.controls.layout_view import LayoutView
from kyklon.app.pages.controls.live_view import LiveView
from kyklon.app.pages.controls.map_view import MapView
from kyklon.app.pages.controls.papers import PapersMenu
from kyklon.app.pages.controls.pins_view import PinsView
from kyklon.app.pages.controls.wiring_view import WiringView
from kyklon.app.pages.page import OperationPage
from kyklon.app.pages.view_stack import ViewStack
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import button, row
from kyklon.app.widgets.instrument import Instrument
from kyklon.catalogue.control_records import Keyboard

PANEL, WIRING, LIVE, MAP, HOTKEYS, KEYBOARD, PINS = range(7)
_VIEWS: tuple[tuple[str, Callable[[Session], BenchView]], ...] = (
    ("Panel", LayoutView), ("Wiring", WiringView), ("Live test", LiveView), ("Map", MapView), ("Hotkeys", HotkeyView),
    ("Keyboard", KeyboardView), ("Header pins", PinsView),
)  # fmt: skip


class ControlsPage(OperationPage):
    number = 40
    cautions = (
        "A lever pushed up closes the switch at the bottom; swapped directions are the most common wiring error.",
        "Plain switches have no polarity; lit buttons do.",
        "Pin 7 of a nine-pin port carries 5 V and must not meet a 3.3 V pin.",
        "Switch the board off before you touch its header.",
    )

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._front = -1
        self._stack = ViewStack(session, tuple(maker for _name, maker in _VIEWS))
        self._tabs = QTabBar()
        self._tabs.setAccessibleName("Part of the controls")
        self._tabs.setDrawBase(False)
        self._tabs.setExpanding(False)
        for name, _view in _VIEWS:
            self._tabs.addTab(name)
        self._tabs.currentChanged.connect(lambda _index: self._on_switched())
        self._papers = PapersMenu(session)
        self.export = button("Print and export…", lambda: self._papers.open(self.export))
        self.body.addLayout(row(self._tabs, 1, self.export))
        self.body.addWidget(self._stack, 1)
        self._on_switched()

    def _view(self, view: int) -> BenchView:
        return cast(BenchView, self._stack.view(view))

    @property
    def panel(self) -> LayoutView:
        return cast(LayoutView, self._view(PANEL))

    @property
    def wiring(self) -> WiringView:
        return cast(WiringView, self._view(WIRING))

    @property
    def live(self) -> LiveView:
        return cast(LiveView, self._view(LIVE))

    @property
    def map(self) -> MapView:
        return cast(MapView, self._view(MAP))

    @property
    def hotkeys(self) -> HotkeyView:
        return cast(HotkeyView, self._view(HOTKEYS))

    @property
    def keyboard(self) -> KeyboardView:
        return cast(KeyboardView, self._view(KEYBOARD))

    @property
    def pins(self) -> PinsView:
        return cast(PinsView, self._view(PINS))

    @property
    def view(self) -> int:
        """Which view is shown."""
        return self._tabs.currentIndex()

    def show_view(self, view: int) -> None:
        """Switch to a view."""
        self._tabs.setCurrentIndex(view)

    def instrument(self) -> Instrument | None:
        """Override."""
        return self._view(self.view).instrument

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        front = self._view(self.view)
        rig = front.rig
        if rig is None:
            keyboard = self.session.catalogue.find(Keyboard, front.settings.keyboard.layout)
            self.set_subject(f"{keyboard.name} · {keyboard.note}" if keyboard is not None
                             else "Choose an encoder under Wiring, or in Plan.")  # fmt: skip
        else:
            seats = len(rig.layout.seats)
            names = " and ".join(dict.fromkeys(each.title for each in rig.devices))
            wired = f"{len(rig.wired)} of {len(rig.switches)} switches wired"
            self.set_subject(f"{seats} seat{'s' if seats > 1 else ''} · {names} · {wired}")
        front.refresh()

    def showEvent(self, event: object) -> None:
        """Override."""
        super().showEvent(event)  # type: ignore[arg-type] # a QShowEvent
        self._view(self.view).shown()

    def hideEvent(self, event: object) -> None:
        """Override."""
        super().hideEvent(event)  # type: ignore[arg-type] # a QHideEvent
        if self.view in self._stack.made and not self.session.ended:  # at the end its timers are gone already
            self._stack.made[self.view].hidden()

    def _on_switched(self) -> None:
        if self._front in self._stack.made and self._front != self.view:
            self._stack.made[self._front].hidden()
        self._front = self.view
        front = self._view(self.view)
        front.refresh()
        self._stack.setCurrentIndex(self.view)
        if self.isVisible():
            front.shown()
