"""A case and its wires as somebody measured them: openings, and connectors contact by contact."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, StringConstraints, model_validator

from kyklon.model.record import Record

Wall = Literal["front", "back", "left", "right", "lid", "floor"]
WALLS: tuple[Wall, ...] = ("front", "back", "left", "right", "lid", "floor")
Purpose = Literal["", "socket", "plug", "card", "cable", "air"]
PURPOSES: dict[Purpose, str] = {
    "": "unused, to be covered",
    "socket": "panel socket",
    "plug": "plug into the board",
    "card": "card",
    "cable": "cable",
    "air": "air",
}
Id = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9.-]{0,60}$")]
Name = Annotated[str, StringConstraints(min_length=1, max_length=80)]


class Opening(Record):
    """A hole in the case's wall. along: its middle in mm from the left inner corner, for a side wall from the front;
    up: its middle from the inner floor, for lid and floor from the front. round: then wide is its diameter."""

    id: Id
    name: Name
    wall: Wall
    along: float = Field(ge=-100, le=2000)
    up: float = Field(ge=-100, le=2000)
    wide: float = Field(gt=0, le=1000)
    high: float = Field(default=0.0, ge=0, le=1000)
    round: bool = False
    purpose: Purpose = ""

    @model_validator(mode="after")
    def _has_height(self) -> Opening:
        if not self.round and not self.high:
            raise ValueError(f"{self.name}: an opening with corners has a height")
        return self

    @property
    def tall(self) -> float:
        """mm upwards, its diameter where it is round."""
        return self.wide if self.round else self.high


class Contact(Record):
    """Two contacts that a wire joins. gives_v: what the first end puts on it, 0 for ground; takes_v: what the second
    end expects, and takes at most; None where it is a switch or nobody knows."""

    one: Annotated[str, StringConstraints(min_length=1, max_length=40)]
    other: Annotated[str, StringConstraints(min_length=1, max_length=40)]
    signal: Annotated[str, StringConstraints(max_length=40)] = ""
    gives_v: float | None = Field(default=None, ge=-50, le=400)
    takes_v: float | None = Field(default=None, ge=-50, le=400)
    colour: Annotated[str, StringConstraints(max_length=30)] = ""


class Connector(Record):
    """A cable inside the case. one, other: what its ends go to."""

    id: Id
    name: Name
    one: Name
    other: Name
    contacts: tuple[Contact, ...] = Field(min_length=1, max_length=100)
