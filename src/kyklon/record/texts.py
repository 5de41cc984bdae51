"""What a user wrote of games: descriptions and rights, kept by system, file name and size, to outlive every scan."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from contextlib import AbstractContextManager
from pathlib import Path

from kyklon.base import own_file
from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.shown import visible
from kyklon.model.library import NO_TEXT, TEXTS, GameText

FILE = "texts.sqlite3"  # in the build folder
LONGEST = 4_000  # letters of one text


class Texts:
    """Those of a build folder. Keys are those of `answers.key_of`."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / FILE

    def _open(self) -> AbstractContextManager[sqlite3.Connection]:
        return own_file.table(self._path, "texts (key text primary key, told text)", "The descriptions")

    def all(self) -> dict[str, GameText]:
        """Every text by its key. Raises KyklonError."""
        if not self._path.exists():
            return {}
        with self._open() as store:
            rows = store.execute("select key, told from texts").fetchall()
        try:
            told = {str(key): json.loads(text) for key, text in rows}
            return {key: GameText(**{name: str(row.get(name, "")) for name in TEXTS}) for key, row in told.items()}
        except (ValueError, TypeError, AttributeError) as bad:
            raise KyklonError(f"{self._path} is damaged.", do="Move the file aside to start again.") from bad

    def put(self, texts: Mapping[str, GameText]) -> None:
        """Keep texts in place of earlier ones; an empty one is forgotten. Raises KyklonError, WrongUse for one that is
        too long."""
        kept, gone = [], []
        for key, text in texts.items():
            row = {name: visible(getattr(text, name).strip(), lines=True) for name in TEXTS if getattr(text, name)}
            for name, value in row.items():
                if len(value) > LONGEST:
                    raise WrongUse(
                        f"The {name} of {key.rpartition('/')[2]} has {len(value)} letters; at most {LONGEST} are kept.",
                        do="Shorten it.",
                    )
            if text == NO_TEXT:
                gone.append((key,))
            else:
                kept.append((key, json.dumps(row)))
        with self._open() as store:
            store.executemany("insert or replace into texts values (?, ?)", kept)
            store.executemany("delete from texts where key = ?", gone)
