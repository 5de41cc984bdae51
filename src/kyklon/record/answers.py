"""What a user said games are called: kept by system, file name and size, so that it outlives every scan."""

from __future__ import annotations

import json
import sqlite3
from contextlib import AbstractContextManager
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

    def _open(self) -> AbstractContextManager[sqlite3.Connection]:
        columns = "answers (key text primary key, title text, proposed text, features text)"
        return own_file.table(self._path, columns, "The answers on titles")

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
