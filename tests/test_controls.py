"""From switch to game: wiring, paths, findings, exports, the panel and its measures."""

from __future__ import annotations

import csv
import io

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kyklon.catalogue.control_records import Arrangement
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Encoder
from kyklon.catalogue.system_records import Panel, System
from kyklon.model.build import Build, edited, remedied
from kyklon.model.controls import Control, ControlSettings, Layout, MapPair, Seat, SystemMap
from kyklon.model.world import World
from kyklon.operations.controls import arrange, exports, wiring
from kyklon.operations.controls.acts import with_encoder, without_encoder
from kyklon.operations.controls.arrange import HANDS, layout_seat
from kyklon.operations.controls.clearance import checks
from kyklon.operations.controls.findings import findings
from kyklon.operations.controls.hookup import Device, Hookup, from_panel, hookup_of, places_for
from kyklon.operations.controls.mapping import paths, unreached, wire_in_order
from support import Demo


def rig_for(catalogue: Catalogue, panel_id: str, *encoder_ids: str) -> Hookup:
    """A panel of the catalogue on some encoders, wired in terminal order."""
    devices, first = [], 1
    for number, encoder_id in enumerate(encoder_ids, 1):
        encoder = catalogue.get(Encoder, encoder_id)
        devices.append(Device("encoder" if number == 1 else f"encoder-{number}", encoder, first))
        first += encoder.players
    bare = Hookup(from_panel(catalogue.get(Panel, panel_id)), tuple(devices), ControlSettings(panel=panel_id))
    return Hookup(bare.layout, bare.devices, ControlSettings(panel=panel_id, wires=wire_in_order(bare)))


def test_wiring_in_order_reaches_every_switch_once(catalogue: Catalogue) -> None:
    for panel in catalogue.all(Panel):
        for encoder in catalogue.all(Encoder):
            for printed in (False, True):
                hookup = rig_for(catalogue, panel.id, encoder.id)
                wires = wire_in_order(hookup, printed=printed)
                assert len({wire.control for wire in wires}) == len(wires)
                assert len({(wire.device, wire.terminal) for wire in wires}) == len(wires)
                if encoder.players >= panel.players and len(wires) < len(hookup.switches):
                    spare = [t for t in encoder.terminals if t.id not in {wire.terminal for wire in wires}]
                    assert {t.player for t in spare} <= {1, 2}


def test_directions_go_to_directions(demo: Demo, catalogue: Catalogue) -> None:
    encoder = catalogue.get(Encoder, "tackle-pair")
    wired = {wire.control: encoder.terminal(wire.terminal).event for wire in demo.build.controls.wires}
    assert wired["p1.up"] == "ABS_Y-"
    assert wired["p2.right"] == "ABS_X+"
    assert wired["p2.b1"] == "BTN_TRIGGER"


@pytest.mark.parametrize("system_id", ["alder-8", "birch-16", "cedar-disc", "elm-micro", "fir-board-v"])
def test_every_input_of_every_system_is_reached(system_id: str, demo: Demo, catalogue: Catalogue) -> None:
    hookup, system = hookup_of(demo.build, catalogue), catalogue.get(System, system_id)
    for player in (1, 2):
        assert unreached(hookup, system, player) == ()
    reached = [label for path in paths(hookup, system) for label in path.inputs]
    assert sorted(reached) == sorted([each.label for each in system.inputs] * 2)


def test_a_pulled_wire_leaves_its_input_empty(demo: Demo, catalogue: Catalogue) -> None:
    wires = [wire for wire in demo.build.controls.wires if wire.control != "p1.b2"]
    build = edited(demo.build, "controls.wires", [wire.model_dump() for wire in wires])
    assert unreached(hookup_of(build, catalogue), catalogue.get(System, "birch-16"), 1) == ("Hop",)
    found = {finding.code: finding for finding in findings(build, catalogue, World())}
    assert "player 1: button 2" in found["controls.wiring"].message
    assert "controls.unreached:birch-16" in found
    after = {finding.code for finding in findings(remedied(build, found["controls.wiring"].remedy), catalogue, World())}
    assert not {"controls.wiring", "controls.unreached:birch-16"} & after


