"""What would make room in a case: things moved, turned, made shorter, openings cut; each tried before it is offered."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from kyklon.catalogue.loader import Catalogue
from kyklon.model.assembly import Body
from kyklon.model.build import Build, edited
from kyklon.model.casework import Opening
from kyklon.operations.assembly.space import (
    MOST_HIGH,
    STEP_MM,
    TOUCH_MM,
    WALLS,
    Box,
    Clash,
    Space,
    clashes,
    overlap,
    space_of,
)


@dataclass(frozen=True)
class Room:
    """What would help, in words, and the build that it makes. left: clashes that remain."""

    words: str
    build: Build
    left: int


def with_body(build: Build, catalogue: Catalogue, name: str, **changes: float) -> Build:
    """A build in which a body lies elsewhere, or is of another size; one that was only proposed is kept from then on.
    Raises ValueError for a body that is not there, or that hangs from the panel."""
    space = space_of(build, catalogue)
    box = space.box(name)
    if box is None or box.of or name.startswith("control-"):
        raise ValueError(f"There is nothing {name!r} in the case that can be placed")
    placed = {body.id: body for body in build.assembly.bodies}
    now = placed.get(name) or Body(
        id=name,
        name=box.name,
        x=box.near[0],
        y=box.near[1],
        z=box.near[2],
        wide=box.size[0],
        deep=box.size[1],
        high=box.size[2],
    )
    rows = [body.model_dump() for body in build.assembly.bodies if body.id != name]
    return edited(build, "assembly.bodies", [*rows, {**now.model_dump(), **changes}])


def with_turned(build: Build, catalogue: Catalogue, name: str) -> Build:
    """A build in which a body is turned to the left by 90°, seen from above, about its near corner. Raises as
    with_body does."""
    box = space_of(build, catalogue).box(name)
    now = next((body.turned for body in build.assembly.bodies if body.id == name), 0)
    wide, deep, _high = box.size if box is not None else (1.0, 1.0, 1.0)
    return with_body(build, catalogue, name, wide=deep, deep=wide, turned=(now + 90) % 360)


def with_own(build: Build, catalogue: Catalogue, body: Body) -> Build:
    """A build with one more thing in its case. Raises ValueError for an id that is taken."""
    if space_of(build, catalogue).box(body.id) is not None:
        raise ValueError(f"There is a {body.id!r} in the case already")
    return edited(build, "assembly.bodies", [*(row.model_dump() for row in build.assembly.bodies), body.model_dump()])


def without_body(build: Build, name: str) -> Build:
    """A build in which nobody placed this body; one of its parts is proposed again. Raises ValueError for one that was
    never placed."""
    rows = [row.model_dump() for row in build.assembly.bodies if row.id != name]
    if len(rows) == len(build.assembly.bodies):
        raise ValueError(f"Nobody placed {name!r} in the case")
    return edited(build, "assembly.bodies", rows)


def rooms(build: Build, catalogue: Catalogue, clash: Clash) -> tuple[Room, ...]:
    """What would resolve a clash without making another: the least first."""
    return tuple(_rooms(build, catalogue, clash))


def best_room(build: Build, catalogue: Catalogue, clash: Clash) -> Room | None:
    """The least of them; what is dearer is not tried."""
    return next(_rooms(build, catalogue, clash), None)


def _rooms(build: Build, catalogue: Catalogue, clash: Clash) -> Iterator[Room]:
    space = space_of(build, catalogue)
    before = len(clashes(space))
    for _effort, words, made in sorted(_tries(build, catalogue, space, clash), key=lambda row: row[0]):
        left = clashes(space_of(made, catalogue))
        if len(left) < before and not any({clash.one, clash.other} == {row.one, row.other} for row in left):
            yield Room(words, made, len(left))


def _tries(build: Build, catalogue: Catalogue, space: Space, clash: Clash) -> list[tuple[float, str, Build]]:
    """What might make room, with its effort."""
    box, other = space.box(clash.one), space.box(clash.other)
    if box is None:
        return []
    tried: list[tuple[float, str, Build]] = []
    lead = space.box(box.whole) or box
    if lead.movable:
        tried += _moves(build, catalogue, space, lead)
        made = build
        for number, effort in enumerate((40.0, 42.0, 41.0), 1):
            made = with_turned(made, catalogue, lead.id)
            if number != 2 or any(each.of == lead.id for each in space.boxes):
                tried.append((effort, f"Rotate {lead.name} by {number * 90}°", made))
        if lead.near[2] > 2 and clash.along == 2:
            low = with_body(build, catalogue, lead.id, z=2.0)
            tried.append((10.0, f"Shorten the standoffs of {lead.name} by {lead.near[2] - 2:.0f} mm", low))
    for hung in (other, box):
        if hung is None or not hung.shorter:
            continue
        if hung.of:
            bent = [*build.assembly.bent, hung.id]
            words = f"An angled plug for {hung.name.removeprefix('Plug in ')}: {hung.shorter:.0f} mm less"
            tried.append((15.0, words, edited(build, "assembly.bent", bent)))
        elif clash.along == 2:
            bent = [*build.assembly.bent, hung.id.removeprefix("control-")]
            words = f"Bend the terminals of {hung.name}: {hung.shorter:.0f} mm less"
            tried.append((5.0, words, edited(build, "assembly.bent", bent)))
    if box.of and clash.other in WALLS[:2]:
        opening = exit_for(build, box)
        rows = [row.model_dump() for row in build.assembly.openings]
        words = f"An opening of {opening.wide:.0f} × {opening.high:.0f} mm in the {opening.wall} wall"
        tried.append((60.0, words, edited(build, "assembly.openings", [*rows, opening.model_dump()])))
    more = clash.missing + TOUCH_MM
    if (clash.other == WALLS[2] or clash.along == 2) and space.inner[2] + more < MOST_HIGH:
        higher = edited(build, "assembly.inner_high", round(space.inner[2] + more + 0.5))
        for name, size in (("inner_wide", space.inner[0]), ("inner_deep", space.inner[1])):
            higher = edited(higher, f"assembly.{name}", size)
        tried.append((200.0, f"Make the case {more:.0f} mm taller", higher))
    return tried


_ROUND_PLUG = 2.0  # mm that an opening is wider than its plug, CP


def exit_for(build: Build, box: Box) -> Opening:
    """An opening that lets a plug out of the wall that it points to."""
    axis, sign = box.way
    along = 1 - axis
    wall = (("left", "right"), ("front", "back"))[axis][sign > 0]
    names = {opening.id for opening in build.assembly.openings}
    number = next(n for n in range(1, len(names) + 2) if f"opening-{n}" not in names)
    return Opening.model_validate(
        {
            "id": f"opening-{number}",
            "name": box.name,
            "wall": wall,
            "along": round((box.near[along] + box.far[along]) / 2, 1),
            "up": round((box.near[2] + box.far[2]) / 2, 1),
            "wide": round(box.size[along] + _ROUND_PLUG, 1),
            "high": round(box.size[2] + _ROUND_PLUG, 1),
            "purpose": "plug",
        }
    )


def _moves(build: Build, catalogue: Catalogue, space: Space, box: Box) -> list[tuple[float, str, Build]]:
    """The shortest move along each direction of the floor after which nothing is in its way."""
    found = []
    group = [each for each in space.boxes if each.whole == box.id]
    others = [each for each in space.boxes if each.whole != box.id]
    for axis, (back, forth) in enumerate((("left", "right"), ("forward", "back"))):
        for sign, words in ((-1, back), (1, forth)):
            by = _shift(space, group, others, axis, sign)
            if by:
                name = "xy"[axis]
                made = with_body(build, catalogue, box.id, **{name: box.near[axis] + sign * by})
                found.append((by, f"Move {box.name} {by:.0f} mm {words}", made))
    return found


def _shift(space: Space, group: Sequence[Box], others: Sequence[Box], axis: int, sign: int) -> float:
    """Whole mm to the nearest free place of a thing with its plugs in a direction, 0 where there is none."""
    by, near, far = 0.0, min(box.near[axis] for box in group), max(box.far[axis] for box in group)
    for _ in range(len(others) * len(group) + 2):
        step = [0.0, 0.0, 0.0]
        step[axis] = sign * by
        here = [box.moved((step[0], step[1], step[2])) for box in group]
        if near + sign * by < -TOUCH_MM or far + sign * by > space.inner[axis] + TOUCH_MM:
            inside = -near if sign > 0 else far - space.inner[axis]
            if by >= inside > 0 or inside <= 0:
                return 0.0
            by = float(-(-inside // 1))
            continue
        need = max(
            (
                (other.far[axis] - own.near[axis] if sign > 0 else own.far[axis] - other.near[axis]) + by
                for own in here
                for other in others
                if min(overlap(own, other)) > TOUCH_MM
            ),
            default=0.0,
        )
        if not need:
            return by
        by = max(by + STEP_MM, float(-(-(need - TOUCH_MM / 2) // 1)))
    return 0.0
