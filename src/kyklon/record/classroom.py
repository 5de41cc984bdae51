"""A class at one build: seats and what each has answered, in the build folder."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Annotated

from pydantic import Field, ValidationError

from kyklon.base import durable, own_file
from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.reading import bytes_of, json_of
from kyklon.base.shown import visible
from kyklon.model.record import Record

FILE = "class.json"
MOST_SEATS = 60
Words = Annotated[str, Field(max_length=200)]
Name = Annotated[str, Field(min_length=1, max_length=60)]


class Classroom(Record):
    """seats: answers by question, by seat, in the order in which they joined. drills: best percent of each exercise, by
    seat and level. ticks: checks of the first power-on that a seat has seen, by their keys."""

    seats: dict[Name, dict[Words, Words]] = {}
    drills: dict[Name, dict[Words, Annotated[int, Field(ge=0, le=100)]]] = {}
    ticks: dict[Name, tuple[Words, ...]] = {}


def read(folder: Path) -> Classroom:
    """Raises KyklonError for a file that is none; it is left as it is."""
    path = folder / FILE
    own_file.refuse_foreign(path)
    if not path.exists():
        return Classroom()
    try:
        return Classroom.model_validate(json_of(bytes_of(path), str(path)))
    except (KyklonError, ValidationError) as bad:
        raise KyklonError(f"{path} is not a valid class.", do="Move it away; a new one will be created.") from bad


def put(folder: Path, seat: str, key: str = "", given: str = "") -> Classroom:
    """A seat's answer in place of its earlier one; without a question the seat alone. Raises KyklonError."""
    return _changed(folder, seat, lambda room, name: _with(room, "seats", name, key, visible(given.strip())[:200]))


def drilled(folder: Path, seat: str, level: int, percent: int) -> Classroom:
    """What a seat reached in an exercise; the best counts. Raises KyklonError."""
    if not 0 <= percent <= 100:
        raise WrongUse(f"{percent} % is not from 0 to 100.", do="Write the score that the exercise told.")

    def change(room: Classroom, name: str) -> Classroom:
        best = max(percent, room.drills.get(name, {}).get(str(level), 0))
        return _with(_with(room, "seats", name), "drills", name, str(level), best)

    return _changed(folder, seat, change)


def ticked(folder: Path, seat: str, key: str, *, on: bool = True) -> Classroom:
    """A check of the first power-on that a seat has seen, or takes back. Raises KyklonError."""

    def change(room: Classroom, name: str) -> Classroom:
        rest = tuple(each for each in room.ticks.get(name, ()) if each != key)
        now = _with(room, "seats", name)
        return now.model_copy(update={"ticks": {**now.ticks, name: (*rest, key) if on else rest}})

    return _changed(folder, seat, change)


def _with(room: Classroom, field: str, name: str, key: str = "", value: object = "") -> Classroom:
    before = getattr(room, field)
    own = {**before.get(name, {}), **({key: value} if key else {})}
    return room.model_copy(update={field: {**before, name: own}})


def _changed(folder: Path, seat: str, change: Callable[[Classroom, str], Classroom]) -> Classroom:
    seat = visible(seat.strip())
    if not seat or len(seat) > 60:
        raise WrongUse("A seat needs a name of up to 60 letters.", do="Name it by its number or its place.")
    path = folder / FILE
    own_file.refuse_foreign(path)
    with durable.alone(path):
        before = read(folder)
        if seat not in before.seats and len(before.seats) >= MOST_SEATS:
            raise WrongUse(f"A class has at most {MOST_SEATS} seats.", do="Begin another class in a copy of the build.")
        now = Classroom.model_validate(change(before, seat).model_dump())
        durable.keep(path, json.dumps(now.model_dump(), indent=1, ensure_ascii=False).encode() + b"\n")
    return now
