"""The master boot record: four entries from byte 446, 16 bytes each, signature 55 AA at 510 (UEFI 2.10, 5.2.1)."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

from kyklon.errors import FormatError

SECTOR = 512  # bytes
FAT_TYPES = {0x0B, 0x0C, 0x0E, 0x06, 0x01, 0x04}
TYPE_WORDS = {
    0x0C: "FAT32",
    0x0B: "FAT32",
    0x0E: "FAT16",
    0x06: "FAT16",
    0x04: "FAT16",
    0x01: "FAT12",
    0x83: "Linux",
    0x82: "Linux swap",
    0x07: "exFAT or NTFS",
    0xEE: "GPT, protective",
    0x0F: "extended",
    0x05: "extended",
}


@dataclass(frozen=True)
class Partition:
    """number as Linux counts; start and size in bytes; kind: the type byte."""

    number: int
    kind: int
    start: int
    size: int
    active: bool

    @property
    def word(self) -> str:
        return TYPE_WORDS.get(self.kind, f"type {self.kind:02X}h")

    @property
    def end(self) -> int:
        return self.start + self.size

    @property
    def is_fat(self) -> bool:
        return self.kind in FAT_TYPES


@dataclass(frozen=True)
class PartitionTable:
    disk_id: int
    partitions: tuple[Partition, ...]

    def boot(self) -> Partition | None:
        """The first FAT partition."""
        return next((part for part in self.partitions if part.is_fat), None)

    def root(self) -> Partition | None:
        """The first Linux partition."""
        return next((part for part in self.partitions if part.kind == 0x83), None)


def parse(sector: bytes) -> PartitionTable:
    """The table in a disk's first 512 bytes. Raises FormatError with the offset of what is wrong."""
    if len(sector) < SECTOR:
        raise FormatError("partition table", len(sector), expected="512 bytes", got=f"{len(sector)}")
    if sector[510:512] != b"\x55\xaa":
        raise FormatError("partition table", 510, expected="55 aa", got=sector[510:512].hex(" "))
    found = []
    for index in range(4):
        offset = 446 + 16 * index
        entry = sector[offset : offset + 16]
        kind, start, sectors = entry[4], int.from_bytes(entry[8:12], "little"), int.from_bytes(entry[12:16], "little")
        if kind == 0:
            continue
        if entry[0] not in (0, 0x80):
            raise FormatError("partition table", offset, expected="00 or 80", got=f"{entry[0]:02x}")
        if start == 0 or sectors == 0:
            raise FormatError("partition table", offset + 8, expected="a start and a size", got=f"{start}, {sectors}")
        found.append(Partition(index + 1, kind, start * SECTOR, sectors * SECTOR, entry[0] == 0x80))
    _check_overlap(found)
    return PartitionTable(int.from_bytes(sector[440:444], "little"), tuple(found))


def _check_overlap(found: list[Partition]) -> None:
    ordered = sorted(found, key=lambda part: part.start)
    for first, second in itertools.pairwise(ordered):
        if first.end > second.start:
            raise FormatError(
                "partition table",
                446 + 16 * (second.number - 1) + 8,
                expected=f"a start from byte {first.end}",
                got=f"{second.start}, inside partition {first.number}",
            )
