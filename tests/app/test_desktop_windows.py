"""The windows around the build: help, this computer, files that a desktop hands over."""

from __future__ import annotations

from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QTextDocument
from pytestqt.qtbot import QtBot

from app.conftest import User
from kyklon.app.pages.shelf.bring_in import BringInDialog
from kyklon.app.pages.shelf.repositories import RepositoriesDialog
from kyklon.app.session.jobs import Jobs
from kyklon.app.shell.doctor_dialog import DoctorDialog
from kyklon.app.shell.help_window import HelpWindow, escaped
from kyklon.app.shell.preferences_dialog import PAPERS, PreferencesDialog
from kyklon.app.shell.start_window import StartWindow
from kyklon.app.theme.tokens import Theme
from kyklon.base import preferences, quantities, tools
from kyklon.base.errors import KyklonError
from kyklon.base.places import catalogue_folder
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Supply
from kyklon.commands import build as commands
from kyklon.commands.main import _run as main
from kyklon.commands.preferences import preferences as preferences_command
from kyklon.operations.upkeep import keys
from kyklon.parts import exchange, repository
from kyklon.record import archive, builds
from support import Demo

WAIT = 60_000


def test_f1_explains_the_open_page_with_its_own_drawing(user: User, qtbot: QtBot) -> None:
    window = user.window
    window.open_operation(50)
    qtbot.keyClick(window, Qt.Key.Key_F1)
    help_window = window.guide.help
    assert help_window is not None
    assert help_window.isVisible()
    assert help_window.text.startswith("50 Picture")
    image = window.guide.drawing_of("picture")
    assert image is not None
    assert image.width() > 200
    window.open_operation(20)
    qtbot.keyClick(window, Qt.Key.Key_F1)
    assert help_window.text.startswith("20 Card")
    qtbot.keyClicks(help_window.search, "overscan")
    assert any("Glossary" in help_window.contents.item(row).text() for row in range(help_window.contents.count()))
    qtbot.keyClick(help_window.search, Qt.Key.Key_Return)
    assert "50 Picture" in help_window.text
    help_window.activateWindow()
    qtbot.waitUntil(help_window.isActiveWindow, timeout=WAIT)
    qtbot.keyClick(help_window, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: not help_window.isVisible(), timeout=WAIT)


def test_a_finding_leads_to_its_page(user: User) -> None:
    stop = next(finding for finding in user.window.session.findings if finding.severity == "stop")
    user.window.guide.show_help(stop.code)
    assert user.window.guide.help is not None
    told = user.window.guide.help.text
    assert told.startswith(stop.code.partition(":")[0])
    assert stop.message.split(".")[0] in told


@pytest.mark.parametrize(
    "text",
    ["![x](http://h/p.png)", "<img src='file:///etc/passwd'>", "# Big", "[a](b)", "**a** _b_ `c`", "1. x", "| a |"],
)
def test_what_a_build_says_is_text_and_nothing_else(qtbot: QtBot, text: str) -> None:
    made = QTextDocument()
    made.setMarkdown(f"Here: {escaped(text)}")
    assert made.toPlainText().strip() == f"Here: {text}"
    assert made.blockCount() == 1
    window = HelpWindow(Theme(dark=False, scale=1.0), lambda _topic: None)
    qtbot.addWidget(window)
    window.show_topic("boot.country", text)
    assert text in window.text


