"""What lies where in a case: every clash against boxes that are sampled point by point, and remedies that hold."""

from __future__ import annotations

import random
from dataclasses import replace

import pytest

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Cable
from kyklon.demo import camper
from kyklon.model.assembly import Body
from kyklon.model.build import Build, edited
from kyklon.operations.assembly.rooms import rooms, with_body
from kyklon.operations.assembly.space import TOUCH_MM, WALLS, Box, Space, clashes, free_mm, leads, overlap, space_of
from support import Demo

INNER = (200.0, 150.0, 80.0)


def some_boxes(pick: random.Random, count: int, *, whole: bool = False) -> tuple[Box, ...]:
    found = []
    for number in range(count):
        near = tuple(pick.uniform(-10, size - 5) for size in INNER)
        size = tuple(pick.uniform(2, most) for most in (90, 60, 50))
        if whole:
            near, size = tuple(map(round, near)), tuple(max(1, round(each)) for each in size)
        far = tuple(a + b for a, b in zip(near, size, strict=True))
        found.append(Box(f"b{number}", f"B{number}", near, far, pick.random() < 0.8))  # type: ignore[arg-type]
    return tuple(found)


@pytest.mark.parametrize("seed", range(20))
def test_no_clash_is_missed_and_none_is_invented(seed: int) -> None:
    """Fifty cases each, a thousand in all: cells of one millimetre that two boxes share, counted one by one."""
    pick = random.Random(seed)
    for _ in range(50):
        boxes = some_boxes(pick, pick.randint(2, 7), whole=True)
        told = {
            frozenset((clash.one, clash.other))
            for clash in clashes(Space(INNER, boxes, ()))
            if clash.other not in WALLS
        }
        cells = [
            {
                (x, y, z)
                for x in range(round(box.near[0]), round(box.far[0]))
                for y in range(round(box.near[1]), round(box.far[1]))
                for z in range(round(box.near[2]), round(box.far[2]), 1)
            }
            if box.size[0] * box.size[1] * box.size[2] < 20_000
            else None
            for box in boxes
        ]
        for number, one in enumerate(boxes):
            for place in range(number + 1, len(boxes)):
                other = boxes[place]
                mine, its = cells[number], cells[place]
                if mine is not None and its is not None:
                    shared = bool(mine & its)
                else:
                    shared = all(
                        max(one.near[axis], other.near[axis]) < min(one.far[axis], other.far[axis]) for axis in range(3)
                    )
                assert (frozenset((one.id, other.id)) in told) is (shared and (one.movable or other.movable))


def test_what_reaches_out_of_the_case_is_told_with_its_millimetres() -> None:
    inside = Box("a", "A", (0, 0, 0), INNER)
    assert clashes(Space(INNER, (inside,), ())) == ()
    for axis in range(3):
        by = [0.0, 0.0, 0.0]
        by[axis] = 7.0
        small = Box("a", "A", (10, 10, 10), (INNER[0] - 3, INNER[1] - 3, INNER[2] - 3)).moved((by[0], by[1], by[2]))
        (clash,) = clashes(Space(INNER, (small,), ()))
        assert (clash.other, clash.missing, clash.along) == (WALLS[axis], 4.0, axis)
    one, other = Box("a", "A", (0, 0, 0), (10, 10, 10)), Box("b", "B", (8, 5, -2), (20, 20, 20))
    assert overlap(one, other) == (2, 5, 10)
    (clash,) = clashes(Space(INNER, (one, other.moved((0, 0, 2))), ()))
    assert (clash.missing, clash.along) == (2, 0)
    touching = other.moved((2 - TOUCH_MM / 2, 0, 2))
    assert clashes(Space(INNER, (one, touching), ())) == ()


def with_bodies(build: Build, *bodies: Body) -> Build:
    return edited(build, "assembly.bodies", [body.model_dump() for body in bodies])


