"""The logbook: what was done, when, with which values, and the state of the build after it. Entries are added, never
changed; each carries the SHA-256 of the one before it, so that a changed or missing one is told."""

from __future__ import annotations

import contextlib
import hashlib
import json
import sqlite3
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from kyklon.base import own_file
from kyklon.base.errors import BuildFolderError, KyklonError, WrongUse
from kyklon.base.secrets import without_secrets
from kyklon.base.shown import visible
from kyklon.record import revisions

FILE = "logbook.sqlite3"
OUTCOME = "outcome"  # kind of an entry: a real power-on against its forecast
_VERSION = 2  # of its tables: 1 had the first six columns alone
_SCHEMA = """
CREATE TABLE IF NOT EXISTS entry (
  id INTEGER PRIMARY KEY, at TEXT NOT NULL, operation INTEGER NOT NULL, kind TEXT NOT NULL,
  title TEXT NOT NULL, detail TEXT NOT NULL DEFAULT ''
);
"""
_FURTHER = (
    ("revision", "TEXT NOT NULL DEFAULT ''"),
    ("quantity", "TEXT NOT NULL DEFAULT ''"),
    ("value", "REAL NOT NULL DEFAULT 0"),
    ("unit", "TEXT NOT NULL DEFAULT ''"),
    ("cost", "REAL NOT NULL DEFAULT 0"),
    ("minutes", "REAL NOT NULL DEFAULT 0"),
    ("chain", "TEXT NOT NULL DEFAULT ''"),
)
_TABLES = """
CREATE TABLE IF NOT EXISTS attached (
  entry INTEGER NOT NULL, name TEXT NOT NULL, path TEXT NOT NULL, digest TEXT NOT NULL, size INTEGER NOT NULL,
  taken TEXT NOT NULL, thumb BLOB NOT NULL
);
CREATE INDEX IF NOT EXISTS attached_entry ON attached (entry);
CREATE TABLE IF NOT EXISTS head (one INTEGER PRIMARY KEY CHECK (one = 1), count INTEGER NOT NULL, chain TEXT NOT NULL);
"""
_COLUMNS = "id, at, operation, kind, title, detail, revision, quantity, value, unit, cost, minutes, chain"


@dataclass(frozen=True)
class Attached:
    """A photo or file that was added. path: in the build folder. digest: SHA-256. taken: ISO 8601, '' where it does not
    tell. thumb: a small JPEG, empty for what is no picture."""

    name: str
    path: str
    digest: str
    size: int
    taken: str = ""
    thumb: bytes = b""


@dataclass(frozen=True)
class Noted:
    """What an entry may carry: a measured value with its unit, money in the build's currency, minutes at the bench."""

    quantity: str = ""
    value: float = 0.0
    unit: str = ""
    cost: float = 0.0
    minutes: float = 0.0


NOTHING = Noted()


@dataclass(frozen=True)
class Entry:
    """at: local time, ISO 8601. operation: its number, 0 for none. kind: 'done' by the program, 'own' by the user,
    'outcome' of a power-on. revision: the state of the build after it, '' where none was kept."""

    at: str
    operation: int
    kind: str
    title: str
    detail: str = ""
    id: int = 0
    revision: str = ""
    noted: Noted = NOTHING
    files: tuple[Attached, ...] = ()

    @property
    def words(self) -> str:
        """Its title, with what was measured, paid and worked."""
        return self.title if self.kind == OUTCOME else f"{self.title}{noted_words(self.noted)}"


def now() -> str:
    """Local time to the second, ISO 8601."""
    return datetime.now().astimezone().isoformat(timespec="seconds")


def _text(value: object) -> str:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value or "")


def _number(value: object) -> float:
    return float(value) if isinstance(value, (int, float)) else 0.0


def _entry(row: tuple[Any, ...], files: tuple[Attached, ...] = ()) -> Entry:
    """A row as it may be after somebody else, or a worn disk, has been at it."""
    number, at, operation, kind, title, detail, revision, quantity, value, unit, cost, minutes, _chain = row
    noted = Noted(_text(quantity), _number(value), _text(unit), _number(cost), _number(minutes))
    return Entry(
        _text(at),
        operation if isinstance(operation, int) else 0,
        _text(kind),
        _text(title),
        _text(detail),
        number if isinstance(number, int) else 0,
        _text(revision),
        noted,
        files,
    )


