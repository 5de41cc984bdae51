"""Which causes were found before, over all builds: the fault finder's memory."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path

from pydantic import ValidationError

from kyklon.base import durable
from kyklon.base.errors import KyklonError
from kyklon.base.reading import bytes_of, json_of
from kyklon.model.record import Record

FILE = "cures.json"
_MOST = 10_000  # of one cause; nobody meets it more often


class CureFile(Record):
    """found: how often each cause was, by its id."""

    found: dict[str, int] = {}


def cured(path: Path) -> dict[str, int]:
    """How often each cause was found; {} for no file, or for one that is damaged: nothing hangs on it."""
    if not path.exists():
        return {}
    with contextlib.suppress(KyklonError, ValidationError):
        found = CureFile.model_validate(json_of(bytes_of(path), str(path))).found
        return {each: max(0, min(count, _MOST)) for each, count in found.items()}
    return {}


def remember(path: Path, cause: str) -> None:
    """Count one more. Raises KyklonError when it cannot be written."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with durable.alone(path):
        found = cured(path)
        found[cause] = found.get(cause, 0) + 1
        durable.keep(path, json.dumps({"found": found}, indent=1, sort_keys=True).encode() + b"\n")
