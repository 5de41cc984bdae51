"""The logbook's page, driven as a user would."""

from __future__ import annotations

from pathlib import Path

from PIL import Image
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication, QDialog

from conftest import User
from kyklon.app.pages.logbook.class_dialog import ClassDialog
from kyklon.app.pages.logbook.entry_list import PIECE
from kyklon.app.pages.logbook.page import LogbookPage, RestoreDialog
from kyklon.app.shell.route_card import LOGBOOK
from kyklon.record import archive
from kyklon.record.logbook import Logbook, Noted

WAIT = 180_000


def opened(user: User) -> LogbookPage:
    user.window.open_operation(LOGBOOK)
    page = user.window.logbook_page()
    user.bot.waitUntil(lambda: bool(page.model.rows), timeout=WAIT)
    return page


def choose(page: LogbookPage, *rows: int) -> None:
    page.list.choose(list(rows))


def test_edits_write_themselves_and_are_gone_back_to(user: User) -> None:
    session = user.window.session
    first = session.build.boot.country
    session.edit("boot.country", "NL")
    session.edit("boot.country", "FR")  # typed on: one entry
    session.note_edits()
    session.edit("system.keyboard", "de")
    page = opened(user)
    session.note_edits()
    user.bot.waitUntil(lambda: page.model.rows[0].title == "Keyboard: none → de", timeout=WAIT)
    assert page.model.rows[1].title == f"Wi-Fi country: {first} → FR"
    choose(page, 1)
    user.bot.waitUntil(lambda: "Keyboard: none → de" in page._lines.toPlainText(), timeout=WAIT)
    choose(page, 0, 2)
    user.bot.waitUntil(lambda: "Wi-Fi country" in page._lines.toPlainText(), timeout=WAIT)
    assert not page._restore.isEnabled()
    choose(page, 2)
    seen: list[bool] = []

    def accept() -> None:
        dialog = QApplication.activeModalWidget()
        if not isinstance(dialog, RestoreDialog):
            QTimer.singleShot(30, accept)
            return
        seen.append(isinstance(dialog, QDialog))
        dialog.accept()

    QTimer.singleShot(30, accept)
    page.ask_restore()
    user.bot.waitUntil(lambda: session.build.boot.country == first, timeout=WAIT)
    assert seen
    assert session.build.system.keyboard == ""
    session.flush()
    session.undo()  # restoring is one step of undo
    assert (session.build.boot.country, session.build.system.keyboard) == ("FR", "de")
    session.note_edits()
    session.flush()
    assert Logbook(session.folder).verify().wrong == ()


def test_a_photo_and_a_value_are_added_and_a_long_book_comes_in_pieces(user: User, tmp_path: Path) -> None:
    session = user.window.session
    book = Logbook(session.folder)
    for number in range(PIECE + 30):
        book.add(0, f"entry {number}")
    session.acted()
    page = opened(user)
    user.bot.waitUntil(lambda: len(page.model.rows) >= PIECE, timeout=WAIT)
    assert len(page.model.rows) == PIECE
    page.list.scrollToBottom()
    user.bot.waitUntil(lambda: len(page.model.rows) > PIECE, timeout=WAIT)
    Image.new("RGB", (300, 200), "red").save(tmp_path / "panel.jpg")
    page.attach([tmp_path / "panel.jpg"])
    page._own.setText("Rail measured")
    page._value.setText("5 V rail=4,71 V")
    page._spent.setText("40min")
    page._own.returnPressed.emit()
    user.bot.waitUntil(lambda: page.model.rows[0].title == "Rail measured", timeout=WAIT)
    entry = page.model.rows[0]
    assert entry.noted == Noted("5 V rail", 4.71, "V", 0.0, 40.0)
    assert (session.folder / entry.files[0].path).is_file()
    choose(page, 0)
    assert page._opened.count() == 1
    assert "4.71 V" in page.plot.accessibleDescription()
    assert "40\u202fmin" in page._figures.text()
    page._value.setText("nonsense")
    page._own.setText("kept in the field")
    page._on_add_clicked()
    assert page._own.text() == "kept in the field"


def test_book_archive_and_class_from_the_page(user: User, tmp_path: Path) -> None:
    page = opened(user)
    jobs = user.window.session.jobs
    page.write_book(tmp_path / "book.pdf")
    user.bot.waitUntil(lambda: (tmp_path / "book.pdf").exists(), timeout=WAIT)
    page.write_book(tmp_path / "card.pdf", card=True)
    user.bot.waitUntil(lambda: (tmp_path / "card.pdf").exists(), timeout=WAIT)
    assert (tmp_path / "book.pdf").stat().st_size > (tmp_path / "card.pdf").stat().st_size
    page.write_archive(tmp_path / "table.tar")
    user.bot.waitUntil(lambda: (tmp_path / "table.tar").exists() and not jobs.running, timeout=WAIT)
    assert archive.check(tmp_path / "table.tar") == ()
    dialog = ClassDialog(user.window.session, user.window)
    assert dialog.asked
    dialog._seat_name.setText("Bench 1")
    dialog.add_seat()
    place = next(number for number, each in enumerate(dialog.asked) if each.key == "assembly.resistor")
    dialog.show_question(place)
    dialog.answer.setText("lots")
    dialog.give()
    assert dialog.room.seats == {"Bench 1": {}}
    dialog.answer.setText("130")
    dialog.give()
    assert dialog._said.text().startswith("Right")
    assert "Bench 1: 1 of" in dialog.grid.accessibleDescription()
    dialog.write_sheets(tmp_path / "class.pdf")
    user.bot.waitUntil(lambda: (tmp_path / "class.pdf").exists(), timeout=WAIT)
    dialog.write_results(tmp_path / "results.pdf")
    user.bot.waitUntil(lambda: (tmp_path / "results.pdf").exists(), timeout=WAIT)
    dialog.close()
