"""What files hold: checksums, and what archives have in them. Read with all cores, once: kept by device, inode, size
and times, so that a second look costs a stat each."""

from __future__ import annotations

import hashlib
import itertools
import json
import os
import sqlite3
import threading
import time
import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from contextlib import closing, suppress
from dataclasses import dataclass, field
from pathlib import Path

from kyklon.base import own_file
from kyklon.base.errors import WrongUse
from kyklon.base.meter import Meter
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.system_records import DumpHeader
from kyklon.operations.library.packed import Member, look_into, summed
from kyklon.operations.library.remembered import Remembered

FILE = "sums.sqlite3"  # in the build folder
SUMS = ("CRC-32", "MD5", "SHA-1", "SHA-256", "SHA-512")  # that lists of games state
_HASHLIB = {"MD5": "md5", "SHA-1": "sha1", "SHA-256": "sha256", "SHA-512": "sha512"}
_BLOCK = 1 << 20
_SETTLED_NS = 2_000_000_000  # a file changed more lately than this may change again within one tick of its clock
_FORM = 2  # of what is kept; another one is not read
_PENDING = 8  # batches handed to the cores ahead of time
_BATCH_BYTES, _BATCH_FILES = 4 << 20, 128  # of one batch at most, or a single file


@dataclass(frozen=True, slots=True)
class FileFacts:
    """sums: of the dump, hexadecimal, by algorithm as in SUMS, where they were taken. skipped: bytes that stand before
    the dump. members: of an archive. fault: code and words of what is wrong with an archive, or two ''."""

    sums: Mapping[str, str] = field(default_factory=dict)
    skipped: int = 0
    members: tuple[Member, ...] = ()
    fault: tuple[str, str] = ("", "")
    packed: bool = False


@dataclass(frozen=True, slots=True)
class Asked:
    """A file to look into. sums: of SUMS. headers: that its system knows."""

    path: str
    status: os.stat_result
    sums: frozenset[str] = frozenset()
    headers: tuple[DumpHeader, ...] = ()

    @property
    def key(self) -> str:
        s = self.status
        rule = (
            ",".join([f"{header.at}:{header.magic}:{header.size}" for header in self.headers]) if self.headers else ""
        )
        return f"{s.st_dev}-{s.st_ino}-{s.st_size}-{s.st_mtime_ns}-{s.st_ctime_ns}-{rule}"

    @property
    def packed(self) -> bool:
        return self.path[-4:].lower() == ".zip" or self.path[-3:].lower() == ".7z"


Waiting = tuple[Asked, FileFacts | None]


class Facts:
    """path: of the file that keeps them, None for memory alone. A damaged one is begun anew: only time is lost.

    titles: what names were likest to, kept in the same file."""

    def __init__(self, path: Path | None = None) -> None:
        self._path = path
        self._fresh: dict[str, FileFacts] = {}
        self._kept: dict[str, FileFacts] = {}
        self._stored: dict[str, str] = {}  # as they were kept; taken apart when they are asked for
        self._lock = threading.Lock()
        self.titles = Remembered(path)
        if path is not None:
            self._stored = _read(path)

    def all(
        self, asked: Iterable[Asked], watch: Watch = UNWATCHED, phase: str = "Reading the games"
    ) -> Iterator[tuple[Asked, FileFacts | OSError]]:
        """What each file holds; those that are known first. What one core read is kept, even when cancelled.

        An OSError in place of facts: the file went away or cannot be read.
        """
        waiting: list[Waiting] = []
        for each in asked:
            known = self._known(each.key)
            if known is not None and _enough(known, each):
                yield each, known
            else:
                waiting.append((each, known))
        if not waiting:
            return
        waiting.sort(key=lambda pair: -pair[0].status.st_size)
        meter = Meter(phase, sum(each.status.st_size for each, _known in waiting), watch)
        done = 0

        def moved(count: int) -> None:
            nonlocal done
            meter.wait()
            with self._lock:
                done += count
                meter.report(done)

        with ThreadPoolExecutor(os.cpu_count() or 1, "reading") as pool:
            batches = iter(_batches(waiting))
            running: dict[Future[list[FileFacts | OSError]], list[Waiting]] = {}
            try:
                while True:
                    for batch in itertools.islice(batches, _PENDING - len(running)):
                        running[pool.submit(_take_all, batch, moved)] = batch
                    if not running:
                        break
                    for future in wait(running, return_when=FIRST_COMPLETED).done:
                        for (each, _known), found in zip(running.pop(future), future.result(), strict=True):
                            if isinstance(found, FileFacts):
                                self._learn(each, found)
                            yield each, found
            except BaseException:
                for future in running:
                    future.cancel()
                raise
        meter.report(done, force=True)

    def _known(self, key: str) -> FileFacts | None:
        found = self._kept.get(key)
        if found is None and key in self._stored:
            with suppress(ValueError, TypeError, KeyError, IndexError):
                found = self._kept[key] = _unpacked(self._stored.pop(key))
        return found

    def _learn(self, asked: Asked, found: FileFacts) -> None:
        self._kept[asked.key] = found
        if time.time_ns() - max(asked.status.st_mtime_ns, asked.status.st_ctime_ns) > _SETTLED_NS:
            self._fresh[asked.key] = found

    def keep(self) -> None:
        """Put what was read where it is found again. Never raises: without it the next look takes longer."""
        self.titles.keep()
        if self._path is None or not self._fresh:
            return
        rows = [(key, _packed(facts)) for key, facts in self._fresh.items()]
        with suppress(sqlite3.Error, OSError, WrongUse), closing(_opened(self._path)) as store, store:
            store.executemany("insert or replace into facts values (?, ?)", rows)
            self._fresh = {}