def test_a_proposal_has_no_clash_and_a_shallow_case_says_what_would_help(demo: Demo, catalogue: Catalogue) -> None:
    build = camper.build(catalogue, "0" * 64)
    space = space_of(build, catalogue)
    assert clashes(space) == ()
    assert "the case's size" in space.assumed
    assert {"board", "encoder"} <= {box.id for box in space.boxes}
    assert sum(box.id.startswith("control-") for box in space.boxes) == 9
    assert free_mm(space) > 0
    shallow = build
    for name, size in zip(("inner_wide", "inner_deep", "inner_high"), (250.0, 154.0, 70.0), strict=True):
        shallow = edited(shallow, f"assembly.{name}", size)
    board = space_of(shallow, catalogue).box("board")
    assert board is not None
    under = with_body(shallow, catalogue, "board", x=150.0, y=30.0)
    found = clashes(space_of(under, catalogue))
    assert any({clash.one, clash.other} & {"board"} and "control-" in clash.other + clash.one for clash in found)
    clash = next(row for row in found if row.one == "board" and row.other.startswith("control-"))
    helps = rooms(under, catalogue, clash)
    assert helps
    for room in helps:  # each resolves this clash and makes none
        left = clashes(space_of(room.build, catalogue))
        assert len(left) == room.left < len(found)
        assert (clash.one, clash.other) not in {(row.one, row.other) for row in left}
    with pytest.raises(ValueError, match="placed"):
        with_body(build, catalogue, "control-b1", x=3.0)
    with pytest.raises(ValueError, match="placed"):
        with_body(build, catalogue, "nothing", x=3.0)


@pytest.mark.parametrize("seed", range(12))
def test_every_remedy_resolves_its_clash_and_makes_none(seed: int, catalogue: Catalogue) -> None:
    pick = random.Random(seed)
    build = camper.build(catalogue, "0" * 64)
    for name, size in zip(("inner_wide", "inner_deep", "inner_high"), INNER, strict=True):
        build = edited(build, f"assembly.{name}", size)
    build = edited(build, "controls.panel", "")
    bodies = [
        Body(
            id=f"x{number}",
            name=f"X{number}",
            x=round(pick.uniform(0, 120)),
            y=round(pick.uniform(0, 80)),
            z=pick.choice([0, 6, 20]),
            wide=round(pick.uniform(10, 60)),
            deep=round(pick.uniform(10, 50)),
            high=round(pick.uniform(5, 30)),
            fixed=number == 0,
        )
        for number in range(5)
    ]
    build = with_bodies(build, *bodies)
    before = clashes(space_of(build, catalogue))
    for clash in before:
        for room in rooms(build, catalogue, clash):
            after = clashes(space_of(room.build, catalogue))
            assert len(after) < len(before)
            assert {clash.one, clash.other} not in [{row.one, row.other} for row in after]


def test_a_lead_must_reach_along_the_walls_with_slack(catalogue: Catalogue) -> None:
    """Middles 100 mm apart across and 50 to the back: 150 mm, 15 % more, and a plug at each end."""
    build = camper.build(catalogue, "0" * 64)
    bodies = [
        Body(id=name, name=name, x=x, y=y, wide=40, deep=20, high=10)
        for name, x, y in (("board", 20, 80), ("encoder", 120, 30))
    ]
    build = with_bodies(build, *bodies)
    (lead,) = [lead for lead in leads(build, catalogue) if "encoder" in lead.name]
    assert lead.needs_mm == pytest.approx(150 * 1.15 + 2 * 38)
    assert lead.has_mm == 1000
    assert lead.reaches
    short = catalogue.get(Cable, "usb-a-b-1m").model_copy(update={"length_m": 0.2})
    shelf = replace(catalogue, parts={**catalogue.parts, "cables": {**catalogue.parts["cables"], "usb-a-b-1m": short}})
    assert not next(lead for lead in leads(build, shelf) if "encoder" in lead.name).reaches
