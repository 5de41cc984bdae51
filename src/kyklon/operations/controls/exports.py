"""The mapping in the words of others: SDL mapping string, udev rule, wiring list, kernel quirk."""

from __future__ import annotations

import re
from collections import Counter

from kyklon.base.shown import visible
from kyklon.base.tables import csv_of
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.control_records import Keyboard
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Encoder
from kyklon.catalogue.system_records import Emulator, System
from kyklon.catalogue.templates import render
from kyklon.catalogue.text_records import SettingsTemplate
from kyklon.model.build import Build
from kyklon.model.controls import ControlSettings
from kyklon.model.record import Record
from kyklon.model.world import World
from kyklon.operations.controls import hotkeys, keymaps, legends, wiring
from kyklon.operations.controls.hookup import ROLE, Hookup, hookup_of, places_for
from kyklon.operations.controls.levers import axis_hwdb
from kyklon.operations.controls.mapping import (
    axis_indexes,
    button_indexes,
    event_code,
    hat_indexes,
    paths,
    player_of,
)
from kyklon.operations.controls.matrix import reconstruct

BUS_USB = 0x03  # linux/input.h
SDL_PLACES = {  # SDL game controller inputs by place on the panel; a is the near one (SDL 2, SDL_gamecontroller.h)
    "b1": "a",
    "b2": "b",
    "b4": "x",
    "b5": "y",
    "b3": "leftshoulder",
    "b6": "rightshoulder",
    "start": "start",
    "select": "back",
    "up": "dpup",
    "down": "dpdown",
    "left": "dpleft",
    "right": "dpright",
}


def sdl_guid(encoder: Encoder) -> str:
    """Bus, vendor, product and version as little-endian words, each followed by a zero word (SDL 2 on Linux)."""
    words = (BUS_USB, 0, encoder.vendor, 0, encoder.product, 0, encoder.version, 0)
    return b"".join(word.to_bytes(2, "little") for word in words).hex()


def sdl_line(hookup: Hookup, player: int) -> str:
    """One line of SDL's game controller database for a seat: its switches on the device that most of them reach.

    '' for a seat without a device, or one that speaks as a keyboard.
    """
    own = [path for path in paths(hookup) if player_of(path.control) == player and path.terminal is not None]
    roles = Counter(path.device.role for path in own if path.device)
    if not roles:
        return ""
    device = hookup.device(roles.most_common(1)[0][0])
    assert device is not None
    own = [path for path in own if path.device is device]
    players = {path.terminal.player for path in own if path.terminal}
    events = [terminal.event for terminal in device.encoder.terminals if terminal.player in players]
    if any(event.startswith("KEY_") for event in events) or not device.encoder.is_known:
        return ""
    buttons, axes, hats = button_indexes(events), axis_indexes(events), hat_indexes(events)
    fields = []
    for path in own:
        place = SDL_PLACES.get(path.control.partition(".")[2])
        if place is not None and path.terminal is not None:
            fields.append(f"{place}:{_sdl_event(path.terminal.event, buttons, axes, hats)}")
    name = visible(device.encoder.device_name).replace(",", " ")
    return f"{sdl_guid(device.encoder)},{name},{','.join(fields)},platform:Linux,"


def _sdl_event(event: str, buttons: dict[str, int], axes: dict[str, int], hats: dict[str, int]) -> str:
    """b3, -a1, h0.4 as SDL reads them: a hat's ways are 1 up, 2 right, 4 down, 8 left (SDL_joystick.h)."""
    name, sign = event.rstrip("+-"), event[-1]
    if name in hats:
        ways = {("X", "-"): 8, ("X", "+"): 2, ("Y", "-"): 1, ("Y", "+"): 4}
        return f"h{hats[name]}.{ways[name[-1], sign]}"
    return f"{sign}a{axes[name]}" if name in axes else f"b{buttons[event]}"


def fights(hookup: Hookup) -> tuple[tuple[int, int], ...]:
    """Pairs of seats whose SDL lines have one GUID and say different things: only one of them can hold."""
    lines = {player: line for player in range(1, len(hookup.layout.seats) + 1) if (line := sdl_line(hookup, player))}
    return tuple(
        (one, other)
        for one in lines
        for other in lines
        if one < other and lines[one] != lines[other] and lines[one].split(",")[0] == lines[other].split(",")[0]
    )