def _batches(waiting: list[Waiting]) -> Iterator[list[Waiting]]:
    """Small files together: handing one over costs more than reading it."""
    batch: list[Waiting] = []
    size = 0
    for each in waiting:
        batch.append(each)
        size += each[0].status.st_size
        if size >= _BATCH_BYTES or len(batch) >= _BATCH_FILES:
            yield batch
            batch, size = [], 0
    if batch:
        yield batch


def _take_all(batch: list[Waiting], moved: Callable[[int], None]) -> list[FileFacts | OSError]:
    found: list[FileFacts | OSError] = []
    for asked, known in batch:
        try:
            found.append(_take(asked, known, moved))
        except OSError as bad:
            found.append(bad)
    return found


def _enough(known: FileFacts, asked: Asked) -> bool:
    if asked.packed:
        wanted = {each for each in asked.sums if each in _HASHLIB} if asked.path[-4:].lower() == ".zip" else set()
        return known.packed and (bool(known.fault[0]) or all(wanted <= member.sums.keys() for member in known.members))
    return asked.sums <= known.sums.keys()


def _take(asked: Asked, known: FileFacts | None, moved: Callable[[int], None]) -> FileFacts:
    if asked.packed:
        members, fault = look_into(Path(asked.path), moved)
        if asked.sums and not fault[0]:
            members = summed(
                Path(asked.path), members, {each: _HASHLIB[each] for each in asked.sums if each in _HASHLIB}
            )
        return FileFacts(members=members, fault=fault, packed=True)
    before = known.sums if known is not None else {}
    wanted = asked.sums - before.keys()
    hashes = {name: hashlib.new(_HASHLIB[name], usedforsecurity=False) for name in sorted(wanted - {"CRC-32"})}
    crc = 0
    with open(asked.path, "rb", buffering=0) as file:
        whole = min(_BLOCK, asked.status.st_size + 1)  # most files are small: a block for each would take longer
        start = file.read(whole)
        skipped = header_of(start, asked.headers)
        block, view = memoryview(start)[skipped:], memoryview(bytearray(whole))
        while len(block):
            if "CRC-32" in wanted:
                crc = zlib.crc32(block, crc)
            for each in hashes.values():
                each.update(block)
            moved(len(block))
            block = view[: file.readinto(view)]
    told = {name: each.hexdigest() for name, each in hashes.items()}
    told |= {"CRC-32": f"{crc:08x}"} if "CRC-32" in wanted else {}
    return FileFacts({**before, **told}, skipped)


def header_of(start: bytes, headers: Iterable[DumpHeader]) -> int:
    """Bytes before the dump itself, by what it begins with; 0 where no header of its system is there."""
    for header in headers:
        magic = bytes.fromhex(header.magic)
        if start[header.at : header.at + len(magic)] == magic and len(start) > header.size:
            return header.size
    return 0


# --- what is kept -----------------------------------------------------------------------------------------------


def _opened(path: Path) -> sqlite3.Connection:
    store = own_file.database(path, 5)
    store.execute("create table if not exists facts (key text primary key, told text) without rowid")
    store.execute(f"pragma user_version = {_FORM}")
    return store


def _read(path: Path) -> dict[str, str]:
    if not path.is_file():
        return {}
    try:
        with closing(own_file.database(path, 5)) as store:
            if store.execute("pragma user_version").fetchone() != (_FORM,):
                return {}
            return dict(store.execute("select key, told from facts"))
    except WrongUse:  # no file of ours: it is neither read nor touched
        return {}
    except (sqlite3.Error, ValueError, TypeError):
        with suppress(OSError):
            path.unlink()
        return {}


def _packed(facts: FileFacts) -> str:
    if not facts.packed:
        return f"{facts.skipped};{';'.join(f'{name}={digest}' for name, digest in facts.sums.items())}"
    members = [
        [member.name, member.size, member.crc, *([dict(member.sums)] if member.sums else [])]
        for member in facts.members
    ]
    return json.dumps([facts.fault, members])


def _unpacked(told: str) -> FileFacts:
    if not told.startswith("["):
        skipped, *sums = told.split(";")
        return FileFacts(dict([each.split("=") for each in sums if each]), int(skipped))
    fault, members = json.loads(told)
    return FileFacts({}, 0, tuple(Member(*member) for member in members), (fault[0], fault[1]), True)
