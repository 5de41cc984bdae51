"""A part as one file for somebody else, with what it needs; and brought in again, with a clear difference."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kyklon.base import durable
from kyklon.base.errors import CatalogueError, FormatError, WrongUse
from kyklon.base.reading import bytes_of, text_of, toml_of
from kyklon.catalogue import loader
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import CataloguePart
from kyklon.parts import copies, trust
from kyklon.parts.copies import Difference
from kyklon.parts.fields import KIND_WORDS, one
from kyklon.parts.store import Step, Store, plain_row, text_for

MOST_PARTS = 500  # in one file


def exported(kind: str, part_id: str, catalogue: Catalogue) -> str:
    """A part's own file: itself, and whatever of the user's own it needs. Raises CatalogueError for one that is not
    there."""
    part = catalogue.parts.get(kind, {}).get(part_id)
    if part is None:
        raise CatalogueError(
            f"There is no {one(kind) if kind in KIND_WORDS else kind} {part_id!r}.", do="`kyklon part list` names them."
        )
    tables: dict[str, list[Any]] = {kind: [plain_row(part)]}
    waiting, seen = copies.needs(part), {(kind, part_id)}
    while waiting:
        place = waiting.pop()
        if place in seen or place not in catalogue.own:
            continue
        seen.add(place)
        needed = catalogue.parts[place[0]][place[1]]
        tables.setdefault(place[0], []).append(plain_row(needed))
        waiting += copies.needs(needed)
    return text_for(tables, f"{part.name}: a part for Kyklon.")


def export(kind: str, part_id: str, catalogue: Catalogue, path: Path) -> None:
    """Raises KyklonError when the file cannot be written."""
    durable.keep(path, exported(kind, part_id, catalogue).encode())


@dataclass(frozen=True)
class Incoming:
    """A part of a file. there: the part of that id that the shelf has, None for none; differences: to it. shipped: what
    is there ships with the program. text: what it would write, '' for a part without text of its own."""

    kind: str
    row: dict[str, Any]
    part: CataloguePart
    there: CataloguePart | None = None
    differences: tuple[Difference, ...] = ()
    shipped: bool = False
    text: str = ""

    @property
    def state(self) -> str:
        if self.there is None:
            return "new"
        return "other" if self.differences else "same"


def incoming(path: Path, catalogue: Catalogue) -> tuple[Incoming, ...]:
    """The parts of a file, compared with what is there. Raises CatalogueError, FormatError, KyklonError with the place.

    catalogue: the shelf's. Nothing is changed.
    """
    return incoming_from(bytes_of(path), path.name, catalogue)


def incoming_from(data: bytes, name: str, catalogue: Catalogue) -> tuple[Incoming, ...]:
    """The same from a file's bytes. name: of the file, for errors."""
    text = text_of(data, name)
    try:
        table = toml_of(text, name)
    except FormatError as bad:
        raise CatalogueError(f"{name} is not valid TOML: {bad.got}.", do="Ask for the file again.") from bad
    found: list[Incoming] = []
    for kind, rows in table.items():
        if kind not in loader.KINDS:
            raise CatalogueError(
                f"{name}: unknown table {kind!r}.", do=f"Kinds of parts are: {', '.join(loader.KINDS)}."
            )
        if not isinstance(rows, list):
            raise CatalogueError(f"{name}: {kind} is one value, not a list.", do=f"Begin each part with [[{kind}]].")
        for row in rows:
            found.append(_incoming(kind, row, name, catalogue))
            if len(found) > MOST_PARTS:
                raise CatalogueError(f"{name} holds more than {MOST_PARTS} parts.")
    if not found:
        raise CatalogueError(f"{name} holds no part.", do="A part file has a table such as [[displays]].")
    _no_dangling(found, catalogue, name)
    return tuple(found)


def _incoming(kind: str, row: Any, name: str, catalogue: Catalogue) -> Incoming:
    part = loader.part_of(kind, row, name)
    if kind in trust.KINDS:
        loader.check_templates_of(part)
    there = catalogue.parts[kind].get(part.id)
    told = copies.differences(there, part, kind) if there is not None else ()
    return Incoming(
        kind,
        dict(row),
        part,
        there,
        told,
        there is not None and (kind, part.id) not in catalogue.own,
        trust.shown(kind, row),
    )


def _no_dangling(found: list[Incoming], catalogue: Catalogue, name: str) -> None:
    brought = {(incoming.kind, incoming.part.id) for incoming in found}
    for incoming in found:
        for kind, wanted in copies.needs(incoming.part):
            if (kind, wanted) not in brought and wanted not in catalogue.parts.get(kind, {}):
                raise CatalogueError(
                    f"{name}: {incoming.part.id} needs the {one(kind)} {wanted!r}, which did not come with it.",
                    do="Ask for that part as well.",
                )


def bring_in(incoming_parts: tuple[Incoming, ...], store: Store, *, replace: bool = False) -> tuple[Step, ...]:
    """Put the parts on the shelf: new ones are added, others replace what is there only when `replace` says so.

    Raises WrongUse for one that ships under the same id.
    """
    steps: list[Step] = []
    for part in incoming_parts:
        if part.state == "same":
            continue
        if part.state == "new":
            steps.append(store.add(part.kind, part.row))
        elif not replace:
            raise WrongUse(
                f"{part.part.name} already exists and is different.",
                do="Review the difference, then allow the replacement.",
            )
        elif part.shipped:
            raise WrongUse(f"{part.part.id!r} is the ID of a shipped part.", do="Give it another ID in the file.")
        else:
            absent = [name for name in plain_row(part.there) if name not in part.row] if part.there is not None else []
            steps.append(
                store.change(
                    part.kind, part.part.id, {**dict.fromkeys(absent), **part.row}, f"Imported {part.part.name}"
                )
            )
    trust.remember((part.kind, part.row) for part in incoming_parts if part.kind in trust.KINDS)
    return tuple(steps)
