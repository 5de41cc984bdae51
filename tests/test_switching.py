"""Switched on and off in time, and a cable that does not get shorter than it must reach."""

from __future__ import annotations

from dataclasses import replace

import pytest

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Cable
from kyklon.demo import camper
from kyklon.model.build import Build, edited, remedied
from kyklon.model.world import World
from kyklon.operations.assembly.findings import findings
from kyklon.operations.assembly.order import acts, screws
from kyklon.operations.assembly.switching import MARGIN_S, least_off_s, stopping
from kyklon.operations.plan.connections import with_cable, with_length


def switched(build: Build, **values: object) -> Build:
    made = edited(build, "boot.overlays", ["shutdown-button:pin=32"])
    for name, value in values.items():
        made = edited(made, f"assembly.{name}", value)
    return made


@pytest.fixture
def build(catalogue: Catalogue) -> Build:
    return camper.build(catalogue, "0" * 64)


def of_switch(build: Build, catalogue: Catalogue) -> list[str]:
    return [each.title for each in findings(build, catalogue, World()) if each.code == "assembly.switch"]


def test_a_pulled_plug_tears_the_system_off(build: Build, catalogue: Catalogue) -> None:
    found = stopping(build, catalogue)
    assert (found.stopped_s, found.cut_s, found.bad) == (None, 2.0, True)
    assert of_switch(build, catalogue) == [], "nobody chose a switch yet"


def test_one_second_to_stop(build: Build, catalogue: Catalogue) -> None:
    """Pressed at 2 s; the watcher wants half a second, the system takes twelve: stopped at 14.5 s, the power stays."""
    found = stopping(switched(build, switch="momentary"), catalogue)
    assert (found.stopped_s, found.cut_s, found.bad) == (14.5, None, False)
    short = stopping(switched(build, switch="momentary", press_s=0.3), catalogue)
    assert short.stopped_s is None
    assert "too short" in short.words
    deaf = edited(switched(build, switch="momentary"), "boot.overlays", [])
    assert of_switch(deaf, catalogue) == ["The button does nothing"]
    silent = edited(switched(build, switch="momentary"), "boot.services", ["network", "gangway"])
    assert of_switch(silent, catalogue) == ["The button does nothing"]


def test_a_power_board_that_cuts_too_early_is_cured(build: Build, catalogue: Catalogue) -> None:
    early = switched(build, switch="latching board", board_off_s=8.0)
    found = stopping(early, catalogue)
    assert (found.stopped_s, found.cut_s, found.bad) == (14.5, 10.0, True)
    assert any(span.state == "cut off" for lane in found.lanes for span in lane.spans)
    (finding,) = [each for each in findings(early, catalogue, World()) if each.code == "assembly.switch"]
    assert finding.remedy is not None
    cured = remedied(early, finding.remedy)
    assert cured.assembly.board_off_s >= least_off_s(early) == 0.5 + 12.0 + MARGIN_S
    assert not stopping(cured, catalogue).bad
    assert of_switch(cured, catalogue) == []
    waits = switched(build, switch="power board", board_waits=True, board_off_s=1.0)
    assert stopping(waits, catalogue).cut_s == 15.5, "a second after the system's last word"
    held = stopping(switched(build, switch="power board", press_s=6.0), catalogue)
    assert (held.cut_s, held.bad) == (7.0, True), "held for five seconds it is an emergency"


def test_every_lane_is_whole(build: Build, catalogue: Catalogue) -> None:
    for switch in ("plug", "in the line", "momentary", "power board", "latching board"):
        for seconds in (0.2, 1.0, 9.0):
            found = stopping(switched(build, switch=switch, press_s=seconds), catalogue)
            for lane in found.lanes:
                assert lane.spans[0].start == 0
                for one, other in zip(lane.spans, lane.spans[1:], strict=False):
                    assert one.end == other.start, lane.name
            assert len({lane.spans[-1].end for lane in found.lanes}) == 1


def test_a_cable_gets_no_shorter_than_the_couch_is_far(build: Build, catalogue: Catalogue) -> None:
    """Three metres of thin wire starve the board; a thick one of three metres, own or in two pieces, cures it."""
    thin = with_cable(build, "supply.out", "board.power", "power-a-micro-3m", catalogue)
    far = with_length(thin, "supply.out", "board.power", 3.0)
    (found,) = [each for each in findings(far, catalogue, World()) if each.code == "assembly.low-voltage"]
    assert found.remedy is None, "nothing on this shelf is long and thick enough"
    assert " V at " in found.message
    thick = catalogue.get(Cable, "power-a-micro-1m5")
    parts = {**catalogue.parts["cables"]}
    parts["own-extension"] = thick.model_copy(
        update={
            "id": "own-extension",
            "name": "Extension, thick",
            "ends": ("USB-A", "USB-A"),
            "socket_end": True,
            "awg": 12,
        }
    )
    parts["own-thick"] = thick.model_copy(update={"id": "own-thick", "name": "Thick", "awg": 12, "length_m": 1.6})
    shelf = replace(catalogue, parts={**catalogue.parts, "cables": parts})
    (found,) = [each for each in findings(far, shelf, World()) if each.code == "assembly.low-voltage"]
    assert found.remedy is not None
    cured = remedied(far, found.remedy)
    assert not [each for each in findings(cured, shelf, World()) if each.code == "assembly.low-voltage"]
    link = next(link for link in cured.links if link.end == "board.power")
    assert sum(shelf.get(Cable, piece).length_m for piece in link.pieces) >= 3.0
    near = with_length(thin, "supply.out", "board.power", 1.2)
    (found,) = [each for each in findings(near, catalogue, World()) if each.code == "assembly.low-voltage"]
    assert found.remedy is not None


def test_the_order_keeps_its_reasons(build: Build, catalogue: Catalogue) -> None:
    made = acts(build, catalogue)
    place = {act.id: number for number, act in enumerate(made)}
    for act in made:
        for name, why in act.before:
            assert place[name] < place[act.id], why
            assert why
    assert made[0].id == "card"
    assert made[-1].id == "close"
    assert place["trial"] < place["drill"] < place["paint"] < place["controls"] < place["prove"] < place["hour"]
    assert sum(screws(build, catalogue).values()) == sum(count for act in made for _kind, count in act.screws)
    cautions = {act.id: act.caution for act in made}
    assert "Goggles" in cautions["drill"]
    battery = {act.id: act for act in acts(edited(build, "assembly.source", "battery"), catalogue)}
    assert "fuse" in battery["converter"].caution
