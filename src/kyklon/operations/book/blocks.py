"""What a book is made of, before anybody draws or writes it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Text:
    """role: body, muted, caution or strong."""

    words: str
    role: str = "body"


@dataclass(frozen=True)
class Head:
    """A heading inside a section."""

    words: str


@dataclass(frozen=True)
class Table:
    """rows: as many cells as heads."""

    heads: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


@dataclass(frozen=True)
class Code:
    """A file, line for line. name: its path."""

    name: str
    lines: tuple[str, ...]


@dataclass(frozen=True)
class Picture:
    """data: SVG, PNG or JPEG. caption: what it shows."""

    data: bytes
    caption: str

    @property
    def ending(self) -> str:
        """.svg, .png or .jpg."""
        head = self.data.lstrip()[:8]
        return ".png" if head.startswith(b"\x89PNG") else ".jpg" if head.startswith(b"\xff\xd8") else ".svg"


Block = Text | Head | Table | Code | Picture


@dataclass(frozen=True)
class Section:
    """number: of its operation, 0 for none."""

    number: int
    title: str
    blocks: tuple[Block, ...]


@dataclass(frozen=True)
class Book:
    """subtitle: of the machine. card: whether it is the one page for the inside of the cabinet. notes, cover: lines and
    a picture for the first page."""

    title: str
    subtitle: str
    sections: tuple[Section, ...]
    card: bool = False
    notes: tuple[str, ...] = ()
    cover: Picture | None = None
