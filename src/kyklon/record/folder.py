"""A build on disk: build.json and the save before it, logbook.sqlite3, issued/, attachments/.

A save keeps the old text as build.previous.json before it puts the new one in place: at every moment one of the two
is whole.
"""

from __future__ import annotations

import json
import os
import re
import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from kyklon.base import durable
from kyklon.base.errors import BuildFolderError, NewerBuild
from kyklon.model.build import VERSION, Build

CURRENT, PREVIOUS = "build.json", "build.previous.json"


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
}


def resolve(folder: Path, path: str) -> Path:
    """A path of the build: relative ones belong to its folder."""
    return folder / path  # an absolute path stays itself


@dataclass(frozen=True)
class Opened:
    """A build with what its reader should know: '' or that the previous save was used."""

    build: Build
    warning: str = ""


_ONE_AT_A_TIME = threading.RLock()  # the window's saver and a job's record may meet


def update(folder: Path, change: Callable[[Build], Build]) -> None:
    """Load, change and save, with no other save of this program in between."""
    with _ONE_AT_A_TIME:
        save(folder, change(load(folder).build))


def save(folder: Path, build: Build) -> None:
    """Save atomically. Raises BuildFolderError; the old build is then still there."""
    with _ONE_AT_A_TIME:
        _save(folder, build)


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
    """The save before this one stays; a damaged file does not take the place of a whole one."""
    try:
        json.loads(data)
    except ValueError:
        durable.replace(folder / f"{CURRENT}.damaged", data)
    else:
        durable.replace(folder / PREVIOUS, data)


def load(folder: Path) -> Opened:
    """The build of a folder; its predecessor when the current one is damaged.

    Raises NewerBuild (untouched) or BuildFolderError.
    """
    if not folder.is_dir():
        raise BuildFolderError(f"{folder} is not a folder.", do="Choose a build folder, or start a new build.")
    try:
        return Opened(_read(folder / CURRENT))
    except NewerBuild:
        raise
    except BuildFolderError as bad:
        try:
            build = _read(folder / PREVIOUS)
        except BuildFolderError:
            raise bad from None
        return Opened(build, f"{bad.what} The previous save was opened; the damaged file is kept as {CURRENT}.damaged.")


def keep_damaged(folder: Path) -> None:
    """Put a damaged build.json aside under a name of its own, before the first save over it."""
    damaged = folder / CURRENT
    if damaged.exists():
        os.replace(damaged, folder / f"{CURRENT}.damaged")


def _read(path: Path) -> Build:
    try:
        data = json.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError as bad:
        raise BuildFolderError(
            f"{path.parent} is not a build folder.", do="Choose a folder with a build.json."
        ) from bad
    except (OSError, ValueError) as bad:
        raise BuildFolderError(f"{path} cannot be read: {bad}.", do="Use the previous save.") from bad
    return Build.model_validate(migrated(data, path)) if isinstance(data, dict) else _refuse(path)


def _refuse(path: Path) -> Build:
    raise BuildFolderError(f"{path} is not a build.", do="Choose a folder with a build.json.")


def migrated(data: dict[str, Any], path: Path) -> dict[str, Any]:
    """The data in the present version, step by step. Raises NewerBuild or BuildFolderError."""
    version = data.get("version")
    if data.get("format") != "kyklon-build" or not isinstance(version, int):
        raise BuildFolderError(f"{path} is not a build.", do="Choose a folder with a build.json.")
    if version > VERSION:
        raise NewerBuild(
            f"{path.parent} was saved by a newer Kyklon (format {version}, this one knows {VERSION}).",
            do="Open it with that one; nothing was changed.",
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