def udev_rules(hookup: Hookup) -> str:
    """Rules that give every device a steady name under /dev/input (udev(7)), by its USB ids; by the socket it is
    plugged into (ID_PATH) where that is known, which two devices of a kind need."""
    told = {place.role: place.port for place in hookup.settings.places}
    lines = []
    for device in hookup.devices:
        encoder, port = device.encoder, told.get(device.role, "")
        if encoder.link not in ("usb", "bluetooth"):
            continue
        if not encoder.is_known:
            lines.append(f"# {visible(device.title)}: its USB ids are not known; learn your own on the shelf")
            continue
        match = f'ATTRS{{id/vendor}}=="{encoder.vendor:04x}", ATTRS{{id/product}}=="{encoder.product:04x}"'
        if port:
            match += f', ENV{{ID_PATH}}=="{port}"'
        name = f"{encoder.id}-{device.role.rpartition('-')[2]}" if device.role != ROLE else encoder.id
        kind = 'ENV{ID_INPUT_KEYBOARD}=="1"' if _is_keyboard(encoder) else 'ENV{ID_INPUT_JOYSTICK}=="1"'
        many = "-%n" if encoder.players > 1 else ""  # the kernel numbers the nodes of one device in their order
        links = [f"{name}{many}"]
        if hookup.settings.naming == "steady":
            links.append(f"player{device.first}{many}")
        told_links = ", ".join(f'SYMLINK+="input/{link}"' for link in links)
        lines += [
            f"# {visible(device.title)}: players {device.first} to {device.first + encoder.players - 1}"
            if encoder.players > 1
            else f"# {visible(device.title)}: player {device.first}",
            f'SUBSYSTEM=="input", KERNEL=="event*", {match}, {kind}, {told_links}, TAG+="uaccess"',
        ]
    return "".join(f"{line}\n" for line in lines)


def _is_keyboard(encoder: Encoder) -> bool:
    return any(terminal.event.startswith("KEY_") for terminal in encoder.terminals)


def wiring_csv(hookup: Hookup, systems: tuple[System, ...]) -> str:
    """The wiring list: a row a switch, with its terminal, tab, code, and what it does in each system."""
    rows: list[tuple[object, ...]] = [
        ("player", "switch", "encoder", "terminal", "tab_mm", "event", "code", *(system.name for system in systems))
    ]
    by_system = [{path.control: " / ".join(path.inputs) for path in paths(hookup, system)} for system in systems]
    for path in paths(hookup):
        terminal, device = path.terminal, path.device
        row = [player_of(path.control), path.control.partition(".")[2]]
        if terminal is None or device is None:
            rows.append((*row, "", "not wired", "", "", "", *("" for _ in systems)))
            continue
        code = f"0x{event_code(terminal.event):03x}"
        rows.append(
            (
                *row,
                device.title,
                terminal.printed,
                device.encoder.tab_mm,
                terminal.event,
                code,
                *(m[path.control] for m in by_system),
            )
        )
    return csv_of(rows)


def held_together(build: Build, catalogue: Catalogue) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """Sets of the old keyboard's keys that games hold together, with the system's name; and those that its user
    picked, under ''."""
    settings = build.controls.keyboard
    own = catalogue.find(Keyboard, settings.layout)
    if own is None:
        return ()
    found: list[tuple[str, tuple[str, ...]]] = [("", settings.played)] if settings.played else []
    for system in systems_of(build, catalogue):
        target = catalogue.find(Keyboard, system.keyboard)
        if target is not None and system.held:
            pairs = keymaps.pairs_of(own, target, settings.school)
            found += [(system.name, keys) for keys in keymaps.held_on(pairs, system.held)]
    return tuple(found)


def lines_of(build: Build, catalogue: Catalogue) -> dict[str, tuple[int, int]]:
    """Row and column of each key of the old keyboard: from the readings where there are any, else from the data."""
    settings = build.controls.keyboard
    if settings.readings:
        return dict(reconstruct(settings.readings).keys)
    own = catalogue.find(Keyboard, settings.layout)
    return {key.id: key.line for key in own.keys if key.line is not None} if own is not None else {}


class MapLine(Record):
    """An input of a system for a seat: place and event are '' where it has no button. button: SDL's index, -1 for an
    axis, a hat or a key."""

    input: str
    label: str
    place: str
    event: str
    code: int
    button: int


class MapPlayer(Record):
    number: int
    device: str
    lines: tuple[MapLine, ...]


def players_of(hookup: Hookup, system: System, game: str = "") -> tuple[MapPlayer, ...]:
    """What every seat's switches do in a system, for its emulator's template."""
    found = []
    for number in range(1, len(hookup.layout.seats) + 1):
        places = places_for(hookup, system, number, game)
        lines, device_name = [], ""
        for each in system.inputs:
            device, terminal = hookup.wired.get(f"p{number}.{places[each.id]}", (None, None))
            event = terminal.event if terminal else ""
            index = -1
            if device is not None and terminal is not None:
                device_name = device.encoder.device_name
                own = [other.event for other in device.encoder.terminals if other.player == terminal.player]
                index = button_indexes(own).get(event, -1) if event.startswith("BTN_") else -1
            code = event_code(event) if event else 0
            place = places[each.id] if event else ""
            lines.append(MapLine(input=each.id, label=each.label, place=place, event=event, code=code, button=index))
        found.append(MapPlayer(number=number, device=device_name or "none", lines=tuple(lines)))
    return tuple(found)


class MapKey(Record):
    """A key of the machine: code: the kernel's name of the key at hand for it, '' where there is none."""

    key: str
    code: str
    shift: bool


