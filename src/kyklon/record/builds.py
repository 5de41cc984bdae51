"""The build folders that were opened on this machine: whose parts may not be deleted from the shelf."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pydantic import Field

from kyklon.base import durable
from kyklon.base.errors import KyklonError
from kyklon.base.places import data_folder
from kyklon.base.reading import bytes_of, json_of
from kyklon.model.plan import Done
from kyklon.model.record import Record
from kyklon.record.folder import CURRENT

_MOST_STEPS = 200  # of one build
MOST = 200  # builds that are remembered, the latest


class _File(Record):
    folders: tuple[str, ...] = Field(default=())


def file() -> Path:
    return data_folder() / "builds.json"


def remember(folder: Path, place: Path | None = None) -> None:
    """Count a folder among the builds of this machine. Never raises: it is a help, no duty."""
    path = place or file()
    with contextlib.suppress(OSError, KyklonError), durable.alone(path):
        known = [each for each in _read(path) if each != str(folder.resolve())]
        durable.replace(path, _File(folders=(*known, str(folder.resolve()))[-MOST:]).model_dump_json(indent=1).encode())


def _read(path: Path) -> tuple[str, ...]:
    try:
        return _File.model_validate(json_of(bytes_of(path), str(path))).folders if path.exists() else ()
    except (KyklonError, ValueError):
        return ()


def known(place: Path | None = None) -> dict[Path, Mapping[str, Any]]:
    """The builds that are still there, with the data of each build.json as it stands; damaged ones are left out."""
    found: dict[Path, Mapping[str, Any]] = {}
    for name in _read(place or file()):
        with contextlib.suppress(KyklonError):
            data = json_of(bytes_of(Path(name) / CURRENT), name)
            if isinstance(data, Mapping):
                found[Path(name)] = data
    return found


def steps_done(but: Path, place: Path | None = None) -> tuple[Done, ...]:
    """What was noted of steps in the other builds of this machine."""
    found = []
    for folder, data in known(place).items():
        rows = data.get("plan", {}).get("done", []) if isinstance(data.get("plan"), Mapping) else []
        if folder == but.resolve() or not isinstance(rows, list):
            continue
        for row in rows[:_MOST_STEPS]:
            with contextlib.suppress(ValueError):
                found.append(Done.model_validate(row))
    return tuple(found)
