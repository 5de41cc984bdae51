"""The shelf and its walks by window: a box of things that no catalogue knows becomes a build that starts."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QDialog, QFileDialog, QLineEdit, QPlainTextEdit

from app.conftest import at_window
from kyklon.app.pages.shelf.page import ShelfPage
from kyklon.app.shell.findings_panel import RemedyDialog
from kyklon.base.places import catalogue_folder
from kyklon.catalogue import loader
from kyklon.demo import samples
from kyklon.model.build import CardState
from kyklon.operations.plan.acts import start_build
from support import Demo


@pytest.fixture
def bench(demo: Demo, tmp_path: Path, qtbot) -> Iterator[object]:
    """A person before a new build, with the demo's stand-ins plugged in."""
    folder = start_build(tmp_path / "new", "My own machine", loader.load(None))
    shutil.copytree(demo.folder / "drives", folder / "drives")
    yield from at_window(folder, qtbot)


def shelf(user) -> ShelfPage:
    user.front()
    user.bot.keyClick(user.window, Qt.Key.Key_F3)
    user.bot.waitUntil(lambda: user.window.number == -1, timeout=20_000)
    page = user.window.shelf_page()
    page.grab()
    return page


def settled(user) -> None:
    user.wait()
    user.window.session.flush()
    user.bot.wait(30)
    user.wait()


def opened(user, monkeypatch, path: Path, button: str, *, folder: bool = False) -> None:
    """Press a button that asks for a file, and give that file."""
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_args: (str(path), ""))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_args: str(path))
    page = user.window.shelf_page()
    user.press(button, page.walk)
    settled(user)
    assert page.walk.draft is not None, page.walk._wrong.text()


def typed(user, name: str, text: str) -> None:
    """Type into a field of the walk's form, as a user would."""
    editor = user.window.shelf_page().walk.form.editor(name)
    if isinstance(editor, QComboBox):
        editor.setCurrentIndex(editor.findData(text))
        editor.activated.emit(editor.currentIndex())
        return
    assert isinstance(editor, QLineEdit)
    editor.setFocus()
    editor.selectAll()
    user.bot.keyClicks(editor, text)
    user.bot.keyClick(editor, Qt.Key.Key_Return)


def put_on_shelf(user, name: str = "") -> str:
    """Name it and press the last button; the part's id."""
    page = user.window.shelf_page()
    walk = page.walk
    if name:
        walk._name.setText(name)
    user.press("Put it on the shelf", walk)
    user.bot.waitUntil(lambda: page.walk is None or bool(walk._wrong.text()), timeout=20_000)
    assert page.walk is None, walk._wrong.text()
    settled(user)
    assert page.parts.current is not None
    return page.parts.current.id


def use(user) -> None:
    user.press("Use it in this build", user.window.shelf_page())
    settled(user)


def press_switch(user, walk, switch: str) -> None:
    """Press and let go of a switch of the stand-in, with the mouse."""
    came = len(walk._events), walk._terminals
    at = walk._bench.box_of(switch).center().toPoint()
    user.bot.mousePress(walk._bench, Qt.MouseButton.LeftButton, pos=at)
    user.bot.waitUntil(lambda: (len(walk._events), walk._terminals) != came, timeout=5_000)
    user.bot.wait(35)
    user.bot.mouseRelease(walk._bench, Qt.MouseButton.LeftButton, pos=at)
    user.bot.wait(75)


