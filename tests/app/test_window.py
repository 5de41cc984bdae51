"""The frame: keyboard, themes, scales, undo, jobs, export, errors; and the pages one by one."""

from __future__ import annotations

import random
from dataclasses import replace
from functools import reduce
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QImage
from PyQt6.QtTest import QAbstractItemModelTester
from PyQt6.QtWidgets import QApplication, QDialog, QFileDialog, QLabel, QLineEdit, QPushButton, QWidget

from kyklon.app.pages.assembly.page import SUMS
from kyklon.app.pages.library.game_table import GameModel
from kyklon.app.session.jobs import Jobs
from kyklon.app.session.session import Session, load
from kyklon.app.shell.actions import ACTIONS, HelpDialog
from kyklon.app.theme.tokens import DARK, DARK_CONTRAST, LIGHT, LIGHT_CONTRAST, SIZES, Palette, Theme
from kyklon.app.widgets.basic import button
from kyklon.app.widgets.plot import ticks
from kyklon.base.errors import KyklonError, WrongUse
from kyklon.catalogue import loader
from kyklon.model.build import edited
from kyklon.operations.registry import OPERATIONS
from kyklon.operations.tuning.cascade import LAYERS
from kyklon.record import folder as store
from support import Demo

NUMBERS = tuple(operation.number for operation in OPERATIONS)


def test_every_operation_has_a_page_and_a_key(user) -> None:
    for operation in OPERATIONS:
        page = user.open(operation.number)
        assert type(page).__name__ == operation.page[1]
        assert page.instrument() is not None


def test_an_edit_is_inspected_at_once(user) -> None:
    session = user.window.session
    for number in NUMBERS:
        user.open(number)
    told: list[int] = []
    session.changed.connect(lambda: told.append(1))
    for country in ("NL", "BE", "FR", "DE", "GB"):
        session.edit("boot.country", country)
    assert len(told) == 5  # one round of inspection an edit; benchmarks/window.py measures how long that takes
    assert user.saved.boot.country == "GB"


def test_everything_that_takes_the_keyboard_has_a_name(user) -> None:
    for number in (*NUMBERS, 0):
        user.window.open_operation(number)
        for widget in user.window.findChildren(QWidget):
            if widget.focusPolicy() & Qt.FocusPolicy.TabFocus and widget.isVisible():
                named = widget.accessibleName() or getattr(widget, "text", lambda: "")() or widget.toolTip()
                helper = (
                    type(widget).__name__ in ("QScrollArea", "QTabBar", "QLineEdit") and widget.parent() is not None
                )
                assert named or helper, (number, type(widget).__name__)


