"""Carries a transfer out: each file beside its place first, read back, and only then under its name.

What was cut short goes on where it broke off: the part that is there is compared, and only the rest is sent. Every step
is written down before it is taken, in a journal in the build folder, so that the last transfer can be taken back.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import IO

from kyklon.base import durable, own_file, reading
from kyklon.base.errors import KyklonError, TargetError, TargetFull, VerifyError
from kyklon.base.meter import Meter
from kyklon.base.places import cache_folder
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.quantities import show_bytes
from kyklon.base.reading import bytes_of, json_of
from kyklon.devices.destination import Destination
from kyklon.devices.linux.desktop_bus import kept_awake
from kyklon.operations.library.transfer import Transfer

JOURNAL = "transfer.jsonl"  # of the last transfer, in the build folder
KNOWN = "transferred.json"  # what was read back whole, by target: stamps of source and target
UNFINISHED = ".unfinished"
UNDO = ".before-transfer"  # folder of the destination that keeps what was replaced, until the next transfer
_BLOCK = 1 << 20
_LONGEST_JOURNAL = 1 << 30  # bytes; a step has some 150, and a transfer of a million games three million steps
_TOGETHER = 32  # files that are written down at once before they are copied


@dataclass(frozen=True)
class TransferReport:
    """already_there: files that were there and the same. sent: bytes that went over. refused: games that could not be
    kept there, each with why."""

    games: int
    files: int
    size: int
    already_there: int
    seconds: float
    sent: int = 0
    refused: tuple[str, ...] = ()


class Journal:
    """The steps of one transfer, each on the disk before it is taken. folder: of the build, None to keep none. aside:
    folder of the destination for what is replaced; every kind of transfer has its own."""

    def __init__(self, folder: Path | None, aside: str = UNDO) -> None:
        self.aside = aside
        self._path = folder / JOURNAL if folder is not None else None
        if self._path is not None:
            own_file.refuse_foreign(self._path)
        self._file: IO[str] | None = None
        self._anew: Destination | None = None
        self.earlier: frozenset[str] = frozenset()  # of those, what a transfer that was cut short left
        self.parts: set[str] = set()  # targets of which a part may lie about

    @property
    def kept(self) -> bool:
        """Whether there is a journal at all."""
        return self._path is not None

    def begin(self, destination: Destination) -> None:
        """Begin anew with the first step that changes something: until then the last transfer can be taken back."""
        self._anew = destination

    def go_on(self, destination: str) -> bool:
        """Whether the last transfer went there and was cut short; its steps are added to then."""
        steps = read_journal(self._path) if self._path is not None else []
        if not steps or steps[0].get("to") != destination or steps[-1].get("do") in ("end", "undone"):
            return False
        assert self._path is not None
        self.parts = {str(step.get("target")) for step in steps if step.get("do") == "part"}
        self.earlier = frozenset(self.parts)
        self._file = own_file.opened(self._path)
        return True

    def note(self, *, lasting: bool = True, **step: object) -> None:
        """lasting: it must be on the disk before what it tells of is done."""
        if step.get("do") == "part":
            self.parts.add(str(step["target"]))
        if self._anew is not None and step.get("do") != "end":
            destination, self._anew = self._anew, None
            _clear_undo(destination, self.aside)
            if self._path is not None:
                self._file = own_file.opened(self._path, anew=True)
                self.note(do="begin", to=destination.name)
        if self._file is not None:
            self._file.write(json.dumps(step) + "\n")
            if lasting:
                self.lasting()

    def lasting(self) -> None:
        """Put on the disk what was noted, before it is done."""
        if self._file is not None:
            self._file.flush()
            os.fsync(self._file.fileno())

    def close(self) -> None:
        if self._file is not None:
            self._file.close()


def read_journal(path: Path) -> list[dict[str, object]]:
    """The steps that were written whole."""
    steps: list[dict[str, object]] = []
    with contextlib.suppress(KyklonError):
        for line in bytes_of(path, _LONGEST_JOURNAL).decode("utf-8", "replace").split("\n"):
            try:
                step = json.loads(line)
            except (ValueError, RecursionError):
                break
            if isinstance(step, dict):
                steps.append(step)
    return steps


def carry_out(
    transfer: Transfer,
    library: Path,
    destination: Destination,
    watch: Watch = UNWATCHED,
    folder: Path | None = None,
    aside: str = UNDO,
) -> TransferReport:
    """Copy, read back, compare. folder: of the build, for the journal; aside: as in Journal. Files that are there and
    the same are left.

    Raises Cancelled, TargetFull before anything is copied, VerifyError, TargetLost and TargetError when the destination
    fails, KyklonError when the library does. A file is under its own name only when it is whole.
    """
    with only_one(destination):
        return _carried_out(transfer, library, destination, watch, folder, aside)


@contextlib.contextmanager
def only_one(destination: Destination) -> Iterator[None]:
    """One transfer at a time to a destination, of all programs of this user. Raises TargetError for a second one."""
    digest = hashlib.sha256(destination.name.encode("utf-8", "surrogateescape")).hexdigest()[:32]
    with contextlib.ExitStack() as held:
        try:
            held.enter_context(durable.alone(cache_folder() / f"transfer-{digest}", wait=False))
        except BlockingIOError as bad:
            raise TargetError(
                f"Another window or program is copying to {destination.name}.", do="Wait until that is done."
            ) from bad
        held.enter_context(kept_awake(f"Copying to {destination.name}"))
        yield


def _carried_out(
    transfer: Transfer, library: Path, destination: Destination, watch: Watch, folder: Path | None, aside: str
) -> TransferReport:
    begun = time.monotonic()
    known = _Known(folder, destination.name)
    _room(transfer, destination, known)
    journal = Journal(folder, aside)
    meter = Meter("Copying games", transfer.size, watch)
    carrier = _Carrier(library, destination, meter, journal, known)
    try:
        if not journal.go_on(destination.name):
            journal.begin(destination)
        for start in range(0, len(transfer.copies), _TOGETHER):
            carrier.copy_all(
                [(library / copy.source, copy.target) for copy in transfer.copies[start : start + _TOGETHER]]
            )
        for target, text in transfer.texts.items():
            carrier.text(target, text.encode("utf-8", "surrogateescape"))
        for target in journal.parts - {copy.target for copy in transfer.copies}:
            destination.remove(unfinished(target))  # of a game that is no longer to go there
        journal.note(do="end")
        meter.report(carrier.done, force=True)
    finally:
        journal.close()
        known.keep()
    refused = tuple(f"{game.called}: {why}" for game, why in transfer.refused)
    return TransferReport(
        transfer.games,
        len(transfer.copies),
        transfer.size,
        carrier.already,
        time.monotonic() - begun,
        carrier.sent,
        refused,
    )


def _room(transfer: Transfer, destination: Destination, known: _Known) -> None:
    free = destination.free()
    if free is None:
        return
    cluster = max(1, destination.limits.cluster)
    needed = sum(
        -(-copy.size // cluster) * cluster for copy in transfer.copies if destination.size_of(copy.target) != copy.size
    )
    if free < needed:
        raise TargetFull(
            f"{destination.name} has {show_bytes(free)} free; the games need {show_bytes(needed)}.",
            do="Use a larger stick or choose fewer games.",
        )


class _Known:
    """What was read back whole before: a file whose stamp is still the same is not read again."""

    def __init__(self, folder: Path | None, name: str) -> None:
        self._path = folder / KNOWN if folder is not None else None
        self._name = name
        self._told: dict[str, list[str]] = {}
        if self._path is not None:
            with contextlib.suppress(KyklonError):
                data = json_of(bytes_of(self._path, _LONGEST_JOURNAL), str(self._path))
                if isinstance(data, dict) and data.get("to") == name and isinstance(data.get("files"), dict):
                    self._told = data["files"]

    def same(self, target: str, source: Path, stamp: str) -> bool:
        return bool(stamp) and self._told.get(target) == [_stamp(source), stamp]

    def learn(self, target: str, source: Path, stamp: str) -> None:
        self._told[target] = [_stamp(source), stamp]

    def keep(self) -> None:
        if self._path is not None:
            with contextlib.suppress(OSError):
                durable.replace_text(self._path, json.dumps({"to": self._name, "files": self._told}))


def _stamp(path: Path) -> str:
    status = path.stat()
    return f"{status.st_ino}-{status.st_size}-{status.st_mtime_ns}"


class _Carrier:
    def __init__(self, library: Path, destination: Destination, meter: Meter, journal: Journal, known: _Known) -> None:
        self.destination, self.meter, self.journal, self.known = destination, meter, journal, known
        self.library = library
        self.done = self.sent = self.already = 0
        self.folders: set[str] = set()  # that were asked for

    def moved(self, count: int) -> None:
        self.meter.wait()
        self.done += count
        self.meter.report(self.done)

    def copy_all(self, pairs: list[tuple[Path, str]]) -> None:
        """Copy files, each source to its target: what will be done is written down for all of them at once."""
        wanted = []
        for source, target in pairs:
            size = _size(source)
            there = self.destination.size_of(target)
            if there == size and (
                self.known.same(target, source, self.destination.stamp_of(target)) or self._same(source, target, size)
            ):
                self.already += 1
                self.known.learn(target, source, self.destination.stamp_of(target))
                self.moved(size)
            else:
                self.journal.note(lasting=False, do="part", target=target)
                self._intend(target, there)
                wanted.append((source, target, size, there))
        if not wanted:
            return
        self.journal.lasting()
        sent = []
        for source, target, size, _there in wanted:
            again = target in self.journal.earlier or not self.journal.kept
            have = self._usable_part(source, unfinished(target), size) if again else 0
            sent.append(self._send(source, unfinished(target), have))
        self.destination.settle()
        for (source, target, _bytes, there), digest in zip(wanted, sent, strict=True):
            self._prove(source, target, there, digest)
        self.destination.settle()

    def _prove(self, source: Path, target: str, there: int | None, wanted: bytes) -> None:
        """Read a part back, and give it its name where it is what was sent."""
        part = unfinished(target)
        if self._digest(part) != wanted:
            self.destination.remove(part)
            raise VerifyError(f"{target} reads back differently.", do="The stick or card is worn. Use another one.")
        self._into_place(part, target, there)
        self.known.learn(target, source, self.destination.stamp_of(target))

    def text(self, target: str, data: bytes) -> None:
        there = self.destination.size_of(target)
        if there == len(data) and self._digest(target) == hashlib.sha256(data).digest():
            return
        part = unfinished(target)
        self.journal.note(lasting=False, do="part", target=target)
        self._intend(target, there)
        self.journal.lasting()
        with self.destination.write(part, 0) as file:
            file.write(data)
        self._into_place(part, target, there)

    def _intend(self, target: str, there: int | None) -> None:
        do, made = "put" if there is None else "replace", self._missing_folders(target)
        self.journal.note(lasting=False, do=do, target=target, **({"made": made} if made else {}))

    def _missing_folders(self, target: str) -> list[str]:
        """Those above a target that are not there before it comes; an undo takes away no others."""
        found = []
        for above in map(str, list(PurePosixPath(target).parents)[:-1]):
            if above in self.folders:
                break
            if not self.destination.stamp_of(above):
                found.append(above)
            self.folders.add(above)
        return found

    def _into_place(self, part: str, target: str, there: int | None) -> None:
        if there is not None:
            self.destination.rename(target, f"{self.journal.aside}/{target}")
        self.destination.rename(part, target)
        self.journal.note(lasting=False, do="done", target=target, stamp=self.destination.stamp_of(target))

    def _usable_part(self, source: Path, part: str, size: int) -> int:
        """How much of an unfinished file can stay: what agrees with the beginning of the source."""
        have = self.destination.size_of(part) or 0
        if not 0 < have <= size:
            return 0
        with self.destination.read(part) as there:
            for start in range(0, have, _BLOCK):
                piece = there.read(min(_BLOCK, have - start))
                if piece != _piece(source, start, len(piece)):
                    return start
        return have

    def _send(self, source: Path, part: str, have: int) -> bytes:
        """Send what is left; the sum of the whole source."""
        wanted = hashlib.sha256()
        with self.destination.write(part, have) as writer:
            for block in _blocks(source):
                wanted.update(block)
                self.moved(len(block))
                if have >= len(block):
                    have -= len(block)
                    continue
                rest = block[have:]
                have = 0
                writer.write(rest)
                self.sent += len(rest)
        return wanted.digest()

    def _same(self, source: Path, target: str, size: int) -> bool:
        own = hashlib.sha256()
        for block in _blocks(source):
            self.meter.wait()
            own.update(block)
        return own.digest() == self._digest(target)

    def _digest(self, path: str) -> bytes:
        told = hashlib.sha256()
        with self.destination.read(path) as file:
            while block := file.read(_BLOCK):
                told.update(block)
        return told.digest()


def unfinished(target: str) -> str:
    """Where a file is while it is not whole: hidden, beside its place."""
    path = PurePosixPath(target)
    stem = path.name.encode("utf-8", "surrogateescape")[:200].decode("utf-8", "ignore")
    return str(path.parent / f".{stem}{UNFINISHED}")


def _blocks(source: Path) -> Iterator[bytes]:
    try:
        with reading.opened(source) as file:
            while block := file.read(_BLOCK):
                yield block
    except OSError as bad:
        raise _gone(source, bad) from bad


def _piece(source: Path, at: int, count: int) -> bytes:
    try:
        with reading.opened(source) as file:
            file.seek(at)
            return file.read(count)
    except OSError as bad:
        raise _gone(source, bad) from bad


def _size(source: Path) -> int:
    try:
        return source.stat().st_size
    except OSError as bad:
        raise _gone(source, bad) from bad


def _gone(source: Path, bad: OSError) -> KyklonError:
    return KyklonError(f"{source} cannot be read: {bad.strerror}.", do="Scan the library again, then go on.")


# --- taking it back ----------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Undone:
    """removed, restored: files. left: those that somebody has changed since."""

    removed: int
    restored: int
    left: tuple[str, ...]


def last_transfer(folder: Path) -> str:
    """Where the last transfer went that can still be taken back, '' for none."""
    steps = read_journal(folder / JOURNAL)
    if len(steps) < 2 or steps[-1].get("do") == "undone":
        return ""
    return str(steps[0].get("to", ""))


def undo(folder: Path, destination: Destination, watch: Watch = UNWATCHED, aside: str = UNDO) -> Undone:
    """Take the last transfer back: what it put is removed, what it replaced is put back. aside: as it was carried out
    with. Raises KyklonError."""
    steps = read_journal(folder / JOURNAL)
    if last_transfer(folder) != destination.name:
        raise KyklonError("There is no transfer to undo.", do="It went to another destination, or was undone already.")
    stamps: Mapping[object, object] = {s.get("target"): s.get("stamp") for s in steps if s.get("do") == "done"}
    removed, restored, left = 0, 0, []
    for step in reversed([each for each in steps if each.get("do") in ("put", "replace")]):
        watch.check()
        target = str(step["target"])
        there, kept = destination.stamp_of(target), destination.size_of(f"{aside}/{target}") is not None
        if there and target in stamps and there != stamps[target]:
            left.append(target)
            continue
        if step["do"] == "replace":
            if kept:
                destination.rename(f"{aside}/{target}", target)
                restored += 1
        elif there:
            destination.remove(target)
            removed += 1
        destination.remove(unfinished(target))
        made = step.get("made")
        for above in made if isinstance(made, list) else ():
            destination.remove_folder(str(above))
    _clear_undo(destination, aside)
    with own_file.opened(folder / JOURNAL) as file:
        file.write(json.dumps({"do": "undone"}) + "\n")
    with contextlib.suppress(OSError):
        (folder / KNOWN).unlink(missing_ok=True)
    return Undone(removed, restored, tuple(left))


def _clear_undo(destination: Destination, aside: str) -> None:
    folders = set()
    for path, _size, _mode in list(destination.files(aside)):
        destination.remove(f"{aside}/{path}")
        folders |= {str(above) for above in list(PurePosixPath(f"{aside}/{path}").parents)[:-1]}
    for folder in sorted(folders, key=len, reverse=True):
        destination.remove_folder(folder)
