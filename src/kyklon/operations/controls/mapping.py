"""The path of a press: control, terminal, event code, game input. Computed from the wiring, never stored."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from kyklon.base.errors import WrongUse
from kyklon.catalogue.records import Encoder, Panel, System, Terminal
from kyklon.model.build import ControlSettings, Wire

BTN_JOYSTICK = 0x120  # linux/input-event-codes.h
DIRECTIONS = ("up", "down", "left", "right")


@dataclass(frozen=True)
class Path:
    """control: p1.b2. terminal: None when the control is not wired. inputs of one system, by label."""

    control: str
    terminal: Terminal | None
    inputs: tuple[str, ...] = ()


def event_code(event: str) -> int:
    """The kernel's number (input-event-codes.h) of an event name; a sign at the end is ignored."""
    from evdev import ecodes  # 100 ms that only a look at codes needs

    name = event.rstrip("+-")
    code = ecodes.ecodes.get(name)
    if not isinstance(code, int):
        raise WrongUse(f"The kernel knows no event {name!r}.")
    return code


def player_of(control: str) -> int:
    """The player's number in 'p2.b1'."""
    return int(control.partition(".")[0].removeprefix("p"))


def all_controls(panel: Panel) -> tuple[str, ...]:
    """Every switch of every seat, as p1.up."""
    return tuple(f"p{player}.{name}" for player in range(1, panel.players + 1) for name in panel.switches())


def paths(panel: Panel, settings: ControlSettings, encoder: Encoder, system: System | None) -> tuple[Path, ...]:
    """The path of every switch, with the inputs of a system it reaches."""
    wired = {wire.control: wire.terminal for wire in settings.wires}
    found = []
    for control in all_controls(panel):
        terminal = encoder.terminal(wired.get(control, ""))
        place = control.partition(".")[2]
        inputs = tuple(each.label for each in system.inputs if each.place == place) if system else ()
        found.append(Path(control, terminal, inputs))
    return tuple(found)


def unreached(
    panel: Panel, settings: ControlSettings, encoder: Encoder, system: System, player: int
) -> tuple[str, ...]:
    """Labels of a system's inputs that no wired switch of the player reaches."""
    reached = {
        label
        for path in paths(panel, settings, encoder, system)
        if path.terminal is not None and player_of(path.control) == player
        for label in path.inputs
    }
    return tuple(each.label for each in system.inputs if each.label not in reached)


def wire_in_order(panel: Panel, encoder: Encoder) -> tuple[Wire, ...]:
    """The wiring school 'terminal order': each seat's switches to the same player's terminals, first to first,
    directions to directions."""
    wires: list[Wire] = []
    for player in range(1, panel.players + 1):
        own = [terminal for terminal in encoder.terminals if terminal.player == player]
        axes = {_direction(terminal): terminal for terminal in own if _direction(terminal)}
        rest = [terminal for terminal in own if not _direction(terminal)]
        for name in panel.switches():
            terminal = axes.get(name) if name in DIRECTIONS and axes else rest.pop(0) if rest else None
            if terminal is not None:
                wires.append(Wire(control=f"p{player}.{name}", terminal=terminal.id))
    return tuple(wires)


def _direction(terminal: Terminal) -> str:
    axes = {"ABS_Y-": "up", "ABS_Y+": "down", "ABS_X-": "left", "ABS_X+": "right"}
    return axes.get(terminal.event) or next(
        (name for name in DIRECTIONS if terminal.event == f"KEY_{name.upper()}"), ""
    )


def button_indexes(events: Iterable[str]) -> dict[str, int]:
    """The index SDL gives each button of a device: codes from BTN_JOYSTICK up first, then those below it
    (SDL 2, joystick/linux, ConfigJoystick)."""
    buttons = {event: event_code(event) for event in events if not event.startswith("ABS_")}
    order = sorted(buttons, key=lambda event: (buttons[event] < BTN_JOYSTICK, buttons[event]))
    return {event: index for index, event in enumerate(order)}


def axis_indexes(events: Iterable[str]) -> dict[str, int]:
    """The index SDL gives each axis, in code order."""
    axes = sorted({event.rstrip("+-") for event in events if event.startswith("ABS_")}, key=event_code)
    return {axis: index for index, axis in enumerate(axes)}