def codes(build: Build, catalogue: Catalogue) -> set[str]:
    return {finding.code.partition(":")[0] for finding in findings(build, catalogue, World())}


def test_the_missing_quirk_is_a_stop_and_its_remedy_one_word(demo: Demo, catalogue: Catalogue) -> None:
    build = edited(demo.build, "boot.kernel_words", ["quiet", "usbhid.quirks=0x1:0x2:0x4"])
    found = next(finding for finding in findings(build, catalogue, World()) if finding.code == "controls.encoder-quirk")
    assert found.severity == "stop"
    after = remedied(build, found.remedy)
    assert after.boot.kernel_words == ("quiet", "usbhid.quirks=0x1:0x2:0x4,0x6b79:0x0022:0x40")
    assert "controls.encoder-quirk" not in codes(after, catalogue)


def test_more_quirks_than_the_kernel_reads(demo: Demo, catalogue: Catalogue) -> None:
    words = "usbhid.quirks=" + ",".join([f"0x{n}:0x1:0x40" for n in range(1, 5)] + ["0x6b79:0x0022:0x40"])
    assert "controls.too-many-quirks" in codes(edited(demo.build, "boot.kernel_words", [words]), catalogue)


def test_other_mistakes_have_findings(demo: Demo, catalogue: Catalogue) -> None:
    assert {"controls.players", "controls.wiring"} <= codes(demo.build.with_part("encoder", "tackle-12"), catalogue)
    keys = [
        {"action": "leave", "control": "select"},
        {"action": "a", "control": "b1"},
        {"action": "b", "control": "b1"},
    ]
    found = findings(edited(demo.build, "controls.hotkeys", keys), catalogue, World())
    told = next(finding.message for finding in found if finding.code == "controls.hotkeys:clash")
    assert "button 1 does both a and b" in told
    assert "“leave” uses the hotkey itself" in told


def test_a_second_encoder_serves_the_other_seat_and_can_be_taken_out(demo: Demo, catalogue: Catalogue) -> None:
    build = demo.build.with_part("encoder", "tackle-12")
    more = with_encoder(build, "tackle-12", catalogue)
    hookup = hookup_of(more, catalogue)
    assert [(device.role, device.first) for device in hookup.devices] == [("encoder", 1), ("encoder-2", 2)]
    assert {wire.device for wire in more.controls.wires if wire.control.startswith("p2.")} >= {"encoder-2"}
    assert "controls.players" not in codes(more, catalogue)
    assert "controls.same-kind" in codes(more, catalogue)  # nothing tells the two apart yet
    back = without_encoder(more, "encoder-2", catalogue)
    assert {wire.device for wire in back.controls.wires} == {"encoder"}
    with_eight = build
    for _turn in range(7):
        with_eight = with_encoder(with_eight, "tackle-12", catalogue)
    with pytest.raises(ValueError, match="at most 8"):
        with_encoder(with_eight, "tackle-12", catalogue)


def test_steady_names_tell_two_of_a_kind_apart(demo: Demo, catalogue: Catalogue) -> None:
    hookup = rig_for(catalogue, "cocktail-pair", "tackle-12", "tackle-12")
    places = [
        {"role": "encoder", "x": 0, "y": 0, "port": "pci-0000:01:00.0-usb-0:1.1:1.0"},
        {"role": "encoder-2", "x": 0, "y": 0, "port": "pci-0000:01:00.0-usb-0:1.2:1.0"},
    ]
    settings = ControlSettings.model_validate(hookup.settings.model_dump() | {"places": places})
    rules = exports.udev_rules(Hookup(hookup.layout, hookup.devices, settings)).splitlines()
    links = [line.split('SYMLINK+="')[1:] for line in rules if not line.startswith("#")]
    assert len(links) == 2
    assert links[0] != links[1]
    assert 'ENV{ID_PATH}=="pci-0000:01:00.0-usb-0:1.2:1.0"' in rules[3]
    keys = [part.strip().split("=")[0] for part in rules[1].split(", ")]
    assert keys[:4] == ["SUBSYSTEM", "KERNEL", "ATTRS{id/vendor}", "ATTRS{id/product}"]


