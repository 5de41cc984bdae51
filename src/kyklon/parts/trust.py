"""Templates, dialects and add-ons of somebody else: shown before they are used, remembered by their bytes after that.

What a template can do is bounded by catalogue.templates; where a file goes, by base.inside. This is the third bound:
that its user has seen it.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from pydantic import Field

from kyklon.base import durable
from kyklon.base.errors import KyklonError
from kyklon.base.places import data_folder
from kyklon.base.reading import bytes_of, json_of
from kyklon.catalogue.add_on_records import AddOn
from kyklon.catalogue.loader import Catalogue, shipped
from kyklon.catalogue.text_records import Dialect, DialectFile, SettingsTemplate
from kyklon.model.build import Build, PartCopy
from kyklon.model.findings import Finding, Severity
from kyklon.model.record import Record
from kyklon.parts.store import plain_row

KINDS = ("dialects", "templates", "add_ons")


def file() -> Path:
    return data_folder() / "looked-at.json"


class _File(Record):
    digests: tuple[str, ...] = Field(default=())


def digest(kind: str, row: Mapping[str, Any]) -> str:
    """Of what a part writes; its name, note and where its facts come from are left aside."""
    plain = {key: each for key, each in row.items() if key not in ("known", "name", "note", "price")}
    return hashlib.sha256(
        json.dumps([kind, plain], sort_keys=True, ensure_ascii=False).encode("utf-8", "replace")
    ).hexdigest()


def looked_at(place: Path | None = None) -> frozenset[str]:
    """Digests of what was seen; none from a file that is damaged."""
    path = place or file()
    try:
        return (
            frozenset(_File.model_validate(json_of(bytes_of(path), str(path))).digests)
            if path.exists()
            else frozenset()
        )
    except (KyklonError, ValueError):
        return frozenset()


def remember(rows: Iterable[tuple[str, Mapping[str, Any]]], place: Path | None = None) -> None:
    """Count these as seen. Raises KyklonError when that cannot be kept."""
    path = place or file()
    fresh = [digest(kind, row) for kind, row in rows]
    with durable.alone(path):
        known = dict.fromkeys((*looked_at(path), *fresh))
        durable.keep(path, _File(digests=tuple(known)).model_dump_json().encode())


def unseen(copies: Iterable[PartCopy], shelf: Catalogue, seen: frozenset[str] | None = None) -> tuple[PartCopy, ...]:
    """The copies with text of their own that are neither shipped nor on the shelf, and that nobody here has seen."""
    suspects = [copy for copy in copies if copy.kind in KINDS]
    if not suspects:
        return ()
    known = looked_at() if seen is None else seen
    found = []
    for copy in suspects:
        own = digest(copy.kind, copy.row)
        same = [
            part
            for rows in (shelf.parts.get(copy.kind, {}), shipped(copy.kind))
            if (part := rows.get(copy.id)) is not None
        ]
        if own not in known and all(digest(copy.kind, plain_row(part)) != own for part in same):
            found.append(copy)
    return tuple(found)


def without(catalogue: Catalogue, copies: Iterable[PartCopy]) -> Catalogue:
    """The catalogue with nothing of these copies' text: a dialect, an add-on that writes nothing, a template that
    is empty."""
    parts = {kind: dict(rows) for kind, rows in catalogue.parts.items()}
    for copy in copies:
        part = parts.get(copy.kind, {}).get(copy.id)
        if isinstance(part, Dialect):
            files = tuple(DialectFile(path=file.path, kind=file.kind, grammar=file.grammar) for file in part.files)
            parts[copy.kind][copy.id] = part.model_copy(update={"files": files})
        elif isinstance(part, SettingsTemplate):
            parts[copy.kind][copy.id] = part.model_copy(update={"text": "", "path": f"settings/{part.id}.txt"})
        elif isinstance(part, AddOn):
            parts[copy.kind][copy.id] = part.model_copy(update={"files": (), "command": "", "packages": ()})
    return Catalogue(parts, catalogue.user_folder, catalogue.own, catalogue.broken, catalogue.shelf)


def shown(kind: str, row: Mapping[str, Any]) -> str:
    """What a part would write, as text to read: paths and templates."""
    lines: list[str] = []
    if kind == "templates":
        lines += [f"writes {row.get('path', '')}", "", str(row.get("text", ""))]
    for each in row.get("files", ()) if kind == "add_ons" else ():
        lines += [f"writes /{str(each.get('path', '')).strip('/')} on the machine", "", str(each.get("text", ""))]
    if kind == "add_ons":
        who = row.get("user") or "root"
        lines += [f"runs {row['command']} as {who}"] if row.get("command") else [f"runs as {who}"]
    for each in row.get("files", ()) if kind == "dialects" else ():
        lines.append(f"writes {each.get('path', '')} on the boot partition")
        lines += [f"    {entry.get('key', '')}: {entry.get('value', '')}" for entry in each.get("entries", ())]
    return "\n".join(lines)


def finding(build: Build, waiting: tuple[PartCopy, ...]) -> list[Finding]:
    """What a build says while its own text was not looked at."""
    if not waiting:
        return []
    names = ", ".join(str(copy.row.get("name", copy.id)) for copy in waiting)
    return [
        Finding(
            code="plan.not-looked-at",
            severity=Severity.STOP,
            operation=10,
            subject=build.name,
            title="This build brings text that nobody here has seen",
            message=f"{names}: it writes nothing until you agree.",
            why="A build from somebody else can carry templates; they are shown before their first use.",
        )
    ]
