"""What a user said games are called: kept by system, file name and size, so that it outlives every scan."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

from kyklon.base import own_file
from kyklon.base.errors import KyklonError

FILE = "titles.sqlite3"  # in the build folder


@dataclass(frozen=True)
class Answer:
    """title: '' for a file that is none of the listed games. proposed: what was proposed at the time. features: of the
    proposal, for the model that learns from it."""

    key: str
    title: str
    proposed: str = ""
    features: tuple[float, ...] = ()


def key_of(system: str, name: str, size: int) -> str:
    """name: of the file, without its folder."""
    plain = name.encode("utf-8", "backslashreplace").decode()  # names that are no text (PEP 383)
    return f"{system}/{size}/{plain}"


class Answers:
    """Those of a build folder."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / FILE

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        try:
            with closing(own_file.database(self._path, 10)) as store, store:
                store.execute("pragma journal_mode = wal")  # an answer is kept while the next one is given
                store.execute("pragma synchronous = normal")
                store.execute(
                    "create table if not exists answers (key text primary key, title text, proposed text, "
                    "features text)"
                )
                yield store
        except sqlite3.Error as bad:
            raise KyklonError(
                f"The answers on titles in {self._path} cannot be used: {bad}.",
                do="Move the file aside to start again; nothing else depends on it.",
            ) from bad

    def all(self) -> dict[str, Answer]:
        """Every answer by its key. Raises KyklonError."""
        if not self._path.exists():
            return {}
        with self._open() as store:
            rows = store.execute("select key, title, proposed, features from answers").fetchall()
        try:
            return {key: Answer(key, title, proposed, tuple(json.loads(told))) for key, title, proposed, told in rows}
        except (ValueError, TypeError) as bad:
            raise KyklonError(f"{self._path} is damaged.", do="Move the file aside to start again.") from bad

    def put(self, *answers: Answer) -> None:
        """Keep answers, in place of earlier ones. Raises KyklonError."""
        rows = [(answer.key, answer.title, answer.proposed, json.dumps(answer.features)) for answer in answers]
        with self._open() as store:
            store.executemany("insert or replace into answers values (?, ?, ?, ?)", rows)

    def forget(self, *keys: str) -> None:
        """Take answers back. Raises KyklonError."""
        with self._open() as store:
            store.executemany("delete from answers where key = ?", [(key,) for key in keys])
