"""Operation 40 in the real window: from an empty panel to the exported maps, as a new user goes."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtWidgets import QFileDialog

from conftest import User, at_window
from kyklon.app.pages.controls.page import HOTKEYS, KEYBOARD, LIVE, MAP, PANEL, PINS, WIRING, ControlsPage
from kyklon.catalogue.loader import Catalogue
from kyklon.demo import school_fair
from kyklon.operations.controls.faulty import World
from kyklon.record.logbook import Logbook

EIGHT = ("alder-8", "birch-16", "cedar-disc", "elm-micro", "fir-board-v", "gorse-twin", "hazel-ring", "ivy-steps")


def page_of(user: User, view: int) -> Any:
    page = user.open(40)
    assert isinstance(page, ControlsPage)
    page.show_view(view)
    page.grab()
    return page


def press(user: User, view: Any, switch: str) -> None:
    at = view.centre_of(switch)
    user.bot.mousePress(view, Qt.MouseButton.LeftButton, pos=at.toPoint())
    user.bot.wait(15)
    user.bot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=at.toPoint())


def prove(user: User, page: ControlsPage) -> None:
    """Follow the proof: press what it asks for until it has thought."""
    bench = page.live.bench
    user.press("Start", page.live)
    user.bot.waitUntil(lambda: not bench.busy and bench.proof is not None, timeout=180_000)
    go_on(user, page)


def go_on(user: User, page: ControlsPage) -> None:
    bench = page.live.bench
    while bench.proof.current is not None:
        act = bench.proof.current
        for switch in act:
            press(user, page.live.view, switch)
        user.bot.waitUntil(
            lambda act=act: bench.proof is None or bench.proof.current != act or bench.busy, timeout=180_000
        )
    user.bot.waitUntil(lambda: not bench.busy and bench.diagnosis is not None, timeout=180_000)


def test_pressing_a_control_lights_the_path(user) -> None:
    page = page_of(user, LIVE)
    view = page.live.view
    at = view.centre_of("p1.b2")
    assert view.control_at(at) == "p1.b2"
    user.bot.mousePress(view, Qt.MouseButton.LeftButton, pos=at.toPoint())
    user.bot.waitUntil(lambda: page.live.chain.lit is not None, timeout=180_000)
    assert page.live.chain.lit.words == ("seat 1 button 2", "12", "BTN_THUMB 0x121", "Hop, player 1")
    assert view.held == {"p1.b2"}
    user.bot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=at.toPoint())
    user.bot.waitUntil(lambda: not view.held, timeout=180_000)


def test_the_second_seat_shows_the_missing_quirk_until_it_is_there(user) -> None:
    page = page_of(user, LIVE)
    view = page.live.view
    view.setFocus()
    user.bot.keyPress(view, Qt.Key.Key_K)
    user.bot.waitUntil(lambda: page.live.chain.lit is not None, timeout=180_000)
    assert page.live.chain.lit.wrong
    assert page.live.chain.lit.words[3] == "Hop, player 1"
    user.bot.keyRelease(view, Qt.Key.Key_K)
    user.answer(
        lambda dialog: user.press("Change the build", dialog), lambda: user.press("Preview:", user.window.findings)
    )
    user.bot.wait(100)
    user.bot.keyPress(view, Qt.Key.Key_K)
    user.bot.waitUntil(lambda: page.live.chain.lit.words[3] == "Hop, player 2", timeout=180_000)
    assert not page.live.chain.lit.wrong
    user.bot.keyRelease(view, Qt.Key.Key_K)


def test_every_switch_can_be_found_on_the_drawing(user) -> None:
    page = page_of(user, LIVE)
    view = page.live.view
    for switch in page.live.hookup.switches:
        assert view.control_at(view.centre_of(switch)) == switch
    assert view.control_at(QPointF(2, 2)) == ""


@pytest.mark.long
def test_from_a_bare_table_to_the_exported_maps(user, tmp_path: Path, monkeypatch) -> None:
    """Acceptance 1: four seats, two encoders wired wrongly, eight systems, hotkeys, everything exported."""
    session = user.window.session
    page = page_of(user, PANEL)
    user.pick(page.panel, "Arrangement", "curved-six")
    user.pick(page.panel, "Seats", "4")
    user.press("Lay out", page.panel)
    assert len(session.build.controls.layout.seats) == 4
    assert "controls.players" in user.stops

    page.show_view(WIRING)
    user.pick(page.wiring, "Encoder to add", "tackle-pair")
    user.press("Add", page.wiring)
    user.press("Wire all", page.wiring)
    hookup = page.wiring.hookup
    assert len(hookup.devices) == 2
    assert len(hookup.wired) == len(hookup.switches) == 48
    assert "controls.players" not in user.stops
    user.answer(
        lambda dialog: user.press("Change the build", dialog),
        lambda: user.press("Preview: Add the quirk", user.window.findings),
    )

    page.show_view(LIVE)
    page.live._seed = type("Dice", (), {"randrange": staticmethod(lambda _low, _high: 5)})()
    user.press("Add faults", page.live)
    hidden = page.live.bench.stand_in.panel
    assert hidden.ends != dict(page.live.bench.plan.wires) or hidden.jams or hidden.shorts or hidden.bounce_ms
    prove(user, page)
    found = page.live.bench.faults
    assert len(found) == 2, page.live.bench.diagnosis
    user.bot.waitUntil(lambda: "controls.proof" in {finding.code for finding in session.findings}, timeout=180_000)
    for turn in range(8):  # one by one, in software where that is offered, else in wire
        if not page.live.bench.faults:
            break
        there = user.buttons(page.live)
        user.press("Fix in software" if "Fix in software" in there and turn == 0 else "Fixed", page.live)
        user.bot.waitUntil(lambda: not page.live.bench.busy, timeout=180_000)
        if page.live.bench.proof.current is not None:
            go_on(user, page)
        user.bot.waitUntil(lambda: not page.live.bench.busy and page.live.bench.diagnosis is not None, timeout=180_000)
    assert page.live.bench.diagnosis.right
    assert "controls.proof" not in {finding.code for finding in session.findings}
    assert World(page.live.bench.plan).wires  # the plan holds what the build says now

    page.show_view(MAP)
    for system in EIGHT:
        page.map.with_system(system, on=True)
    user.press("Optimise mapping", page.map)
    user.bot.waitUntil(lambda: len(session.build.controls.maps) == 8, timeout=180_000)
    assert "systems mapped" in user.message
    grid = page.map.grid
    system, cells = "birch-16", grid._grid.cells
    place = next(p for (s, p), own in cells.items() if s == system and own[0].input == "act")
    user.bot.mouseClick(grid, Qt.MouseButton.LeftButton, pos=grid.cell_box(system, place).center().toPoint())
    other = next(p for p, _label in grid._grid.places if p != place and p.startswith("b"))
    user.bot.mouseClick(grid, Qt.MouseButton.LeftButton, pos=grid.cell_box(system, other).center().toPoint())
    assert "Moved and locked there" in user.message
    assert any(pair.locked for pair in session.build.controls.map_of(system).pairs)

    page.show_view(HOTKEYS)
    user.press("Use the safest hotkeys", page.hotkeys)
    assert {hotkey.action for hotkey in session.build.controls.hotkeys} == {"leave", "reset", "save", "load"}

    out = tmp_path / "out"
    out.mkdir()
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_args: str(out))
    page._papers.write_all(page.export)
    session.flush()
    names = {path.name for path in out.rglob("*")}
    assert {
        "sdl-mapping.txt",
        "70-kyklon-controls.rules",
        "wiring.csv",
        "harness.csv",
        "guests.pdf",
        "labels.svg",
        "legend-ivy-steps.pdf",
        "drill-seat-4.pdf",
    } <= names
    assert (out / "guests.pdf").read_bytes().startswith(b"%PDF")
    titles = [entry.title for entry in Logbook(session.folder).entries()]
    assert "Wiring proven" in titles
    assert "Exported" in titles


def test_unplugged_half_way_nothing_is_lost(user) -> None:
    page = page_of(user, LIVE)
    bench = page.live.bench
    user.press("Start", page.live)
    user.bot.waitUntil(lambda: not bench.busy and bench.proof is not None, timeout=180_000)
    for _turn in range(3):
        act = bench.proof.current
        press(user, page.live.view, act[0])
        user.bot.waitUntil(lambda act=act: bench.proof.current != act, timeout=180_000)
    bench.source.unplug("encoder")
    user.bot.waitUntil(lambda: "was unplugged" in user.message, timeout=180_000)
    assert len(bench.proof.asked) == 3
    bench.source.plug("encoder")
    user.bot.waitUntil(lambda: "is back" in user.message, timeout=180_000)
    user.press("Skip", page.live)
    assert len(bench.proof.skipped) == 1
    user.press("Stop test", page.live)
    assert bench.proof is None


@pytest.fixture
def fair(tmp_path: Path, catalogue: Catalogue, qtbot):
    yield from at_window(school_fair.make(tmp_path / "fair", catalogue), qtbot)


def test_the_fairs_ribbon_keys_and_pins(fair) -> None:
    """Acceptance 2: the ribbon found out, the keys mapped both ways, three wishes on the header and the fourth told."""
    user, session = fair, fair.window.session
    page = page_of(user, KEYBOARD)
    keys = page.keyboard
    user.click(keys.keys, keys.keys.key_box("a").center())
    assert len(session.build.controls.keyboard.readings) == 1
    for turn in range(12):
        user.press("Close every key", keys)
        figures = dict(keys._figures.rows)
        if figures["Read once only"] == figures["Keys to read again"] == "0" and turn:
            break
    own = keys.own
    true = {key.id: frozenset(key.line) for key in own.keys if key.line is not None}
    assert {key: frozenset(pair) for key, pair in keys.lines.items()} == true
    assert dict(keys._figures.rows)["Rows and columns"] == "7 × 8"
    keys.show_mode(1)
    for key in ("a", "s", "d", "z", "x", "c"):
        user.click(keys.keys, keys.keys.key_box(key).center())
    assert session.build.controls.keyboard.played == ("a", "s", "d", "z", "x", "c")
    keys.show_mode(2)
    told = []
    for school in ("position", "symbol"):
        user.pick(keys, "Keys by", school)
        told.append(dict(keys.keys._caps.labels))
    assert told[0] != told[1]
    page.show_view(PINS)
    pins = page.pins
    for wish in ("stick-bank", "bus-sound", "shutdown-button"):
        user.click(pins.ticks[wish], QPointF(8, pins.ticks[wish].height() / 2))
    words = session.build.boot.overlays
    assert [word.partition(":")[0] for word in words] == ["stick-bank", "bus-sound", "shutdown-button"]
    user.click(pins.ticks["marquee-panel"], QPointF(8, pins.ticks["marquee-panel"].height() / 2))
    assert session.build.boot.overlays == words
    assert "pin 23" in pins._conflict.text()
    assert "Marquee panel" in pins._conflict.text()
