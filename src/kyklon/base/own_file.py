"""Files that the program adds to by itself: journals and databases in a build folder.

A build folder may come from anybody. What stands under such a file's name is written to only when it is a plain file;
a link, a pipe or a device is refused, so that nothing is ever written through it.
"""

from __future__ import annotations

import contextlib
import os
import sqlite3
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any

from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.inside import refuse_link_on_the_way

_FLAGS = os.O_WRONLY | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
_BESIDE = ("", "-wal", "-shm", "-journal")  # files of a SQLite database (sqlite.org/tempfiles)


def refuse_foreign(path: Path) -> None:
    """Raise WrongUse where `path` is there and is not a plain file, or a link leads to its folder."""
    refuse_link_on_the_way(path)
    with contextlib.suppress(FileNotFoundError):
        status = path.lstat()
        what = _what(status)
        if what:
            raise WrongUse(f"{path} is {what}; nothing is written through it.", do="Move it aside and try again.")


def _what(status: os.stat_result) -> str:
    """What a name is that is no plain file, '' for one that is."""
    if stat.S_ISLNK(status.st_mode):
        return "a link to another file"
    return "" if stat.S_ISREG(status.st_mode) else "not a plain file"


def opened(path: Path, *, anew: bool = False) -> IO[str]:
    """A text file to add to, or one begun anew; of the old one another name may be kept, so it is not written over.
    Raises WrongUse (see refuse_foreign) and OSError."""
    refuse_foreign(path)
    if anew:
        path.unlink(missing_ok=True)
    descriptor = os.open(path, _FLAGS | (0 if anew else os.O_APPEND), 0o666)
    file = os.fdopen(descriptor, "w" if anew else "a", encoding="utf-8")
    try:
        if what := _what(os.fstat(descriptor)):
            raise WrongUse(f"{path} is {what}; nothing is written through it.", do="Move it aside and try again.")
    except BaseException:
        file.close()
        raise
    return file


class _Store(sqlite3.Connection):
    """A connection whose every error is sqlite3's own: a damaged schema may not even be named in UTF-8."""

    def execute(self, *asked: Any) -> sqlite3.Cursor:
        """Override."""
        with _in_sqlites_words():
            return super().execute(*asked)

    def executemany(self, *asked: Any) -> sqlite3.Cursor:
        """Override."""
        with _in_sqlites_words():
            return super().executemany(*asked)

    def executescript(self, script: str, /) -> sqlite3.Cursor:
        """Override."""
        with _in_sqlites_words():
            return super().executescript(script)


@contextlib.contextmanager
def _in_sqlites_words() -> Iterator[None]:
    try:
        yield
    except UnicodeDecodeError as bad:
        raise sqlite3.DatabaseError(f"database disk image is malformed ({bad})") from bad


def database(path: Path, timeout_s: float) -> sqlite3.Connection:
    """A SQLite database, made where it is not there. Raises WrongUse (see refuse_foreign) and sqlite3.Error."""
    for ending in _BESIDE:
        refuse_foreign(path.with_name(path.name + ending))
    return sqlite3.connect(path, timeout=timeout_s, factory=_Store)


@contextlib.contextmanager
def table(path: Path, columns: str, holds: str) -> Iterator[sqlite3.Connection]:
    """One table of a build folder, made where it is not there; what is done inside is committed at the end.

    columns: name of the table and its columns, 'texts (key text primary key, …)'. holds: what is in it, as the subject
    of a sentence in the plural. Raises KyklonError when it cannot be used, WrongUse (see refuse_foreign).
    """
    try:
        with contextlib.closing(database(path, 10)) as store, store:
            store.execute("pragma journal_mode = wal")  # it is read while it is written
            store.execute("pragma synchronous = normal")
            store.execute(f"create table if not exists {columns}")
            yield store
    except sqlite3.Error as bad:
        raise KyklonError(
            f"{holds} in {path} cannot be used: {bad}.",
            do="Move the file aside to start again; nothing else depends on it.",
        ) from bad
