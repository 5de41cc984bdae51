"""What every kind of boot file can do."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Protocol

# whether the firmware can start what a label names: its values, with paths as they are on the boot partition
Works = Callable[[Mapping[str, str]], bool]
VOID, WAITS = "void", "waits"  # keys under which a reader tells why nothing is taken, and that a menu waits for a key


@dataclass(frozen=True)
class Wanted:
    """What a file is to say. values: by its own key, '' to leave a line out; settings: the decision behind each key, by
    its path in the build. words: for the kernel line; without: beginnings of words that go from it. services: in
    order. board: the id of the board it is for."""

    board: str
    values: Mapping[str, str]
    settings: Mapping[str, str]
    words: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    services: tuple[str, ...] = ()


@dataclass(frozen=True)
class FaultWords:
    """What a line says. number: from 1. key: '' for what sets nothing. odd: why it does not do what it seems to, or
    ''."""

    number: int
    key: str
    value: str = ""
    odd: str = ""


class Codec(Protocol):
    """One kind of boot file. Edits keep all they do not concern: remarks, order, unknown words."""

    def compile(self, old: str, wanted: Wanted) -> str:
        """The text on the card with what is wanted put in."""
        ...

    def read(self, text: str, board: str, works: Works | None = None) -> dict[str, str]:
        """What a board makes of the text, by key. works: for files with several labels."""
        ...

    def told(self, text: str, board: str) -> list[FaultWords]:
        """Every line that sets something or is odd, in order; remarks and blank lines are passed over."""
        ...

    def explain(self, line: str, wanted: Wanted) -> str:
        """The decision that put a line there, by its path; '' for what was there before."""
        ...


def split_lines(text: str) -> list[str]:
    """Lines as they are, carriage returns included; only a line feed ends one."""
    lines = text.split("\n")
    return lines[:-1] if lines[-1] == "" else lines
