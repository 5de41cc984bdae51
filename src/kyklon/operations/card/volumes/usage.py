"""Which bytes of a card are in use: the file systems' own free maps, so that a backup reads only what counts.

ext: dumpe2fs lists the free blocks. FAT: no tool lists its free clusters, so the table itself is read (Microsoft FAT
specification, 4). Whatever is not understood counts as used.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from kyklon.base import tools
from kyklon.base.errors import FormatError, ToolError
from kyklon.base.late import late
from kyklon.model.card import Volume
from kyklon.operations.card.volumes.fat_reader import geometry
from kyklon.operations.card.volumes.partitions import reader
from kyklon.operations.card.volumes.survey import Survey, survey

if TYPE_CHECKING:
    import numpy as np
else:
    np = late("numpy")

_GROUP_FREE = re.compile(r"^  Free blocks: (.*)$", re.MULTILINE)
_BLOCK_SIZE = re.compile(r"^Block size:\s+(\d+)$", re.MULTILINE)
_BLOCK_COUNT = re.compile(r"^Block count:\s+(\d+)$", re.MULTILINE)

Extent = tuple[int, int]  # start and end in bytes


@dataclass(frozen=True)
class Usage:
    """used: what must be kept, in order and apart. end: the byte behind all that must be kept. notes: what was not
    understood and is kept whole."""

    used: tuple[Extent, ...]
    end: int
    notes: tuple[str, ...] = ()

    @property
    def total(self) -> int:
        return sum(end - start for start, end in self.used)


def usage(path: Path, size: int, known: Survey | None = None) -> Usage:
    """The used bytes of a drive or plain image.

    size: of the drive, bytes. known: what was found on it already. Raises OSError when it cannot be read.
    """
    found = known or survey(path, deep=False)
    if found.table is None and not found.volumes:
        return Usage(((0, size),), size, (f"{found.error or 'There is no partition table.'} All of it is kept.",))
    table = found.table
    end = size if table is None or table.scheme != "MBR" else min(size, table.end)
    free: list[Extent] = []
    notes = []
    for volume in found.volumes:
        try:
            free += _free(path, volume)
        except (ToolError, FormatError, ValueError, IndexError) as bad:
            notes.append(f"Partition {volume.number} ({volume.kind or 'unknown'}) is kept whole: {bad}")
    if table is not None and table.scheme != "MBR":  # the second GPT lies in the last 33 sectors
        free.append((table.end, max(table.end, size - 34 * 512)))
    return Usage(tuple(_complement(free, end)), end, tuple(notes))


def _complement(free: Iterable[Extent], end: int) -> list[Extent]:
    used, at = [], 0
    for start, stop in sorted(free):
        if start > at:
            used.append((at, min(start, end)))
        at = max(at, stop)
        if at >= end:
            break
    if at < end:
        used.append((at, end))
    return [each for each in used if each[1] > each[0]]


def _free(path: Path, volume: Volume) -> list[Extent]:
    if volume.kind.startswith("ext"):
        return _free_ext(path, volume)
    if volume.kind.startswith("FAT"):
        return _free_fat(path, volume)
    raise ValueError("no free map is known for it")


def _free_ext(path: Path, volume: Volume) -> list[Extent]:
    with tools.plain_name(path) as name:
        told = tools.run(["dumpe2fs", f"{name}?offset={volume.start}"], seconds=300).decode(errors="replace")
    size, count = _BLOCK_SIZE.search(told), _BLOCK_COUNT.search(told)
    if size is None or count is None:
        raise ToolError("dumpe2fs does not tell the block size.")
    block = int(size[1])
    found = []
    for line in _GROUP_FREE.findall(told):
        for piece in filter(None, (word.strip() for word in line.split(","))):
            first, _dash, last = piece.partition("-")
            begin, stop = int(first), int(last or first) + 1
            found.append((volume.start + begin * block, volume.start + stop * block))
    behind = int(count[1]) * block
    if behind < volume.size:
        found.append((volume.start + behind, volume.start + volume.size))
    return found


def _free_fat(path: Path, volume: Volume) -> list[Extent]:
    descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        read = reader(descriptor)
        shape = geometry(read(volume.start, 512))
        raw = read(volume.start + shape.table, min(shape.table_bytes, (shape.clusters + 2) * 4))
    finally:
        os.close(descriptor)
    entries = _entries(raw, shape.kind, shape.clusters + 2)
    free = np.flatnonzero(entries[2:] == 0)
    if not len(free):
        return []
    breaks = np.flatnonzero(np.diff(free) != 1) + 1
    width, base = shape.cluster, volume.start + shape.data
    runs = [(int(run[0]), int(run[-1]) + 1) for run in np.split(free, breaks)]
    return [(base + first * width, base + last * width) for first, last in runs]


def _entries(raw: bytes, kind: str, count: int) -> np.ndarray:
    """The table's entries; a table cut short (a sparse file) continues with zeros."""
    if kind == "FAT32":
        return np.frombuffer(raw.ljust(count * 4, b"\0"), dtype="<u4")[:count] & 0x0FFFFFFF
    if kind == "FAT16":
        return np.frombuffer(raw.ljust(count * 2, b"\0"), dtype="<u2")[:count]
    raw = raw.ljust(-(-count // 2) * 3, b"\0")[: -(-count // 2) * 3]
    triples = np.frombuffer(raw, dtype=np.uint8).reshape(-1, 3).astype(np.uint16)
    low = triples[:, 0] | (triples[:, 1] & 0x0F) << 8
    high = triples[:, 1] >> 4 | triples[:, 2] << 4
    return np.stack([low, high], axis=1).reshape(-1)[:count]
