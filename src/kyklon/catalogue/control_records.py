"""Kinds of the catalogue that operation 40 alone uses: pin headers, arrangements of buttons, old keyboards."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from kyklon.catalogue.records import CataloguePart, NotNegative, Positive
from kyklon.model.record import Record


class HeaderPin(Record):
    """A pin of the header. kind: what it is; functions: signals that it can carry besides an input or output. pull:
    resistor at the start; boot: what stands on it while the board starts."""

    number: int = Field(ge=1, le=80)
    kind: Literal["signal", "ground", "3.3 V", "5 V"] = "signal"
    label: str = ""
    functions: tuple[str, ...] = ()
    pull: Literal["up", "down", "none"] = "none"
    boot: Literal["", "high", "low", "pulses"] = ""


class Header(CataloguePart):
    """A board's pin header. most_ma: of one pin, and of all together, in mA."""

    pins: tuple[HeaderPin, ...] = Field(min_length=2, max_length=80)
    most_ma: tuple[Positive, Positive]

    def pin(self, number: int) -> HeaderPin | None:
        return next((each for each in self.pins if each.number == number), None)


class Arrangement(CataloguePart):
    """A way to lay out buttons beside a lever, in hand measures. columns, rows: of buttons; drop: how far each column
    lies nearer to the player than the first, in pitches; small: start and the like, in a row at the far edge. lever:
    whether there is one; sides: pinball buttons at the two sides."""

    columns: int = Field(ge=1, le=6)
    rows: int = Field(ge=1, le=3)
    drop: tuple[float, ...]
    lean: float = Field(default=0.0, ge=-1, le=1)  # how far the upper row is moved to the right, in pitches
    lever: bool = True
    sides: bool = False
    small: tuple[Literal["start", "select", "coin"], ...] = ("start", "select")


class Key(Record):
    """A key of an old keyboard. x, y, width in key pitches from the upper left. code: the kernel's code of the key that
    lies there on a full keyboard. signs: what it types, alone and with shift. pins: row and column of the ribbon, where
    they are known."""

    id: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]{0,23}$")]
    label: str
    x: NotNegative
    y: NotNegative
    width: Positive = 1.0
    code: str
    signs: tuple[str, ...] = ()
    line: tuple[int, int] | None = None


class Keyboard(CataloguePart):
    """A keyboard with its own ribbon, or the one that an emulated machine has. pins: of the ribbon. lamps: pins of its
    lamps. restore: a key with a line of its own, outside the matrix."""

    keys: tuple[Key, ...] = Field(min_length=1, max_length=140)
    pins: int = Field(default=0, ge=0, le=40)
    lamps: tuple[tuple[str, int], ...] = ()
    restore: str = ""

    def key(self, key_id: str) -> Key | None:
        return next((each for each in self.keys if each.id == key_id), None)
