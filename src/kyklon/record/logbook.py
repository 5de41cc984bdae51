"""The logbook: what was done, when, with which values. Entries are added, never changed."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from kyklon.base import own_file
from kyklon.base.errors import BuildFolderError
from kyklon.base.secrets import without_secrets
from kyklon.base.shown import visible

FILE = "logbook.sqlite3"
_SCHEMA = """
CREATE TABLE IF NOT EXISTS entry (
  id INTEGER PRIMARY KEY, at TEXT NOT NULL, operation INTEGER NOT NULL, kind TEXT NOT NULL,
  title TEXT NOT NULL, detail TEXT NOT NULL DEFAULT ''
)
"""


@dataclass(frozen=True)
class Entry:
    """at: local time, ISO 8601. operation: its number, 0 for none. kind: 'done' by the program, 'own' by the user."""

    at: str
    operation: int
    kind: str
    title: str
    detail: str = ""


def now() -> str:
    """Local time to the second, ISO 8601."""
    return datetime.now().astimezone().isoformat(timespec="seconds")


def _entry(row: tuple[object, ...]) -> Entry:
    """A row as it may be after somebody else, or a worn disk, has been at it."""
    at, operation, kind, title, detail = (
        value.decode("utf-8", "replace") if isinstance(value, bytes) else value for value in row
    )
    number = operation if isinstance(operation, int) else 0
    return Entry(str(at or ""), number, str(kind or ""), str(title or ""), str(detail or ""))


class Logbook:
    def __init__(self, folder: Path) -> None:
        self._path = folder / FILE

    @contextlib.contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        try:
            connection = own_file.database(self._path, 10)
            connection.text_factory = lambda raw: raw.decode("utf-8", "replace")
            try:
                connection.execute("PRAGMA journal_mode=WAL")  # safe without waiting for the disk at every entry
                connection.execute("PRAGMA synchronous=NORMAL")
                with connection:
                    connection.execute(_SCHEMA)
                    yield connection
            finally:
                connection.close()
        except (sqlite3.Error, UnicodeError) as bad:  # sqlite quotes a damaged file's own bytes in its messages
            raise BuildFolderError(
                f"{self._path} cannot be used: {bad}.", do="Move it away; a new one will be created."
            ) from bad

    def add(self, operation: int, title: str, detail: str = "", *, kind: str = "done") -> Entry:
        title, detail = without_secrets(title), without_secrets(detail)
        entry = Entry(now(), operation, kind, visible(title), visible(detail, lines=True))
        with self._open() as database:
            database.execute(
                "INSERT INTO entry (at, operation, kind, title, detail) VALUES (?, ?, ?, ?, ?)",
                (entry.at, operation, kind, entry.title, entry.detail),
            )
        return entry

    def entries(self, words: str = "") -> tuple[Entry, ...]:
        """Newest first; with `words`, those that hold every word in title or detail."""
        query, values = "SELECT at, operation, kind, title, detail FROM entry", []
        conditions = []
        for word in visible(words).split():
            conditions.append("(title || ' ' || detail) LIKE ? ESCAPE '\\'")
            values.append("%" + word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%")
        if conditions:
            query += " WHERE " + " AND ".join(conditions)
        with self._open() as database:
            rows = database.execute(query + " ORDER BY id DESC", values).fetchall()
        return tuple(_entry(row) for row in rows)

    def count(self) -> int:
        with self._open() as database:
            return int(database.execute("SELECT count(*) FROM entry").fetchone()[0])

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
            lines.append(f"* {entry.at[11:16]} **{number}{entry.title}**{own}")
            lines += [f"  {line}" for line in entry.detail.splitlines()]
        return "\n".join(lines) + "\n"
