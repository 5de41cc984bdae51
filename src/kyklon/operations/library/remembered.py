"""What names of files were likest to, kept by name, list and weights: a second look compares only what is new.

In memory for all looks of one run, and in the build's file of checksums for the next one.
"""

from __future__ import annotations

import hashlib
import json
import math
import sqlite3
import threading
import time
from collections.abc import Mapping
from contextlib import closing, suppress
from pathlib import Path
from typing import TYPE_CHECKING

from kyklon.base import own_file
from kyklon.base.errors import WrongUse
from kyklon.operations.library.compare import Titles
from kyklon.operations.library.match import TOP, Near

if TYPE_CHECKING:
    from kyklon.operations.library.compare import Floats

_FORM = 1  # of how names are compared; what another one found is not read
_MOST_KEPT = 8  # lists, each with the weights it was compared by; what was used longest ago goes first

_lists: dict[str, dict[str, Near]] = {}
_lock = threading.Lock()


class Remembered:
    """path: of the file that keeps it, None for memory alone. A damaged one is begun anew: only time is lost."""

    def __init__(self, path: Path | None = None) -> None:
        self._path = path
        self._used: dict[str, tuple[dict[str, Near], frozenset[str]]] = {}  # with the names that are on the disk

    def of(self, titles: Titles, pair: Floats) -> dict[str, Near]:
        """What is known of names against these titles by these weights; what is added is kept."""
        key = _key_of(titles, pair)
        stored = _read(self._path, key, len(titles.titles)) if self._path is not None else {}
        with _lock:
            known = _lists.pop(key, {})
            _lists[key] = known
            while len(_lists) > _MOST_KEPT:
                _lists.pop(next(iter(_lists)))
        for name, near in stored.items():
            known.setdefault(name, near)
        self._used[key] = known, frozenset(stored)
        return known

    def keep(self) -> None:
        """Put what was found where it is found again. Never raises: without it the next run takes longer."""
        if self._path is None:
            return
        rows = [
            (key, name, _packed(near))
            for key, (known, stored) in self._used.items()
            for name, near in list(known.items())
            if name not in stored and _writable(name)
        ]
        if not rows:
            return
        with suppress(sqlite3.Error, OSError, WrongUse), closing(_opened(self._path)) as store, store:
            now = time.time_ns()
            store.executemany("insert or replace into lists values (?, ?)", [(key, now) for key in self._used])
            store.executemany("insert or replace into near values (?, ?, ?)", rows)
            store.execute(
                "delete from lists where list not in (select list from lists order by used desc limit ?)", (_MOST_KEPT,)
            )
            store.execute("delete from near where list not in (select list from lists)")
        self._used = {key: (known, frozenset(known)) for key, (known, _stored) in self._used.items()}


def _key_of(titles: Titles, pair: Floats) -> str:
    digest = hashlib.sha256(f"{_FORM} {TOP}".encode() + pair.tobytes())
    digest.update("\0".join(titles.titles).encode("utf-8", "surrogatepass"))
    return digest.hexdigest()


def _writable(name: str) -> bool:
    """Whether a text can stand in the file; names that are no UTF-8 are compared again."""
    try:
        name.encode()
    except UnicodeEncodeError:
        return False
    return True


def _opened(path: Path) -> sqlite3.Connection:
    store = own_file.database(path, 5)
    store.execute("create table if not exists lists (list text primary key, used integer) without rowid")
    store.execute(
        "create table if not exists near (list text, name text, told text, primary key (list, name)) without rowid"
    )
    return store


def _read(path: Path, key: str, titles: int) -> Mapping[str, Near]:
    if not path.is_file():
        return {}
    found = {}
    with suppress(sqlite3.Error, OSError, WrongUse), closing(own_file.database(path, 5)) as store:
        for name, told in store.execute("select name, told from near where list = ?", (key,)):
            with suppress(ValueError, TypeError, KeyError, IndexError, RecursionError):
                found[str(name)] = _unpacked(told, titles)
    return found


def _packed(near: Near) -> str:
    return json.dumps([near.title, near.features, near.differs, near.rivals])


def _unpacked(told: str, titles: int) -> Near:
    """Raises ValueError, TypeError, IndexError for what does not stand for titles of this list."""
    title, features, differs, rivals = json.loads(told)
    near = Near(int(title), tuple(map(float, features)), bool(differs), tuple((int(n), float(s)) for n, s in rivals))
    numbers = [near.title, *(number for number, _score in near.rivals)]
    values = [*near.features, *(score for _number, score in near.rivals)]
    fits = all(0 <= number < titles for number in numbers) and len(near.features) == len(TOP)
    if not (fits or (numbers == [-1] and not values)) or not all(map(math.isfinite, values)):
        raise ValueError(told)
    return near
