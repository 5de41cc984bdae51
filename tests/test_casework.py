"""Openings, plugs, the card in reach, panel sockets and connectors: properties, and attacks on their tables."""

from __future__ import annotations

import csv
import math
import random
from pathlib import Path

import pytest

from kyklon.base.errors import WrongUse
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.demo import camper, school_fair
from kyklon.model.build import Build, edited, remedied
from kyklon.model.casework import Connector, Contact, Opening
from kyklon.model.world import World
from kyklon.operations.assembly import connectors, findings, holding, outline, reach, templates
from kyklon.operations.assembly.rooms import rooms, with_body, with_turned
from kyklon.operations.assembly.space import clashes, space_of


@pytest.fixture
def measured(catalogue: Catalogue) -> Build:
    """The school's micro in a case that somebody measured, its board in a corner."""
    build = school_fair.build()
    for name, mm in (("inner_wide", 300.0), ("inner_deep", 200.0), ("inner_high", 60.0)):
        build = edited(build, f"assembly.{name}", mm)
    return with_body(build, catalogue, "board", x=100, y=80)


def test_a_board_turned_four_times_is_as_it_was(catalogue: Catalogue) -> None:
    for board in catalogue.all(Board):
        shape = outline.outline_of(board)
        assert shape is not None
        assert shape.turned(90).turned(90).turned(90).turned(90) == shape
        for degrees in (90, 180, 270):
            made = shape.turned(degrees)
            wide, deep, _high = made.size
            assert all(0 < x < wide and 0 < y < deep for x, y in made.holes)
            before = [math.dist(a, b) for a in shape.holes for b in shape.holes]
            assert [math.dist(a, b) for a in made.holes for b in made.holes] == pytest.approx(before)
            for socket, old in zip(made.sockets, shape.sockets, strict=True):
                assert 0 < socket.at < (wide if socket.edge in ("front", "back") else deep)
                turns = (outline._ROUND.index(socket.edge) - outline._ROUND.index(old.edge)) % 4
                assert turns == degrees / 90


def test_plugs_turn_and_move_with_their_board(measured: Build, catalogue: Catalogue) -> None:
    for _ in range(4):
        space = space_of(measured, catalogue)
        board = space.box("board")
        plugs = [box for box in space.boxes if box.of == "board"]
        assert board is not None
        assert plugs
        for plug in plugs:
            axis, sign = plug.way
            side = plug.near[axis] - board.far[axis] if sign > 0 else board.near[axis] - plug.far[axis]
            assert abs(side) < 1e-9  # it begins at the board's edge
        with pytest.raises(ValueError, match="nothing"):
            with_body(measured, catalogue, plugs[0].id, x=1)
        measured = with_turned(measured, catalogue, "board")


def test_a_plug_in_the_wall_is_a_clash_until_it_has_an_opening(measured: Build, catalogue: Catalogue) -> None:
    near = with_body(measured, catalogue, "board", y=2)  # its front sockets face the wall
    hit = [clash for clash in clashes(space_of(near, catalogue)) if clash.one.startswith("plug-")]
    assert {clash.other for clash in hit} == {"front or back"}
    for clash in hit:
        ways = rooms(near, catalogue, clash)
        assert any("opening" in room.words for room in ways)
        for room in ways:
            left = clashes(space_of(room.build, catalogue))
            assert not any(row.one == clash.one and row.other == clash.other for row in left)


@pytest.mark.parametrize("purpose", ["", "socket", "air"])
def test_a_covered_opening_lets_nothing_out(measured: Build, catalogue: Catalogue, purpose: str) -> None:
    near = with_body(measured, catalogue, "board", y=2)
    wide = {
        "id": "o",
        "name": "O",
        "wall": "front",
        "along": 150,
        "up": 30,
        "wide": 290,
        "high": 58,
        "purpose": purpose,
    }
    shut = edited(near, "assembly.openings", [wide])
    assert len(clashes(space_of(shut, catalogue))) == len(clashes(space_of(near, catalogue)))
    through = edited(near, "assembly.openings", [wide | {"purpose": "plug"}])
    assert not [clash for clash in clashes(space_of(through, catalogue)) if clash.one.startswith("plug-")]


def test_the_card_is_in_reach_only_at_a_wall_with_its_slot(measured: Build, catalogue: Catalogue) -> None:
    """The board's own card edge is the left one."""
    assert reach.card_reach(school_fair.build(), catalogue).reached is None
    far = reach.card_reach(measured, catalogue)
    assert (far.reached, far.opening) == (False, None)
    near = with_body(measured, catalogue, "board", x=3)
    told = reach.card_reach(near, catalogue)
    assert told.reached is False
    assert told.opening is not None
    assert told.opening.wall == "left"
    assert reach.card_reach(reach.with_opening(near, told.opening), catalogue).reached
    (finding,) = [row for row in findings.findings(near, catalogue, World()) if row.code == "assembly.card-reach"]
    assert finding.remedy is not None
    assert reach.card_reach(remedied(near, finding.remedy), catalogue).reached
    turned = with_turned(with_turned(near, catalogue, "board"), catalogue, "board")
    assert reach.card_reach(turned, catalogue).reached is False  # it looks into the case