def contrast(a: str, b: str) -> float:
    """WCAG 2.1, contrast ratio of two colours."""

    def luminance(name: str) -> float:
        parts = [QColor(name).redF(), QColor(name).greenF(), QColor(name).blueF()]
        linear = [p / 12.92 if p <= 0.03928 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    light, dark = sorted((luminance(a), luminance(b)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


@pytest.mark.parametrize(("palette", "least"), [(LIGHT, 4.5), (DARK, 4.5), (LIGHT_CONTRAST, 7.0), (DARK_CONTRAST, 7.0)])
def test_text_is_readable_on_every_paper(palette: Palette, least: float) -> None:
    """WCAG 2.1, 1.4.3 (4.5 to 1) and 1.4.6 (7 to 1); lines that carry meaning 3 to 1 (1.4.11) with more contrast."""
    for paper in (palette.ground, palette.sheet, palette.field):
        for ink in (palette.ink, palette.muted, palette.teal, palette.amber, palette.red):
            assert contrast(ink, paper) >= least, (ink, paper)
        assert least < 7 or min(contrast(palette.hairline, paper), contrast(palette.grid, paper)) >= 3
    assert contrast(palette.on_teal, palette.teal) >= least
    for soft, ink in (
        (palette.teal_soft, palette.ink),
        (palette.red_soft, palette.ink),
        (palette.amber_soft, palette.ink),
    ):
        assert contrast(ink, soft) >= least


def test_nothing_is_smaller_than_12_px() -> None:
    assert min(SIZES.values()) >= 12


def test_names_from_outside_are_never_markup(user, demo: Demo) -> None:
    facts = demo.target("photo-stick").facts
    evil = "<b>BOLD</b><img src=x>"
    demo.drives.change("sim:photo-stick", facts=replace(facts, labels=(evil,), name="<i>stick"))
    page = user.open(20)
    user.press("Rescan")
    user.wait()
    line = user.line(page, "<i>stick")
    assert evil not in line.toolTip()  # escaped there, since a tip may be markup
    assert "&lt;b&gt;BOLD" in line.toolTip()
    user.click(line)
    user.wait()
    for label in user.window.findChildren(QLabel):
        assert label.textFormat() == Qt.TextFormat.PlainText, label.text()


def test_the_window_fits_its_screen_with_its_frame(user) -> None:
    window = user.window
    window.fit_screen()
    room = window.screen().availableGeometry()
    assert window.width() <= max(window.minimumSizeHint().width(), min(1280, room.width()))
    assert window.height() + window.title_px() <= room.height()
    kept = window.saveGeometry()
    window.resize(900, 600)
    window.fit_screen(kept)
    assert window.height() > 600


@pytest.mark.long(keep=1)
@pytest.mark.parametrize(("dark", "scale"), [(True, 1.0), (False, 1.5), (True, 2.0)])
def test_every_page_paints_in_both_themes_and_all_scales(dark: bool, scale: float, user) -> None:
    theme: Theme = user.window.session.theme
    theme.set_dark(dark)
    theme.set_scale(scale)
    for number in (*NUMBERS, 0):
        user.window.open_operation(number)
        picture = user.window.grab().toImage()
        colors = {
            picture.pixelColor(x, y).name()
            for x in range(0, picture.width(), 40)
            for y in range(0, picture.height(), 40)
        }
        assert theme.color("ground").name() in colors or theme.color("sheet").name() in colors
        assert len(colors) > 3


def test_the_keys_are_listed_under_help(user) -> None:
    seen: list[QDialog] = []
    user.answer(lambda dialog: (seen.append(dialog), dialog.accept()), user.window.guide.show_keys)
    assert isinstance(seen[0], HelpDialog)
    assert len({action.keys for action in ACTIONS}) == len(ACTIONS)


def test_folding_the_findings_away(user) -> None:
    user.front()
    user.bot.keyClick(user.window, Qt.Key.Key_F8)
    assert not user.window.findings.isVisible()
    user.bot.keyClick(user.window, Qt.Key.Key_F8)
    assert user.window.findings.isVisible()


def test_the_verdict_counts_stops_and_cautions(user) -> None:
    stops = len(user.stops)
    assert user.window.top._stops.text() == f"{stops} stops"
    user.open(30)
    user.answer(
        lambda dialog: user.press("Change the build", dialog), lambda: user.press("Preview:", user.window.findings)
    )
    assert user.window.top._stops.text() == f"{stops - 1} stops"


def test_signing_off_and_going_stale(user) -> None:
    user.open(10)
    user.press("Sign off")
    assert [sign.operation for sign in user.window.session.build.sign_offs] == [10]
    assert "Plan signed off" in user.log[0].title
    user.window.session.put("Board", user.window.session.build.with_part("card", "cockle-128"))
    assert "Sign off again" in user.buttons()


@pytest.mark.parametrize("kind", ["pdf", "svg", "png"])
def test_the_drawing_is_exported(kind: str, user, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    user.open(50)
    path = tmp_path / f"drawing.{kind}"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(path), ""))
    user.window.export_instrument()
    user.window.session.flush()
    head = path.read_bytes()[:400]
    assert {"pdf": b"%PDF", "svg": b"<svg", "png": b"\x89PNG"}[kind] in head
    if kind == "png":
        assert QImage(str(path)).width() > 300


def test_another_ending_is_refused(user) -> None:
    user.open(50)
    with pytest.raises(WrongUse, match="pdf"):
        user.window.page(50).instrument().rendered(".docx")


def test_a_failing_job_says_so_and_the_window_lives(user) -> None:
    def work(_watch: object) -> None:
        raise KyklonError("The test's drive is on fire.", do="Put it out.")

    seen: list[str] = []
    user.answer(
        lambda dialog: (seen.append(dialog.text()), dialog.accept()),
        lambda: (user.window.session.jobs.start("Test", work, lambda _r: None), user.wait()),
    )
    assert "Put it out" in seen[0]
    assert "on fire" in user.message


def test_the_window_answers_while_a_job_runs(user) -> None:
    """Events are handled every few milliseconds during a write at full speed."""
    from PyQt6.QtCore import QTimer

    page = user.choose_drive("blank-card")
    user.answer(lambda dialog: user.press("Write to blank-card", dialog), lambda: user.press("Write to blank-card…"))
    ticks: list[int] = []

    def tick() -> None:
        ticks.append(1)

    timer = QTimer()
    timer.timeout.connect(tick)
    timer.start(5)
    user.wait()
    timer.stop()
    assert len(ticks) > 20  # how soon each came is for benchmarks/window.py
    assert page.strip_state() == "written and proven"


# --- pages -----------------------------------------------------------------------------------------------------


def test_choosing_a_part_moves_the_findings(user) -> None:
    page = user.open(10)
    choice = page.map._choices["board"]
    choice.setCurrentIndex(choice.findData("ling"))
    choice.activated.emit(choice.currentIndex())
    assert user.window.session.build.part("board") == "ling"
    assert any(code.startswith("plan.link") for code in user.stops)


def test_typing_a_wrong_value_is_told_and_changes_nothing(user) -> None:
    page = user.open(30)
    before = user.window.session.build
    line = page._form.editors["boot.country"].widget
    line.setText("Holland")
    line.editingFinished.emit()
    assert user.window.session.build == before
    assert "country" in user.message
    assert line.text() == "GB"


def test_moving_a_service_behind_the_front_end(user) -> None:
    page = user.open(30)
    track = page._track
    track.setFocus()
    for _ in range(2):
        user.bot.keyClick(track, Qt.Key.Key_Right)
    user.bot.keyClick(track, Qt.Key.Key_Right, Qt.KeyboardModifier.ControlModifier)
    assert user.window.session.build.boot.services[-1] == "sound"
    codes = [finding.code for finding in user.window.session.findings]
    assert "boot.service-order" in codes


def test_the_boot_view_shows_what_comes_and_what_goes(user) -> None:
    rows = user.open(30).instrument().rows
    signs = {(row.kind, row.text) for row in rows}
    assert ("-", "sound.route = digital") in signs
    assert ("+", "sound.route = analogue") in signs
    assert next(row.label for row in rows if row.text == "kernel.file = merrow-armv8.krn") == "Kernel"


def test_using_the_proposed_mode(user) -> None:
    page = user.open(50)
    user.press("Use this mode for the menu", page)
    assert "picture.out-of-range:menu" not in user.stops
    assert user.window.session.build.picture.menu.name == "CTA 8"


def test_another_mode_by_its_name(user) -> None:
    page = user.open(50).ranges
    user.bot.keyClicks(page._other, "cta 23")
    user.bot.keyClick(page._other, Qt.Key.Key_Return)
    assert user.window.session.build.picture.menu.timing.clock_hz == 27_000_000
    assert "picture.out-of-range:menu" not in user.stops
    user.bot.keyClicks(page._other, "cta 16")
    user.bot.keyClick(page._other, Qt.Key.Key_Return)
    assert "picture.out-of-range:menu" in user.stops
    before = user.window.session.build
    user.bot.keyClicks(page._other, "cga 4")
    user.bot.keyClick(page._other, Qt.Key.Key_Return)
    assert user.window.session.build == before
    assert "not a timing" in user.message


def test_setting_a_value_in_the_cascade(user) -> None:
    page = user.open(70)
    page.set_value("frames-ahead", LAYERS.index("system"), 3)
    assert user.window.session.build.tuning.systems["birch-16"]["frames-ahead"] == 3
    assert any(finding.code == "tuning.frames-ahead:birch-16" for finding in user.window.session.findings)
    page.set_value("frames-ahead", LAYERS.index("system"), None)
    assert "birch-16" not in user.window.session.build.tuning.systems


def test_the_led_calculator(user) -> None:
    page = user.open(80)
    page.show_view(SUMS)
    page = page.sums
    page._volts.setValue(12.0)
    assert ("Resistor, E24", "1000\u202fΩ") in page._led.rows
    page._volts.setValue(1.5)
    assert page._led.rows == (("Resistor", "voltage too low"),)


def test_own_entries_and_searching_the_logbook(user) -> None:
    user.window.search_logbook()
    page = user.window.logbook_page()
    user.bot.keyClicks(page._own, "The left joystick sticks")
    user.bot.keyClick(page._own, Qt.Key.Key_Return)
    page._words.setText("joystick sticks")
    user.bot.waitUntil(lambda: len(page.model.rows) == 1, timeout=180_000)
    page._words.setText("no such words")
    user.bot.waitUntil(lambda: page.model.rows == [], timeout=180_000)


def test_the_checksum_dialog_takes_a_sha256_only(user, demo: Demo) -> None:
    user.open(20)

    def paste(dialog: QDialog) -> None:
        edit = dialog.findChild(QLineEdit)
        edit.setText("not a checksum")
        assert not user.buttons(dialog)["Use it"].isEnabled()
        edit.setText("AB" * 32 + "  quayside.img.xz")
        user.press("Use it", dialog)

    user.answer(paste, lambda: user.press("Checksum…"))
    assert user.saved.source.sha256 == "ab" * 32


def test_the_game_table_is_a_proper_model(user) -> None:
    model = GameModel()
    QAbstractItemModelTester(model, QAbstractItemModelTester.FailureReportingMode.Fatal)
    model.set_games(user.window.session.world.scan.games)
    assert model.rowCount() == len(user.window.session.world.scan.games)
    model.set_games(())
    assert model.rowCount() == 0


def test_clicking_a_spine_tells_of_the_game(user) -> None:
    page = user.open(60)
    shelf = page.instrument()
    shelf.grab()
    spine, game = next(pair for pair in shelf._spines if not pair[1].ready)
    user.click(shelf, spine.center())
    assert game.title in page.shelves._why.full


def test_round_ticks() -> None:
    assert ticks(0, 10, 5) == (0, 2, 4, 6, 8, 10)
    assert all(value % 5 == 0 for value in ticks(13.2, 36.4, 5))


def test_a_build_damaged_on_disk_opens_its_predecessor(demo: Demo, qtbot) -> None:
    from kyklon.app.start import open_window
    from kyklon.record import folder as store

    store.save(demo.folder, demo.build)
    (demo.folder / store.CURRENT).write_text("{", encoding="utf-8")
    window = open_window(demo.folder, Theme())
    qtbot.addWidget(window)
    assert "damaged" in window.bottom.message
    assert (demo.folder / "build.json.damaged").exists()
    assert QApplication.instance() is not None


def test_an_ampersand_in_a_name_is_shown_and_is_no_key(user) -> None:
    made = button("Write to Salt & Pepper…", lambda: None)
    assert made.text() == "Write to Salt & Pepper…"
    assert QPushButton.text(made) == "Write to Salt && Pepper…"  # Qt shows two as one
    assert made.shortcut().isEmpty()
    made.setText("Unmount A&B")
    assert made.text() == "Unmount A&B"
    assert made.shortcut().isEmpty()


# --- two at one build ----------------------------------------------------------------------------------------------


def elsewhere(folder: Path, path: str, value: str) -> None:
    """What another program does to the build meanwhile."""
    there = store.load(folder).build
    store.save_since(folder, there, edited(there, path, value))


@pytest.mark.parametrize("seed", range(12))
def test_a_command_and_a_window_at_once_keep_each_others_edits(seed: int, demo: Demo, qapp: QApplication) -> None:
    """Whatever comes in between, and with the window closed at any moment: events wait, looks and saves overlap."""
    chance = random.Random(seed)
    session = Session(load(demo.folder, loader.load()), Jobs(), Theme())
    mine, theirs = ["boot.hostname", "boot.country", "library.destination"], ["boot.user", "name", "library.pictures"]
    wanted: dict[str, str] = {}
    for number in range(chance.randrange(4, 12)):
        act = chance.randrange(5)
        if act == 0:
            path = chance.choice(mine)
            wanted[path] = chance.choice(("NL", "BE", "FR")) if "country" in path else f"w{number}"
            session.edit(path, wanted[path])
        elif act == 1:
            path = chance.choice(theirs)
            wanted[path] = f"c{number}"
            elsewhere(demo.folder, path, wanted[path])
        elif act == 2:
            session._keeper.look()
        elif act == 3:
            session.flush()
        else:
            qapp.processEvents()
    session.end()
    build = demo.build
    assert {path: reduce(getattr, path.split("."), build) for path in wanted} == wanted


def test_what_cannot_be_saved_is_said_until_it_is(user, monkeypatch) -> None:
    """A folder that takes nothing: the window says so in shape, word and tip; then it is saved by itself."""
    session = user.window.session
    with monkeypatch.context() as broken:
        full = OSError(28, "No space left on device")
        broken.setattr(store.durable, "replace", lambda *_a: (_ for _ in ()).throw(full))
        session.edit("boot.hostname", "unsaved")
        session.flush()
        user.bot.waitUntil(lambda: bool(session.not_saved), timeout=180_000)
        assert user.window.bottom._saved.text() == "Not saved"
        assert user.window.bottom._unsaved.isVisible()
        assert "No space left" in user.window.bottom._saved.toolTip()
        assert session.unsaved is not None
    session.edit("boot.country", "NL")
    assert (user.saved.boot.hostname, user.saved.boot.country) == ("unsaved", "NL")
    user.bot.waitUntil(lambda: not session.not_saved, timeout=180_000)
    assert user.window.bottom._saved.text().startswith("Saved")
