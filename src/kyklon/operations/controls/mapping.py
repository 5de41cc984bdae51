"""The path of a press: switch, terminal, event code, game input. Computed from the wiring, never stored."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from kyklon.base.errors import WrongUse
from kyklon.catalogue.records import Terminal
from kyklon.catalogue.system_records import System
from kyklon.model.controls import DIRECTIONS, Wire
from kyklon.operations.controls.hookup import Device, Hookup, places_for

BTN_JOYSTICK = 0x120  # linux/input-event-codes.h


@dataclass(frozen=True)
class Path:
    """control: p1.b2. device and terminal: None when the control is not wired. inputs of one system, by label."""

    control: str
    device: Device | None
    terminal: Terminal | None
    inputs: tuple[str, ...] = ()

    @property
    def player(self) -> int:
        """The player that the machine takes it for, 0 where it is not wired."""
        return self.device.player(self.terminal) if self.device and self.terminal else 0


def event_code(event: str) -> int:
    """The kernel's number (input-event-codes.h) of an event name; a sign at the end is ignored."""
    from evdev import ecodes  # 100 ms that only a look at codes needs

    name = event.rstrip("+-")
    code = ecodes.ecodes.get(name)
    if not isinstance(code, int):
        raise WrongUse(f"The kernel knows no event {name!r}.")
    return code


def in_words(switches: Iterable[str]) -> str:
    """Switches by player, as people name them: player 1: up, down, button 2; player 2: start."""
    by_player: dict[str, list[str]] = {}
    for switch in switches:
        seat, _, name = switch.partition(".")
        by_player.setdefault(seat.removeprefix("p"), []).append(spoken(name))
    return "; ".join(f"player {player}: {', '.join(names)}" for player, names in by_player.items())


def spoken(control: str) -> str:
    """A seat's control as people name it: button 2 for b2, joystick for lever."""
    if control[:1] == "b" and control[1:].isdecimal():
        return f"button {control[1:]}"
    return "joystick" if control == "lever" else control


def player_of(control: str) -> int:
    """The player's number in 'p2.b1'."""
    return int(control.partition(".")[0].removeprefix("p"))


def paths(hookup: Hookup, system: System | None = None, game: str = "") -> tuple[Path, ...]:
    """The path of every switch, with the inputs of a system it reaches."""
    seats = range(1, len(hookup.layout.seats) + 1)
    places = {player: places_for(hookup, system, player, game) if system else {} for player in seats}
    labels = {each.id: each.label for each in system.inputs} if system else {}
    found = []
    for control in hookup.switches:
        device, terminal = hookup.wired.get(control, (None, None))
        name = control.partition(".")[2]
        inputs = tuple(labels[own] for own, place in places[player_of(control)].items() if place == name)
        found.append(Path(control, device, terminal, inputs))
    return tuple(found)


def unreached(hookup: Hookup, system: System, player: int, game: str = "") -> tuple[str, ...]:
    """Labels of a system's inputs that no wired switch of the player reaches."""
    reached = {
        label
        for path in paths(hookup, system, game)
        if path.terminal is not None and player_of(path.control) == player
        for label in path.inputs
    }
    return tuple(each.label for each in system.inputs if each.label not in reached)


def wire_in_order(hookup: Hookup, *, printed: bool = False) -> tuple[Wire, ...]:
    """Every seat's switches to the terminals of the same player, directions to directions.

    The school 'terminal order' takes them as they come, first to first; `printed` gives the buttons nearest to the
    player the lowest print instead, row by row from the left.
    """
    wires: list[Wire] = []
    for player, seat in enumerate(hookup.layout.seats, 1):
        own = [
            (device, terminal)
            for device in hookup.devices
            for terminal in device.encoder.terminals
            if device.player(terminal) == player
        ]
        axes = {direction(each): (device, each) for device, each in own if direction(each)}
        rest = [pair for pair in own if not direction(pair[1])]
        names = seat.switches
        if printed:
            plain = sorted(
                (each for each in seat.controls if each.kind == "button"), key=lambda c: (-round(c.y / 25), c.x)
            )
            names = tuple(name for name in names if name not in {each.id for each in plain})
            names = (*(each.id for each in plain), *names)
        for name in names:
            found = axes.get(name) if name in DIRECTIONS and axes else rest.pop(0) if rest else None
            if found is not None:
                wires.append(Wire(control=f"p{player}.{name}", terminal=found[1].id, device=found[0].role))
    order = {control: index for index, control in enumerate(hookup.switches)}
    return tuple(sorted(wires, key=lambda wire: order[wire.control]))


def direction(terminal: Terminal) -> str:
    """The direction that a terminal is made for, '' for a button's."""
    axes = {
        "ABS_Y-": "up",
        "ABS_Y+": "down",
        "ABS_X-": "left",
        "ABS_X+": "right",
        "ABS_HAT0Y-": "up",
        "ABS_HAT0Y+": "down",
        "ABS_HAT0X-": "left",
        "ABS_HAT0X+": "right",
    }
    pads = {"BTN_DPAD_UP": "up", "BTN_DPAD_DOWN": "down", "BTN_DPAD_LEFT": "left", "BTN_DPAD_RIGHT": "right"}
    found = axes.get(terminal.event) or pads.get(terminal.event)
    return found or next((name for name in DIRECTIONS if terminal.event == f"KEY_{name.upper()}"), "")


def button_indexes(events: Iterable[str]) -> dict[str, int]:
    """The index SDL gives each button of a device: codes from BTN_JOYSTICK up first, then those below it
    (SDL 2, joystick/linux, ConfigJoystick)."""
    buttons = {event: event_code(event) for event in events if event.startswith(("BTN_", "KEY_"))}
    order = sorted(buttons, key=lambda event: (buttons[event] < BTN_JOYSTICK, buttons[event]))
    return {event: index for index, event in enumerate(order)}


def axis_indexes(events: Iterable[str]) -> dict[str, int]:
    """The index SDL gives each axis, in code order; hats are counted apart."""
    axes = sorted(
        {event.rstrip("+-") for event in events if event.startswith("ABS_") and "HAT" not in event}, key=event_code
    )
    return {axis: index for index, axis in enumerate(axes)}


def hat_indexes(events: Iterable[str]) -> dict[str, int]:
    """The index SDL gives each hat, by either of its axes: a hat is a pair of ABS_HATnX and ABS_HATnY."""
    pairs = sorted({event_code(event) // 2 for event in events if event.startswith("ABS_HAT")})
    return {event.rstrip("+-"): pairs.index(event_code(event) // 2) for event in events if event.startswith("ABS_HAT")}
