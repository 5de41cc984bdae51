"""The whole chain by window alone, as a new user would go."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QLineEdit

from kyklon.app.pages.card.page import LossDialog
from kyklon.app.pages.library.page import TRANSFER
from kyklon.app.pages.poweron.page import STEPS, PowerOnPage
from kyklon.devices.simulated.drives import Faults
from kyklon.model.build import CardState
from support import Demo

FAULTS = [
    "boot.kernel-set",
    "controls.encoder-quirk",
    "picture.out-of-range:menu",
    "library.system-file-name:cedar-disc",
]


def test_the_faults_are_seen_before_anything_is_written(user) -> None:
    assert user.stops == FAULTS
    assert user.window.number == 30  # it opens where the first thing is to do
    assert "merrow-armv7.krn" in user.window.top.next_sentence
    assert user.window.session.build.card.state is CardState.NEVER
    for number, word in ((30, "merrow-armv8.krn"), (40, "two players"), (50, "31.47"), (60, "wrong name")):
        user.open(number)
        titles = [finding.title for finding in user.window.session.findings if finding.operation == number]
        assert any(word in title for title in titles)
        assert user.sees("Preview:", user.window.findings)


def test_the_whole_chain_by_window(user, demo: Demo) -> None:
    session = user.window.session
    page = user.write_card("blank-card")
    assert session.build.card.state is CardState.PROVEN
    assert user.saved.card.state is CardState.PROVEN
    assert page.strip_state().startswith("written and proven")
    assert "Card written and proven" in user.message

    user.press("Run bring-up")
    user.wait(lambda: session.bring_up is not None)
    power = user.window.page(90)
    assert isinstance(power, PowerOnPage)
    assert session.bring_up.failure.code == "boot.kernel-set"
    assert user.mend_everything() == [FAULTS[0], FAULTS[2], FAULTS[1], FAULTS[3]]
    assert user.stops == []

    user.open(60).show_view(TRANSFER)
    user.wait()
    user.press("Copy 2", user.window.page(60))
    user.wait()
    assert "games copied" in user.message
    user.press("Run bring-up")
    user.wait(lambda: session.bring_up_current)
    assert session.bring_up.failure is None
    assert session.bring_up.reached == "front end"
    assert sum(map(len, session.bring_up.games.values())) == len(session.world.scan.ready)
    assert "Switch on" in user.window.top.next_sentence
    titles = [entry.title for entry in user.log]
    assert sum(title.startswith("Remedy:") for title in titles) == 4
    assert "Bring-up reached: front end" in titles


def test_a_bring_up_without_a_card_leads_to_the_card(user) -> None:
    user.window.session.run_bring_up()
    user.wait(lambda: user.window.session.bring_up is not None)
    page = user.open(90)
    user.press("Go to Card", page)
    assert user.window.number == 20


def test_a_preview_that_is_left_changes_nothing(user) -> None:
    before = user.window.session.build
    user.open(30)

    def leave(dialog: QDialog) -> None:
        user.press("Cancel", dialog)

    user.answer(leave, lambda: user.press("Preview:", user.window.findings))
    assert user.window.session.build == before


def test_a_remedy_is_one_step_of_undo(user) -> None:
    user.open(30)
    user.answer(
        lambda dialog: user.press("Change the build", dialog), lambda: user.press("Preview:", user.window.findings)
    )
    assert "boot.kernel-set" not in user.stops
    user.front()
    user.bot.keyClick(user.window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert "boot.kernel-set" in user.stops
    user.press("Redo")
    assert "boot.kernel-set" not in user.stops


def test_ticks_are_signed_off_to_the_logbook(user, demo: Demo) -> None:
    page = user.open(90)
    page.show_view(STEPS)
    box = page.steps.tick_of("power")
    box.click()
    assert [tick.item for tick in user.saved.ticks] == ["power"]
    assert "Checked" in user.log[0].title
    box.click()
    assert user.saved.ticks == ()


# --- careless paths ----------------------------------------------------------------------------------------------


def untouched(demo: Demo, name: str) -> bytes:
    path = demo.drive(name)
    return path.read_bytes() if path.exists() else b""


def test_the_system_disk_cannot_be_chosen_at_all(user, demo: Demo) -> None:
    before = untouched(demo, "system-disk")
    page = user.choose_drive("system-disk")
    assert not page.choose_drive("sim:system-disk")
    line = user.line(page, "system-disk")
    user.bot.keyClick(line, Qt.Key.Key_Return)
    user.bot.mouseDClick(line, Qt.MouseButton.LeftButton)
    assert not page.write_button.isEnabled()
    assert page.write_button.text() == "Choose a drive"
    assert "running system" in line.words
    assert untouched(demo, "system-disk") == before


def test_other_refused_drives_cannot_be_chosen_either(user) -> None:
    for name, reason in (("locked-card", "write-protect switch"), ("small-card", "needs")):
        page = user.choose_drive(name)
        assert not page.write_button.isEnabled()
        line = user.line(page, name)
        assert reason in line.words


def test_the_stick_with_photos_survives_every_careless_path(user, demo: Demo) -> None:
    before = untouched(demo, "photo-stick")

    def by_enter(dialog: QDialog) -> None:
        assert isinstance(dialog, LossDialog)
        assert not dialog.write.isEnabled()
        user.bot.keyClick(dialog, Qt.Key.Key_Return)

    def by_escape(dialog: QDialog) -> None:
        user.bot.keyClick(dialog, Qt.Key.Key_Escape)

    def by_wrong_words(dialog: QDialog) -> None:
        edit = dialog.findChild(QLineEdit)
        for words in ("yes", "photo-stick", "holiday 24", "HOLIDAY", "HOLIDAY 24 "):
            edit.clear()
            user.bot.keyClicks(edit, words)
            assert not dialog.write.isEnabled()
            user.bot.mouseClick(dialog.write, Qt.MouseButton.LeftButton)
            assert dialog.isVisible()
        user.bot.keyClick(edit, Qt.Key.Key_Escape)

    def by_enter_in_the_field(dialog: QDialog) -> None:
        edit = dialog.findChild(QLineEdit)
        user.bot.keyClicks(edit, "y")
        user.bot.keyClick(edit, Qt.Key.Key_Return)

    for path in (by_enter, by_escape, by_wrong_words, by_enter_in_the_field):
        user.choose_drive("photo-stick")
        user.answer(path, lambda: user.press("Write to photo-stick…"))
        user.wait()
        assert untouched(demo, "photo-stick") == before
        assert user.saved.card.state is CardState.NEVER


def test_the_dialog_says_what_would_be_lost(user) -> None:
    user.choose_drive("photo-stick")
    seen: list[str] = []

    def read(dialog: QDialog) -> None:
        from PyQt6.QtWidgets import QLabel

        seen.extend(label.text() for label in dialog.findChildren(QLabel))
        dialog.reject()

    user.answer(read, lambda: user.press("Write to photo-stick…"))
    told = " ".join(seen)
    for words in ("48 photos", "HOLIDAY 24", "15.7", "2024-08-29"):
        assert words in told


def test_named_rightly_the_stick_is_written(user, demo: Demo) -> None:
    user.choose_drive("photo-stick")

    def name_it(dialog: QDialog) -> None:
        user.bot.keyClicks(dialog.findChild(QLineEdit), "HOLIDAY 24")
        user.press("Overwrite photo-stick", dialog)

    user.answer(name_it, lambda: user.press("Write to photo-stick…"))
    user.wait()
    assert user.saved.card.state is CardState.PROVEN


def test_cancelling_a_write_by_its_button(user, demo: Demo) -> None:
    demo.drives.change("sim:blank-card", faults=Faults(rate=40 << 20))
    page = user.choose_drive("blank-card")
    session = user.window.session
    user.answer(lambda dialog: user.press("Write to blank-card", dialog), lambda: user.press("Write to blank-card…"))
    user.bot.waitUntil(lambda: any(job.progress and job.progress.done for job in session.jobs.running), timeout=180_000)
    assert page.strip_state().startswith("being written")
    assert "card.not-bootable" not in user.stops
    user.press("Cancel", user.window.bottom)
    user.wait()
    assert user.saved.card.state is CardState.CANCELLED
    assert page.strip_state() == "cancelled: not bootable"
    assert "card.not-bootable" in user.stops
    session.run_bring_up()
    user.wait(lambda: session.bring_up is not None)
    assert session.bring_up.failure.stage == "partition table"


def test_a_card_that_comes_loose_is_told(user, demo: Demo) -> None:
    user.choose_drive("loose-card")
    user.answer(lambda dialog: user.press("Write to loose-card", dialog), lambda: user.press("Write to loose-card…"))
    user.wait()
    assert user.saved.card.state is CardState.FAILED
    assert "was disconnected" in user.message
