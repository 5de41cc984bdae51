"""The real window on a demo of the test's own, offscreen, with helpers that do what a user does."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt, QTimer
from PyQt6.QtWidgets import QApplication, QComboBox, QDialog, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from kyklon.app.pages.card.drive_list import DriveLine
from kyklon.app.pages.card.page import CardPage
from kyklon.app.shell.findings_panel import RemedyDialog
from kyklon.app.shell.window import Window
from kyklon.app.start import open_window
from kyklon.app.theme.tokens import Theme
from kyklon.model.build import Build
from kyklon.record import folder as store
from kyklon.record.logbook import Entry, Logbook
from support import Demo


class User:
    """What a person does with the window."""

    def __init__(self, window: Window, qtbot: QtBot) -> None:
        self.window, self.bot = window, qtbot

    def wait(self, until: Callable[[], bool] | None = None) -> None:
        """Until no job runs (and the condition holds)."""
        jobs = self.window.session.jobs
        self.bot.waitUntil(lambda: not jobs.running and (until is None or until()), timeout=180_000)

    def buttons(self, place: QWidget | None = None) -> dict[str, QPushButton]:
        found = (place or self.window).findChildren(QPushButton)
        return {button.text(): button for button in found if button.isVisible()}

    def press(self, words: str, place: QWidget | None = None) -> None:
        """Press the visible button whose words begin so."""

        def named() -> str | None:
            return next((text for text in self.buttons(place) if text.startswith(words)), None)

        with contextlib.suppress(TimeoutError):
            self.bot.waitUntil(lambda: named() is not None, timeout=180_000)
        there, name = self.buttons(place), named()
        assert name is not None, f"no button {words!r} among {sorted(there)}"
        assert there[name].isEnabled(), f"{name!r} cannot be pressed"
        self.bot.mouseClick(there[name], Qt.MouseButton.LeftButton)

    def pick(self, place: QWidget, name: str, value: str) -> None:
        """Choose a value in the combo box of that name, as a click in its list does."""
        box = next(each for each in place.findChildren(QComboBox) if each.accessibleName() == name)
        at = box.findData(value)
        assert at >= 0, f"{name} has no {value}"
        box.setCurrentIndex(at)
        box.activated.emit(at)

    def click(self, widget: QWidget, at: QPointF | None = None) -> None:
        spot = at.toPoint() if at is not None else QPoint(widget.width() // 2, widget.height() // 2)
        self.bot.mouseClick(widget, Qt.MouseButton.LeftButton, pos=spot)

    def answer(self, act: Callable[[QDialog], Any], trigger: Callable[[], Any]) -> None:
        """Do something that opens a dialog, and act in it."""
        seen: list[QDialog] = []

        def on_open() -> None:
            dialog = QApplication.activeModalWidget()
            if not isinstance(dialog, QDialog):
                QTimer.singleShot(20, on_open)
                return
            seen.append(dialog)
            try:
                act(dialog)
            except BaseException:
                dialog.reject()  # else its loop would never end
                raise

        QTimer.singleShot(0, on_open)
        trigger()
        self.bot.waitUntil(lambda: bool(seen), timeout=180_000)

    def front(self) -> None:
        """Bring the window to the front, as a click on it does."""
        self.window.activateWindow()
        self.bot.waitUntil(self.window.isActiveWindow, timeout=180_000)

    def sees(self, words: str, place: QWidget | None = None) -> bool:
        """Whether a button with such words comes up."""
        self.bot.waitUntil(lambda: any(text.startswith(words) for text in self.buttons(place)), timeout=180_000)
        return True

    def open(self, number: int) -> Any:
        key = Qt.Key(Qt.Key.Key_0 + (number // 10 if number % 10 == 0 else 0))
        self.front()
        self.bot.keyClick(self.window, key, Qt.KeyboardModifier.AltModifier)
        self.bot.waitUntil(lambda: self.window.number == number, timeout=180_000)
        page = self.window.page(number)
        page.grab()  # paint it once, as a screen would
        return page

    def choose_drive(self, name: str) -> CardPage:
        """Click a drive's line."""
        page = self.open(20)
        assert isinstance(page, CardPage)
        self.click(self.line(page, name))
        return page

    def write_card(self, name: str) -> CardPage:
        """Write the build's image to a drive, and agree to what is lost."""
        page = self.choose_drive(name)
        self.wait()
        words = f"Write to {name}"
        self.answer(lambda dialog: self.press(words, dialog), lambda: self.press(f"{words}…"))
        self.wait()
        return page

    def mend_everything(self) -> list[str]:
        """Run the forecast and take the remedy it offers, in the build and on the card, until nothing fails; what
        failed, in that order."""
        session, order = self.window.session, []
        self.press("Run bring-up")
        self.wait(lambda: session.bring_up is not None)
        power = self.window.page(90)
        while (failure := session.bring_up.failure) is not None and len(order) < 8:
            order.append(failure.code)

            def agree(dialog: QDialog) -> None:
                assert isinstance(dialog, RemedyDialog)
                words = [text for text in self.buttons(dialog) if text.startswith("Change")]
                self.press(words[-1] if len(words) == 1 else "Change the build and the card", dialog)

            self.answer(agree, lambda: self.press("Preview:", power))
            self.wait()
            self.press("Run again", power)
            self.wait(lambda: session.bring_up_current)
        return order

    def line(self, page: CardPage, name: str) -> DriveLine:
        """A drive's line, once the drives are listed."""

        def found() -> list[DriveLine]:
            return [line for line in page._drives.lines if line.accessibleName().startswith(f"{name},")]

        self.bot.waitUntil(lambda: bool(found()), timeout=180_000)
        return found()[0]

    @property
    def saved(self) -> Build:
        """The build as it is on disk once everything is saved."""
        self.window.session.flush()
        return store.load(self.window.session.folder).build

    @property
    def log(self) -> tuple[Entry, ...]:
        """The logbook as it is on disk once everything is saved, the latest first."""
        self.window.session.flush()
        return Logbook(self.window.session.folder).entries()

    @property
    def stops(self) -> list[str]:
        return [finding.code for finding in self.window.session.findings if finding.severity == "stop"]

    @property
    def message(self) -> str:
        return self.window.bottom.message


def at_window(folder: Path, qtbot: QtBot) -> Iterator[User]:
    """A person before the window of a build, once all was looked at."""
    window = open_window(folder, Theme())
    qtbot.addWidget(window)
    window.resize(1280, 800)
    window.show()
    qtbot.waitExposed(window)
    window.activateWindow()
    window.session.look_at_everything()
    person = User(window, qtbot)
    person.wait()
    yield person
    window.session.end()


@pytest.fixture
def user(demo: Demo, qtbot: QtBot) -> Iterator[User]:
    yield from at_window(demo.folder, qtbot)
