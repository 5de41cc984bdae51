"""The case without a window: what lies where, what collides, what makes room."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Annotated, Self

from kyklon.base.errors import WrongUse
from kyklon.catalogue.loader import Catalogue
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, STOPS, Folder, Json, open_folder, out
from kyklon.model.assembly import Body
from kyklon.model.build import Build
from kyklon.model.casework import PURPOSES, WALLS, Opening
from kyklon.operations.assembly.reach import Reach, card_reach, with_opening, without_opening
from kyklon.operations.assembly.rooms import Room, rooms, with_body, with_own, with_turned, without_body
from kyklon.operations.assembly.space import Clash, Lead, Space, clashes, free_mm, leads, space_of
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook


def space(
    folder: Folder,
    place: Annotated[
        list[str] | None, Option("--place", help="ID=X,Y or ID=X,Y,Z in mm, from the inner left front; repeatable.")
    ] = None,
    add: Annotated[
        list[str] | None,
        Option("--add", help="ID=40x30x20@10,20,0: a thing of your own, its size and place in mm; repeatable."),
    ] = None,
    remove: Annotated[list[str] | None, Option("--remove", help="ID of what is not there; repeatable.")] = None,
    fix: Annotated[list[str] | None, Option("--fix", help="ID of what cannot be moved, such as a post.")] = None,
    turn: Annotated[list[str] | None, Option("--turn", help="ID of what is turned by 90° to the left.")] = None,
    opening: Annotated[
        list[str] | None,
        Option(
            "--opening",
            help="ID=WALL:30x12@50,20:PURPOSE or WALL:d24@50,20: a hole in a wall, its size and middle in mm; "
            f"PURPOSE is {', '.join(filter(None, PURPOSES))} or nothing.",
        ),
    ] = None,
    close: Annotated[list[str] | None, Option("--close", help="ID of an opening that is not there.")] = None,
    as_json: Json = False,
) -> int:
    """Show the parts in the case, what collides and what makes room; exit 1 when something collides."""
    rows, own = [_place(text) for text in place or ()], [_body(text) for text in add or ()]
    holes = [_opening(text) for text in opening or ()]
    changed = [
        *(name for name, _changes in rows),
        *(body.id for body in own),
        *(hole.id for hole in holes),
        *(name for names in (remove, fix, turn, close) for name in names or ()),
    ]
    if changed:
        known = open_folder(folder)[1]
        asked = _Arranged(rows, own, holes, remove or [], fix or [], turn or [], close or [])
        try:
            store.update(folder, lambda now: asked.on(now, known))
        except ValueError as bad:
            raise WrongUse(f"{bad}.", do="See `kyklon space FOLDER` for what is in the case.") from bad
        Logbook(folder).add(80, "Placed", ", ".join(changed))
    build, catalogue = open_folder(folder)
    seen = _Seen.of(build, catalogue)
    out(seen.data(), as_json, seen.lines)
    return STOPS if seen.clashes else OK


@dataclass(frozen=True)
class _Arranged:
    """What was asked of the space, in the words of `space`'s options."""

    rows: list[tuple[str, dict[str, float]]]
    own: list[Body]
    holes: list[Opening]
    remove: list[str]
    fix: list[str]
    turn: list[str]
    close: list[str]

    def on(self, now: Build, known: Catalogue) -> Build:
        """The build with all of it. Raises ValueError."""
        for name in self.remove:
            now = without_body(now, name)
        for name in self.close:
            now = without_opening(now, name)
        for hole in self.holes:
            now = with_opening(now, hole)
        for name in self.turn:
            now = with_turned(now, known, name)
        for body in self.own:
            now = with_own(now, known, body)
        for name, changes in self.rows:
            now = with_body(now, known, name, **changes)
        for name in self.fix:
            now = with_body(now, known, name, fixed=True)
        return now


