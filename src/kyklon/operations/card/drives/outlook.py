"""What to expect of a write before it is done, and of the first start after it."""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.catalogue.records import Card
from kyklon.model.build import KnownCard
from kyklon.model.image_file import SourceFacts


@dataclass(frozen=True)
class Estimate:
    """seconds to write and read back; rate in bytes per second; source: where the rate comes from."""

    seconds: float
    rate: float
    source: str


def estimate(image: SourceFacts, known: KnownCard | None, card: Card | None) -> Estimate | None:
    """How long the next write takes: from this card's last write where it was measured, else from its class."""
    if not image.unpacked:
        return None
    if known is not None and known.last_rate:
        rate, words = known.last_rate, "measured at its last write"
    elif card is not None:
        rate, words = card.write_mb_s * 1e6, f"typical of {card.name}"
    else:
        return None
    back = card.read_mb_s * 1e6 if card else 2 * rate
    return Estimate(image.unpacked / rate + image.unpacked / max(rate, back), rate, words)


@dataclass(frozen=True)
class Expansion:
    """What the first boot does to the root partition: start and ends in bytes."""

    start: int
    end: int
    grown_end: int


def expansion(table_end: int, root_start: int, drive_size: int) -> Expansion | None:
    """The root partition grows from table_end to the drive's end, when it is the last one and there is room."""
    if not drive_size or drive_size - table_end < 1 << 20:
        return None
    return Expansion(root_start, table_end, drive_size // 512 * 512)
