"""What is odd about a FAT file system: what fsck.fat would complain of (Microsoft FAT specification, 2000;
fsck.fat(8))."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass, field
from itertools import islice

from kyklon.base.errors import FormatError
from kyklon.operations.card.volumes.fat_reader import ENDS, FatReader, run_length

_MOST_CLUSTERS = 1 << 20  # of a boot partition of 512 MB in the smallest clusters; beyond it chains are not followed
_MOST_TOLD = 8  # of one kind


def loader_sees(head: bytes) -> str:
    """Why U-Boot's FAT reader would not take this boot sector, '' when it would (fs/fat/fat.c, 2023.01).

    Unlike the specification it goes by the words in it.
    """
    if head[510:512] != b"\x55\xaa":
        return "its boot sector does not end in 55 AA"
    wide = head[22:24] == b"\0\0"
    if head[54:57] != b"FAT" and head[82:87] != b"FAT32":
        return "its boot sector does not say FAT"
    told = head[82:90] if wide else head[54:62]
    if told not in ((b"FAT32   ",) if wide else (b"FAT12   ", b"FAT16   ")):
        return f"its boot sector calls it {told.decode('ascii', 'replace').strip() or 'nothing'}"
    return ""


@dataclass
class Health:
    """complaints: in words, nothing for a volume that is whole. broken: files whose chain ends before they do.
    reserved: files whose entries have reserved bits set, which a kernel passes over and U-Boot takes for the chain's
    end."""

    complaints: list[str] = field(default_factory=list)
    broken: list[str] = field(default_factory=list)
    reserved: list[str] = field(default_factory=list)


def health(volume: FatReader) -> Health:
    """Follow every chain of a volume."""
    found = Health(_marks(volume))
    if volume.geometry.clusters <= _MOST_CLUSTERS:
        _chains(volume, found)
    return found


def _marks(volume: FatReader) -> list[str]:
    shape, found = volume.geometry, []
    head = volume.raw(0, 512)
    at = 65 if shape.kind == "FAT32" else 37
    second = volume.table_entry(1)
    clean = {"FAT32": 0x08000000, "FAT16": 0x8000}.get(shape.kind, 0)
    if head[at] & 1 or (clean and not second & clean):
        found.append("it was not unmounted cleanly")
    if volume.table_entry(0) & 0xFF != head[21]:
        found.append("the first entry of its table does not repeat the medium's kind")
    if head[16] == 2:
        first, other = (
            volume.raw(shape.table, min(shape.table_bytes, 64 << 20)),
            volume.raw(shape.table + shape.table_bytes, min(shape.table_bytes, 64 << 20)),
        )
        if first != other:
            found.append("its two tables differ")
    if shape.kind == "FAT32":
        found += _second_sector(volume, head)
    return found


def _second_sector(volume: FatReader, head: bytes) -> list[str]:
    shape, found = volume.geometry, []
    at = int.from_bytes(head[50:52], "little")
    if 0 < at < 0xFFFF:
        copy = volume.raw(at * shape.sector, 512)
        if copy[:3] + copy[11:65] + copy[66:510] != head[:3] + head[11:65] + head[66:510]:
            found.append("its boot sector and the copy of it differ")
    if shape.information:
        info = volume.raw(shape.information, 512)
        if info[:4] != b"RRaA" or info[484:488] != b"rrAa":
            found.append("its FSInfo sector is damaged")
        else:
            stated = int.from_bytes(info[488:492], "little")
            if stated != 0xFFFFFFFF and stated * shape.cluster != volume.free_bytes():
                found.append("its count of free clusters is wrong")
    return found


def _chains(volume: FatReader, health_: Health) -> None:
    """Files whose chains are broken, longer or shorter than they are, or shared; clusters that belong to nobody."""
    shape = volume.geometry
    chains = _Chains(volume)
    found = chains.found
    files = list(islice(volume.everything(found), 1 << 16))
    found += [f"the name of {name} is damaged" for name in sorted(volume.odd_names)]
    if shape.kind == "FAT32":
        chains.follow("/", shape.root_cluster, None)
    for file, is_folder in files:
        if file.cluster == 0:
            if file.size or is_folder:
                found.append(f"{file.path} has a size but no clusters")
            continue
        if file.size == 0 and not is_folder:
            found.append(f"{file.path} is empty but has clusters")
        count = chains.follow(file.path, file.cluster, None if is_folder else file.size)
        if not is_folder and count * shape.cluster < file.size:
            health_.broken.append(file.path)
        if volume.reserved and not is_folder:
            with contextlib.suppress(FormatError):  # one that is broken is told as such
                if not volume.reserved.isdisjoint(volume.chain(file.cluster, file.path)):
                    health_.reserved.append(file.path)
    bad_mark = {"FAT32": 0x0FFFFFF7, "FAT16": 0xFFF7, "FAT12": 0xFF7}[shape.kind]
    used = len(chains.entries) - 2 - volume.free_bytes() // shape.cluster - chains.entries[2:].count(bad_mark)
    owned = chains.owned.count(1)
    if used > owned:
        found.append(f"{used - owned} clusters belong to no file")
    health_.complaints += found[:_MOST_TOLD]


class _Chains:
    """owned: by cluster, whether a chain that was followed has it."""

    def __init__(self, volume: FatReader) -> None:
        self.entries = volume.table_entries()
        self.owned = bytearray(len(self.entries))
        self.found: list[str] = []
        self._each = volume.geometry.cluster
        self._end = ENDS[volume.geometry.kind]
        self._runs: list[tuple[int, int, str]] = []

    def follow(self, path: str, cluster: int, size: int | None) -> int:
        """How many clusters of a file can be read. size: None of a folder."""
        count, most = 0, len(self.entries)
        while cluster < self._end:
            if not 2 <= cluster < most:
                self.found.append(f"the chain of {path} is broken")
                return count
            run = run_length(self.entries, cluster, most)
            taken = self.owned.find(1, cluster, cluster + run)
            if taken >= 0:
                other = next((name for first, behind, name in self._runs if first <= taken < behind), path)
                count += taken - cluster
                self.owned[cluster:taken] = b"\1" * (taken - cluster)
                self._runs.append((cluster, taken, path))
                if other == path:
                    self.found.append(f"the chain of {path} goes round")
                    return count
                self.found.append(f"{path} and {other} share clusters")
                return self._length(taken, count)
            self.owned[cluster : cluster + run] = b"\1" * run
            self._runs.append((cluster, cluster + run, path))
            count += run
            cluster = self.entries[cluster + run - 1]
        if size is not None and -(-size // self._each) != count:
            longer = "longer" if count * self._each > size else "shorter"
            self.found.append(f"the chain of {path} is {longer} than the file")
        return count

    def _length(self, cluster: int, count: int) -> int:
        """Of a chain that runs into another's clusters: they are read all the same."""
        most = len(self.entries)
        while 2 <= cluster < most and count <= most:
            run = run_length(self.entries, cluster, most)
            count += run
            cluster = self.entries[cluster + run - 1]
        return count
