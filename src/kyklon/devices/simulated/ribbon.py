"""A stand-in for an old keyboard's ribbon: close a key, and two of its pins meet. It can misread on purpose."""

from __future__ import annotations

import random
from pathlib import Path

from pydantic import Field, ValidationError

from kyklon.base import durable
from kyklon.base.errors import KyklonError
from kyklon.base.reading import bytes_of, json_of
from kyklon.model.record import Record

FILE = "ribbon.json"  # beside the other stand-ins of a build


class RibbonStandIn(Record):
    """lines: the two pins that each key joins. wrong: the part of readings that slip to a neighbouring pin."""

    lines: dict[str, tuple[int, int]]
    pins: int = Field(ge=2, le=40)
    wrong: float = Field(default=0.0, ge=0, le=0.5)
    seed: int = 1


def load(folder: Path) -> RibbonStandIn | None:
    """The stand-in of a folder, None where there is none. Raises KyklonError for a file that is none."""
    file = folder / FILE
    if not file.exists():
        return None
    try:
        return RibbonStandIn.model_validate(json_of(bytes_of(file), str(file)))
    except ValidationError as bad:
        raise KyklonError(f"{file} describes no ribbon: {bad.errors()[0]['msg']}.") from bad


def put(folder: Path, ribbon: RibbonStandIn) -> None:
    durable.keep(folder / FILE, ribbon.model_dump_json(indent=1).encode())


class SimulatedRibbon:
    def __init__(self, ribbon: RibbonStandIn) -> None:
        self.ribbon = ribbon
        self._random = random.Random(ribbon.seed)

    def close(self, key: str) -> tuple[int, int] | None:
        """The two pins that meet, as the meter shows them; None for a key that is not on the ribbon."""
        pair = self.ribbon.lines.get(key)
        if pair is None:
            return None
        one, other = pair
        if self._random.random() < self.ribbon.wrong:  # the probe slips to the next pin
            place = self._random.choice([index for index in range(1, self.ribbon.pins + 1) if index not in pair])
            one, other = (place, other) if self._random.random() < 0.5 else (one, place)
        return (one, other) if one < other else (other, one)
