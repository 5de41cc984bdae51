"""A build on disk: build.json and the save before it, logbook.sqlite3, issued/, attachments/.

A save keeps the old text as build.previous.json before it puts the new one in place: at every moment one of the two
is whole.
"""

from __future__ import annotations

import contextlib
import json
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from kyklon.base import durable
from kyklon.base.errors import BuildFolderError, FormatError, KyklonError, NewerBuild
from kyklon.base.inside import BUILD_FILE
from kyklon.base.reading import bytes_of, json_of
from kyklon.model.build import VERSION, Build
from kyklon.model.merge import Merged, merge

CURRENT, PREVIOUS = BUILD_FILE, "build.previous.json"


def _renamed_kernels(data: dict[str, Any]) -> dict[str, Any]:
    """3: kernel files name their instruction set, 'Run ahead' became 'Frames ahead'."""
    boot = data.get("boot")
    if isinstance(boot, dict) and isinstance(boot.get("kernel"), str):
        boot["kernel"] = re.sub(r"^(merrow|tidepool|slipway)([678])\.krn$", r"\1-armv\2.krn", boot["kernel"])
    tuning = data.get("tuning")
    if isinstance(tuning, dict):
        inner = (each for key in ("systems", "games") for each in _values(tuning.get(key)))
        for layer in (tuning.get("front_end"), *inner):
            if isinstance(layer, dict) and "run-ahead-frames" in layer:
                layer["frames-ahead"] = layer.pop("run-ahead-frames")
    return data


def _values(data: Any) -> list[Any]:
    return list(data.values()) if isinstance(data, dict) else []


# version -> the step that makes its data that of the next version
MIGRATIONS: Mapping[int, Callable[[dict[str, Any]], dict[str, Any]]] = {
    1: lambda data: data,  # 2 added the cards' history, the medium and the file sets, each with a default
    2: _renamed_kernels,
    3: lambda data: data,  # 4 added copies of the user's own parts
    4: lambda data: data,  # 5 added the panel of one's own, maps, the keyboard, the proof, each with a default
    5: lambda data: data,  # 6 added lists of games, the choice and the ways onto the machine, each with a default
    6: lambda data: data,  # 7 added the plan, and pieces and lengths of cables, each with a default
}


def resolve(folder: Path, path: str) -> Path:
    """A path of the build: relative ones belong to its folder."""
    return folder / path  # an absolute path stays itself


def sweep(folder: Path) -> None:
    """Take away what a killed program left half-written in a build folder; files that somebody writes now stay."""
    for each in (folder, folder / "attachments", folder / "issued", folder / "drives"):
        durable.sweep(each)


Stamp = tuple[int, int, int] | None


@dataclass(frozen=True)
class Opened:
    """A build with what its reader should know: '' or that the previous save was used. stamp: of what was read."""

    build: Build
    warning: str = ""
    stamp: Stamp = None


@contextlib.contextmanager
def alone(folder: Path) -> Iterator[None]:
    """One at a time over a build folder, windows and commands alike. Raises BuildFolderError."""
    try:
        with durable.alone(folder / CURRENT):
            yield
    except OSError as bad:
        raise BuildFolderError(
            f"{folder} cannot be saved: {bad.strerror}.", do="Free some space, or save it elsewhere."
        ) from bad


def update(folder: Path, change: Callable[[Build], Build]) -> Build:
    """Load, change and save, with no other save in between; the build as saved. Raises BuildFolderError."""
    if not (folder / CURRENT).exists():
        load(folder)  # says what is wrong; a lock is not put into a folder that is none
    with alone(folder):
        before = stamp(folder)
        build = change(load(folder).build)
        _save(folder, build)
        _of_this_program[before] = stamp(folder)
    return build


def save(folder: Path, build: Build) -> None:
    """Save atomically, whatever is there. Raises BuildFolderError; the old build is then still there."""
    with alone(folder):
        _save(folder, build)


def put_bytes(folder: Path, data: bytes) -> Build:
    """Make these very bytes the build.json, as they were saved once. Raises BuildFolderError for no build."""
    build = _build_of(data, folder / CURRENT)
    with alone(folder):
        before = stamp(folder)
        try:
            if (folder / CURRENT).exists():
                _keep_former(folder, (folder / CURRENT).read_bytes())
            durable.replace(folder / CURRENT, data)
        except OSError as bad:
            raise BuildFolderError(
                f"{folder} cannot be saved: {bad.strerror}.", do="Free some space, or save it elsewhere."
            ) from bad
        _of_this_program[before] = stamp(folder)
    return build


def save_since(folder: Path, base: Build, build: Build) -> Merged:
    """Save what was changed since `base` was read, together with what anybody else has saved meanwhile.

    Raises BuildFolderError.
    """
    with alone(folder):
        try:
            there = _read(folder / CURRENT)
        except NewerBuild:
            raise
        except BuildFolderError:  # damaged or gone: kept aside by the save
            there = base
        merged = merge(base, build, there)
        if merged.build != there or there is base:
            _save(folder, merged.build)
    return merged


