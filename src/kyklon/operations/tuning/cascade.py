"""Which layer wins: default < front end < emulator < system < folder < game."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import PurePosixPath

from kyklon.base.quantities import NARROW_SPACE
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import Emulator, System
from kyklon.catalogue.templates import render
from kyklon.catalogue.text_records import SettingsTemplate, TuningSetting
from kyklon.model.build import Build, TuningLayers, Value
from kyklon.model.world import World
from kyklon.operations.picture.exports import timing_line
from kyklon.operations.picture.schools import rows_of
from kyklon.operations.picture.smallest import Limits

LAYERS = ("default", "front end", "emulator", "system", "folder", "game")
_UNFIT = re.compile(r'[/\\\\:*?"<>|\x00-\x1f]')  # in a file name, on FAT too
_LONGEST = 120  # characters of a title in a file name


@dataclass(frozen=True)
class Effective:
    """A setting with every layer's value (None where it says nothing) and the layer that wins."""

    setting: TuningSetting
    by_layer: tuple[Value | None, ...]
    value: Value
    layer: str


def effective(
    settings: tuple[TuningSetting, ...],
    layers: TuningLayers,
    system: str,
    game: str | None = None,
    *,
    emulator: str = "",
    folder: str = "",
) -> tuple[Effective, ...]:
    """Every setting as it comes out for a system, or for one of its games (system/title). folder: that the game lies in
    (system/folder)."""
    found = []
    for setting in settings:
        values: tuple[Value | None, ...] = (
            setting.default,
            layers.front_end.get(setting.id),
            layers.emulators.get(emulator, {}).get(setting.id),
            layers.systems.get(system, {}).get(setting.id),
            layers.folders.get(folder, {}).get(setting.id) if folder else None,
            layers.games.get(game, {}).get(setting.id) if game else None,
        )
        index = max(number for number, value in enumerate(values) if value is not None)
        value = values[index]
        assert value is not None
        found.append(Effective(setting, values, value, LAYERS[index]))
    return tuple(found)


def show_value(setting: TuningSetting, value: Value) -> str:
    """As the screen and the files say it."""
    if setting.kind == "switch":
        return "on" if value else "off"
    return f"{value}"


def with_unit(setting: TuningSetting, value: Value) -> str:
    """For the screen, with a unit that agrees with the number."""
    unit = setting.unit.removesuffix("s") if value == 1 and setting.unit == "frames" else setting.unit
    return show_value(setting, value) + (f"{NARROW_SPACE}{unit}" if unit else "")


def picture_words(build: Build, catalogue: Catalogue, world: World) -> dict[str, dict[str, str]]:
    """What a system's settings file says of its picture, by system: the mode's timing, the box in it, the rate."""
    return {
        row.system.id: {
            "timing": timing_line(row.mode.timing),
            "box": ",".join(map(str, row.glass.box)),
            "scale": ",".join(f"{each:.6g}" for each in row.glass.scale),
            "rate": f"{float(row.mode.timing.vertical_hz):.6f}",
            "follow": "on" if abs(row.play.speed - 1) <= Limits().speed else "off",
        }
        for row in rows_of(build, catalogue, world)
    }


def issue(build: Build, catalogue: Catalogue, world: World | None = None) -> dict[str, str]:
    """The settings file of each system, by path, through its emulator's template; and one for each of its games that
    has settings of its own, in a folder beside it."""
    files: dict[str, str] = {}
    shown = picture_words(build, catalogue, world or World())
    for place in places_of(build, catalogue, world or World()):
        path, text = file_of(build, catalogue, place, shown.get(place.system.id, {}))
        files[path] = text
    return files


@dataclass(frozen=True)
class Place:
    """What a settings file is for: a system, one of its folders, or one of its games; folder: that the game lies in."""

    system: System
    game: str = ""
    folder: str = ""


def places_of(build: Build, catalogue: Catalogue, world: World) -> tuple[Place, ...]:
    """Every file that is issued: one a system, and one for each folder and game with settings of its own."""
    found = []
    for system_id in build.systems:
        system = catalogue.get(System, system_id)
        found.append(Place(system))
        found += [Place(system, "", key) for key in build.tuning.folders if key.partition("/")[0] == system_id]
        found += [
            Place(system, key, folder_of(key, world, system))
            for key in build.tuning.games
            if key.partition("/")[0] == system_id
        ]
    return tuple(found)


def folder_of(game: str, world: World, system: System) -> str:
    """The folder of a game as a key (system/folder), '' where it lies directly in its system's."""
    title = game.partition("/")[2]
    games = world.scan.of(system.id) if world.scan else ()
    found = next((each for each in games if title in (each.title, each.called)), None)
    inner = found.key.removeprefix(f"{system.folder}/").rpartition("/")[0] if found else ""
    return f"{system.id}/{inner}" if inner else ""


def file_of(build: Build, catalogue: Catalogue, place: Place, picture: dict[str, str]) -> tuple[str, str]:
    """Path and text of the settings of a place."""
    rows = effective(
        catalogue.all(TuningSetting),
        build.tuning,
        place.system.id,
        place.game or None,
        emulator=place.system.emulator,
        folder=place.folder,
    )
    values = {row.setting.id: show_value(row.setting, row.value) for row in rows}
    return written(catalogue, place, values, {row.setting.id: row.layer for row in rows}, picture)


def written(
    catalogue: Catalogue, place: Place, values: dict[str, str], origin: dict[str, str], picture: dict[str, str]
) -> tuple[str, str]:
    """Path and text of a file with those values. origin: the layer of each."""
    system = place.system
    emulator = catalogue.get(Emulator, system.emulator)
    template = catalogue.get(SettingsTemplate, emulator.template)
    variables = {"system": system, "emulator": emulator, "values": values, "origin": origin, "picture": picture}
    where = f"templates.toml: {template.id}"
    path = PurePosixPath(render(template.path, variables, where))
    if place.game or place.folder:
        title = _UNFIT.sub("_", (place.game or place.folder).partition("/")[2]).strip(". ") or "_"
        name = title[:_LONGEST] if place.game else f"all in {title[:_LONGEST]}"
        path = path.with_suffix("") / f"{name}{path.suffix}"
    return str(path), render(template.text, variables, where).lstrip("\n")
