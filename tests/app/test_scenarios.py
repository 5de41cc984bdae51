"""The other two demo builds, from a card that is made to a bring-up that reaches the menu, by window."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from pytestqt.qtbot import QtBot

from app.conftest import User, at_window
from kyklon.app.pages.card.bare_metal import BareBench
from kyklon.catalogue.loader import Catalogue
from kyklon.demo import camper, school_fair
from kyklon.model.build import CardState


@pytest.fixture
def fair(tmp_path: Path, catalogue: Catalogue, qtbot: QtBot) -> Iterator[User]:
    yield from at_window(school_fair.make(tmp_path / "fair", catalogue), qtbot)


@pytest.fixture
def van(tmp_path: Path, catalogue: Catalogue, qtbot: QtBot) -> Iterator[User]:
    yield from at_window(camper.make(tmp_path / "van", catalogue), qtbot)


def bring_up(user: User) -> Any:
    """Open Power-on and press what it offers."""
    page = user.open(90)
    user.press("Run", page)
    user.wait(lambda: user.window.session.bring_up_current)
    return user.window.session.bring_up


def test_a_bare_metal_card_is_made_and_starts_its_menu(fair: User) -> None:
    assert fair.stops == []
    page = fair.open(20)
    fair.press("Bare metal")
    bench = page.bench
    assert isinstance(bench, BareBench)
    fair.wait(lambda: bench.plan is not None and bench.plan.ready)
    bench._drive.setCurrentIndex(bench._drive.findData("sim:blank-card"))
    bench.refresh()
    fair.answer(lambda dialog: fair.press("Make the card", dialog), lambda: fair.press("Make the card…"))
    fair.wait()
    assert fair.saved.card.state is CardState.PROVEN
    result = bring_up(fair)
    assert result.failure is None
    assert result.reached == "front end"
    assert "Elm Micro S" in result.screen.lines[0]
    assert [event.stage for event in result.events][-2:] == ["files", "machine"]


def test_a_base_system_needs_the_network_for_its_installer(van: User) -> None:
    session = van.window.session
    assert van.stops == []
    van.choose_drive("blank-card")
    van.answer(lambda dialog: van.press("Write to blank-card", dialog), lambda: van.press("Write to blank-card…"))
    van.wait()
    result = bring_up(van)
    assert result.failure is not None
    assert result.failure.code in ("boot.installer-network", "picture.out-of-range:menu", "boot.device-tree")
    session.edit("boot.country", "NL")
    van.open(30)
    van.window.put_on_card()
    van.wait()
    result = bring_up(van)
    assert result.failure is None, result.failure
    assert result.reached == "front end"
    assert any("15 to 120 minutes" in event.text for event in result.events)


def test_a_tube_on_a_board_that_takes_only_a_size_gets_its_picture_by_identification_data(user: User) -> None:
    session = user.window.session
    board = user.open(10).map._choices["board"]
    board.setCurrentIndex(board.findData("ling"))
    board.activated.emit(board.currentIndex())
    session.edit("picture.identification", "")  # this tube has no data of its own
    session.edit("parts", [part for part in session.build.parts if part.role != "supply"])
    dialect = user.open(30)._form.editors["boot.dialect"].widget
    dialect.setCurrentIndex(dialect.findData("extlinux"))
    dialect.activated.emit(dialect.currentIndex())
    session.edit("boot.kernel", "merrow-armv8.krn")
    for number, words in (
        (30, "Preview: Use ling.dtb"),
        (40, "Preview: Add the quirk"),
        (50, "Preview: Use 1440"),
        (50, "Preview: Issue an EDID file"),
        (50, "Preview: Switch the display on later"),
    ):
        user.open(number)
        user.answer(
            lambda dialog: user.press("Change", dialog), lambda words=words: user.press(words, user.window.findings)
        )
        user.wait()
    assert not [code for code in user.stops if code.startswith(("picture", "boot", "controls"))]
    user.choose_drive("blank-card")
    user.answer(lambda dialog: user.press("Write to blank-card", dialog), lambda: user.press("Write to blank-card…"))
    user.wait()
    page = user.open(30)
    user.press("Copy ", page)
    user.wait()
    assert any(name == "kyklon-picture.cpio" for name in session.world.card.sizes)
    result = bring_up(user)
    assert result.reached == "front end", result.failures
    assert not [failure for failure in result.failures if failure.blocks]
    *_off, picture = [event.text for event in result.events if event.stage == "display"]
    assert "15.7" in picture
    assert "edid/kyklon.bin, issued as firmware" in picture
