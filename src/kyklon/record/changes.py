"""What differs between two builds, or two states of a build folder, in words."""

from __future__ import annotations

import difflib
import json
import sqlite3
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kyklon.base.errors import BuildFolderError, KyklonError
from kyklon.base.quantities import show_bytes
from kyklon.base.secrets import HIDDEN, without_secrets
from kyklon.base.shown import visible
from kyklon.model.build import Build
from kyklon.model.fields import Field, describe
from kyklon.record import revisions
from kyklon.record.folder import CURRENT, migrated
from kyklon.record.revisions import Held, Manifest

_LONGEST = 120  # letters of a value in words
_KEYS = ("id", "role", "identity", "item", "operation", "system", "control", "action", "name", "path", "socket")
_NAMES = {  # of what nobody edits by its name
    "card": "Card",
    "cards": "Known cards",
    "ticks": "Checks of the first power-on",
    "sign_offs": "Signed off",
    "copies": "Own parts",
    "kind": "Kind of machine",
    "name": "Name",
    "systems": "Systems",
    "fault": "Fault finder",
}
_GONE = object()


@dataclass(frozen=True)
class Change:
    """One value that differs. path: dotted, from the build. before, after: in words, '' for nothing there."""

    path: str
    label: str
    before: str
    after: str

    @property
    def words(self) -> str:
        return f"{self.label}: {self.before or 'none'} → {self.after or 'none'}"


@dataclass(frozen=True)
class Differences:
    """changes: of the build. files: of other files, by path: a difference of texts, or what became of it in words."""

    changes: tuple[Change, ...]
    files: dict[str, str]

    @property
    def lines(self) -> list[str]:
        """Both, a line or more each."""
        return [change.words for change in self.changes] + [
            told if told.startswith("---") else f"{path}: {told}" for path, told in self.files.items()
        ]


def between_builds(before: Build, after: Build) -> tuple[Change, ...]:
    """Every value that differs, in the order of the build's fields."""
    return _between(before.model_dump(mode="json"), after.model_dump(mode="json"))


def _between(before: dict[str, Any], after: dict[str, Any]) -> tuple[Change, ...]:
    found: list[Change] = []
    _walk(before, after, (), found)
    return tuple(found)


def _walk(before: Any, after: Any, path: tuple[str, ...], found: list[Change]) -> None:
    if before == after:
        return
    if isinstance(before, dict) and isinstance(after, dict) and not _field(path):
        for name in dict.fromkeys((*before, *after)):
            _walk(before.get(name, _GONE), after.get(name, _GONE), (*path, str(name)), found)
        return
    keyed = [_keyed(rows) for rows in (before, after)]
    if keyed[0] is not None and keyed[1] is not None and (keyed[0] or keyed[1]):
        for name in dict.fromkeys((*keyed[0], *keyed[1])):
            _walk(keyed[0].get(name, _GONE), keyed[1].get(name, _GONE), (*path, name), found)
        return
    field = _field(path)
    found.append(Change(".".join(path), _label(path, field), _words(before, field), _words(after, field)))


def _keyed(rows: Any) -> dict[str, Any] | None:
    """Records of a list by what tells them apart; None where nothing does."""
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        return None
    if rows and all("start" in row and "end" in row for row in rows):  # cables, by the sockets that they join
        names = [f"{row['start']} to {row['end']}" for row in rows]
        if len(set(names)) == len(names):
            return dict(zip(names, rows, strict=True))
    for key in _KEYS:
        names = [str(row.get(key, "")) for row in rows]
        if all(names) and len(set(names)) == len(names):
            return dict(zip(names, rows, strict=True))
    return {} if not rows else None


def _field(path: tuple[str, ...]) -> Field | None:
    try:
        return describe(Build, ".".join(path)) if path else None
    except (KeyError, AttributeError, TypeError):
        return None


def _label(path: tuple[str, ...], field: Field | None) -> str:
    if field is not None:
        return field.label
    known = [_NAMES.get(path[0], path[0].replace("_", " ").capitalize())]
    path = path[:-1] if len(path) > 2 and path[-1] in ("part", "cable") else path
    for end in range(len(path) - 1, 0, -1):
        if (outer := _field(path[:end])) is not None:
            return ", ".join([outer.label, *(name.replace("_", " ") for name in path[end:])])
    return ", ".join([*known, *(name.replace("_", " ") for name in path[1:])])


def _words(value: Any, field: Field | None) -> str:
    if value is _GONE or value is None or value == "" or value == [] or value == {}:
        return ""
    if field is not None and field.secret:
        return HIDDEN
    if field is not None and not (isinstance(value, list) and any(isinstance(each, (dict, list)) for each in value)):
        words = field.words(value)
    elif isinstance(value, bool):
        words = "on" if value else "off"
    elif isinstance(value, dict) and "cable" in value:
        words = str(value["cable"])
    elif isinstance(value, (dict, list)):
        words = json.dumps(value, ensure_ascii=False)
    else:
        words = str(value)
    words = visible(without_secrets(words))
    return words if len(words) <= _LONGEST else f"{words[: _LONGEST - 1]}…"


def between_states(database: sqlite3.Connection, before: str, after: str) -> Differences:
    """What differs between two states of a build folder, by their ids. Raises BuildFolderError."""
    old, new = (revisions.manifest(database, each) if each else {} for each in (before, after))
    return between(old, new, lambda held: revisions.get(database, held.digest))


def between(old: Manifest, new: Manifest, data_of: Any) -> Differences:
    """The same of any two states. data_of: the bytes of a Held, or BuildFolderError."""
    changes: tuple[Change, ...] = ()
    files: dict[str, str] = {}
    for path in sorted({*old, *new}):
        a, b = old.get(path), new.get(path)
        if a == b:
            continue
        if path == CURRENT and a is not None and b is not None:
            changes = _between(_build_data(data_of(a)), _build_data(data_of(b)))
            continue
        files[visible(path)] = _file_words(path, a, b, data_of)
    return Differences(changes, files)


def _build_data(data: bytes) -> dict[str, Any]:
    """Raises BuildFolderError for what is no build."""
    try:
        read = json.loads(data)
    except ValueError as bad:
        raise BuildFolderError("A build in the logbook cannot be read.", do="Choose another entry.") from bad
    if not isinstance(read, dict):
        raise BuildFolderError("A build in the logbook is none.", do="Choose another entry.")
    return Build.model_validate(migrated(read, Path(CURRENT))).model_dump(mode="json")


def _file_words(path: str, a: Held | None, b: Held | None, data_of: Any) -> str:
    if a is None or b is None:
        return f"new, {show_bytes(b.size)}" if b is not None else "removed"
    texts = []
    for held in (a, b):
        try:
            data = data_of(held) if held.size < 200_000 else b"\0"
        except KyklonError:
            data = b"\0"
        if b"\0" in data:
            return f"{show_bytes(a.size)} → {show_bytes(b.size)}, other bytes"
        texts.append(visible(without_secrets(data.decode("utf-8", "replace")), lines=True).splitlines())
    lines = difflib.unified_diff(texts[0], texts[1], f"{path} before", f"{path} after", lineterm="", n=1)
    return "\n".join(lines) or "a key or a password differs"
