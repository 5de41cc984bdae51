"""What somebody wishes a machine to be, what of it is at hand, bought or done, and when there is time for it."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Literal

from pydantic import AfterValidator, Field, StringConstraints

from kyklon.model.described import described
from kyklon.model.record import Record

PLACES = ("table", "living room", "camper", "school")
SOFTWARE = ("", "complete image", "base and installer", "bare metal")
Place = Literal["table", "living room", "camper", "school"]


def _a_day(text: str) -> str:
    """A day of the calendar from 2000 to 2199, or ''. Raises ValueError."""
    try:
        known = not text or 2000 <= date.fromisoformat(text).year < 2200
    except ValueError:
        known = False
    if not known:
        raise ValueError(f"{text} is not a day of the years 2000 to 2199; a day is written as 2027-03-01")
    return text


Day = Annotated[str, StringConstraints(pattern=r"^(\d{4}-\d{2}-\d{2})?$"), AfterValidator(_a_day)]  # ISO 8601
PartKey = Annotated[str, StringConstraints(pattern=r"^[a-z_]{1,20}/[a-z0-9][a-z0-9.-]{0,80}$")]  # kind/id
RolePart = Annotated[str, StringConstraints(pattern=r"^[a-z0-9-]{1,20}=[a-z0-9][a-z0-9.-]{0,80}$")]  # role=id


class Bought(Record):
    """A line of the parts list. key: kind/id, or 'extra/' and what it is. price: in the user's own currency, for one.
    history: prices before, with their day, the latest last."""

    key: Annotated[str, StringConstraints(min_length=1, max_length=120)]
    state: Literal["need", "ordered", "arrived", "have"] = "need"
    price: float | None = Field(default=None, ge=0, le=1_000_000)
    shop: Annotated[str, StringConstraints(max_length=120)] = ""
    day: Day = ""
    serial: Annotated[str, StringConstraints(max_length=120)] = ""
    history: tuple[tuple[Day, Annotated[float, Field(ge=0, le=1_000_000)]], ...] = ()


class Bundle(Record):
    """Parts that a shop sells together. price: of all of it, in the user's own currency."""

    name: Annotated[str, StringConstraints(min_length=1, max_length=120)]
    price: float = Field(ge=0, le=1_000_000)
    parts: tuple[PartKey, ...] = Field(min_length=1, max_length=60)


class Evening(Record):
    """Time at the bench. start: local time of the day as HH:MM."""

    day: Annotated[str, StringConstraints(pattern=r"^\d{4}-\d{2}-\d{2}$"), AfterValidator(_a_day)]
    start: Annotated[str, StringConstraints(pattern=r"^([01]\d|2[0-3]):[0-5]\d$")] = "19:00"
    minutes: int = Field(default=150, ge=10, le=1440)


class Done(Record):
    """A step that was done, and the minutes of hands it took; 0 where nobody looked at the clock."""

    step: Annotated[str, StringConstraints(min_length=1, max_length=120)]
    minutes: float = Field(default=0.0, ge=0, le=10_000)
    at: str = ""


class Trial(Record):
    """Parts that were tried together on this bench. parts: ids, of parts and cables. why: what was seen."""

    parts: tuple[Annotated[str, Field(min_length=1, max_length=80)], ...] = Field(min_length=2, max_length=8)
    works: bool
    why: str = Field(default="", max_length=300)
    at: str = Field(default="", max_length=40)


class PlanSettings(Record):
    """games: how many of each system, by its id. hardest: words of the title of the game that asks for most. screen:
    the display that is there. reach_m: from the machine to it along the cable. fixed: parts that stay. bundles: what a
    shop sells together, each compared with buying one by one; bundle: the name of the one that is bought. trials: what
    was tried on this bench, whether it worked or not."""

    games: dict[str, Annotated[int, Field(ge=0, le=100_000)]] = {}
    hardest: str = described("Most demanding game", "", max_length=120)
    place: Place = described("Where", "table", choices=tuple((place, place) for place in PLACES))
    software: Literal["", "complete image", "base and installer", "bare metal"] = described(
        "System software",
        "",
        choices=tuple((kind, kind or "any kind") for kind in SOFTWARE),
    )
    players: int = described("Players", 1, ge=1, le=8)
    screen: str = described("Screen", "", max_length=80)
    reach_m: float = described("Machine to screen", 0.0, unit="m", ge=0, le=30)
    at_hand: tuple[PartKey, ...] = described("At hand", ())
    budget: float = described("Budget", 0.0, ge=0, le=1_000_000, hint="no limit")
    by: Day = described("Finished by", "", hint="2027-03-01")
    fixed: tuple[RolePart, ...] = described("Fixed parts", ())
    bundles: tuple[Bundle, ...] = described("Bundles", (), max_length=12)
    bundle: str = described("Bundle that is bought", "", max_length=120)
    parts: tuple[Bought, ...] = described("Parts list", (), max_length=2000)
    evenings: tuple[Evening, ...] = described("Time at the bench", (), max_length=400)
    done: tuple[Done, ...] = described("Steps done", (), max_length=1000)
    trials: tuple[Trial, ...] = described("Tried together", (), max_length=200)

    @property
    def bought_bundle(self) -> Bundle | None:
        return next((bundle for bundle in self.bundles if bundle.name == self.bundle), None)

    def bought(self, key: str) -> Bought | None:
        return next((row for row in self.parts if row.key == key), None)