def test_a_typed_size_that_is_not_the_boards_own_has_no_sockets(measured: Build, catalogue: Catalogue) -> None:
    odd = with_body(measured, catalogue, "board", wide=50)
    assert not [box for box in space_of(odd, catalogue).boxes if box.of]
    assert reach.card_reach(odd, catalogue).reached is None


def test_plates_for_old_openings(measured: Build, catalogue: Catalogue) -> None:
    rows = [
        {"id": "a", "name": "A", "wall": "back", "along": 50, "up": 30, "wide": 40, "high": 14},
        {"id": "b", "name": "B", "wall": "back", "along": 100, "up": 30, "wide": 30, "round": True, "purpose": "cable"},
        {
            "id": "c",
            "name": "Power",
            "wall": "back",
            "along": 150,
            "up": 30,
            "wide": 40,
            "high": 30,
            "purpose": "socket",
        },
        {"id": "d", "name": "D", "wall": "back", "along": 250, "up": 40, "wide": 24, "high": 10, "purpose": "card"},
    ]
    build = edited(measured, "assembly.openings", rows)
    made = {plate.name: plate for plate in templates.plates(build, catalogue)}
    assert {"cover-a", "cover-b", "cover-c", "wall-back", "standoffs", "back-plate", "trial-piece"} <= set(made)
    assert [hole.sink for hole in made["cover-a"].holes] == [templates.SINK_MM] * 4
    assert (made["cover-a"].wide, made["cover-a"].high) == (56, 30)
    (notch,) = made["cover-b"].cuts
    assert notch.y + notch.high == made["cover-b"].high
    assert any(hole.diameter == templates.SOCKET_MM for hole in made["cover-c"].holes)
    assert "Power" not in {hole.words for hole in made["back-plate"].holes}
    (cut,) = made["wall-back"].cuts
    assert (cut.x + cut.wide / 2, cut.y + cut.high / 2) == (300 - 250, 60 - 40)  # from outside: left is right
    assert any("countersinks" in step for step in templates.steps_of(made["cover-a"]))
    assert any("notch" in step for step in templates.steps_of(made["cover-b"]))
    board = space_of(build, catalogue).box("board")
    assert board is not None
    xs = sorted({hole.x for hole in made["standoffs"].holes})
    assert all(board.near[0] < x < board.far[0] for x in xs)


def test_force_times_lever_arm() -> None:
    """A rigid body about its lower screw, computed here again: M / d."""
    apart = 2 * math.hypot(9.5, 12.0)
    found = holding.grip(35.0, 36.0, "ABS", 3.0)
    assert found.pull_n == pytest.approx(max(35 / 2, 30 * 36 / apart))
    assert found.holds
    assert not holding.grip(35.0, 300.0, "MDF", 3.0).holds
    assert not holding.glued(44.1, 40.0, 24.0, 24.0).holds
    for bad in ((-1.0, 1.0, 3.0), (1.0, -1.0, 3.0), (1.0, 1.0, 0.0)):
        with pytest.raises(ValueError, match="not below 0"):
            holding.grip(bad[0], bad[1], "ABS", bad[2])


def test_glued_sockets_are_a_caution_and_screws_cure_it(catalogue: Catalogue) -> None:
    glued = edited(camper.build(catalogue, "0" * 64), "assembly.sockets_held", "glue")
    (told,) = [row for row in findings.findings(glued, catalogue, World()) if row.code == "assembly.socket-grip"]
    assert told.remedy is not None
    after = {row.code for row in findings.findings(remedied(glued, told.remedy), catalogue, World())}
    assert told.code not in after


def cable(*rows: dict[str, object]) -> Connector:
    contacts = tuple(Contact.model_validate(row) for row in rows)
    return Connector(id="c", name="C", one="Left", other="Right", contacts=contacts)


GND = {"one": "1", "other": "9", "signal": "GND", "gives_v": 0, "takes_v": 0, "colour": "black"}


@pytest.mark.parametrize(
    ("row", "stop", "words"),
    [
        ({"one": "2", "other": "3", "gives_v": 5, "takes_v": 3.3}, True, "kill an input"),
        ({"one": "2", "other": "3", "gives_v": 5, "takes_v": 0}, True, "short circuit"),
        ({"one": "2", "other": "3", "signal": "ground", "gives_v": 5, "takes_v": 5}, True, "short circuit"),
        ({"one": "2", "other": "3", "gives_v": -12, "takes_v": 12}, True, "polarity"),
        ({"one": "2", "other": "3", "signal": "12 V", "gives_v": 12, "takes_v": 5}, True, "feed what takes"),
        ({"one": "2", "other": "3", "signal": "5 V", "gives_v": 3.3, "takes_v": 5}, False, "only 3.3 V"),
        ({"one": "2", "other": "3", "gives_v": 1.8, "takes_v": 3.3}, False, "may not count as high"),
        ({"one": "2", "other": "3", "gives_v": 3.3, "takes_v": 3.3, "colour": "black"}, False, "black is for ground"),
        ({"one": "1", "other": "3", "gives_v": 3.3, "takes_v": 3.3}, True, "has two wires"),
    ],
)
def test_contacts_that_must_not_meet(row: dict[str, object], stop: bool, words: str) -> None:
    found = connectors.faults((cable(GND, row),))
    assert any(fault.stop is stop and words in fault.words for fault in found)


