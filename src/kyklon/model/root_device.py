"""Which partition a kernel line's root= means, against a real table (kernel: admin-guide/kernel-parameters, root=;
block/early-lookup.c for the forms; admin-guide/devices.txt for the numbers)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from kyklon.model.card import Partition, PartitionTable

MMC_MAJOR, SD_MAJOR = 179, 8  # devices.txt
MMC_MINORS, SD_MINORS = 8, 16  # minors a device has: CONFIG_MMC_BLOCK_MINORS' default; devices.txt
MOST_LETTERS = 63  # of the value: init/do_mounts.c, saved_root_name
_DEVICE = re.compile(r"/dev/(?:mmcblk(\d)p|sd([a-z]))([1-9]\d{0,2})")
_NUMBERS = re.compile(r"(\d{1,4}):(\d{1,7})|([0-9a-f]{3,5})", re.IGNORECASE)


@dataclass(frozen=True)
class RootDevice:
    """partition: None when nothing that is there is meant; why: the reason then. number: given as a number, for which
    the kernel does not wait."""

    word: str
    partition: Partition | None
    why: str = ""
    number: bool = False


def root_device(words: Sequence[str], table: PartitionTable, *, disk: bool = False) -> RootDevice | None:
    """What the last root= of a line means; None without one. disk: the machine starts from a disk on USB, else from the
    card in its only slot."""
    given = [word.removeprefix("root=") for word in words if word.startswith("root=")]
    if not given:
        return None
    value = given[-1][:MOST_LETTERS]
    if match := _DEVICE.fullmatch(value):
        card, letter, number = match.groups()
        if disk and letter != "a":
            return RootDevice(value, None, f"{value} is not the first disk; the machine boots from a disk, /dev/sda.")
        if not disk and card != "0":
            what = "a disk on USB" if letter else "a second slot"
            return RootDevice(value, None, f"{value} is {what}; the card is /dev/mmcblk0.")
        return _numbered(value, table, int(number))
    name, _, rest = value.partition("=")
    if name == "PARTUUID" and rest:
        return _by_id(value, rest.lower(), table)
    if name == "PARTLABEL" and rest:
        found = next((part for part in table.partitions if part.label == rest and part.uuid), None)
        return RootDevice(value, found, "" if found else "No partition of a GPT has that PARTLABEL.")
    if name.upper() in ("UUID", "LABEL") and rest:
        return RootDevice(
            value, None, f"Only an initramfs can find the root by {name.upper()}; the kernel alone cannot."
        )
    if name.upper() in ("PARTUUID", "PARTLABEL") and rest:
        return RootDevice(value, None, f"The kernel accepts {name.upper()} in capitals only.")
    if match := _NUMBERS.fullmatch(value):
        return _by_number(value, match, table, disk=disk)
    return RootDevice(value, None, f"The kernel knows no device {value or 'without a name'}.")


def _numbered(value: str, table: PartitionTable, number: int) -> RootDevice:
    found = next((part for part in table.partitions if part.number == number), None)
    if found is None:
        return RootDevice(value, None, f"No partition {number}: the table has {_listed(table)}.")
    return RootDevice(value, found)


def _by_id(value: str, wanted: str, table: PartitionTable) -> RootDevice:
    wanted, _, offset = wanted.partition("/partnroff=")
    for part in sorted(table.partitions, key=lambda each: each.number):
        own = part.uuid or f"{table.disk_id:08x}-{part.number:02x}"
        if wanted and own.startswith(wanted):  # block/early-lookup.c: compared as far as it is given
            further = int(offset) if re.fullmatch(r"-?\d{1,3}", offset) else 0
            return _numbered(value, table, part.number + further)
    known = ", ".join(part.uuid or f"{table.disk_id:08x}-{part.number:02x}" for part in table.partitions) or "none"
    return RootDevice(value, None, f"No partition has that PARTUUID; there are {known}.")


def _by_number(value: str, match: re.Match[str], table: PartitionTable, *, disk: bool) -> RootDevice:
    if match[3]:
        code = int(match[3], 16)
        major, minor = code >> 8 & 0xFFF, code & 0xFF
    else:
        major, minor = int(match[1]), int(match[2])
    own, minors = (SD_MAJOR, SD_MINORS) if disk else (MMC_MAJOR, MMC_MINORS)
    if major != own or not 0 < minor < minors:
        what = "/dev/sda" if disk else "/dev/mmcblk0"
        why = f"Device {major}:{minor} is no partition of {what}, whose number is {own}."
        return RootDevice(value, None, why, number=True)
    return replace(_numbered(value, table, minor), number=True)


def _listed(table: PartitionTable) -> str:
    return ", ".join(str(part.number) for part in table.partitions) or "none"
