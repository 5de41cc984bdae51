"""What a live test keeps of the events: the path of the last press, what buttons bounce, levers and axes do."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, field

from kyklon.catalogue.system_records import System
from kyklon.devices.ports import InputEvent
from kyklon.operations.controls.fault_words import name_of
from kyklon.operations.controls.faulty import Plan
from kyklon.operations.controls.levers import Axis, Rose
from kyklon.operations.controls.mapping import event_code, paths
from kyklon.operations.controls.reports import Report

_KEPT = 600  # events of a button that the histograms are made of


@dataclass(frozen=True)
class Followed:
    """The path of a press: switch, terminal, code, game, each '' where it ends. wrong: it ends in another's game."""

    control: str
    words: tuple[str, str, str, str]
    wrong: bool = False


@dataclass
class Trace:
    """roses by device and player, axes by that and their code. lever: whose lever moved last."""

    roses: dict[str, Rose] = field(default_factory=dict)
    axes: dict[tuple[str, str], Axis] = field(default_factory=dict)
    lever: str = ""
    _events: dict[str, deque[InputEvent]] = field(default_factory=dict)
    _last: str = ""

    def heard(self, role: str, event: InputEvent) -> None:
        place = f"{role} {event.player}"
        if event.code.startswith("ABS_"):
            self.roses[place] = self.roses.get(place, Rose()).heard(event)
            axis = self.axes.get((place, event.code)) or Axis(role, event.code)
            self.axes[place, event.code] = axis.heard(event)
            self.lever = place
            return
        key = f"{place} {event.code}"
        self._events.setdefault(key, deque(maxlen=_KEPT)).append(event)
        if event.value:
            self._last = key

    @property
    def last_events(self) -> Sequence[InputEvent]:
        """What the button said that was pressed last, over all its presses."""
        return tuple(self._events.get(self._last, ()))


def owner_of(plan: Plan, report: Report) -> str:
    """The switch behind a report, as the build's wires say; '' for none."""
    pin = next((pin for pin in plan.pins_of.get(report, ()) if plan.events[pin] == report), None)
    return plan.owners.get(pin, "") if pin is not None else ""


def followed(plan: Plan, report: Report, system: System | None, pressed: str = "") -> Followed:
    """From what came out of a device to the switch behind it and into the game. pressed: the switch that was really
    pressed, where that is known."""
    hookup, owner = plan.hookup, owner_of(plan, report)
    pressed = pressed or owner
    device = hookup.device(report.role)
    pin = next((pin for pin in plan.pins_of.get(report, ()) if plan.events[pin] == report), None)
    terminal = device.encoder.terminal(pin[1]) if device and pin else None
    path = next((each for each in paths(hookup, system) if each.control == owner), None)
    inputs = " / ".join(path.inputs) if path else ""
    player = (device.first if device else 1) + report.player - 1
    game = f"{inputs}, player {player}" if inputs else ""
    wrong = bool(pressed) and owner != pressed
    if wrong and not game:
        game = f"as {name_of(hookup, owner)}" if owner else "nobody's"
    printed = terminal.printed if terminal else "?"
    if device is not None and len(hookup.devices) > 1:
        printed = f"{printed} · {device.title}"
    switch = name_of(hookup, pressed) if pressed else "?"
    return Followed(owner, (switch, printed, f"{report.event} {event_code(report.event):#05x}", game), wrong)