@dataclass(frozen=True)
class _Seen:
    build: Build
    space: Space
    clashes: tuple[Clash, ...]
    rooms: dict[Clash, tuple[Room, ...]]
    leads: tuple[Lead, ...]
    card: Reach

    @classmethod
    def of(cls, build: Build, catalogue: Catalogue) -> Self:
        made = space_of(build, catalogue)
        found = clashes(made)
        ways = {clash: rooms(build, catalogue, clash) for clash in found}
        return cls(build, made, found, ways, leads(build, catalogue), card_reach(build, catalogue))

    def data(self) -> dict[str, object]:
        return {
            "openings": [row.model_dump() for row in self.build.assembly.openings],
            "card": {"reached": self.card.reached, "words": self.card.words},
            "inner_mm": list(self.space.inner),
            "bodies": [
                {"id": box.id, "name": box.name, "near": box.near, "size": box.size} for box in self.space.boxes
            ],
            "clashes": [
                {
                    "one": clash.one,
                    "other": clash.other,
                    "missing_mm": round(clash.missing, 1),
                    "helps": [room.words for room in self.rooms[clash]],
                }
                for clash in self.clashes
            ],
            "leads": [
                {
                    "name": lead.name,
                    "needs_mm": round(lead.needs_mm),
                    "has_mm": round(lead.has_mm),
                    "reaches": lead.reaches,
                }
                for lead in self.leads
            ],
            "assumed": list(self.space.assumed),
        }

    def lines(self) -> list[str]:
        told = ["Inside {:g} × {:g} × {:g} mm".format(*self.space.inner)]
        for box in self.space.boxes:
            at, size = ", ".join(f"{value:.0f}" for value in box.near), " × ".join(f"{value:.0f}" for value in box.size)
            told.append(f"  {box.id:18} {box.name[:28]:28} at {at}: {size} mm")
        for clash in self.clashes:
            told.append(f"{clash.one} and {clash.other}: they overlap by {clash.missing:.1f} mm.")
            told += [f"  {room.words}" for room in self.rooms[clash]]
        if not self.clashes:
            free = free_mm(self.space)
            told.append("Nothing collides" + (f"; {free:.0f} mm are free over everything." if free > 0 else "."))
        for lead in self.leads:
            short = "" if lead.reaches else ", too short"
            told.append(f"{lead.name}: at least {lead.needs_mm:.0f} mm; the cable has {lead.has_mm:.0f} mm{short}.")
        for hole in self.build.assembly.openings:
            size = f"{hole.wide:g} mm across" if hole.round else f"{hole.wide:g} × {hole.high:g} mm"
            told.append(f"{hole.id}, {hole.name}: {hole.wall} wall, {size}, {PURPOSES[hole.purpose]}")
        told.append(self.card.words)
        return told + ([f"Assumed: {'; '.join(self.space.assumed)}."] if self.space.assumed else [])


def _place(text: str) -> tuple[str, dict[str, float]]:
    name, equals, rest = text.partition("=")
    try:
        values = [float(value) for value in rest.split(",")]
    except ValueError:
        values = []
    if not equals or len(values) not in (2, 3):
        raise WrongUse(f"{text!r} is no place.", do="Write it as board=20,45 or board=20,45,6.")
    return name, dict(zip("xyz", values, strict=False))


def _body(text: str) -> Body:
    name, _equals, rest = text.partition("=")
    size, _, place = rest.partition("@")
    try:
        wide, deep, high = (float(value) for value in size.lower().split("x"))
        x, y, z = (float(value) for value in (place or "0,0,0").split(","))
        return Body(id=name, name=name.replace("-", " ").capitalize(), x=x, y=y, z=z, wide=wide, deep=deep, high=high)
    except ValueError:
        raise WrongUse(f"{text!r} is no thing in a case.", do="Write it as post=8x8x40@10,20,0.") from None


def _opening(text: str) -> Opening:
    found = re.fullmatch(
        r"(?P<id>[^=]+)=(?P<wall>\w+):(?:d(?P<d>[\d.]+)|(?P<w>[\d.]+)[x×](?P<h>[\d.]+))@(?P<x>-?[\d.]+),(?P<y>-?[\d.]+)"
        r"(?::(?P<for>\w*))?",
        text,
    )
    try:
        if found is None:
            raise ValueError
        return Opening.model_validate(
            {
                "id": found["id"],
                "name": found["id"].replace("-", " ").capitalize(),
                "wall": found["wall"],
                "along": found["x"],
                "up": found["y"],
                "wide": found["d"] or found["w"],
                "high": found["h"] or 0,
                "round": found["d"] is not None,
                "purpose": found["for"] or "",
            }
        )
    except ValueError:
        raise WrongUse(
            f"{text!r} is no opening.",
            do=f"Write it as card=front:24x10@40,6:card; walls: {', '.join(WALLS)}; purposes: "
            f"{', '.join(filter(None, PURPOSES))}.",
        ) from None
