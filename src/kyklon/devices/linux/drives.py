"""Block devices and image files. Facts from lsblk (util-linux); the mounts of a drive are those of all below it."""

from __future__ import annotations

import contextlib
import json
import os
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from kyklon import tools
from kyklon.devices.files import FileHandle, open_path
from kyklon.devices.ports import DriveFacts
from kyklon.errors import TargetLost

COLUMNS = "NAME,KNAME,PATH,SIZE,MODEL,SERIAL,TRAN,RM,RO,TYPE,FSTYPE,LABEL,MOUNTPOINTS,HOTPLUG"
MEMBERS = {"LVM2_member", "linux_raid_member", "crypto_LUKS", "zfs_member", "swap"}  # blkid's type names
_LOOK = 1 << 20  # bytes at the beginning, where tables and file systems are
SYSTEM_MOUNTS = ("/", "/boot", "/boot/efi", "/usr", "/var", "/home", "[SWAP]")


class LinuxDrives:
    """Whole disks and loop devices that lsblk lists."""

    def list(self) -> tuple[DriveFacts, ...]:
        data = json.loads(tools.run(["lsblk", "--json", "--bytes", "--output", COLUMNS], seconds=10))
        return tuple(
            drive_facts(row)
            for row in data.get("blockdevices", [])
            if row.get("type") in ("disk", "loop") and int(row.get("size") or 0) > 0
        )

    def path(self, identity: str) -> Path:
        return Path(identity.split("|")[0])

    @contextlib.contextmanager
    def open(self, identity: str, *, write: bool) -> Iterator[FileHandle]:
        known = {drive.identity for drive in self.list()}
        if identity not in known:
            raise TargetLost(f"The drive {self.path(identity)} is no longer the one chosen.", do="Choose it again.")
        with open_path(self.path(identity), write=write, exclusive=write) as handle:
            yield handle


def drive_facts(row: dict[str, Any]) -> DriveFacts:
    """A row of lsblk's JSON with its children."""
    below = list(_walk(row))
    mounts = [mount for each in below for mount in (each.get("mountpoints") or []) if mount]
    kinds = {str(each.get("fstype")) for each in below if each.get("fstype")}
    path = str(row.get("path") or f"/dev/{row['name']}")
    holds = ", ".join(sorted(kinds)) or _unknown_contents(path)
    return DriveFacts(
        identity="|".join([path, str(row.get("serial") or ""), str(row["size"])]),
        name=path,
        size=int(row["size"]),
        bus=str(row.get("tran") or row.get("type") or "unknown"),
        model=str(row.get("model") or "").strip(),
        serial=str(row.get("serial") or "").strip(),
        removable=bool(row.get("rm")) or bool(row.get("hotplug")) or row.get("type") == "loop",
        read_only=bool(row.get("ro")),
        in_use=any(mount in SYSTEM_MOUNTS for mount in mounts) or _active_member(below),
        mounts=tuple(mounts),
        labels=tuple(str(each["label"]) for each in below if each.get("label")),
        holds=holds,
    )


def _unknown_contents(path: str) -> str:
    """'' for a drive that begins with nothing but zeros; words for one whose contents nobody recognises."""
    try:
        with open(path, "rb") as drive:
            return "data of a kind that is not recognised" if any(drive.read(_LOOK)) else ""
    except OSError:
        return "contents that you may not read"


def _walk(row: dict[str, Any]) -> Iterator[dict[str, Any]]:
    yield row
    for child in row.get("children") or []:
        yield from _walk(child)


def _active_member(rows: list[dict[str, Any]]) -> bool:
    """A member of an array or a crypt volume that has something active above it, or swap in use."""
    return any(
        row.get("fstype") in MEMBERS and (row.get("children") or row.get("mountpoints") not in ([None], [], None))
        for row in rows
    )


class FileDrives:
    """One image file, or one to be made, treated as a drive of its own size; size 0: as large as it gets."""

    def __init__(self, path: Path, size: int) -> None:
        self._path, self._size = path, size

    def list(self) -> tuple[DriveFacts, ...]:
        there = self._path.exists()
        return (
            DriveFacts(
                identity=f"file:{self._path.resolve()}",
                name=str(self._path),
                size=self._size,
                bus="file",
                removable=True,
                read_only=there and not os.access(self._path, os.W_OK),
                labels=(self._path.name,) if there and self._path.stat().st_size else (),
                holds="a file with contents" if there and self._path.stat().st_size else "",
                files=1 if there else 0,
                is_file=True,
            ),
        )

    def path(self, identity: str) -> Path:
        return self._path

    @contextlib.contextmanager
    def open(self, identity: str, *, write: bool) -> Iterator[FileHandle]:
        if write and not self._path.exists():
            self._path.touch()
        with open_path(self._path, write=write, limit=self._size or None) as handle:
            yield handle


def is_block_device(path: Path) -> bool:
    try:
        return stat.S_ISBLK(path.stat().st_mode)
    except OSError:
        return False
