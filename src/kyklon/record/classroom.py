"""A class at one build: seats and what each has answered, in the build folder."""

from __future__ import annotations

import json
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


class Classroom(Record):
    """seats: answers by question, by seat, in the order in which they joined."""

    seats: dict[Annotated[str, Field(min_length=1, max_length=60)], dict[Words, Words]] = {}


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
    seat = visible(seat.strip())
    if not seat or len(seat) > 60:
        raise WrongUse("A seat needs a name of up to 60 letters.", do="Name it by its number or its place.")
    path = folder / FILE
    own_file.refuse_foreign(path)
    with durable.alone(path):
        before = read(folder)
        if seat not in before.seats and len(before.seats) >= MOST_SEATS:
            raise WrongUse(f"A class has at most {MOST_SEATS} seats.", do="Begin another class in a copy of the build.")
        own = dict(before.seats.get(seat, {}))
        if key:
            own[key] = visible(given.strip())[:200]
        now = Classroom(seats={**before.seats, seat: own})
        durable.keep(path, json.dumps(now.model_dump(), indent=1, ensure_ascii=False).encode() + b"\n")
    return now
