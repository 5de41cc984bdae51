"""States of a build folder, kept in its logbook: files by their SHA-256, alike ones once, changed ones as differences.

What is tracked are the decisions and what was made of them: build.json, shelf.json, issued/ and attachments/. Games,
stand-ins for drives, archives of saves, journals of a real machine, and the logbook with its photos are not.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import sqlite3
import stat
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from backports import zstd

from kyklon.base.errors import BuildFolderError
from kyklon.base.inside import BUILD_FILE, inside

FILES = (BUILD_FILE, "shelf.json")
FOLDERS = ("issued", "attachments")
NOT = "attachments/log"  # photos and files of the logbook: they belong to their entries, whatever the build becomes
STORED_MOST = 4 << 20  # bytes of a file whose contents are kept; of a larger one its sum is
MOST_FILES = 20_000
_DEEPEST = 24
_SETTLED_NS = 2_000_000_000  # a file changed more lately than this may change again within one tick of its clock
_WORTH = 0.6  # a difference is kept in place of the whole where it takes less than this share of it
_LARGEST_BASE = 4 << 20

SCHEMA = """
CREATE TABLE IF NOT EXISTS object (digest TEXT PRIMARY KEY, base TEXT NOT NULL, data BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS newest (family TEXT PRIMARY KEY, digest TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS seen (path TEXT PRIMARY KEY, state TEXT NOT NULL, digest TEXT NOT NULL) WITHOUT ROWID;
"""


@dataclass(frozen=True)
class Held:
    """A file of a state. digest: SHA-256, hexadecimal. size: bytes."""

    digest: str
    size: int

    @property
    def stored(self) -> bool:
        """Whether its contents are in the logbook."""
        return self.size <= STORED_MOST


Manifest = Mapping[str, Held]  # by path from the build folder


def tracked(folder: Path) -> Iterator[tuple[str, os.stat_result]]:
    """Every tracked plain file, by path; links and what cannot be read are passed over."""
    for name in FILES:
        with contextlib.suppress(OSError):
            status = (folder / name).lstat()
            if stat.S_ISREG(status.st_mode):
                yield name, status
    for name in FOLDERS:
        if not (folder / name).is_symlink():
            yield from _below(folder / name, name, 0)


def _below(place: Path, name: str, depth: int) -> Iterator[tuple[str, os.stat_result]]:
    if depth > _DEEPEST or name == NOT:
        return
    try:
        entries = sorted(os.scandir(place), key=lambda each: each.name)
    except OSError:
        return
    for each in entries:
        with contextlib.suppress(OSError):
            status = each.stat(follow_symlinks=False)
            if stat.S_ISDIR(status.st_mode):
                yield from _below(place / each.name, f"{name}/{each.name}", depth + 1)
            elif stat.S_ISREG(status.st_mode) and not each.name.startswith("."):
                yield f"{name}/{each.name}", status


def take(database: sqlite3.Connection, folder: Path) -> str:
    """Keep the present state of a folder; its id. Raises sqlite3.Error, BuildFolderError for too many files."""
    known = {path: (state, digest) for path, state, digest in database.execute("SELECT path, state, digest FROM seen")}
    found: dict[str, Held] = {}
    for count, (path, status) in enumerate(tracked(folder)):
        if count >= MOST_FILES:
            raise BuildFolderError(f"{folder} has more than {MOST_FILES} files.", do="Move some out of it.")
        key = _key(path)
        state = f"{status.st_ino}-{status.st_size}-{status.st_mtime_ns}-{status.st_ctime_ns}"
        told = known.get(key)
        if told is not None and told[0] == state:
            found[path] = Held(told[1], status.st_size)
            continue
        with contextlib.suppress(OSError):
            held = _keep_file(database, folder / path, path, status.st_size)
            found[path] = held
            if time.time_ns() - max(status.st_mtime_ns, status.st_ctime_ns) > _SETTLED_NS:
                database.execute("INSERT OR REPLACE INTO seen VALUES (?, ?, ?)", (key, state, held.digest))
    return put(database, manifest_text(found), "manifest")


def _keep_file(database: sqlite3.Connection, path: Path, name: str, size: int) -> Held:
    """Raises OSError."""
    if size > STORED_MOST:
        digest = hashlib.sha256()
        length = 0
        with open(path, "rb") as file:
            while block := file.read(1 << 20):
                digest.update(block)
                length += len(block)
        return Held(digest.hexdigest(), length)
    with open(path, "rb") as file:
        data = file.read(STORED_MOST + 1)
    if len(data) > STORED_MOST:  # it grew meanwhile
        return _keep_file(database, path, name, len(data))
    return Held(put(database, data, _key(name)), len(data))


def _key(path: str) -> str:
    """A path as SQLite holds it, also one that is no text."""
    return path.encode("utf-8", "backslashreplace").decode()


def manifest_text(found: Manifest) -> bytes:
    """A state as it is kept: its SHA-256 is the state's id."""
    rows = {path: [held.digest, held.size] for path, held in found.items()}
    return json.dumps(rows, sort_keys=True, indent=0).encode("ascii")


def manifest(database: sqlite3.Connection, revision: str) -> Manifest:
    """The files of a state. Raises BuildFolderError for one that is not there, or is damaged."""
    try:
        rows = json.loads(get(database, revision))
        return {str(path): Held(str(digest), int(size)) for path, (digest, size) in rows.items()}
    except (ValueError, TypeError, AttributeError) as bad:
        raise _damaged(revision) from bad


def state_of(folder: Path) -> Manifest:
    """The present state, read whole. Raises OSError."""
    found = {}
    for path, _status in tracked(folder):
        digest, size = hashlib.sha256(), 0
        with open(folder / path, "rb") as file:
            while block := file.read(1 << 20):
                digest.update(block)
                size += len(block)
        found[path] = Held(digest.hexdigest(), size)
    return found


def put(database: sqlite3.Connection, data: bytes, family: str) -> str:
    """Keep bytes under their SHA-256, as a difference from the newest whole ones of their family where that is worth
    it."""
    digest = hashlib.sha256(data).hexdigest()
    if database.execute("SELECT 1 FROM object WHERE digest = ?", (digest,)).fetchone():
        return digest
    whole = zstd.compress(data)
    row = database.execute("SELECT digest FROM newest WHERE family = ?", (family,)).fetchone()
    if row is not None:
        with contextlib.suppress(BuildFolderError):
            base = get(database, row[0])
            if 8 <= len(base) <= _LARGEST_BASE:
                apart = zstd.compress(data, zstd_dict=zstd.ZstdDict(base, is_raw=True))
                if len(apart) < len(whole) * _WORTH:
                    database.execute("INSERT INTO object VALUES (?, ?, ?)", (digest, row[0], apart))
                    return digest
    database.execute("INSERT INTO object VALUES (?, '', ?)", (digest, whole))
    database.execute("INSERT OR REPLACE INTO newest VALUES (?, ?)", (family, digest))
    return digest


def get(database: sqlite3.Connection, digest: str) -> bytes:
    """What is kept under a SHA-256. Raises BuildFolderError where it is not there, or is not what it says."""
    row = database.execute("SELECT base, data FROM object WHERE digest = ?", (digest,)).fetchone()
    if row is None:
        raise BuildFolderError(f"The logbook does not hold {digest[:12]}.", do="Choose another entry.")
    base, packed = row
    try:
        if not isinstance(packed, bytes):
            raise _damaged(digest)
        if base:
            inner = database.execute("SELECT base, data FROM object WHERE digest = ?", (base,)).fetchone()
            if inner is None or inner[0]:  # a difference is from whole bytes, never from another difference
                raise _damaged(digest)
            held = zstd.ZstdDict(_unpacked(inner[1], _LARGEST_BASE), is_raw=True)
            data = _unpacked(packed, STORED_MOST, held)
        else:
            data = _unpacked(packed, max(STORED_MOST, _LARGEST_BASE))
    except (zstd.ZstdError, ValueError, TypeError, EOFError) as bad:
        raise _damaged(digest) from bad
    if hashlib.sha256(data).hexdigest() != digest:
        raise _damaged(digest)
    return data


def _unpacked(packed: bytes, most: int, held: zstd.ZstdDict | None = None) -> bytes:
    """Never more than `most` bytes, whatever they say of themselves."""
    reader = zstd.ZstdDecompressor(zstd_dict=held)
    data = reader.decompress(packed, most + 1)
    if len(data) > most or not reader.eof:
        raise ValueError("too much")
    return data


def _damaged(digest: str) -> BuildFolderError:
    return BuildFolderError(f"The logbook is damaged at {digest[:12]}.", do="Choose another entry.")


def place_of(folder: Path, path: str) -> Path:
    """A tracked path in a folder. Raises KyklonError for one that leads elsewhere."""
    if (path not in FILES and path.split("/")[0] not in FOLDERS) or f"{path}/".startswith(f"{NOT}/"):
        raise BuildFolderError(f"{path!r} is no file of a build's state.", do="Choose another entry.")
    return inside(folder, path)
