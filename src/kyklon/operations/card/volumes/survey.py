"""What is on each partition of a card or image: file system, label, used and free bytes, newest file.

Superblocks are read as the kernel documents them (filesystems/ext4: super block; Microsoft FAT specification: boot
sector, FSInfo); everything deeper is asked of mtools and e2fsprogs.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from uuid import UUID

from kyklon.base.errors import FormatError
from kyklon.model.card import PartitionTable, Volume
from kyklon.operations.card.volumes import partitions
from kyklon.operations.card.volumes.fat_reader import FatReader, geometry
from kyklon.operations.card.volumes.partitions import reader

_HEAD = 8192  # bytes that hold every superblock read here
_SIGNATURES = (  # offset, bytes, name; libblkid's own table gives the same places
    (3, b"EXFAT   ", "exFAT"),
    (3, b"NTFS    ", "NTFS"),
    (0, b"LUKS\xba\xbe", "crypt"),
    (536, b"LVM2 001", "LVM"),
    (24, b"LVM2 001", "LVM"),
    (4086, b"SWAPSPACE2", "swap"),
    (4096, b"\xfc\x4e\x2b\xa9", "RAID"),
)


__all__ = ["Survey", "identify", "reader", "survey"]


@dataclass(frozen=True)
class Survey:
    """error: why the table could not be read, '' when it could or there is none to read."""

    table: PartitionTable | None
    volumes: tuple[Volume, ...]
    error: str = ""

    @property
    def newest(self) -> str:
        return max((volume.newest for volume in self.volumes), default="")

    @property
    def files(self) -> int:
        return sum(volume.files or 0 for volume in self.volumes)

    @property
    def used(self) -> int:
        return sum(volume.used or 0 for volume in self.volumes)


def survey(path: Path, *, deep: bool = True, strict: bool = True) -> Survey:
    """What is on a drive or in a plain image. deep: files and dates too; slower. strict: as in partitions.parse.

    Never raises for contents; Raises OSError when it may not be read at all.
    """
    with _opened(path) as (descriptor, size):
        read = reader(descriptor)
        head = read(0, _HEAD)
        whole = identify(head, 0, 0, size)
        if whole.kind:  # a stick without a table; its boot sector ends in 55 AA as well
            return Survey(None, (_deeper(read, whole) if deep else whole,))
        if not any(head[:512]):
            return Survey(None, ())
        try:
            table = partitions.read_table(read, size, strict=strict)
        except FormatError as bad:
            return Survey(None, (), str(bad))
        volumes = []
        for part in table.partitions:
            if part.kind in partitions.EXTENDED and not part.guid:
                continue
            found = identify(read(part.start, _HEAD), part.number, part.start, part.size)
            volumes.append(_deeper(read, found) if deep else found)
    return Survey(table, tuple(volumes))


@contextlib.contextmanager
def _opened(path: Path) -> Iterator[tuple[int, int]]:
    descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        yield descriptor, os.lseek(descriptor, 0, os.SEEK_END)
    finally:
        os.close(descriptor)


def identify(head: bytes, number: int, start: int, size: int) -> Volume:
    """A volume from its first 8192 bytes (fewer are allowed)."""
    if head[1080:1082] == b"\x53\xef":
        return _ext(head, number, start, size)
    for offset, signature, kind in _SIGNATURES:
        if head[offset : offset + len(signature)] == signature:
            return Volume(number, start, size, kind)
    if head[510:512] == b"\x55\xaa" and head[0] in (0xEB, 0xE9) and head[16] in (1, 2):
        return _fat(head, number, start, size)
    return Volume(number, start, size, "")


def _fat(head: bytes, number: int, start: int, size: int) -> Volume:
    try:
        kind = geometry(head[:512]).kind
    except FormatError:
        return Volume(number, start, size, "")
    at = 71 if kind == "FAT32" else 43
    label = head[at : at + 11].decode("cp437").strip()
    serial = head[at - 4 : at]
    uuid = f"{serial[3]:02X}{serial[2]:02X}-{serial[1]:02X}{serial[0]:02X}"
    return Volume(number, start, size, kind, "" if label == "NO NAME" else label, uuid=uuid)


def _ext(head: bytes, number: int, start: int, size: int) -> Volume:
    block = 1024 << min(6, int.from_bytes(head[1048:1052], "little"))  # 64 KiB is the largest there is
    incompatible = int.from_bytes(head[1120:1124], "little")
    free = int.from_bytes(head[1036:1040], "little")
    compatible = int.from_bytes(head[1116:1120], "little")
    if incompatible & 0x80:  # 64bit: the high half of the free blocks
        free |= int.from_bytes(head[1368:1372], "little") << 32
    kind = "ext4" if incompatible & 0x40 else "ext3" if compatible & 4 else "ext2"
    label = head[1144:1160].split(b"\0")[0].decode("utf-8", "replace")
    written = int.from_bytes(head[1072:1076], "little")
    newest = datetime.fromtimestamp(written, UTC).date().isoformat() if written else ""  # 32 bits: never out of range
    uuid = str(UUID(bytes=head[1128:1144]))
    return Volume(number, start, size, kind, label, min(size, free * block), newest, uuid=uuid)


def _deeper(read: partitions.Read, volume: Volume) -> Volume:
    """Free space, number of files and the newest date of a FAT volume."""
    if not volume.kind.startswith("FAT"):
        return volume
    try:
        fat = FatReader(read, volume.start)
        dates = [file.modified for file in fat.files()]
        return replace(volume, free=fat.free_bytes(), files=len(dates), newest=max(dates, default=""))
    except FormatError:
        return volume
