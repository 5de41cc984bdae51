"""What is known of an image file."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from kyklon.base.quantities import show_bytes


@dataclass(frozen=True)
class SourceFacts:
    """path: the file, or the first part of a split one; name: without the part's number.

    unpacked: bytes once decompressed; exact tells whether the format states it or it is an estimate from the
    beginning; None when it cannot even be estimated. member: the image's name inside an archive. blocks: pieces of
    an xz file that can be unpacked side by side. place: its absolute path, links followed; nodes: everything that its
    bytes, and those of its other parts, lie on, as devices.layers names them.
    """

    path: Path
    kind: str
    packed: int
    unpacked: int | None
    exact: bool
    member: str = ""
    parts: tuple[Path, ...] = ()
    name: str = ""
    blocks: int = 1
    place: str = ""
    nodes: frozenset[str] = frozenset()

    @property
    def size_words(self) -> str:
        """The unpacked size as said on screen."""
        if self.unpacked is None:
            return "unknown until unpacked"
        return show_bytes(self.unpacked) if self.exact else f"about {show_bytes(self.unpacked)}, an estimate"


@dataclass(frozen=True)
class Stated:
    """A checksum its maker states. algorithm: one of STRENGTH; digest: hexadecimal, lower case."""

    algorithm: str
    digest: str

    @property
    def words(self) -> str:
        return f"{self.algorithm} {self.digest[:8]}…"
