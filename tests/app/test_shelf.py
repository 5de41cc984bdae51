"""The shelf and its walks by window: a box of things that no catalogue knows becomes a build that starts."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtWidgets import QCheckBox, QComboBox, QDialog, QFileDialog, QInputDialog, QLineEdit, QPlainTextEdit

from app.conftest import at_window
from kyklon.app.pages.shelf.look_dialog import LookDialog
from kyklon.app.pages.shelf.page import ShelfPage
from kyklon.app.shell.findings_panel import RemedyDialog
from kyklon.base.places import catalogue_folder
from kyklon.catalogue import loader
from kyklon.catalogue.image_records import BareMetal, Chooser
from kyklon.catalogue.records import Board, Card, Display
from kyklon.catalogue.text_records import Dialect
from kyklon.demo import samples
from kyklon.model.build import CardState, PartCopy, edited
from kyklon.operations.boot.compile import compiled
from kyklon.operations.boot.read import read_settings
from kyklon.operations.plan.acts import start_build
from kyklon.parts.store import Store, plain_row
from kyklon.record import folder as store
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
    user.bot.waitUntil(lambda: user.window.number == -1, timeout=180_000)
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
    user.press("Add to the shelf", walk)
    user.bot.waitUntil(lambda: page.walk is None or bool(walk._wrong.text()), timeout=180_000)
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
    user.bot.waitUntil(lambda: (len(walk._events), walk._terminals) != came, timeout=180_000)
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
    user.bot.waitUntil(lambda: bool(walk._listed), timeout=180_000)
    walk.choose_device("sim:cleat")
    user.press("Measure a button", walk)
    for _ in range(40):
        press_switch(user, walk, "1")
        if walk._measured.enough:
            break
    assert walk._measured.enough
    assert 0 < walk._measured.longest_ms <= 11
    assert walk._measured.interval_ms == 2
    user.press("Start terminal test", walk)
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
        user.press("Remove from this build", page)
        settled(user)
    build = session.build
    assert build.systems == (ids["system"],)
    assert {build.part(role) for role in ("board", "display", "encoder", "image")} == {
        ids[each] for each in ("board", "display", "encoder", "image")
    }
    assert {copy.id for copy in build.copies} >= set(ids.values())

    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_args: (str(box / samples.IMAGE), ""))
    user.press("Choose…", user.open(20))
    user.wait()
    assert session.build.source.path.endswith(samples.IMAGE)
    card = user.choose_drive("blank-card")
    user.answer(lambda dialog: user.press("Write to blank-card", dialog), lambda: user.press("Write to blank-card…"))
    user.wait()
    assert session.build.card.state is CardState.PROVEN, card
    known = session.build.known_card("sim:blank-card")
    assert known is not None
    page = shelf(user)
    walk = page.start("print_walk", "CardWalk")
    user.bot.waitUntil(lambda: any(text.startswith("blank-card") for text in user.buttons(walk)), timeout=180_000)
    user.press("blank-card, 31.9", walk)
    assert walk.draft.known["write_mb_s"].how == "measured"
    assert walk.draft.known["read_mb_s"].how == "measured"
    put_on_shelf(user)
    use(user)
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
    assert not again.window.session.parts.shelf.own
    assert [finding.code for finding in again.window.session.findings] == codes
    again.press("Run bring-up")
    again.wait(lambda: again.window.session.bring_up is not None)
    assert again.window.session.bring_up.failure is None
    again.window.session.end()


def test_five_unseen_grammars_are_learnt_by_clicks(user, demo: Demo, monkeypatch) -> None:
    """Each becomes a dialect; a build that uses it issues the file again with an edit, and reads it back."""
    session = user.window.session
    page = shelf(user)
    for name, carried in samples.CARRIED.items():
        walk = page.start("dialect_walk", "DialectWalk")
        monkeypatch.setattr(
            QFileDialog, "getOpenFileName", lambda *_args, name=name: (str(demo.folder / samples.FOLDER / name), "")
        )
        user.press("Open a boot file", walk)
        settled(user)
        assert walk.sample is not None
        for number, setting in carried.items():
            walk.view.grab()
            spot = QPointF(60, walk.theme.px(22) * (number - 0.5))
            user.click(walk.view, spot)
            assert walk._line == number
            walk._carries.setCurrentIndex(walk._carries.findData(setting))
            walk._carries.activated.emit(walk._carries.currentIndex())
            assert not walk._wrong.text(), walk._wrong.text()
        assert walk._trial.text().startswith("Tested: read, written and read again"), walk._trial.text()
        part_id = put_on_shelf(user, f"Own {name}")
        use(user)
        assert session.build.boot.dialect == part_id
        assert part_id in {copy.id for copy in session.build.copies}
        part = session.catalogue.get(Dialect, part_id)
        text = samples.BOOT_FILES[name]
        build = edited(session.build, "boot.kernel", "edited-armv8.krn")
        board = session.catalogue.get(Board, build.part("board"))
        (issued, *_rest) = compiled(build, session.catalogue, {name.lower(): text})
        now = read_settings(part, board, {name.lower(): issued.text})
        assert now.kernel_file == "edited-armv8.krn"
        assert issued.path == name
        lines = {line.text: line.path for line in issued.lines}
        assert "boot.kernel" in lines.values()


def test_the_shelf_is_searched_compared_copied_and_taken_back(user, demo: Demo, monkeypatch, tmp_path) -> None:
    session = user.window.session
    page = shelf(user)
    assert user.window.route._lines[-1]._line.note == "parts"
    user.bot.keyClicks(page._words, "tube 15")
    assert [entry.id for entry in page.parts.shown] == ["casement-19"]
    page._words.clear()
    page.show_part("displays", "casement-19")
    assert "ships with Kyklon" in page._facts.accessibleDescription()
    user.press("Compare", page)
    page.parts.choose("displays", "pane-24")
    assert page._facts._two is not None
    assert page._facts._names == ("Casement 19", "Pane 24")
    user.press("Stop comparing", page)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_args, **_more: ("My pane", True))
    page.ask_copy()
    user.bot.waitUntil(lambda: bool(session.parts.shelf.own) and page.parts.current.id == "my-pane", timeout=180_000)
    assert user.window.route._lines[-1]._line.note == "1 of yours"
    assert "copied" in page._facts.accessibleDescription()
    monkeypatch.setattr(QInputDialog, "getText", lambda *_args, **_more: ("Our pane", True))
    page.ask_rename()
    user.bot.waitUntil(lambda: session.parts.shelf.get(Display, "my-pane").name == "Our pane", timeout=180_000)

    def change(dialog: QDialog) -> None:
        editor = dialog.form.editor("response_ms")
        editor.setText("a while")
        editor.editingFinished.emit()
        user.press("Change it", dialog)
        assert "Response" in dialog._wrong.text()
        assert editor.text() == "a while"  # what was typed stays
        editor.setText("9 ms")
        editor.editingFinished.emit()
        user.press("Change it", dialog)

    user.answer(change, lambda: user.press("Change a fact", page))
    user.bot.waitUntil(lambda: session.parts.shelf.get(Display, "my-pane").response_ms == 9, timeout=180_000)
    use(user)
    assert session.build.part("display") == "my-pane"
    page.delete()
    user.bot.waitUntil(lambda: "used by Lighthouse" in user.message, timeout=180_000)
    user.window.session.undo()
    settled(user)
    page.show_part("displays", "my-pane")
    page.delete()

    user.bot.waitUntil(lambda: session.parts.shelf.find(Display, "my-pane") is None, timeout=180_000)
    user.front()
    user.bot.keyClick(user.window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    user.bot.waitUntil(lambda: session.parts.shelf.find(Display, "my-pane") is not None, timeout=180_000)
    path = tmp_path / "out.toml"
    page.show_part("displays", "my-pane")
    page.export(path)
    session.flush()
    assert "my-pane" in path.read_text()
    path.write_text(path.read_text().replace("response_ms = 9.0", "response_ms = 12.0"))
    user.answer(lambda dialog: user.press("Add to the shelf", dialog), lambda: (page.bring_in(path), user.wait()))
    user.bot.waitUntil(lambda: session.parts.shelf.get(Display, "my-pane").response_ms == 12, timeout=180_000)


def test_a_change_of_the_shelf_elsewhere_is_seen(user) -> None:
    """A command, or another window, puts a part on the shelf while this one is open."""
    session = user.window.session
    page = shelf(user)
    Store(catalogue_folder()).add(
        "cards", {**plain_row(session.catalogue.get(Card, "cockle-32")), "id": "theirs", "name": "Theirs"}
    )
    session.parts._watch()
    session.parts.read()
    user.bot.waitUntil(lambda: session.parts.shelf.find(Card, "theirs") is not None, timeout=180_000)
    assert any(entry.id == "theirs" for entry in page.parts.shown)
    Store(catalogue_folder()).change("cards", "theirs", {"name": "Theirs too"})
    user.bot.waitUntil(lambda: session.parts.shelf.get(Card, "theirs").name == "Theirs too", timeout=180_000)
    path = catalogue_folder() / "cards" / "theirs.toml"
    text = path.read_text()
    with path.open("r+") as file:  # a text editor that writes in place
        file.write(text.replace("Theirs too", "Theirs  3!"))
    user.bot.waitUntil(lambda: session.parts.shelf.get(Card, "theirs").name == "Theirs  3!", timeout=180_000)
    (catalogue_folder() / "cards" / "torn.toml").write_text("[[cards]\n")
    user.bot.waitUntil(lambda: user.window.route._lines[-1]._line.note == "1 cannot be used", timeout=180_000)
    page.parts.choose("cards", "torn")
    assert "not valid TOML" in page._users.text()


def test_a_build_of_somebody_else_shows_its_text_first(demo: Demo, catalogue, qtbot) -> None:
    row = {**plain_row(catalogue.get(Dialect, "merrow")), "id": "theirs", "name": "Theirs"}
    build = edited(demo.build, "copies", [PartCopy(kind="dialects", id="theirs", row=row)])
    store.save(demo.folder, edited(build, "boot.dialect", "theirs"))
    people = at_window(demo.folder, qtbot)
    person = next(people)
    session = person.window.session
    qtbot.waitUntil(lambda: bool(person.window.findChildren(LookDialog)), timeout=180_000)
    dialog = person.window.findChildren(LookDialog)[0]
    assert "merrow.settings" in dialog.findChild(QPlainTextEdit).toPlainText()
    assert "plan.not-looked-at" in person.stops
    person.press("Cancel", dialog)
    page = shelf(person)
    person.press("Review this build's templates", page)
    dialog = person.window.shelf_page().findChildren(LookDialog)[-1]
    dialog.findChild(QCheckBox).setChecked(True)
    person.press("Use it", dialog)
    qtbot.waitUntil(lambda: not session.parts.waiting, timeout=180_000)
    assert "plan.not-looked-at" not in person.stops
    assert next(people, None) is None


def test_a_broken_display_and_a_tube_by_the_window(user, demo: Demo) -> None:
    page = shelf(user)
    walk = page.start("display_walk", "DisplayWalk")
    user.press("VGA-1", walk)
    assert "gives no EDID" in walk._wrong.text()
    user.press("HDMI-A-2", walk)
    assert "Byte 127" in walk._told.text()
    user.press("A television", walk)
    assert "can destroy it" in walk._told.text()
    user.press("Add to the shelf", walk)
    assert walk._wrong.text().startswith("■")
    for name, text in (("width_mm", "14.8 in"), ("height_mm", "28 parsec"), ("height_mm", "28 cm")):
        typed(user, name, text)
        if text == "28 parsec":
            assert "no unit of length" in walk.form._rows["height_mm"].note.text()
            assert walk.form.editor("height_mm").text() == "28 parsec"
    put_on_shelf(user, "Corner tube")
    assert user.window.session.parts.shelf.get(Display, "corner-tube").height_mm == 280


def test_a_board_from_a_tree_within_an_image(user, demo: Demo, monkeypatch) -> None:
    page = shelf(user)
    walk = page.start("board_walk", "BoardWalk")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_args: (str(demo.image), ""))
    user.press("From a card's image", walk)
    user.bot.waitUntil(walk._trees.isVisible, timeout=180_000)
    walk._trees.setCurrentIndex(walk._trees.findData("cod.dtb"))
    walk._trees.activated.emit(walk._trees.currentIndex())
    assert walk.draft.row["device_tree"] == "cod.dtb"
    before = len(walk._ports())
    user.press("sound out", walk)
    assert walk._ports()[-1]["connector"] == "3.5 mm jack"
    user.click(walk.drawing, walk.drawing.box_of(1).center())
    assert walk._current == 1
    user.press("Remove socket", walk)
    assert len(walk._ports()) == before
    user.press("Back to the shelf", walk)
    user.press("Resume: learn a board", page)
    assert page.stack.currentWidget() is walk


def test_a_dialect_from_a_boot_file_within_an_image(user, demo: Demo, monkeypatch) -> None:
    page = shelf(user)
    walk = page.start("dialect_walk", "DialectWalk")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_args: (str(demo.image), ""))
    user.press("From a card's image", walk)
    user.bot.waitUntil(walk._texts.isVisible, timeout=180_000)
    walk._texts.setCurrentIndex(walk._texts.findData("merrow.settings"))
    walk._texts.activated.emit(walk._texts.currentIndex())
    assert walk.sample.path == "merrow.settings"
    assert "separator “=”" in walk._grammar.text()


def test_a_chooser_and_a_layout_are_learnt_from_folders(user, demo: Demo, monkeypatch) -> None:
    page = shelf(user)
    page.start("set_walk", "ChooserWalk")
    opened(user, monkeypatch, demo.folder / "sets" / "slipway-stick", "Choose a folder…")
    assert page.walk.draft.row["form.archive"] == "archive"
    saved(user, "My chooser")
    assert user.window.session.catalogue.get(Chooser, "my-chooser").manifest == "berth.toml"
    walk = page.start("set_walk", "SetWalk")
    opened(user, monkeypatch, demo.folder / "sets" / "tidepool-2.1", "This build's: tidepool-2.1")
    assert walk.places.value == "machines/{machine}"
    saved(user, "My layout")
    layout = user.window.session.catalogue.get(BareMetal, "my-layout")
    assert [machine.id for machine in layout.machines] == ["elm-l", "elm-s", "rowan-desk"]


def saved(user, name: str) -> None:
    """Name the part of the walk and put it on the shelf."""
    page = user.window.shelf_page()
    page.walk._name.setFocus()
    page.walk._name.selectAll()
    user.bot.keyClicks(page.walk._name, name)
    walk = page.walk
    user.press("Add to the shelf", walk)
    settled(user)
    assert page.walk is not walk, walk._wrong.text()