def test_the_wiring_list_has_a_row_a_switch(demo: Demo, catalogue: Catalogue) -> None:
    wires = [wire.model_dump() for wire in demo.build.controls.wires[1:]]
    hookup = hookup_of(edited(demo.build, "controls.wires", wires), catalogue)
    systems = tuple(catalogue.get(System, system) for system in demo.build.systems)
    rows = list(csv.DictReader(io.StringIO(exports.wiring_csv(hookup, systems))))
    assert len(rows) == 24
    assert rows[0]["terminal"] == "not wired"
    row = next(each for each in rows if (each["player"], each["switch"]) == ("2", "b2"))
    assert (row["terminal"], row["event"], row["code"], row["Birch 16"]) == ("22", "BTN_THUMB", "0x121", "Hop")


def test_the_harness_is_measured_along_the_sides(demo: Demo, catalogue: Catalogue) -> None:
    hookup = hookup_of(demo.build, catalogue)
    made = wiring.harness(hookup)
    run = next(each for each in made.runs if each.control == "p1.b1")
    (x, y), (ex, ey) = hookup.layout.place("p1.b1"), hookup.at("encoder")
    assert 0 <= run.length - (1.15 * (abs(x - ex) + abs(y - ey)) + 80) < 10  # rounded up to 10 mm
    assert {control for chain in made.chains for control in chain.controls} == set(hookup.wired)
    assert sum(made.crimps.values()) == 3 * len(made.runs)  # signal at both ends, ground at the switch
    assert made.mixed["encoder"] == 8  # two levers with 4.8 mm tabs on an encoder with 2.8 mm


def test_the_lever_turns_with_the_picture(demo: Demo, catalogue: Catalogue) -> None:
    own = SystemMap(system="fir-board-v", picture=90, flips=False)
    build = edited(demo.build, "controls.maps", [own.model_dump()])
    hookup, system = hookup_of(build, catalogue), catalogue.get(System, "fir-board-v")
    up = next(each.id for each in system.inputs if each.place == "up")
    assert places_for(hookup, system, 1)[up] == "right"
    assert places_for(hookup, system, 2)[up] == "left"  # seat 2 looks at the table from the other side
    flipped = edited(build, "controls.maps", [own.model_copy(update={"flips": True}).model_dump()])
    assert places_for(hookup_of(flipped, catalogue), system, 2)[up] == "right"


def test_a_games_map_lies_over_its_systems(demo: Demo, catalogue: Catalogue) -> None:
    maps = [SystemMap(system="alder-8", game="Brass Parade", pairs=(MapPair(input="act", place="b3"),)).model_dump()]
    hookup = hookup_of(edited(demo.build, "controls.maps", maps), catalogue)
    system = catalogue.get(System, "alder-8")
    act = next(each.id for each in system.inputs if each.label == "Act")
    assert places_for(hookup, system, 1)[act] == "b1"
    assert places_for(hookup, system, 1, "Brass Parade")["act"] == "b3"
    path, text = exports.emulator_map(hookup, system, catalogue, "Brass Parade")
    assert "brass-parade" in path
    assert text


# --- the panel ---------------------------------------------------------------------------------------------------


def test_every_arrangement_holds_its_hard_measures(catalogue: Catalogue) -> None:
    for arrangement in catalogue.all(Arrangement):
        for hand in arrange.HANDS:
            for facing, width, height in ((True, 420.0, 150.0), (False, 560.0, 190.0)):
                seat = arrange.layout_seat(arrangement, hand, width, height)
                layout = arrange.table_of(seat, 4, facing=facing)
                bad = [check.words for check in checks(layout, hand) if not check.ok and check.hard]
                assert not bad, (arrangement.id, hand.name, facing, bad)


