"""From switch to game: mapping, findings, simulated encoder, exports."""

from __future__ import annotations

import csv
import io

import pytest

from kyklon.base.errors import KyklonError, WrongUse
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Encoder, Panel, System
from kyklon.devices.linux.encoders import LinuxEncoder
from kyklon.devices.ports import Encoders
from kyklon.devices.simulated.encoders import SimulatedEncoder
from kyklon.model.build import ControlSettings, edited, remedied
from kyklon.model.world import World
from kyklon.operations.controls import exports
from kyklon.operations.controls.findings import findings
from kyklon.operations.controls.mapping import all_controls, paths, unreached, wire_in_order
from support import Demo


def test_wiring_in_terminal_order_reaches_every_switch_once(catalogue: Catalogue) -> None:
    for panel in catalogue.all(Panel):
        for encoder in catalogue.all(Encoder):
            wires = wire_in_order(panel, encoder)
            assert len({wire.control for wire in wires}) == len(wires)
            assert len({wire.terminal for wire in wires}) == len(wires)
            if encoder.players >= panel.players:
                assert {wire.control for wire in wires} == set(all_controls(panel))


def test_directions_go_to_directions(demo: Demo, catalogue: Catalogue) -> None:
    encoder = catalogue.get(Encoder, "tackle-pair")
    wired = {wire.control: encoder.terminal(wire.terminal).event for wire in demo.build.controls.wires}
    assert wired["p1.up"] == "ABS_Y-"
    assert wired["p2.right"] == "ABS_X+"
    assert wired["p2.b1"] == "BTN_TRIGGER"


@pytest.mark.parametrize("system_id", ["alder-8", "birch-16", "cedar-disc", "elm-micro", "fir-board-v"])
def test_every_input_of_every_system_is_reached(system_id: str, demo: Demo, catalogue: Catalogue) -> None:
    panel, encoder = catalogue.get(Panel, "cocktail-pair"), catalogue.get(Encoder, "tackle-pair")
    system = catalogue.get(System, system_id)
    for player in (1, 2):
        assert unreached(panel, demo.build.controls, encoder, system, player) == ()
    reached = [label for path in paths(panel, demo.build.controls, encoder, system) for label in path.inputs]
    assert sorted(reached) == sorted([each.label for each in system.inputs] * 2)


def test_a_pulled_wire_leaves_its_input_empty(demo: Demo, catalogue: Catalogue) -> None:
    wires = [wire for wire in demo.build.controls.wires if wire.control != "p1.b2"]
    build = edited(demo.build, "controls.wires", [wire.model_dump() for wire in wires])
    panel, encoder = catalogue.get(Panel, "cocktail-pair"), catalogue.get(Encoder, "tackle-pair")
    assert unreached(panel, build.controls, encoder, catalogue.get(System, "birch-16"), 1) == ("Hop",)
    found = {finding.code: finding for finding in findings(build, catalogue, World())}
    assert "p1.b2" in found["controls.wiring"].message
    assert "controls.unreached:birch-16" in found
    after = remedied(build, found["controls.wiring"].remedy)
    assert {finding.code for finding in findings(after, catalogue, World())} == {"controls.encoder-quirk"}


def test_the_missing_quirk_is_a_stop_and_its_remedy_one_word(demo: Demo, catalogue: Catalogue) -> None:
    build = edited(demo.build, "boot.kernel_words", ["quiet", "usbhid.quirks=0x1:0x2:0x4"])
    found = next(finding for finding in findings(build, catalogue, World()) if finding.code == "controls.encoder-quirk")
    assert found.severity == "stop"
    after = remedied(build, found.remedy)
    assert after.boot.kernel_words == ("quiet", "usbhid.quirks=0x1:0x2:0x4,0x6b79:0x0022:0x40")
    assert findings(after, catalogue, World()) == []


def test_more_quirks_than_the_kernel_reads(demo: Demo, catalogue: Catalogue) -> None:
    words = "usbhid.quirks=" + ",".join([f"0x{n}:0x1:0x40" for n in range(1, 5)] + ["0x6b79:0x0022:0x40"])
    build = edited(demo.build, "boot.kernel_words", [words])
    assert [finding.code for finding in findings(build, catalogue, World())] == ["controls.too-many-quirks"]


def test_other_mistakes_have_findings(demo: Demo, catalogue: Catalogue) -> None:
    build = demo.build.with_part("encoder", "tackle-12")
    codes = {finding.code for finding in findings(build, catalogue, World())}
    assert {"controls.players", "controls.wiring"} <= codes
    keys = [
        {"action": "leave", "control": "select"},
        {"action": "a", "control": "b1"},
        {"action": "b", "control": "b1"},
    ]
    found = findings(edited(demo.build, "controls.hotkeys", keys), catalogue, World())
    told = next(finding.message for finding in found if finding.code == "controls.hotkeys")
    assert "b1 does two things" in told
    assert "“leave” uses the hotkey itself" in told


def test_the_simulated_encoder_sends_what_the_terminals_say(catalogue: Catalogue) -> None:
    encoder = catalogue.get(Encoder, "tackle-pair")
    device: Encoders = SimulatedEncoder(encoder)
    device.press("2U")
    device.press("21")
    device.release("2U")
    told = [(event.player, event.code, event.value) for event in device.events()]
    assert told == [(2, "ABS_Y", -1), (2, "BTN_TRIGGER", 1), (2, "ABS_Y", 0)]
    with pytest.raises(WrongUse, match="9Z"):
        device.press("9Z")


def test_without_its_quirk_both_players_are_one(catalogue: Catalogue) -> None:
    device = SimulatedEncoder(catalogue.get(Encoder, "tackle-pair"), confused=True)
    device.press("2L")
    assert next(device.events()).player == 1


def test_a_real_encoder_that_is_not_there_is_told() -> None:
    with pytest.raises(KyklonError, match="event99"):
        next(LinuxEncoder("/dev/input/event99").events())


def test_the_wiring_list_has_a_row_a_switch(demo: Demo, catalogue: Catalogue) -> None:
    panel, encoder = catalogue.get(Panel, "cocktail-pair"), catalogue.get(Encoder, "tackle-pair")
    systems = tuple(catalogue.get(System, each) for each in demo.build.systems)
    wires = [wire.model_dump() for wire in demo.build.controls.wires[1:]]
    settings = ControlSettings(panel=panel.id, wires=wires)
    rows = list(csv.DictReader(io.StringIO(exports.wiring_csv(panel, settings, encoder, systems))))
    assert len(rows) == 24
    assert rows[0]["terminal"] == "not wired"
    row = next(each for each in rows if (each["player"], each["switch"]) == ("2", "b2"))
    assert (row["terminal"], row["event"], row["code"], row["Birch 16"]) == ("22", "BTN_THUMB", "0x121", "Hop")


def test_the_udev_rule_names_the_device(catalogue: Catalogue) -> None:
    rule = exports.udev_rule(catalogue.get(Encoder, "tackle-pair")).splitlines()[1]
    assert 'ATTRS{id/vendor}=="6b79"' in rule
    assert 'ATTRS{id/product}=="0022"' in rule
    keys = [part.strip().split("=")[0] for part in rule.split(", ")]
    assert keys == ["SUBSYSTEM", "KERNEL", "ATTRS{id/vendor}", "ATTRS{id/product}", "SYMLINK+", "TAG+"]