def test_what_is_right_has_no_fault_and_a_ground_is_missed() -> None:
    live = {"one": "2", "other": "3", "signal": "5 V", "gives_v": 5, "takes_v": 5, "colour": "red"}
    assert connectors.faults((cable(GND, live),)) == ()
    (fault,) = connectors.faults((cable(live),))
    assert fault.stop
    assert "grounds" in fault.words


def test_overlays_get_their_pins_and_a_ground(catalogue: Catalogue) -> None:
    build = edited(camper.build(catalogue, "0" * 64), "boot.overlays", ["merrow-lamp"])
    found = [row for row in connectors.connectors(build, catalogue) if row.id.startswith("header-")]
    overlays = catalogue.parts["overlays"]
    if not found:
        build = edited(build, "boot.overlays", [next(iter(sorted(overlays)))])
        found = [row for row in connectors.connectors(build, catalogue) if row.id.startswith("header-")]
    assert found
    assert all(any(connectors.is_ground(contact) for contact in row.contacts) for row in found)
    assert connectors.faults(tuple(found)) == ()


def test_the_meter_list_has_each_wire_once_and_ticks_stay(catalogue: Catalogue) -> None:
    build = camper.build(catalogue, "0" * 64)
    live = {"one": "2", "other": "3", "signal": "5 V", "gives_v": 5, "takes_v": 5}
    build = edited(build, "assembly.connectors", [cable(GND, live).model_dump()])
    rows = connectors.checks(build, catalogue)
    assert len({row.id for row in rows}) == len(rows)
    own = [row for row in rows if row.id.startswith("c/")]
    assert sum(row.beep for row in own) == 2
    assert any(not row.beep and {row.one, row.other} == {"Left 2", "Left 1"} for row in own)
    ticked = connectors.with_tick(build, own[0].id)
    assert [row.id for row in connectors.checks(ticked, catalogue) if row.done] == [own[0].id]
    assert not any(
        row.done for row in connectors.checks(connectors.with_tick(ticked, own[0].id, done=False), catalogue)
    )


def test_a_table_reads_back_as_it_was_written(tmp_path: Path) -> None:
    pick = random.Random(3)
    made = tuple(
        Connector(
            id=f"own-{number}",
            name=f"Cable {number}",
            one="A",
            other="B",
            contacts=tuple(
                Contact(
                    one=f"{pin}",
                    other=f"{pick.randint(1, 40)}",
                    signal=pick.choice(["", "+5 V", "=SUM(A1)", "row; 1", 'a "b", c']),
                    gives_v=pick.choice([None, 0.0, 3.3, -12.0]),
                    takes_v=pick.choice([None, 0.0, 5.0]),
                    colour=pick.choice(["", "red"]),
                )
                for pin in range(1, 6)
            ),
        )
        for number in range(1, 4)
    )
    path = tmp_path / "t.csv"
    path.write_text(connectors.as_table(made))
    assert connectors.read_table(path) == made


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"", "no column"),
        (b"a,b\n1,2\n", "no column connector"),
        (b"\xff\xfe\x00", "no UTF-8"),
        (b"x" * (2 << 20), "too large"),
        (b"connector,end,contact,other end,other contact,gives V\nC,A,1,B,2,many\n", "line 2: 'many' is no voltage"),
        (b"connector,end,contact,other end,other contact\nC,A,,B,2\n", "line 2"),
        (b"connector,end,contact,other end,other contact\nC,A,1,B,2\n" + b"C,A,1,B," + b"9" * 90 + b"\n", "line 3"),
    ],
)
def test_a_table_that_is_wrong_says_where(tmp_path: Path, data: bytes, words: str) -> None:
    path = tmp_path / "t.csv"
    path.write_bytes(data)
    with pytest.raises(WrongUse, match=words):
        connectors.read_table(path)


def test_tables_of_a_spreadsheet_are_read(tmp_path: Path) -> None:
    """As the csv module's own dialects write them."""
    for dialect in ("excel", "excel-tab", "unix"):
        path = tmp_path / f"{dialect}.csv"
        with path.open("w", newline="", encoding="utf-8-sig") as file:
            table = csv.writer(file, dialect)
            table.writerow([name.title() for name in connectors.COLUMNS])
            table.writerow(["C", "A", "1", "B", "2", "5 V", "5,0 V", "5", "red"])
        (found,) = connectors.read_table(path)
        assert (found.contacts[0].gives_v, found.contacts[0].takes_v) == (5.0, 5.0)


def test_openings_are_refused_in_words() -> None:
    with pytest.raises(ValueError, match="has a height"):
        Opening(id="a", name="A", wall="back", along=0, up=0, wide=10)
    with pytest.raises(ValueError, match="wall"):
        Opening.model_validate({"id": "a", "name": "A", "wall": "side", "along": 0, "up": 0, "wide": 1, "high": 1})