def stamp(folder: Path) -> Stamp:
    """What differs once build.json was saved anew; None when there is none."""
    try:
        status = (folder / CURRENT).stat()
    except OSError:
        return None
    return status.st_ino, status.st_mtime_ns, status.st_size


# the saves by acts of this program, which tell their window themselves: from one state of a build.json to the next
_of_this_program: dict[Stamp, Stamp] = {}


def after_own(known: Stamp) -> Stamp:
    """The state that a build.json has come to by acts of this program alone."""
    while known is not None and known in _of_this_program:
        known = _of_this_program.pop(known)
    return known


def changed_since(folder: Path, base: Build) -> Build | None:
    """The build on disk when it is another one than `base`; None when it is the same or cannot be read."""
    try:
        found = _read(folder / CURRENT)
    except BuildFolderError:
        return None
    return None if found == base else found


def _save(folder: Path, build: Build) -> None:
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name in ("issued", "attachments"):
            (folder / name).mkdir(exist_ok=True)
        text = json.dumps(build.model_dump(mode="json"), indent=1, sort_keys=True, ensure_ascii=False) + "\n"
        current = folder / CURRENT
        if current.exists():
            _keep_former(folder, current.read_bytes())
        durable.replace_text(current, text)
    except OSError as bad:
        raise BuildFolderError(
            f"{folder} cannot be saved: {bad.strerror}.", do="Free some space, or save it elsewhere."
        ) from bad


def _keep_former(folder: Path, data: bytes) -> None:
    """The save before this one stays; a damaged file does not take the place of a whole one, and stays too."""
    try:
        _build_of(data, folder / CURRENT)
    except BuildFolderError:
        _keep_damaged(folder, data)
    else:
        durable.replace(folder / PREVIOUS, data)


def _keep_damaged(folder: Path, data: bytes) -> Path:
    """A damaged build.json under a name that no other has."""
    for end in ("", *(f"-{number}" for number in range(2, 1000))):
        name = folder / f"{CURRENT}.damaged{end}"
        if not name.exists():
            durable.replace(name, data)
            return name
        if name.read_bytes() == data:
            return name
    return name


def load(folder: Path) -> Opened:
    """The build of a folder; its predecessor when the current one is damaged.

    Raises NewerBuild (untouched) or BuildFolderError.
    """
    if not folder.is_dir():
        raise BuildFolderError(f"{folder} is not a folder.", do="Choose a build folder, or start a new build.")
    read = stamp(folder)
    try:
        return Opened(_read(folder / CURRENT), stamp=read)
    except NewerBuild:
        raise
    except BuildFolderError as bad:
        try:
            build = _read(folder / PREVIOUS)
        except BuildFolderError:
            raise bad from None
        return Opened(build, f"{bad.what} The previous save was opened{_kept_words(folder)}.")


def _kept_words(folder: Path) -> str:
    """Keep a damaged build.json beside itself already now; where, in words."""
    try:
        name = _keep_damaged(folder, (folder / CURRENT).read_bytes())
    except OSError:  # nothing there, or a folder that cannot be written: then nothing can be lost either
        return ""
    return f"; the damaged file is kept as {name.name}"


def _read(path: Path) -> Build:
    if not path.exists():
        raise BuildFolderError(f"{path.parent} is not a build folder.", do="Choose a folder with a build.json.")
    try:
        data = bytes_of(path)
    except KyklonError as bad:
        raise BuildFolderError(bad.what, do="Use the previous save.") from bad
    return _build_of(data, path)


def _build_of(text: bytes, path: Path) -> Build:
    """Raises BuildFolderError for whatever is no build."""
    try:
        data = json_of(text, str(path))
    except FormatError as bad:
        raise BuildFolderError(f"{path} cannot be read: {bad.what}", do="Use the previous save.") from bad
    return Build.model_validate(migrated(data, path)) if isinstance(data, dict) else _refuse(path)


def _refuse(path: Path) -> Build:
    raise BuildFolderError(f"{path} is not a build.", do="Choose a folder with a build.json.")


def migrated(data: dict[str, Any], path: Path) -> dict[str, Any]:
    """The data in the present version, step by step. Raises NewerBuild or BuildFolderError."""
    version = data.get("version")
    if data.get("format") != "kyklon-build" or not isinstance(version, int) or isinstance(version, bool):
        raise BuildFolderError(f"{path} is not a build.", do="Choose a folder with a build.json.")
    if version > VERSION:
        raise NewerBuild(
            f"{path.parent} was saved by a newer Kyklon (format {version}; this version reads up to {VERSION}).",
            do="Open it with that version; nothing was changed.",
        )
    while version < VERSION:
        step = MIGRATIONS.get(version)
        if step is None:
            raise BuildFolderError(f"{path} has the unknown format {version}.", do="Use the previous save.")
        version += 1
        data = {**step(data), "version": version}
    try:
        Build.model_validate(data)
    except ValidationError as bad:
        first = bad.errors()[0]
        place = ".".join(str(step) for step in first["loc"])
        raise BuildFolderError(f"{path}: {place}: {first['msg']}.", do="Use the previous save.") from bad
    return data