def keys_of(settings: ControlSettings, system: System, catalogue: Catalogue) -> tuple[MapKey, ...]:
    """What the keys of a system with a keyboard are on the old keyboard of the build; nothing without one."""
    own, target = catalogue.find(Keyboard, settings.keyboard.layout), catalogue.find(Keyboard, system.keyboard)
    if own is None or target is None:
        return ()
    pairs = keymaps.pairs_of(own, target, settings.keyboard.school)
    return tuple(MapKey(key=pair.target.id, code=pair.own.code if pair.own else "", shift=pair.shift) for pair in pairs)


def emulator_map(hookup: Hookup, system: System, catalogue: Catalogue, game: str = "") -> tuple[str, str]:
    """Path and text of an emulator's button file; '' twice for one without a template. Raises CatalogueError."""
    emulator = catalogue.get(Emulator, system.emulator)
    if not emulator.map_template:
        return "", ""
    made = catalogue.get(SettingsTemplate, emulator.map_template)
    variables = {
        "system": system,
        "emulator": emulator,
        "players": players_of(hookup, system, game),
        "hotkey": hookup.settings.hotkey,
        "hotkeys": hookup.settings.hotkeys,
        "keys": keys_of(hookup.settings, system, catalogue),
    }
    where = f"templates.toml: {made.id}"
    path = render(made.path, variables, where)
    if game:
        stem, dot, ending = path.rpartition(".")
        path = f"{stem or ending}-{_slug(game)}{dot}{ending if stem else ''}"
    return path, render(made.text, variables, where).lstrip("\n")


def _slug(words: str) -> str:
    """Words as part of a file's name."""
    return re.sub(r"[^a-z0-9]+", "-", words.lower()).strip("-")[:40] or "game"


def target_of(build: Build, catalogue: Catalogue) -> Keyboard | None:
    """The keyboard that the first of the build's systems with one expects."""
    return next(
        (
            found
            for system in systems_of(build, catalogue)
            if (found := catalogue.find(Keyboard, system.keyboard)) is not None
        ),
        None,
    )


def keyboard_files(build: Build, catalogue: Catalogue) -> dict[str, str]:
    """Keymaps of an old keyboard for the system that expects another, in both schools; nothing without one."""
    settings = build.controls.keyboard
    own = catalogue.find(Keyboard, settings.layout)
    target = target_of(build, catalogue) or own
    if own is None or target is None:
        return {}
    pairs = keymaps.pairs_of(own, target, settings.school)
    files = {
        "controls/keyboard/by-position.xkb": keymaps.xkb_symbols(own, target, keymaps.by_position(own, target)),
        "controls/keyboard/by-symbol.xkb": keymaps.xkb_symbols(own, target, keymaps.by_symbol(own, target)),
        "controls/keyboard/keys.txt": keymaps.table(pairs),
    }
    if settings.usb:
        vendor, product = (int(word, 16) for word in settings.usb.split(":"))
        files["controls/keyboard/62-kyklon-keys.hwdb"] = keymaps.hwdb(own, pairs, vendor, product)
    if settings.readings:
        files["controls/keyboard/keymap.dtsi"] = keymaps.matrix_keymap(reconstruct(settings.readings), own, pairs)
    return {path: text for path, text in files.items() if text}


def issue(build: Build, catalogue: Catalogue, _world: World) -> dict[str, str]:
    """All that operation 40 hands on: SDL, udev, wiring, templates at scale, emulators' maps, keymaps."""
    files = keyboard_files(build, catalogue)
    hookup = hookup_of(build, catalogue)
    if hookup is None:
        return files
    lines = [sdl_line(hookup, player) for player in range(1, len(hookup.layout.seats) + 1)]
    systems, made = systems_of(build, catalogue), wiring.harness(hookup)
    files |= {
        "controls/sdl-mapping.txt": "".join(f"{line}\n" for line in dict.fromkeys(lines) if line),
        "controls/70-kyklon-controls.rules": udev_rules(hookup),
        "controls/wiring.csv": wiring_csv(hookup, systems),
        "controls/harness.csv": wiring.table(hookup, made),
        "controls/labels.svg": legends.labels(made),
        "controls/61-kyklon-axes.hwdb": axis_hwdb(
            build.controls.axes,
            {
                device.role: (device.encoder.vendor, device.encoder.product)
                for device in hookup.devices
                if device.encoder.is_known
            },
        ),
        "controls/guests.svg": legends.guest_card(hookup, systems),
    }
    for player in range(1, len(hookup.layout.seats) + 1):
        files[f"controls/drill-seat-{player}.svg"] = legends.template(hookup.layout, player)
    for system in systems:
        files[f"controls/legend-{system.id}.svg"] = legends.legend(hookup, system)
        for game in hotkeys.games_of(hookup.settings, system):
            path, text = emulator_map(hookup, system, catalogue, game)
            if path:
                files[f"controls/{path}"] = text
    return {path: text for path, text in files.items() if text}
