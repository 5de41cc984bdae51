"""Partition tables: MBR with logical partitions (UEFI 2.10, 5.2), and GPT, protective or hybrid (UEFI 2.10, 5.3)."""

from __future__ import annotations

import itertools
import os
import uuid
import zlib
from collections.abc import Callable
from dataclasses import replace

from kyklon.base.errors import FormatError
from kyklon.model.card import GUID_WORDS, SECTOR, Partition, PartitionTable

HEAD = 34 * SECTOR  # bytes at the beginning that hold an MBR and a GPT of the usual size
PROTECTIVE, EXTENDED = 0xEE, (0x05, 0x0F, 0x85)  # type bytes: UEFI 2.10, 5.2.3; the chain of logical partitions
_LOGICAL = 60  # partitions in a chain; more is a circle

Read = Callable[[int, int], bytes]  # offset and length in bytes to what is there, shorter at the end


_FURTHEST = 1 << 62  # bytes; off_t ends at 2^63
_MOST_AT_ONCE = 64 << 20  # bytes; nothing that is read here is longer


def reader(descriptor: int) -> Read:
    """How all of a card's structures are read: whatever place they name, the answer is bytes, fewer at the end."""

    def read(offset: int, length: int) -> bytes:
        if not 0 <= offset < _FURTHEST or length <= 0:
            return b""
        return os.pread(descriptor, min(length, _MOST_AT_ONCE), offset)

    return read


def parse(sector: bytes, *, strict: bool = True) -> PartitionTable:
    """The MBR in a disk's first 512 bytes. Raises FormatError with the offset of what is wrong.

    strict: partitions that overlap or have no size are errors; else they are noted or passed over, as a kernel does.
    """
    if len(sector) < SECTOR:
        raise FormatError("partition table", len(sector), expected="512 bytes", got=f"{len(sector)}")
    if sector[510:512] != b"\x55\xaa":
        raise FormatError("partition table", 510, expected="55 aa", got=sector[510:512].hex(" "))
    found: list[Partition] = []
    for index in range(4):
        offset = 446 + 16 * index
        entry = sector[offset : offset + 16]
        kind, start, sectors = entry[4], int.from_bytes(entry[8:12], "little"), int.from_bytes(entry[12:16], "little")
        if entry[0] not in (0, 0x80):  # of an empty one too: then no kernel takes it for a table
            raise FormatError("partition table", offset, expected="00 or 80", got=f"{entry[0]:02x}")
        if sectors == 0 if not strict else kind == 0:  # a kernel goes by the size alone (partitions/msdos.c)
            continue
        if (start == 0 or sectors == 0) and strict:
            raise FormatError("partition table", offset + 8, expected="a start and a size", got=f"{start}, {sectors}")
        found.append(Partition(index + 1, kind, start * SECTOR, sectors * SECTOR, entry[0] == 0x80))
    note = _overlap(found, lambda part: 446 + 16 * (part.number - 1) + 8, strict=strict)
    return PartitionTable(int.from_bytes(sector[440:444], "little"), tuple(found), note=note)


def read_table(read: Read, size: int = 0, *, strict: bool = True) -> PartitionTable:
    """The whole table: logical partitions of an MBR followed, a GPT behind a protective or hybrid MBR.

    size: of the disk in bytes, 0 while unknown; with it the second GPT stands in for a damaged first one.
    Raises FormatError with the offset of what is wrong.
    """
    sector = read(0, SECTOR)
    table = parse(sector, strict=strict)
    marks = [sector[446 + 16 * slot : 462 + 16 * slot] for slot in range(4)]
    protective = [slot for slot, entry in enumerate(marks) if entry[4] == PROTECTIVE]
    if protective:  # in any place, of any size; a kernel that finds one reads no MBR any more (msdos.c, efi.c: 6.1)
        if not strict and not any(int.from_bytes(marks[slot][8:12], "little") == 1 for slot in protective):
            raise FormatError(
                "partition table",
                446 + 16 * protective[0] + 8,
                expected="a protective entry from sector 1",
                got="one from elsewhere",
            )
        others = [part for part in table.partitions if part.kind != PROTECTIVE]
        found = _read_gpt(read, size, strict=strict)
        return replace(found, scheme="hybrid GPT") if others else found
    extended = next((part for part in table.partitions if part.kind in EXTENDED), None)
    if extended is None:
        return table
    return replace(table, partitions=(*table.partitions, *_logical(read, extended, strict=strict)))


def _logical(read: Read, extended: Partition, *, strict: bool) -> list[Partition]:
    """The chain of logical partitions, as far as it can be read."""
    found: list[Partition] = []
    at = extended.start
    for _round in range(_LOGICAL):
        sector = read(at, SECTOR)
        if len(sector) < SECTOR or sector[510:512] != b"\x55\xaa":
            if strict and not found and len(sector) == SECTOR:
                raise FormatError("partition table", at + 510, expected="55 aa", got=sector[510:512].hex(" "))
            return found
        further = None
        for slot in range(4):  # numbers go to what is found, not to sectors of the chain (msdos.c: parse_extended)
            entry = sector[446 + 16 * slot : 462 + 16 * slot]
            kind, start, count = entry[4], *(int.from_bytes(entry[n : n + 4], "little") for n in (8, 12))
            if not count:
                continue
            if kind in EXTENDED:
                further = start if further is None else further
            elif (kind or not strict) and (slot < 2 or _within(at, start, count, extended)):
                found.append(Partition(5 + len(found), kind, at + start * SECTOR, count * SECTOR, active=False))
        if not further:
            return found
        at = extended.start + further * SECTOR
    raise FormatError("partition table", at, expected=f"at most {_LOGICAL} logical partitions", got="more, or a circle")