def learn_everything(user, box: Path, monkeypatch) -> dict[str, str]:
    """A board, a display, an encoder, an image, a system and a panel; their ids."""
    page = shelf(user)
    ids = {}
    page.start("board_walk", "BoardWalk")
    opened(user, monkeypatch, box / samples.BOARD, "Open a device tree")
    typed(user, "peak_a", "1800 mA")
    ids["board"] = put_on_shelf(user)
    use(user)

    walk = page.start("display_walk", "DisplayWalk")
    walk.findChild(QPlainTextEdit).setPlainText((box / samples.DUMP).read_text())
    ids["display"] = put_on_shelf(user)
    use(user)

    walk = page.start("encoder_walk", "EncoderWalk")
    user.bot.waitUntil(lambda: bool(walk._listed), timeout=20_000)
    walk.choose_device("sim:cleat")
    user.press("Measure a button", walk)
    for _ in range(40):
        press_switch(user, walk, "1")
        if walk._measured.enough:
            break
    assert walk._measured.enough
    assert 0 < walk._measured.longest_ms <= 11
    assert walk._measured.interval_ms == 2
    user.press("Begin the walk", walk)
    for switch in walk._handle.device.switches:
        press_switch(user, walk, switch.id)
    assert walk._terminals.done
    ids["encoder"] = put_on_shelf(user)
    use(user)

    page.start("file_walk", "ImageWalk")
    opened(user, monkeypatch, box / samples.IMAGE, "Open an image")
    ids["image"] = put_on_shelf(user)
    use(user)

    page.start("file_walk", "SystemWalk")
    opened(user, monkeypatch, box / samples.GAMES, "Choose a folder")
    for name, text in (("width", "288"), ("height", "216"), ("refresh", "59.21 Hz"), ("buttons", "6")):
        typed(user, name, text)
    ids["system"] = put_on_shelf(user)
    use(user)

    walk = page.start("panel_walk", "PanelWalk")
    opened(user, monkeypatch, box / samples.PANEL_DXF, "Open a drawing")
    ids["panel"] = put_on_shelf(user)
    use(user)
    return ids


def test_a_box_of_unknown_things_becomes_a_machine_that_starts(bench, demo: Demo, monkeypatch, tmp_path) -> None:
    user, session = bench, bench.window.session
    box = demo.folder / samples.FOLDER
    ids = learn_everything(user, box, monkeypatch)
    page = user.window.shelf_page()
    for system in [each for each in session.build.systems if each != ids["system"]]:
        page.show_part("systems", system)
        user.press("Take it out of this build", page)
        settled(user)
    build = session.build
    assert build.systems == (ids["system"],)
    assert {build.part(role) for role in ("board", "display", "encoder", "image")} == {
        ids[each] for each in ("board", "display", "encoder", "image")
    }
    assert {copy.id for copy in build.copies} >= set(ids.values())

    session.edit("source.path", str(box / samples.IMAGE), "Image file")  # as the Card page's own dialog does
    user.wait()
    card = user.choose_drive("blank-card")
    user.answer(lambda dialog: user.press("Write to blank-card", dialog), lambda: user.press("Write to blank-card…"))
    user.wait()
    assert session.build.card.state is CardState.PROVEN, card
    user.press("Run bring-up")
    user.wait(lambda: session.bring_up is not None)
    power = user.window.page(90)
    order = []
    while (failure := session.bring_up.failure) is not None and len(order) < 8:
        order.append((failure.code, failure.cause))

        def agree(dialog: QDialog) -> None:
            assert isinstance(dialog, RemedyDialog)
            words = [text for text in user.buttons(dialog) if text.startswith(("Change", "Put"))]
            user.press(words[-1], dialog)

        assert failure.remedy is not None, order
        user.answer(
            agree, lambda: user.press(failure.remedy.label if not failure.remedy.changes else "Preview:", power)
        )
        user.wait()
        user.press("Run again", power)
        user.wait(lambda: session.bring_up_current)
    assert session.bring_up.failure is None, order
    assert user.stops == []

    # the same build where the shelf is empty
    shutil.rmtree(catalogue_folder())
    folder = session.folder
    codes = [finding.code for finding in session.findings]
    user.window.session.flush()
    again = next(at_window(folder, user.bot))
    assert not again.window.session.shelf.own
    assert [finding.code for finding in again.window.session.findings] == codes
    again.press("Run bring-up")
    again.wait(lambda: again.window.session.bring_up is not None)
    assert again.window.session.bring_up.failure is None
    again.window.session.end()