@given(st.integers(1, 4), st.booleans(), st.floats(-180, 180), st.floats(0, 100), st.floats(0, 100))
def test_a_point_of_a_board_goes_to_the_table_and_back(
    seats: int, facing: bool, turn: float, x: float, y: float
) -> None:
    seat = arrange.Seat(x=0, y=0, width_mm=420, height_mm=150)
    layout = arrange.turned(arrange.table_of(seat, seats, facing=facing), seats, turn)
    for each in layout.seats:
        bx, by = each.on_board(*each.on_table(x, y))
        assert (bx, by) == pytest.approx((x, y), abs=1e-6)


def test_edits_of_a_panel(catalogue: Catalogue) -> None:
    seat = arrange.layout_seat(catalogue.get(Arrangement, "curved-six"), arrange.HANDS[1], 420, 150)
    layout = arrange.table_of(seat, 2, facing=True)
    row = arrange.aligned(layout, 1, ("b1", "b2", "b3"), "row").seats[0]
    assert len({row.control(each).y for each in ("b1", "b2", "b3")}) == 1
    even = [
        arrange.aligned(layout, 1, ("b1", "b2", "b3"), "even").seats[0].control(each).x for each in ("b1", "b2", "b3")
    ]
    assert even[1] - even[0] == pytest.approx(even[2] - even[1], abs=0.2)
    twice = arrange.mirrored(arrange.mirrored(layout, 1), 1)
    assert [control.x for control in twice.seats[0].controls] == pytest.approx(
        [control.x for control in seat.controls], abs=0.2
    )
    assert len(arrange.copied(layout, 1, 3).seats) == 3
    far = arrange.moved(layout, 1, ("start",), 900, 0).seats[0].control("start")
    assert far.x <= seat.width_mm  # the board holds it
    with pytest.raises(ValueError, match="outside the"):
        arrange.with_control(layout, 1, far.model_copy(update={"x": 900.0}))
    more, name = arrange.added(layout, 2, "spinner", 100, 100)
    assert more.seats[1].control(name).switches == ("spinner-left", "spinner-right")
    assert arrange.removed(more, 2, [name]) == layout


def test_seats_that_lie_over_each_other_are_told(catalogue: Catalogue) -> None:
    """Boards, bores and lever plates of different seats, and two levers of one; seats that only touch are fine."""
    button = Control(id="b1", label="Button 1", kind="button", x=250, y=100, bore=30)
    lever = Control(id="lever", label="Lever", kind="lever", x=60, y=60, bore=24)
    near = Seat(x=0, y=0, width_mm=400, height_mm=200, controls=(lever, button))

    def codes(*seats: Seat) -> set[str]:
        found = checks(Layout(width_mm=2000, height_mm=2000, seats=seats))
        return {check.code for check in found if not check.ok and check.hard}

    apart = near.model_copy(update={"x": 400.0})
    assert codes(near, apart) == codes(near)
    assert codes(near, near.model_copy(update={"x": 380.0})) - codes(near) == {"boards"}
    assert codes(near, near.model_copy(update={"x": 30.0})) - codes(near) == {"boards", "web", "plate"}
    opposite = near.model_copy(update={"turn": 180.0, "x": 400.0, "y": 400.0})
    assert codes(near, opposite) == codes(near)
    assert "boards" in codes(near, opposite.model_copy(update={"y": 380.0}))
    turned = near.model_copy(update={"turn": 45.0, "x": 500.0, "y": -100.0})
    far = near.model_copy(update={"turn": 45.0, "x": 900.0, "y": 0.0})
    assert "boards" in codes(near, near.model_copy(update={"turn": 45.0, "x": 350.0, "y": 50.0}))
    assert codes(near, far) == codes(near)
    assert codes(near, turned)
    second = lever.model_copy(update={"id": "lever-2", "x": 120.0})
    assert "plate" in codes(near.model_copy(update={"controls": (lever, second)}))
    for arrangement in catalogue.all(Arrangement):
        seat = layout_seat(arrangement, HANDS[1], 600.0, 260.0)
        assert "boards" not in codes(seat, seat.model_copy(update={"x": 600.0}))
