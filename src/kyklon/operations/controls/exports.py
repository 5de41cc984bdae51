"""The mapping in the words of others: SDL mapping string, udev rule, wiring list, kernel quirk."""

from __future__ import annotations

from kyklon.base.tables import csv_of
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Encoder, Panel, System
from kyklon.model.build import Build, ControlSettings
from kyklon.model.world import World
from kyklon.operations.controls.mapping import axis_indexes, button_indexes, event_code, paths, player_of

BUS_USB = 0x03  # linux/input.h
SDL_PLACES = {  # SDL game controller inputs by place on the panel; a is the near one (SDL 2, SDL_gamecontroller.h)
    "b1": "a", "b2": "b", "b4": "x", "b5": "y", "b3": "leftshoulder", "b6": "rightshoulder",
    "start": "start", "select": "back",
    "up": "dpup", "down": "dpdown", "left": "dpleft", "right": "dpright",
}  # fmt: skip


def sdl_guid(encoder: Encoder) -> str:
    """Bus, vendor, product and version as little-endian words, each followed by a zero word (SDL 2 on Linux)."""
    words = (BUS_USB, 0, encoder.vendor, 0, encoder.product, 0, encoder.version, 0)
    return b"".join(word.to_bytes(2, "little") for word in words).hex()


def sdl_mapping(panel: Panel, settings: ControlSettings, encoder: Encoder, player: int) -> str:
    """One line of SDL's game controller database for a player's half of the encoder.

    A keyboard-type encoder has none: ''.
    """
    events = [terminal.event for terminal in encoder.terminals if terminal.player == player]
    if any(event.startswith("KEY_") for event in events):
        return ""
    buttons, axes = button_indexes(events), axis_indexes(events)
    fields = []
    for path in paths(panel, settings, encoder, None):
        place = SDL_PLACES.get(path.control.partition(".")[2])
        if place is None or path.terminal is None or player_of(path.control) != player:
            continue
        event = path.terminal.event
        if event.startswith("ABS_"):
            fields.append(f"{place}:{event[-1]}a{axes[event[:-1]]}")
        else:
            fields.append(f"{place}:b{buttons[event]}")
    name = encoder.device_name.replace(",", " ")
    return f"{sdl_guid(encoder)},{name},{','.join(fields)},platform:Linux,"


def udev_rule(encoder: Encoder) -> str:
    """A rule that gives the encoder's event nodes steady names (udev(7))."""
    match = f'ATTRS{{id/vendor}}=="{encoder.vendor:04x}", ATTRS{{id/product}}=="{encoder.product:04x}"'
    return (
        f"# {encoder.name}: steady names under /dev/input\n"
        f'SUBSYSTEM=="input", KERNEL=="event*", {match}, SYMLINK+="input/{encoder.id}-%n", TAG+="uaccess"\n'
    )


def wiring_csv(panel: Panel, settings: ControlSettings, encoder: Encoder, systems: tuple[System, ...]) -> str:
    """The wiring list: a row a switch, with its terminal, tab, code, and what it does in each system."""
    rows: list[tuple[object, ...]] = [
        ("player", "switch", "terminal", "tab_mm", "event", "code", *(system.name for system in systems))
    ]
    by_system = [
        {path.control: " / ".join(path.inputs) for path in paths(panel, settings, encoder, system)}
        for system in systems
    ]
    for path in paths(panel, settings, encoder, None):
        terminal = path.terminal
        row = [player_of(path.control), path.control.partition(".")[2]]
        if terminal is None:
            rows.append((*row, "not wired", "", "", "", *("" for _ in systems)))
            continue
        code = f"0x{event_code(terminal.event):03x}"
        rows.append(
            (*row, terminal.printed, encoder.tab_mm, terminal.event, code, *(m[path.control] for m in by_system))
        )
    return csv_of(rows)


def issue(build: Build, catalogue: Catalogue, _world: World) -> dict[str, str]:
    """SDL mapping, udev rule and wiring list; nothing without an encoder and a panel."""
    encoder = catalogue.find(Encoder, build.part("encoder"))
    panel = catalogue.find(Panel, build.controls.panel)
    if encoder is None or panel is None:
        return {}
    lines = [sdl_mapping(panel, build.controls, encoder, player) for player in range(1, panel.players + 1)]
    return {
        "controls/sdl-mapping.txt": "".join(f"{line}\n" for line in dict.fromkeys(lines) if line),
        f"controls/70-{encoder.id}.rules": udev_rule(encoder),
        "controls/wiring.csv": wiring_csv(panel, build.controls, encoder, systems_of(build, catalogue)),
    }
