"""Block devices and image files. Facts from lsblk (util-linux) and sysfs; the mounts of a drive are those below it."""

from __future__ import annotations

import contextlib
import functools
import json
import os
import re
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

from kyklon.base import tools
from kyklon.base.errors import TargetError, TargetLost
from kyklon.devices.files import FileHandle, open_path, told_of
from kyklon.devices.linux.desktop_bus import kept_awake
from kyklon.devices.places import unknown_contents
from kyklon.devices.ports import DriveFacts, PartFacts

COLUMNS = "NAME,KNAME,PATH,PKNAME,SIZE,MODEL,SERIAL,TRAN,RM,RO,TYPE,FSTYPE,LABEL,MOUNTPOINTS,HOTPLUG,FSUSED,PARTN"
MEMBERS = {"LVM2_member": "LVM", "linux_raid_member": "RAID", "crypto_LUKS": "crypt", "zfs_member": "RAID"}
ABOVE = {"lvm": "LVM", "crypt": "crypt", "raid0": "RAID", "raid1": "RAID", "raid5": "RAID", "raid10": "RAID"}
SYSTEM_MOUNTS = ("/", "/boot", "/boot/efi", "/usr", "/var", "/home")


class LinuxDrives:
    """Whole disks and loop devices that lsblk lists."""

    called = "through lsblk"

    def list(self) -> tuple[DriveFacts, ...]:
        return tuple(
            drive_facts(row) for row in _rows() if row.get("type") in ("disk", "loop") and int(row.get("size") or 0) > 0
        )

    def part(self, path: Path) -> DriveFacts | None:
        """A partition as the drive it is not, so that the interlock can say so."""
        for disk in _rows():
            for row in _walk(disk):
                if row is not disk and row.get("path") == str(path):
                    return replace(
                        drive_facts(row),
                        part_of=str(disk.get("path")),
                        removable=bool(disk.get("rm") or disk.get("hotplug")),
                    )
        return None

    def path(self, identity: str) -> Path:
        return Path(identity.split("|")[0])

    @contextlib.contextmanager
    def open(self, identity: str, *, write: bool) -> Iterator[FileHandle]:
        known = {drive.identity for drive in self.list()}
        if identity not in known:
            raise TargetLost(f"The drive {self.path(identity)} is no longer the one you chose.", do="Choose it again.")
        with contextlib.ExitStack() as held_up:
            handle = held_up.enter_context(open_path(self.path(identity), write=write))
            if write:
                held_up.enter_context(kept_awake(f"Writing to {self.path(identity).name}"))
            yield handle

    def unmount(self, identity: str) -> str:
        """Override: umount(8), each place."""
        facts = next((facts for facts in self.list() if facts.identity == identity), None)
        if facts is None or facts.in_use:
            raise TargetError(f"{self.path(identity)} must not be unmounted.", do="Choose another drive.")
        for mount in facts.mounts:
            tools.run(["umount", mount], seconds=120)
        return f"{facts.name} is unmounted."

    def remove(self, identity: str) -> str:
        """Override: sync, and let the kernel forget a removable disk (sysfs-block, device/delete)."""
        path = self.path(identity)
        with told_of(path):
            os.sync()
        switch = Path("/sys/block") / path.name / "device" / "delete"
        if not switch.exists():
            return f"{path} is synced and safe to remove."
        if any(facts.identity == identity and (facts.in_use or facts.mounts) for facts in self.list()):
            raise TargetError(f"{path} is in use.", do="Unmount it first.")
        try:
            switch.write_text("1", encoding="ascii")
        except OSError:
            return f"{path} is synced and safe to remove."
        return f"{path} is switched off and safe to remove."

    def now_holds(self, identity: str, holds: str, label: str = "") -> None:
        """Override: lsblk shows it."""


def _rows() -> list[dict[str, Any]]:
    out = tools.run(["lsblk", "--json", "--bytes", "--output", known_columns()], seconds=10)
    rows: list[dict[str, Any]] = json.loads(out).get("blockdevices", [])
    return rows


@functools.lru_cache(maxsize=1)
def known_columns() -> str:
    """COLUMNS without those that an older lsblk does not have."""
    told = tools.run(["lsblk", "--help"], seconds=10).decode(errors="replace")
    return ",".join(name for name in COLUMNS.split(",") if f" {name} " in told)


def drive_facts(row: dict[str, Any]) -> DriveFacts:
    """A row of lsblk's JSON with its children."""
    below = list(_walk(row))
    mounts = [mount for each in below for mount in (each.get("mountpoints") or []) if mount]
    kinds = {str(each.get("fstype")) for each in below if each.get("fstype")}
    path = str(row.get("path") or f"/dev/{row['name']}")
    holds = ", ".join(sorted(kinds)) or unknown_contents(Path(path))
    return DriveFacts(
        identity="|".join([path, str(row.get("serial") or ""), str(row["size"])]),
        name=path,
        size=int(row["size"]),
        bus=str(row.get("tran") or row.get("type") or "unknown"),
        model=str(row.get("model") or "").strip(),
        serial=str(row.get("serial") or "").strip(),
        removable=bool(row.get("rm")) or bool(row.get("hotplug")) or row.get("type") == "loop",
        read_only=bool(row.get("ro")),
        in_use=any(mount in SYSTEM_MOUNTS for mount in mounts),
        swap="[SWAP]" in mounts,
        member_of=_member_of(below),
        mounts=tuple(mount for mount in mounts if mount != "[SWAP]"),
        labels=tuple(str(each["label"]) for each in below if each.get("label")),
        parts=tuple(_part(each) for each in below if each is not row and each.get("type") == "part"),
        holds=holds,
    )


def _part(row: dict[str, Any]) -> PartFacts:
    used = row.get("fsused")
    return PartFacts(
        number=int(row.get("partn") or (re.findall(r"\d+$", str(row.get("name"))) or [0])[0]),
        size=int(row["size"]),
        kind=str(row.get("fstype") or ""),
        label=str(row.get("label") or ""),
        used=int(used) if used else None,
        mounts=tuple(mount for mount in (row.get("mountpoints") or []) if mount),
    )


def _walk(row: dict[str, Any]) -> Iterator[dict[str, Any]]:
    yield row
    for child in row.get("children") or []:
        yield from _walk(child)


def _member_of(rows: list[dict[str, Any]]) -> str:
    """What is active above a member of an array or a crypt volume; an idle leftover is no hindrance."""
    for row in rows:
        kind = MEMBERS.get(str(row.get("fstype") or ""))
        if kind and row.get("children"):
            return kind
        if (above := ABOVE.get(str(row.get("type") or ""))) and row.get("type") != "disk":
            return above
    return ""
