"""Stand-in drives: a drives.json describes them, beside their backing files. What was never written reads as zeros."""

from __future__ import annotations

import contextlib
import json
import os
import stat
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from pydantic import Field, ValidationError

from kyklon.base import durable
from kyklon.base.errors import BadBlock, KyklonError, TargetAsleep, TargetError, TargetFull, TargetLocked, TargetLost
from kyklon.base.inside import open_file
from kyklon.base.reading import bytes_of, json_of
from kyklon.devices.files import FileHandle, open_path, told_of
from kyklon.devices.layers import held_node, node_at
from kyklon.devices.ports import DriveFacts
from kyklon.model.record import Record

FILE = "drives.json"
MARK = ".standin"  # ending of every backing file


class Faults(Record):
    """How the drive misbehaves. Positions and true_size in bytes, rate in bytes per second; 0 is 'does not'.

    true_size: a counterfeit. wraps: what is written past it lands at the beginning again; else it is lost.
    tries: how often a bad block fails before it is written after all; 0 for ever. rots_at: keeps other bytes there
    than it was given. locks_at: refuses writes from there on. asleep_at: no answer once it gets there.
    """

    unplugged_at: int = 0
    bad_block_at: int = 0
    tries: int = 0
    true_size: int = 0
    wraps: bool = True
    rots_at: int = 0
    locks_at: int = 0
    asleep_at: int = 0
    rate: int = 0


class SimulatedDrive(Record):
    """backing: the file below the folder that holds its bytes."""

    facts: DriveFacts
    backing: str
    faults: Faults = Faults()


class DriveList(Record):
    drives: tuple[SimulatedDrive, ...] = Field(default=())


class SimulatedHandle:
    """A FileHandle that pads with zeros and fails as told."""

    cached = False

    def __init__(self, inner: FileHandle, drive: SimulatedDrive) -> None:
        self._inner, self._drive, self._faults = inner, drive, drive.faults
        self._failed = 0

    @property
    def node(self) -> str:
        return self._inner.node

    @property
    def path(self) -> Path:
        return self._inner.path

    def write_at(self, data: bytes | memoryview, offset: int) -> None:
        if offset + len(data) > self._drive.facts.size:
            raise TargetFull(f"{self._drive.facts.name} ends at byte {self._drive.facts.size}.", do="Use a larger one.")
        self._wait(len(data))
        self._fail_between(offset, offset + len(data))
        faults = self._faults
        if faults.locks_at and offset + len(data) > faults.locks_at:
            raise TargetLocked(
                f"{self._drive.facts.name} refuses writes from byte {faults.locks_at} on.",
                do="A worn card locks itself. Use another one.",
            )
        if faults.rots_at and offset <= faults.rots_at < offset + len(data):
            changed = bytearray(data)
            changed[faults.rots_at - offset] ^= 0x10
            data = bytes(changed)
        self._store(bytes(data), offset)

    def _store(self, data: bytes, offset: int) -> None:
        true_size = self._faults.true_size
        while true_size and offset + len(data) > true_size:
            inside = max(0, true_size - offset)
            if inside:
                self._inner.write_at(data[:inside], offset)
            data, offset = data[inside:], (offset + inside) % true_size
            if not self._faults.wraps:
                return
        self._inner.write_at(data, offset)

    def read_at(self, length: int, offset: int) -> bytes:
        self._wait(length)
        self._fail_between(offset, offset + length)
        length = max(0, min(length, self._drive.facts.size - offset))
        true_size = self._faults.true_size
        if not true_size or offset + length <= true_size:
            return self._inner.read_at(length, offset).ljust(length, b"\0")
        inside = max(0, true_size - offset)
        found = self._inner.read_at(inside, offset).ljust(inside, b"\0") if inside else b""
        rest = length - inside
        if not self._faults.wraps:
            return found + bytes(rest)
        place = (offset + inside) % true_size
        return found + self._inner.read_at(rest, place).ljust(rest, b"\0")

    def _wait(self, length: int) -> None:
        if self._faults.rate:
            time.sleep(length / self._faults.rate)

    def _fail_between(self, start: int, end: int) -> None:
        name, faults = self._drive.facts.name, self._faults
        if faults.unplugged_at and end > faults.unplugged_at:
            raise TargetLost(f"{name} was disconnected at byte {faults.unplugged_at}.", do="Plug it in again.")
        if faults.asleep_at and end > faults.asleep_at:
            raise TargetAsleep(
                f"{name} gave no answer at byte {faults.asleep_at}.",
                do="Plug the reader into the computer itself, not into a hub.",
            )
        if faults.bad_block_at and start <= faults.bad_block_at < end:
            if faults.tries and self._failed >= faults.tries:
                return
            self._failed += 1
            raise BadBlock(
                f"{name} reported a fault at byte {start}.", start, do="Try another reader; the card may be worn."
            )

    def zero(self, length: int, offset: int) -> bool:
        """Override: only what was never written is known to be zero."""
        if any(
            getattr(self._faults, name)
            for name in ("true_size", "rate", "rots_at", "locks_at", "unplugged_at", "bad_block_at", "asleep_at")
        ):
            return False  # a drive that misbehaves is sent every byte
        return self._inner.zero(length, offset)

    def sync(self) -> None:
        self._inner.sync()

    def forget_cache(self) -> None:
        self._inner.forget_cache()

    def reread_table(self) -> str:
        """Override."""
        return ""


