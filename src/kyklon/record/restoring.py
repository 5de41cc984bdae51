"""A build folder taken back to the state after any entry of its logbook, and forward again.

What is there now is kept as a state first. The state that is wanted is written down before the first file is touched,
and its build.json last: whoever is killed between them finishes when the folder is opened next.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import shutil
import sqlite3
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from kyklon.base import durable, own_file
from kyklon.base.errors import BuildFolderError, KyklonError, WrongUse
from kyklon.base.inside import refuse_link_on_the_way
from kyklon.base.quantities import counted
from kyklon.base.reading import bytes_of, json_of
from kyklon.record import folder as store
from kyklon.record import revisions
from kyklon.record.logbook import Entry, Logbook
from kyklon.record.revisions import Held, Manifest

UNDER_WAY = "restoring.json"  # in the build folder, while one is
LARGE = "history"  # folder for files too large for the logbook that a state does not have


@dataclass(frozen=True)
class Restored:
    """entry: whose state the folder has now. written, removed: paths. missing: large files of that state that are
    nowhere any more. card_differs: whether the build tells another card's state than before: the card itself stays."""

    entry: Entry
    written: tuple[str, ...]
    removed: tuple[str, ...]
    missing: tuple[str, ...]
    card_differs: bool

    @property
    def words(self) -> str:
        told = f"{counted(len(self.written), 'file')} restored, {len(self.removed)} removed."
        if self.missing:
            told += f" No longer here: {', '.join(self.missing)}."
        if self.card_differs:
            told += (
                " The card itself still holds what was written last: put this build's boot files on it, or write it."
            )
        return told


def restore(folder: Path, entry: Entry) -> Restored:
    """Take the folder to the state after an entry; the present one is kept as an entry before. Raises KyklonError."""
    if not entry.revision:
        raise WrongUse(
            f"Entry {entry.id} has no state of the build: it is from before they were kept.", do="Choose a later one."
        )
    book = Logbook(folder)
    with store.alone(folder):
        before = store.load(folder).build.card
        book.reading(lambda database: _all_there(database, entry.revision))
        book.add(0, f"Before restoring entry {entry.id}", entry.title)
        durable.replace_text(folder / UNDER_WAY, json.dumps({"revision": entry.revision, "entry": entry.id}))
        written, removed, missing = _finish(folder, book, entry.revision)
        after = store.load(folder).build.card
    done = Restored(entry, written, removed, missing, before != after)
    book.add(0, f"Restored entry {entry.id} of {entry.at[:16].replace('T', ' ')}", f"{entry.title}\n{done.words}")
    return done


def finish(folder: Path) -> str:
    """Finish what a killed program began; what was done in words, '' for nothing. Raises KyklonError."""
    path = folder / UNDER_WAY
    own_file.refuse_foreign(path)
    if not path.exists():
        return ""
    book = Logbook(folder)
    with store.alone(folder):
        try:
            told = json_of(bytes_of(path), str(path))
            revision, number = str(told["revision"]), int(told["entry"])
        except (KyklonError, KeyError, TypeError, ValueError):
            path.unlink()
            return ""
        _finish(folder, book, revision)
    words = f"The restore of entry {number} was finished."
    book.add(0, f"Restored entry {number}", "Begun by a program that was ended, and finished now.")
    return words


def _all_there(database: sqlite3.Connection, revision: str) -> None:
    """Raise BuildFolderError before anything is touched where a file of the state cannot be read back."""
    for path, held in revisions.manifest(database, revision).items():
        revisions.place_of(Path(), path)
        if held.stored:
            revisions.get(database, held.digest)


def _finish(folder: Path, book: Logbook, revision: str) -> tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...]]:
    try:
        wanted: Manifest = book.reading(lambda database: revisions.manifest(database, revision))
        there = revisions.state_of(folder)
        removed = _remove(folder, there, wanted)
        written, missing = [], []
        last = sorted(
            (path for path in wanted if there.get(path) != wanted[path]), key=lambda path: path == store.CURRENT
        )
        for path in last:
            place = revisions.place_of(folder, path)
            held = wanted[path]
            if not held.stored:
                if not _brought_back(folder, place, held):
                    missing.append(path)
                    continue
            else:
                data: bytes = book.reading(partial(_data_of, held))
                refuse_link_on_the_way(place)
                place.parent.mkdir(parents=True, exist_ok=True)
                if path == store.CURRENT:
                    store.put_bytes(folder, data)
                else:
                    durable.replace(place, data)
            written.append(path)
        (folder / UNDER_WAY).unlink(missing_ok=True)
    except OSError as bad:
        raise BuildFolderError(
            f"{folder} cannot be restored: {bad.strerror}.", do="Free some space; it is finished at the next opening."
        ) from bad
    return tuple(written), removed, tuple(missing)


def _data_of(held: Held, database: sqlite3.Connection) -> bytes:
    return revisions.get(database, held.digest)


def _remove(folder: Path, there: Manifest, wanted: Manifest) -> tuple[str, ...]:
    """Take away what the state does not have; a large file is moved aside, for no entry holds it."""
    removed = []
    for path, held in there.items():
        if wanted.get(path) == held or path == store.CURRENT:
            continue
        place = revisions.place_of(folder, path)
        if not held.stored:
            aside = folder / LARGE / held.digest
            refuse_link_on_the_way(aside)
            aside.parent.mkdir(exist_ok=True)
            place.replace(aside)
        elif path not in wanted:
            place.unlink()
        if path not in wanted:
            removed.append(path)
            for above in place.parents:
                if above.name in revisions.FOLDERS and above.parent == folder:
                    break
                with contextlib.suppress(OSError):
                    above.rmdir()
    return tuple(removed)


def _brought_back(folder: Path, place: Path, held: Held) -> bool:
    aside = folder / LARGE / held.digest
    refuse_link_on_the_way(aside)
    if not aside.is_file() or aside.is_symlink():
        return False
    with open(aside, "rb") as file:
        if hashlib.file_digest(file, "sha256").hexdigest() != held.digest:
            return False
    place.parent.mkdir(parents=True, exist_ok=True)
    shutil.move(aside, place)
    return True
