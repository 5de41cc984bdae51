"""The shelf of the user's own parts: a TOML file each in the catalogue folder, which others may edit at the same time.

An edit takes the file as it is now and changes the facts it names, under a lock; remarks and order survive.
"""

from __future__ import annotations

import contextlib
import datetime
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kyklon.base import durable
from kyklon.base.errors import CatalogueError, KyklonError, WrongUse
from kyklon.base.reading import bytes_of, text_of, toml_of
from kyklon.catalogue import loader
from kyklon.catalogue.records import CataloguePart
from kyklon.parts.fields import one

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

_ID = re.compile(r"[a-z0-9][a-z0-9-]{0,63}")
Row = Mapping[str, Any]


@dataclass(frozen=True)
class Step:
    """One change of a file, for undo. before, after: its whole text, None for no file."""

    label: str
    path: Path
    before: str | None
    after: str | None


def today() -> str:
    return datetime.date.today().isoformat()


def id_of(name: str) -> str:
    """A short name made from a name: 'Pane 24' -> 'pane-24'."""
    plain = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:64].strip("-")
    return plain or "part"


def plain_row(part: CataloguePart) -> dict[str, Any]:
    """A part's values as a file holds them: what differs from the defaults, no None."""
    return dict(without_none(part.model_dump(mode="json", exclude_defaults=True)))


def without_none(value: Any) -> Any:
    """TOML knows no null."""
    if isinstance(value, Mapping):
        return {key: without_none(each) for key, each in value.items() if each is not None}
    if isinstance(value, (list, tuple)):
        return [without_none(each) for each in value if each is not None]
    return value


class Store:
    """A user's catalogue folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def path(self, kind: str, part_id: str) -> Path:
        """Where a part's own file is, or goes. Raises WrongUse for an id that is none."""
        if kind not in loader.KINDS or not _ID.fullmatch(part_id):
            raise WrongUse(f"{kind}/{part_id} is no part.", do="A short name has small letters, digits and dashes.")
        return self.folder / kind / f"{part_id}.toml"

    def add(self, kind: str, row: Row) -> Step:
        """Put a new part on the shelf. Raises WrongUse when its id is taken, CatalogueError for one that is wrong."""
        path = self.path(kind, str(row.get("id", "")))
        loader.part_of(kind, row, f"the new {one(kind)}")
        if row["id"] in loader.shipped(kind) or any(
            of == kind and row["id"] in self._ids(kind, file) for of, file in loader.user_files(self.folder)
        ):
            raise WrongUse(f"There is a {one(kind)} {row['id']!r} already.", do="Give it another short name.")
        with self._alone(path):
            if path.exists():
                raise WrongUse(f"There is a {one(kind)} {row['id']!r} already.", do="Give it another short name.")
            text = text_for({kind: [row]}, f"{row['name']}, on the shelf since {today()}. Remarks of yours are kept.")
            self._write(path, text)
        return Step(f"Added {row['name']}", path, None, text)

    def change(self, kind: str, part_id: str, values: Row, label: str = "") -> Step:
        """Change facts of an own part, by field name; None takes a fact out. What else the file holds stays.

        Raises CatalogueError, WrongUse; then nothing is changed.
        """
        path = self.file_of(kind, part_id)
        with self._alone(path):
            before = self._text(path)
            document, row = _row_in(before, kind, part_id, path)
            for name, value in values.items():
                _put(row, name, value)
            after = document.as_string()
            self._check(kind, part_id, after, path)
            if after != before:
                self._write(path, after)
        return Step(label or f"Changed {part_id}", path, before, after)

    def remove(self, kind: str, part_id: str) -> Step:
        """Take an own part off the shelf. Who uses it is asked elsewhere."""
        path = self.file_of(kind, part_id)
        with self._alone(path):
            before = self._text(path)
            document, row = _row_in(before, kind, part_id, path)
            rows = document[kind]
            after: str | None = None
            if len(rows) > 1:
                del rows[[each is row for each in rows].index(True)]
                after = document.as_string()
                self._write(path, after)
            else:
                self._unlink(path)
        return Step(f"Deleted {part_id}", path, before, after)

    def undo(self, step: Step) -> Step:
        """Take a change back, and what takes that back. Raises WrongUse when somebody has changed the file since."""
        with self._alone(step.path):
            now = self._text(step.path) if step.path.exists() else None
            if now != step.after:
                raise WrongUse(
                    f"{step.path.name} was changed elsewhere since, so “{step.label}” cannot be taken back.",
                    do="Change it by hand; nothing was lost.",
                )
            if step.before is None:
                self._unlink(step.path)
            else:
                self._write(step.path, step.before)
        return Step(step.label, step.path, step.after, step.before)

    def text(self, kind: str, part_id: str) -> str:
        """The whole text of the file that holds an own part."""
        return self._text(self.file_of(kind, part_id))

    def file_of(self, kind: str, part_id: str) -> Path:
        """The file that holds an own part. Raises WrongUse for one that is not the user's own."""
        own = self.path(kind, part_id)
        if own.exists():
            return own
        for of, path in reversed(loader.user_files(self.folder)):
            if of == kind and part_id in self._ids(kind, path):
                return path
        raise WrongUse(f"{part_id!r} is no {one(kind)} of your own.", do="Copy it first; what ships stays as it is.")

    @staticmethod
    def _ids(kind: str, path: Path) -> set[str]:
        try:
            return set(loader.read_file(path, kind))
        except CatalogueError:
            return set()

    def _check(self, kind: str, part_id: str, text: str, path: Path) -> None:
        """Raise CatalogueError unless the text is one that the loader takes."""
        rows = toml_of(text, str(path)).get(kind, [])
        row = next(each for each in rows if each.get("id") == part_id)
        loader.part_of(kind, row, str(path))

    def _text(self, path: Path) -> str:
        return text_of(bytes_of(path), str(path))

    def _write(self, path: Path, text: str) -> None:
        try:
            durable.replace_text(path, text)
        except OSError as bad:
            raise KyklonError(f"{path} cannot be written: {bad.strerror}.", do="Free some space.") from bad

    def _unlink(self, path: Path) -> None:
        try:
            path.unlink(missing_ok=True)
        except OSError as bad:
            raise KyklonError(f"{path} cannot be deleted: {bad.strerror}.") from bad

    @contextlib.contextmanager
    def _alone(self, path: Path) -> Iterator[None]:
        try:
            with durable.alone(path):
                yield
        except OSError as bad:
            raise KyklonError(f"{path} cannot be written: {bad.strerror}.", do="Free some space.") from bad