class SimulatedDrives:
    """The drives described in folder/drives.json."""

    called = "simulated"

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def _read(self) -> tuple[SimulatedDrive, ...]:
        path = self.folder / FILE
        if not path.exists():
            return ()
        try:
            return DriveList.model_validate(json_of(bytes_of(path), str(path))).drives
        except (KyklonError, ValidationError) as bad:
            raise KyklonError(f"{path} does not describe any drives: {bad}", do="Make the demo again.") from bad

    def list(self) -> tuple[DriveFacts, ...]:
        return tuple(self._as_is(drive) for drive in self._read())

    def _as_is(self, drive: SimulatedDrive) -> DriveFacts:
        """The facts with the node of the backing file; what drives.json says of nodes counts for nothing."""
        path = self._own(drive.backing)
        node = node_at(path)
        return replace(drive.facts, simulated=True, is_file=False, node=held_node(path), nodes=(node,) if node else ())

    def now_holds(self, identity: str, holds: str, label: str = "") -> None:
        """Override: written down, since nobody looks into the file."""
        labels = (label,) if label else ()
        facts = self._drive(identity).facts
        self.change(identity, facts=replace(facts, labels=labels, files=0, newest="", holds=holds))

    def change(self, identity: str, *, facts: DriveFacts | None = None, faults: Faults | None = None) -> None:
        """Change what a drive says of itself or how it fails."""
        with told_of(self.folder / FILE), durable.alone(self.folder / FILE):
            drives = tuple(
                SimulatedDrive(facts=facts or drive.facts, backing=drive.backing, faults=faults or drive.faults)
                if drive.facts.identity == identity
                else drive
                for drive in self._read()
            )
            self.save(drives)

    def save(self, drives: tuple[SimulatedDrive, ...]) -> None:
        data = DriveList(drives=drives).model_dump(mode="json")
        durable.replace_text(self.folder / FILE, json.dumps(data, indent=1))

    def _drive(self, identity: str) -> SimulatedDrive:
        for drive in self._read():
            if identity in (drive.facts.identity, drive.facts.name):
                return drive
        raise TargetLost(f"The drive {identity} is not there.", do="Plug it in and choose it again.")

    def part(self, path: Path) -> DriveFacts | None:
        """Override: none here."""
        return None

    def path(self, identity: str) -> Path:
        """Override. Raises TargetError for a backing file that is none of our own."""
        return self._own(self._drive(identity).backing)

    def _own(self, name: str) -> Path:
        """A stand-in lies in this folder, bears our ending, and is one plain file that nothing else is a name of."""
        path = self.folder / name
        why = ""
        if Path(name).name != name or not name.endswith(MARK):
            why = f"it is not a file of {self.folder.name}/ that ends in {MARK}"
        else:
            with contextlib.suppress(FileNotFoundError):
                status = path.lstat()
                if not stat.S_ISREG(status.st_mode):
                    why = "it is a link or a device"
                elif status.st_nlink > 1:
                    why = "the same file has another name elsewhere"
        if why:
            raise TargetError(
                f"{self.folder / FILE} names {name} as a simulated drive, but {why}.",
                do="Make the demo again; do not trust a build from somebody else that does this.",
            )
        return path

    def unmount(self, identity: str) -> str:
        """Override."""
        drive = self._drive(identity)
        self.change(drive.facts.identity, facts=replace(drive.facts, mounts=()))
        return f"{drive.facts.name} is unmounted."

    def remove(self, identity: str) -> str:
        """Override: nothing is left to be written."""
        return f"{self._drive(identity).facts.name} is safe to remove."

    @contextlib.contextmanager
    def open(self, identity: str, *, write: bool) -> Iterator[SimulatedHandle]:
        drive = self._drive(identity)
        if write and drive.facts.read_only:
            raise TargetError(f"{drive.facts.name} is read-only.", do="Move the slider on the card or its adapter.")
        path = self.path(identity).resolve()
        with told_of(path), contextlib.suppress(FileExistsError), open_file(path, os.O_RDWR | os.O_CREAT | os.O_EXCL):
            pass
        with open_path(path, write=write, limit=drive.facts.size) as handle:
            self._own(drive.backing)  # what was opened is one plain file of this folder
            yield SimulatedHandle(handle, drive)