def test_this_computer_shows_what_lacks_and_the_line(qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    real = tools.where
    monkeypatch.setattr(tools, "where", lambda name: None if name == "mcopy" else real(name))
    dialog = DoctorDialog(Theme(dark=False, scale=1.0), Jobs(), None)
    qtbot.addWidget(dialog)
    qtbot.waitUntil(lambda: bool(dialog._checks), timeout=WAIT)
    assert "cannot do its work" in dialog._conclusion.text()
    assert "mtools" in dialog._type.toPlainText() or not dialog._type.toPlainText()
    monkeypatch.setattr(tools, "where", real)
    dialog._checks = ()
    dialog.look()
    qtbot.waitUntil(lambda: bool(dialog._checks), timeout=WAIT)
    assert "cannot do its work" not in dialog._conclusion.text()


def test_a_desktop_may_hand_over_any_file_of_ours(
    demo: Demo, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """build.json, a folder, an archive, twice; what is no file of ours is refused by name."""
    opened: list[object] = []

    def window(place: object) -> int:
        opened.append(place if isinstance(place, Path) else place(commands.Watch(lambda _p: None)))  # type: ignore[operator]
        return 0

    monkeypatch.setattr(commands, "_window", window)
    packed = tmp_path / "away" / "table.kyklon.tar"
    packed.parent.mkdir()
    archive.make(demo.folder, packed)
    for path in (demo.folder, demo.folder / "build.json", packed):
        assert main(["open", str(path)]) == 0
    assert opened == [demo.folder, demo.folder, tmp_path / "away" / "table"]
    assert tmp_path / "away" / "table" in builds.known()
    assert main(["open", str(packed)]) == 2  # it is there already
    assert "not empty" in capsys.readouterr().err
    (tmp_path / "x.txt").write_text("x", encoding="utf-8")
    assert main(["open", str(tmp_path / "x.txt")]) == 2
    assert "x.txt is no file of Kyklon's" in capsys.readouterr().err


def test_an_archive_where_nothing_can_be_written_says_so(demo: Demo, tmp_path: Path) -> None:
    packed = tmp_path / "a.kyklon.tar"
    archive.make(demo.folder, packed)
    (tmp_path / "file").write_text("", encoding="utf-8")
    with pytest.raises(KyklonError, match="cannot be made"):
        archive.open_into(packed, tmp_path / "file" / "below")


def test_a_file_of_parts_is_shown_before_it_goes_onto_the_shelf(
    qtbot: QtBot, tmp_path: Path, catalogue: Catalogue, monkeypatch: pytest.MonkeyPatch
) -> None:
    supply = catalogue.all(Supply)[0]
    text = exchange.exported("supplies", supply.id, catalogue).replace(f'id = "{supply.id}"', 'id = "handed-over"')
    path = tmp_path / "handed.kyklon.toml"
    path.write_text(text, encoding="utf-8")
    page = StartWindow(Theme(dark=False, scale=1.0), catalogue)
    qtbot.addWidget(page)
    asked: list[str] = []

    class Asked:
        def __init__(self, name: str, found: tuple[exchange.Incoming, ...], *_rest: object) -> None:
            asked.extend(incoming.part.id for incoming in found)

        def exec(self) -> bool:
            return True

    page.show_help()
    assert page._help is not None
    assert page._help.text.startswith("A new machine")
    monkeypatch.setattr("kyklon.app.shell.start_window.BringInDialog", Asked)
    page.bring_in(path)
    qtbot.waitUntil(lambda: "is on your shelf" in page._said.text(), timeout=WAIT)
    assert asked == ["handed-over"]
    assert list(catalogue_folder().rglob("*.toml"))
    (tmp_path / "bad.toml").write_bytes(b"\xff\xfe[[x")
    page.bring_in(tmp_path / "bad.toml")
    qtbot.waitUntil(lambda: "bad.toml" in page._said.text(), timeout=WAIT)


def test_shared_parts_are_added_by_key_and_taken_one_by_one(
    user: User, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, catalogue: Catalogue
) -> None:
    supply = catalogue.all(Supply)[0]
    text = exchange.exported("supplies", supply.id, catalogue).replace(f'id = "{supply.id}"', 'id = "club-supply"')
    place = tmp_path / "club"
    (place / "parts/supplies").mkdir(parents=True)
    (place / "parts/supplies/club-supply.kyklon.toml").write_text(text, encoding="utf-8")
    repository.make(place, "Club", catalogue)
    print_ = repository.sign(place, keys.make(tmp_path / "key").path)
    dialog = RepositoriesDialog(user.window.session, user.window)
    qtbot.addWidget(dialog)
    dialog.show()
    user.wait()
    dialog.folder.setText(str(place))
    user.press("Add", dialog)
    user.wait()
    assert print_ in dialog._said.text()  # whose key is it?
    dialog.key.setText(print_)
    user.press("Add", dialog)
    user.wait(lambda: dialog.list.count() == 1)
    assert "new" in dialog.list.item(0).text()

    class Agreed(BringInDialog):
        def exec(self) -> int:
            return 1

    monkeypatch.setattr("kyklon.app.pages.shelf.repositories.BringInDialog", Agreed)
    user.press("Review and take…", dialog)
    user.wait(lambda: "club-supply" in user.window.session.parts.shelf.parts["supplies"])
    user.wait(lambda: "everything" in dialog.list.item(0).text())
    user.press("Forget", dialog)
    user.wait(lambda: "None was added" in dialog._known.text())


def test_preferences_take_effect_at_once_and_are_kept(user: User) -> None:
    """Colours, text size, a currency for every build; a sign that is none says what to write."""
    window, theme = user.window, user.window.session.theme

    def use(dialog: PreferencesDialog) -> None:
        dialog.paper.set_choices(PAPERS, "dark")
        dialog.paper.activated.emit(dialog.paper.currentIndex())
        assert (theme.dark, theme.own) == (True, True)
        dialog.paper.setCurrentIndex(0)
        dialog.paper.activated.emit(0)
        assert not theme.own, "as the desktop has it"
        dialog.sign.setText("9 kr")
        dialog.sign.editingFinished.emit()
        assert "such as" in dialog._wrong.text()
        dialog.sign.setText("kr")
        dialog.sign.editingFinished.emit()
        assert not dialog._wrong.isVisible()
        dialog.accept()

    try:
        user.answer(use, window.guide.show_preferences)
        assert quantities.show_money(12) == "12\u202fkr"
        assert preferences.currency() == "kr"
        assert preferences_command() == 0
        for damaged in (b"\xff\xfe", b"currency = 7\n", b'currency = "9"\n', b"currency"):
            preferences.file().write_bytes(damaged)
            assert preferences.currency() == ""
    finally:
        preferences.file().unlink(missing_ok=True)
        quantities.currency.cache_clear()
