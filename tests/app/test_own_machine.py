"""From an empty shelf, by window, with things that nobody here made: a board from a real device tree, an image from a
card out of a distribution's packages, a display from a dump, own supply, adapter, cable in two pieces, system with its
firmware.

Run by hand: tools/real_machine.py box ROOT FOLDER, then KYKLON_OWN_MACHINE=FOLDER .venv/bin/python -m pytest THIS_FILE.
"""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path

import pytest
from PyQt6.QtWidgets import QFileDialog, QPlainTextEdit

from app.conftest import at_window
from app.test_shelf import opened, put_on_shelf, settled, shelf, typed, use
from judges import loader as virtual_board
from kyklon.catalogue import loader
from kyklon.catalogue.records import Adapter
from kyklon.catalogue.system_records import System
from kyklon.demo import samples
from kyklon.model.build import CardState
from kyklon.operations.plan.acts import start_build
from kyklon.operations.plan.connections import connections
from support import Demo

BOX = os.environ.get("KYKLON_OWN_MACHINE", "")
OWN_PIECE = {"ends": "USB-C, USB-C", "signals": "power", "length_m": "10 cm", "awg": "18", "socket_end": "yes"}
pytestmark = pytest.mark.skipif(not BOX, reason="run by hand: KYKLON_OWN_MACHINE names a box of tools/real_machine.py")


def answered(user, **answers: str) -> None:
    """Answer what the walk asks, the rest by its suggestions."""
    walk = user.window.shelf_page().walk
    for name, text in answers.items():
        if any(field.name == name for field in walk.draft.missing()) or name in walk.draft.asked:
            typed(user, name, text)
    walk.take(walk.draft.agreed())
    assert not walk.draft.missing(), [field.label for field in walk.draft.missing()]


def test_an_own_machine_from_an_empty_shelf(demo: Demo, monkeypatch, tmp_path: Path, qtbot) -> None:
    box = Path(BOX)
    told = json.loads((box / "card.json").read_text())
    folder = start_build(tmp_path / "own", "My own machine", loader.load(None))
    shutil.copytree(demo.folder / "drives", folder / "drives")
    user = next(at_window(folder, qtbot))
    page, session = shelf(user), user.window.session

    page.start("board_walk", "BoardWalk")
    opened(user, monkeypatch, box / Path(told["tree"]).name, "Open a device tree")
    answered(user, peak_a="1800 mA", typical_a="900 mA", memory_mb="1024 MB")
    board = put_on_shelf(user, "Own board")
    use(user)

    page.start("file_walk", "ImageWalk")
    opened(user, monkeypatch, box / "image.img", "Open an image")
    answered(user, games_path="/home/player/games/{folder}", system_files_path="/home/player/firmware")
    image = put_on_shelf(user, "Own image")
    use(user)

    walk = page.start("display_walk", "DisplayWalk")
    walk.findChild(QPlainTextEdit).setPlainText((demo.folder / samples.FOLDER / samples.DUMP).read_text())
    display = put_on_shelf(user)
    use(user)

    for name, answers, kind in (
        ("SupplyWalk", {"volts": "5.1 V", "amps": "3 A", "socket": "USB-C"}, "Own supply"),
        ("CableWalk", OWN_PIECE, "Own piece"),
        ("AdapterWalk", {"socket_in": "HDMI A", "socket_out": "DE-15", "sync_out": "separate"}, "Own adapter"),
    ):
        page.start("print_walk", name)
        answered(user, **answers)
        put_on_shelf(user, kind)
        if name != "CableWalk" and name != "AdapterWalk":
            use(user)

    page.start("file_walk", "SystemWalk")
    opened(user, monkeypatch, demo.folder / samples.FOLDER / samples.GAMES, "Choose a folder")
    answered(user, width="288", height="216", refresh="59.21 Hz", buttons="6")
    firmware = tmp_path / "own-boot.rom"
    firmware.write_bytes(os.urandom(8192))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_args: (str(firmware), ""))
    user.press("Add a firmware file", page.walk)
    settled(user)
    system = put_on_shelf(user, "Own system")
    use(user)
    own = session.catalogue.get(System, system)
    assert [(file.name, file.size) for file in own.system_files] == [("own-boot.rom", 8192)]
    assert session.catalogue.all(Adapter)
    assert {session.build.part(role) for role in ("board", "image", "display")} == {board, image, display}

    menus = [act.menu() for act in user.open(10).cable_menu().actions() if act.menu() is not None]
    power = next(menu for menu in menus if menu.title().startswith("Own supply"))
    longer = next(act.menu() for act in power.actions() if act.text() == "Add a piece")
    next(act for act in longer.actions() if act.text() == "Own piece").trigger()
    settled(user)
    link = next(link for link in session.build.links if link.end == "board.power")
    assert link.further == ("own-piece",)
    assert not [each.faults for each in connections(session.build, session.catalogue) if each.faults]
    assert user.stops == []

    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_args: (str(box / "image.img"), ""))
    user.press("Choose…", user.open(20))
    user.wait()
    user.choose_drive("blank-card")
    user.answer(lambda dialog: user.press("Write to blank-card", dialog), lambda: user.press("Write to blank-card…"))
    user.wait()
    assert session.build.card.state is CardState.PROVEN
    user.press("Run bring-up")
    user.wait(lambda: session.bring_up is not None)
    assert session.bring_up.failure is None
    assert virtual_board.load(folder / "drives" / "blank-card.standin", patient=True).started
    session.end()
