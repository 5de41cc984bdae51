"""Simulated drives: a drives.json that describes them beside their backing files. Unwritten bytes read as zero."""

from __future__ import annotations

import contextlib
import json
import time
from collections.abc import Iterator
from pathlib import Path

from pydantic import Field, ValidationError

from kyklon.devices.files import FileHandle, open_path
from kyklon.devices.ports import DriveFacts
from kyklon.errors import KyklonError, TargetError, TargetLost
from kyklon.model.record import Record


class Faults(Record):
    """How the drive misbehaves. Positions and true_size in bytes, rate in bytes per second; 0 is 'does not'."""

    unplugged_at: int = 0
    bad_block_at: int = 0
    true_size: int = 0  # a counterfeit: writes past this size wrap round to the beginning
    rate: int = 0


class SimulatedDrive(Record):
    facts: DriveFacts
    backing: str
    faults: Faults = Faults()


class DriveList(Record):
    drives: tuple[SimulatedDrive, ...] = Field(default=())


class SimulatedHandle:
    """A FileHandle that pads with zeros and fails as told."""

    def __init__(self, inner: FileHandle, drive: SimulatedDrive) -> None:
        self._inner, self._drive, self._faults = inner, drive, drive.faults

    def write_at(self, data: bytes | memoryview, offset: int) -> None:
        self._wait(len(data))
        self._fail_between(offset, offset + len(data))
        true_size = self._faults.true_size
        if true_size and offset >= true_size:
            offset %= true_size
        self._inner.write_at(data, offset)

    def read_at(self, length: int, offset: int) -> bytes:
        self._wait(length)
        self._fail_between(offset, offset + length)
        true_size = self._faults.true_size
        if true_size and offset >= true_size:
            offset %= true_size
        length = max(0, min(length, self._drive.facts.size - offset))
        return self._inner.read_at(length, offset).ljust(length, b"\0")

    def _wait(self, length: int) -> None:
        if self._faults.rate:
            time.sleep(length / self._faults.rate)

    def _fail_between(self, start: int, end: int) -> None:
        name = self._drive.facts.name
        if self._faults.unplugged_at and end > self._faults.unplugged_at:
            raise TargetLost(f"{name} went away at byte {self._faults.unplugged_at}.", do="Plug it in again.")
        if self._faults.bad_block_at and start <= self._faults.bad_block_at < end:
            raise TargetError(
                f"{name} reported a fault at byte {self._faults.bad_block_at}.", do="The card may be worn."
            )

    def sync(self) -> None:
        self._inner.sync()

    def forget_cache(self) -> None:
        self._inner.forget_cache()


class SimulatedDrives:
    """The drives described in folder/drives.json."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def _read(self) -> tuple[SimulatedDrive, ...]:
        path = self.folder / "drives.json"
        if not path.exists():
            return ()
        try:
            return DriveList.model_validate(json.loads(path.read_text(encoding="utf-8"))).drives
        except (OSError, ValueError, ValidationError) as bad:
            raise KyklonError(f"{path} does not describe drives: {bad}", do="Make the demo afresh.") from bad

    def list(self) -> tuple[DriveFacts, ...]:
        return tuple(drive.facts for drive in self._read())

    def replace(self, identity: str, *, facts: DriveFacts | None = None, faults: Faults | None = None) -> None:
        """Change what a drive says of itself or how it fails."""
        drives = tuple(
            SimulatedDrive(facts=facts or drive.facts, backing=drive.backing, faults=faults or drive.faults)
            if drive.facts.identity == identity
            else drive
            for drive in self._read()
        )
        self.save(drives)

    def save(self, drives: tuple[SimulatedDrive, ...]) -> None:
        data = DriveList(drives=drives).model_dump(mode="json")
        self.folder.mkdir(parents=True, exist_ok=True)
        (self.folder / "drives.json").write_text(json.dumps(data, indent=1), encoding="utf-8")

    def _drive(self, identity: str) -> SimulatedDrive:
        for drive in self._read():
            if identity in (drive.facts.identity, drive.facts.name):
                return drive
        raise TargetLost(f"The drive {identity} is not there.", do="Plug it in and choose it again.")

    def path(self, identity: str) -> Path:
        return self.folder / self._drive(identity).backing

    @contextlib.contextmanager
    def open(self, identity: str, *, write: bool) -> Iterator[SimulatedHandle]:
        drive = self._drive(identity)
        if write and drive.facts.read_only:
            raise TargetError(f"{drive.facts.name} is read-only.", do="Move the slider on the card or its adapter.")
        path = self.path(identity)
        if not path.exists():
            path.parent.mkdir(parents=True, exist_ok=True)
            path.touch()
        with open_path(path, write=write, limit=drive.facts.size) as handle:
            yield SimulatedHandle(handle, drive)
