"""Which layer wins: default < front end < system < game."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import PurePosixPath

from kyklon.base.quantities import NARROW_SPACE
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Emulator, SettingsTemplate, System, TuningSetting
from kyklon.catalogue.templates import render
from kyklon.model.build import Build, TuningLayers, Value
from kyklon.model.world import World
from kyklon.operations.picture.exports import timing_line
from kyklon.operations.picture.schools import rows_of
from kyklon.operations.picture.smallest import Limits

LAYERS = ("default", "front end", "system", "game")
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
    settings: tuple[TuningSetting, ...], layers: TuningLayers, system: str, game: str | None = None
) -> tuple[Effective, ...]:
    """Every setting as it comes out for a system, or for one of its games (system/title)."""
    found = []
    for setting in settings:
        values: tuple[Value | None, ...] = (
            setting.default,
            layers.front_end.get(setting.id),
            layers.systems.get(system, {}).get(setting.id),
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
    for system_id in build.systems:
        games = [None, *(game for game in build.tuning.games if game.partition("/")[0] == system_id)]
        for game in games:
            path, text = _file(build, catalogue, catalogue.get(System, system_id), game, shown.get(system_id, {}))
            files[path] = text
    return files


def _file(build: Build, catalogue: Catalogue, system: System, game: str | None,
          picture: dict[str, str]) -> tuple[str, str]:  # fmt: skip
    """Path and text of a system's settings, or of one of its games."""
    emulator = catalogue.get(Emulator, system.emulator)
    template = catalogue.get(SettingsTemplate, emulator.template)
    rows = effective(catalogue.all(TuningSetting), build.tuning, system.id, game)
    variables = {
        "system": system,
        "emulator": emulator,
        "values": {row.setting.id: show_value(row.setting, row.value) for row in rows},
        "origin": {row.setting.id: row.layer for row in rows},
        "picture": picture,
    }
    where = f"templates.toml: {template.id}"
    path = PurePosixPath(render(template.path, variables, where))
    if game is not None:
        title = _UNFIT.sub("_", game.partition("/")[2]).strip(". ") or "_"
        path = path.with_suffix("") / f"{title[:_LONGEST]}{path.suffix}"
    return str(path), render(template.text, variables, where).lstrip("\n")