def _within(at: int, start: int, count: int, extended: Partition) -> bool:
    """Whether an odd third or fourth entry of a chain lies in the extended partition (msdos.c)."""
    first = at + start * SECTOR
    return first >= extended.start and first + count * SECTOR <= extended.end


def _read_gpt(read: Read, size: int, *, strict: bool) -> PartitionTable:
    try:
        return _gpt_at(read, SECTOR, size, strict=strict)
    except FormatError as bad:
        if size < 2 * HEAD:
            raise
        try:
            second = _gpt_at(read, size // SECTOR * SECTOR - SECTOR, size, strict=strict)
        except FormatError:
            raise bad from None
        return replace(second, second=True, note=f"The first GPT is damaged ({bad}); this is the second, from the end.")


def _gpt_at(read: Read, at: int, size: int, *, strict: bool) -> PartitionTable:
    """A GPT by its header (table 5.5) and entries (table 5.6), judged as a kernel does (partitions/efi.c). size: of the
    disk, 0 while unknown."""
    header = read(at, SECTOR)
    if header[:8] != b"EFI PART":
        raise FormatError("GPT", at, expected="'EFI PART'", got=repr(header[:8]))
    length = int.from_bytes(header[12:16], "little")
    if not 92 <= length <= SECTOR:
        raise FormatError("GPT", at + 12, expected="a header of 92 to 512 bytes", got=f"{length}")
    blank = header[:16] + bytes(4) + header[20:length]
    if zlib.crc32(blank) != int.from_bytes(header[16:20], "little"):
        raise FormatError("GPT", at + 16, expected="the header's CRC-32", got=header[16:20].hex(" "))
    told_at, first_usable, last_usable = (int.from_bytes(header[n : n + 8], "little") for n in (24, 40, 48))
    if told_at != at // SECTOR:
        raise FormatError("GPT", at + 24, expected=f"its own place, sector {at // SECTOR}", got=f"{told_at}")
    if last_usable < first_usable or (size and max(first_usable, last_usable) > size // SECTOR - 1):
        most = f" up to {size // SECTOR - 1}" if size else ""
        raise FormatError("GPT", at + 40, expected=f"usable sectors{most}", got=f"{first_usable} to {last_usable}")
    first = int.from_bytes(header[72:80], "little") * SECTOR
    count, each = int.from_bytes(header[80:84], "little"), int.from_bytes(header[84:88], "little")
    if not 128 <= each <= 4096 or each % 8 or not 1 <= count <= 1024:
        raise FormatError("GPT", at + 80, expected="1 to 1024 entries of 128 bytes", got=f"{count} of {each}")
    entries = read(first, count * each)
    if len(entries) < count * each or zlib.crc32(entries) != int.from_bytes(header[88:92], "little"):
        raise FormatError("GPT", at + 88, expected="the entries' CRC-32", got=header[88:92].hex(" "))
    found = []
    for index in range(count):
        entry = entries[index * each : (index + 1) * each]
        if not any(entry[:16]):
            continue
        start, end = int.from_bytes(entry[32:40], "little"), int.from_bytes(entry[40:48], "little")
        if end < start:
            raise FormatError(
                "GPT", first + index * each + 32, expected="an end behind the start", got=f"{start}, {end}"
            )
        guid = str(uuid.UUID(bytes_le=entry[:16]))
        own = str(uuid.UUID(bytes_le=entry[16:32]))
        label = entry[56:128].decode("utf-16-le", "replace").split("\0")[0]
        kind = GUID_WORDS.get(guid, ("", 0))[1]
        active = bool(entry[48] & 4)  # legacy BIOS bootable
        found.append(Partition(index + 1, kind, start * SECTOR, (end - start + 1) * SECTOR, active, guid, label, own))
    note = _overlap(found, lambda part: first + (part.number - 1) * each + 32, strict=strict)
    reach = (last_usable + 1) * SECTOR
    return PartitionTable(int.from_bytes(header[56:60], "little"), tuple(found), "GPT", note, reach=reach)


def _overlap(found: list[Partition], place: Callable[[Partition], int], *, strict: bool) -> str:
    """What is to be told of partitions that overlap, '' for none. Raises FormatError where that is strict."""
    ordered = sorted(found, key=lambda part: part.start)
    for first, second in itertools.pairwise(ordered):
        if first.end > second.start:
            if not strict:
                return f"Partitions {first.number} and {second.number} overlap."
            raise FormatError(
                "partition table",
                place(second),
                expected=f"a start from byte {first.end}",
                got=f"{second.start}, inside partition {first.number}",
            )
    return ""


def single(size: int, kind: int, *, disk_id: int = 0) -> tuple[bytes, Partition]:
    """An MBR with one partition from 4 MiB to the disk's end, and that partition. size: of the disk, bytes; kind: the
    partition's type."""
    start = 4 << 20  # CP: whole erase blocks of a card
    part = Partition(1, kind, start, (size - start) // SECTOR * SECTOR, active=False)
    entry = bytes([0, 0xFE, 0xFF, 0xFF, part.kind, 0xFE, 0xFF, 0xFF])
    entry += (start // SECTOR).to_bytes(4, "little") + min(part.size // SECTOR, 0xFFFFFFFF).to_bytes(4, "little")
    return bytes(440) + disk_id.to_bytes(4, "little") + bytes(2) + entry + bytes(48) + b"\x55\xaa", part
