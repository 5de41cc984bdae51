"""What a proof found, in words: the fault, what to move for it, and whether software can make up for it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kyklon.operations.controls.faulty import WIRES, Fault, Plan, World
from kyklon.operations.controls.hookup import Hookup
from kyklon.operations.controls.mapping import player_of


@dataclass(frozen=True)
class FaultWords:
    """title: what is wrong. cure: what to do with the copper. software: whether the map can be made right instead."""

    fault: Fault
    title: str
    cure: str
    software: bool


def name_of(hookup: Hookup, switch: str) -> str:
    """A switch as people say it: 'seat 1 lever up', 'seat 2 button 3'."""
    seat, _, own = switch.partition(".")
    board = hookup.layout.seat(player_of(switch))
    control = board.owner(own) if board else None
    way = own.rpartition("-")[2]
    if control is None:
        return f"seat {seat[1:]} {own}"
    if control.kind == "button":
        return f"seat {seat[1:]} button {control.label}"
    label = control.label[:1].lower() + control.label[1:]
    return f"seat {seat[1:]} {label} {way}" if len(control.switches) > 1 else f"seat {seat[1:]} {label}"


def _end(plan: Plan, pin: tuple[str, str] | None) -> str:
    """A terminal as it is printed, with its encoder where there are several."""
    if pin is None:
        return "nowhere"
    device = plan.hookup.device(pin[0])
    terminal = device.encoder.terminal(pin[1]) if device else None
    if device is None or terminal is None:
        return pin[1]
    return terminal.printed if len(plan.hookup.devices) == 1 else f"{terminal.printed} of {device.title}"


def told(plan: Plan, fault: Fault) -> FaultWords:
    """A fault in words. Sentences end without a full stop."""
    title, cure = _words(plan, fault)
    return FaultWords(fault, title[:1].upper() + title[1:], cure[:1].upper() + cure[1:], fault.kind in WIRES[:-1])


def _words(plan: Plan, fault: Fault) -> tuple[str, str]:
    names = [
        name_of(plan.hookup, control)
        for control in fault.controls
        if "." in control and control.partition(".")[2] != "lever"
    ]
    ends = [_end(plan, plan.wires.get(control)) for control in fault.controls]
    device = plan.hookup.device(fault.detail)
    encoder = device.title if device else fault.detail
    kind = fault.kind
    if kind == "player":
        seats = " and ".join(control[1:] for control in fault.controls)
        return f"seats {seats} are swapped", f"swap the two plugs, or the harnesses of seats {seats}"
    if kind == "rows":
        seat = fault.controls[0].partition(".")[0][1:]
        return (
            f"the two rows of seat {seat} are crossed",
            "swap the wires of the near row and the far row",
        )
    if kind in ("swapped", "rotated"):
        return _lever(plan, fault)
    if kind == "crossed":
        return f"{names[0]} and {names[1]} are crossed", f"exchange the wires on {ends[0]} and {ends[1]}"
    if kind == "shared":
        return f"{names[1]} is on the terminal of {names[0]}", f"move its wire from {ends[0]} to {ends[1]}"
    if kind == "moved":
        role, _, terminal = fault.detail.partition("/")
        return f"{names[0]} is on {_end(plan, (role, terminal))}", f"move its wire to {ends[0]}"
    if kind == "open":
        return f"{names[0]} sends nothing", f"its wire to {ends[0]} is open: check both quick-connects, then the ground"
    if kind == "bridged":
        return f"the terminals of {names[0]} and {names[1]} touch", f"look for a strand between {ends[0]} and {ends[1]}"
    if kind == "short":
        return (
            f"{ends[0]} is closed all the time",
            f"its wire is shorted to ground: unplug it from {ends[0]} and look for chafed insulation",
        )
    if kind == "stuck":
        return f"{names[0]} does not open again", "free the switch, or turn it in its holder"
    if kind == "bounce":
        return (
            f"{names[0]} bounces longer than the encoder's debounce time",
            "exchange the switch; its contacts are worn",
        )
    if kind == "ghost":
        return f"{encoder} has no diodes", "put a diode at each switch, or move the buttons held together to other rows"
    assert kind == "quirk"
    return f"{encoder} answers as one player", "add its USB quirk to the kernel command line; the wiring is fine"


def _lever(plan: Plan, fault: Fault) -> tuple[str, str]:
    seat = fault.controls[0].partition(".")[0][1:]
    ends = [_end(plan, plan.wires.get(control)) for control in fault.controls]
    if fault.kind == "rotated":
        back = "left" if fault.detail.endswith("right") else "right"
        return (
            f"the joystick of seat {seat} is turned {fault.detail}",
            f"turn it 90° to the {back} on its plate, or move each of its four wires one switch on",
        )
    pairs = {"up and down": (ends[:2],), "left and right": (ends[2:],), "both ways": (ends[:2], ends[2:])}[fault.detail]
    moves = " and ".join(f"{one} with {other}" for one, other in pairs)
    ways = "all four directions" if fault.detail == "both ways" else fault.detail
    return (
        f"the joystick of seat {seat} has {ways} swapped",
        f"exchange {moves}: pushed up, it closes the switch at the bottom",
    )


def ends_found(plan: Plan, faults: Sequence[Fault]) -> dict[str, tuple[str, str] | None]:
    """Where the wires end that these faults say are elsewhere."""
    found = World(plan, tuple(fault for fault in faults if fault.kind in WIRES)).wires
    return {switch: pin for switch, pin in found.items() if plan.wires.get(switch) != pin}
