"""What was seen of the file sets that a card is made from."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class SetStop:
    """What keeps a set, or one of its bundles, off a card."""

    of: str
    sentence: str
    why: str


@dataclass(frozen=True)
class SeenSystem:
    """A bundle that goes on. released: ISO 8601, '' where nobody tells."""

    folder: str
    name: str
    released: str
    unpack_s: float


@dataclass(frozen=True)
class SeenSets:
    """The set of the build's image. size: bytes that are copied. systems: of a chooser, in its order."""

    size: int
    stops: tuple[SetStop, ...]
    systems: tuple[SeenSystem, ...] = ()