def _link(before: str, row: tuple[Any, ...], digests: Iterable[str]) -> str:
    """The SHA-256 of an entry with that of the one before it. row: as stored, without its chain."""
    told = json.dumps([before, *row, sorted(digests)], ensure_ascii=True, default=repr)
    return hashlib.sha256(told.encode("ascii")).hexdigest()


@dataclass(frozen=True)
class Verified:
    """entries: how many were read. wrong: what is not as it was written, in sentences, the first fault first."""

    entries: int
    wrong: tuple[str, ...]


class Logbook:
    def __init__(self, folder: Path) -> None:
        self._folder, self._path = folder, folder / FILE

    @contextlib.contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        try:
            connection = own_file.database(self._path, 10)
            connection.text_factory = lambda raw: raw.decode("utf-8", "replace")
            try:
                connection.execute("PRAGMA journal_mode=WAL")  # safe without waiting for the disk at every entry
                connection.execute("PRAGMA synchronous=NORMAL")
                if connection.execute("PRAGMA user_version").fetchone()[0] < _VERSION:
                    _bring_up_to_date(connection)
                with connection:
                    yield connection
            finally:
                connection.close()
        except (sqlite3.Error, UnicodeError) as bad:  # sqlite quotes a damaged file's own bytes in its messages
            raise BuildFolderError(
                f"{self._path} cannot be used: {bad}.", do="Move it away; a new one will be created."
            ) from bad

    def add(
        self,
        operation: int,
        title: str,
        detail: str = "",
        *,
        kind: str = "done",
        noted: Noted = NOTHING,
        files: tuple[Attached, ...] = (),
    ) -> Entry:
        """Add an entry, with the state of the build folder as it is now. An entry is there even where that state cannot
        be kept. Raises BuildFolderError."""
        title, detail = without_secrets(title), without_secrets(detail)
        with self._open() as database:
            database.execute("BEGIN IMMEDIATE")  # the entry before this one stays the last until this one is there
            revision = self._revision(database)
            entry = Entry(now(), operation, kind, visible(title), visible(detail, lines=True), 0, revision, noted)
            return _insert(database, replace(entry, files=files))

    def _revision(self, database: sqlite3.Connection) -> str:
        if not (self._folder / revisions.FILES[0]).exists():
            return ""
        database.execute("SAVEPOINT state")
        try:
            revision = revisions.take(database, self._folder)
        except (KyklonError, OSError, sqlite3.Error, ValueError):
            database.execute("ROLLBACK TO state")
            revision = ""
        database.execute("RELEASE state")
        return revision

    def entries(self, words: str = "", *, before: int = 0, most: int = 0) -> tuple[Entry, ...]:
        """Newest first; with `words`, those that hold every word in title or detail. before: the id of the first that
        is not wanted, 0 for none; most: 0 for all."""
        query, values = f"SELECT {_COLUMNS} FROM entry", list[Any]()
        conditions = []
        for word in visible(words).split():
            conditions.append("(title || ' ' || detail || ' ' || quantity) LIKE ? ESCAPE '\\'")
            values.append("%" + word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%")
        if before:
            conditions.append("id < ?")
            values.append(before)
        if conditions:
            query += " WHERE " + " AND ".join(conditions)
        query += " ORDER BY id DESC" + (f" LIMIT {int(most)}" if most else "")
        with self._open() as database:
            rows = database.execute(query, values).fetchall()
            files = _files_of(database, [row[0] for row in rows if isinstance(row[0], int)])
        return tuple(_entry(row, files.get(row[0], ())) for row in rows)

    def entry(self, number: int) -> Entry:
        """One entry. Raises WrongUse where there is none of that number."""
        with self._open() as database:
            row = database.execute(f"SELECT {_COLUMNS} FROM entry WHERE id = ?", (number,)).fetchone()
            files = _files_of(database, [number])
        if row is None:
            raise WrongUse(f"The logbook has no entry {number}.", do="`kyklon log show` lists them.")
        return _entry(row, files.get(number, ()))

    def at(self, when: str) -> Entry:
        """The last entry up to a number or a date (ISO 8601, its beginning is enough). Raises WrongUse."""
        if when.isdecimal() and len(when) < 10:
            return self.entry(int(when))
        try:
            datetime.fromisoformat(when)
        except ValueError as bad:
            raise WrongUse(
                f"{when!r} is neither an entry nor a date.", do="Write a number, or a date such as 2027-03-02."
            ) from bad
        end = when + "\uffff" if len(when) <= 10 else when
        with self._open() as database:
            row = database.execute(
                "SELECT id FROM entry WHERE at <= ? ORDER BY at DESC, id DESC LIMIT 1", (end,)
            ).fetchone()
        if row is None:
            raise WrongUse(f"The logbook has no entry up to {when}.", do="`kyklon log show` lists them.")
        return self.entry(int(row[0]))

    def count(self) -> int:
        with self._open() as database:
            return int(database.execute("SELECT count(*) FROM entry").fetchone()[0])

    def measured(self) -> dict[str, tuple[tuple[str, float, str], ...]]:
        """Time, value and unit of what was measured, by quantity, the oldest first."""
        found: dict[str, list[tuple[str, float, str]]] = {}
        with self._open() as database:
            rows = database.execute("SELECT at, quantity, value, unit FROM entry WHERE quantity != '' ORDER BY id")
            for at, quantity, value, unit in rows.fetchall():
                found.setdefault(_text(quantity), []).append((_text(at), _number(value), _text(unit)))
        return {name: tuple(rows) for name, rows in found.items()}

    def totals(self) -> tuple[float, float]:
        """Money and minutes of all entries."""
        with self._open() as database:
            cost, minutes = database.execute("SELECT sum(cost), sum(minutes) FROM entry").fetchone()
        return _number(cost), _number(minutes)

    def reading(self, read: Callable[[sqlite3.Connection], Any]) -> Any:
        """What `read` finds in the logbook's tables, for states of the build. Raises BuildFolderError."""
        with self._open() as database:
            return read(database)

    def verify(self) -> Verified:
        """Follow the chain of entries and read every state back."""
        wrong: list[str] = []
        with self._open() as database:
            rows = database.execute(f"SELECT {_COLUMNS} FROM entry ORDER BY id").fetchall()
            head = database.execute("SELECT count, chain FROM head").fetchone()
            files: dict[int, list[str]] = {}
            for number, digest in database.execute("SELECT entry, digest FROM attached").fetchall():
                files.setdefault(number, []).append(_text(digest))
            before = ""
            for row in rows:
                if row[-1] != _link(before, row[:-1], files.pop(row[0], [])):
                    wrong.append(f"Entry {row[0]} of {_text(row[1])[:16]} was changed, or one before it is missing.")
                before = _text(row[-1])
            if head is None or tuple(head) != (len(rows), before):
                wrong.append("Entries at the end are missing, or were added by something else.")
            if files:
                wrong.append(f"Files were added to entries {', '.join(map(str, sorted(files)[:5]))} afterwards.")
            wrong += _damaged_states(database, dict.fromkeys(_text(row[6]) for row in rows if row[6]))
        return Verified(len(rows), tuple(wrong))

    def markdown(self, name: str) -> str:
        """The whole book, oldest first."""
        lines = [f"# Logbook of {name}", ""]
        day = ""
        for entry in reversed(self.entries()):
            if entry.at[:10] != day:
                day = entry.at[:10]
                lines += ["", f"## {day}", ""]
            number = f"{entry.operation} " if entry.operation else ""
            own = " (own entry)" if entry.kind == "own" else ""
            lines.append(f"* {entry.at[11:16]} **{number}{entry.words}**{own}")
            lines += [f"  {line}" for line in entry.detail.splitlines()]
            lines += [f"  {each.name}: {each.path}" for each in entry.files]
        return "\n".join(lines) + "\n"


def noted_words(noted: Noted, currency: str = "") -> str:
    """What was measured, paid and worked, in words; '' for nothing."""
    parts = [f"{noted.quantity} {noted.value:g} {noted.unit}".strip()] if noted.quantity else []
    parts += [f"{noted.cost:.2f} {currency}".strip() if currency else f"cost {noted.cost:.2f}"] if noted.cost else []
    parts += [f"{noted.minutes:g} min"] if noted.minutes else []
    return f" ({', '.join(parts)})" if parts else ""


def _damaged_states(database: sqlite3.Connection, states: Iterable[str]) -> list[str]:
    wrong: list[str] = []
    good: set[str] = set()
    for revision in states:
        try:
            for path, held in revisions.manifest(database, revision).items():
                if held.stored and held.digest not in good:
                    try:
                        revisions.get(database, held.digest)
                    except BuildFolderError:
                        wrong.append(f"{path} as it was in state {revision[:12]} cannot be read back.")
                    good.add(held.digest)
        except BuildFolderError:
            wrong.append(f"State {revision[:12]} cannot be read back.")
    return wrong


def _insert(database: sqlite3.Connection, entry: Entry) -> Entry:
    last = database.execute("SELECT count, chain FROM head").fetchone() or (0, "")
    number = database.execute("SELECT coalesce(max(id), 0) + 1 FROM entry").fetchone()[0]
    noted = entry.noted
    row = (
        *(number, entry.at, entry.operation, entry.kind, entry.title, entry.detail, entry.revision),
        *(noted.quantity, float(noted.value), noted.unit, float(noted.cost), float(noted.minutes)),
    )
    chain = _link(last[1], row, [each.digest for each in entry.files])
    database.execute(f"INSERT INTO entry ({_COLUMNS}) VALUES ({', '.join('?' * 13)})", (*row, chain))
    database.executemany(
        "INSERT INTO attached VALUES (?, ?, ?, ?, ?, ?, ?)",
        [(number, each.name, each.path, each.digest, each.size, each.taken, each.thumb) for each in entry.files],
    )
    database.execute("INSERT OR REPLACE INTO head VALUES (1, ?, ?)", (last[0] + 1, chain))
    return replace(entry, id=number)


def _files_of(database: sqlite3.Connection, numbers: list[int]) -> dict[int, tuple[Attached, ...]]:
    if not numbers:
        return {}
    found: dict[int, list[Attached]] = {}
    query = "SELECT entry, name, path, digest, size, taken, thumb FROM attached WHERE entry BETWEEN ? AND ?"
    for number, name, path, digest, size, taken, thumb in database.execute(query, (min(numbers), max(numbers))):
        made = Attached(_text(name), _text(path), _text(digest), int(_number(size)), _text(taken), thumb or b"")
        found.setdefault(number, []).append(made if isinstance(made.thumb, bytes) else replace(made, thumb=b""))
    return {number: tuple(files) for number, files in found.items()}


def _bring_up_to_date(database: sqlite3.Connection) -> None:
    """Make its tables those of this version; entries from before the chain are taken into it as they are."""
    database.execute("BEGIN IMMEDIATE")
    try:
        for statement in (_SCHEMA + _TABLES + revisions.SCHEMA).split(";"):
            database.execute(statement)
        there = {row[1] for row in database.execute("PRAGMA table_info(entry)")}
        for name, kind in _FURTHER:
            if name not in there:
                database.execute(f"ALTER TABLE entry ADD COLUMN {name} {kind}")
        if database.execute("SELECT 1 FROM head").fetchone() is None:
            chain, rows = "", database.execute(f"SELECT {_COLUMNS} FROM entry ORDER BY id").fetchall()
            for row in rows:
                chain = _link(chain, row[:-1], [])
                database.execute("UPDATE entry SET chain = ? WHERE id = ?", (chain, row[0]))
            database.execute("INSERT INTO head VALUES (1, ?, ?)", (len(rows), chain))
        database.execute(f"PRAGMA user_version = {_VERSION}")
        database.execute("COMMIT")
    except BaseException:
        database.execute("ROLLBACK")
        raise
