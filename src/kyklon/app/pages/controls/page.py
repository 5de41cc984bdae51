"""Operation 40: from the switch to the game, in seven views."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

from kyklon.app.pages.controls.bench import BenchView
from kyklon.app.pages.controls.hotkey_view import HotkeyView
from kyklon.app.pages.controls.keyboard_view import KeyboardView
from kyklon.app.pages.controls.layout_view import LayoutView
from kyklon.app.pages.controls.live_view import LiveView
from kyklon.app.pages.controls.map_view import MapView
from kyklon.app.pages.controls.papers import PapersMenu
from kyklon.app.pages.controls.pins_view import PinsView
from kyklon.app.pages.controls.wiring_view import WiringView
from kyklon.app.pages.tabbed_page import TabbedPage
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import button
from kyklon.base.quantities import counted
from kyklon.catalogue.control_records import Keyboard

PANEL, WIRING, LIVE, MAP, HOTKEYS, KEYBOARD, PINS = range(7)
_VIEWS: tuple[tuple[str, Callable[[Session], BenchView]], ...] = (
    ("Panel", LayoutView),
    ("Wiring", WiringView),
    ("Live test", LiveView),
    ("Mapping", MapView),
    ("Hotkeys", HotkeyView),
    ("Keyboard", KeyboardView),
    ("Header pins", PinsView),
)


class ControlsPage(TabbedPage):
    number = 40
    cautions = (
        "Pushing a joystick up closes the bottom microswitch; swapped directions are the most common wiring error.",
        "Plain switches have no polarity; lit buttons do.",
        "Pin 7 of a nine-pin port carries 5 V and must not meet a 3.3 V pin.",
        "Switch the board off before you touch its header.",
    )

    def __init__(self, session: Session) -> None:
        super().__init__(session, _VIEWS, "Part of the controls")
        self._papers = PapersMenu(session)
        self.export = button("Print and export…", lambda: self._papers.open(self.export))
        self.lay_out(self.export)

    def _view(self, view: int) -> BenchView:
        return cast(BenchView, self.view_at(view))

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

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        front = self._view(self.view)
        hookup = front.hookup
        if hookup is None:
            keyboard = self.session.catalogue.find(Keyboard, front.settings.keyboard.layout)
            self.set_subject(
                f"{keyboard.name} · {keyboard.note}"
                if keyboard is not None
                else "Choose an encoder under Wiring, or in Plan."
            )
        else:
            seats = len(hookup.layout.seats)
            names = " and ".join(dict.fromkeys(device.title for device in hookup.devices))
            wired = f"{len(hookup.wired)} of {len(hookup.switches)} switches wired"
            self.set_subject(f"{counted(seats, 'seat')} · {names} · {wired}")
        front.refresh()
