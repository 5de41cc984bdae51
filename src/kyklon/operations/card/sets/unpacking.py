"""How long a chooser takes to unpack a system: the slowest of reading, decompressing and writing.

Bundles on the card that they are unpacked to are read and written by one slot, so both times add up there.
"""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.operations.card.sets.bundle import UNPACKED_TIMES, Bundle

# bytes a second that one core of a small board gets out of an archive, CP
_UNPACKS = {"xz": 8e6, "bz2": 5e6, "gz": 40e6, "zst": 80e6, "zip": 40e6, "7z": 8e6}


@dataclass(frozen=True)
class Speeds:
    """Bytes per second of where the bundles lie and of what they are unpacked to. shared: that is one and the same."""

    reads: float
    writes: float
    shared: bool = False


USUAL = Speeds(10e6, 10e6)  # a stick and a card of speed class 10, SD Physical Layer specification


def seconds(bundle: Bundle, speeds: Speeds) -> float:
    """Of all archives of a bundle, one after another; a guess where its manifest leaves sizes out."""
    total = 0.0
    for part, packed in zip(bundle.partitions, bundle.packed, strict=True):
        unpacked = part.unpacked or packed * UNPACKED_TIMES
        rate = _UNPACKS.get(part.archive.rpartition(".")[2].lower(), min(_UNPACKS.values()))
        read, write = packed / speeds.reads, unpacked / speeds.writes
        total += max(unpacked / rate, read + write if speeds.shared else max(read, write))
    return total