def text_for(tables: Mapping[str, list[Row]], remark: str = "") -> str:
    """A catalogue file that holds those parts, by kind."""
    import tomlkit

    document = tomlkit.document()
    for line in remark.splitlines():
        document.add(tomlkit.comment("".join(each for each in line if each.isprintable())))
    for kind, rows in tables.items():
        array = tomlkit.aot()
        for row in rows:
            table = tomlkit.table()
            for name, value in row.items():
                _put(table, name, value)
            array.append(table)
        document.add(kind, array)
    return document.as_string()


def _row_in(text: str, kind: str, part_id: str, path: Path) -> tuple[TOMLDocument, Any]:
    """A file's document, and the table of one part in it."""
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    toml_of(text, str(path))  # whatever is too deep or no TOML is told there
    try:
        document = tomlkit.parse(text)
        for row in document.get(kind, []):
            if row.get("id") == part_id:
                return document, row
    except (TOMLKitError, RecursionError, AttributeError, TypeError, ValueError) as bad:
        raise CatalogueError(f"{path} cannot be edited: {bad}.", do="Put the file right with a text editor.") from bad
    raise WrongUse(f"{path} holds no {one(kind)} {part_id!r}.")


def _put(table: Any, name: str, value: Any) -> None:
    """A value into a table, as the shipped files are written: lists of records a line each."""
    import tomlkit

    inner, _, key = name.rpartition(".")
    if inner:  # one of a record within: lamps.idle
        if inner not in table:
            table.add(inner, tomlkit.inline_table())
        table = table[inner]
    value = without_none(value)
    if value is None:
        table.pop(key, None)
        return
    if key == "known" and "known" in table:  # what is known of other facts stays
        for fact, each in value.items():
            table["known"][fact] = _inline(each)
        return
    item = _item(key, value)
    if key in table:
        table[key] = item
    elif key == "known" or "known" not in table:
        table.add(key, item)
    else:  # what belongs to the part stands before the table that ends it
        known = table.pop("known")
        table.add(key, item)
        table.add("known", known)


def _item(key: str, value: Any) -> Any:
    import tomlkit

    if key == "known" and isinstance(value, Mapping):
        made: Any = tomlkit.table()
        for name, each in value.items():
            made.add(name, _inline(each))
        return made
    if isinstance(value, Mapping):
        return _inline(value)
    if isinstance(value, (list, tuple)):
        array = tomlkit.array()
        for each in value:
            array.append(_item("", each))
        if value and isinstance(value[0], Mapping):
            array.multiline(True)
        return array
    return tomlkit.item(value)


def _inline(value: Mapping[str, Any]) -> Any:
    import tomlkit

    made = tomlkit.inline_table()
    for name, each in value.items():
        made.append(name, _item("", each))
    return made
