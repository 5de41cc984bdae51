"""What sits on the pin header: device tree overlays, each a word `overlay` or `overlay:parameter=number,…`."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Overlay

_WORD = re.compile(r"([a-z0-9][a-z0-9-]*)(?::([a-z]+=\d{1,6}(?:,[a-z]+=\d{1,6})*))?")


@dataclass(frozen=True)
class Extra:
    """A word as read. overlay: None for one that the catalogue does not know. trouble: why it does not work, or ''."""

    word: str
    name: str
    parameters: dict[str, int]
    overlay: Overlay | None
    trouble: str = ""

    @property
    def pins(self) -> tuple[int, ...]:
        """Where its wires sit: what its parameters say, else what the overlay does; wires of a bus as the overlay."""
        if self.overlay is None:
            return ()
        lines = self.overlay.lines
        if not lines:
            return (self.parameters["pin"],) if "pin" in self.parameters else self.overlay.pins
        own = self.overlay.parameters | self.parameters
        placed = tuple(own[line.parameter] for line in lines if line.parameter)
        return placed if all(line.parameter for line in lines) else (*placed, *self.overlay.pins)


def read(words: Sequence[str], catalogue: Catalogue) -> tuple[Extra, ...]:
    """Every word, with what is wrong with it alone."""
    found = []
    for word in words:
        match = _WORD.fullmatch(word)
        if match is None:
            found.append(Extra(word, word, {}, None, "write it as overlay, or overlay:parameter=number"))
            continue
        overlay = catalogue.find(Overlay, match[1])
        pairs = (pair.split("=") for pair in match[2].split(",")) if match[2] else ()
        parameters = {name: int(value) for name, value in pairs}
        trouble = "" if overlay else "the catalogue knows no such overlay"
        odd = next((name for name in parameters if overlay and name not in overlay.parameters), "")
        trouble = trouble or (f"{match[1]} has no parameter {odd}" if odd else "")
        found.append(Extra(word, match[1], parameters, overlay, trouble))
    return tuple(found)


def clashes(extras: Sequence[Extra]) -> dict[int, tuple[str, ...]]:
    """Pins that more than one thing wants, with their names."""
    users: dict[int, list[str]] = {}
    for extra in extras:
        for pin in extra.pins:
            users.setdefault(pin, []).append(extra.overlay.name if extra.overlay else extra.name)
    return {pin: tuple(names) for pin, names in sorted(users.items()) if len(names) > 1}
