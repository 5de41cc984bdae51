"""Settings files on the machine: put there, read back, and what is different: taken over or put right.

Which line carries which setting is learnt from the template itself: it is rendered with a mark in place of each value.
"""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.base.errors import KyklonError
from kyklon.base.numbers import whole
from kyklon.base.reading import text_of
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.text_records import TuningSetting
from kyklon.devices.destination import Destination
from kyklon.model.build import Build, TuningLayers, Value
from kyklon.model.world import World
from kyklon.operations.tuning.cascade import (
    Place,
    effective,
    file_of,
    picture_words,
    places_of,
    show_value,
    written,
)

_MARK = "\ue000{}\ue001"  # private use: in no honest file
_LARGEST = 1 << 20  # bytes of a settings file


@dataclass(frozen=True)
class Difference:
    """A setting that stands otherwise on the machine. setting: '' for a file that is missing or cannot be read."""

    place: Place
    path: str
    setting: str
    ours: str
    theirs: str


def put(build: Build, catalogue: Catalogue, world: World, destination: Destination) -> int:
    """Write every settings file to the machine, each whole or not at all; how many. Raises KyklonError."""
    shown = picture_words(build, catalogue, world)
    count = 0
    for place in places_of(build, catalogue, world):
        path, text = file_of(build, catalogue, place, shown.get(place.system.id, {}))
        fresh = f"{path}.unfinished"
        with destination.write(fresh, 0) as file:
            file.write(text.encode("utf-8", "surrogateescape"))
        destination.rename(fresh, path)
        count += 1
    return count


def differences(build: Build, catalogue: Catalogue, world: World, destination: Destination) -> tuple[Difference, ...]:
    """What stands otherwise on the machine. Raises KyklonError when it cannot be asked."""
    shown = picture_words(build, catalogue, world)
    found: list[Difference] = []
    for place in places_of(build, catalogue, world):
        path, _text = file_of(build, catalogue, place, shown.get(place.system.id, {}))
        size = destination.size_of(path)
        if size is None or size > _LARGEST:
            found.append(Difference(place, path, "", "", "not there" if size is None else "far too large"))
            continue
        try:
            with destination.read(path) as file:
                text = text_of(file.read(), path)
        except KyklonError as bad:
            if type(bad).__name__ == "TargetLost":
                raise
            found.append(Difference(place, path, "", "", "cannot be read"))
            continue
        theirs = values_in(text, catalogue, place)
        rows = effective(
            catalogue.all(TuningSetting),
            build.tuning,
            place.system.id,
            place.game or None,
            emulator=place.system.emulator,
            folder=place.folder,
        )
        for row in rows:
            ours = show_value(row.setting, row.value)
            if row.setting.id in theirs and theirs[row.setting.id] != ours:
                found.append(Difference(place, path, row.setting.id, ours, theirs[row.setting.id]))
    return tuple(found)


def values_in(text: str, catalogue: Catalogue, place: Place) -> dict[str, str]:
    """The values that a settings file gives, by setting; the last line for one counts."""
    settings = catalogue.all(TuningSetting)
    marks = {setting.id: _MARK.format(setting.id) for setting in settings}
    _path, model = written(catalogue, place, marks, {setting.id: "" for setting in settings}, {})
    shapes: dict[str, tuple[str, str]] = {}
    for line in model.split("\n"):
        for key, mark in marks.items():
            before, found, after = line.partition(mark)
            if found and before.strip() and "\ue000" not in before + after:
                shapes[key] = before.strip(), after.strip()
    values: dict[str, str] = {}
    for line in text.split("\n"):
        bare = line.strip()
        for key, (before, after) in shapes.items():
            if bare.startswith(before):
                rest = bare[len(before) :]
                mark = after[:1]
                values[key] = (rest.partition(mark)[0] if mark else rest).strip()
    return values


def taken_over(build: Build, catalogue: Catalogue, difference: Difference) -> TuningLayers:
    """The layers after the machine's value was taken over, in the layer that the file is for. Raises KyklonError for a
    value that the setting cannot have."""
    setting = catalogue.get(TuningSetting, difference.setting)
    value = parsed(setting, difference.theirs)
    tuning, place = build.tuning, difference.place
    name, key = (
        ("games", place.game)
        if place.game
        else ("folders", place.folder)
        if place.folder
        else ("systems", place.system.id)
    )
    layer = {each: dict(values) for each, values in getattr(tuning, name).items()}
    layer.setdefault(key, {})[setting.id] = value
    return tuning.model_copy(update={name: layer})


def parsed(setting: TuningSetting, text: str) -> Value:
    """A value as a file writes it. Raises KyklonError."""
    if setting.kind == "switch" and text.lower() in ("on", "off", "true", "false", "yes", "no", "1", "0"):
        return text.lower() in ("on", "true", "yes", "1")
    if setting.kind == "choice" and text in setting.choices:
        return text
    number = whole(text)
    if setting.kind in ("count", "percent") and number is not None and setting.low <= number <= setting.high:
        return number
    raise KyklonError(f"{setting.name} cannot be {text!r}.", do="Correct the machine's file instead.")
