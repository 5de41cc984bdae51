"""The chain from the first page to the passed forecast by keys alone: Tab, Space, Return, arrows and shortcuts."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QComboBox, QDialog, QLineEdit, QTabBar, QWidget

from app.conftest import User
from kyklon.app.pages.card.page import CardPage
from kyklon.model.build import CardState
from support import Demo

MOST = 400  # presses of Tab: more than any page has places to stop


class Typist:
    """Somebody without a mouse. stops: what the focus was on, with the name that a reader would hear."""

    def __init__(self, user: User) -> None:
        self.user = user
        self.stops: list[tuple[QWidget, str]] = []

    @property
    def focus(self) -> QWidget:
        """Keys go to the window itself where what had the focus is gone."""
        if QApplication.activeWindow() is None:  # there is no window manager here to give it back after a dialog
            self.user.front()
        return QApplication.focusWidget() or QApplication.activeWindow() or self.user.window

    def press(self, key: Qt.Key, shift: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        self.user.bot.keyClick(self.focus, key, shift)
        QApplication.processEvents()  # a hand is slower: what was queued is done before the next key

    def tab_to(self, words: str) -> QWidget:
        """Press Tab until what has the focus is called so."""
        seen: list[str] = []
        for _ in range(MOST):
            name = heard(self.focus)
            self.stops.append((self.focus, name))
            if name.startswith(words) and self.focus.isEnabled():
                return self.focus
            seen.append(name)
            self.press(Qt.Key.Key_Tab)
        raise AssertionError(f"Tab never comes to {words!r}: {list(dict.fromkeys(seen))}")

    def push(self, words: str) -> None:
        self.tab_to(words)
        self.press(Qt.Key.Key_Space)

    def in_dialog(self, words: str, opened_by: str) -> None:
        """Open a dialog by a button, and press one of its own, both by keys."""

        def act(dialog: QDialog) -> None:
            dialog.activateWindow()
            self.user.bot.waitUntil(dialog.isActiveWindow, timeout=60_000)
            if QApplication.focusWidget() is None:
                dialog.setFocus()
            self.push(words)

        self.tab_to(opened_by)
        self.user.answer(act, lambda: self.press(Qt.Key.Key_Space))

    def page(self, number: int) -> QWidget:
        page = self.user.open(number)
        assert isinstance(page, QWidget)
        return page


def heard(widget: QWidget) -> str:
    """What a screen reader says of a widget: its accessible name, else the words that stand on it."""
    if isinstance(widget, QTabBar):
        return widget.tabText(widget.currentIndex())
    if widget.accessibleName() or isinstance(widget, QLineEdit | QComboBox):  # what was typed is no name
        return widget.accessibleName()
    text = getattr(widget, "text", None)
    return str(text()) if callable(text) else ""


def test_the_chain_by_keys_alone(user: User, demo: Demo) -> None:
    session, typist = user.window.session, Typist(user)
    page = typist.page(20)
    assert isinstance(page, CardPage)
    user.line(page, "blank-card")
    typist.tab_to("blank-card")
    typist.press(Qt.Key.Key_Return)
    user.wait()
    typist.in_dialog("Write to blank-card", "Write to blank-card…")
    user.wait()
    assert session.build.card.state is CardState.PROVEN
    typist.press(Qt.Key.Key_F9)
    user.wait(lambda: session.bring_up is not None)
    for _ in range(8):
        if session.bring_up is None or session.bring_up.failure is None:
            break
        typist.in_dialog("Change the build", "Preview:") if session.bring_up.failure.code.startswith(
            "library"
        ) else typist.in_dialog("Change the build and the card", "Preview:")
        user.wait()
        typist.press(Qt.Key.Key_F9)
        user.wait(lambda: session.bring_up_current)
    assert user.stops == []
    typist.page(60)
    bar = typist.tab_to("Shelves")
    assert isinstance(bar, QTabBar)
    for _ in range(bar.count()):
        if bar.tabText(bar.currentIndex()) != "Transfer":
            assert typist.focus is bar  # no view on the way takes the keys
            typist.press(Qt.Key.Key_Right)
            user.wait()
    assert bar.tabText(bar.currentIndex()) == "Transfer"
    user.wait()
    typist.push("Copy 2")
    user.wait()
    assert "games copied" in user.message
    typist.press(Qt.Key.Key_F9)
    user.wait(lambda: session.bring_up_current)
    assert session.bring_up is not None
    assert session.bring_up.failure is None
    nameless = {type(widget).__name__ for widget, name in typist.stops if not name.strip()}
    assert not nameless


def test_every_stop_of_every_page_has_a_name(user: User) -> None:
    """What Tab comes to on each page tells what it is, and the round comes back to where it began."""
    typist = Typist(user)
    nameless = set()
    for number in (10, 20, 30, 40, 50, 60, 70, 80, 90, 95):
        typist.page(number)
        first, names = typist.focus, []
        for _ in range(MOST):
            typist.press(Qt.Key.Key_Tab)
            names.append(heard(typist.focus))
            if not names[-1].strip():
                nameless.add((number, type(typist.focus).__name__, type(typist.focus.parentWidget()).__name__))
            if typist.focus is first:
                break
        else:
            raise AssertionError(f"page {number}: Tab never comes round: {names[-20:]}")
        assert len(set(names)) > 5
    assert not nameless


def test_the_first_walk_is_gone_by_keys_and_knows_what_was_done(user: User) -> None:
    """Its six steps follow the build; it is left and taken up again where the build stands."""
    session, typist = user.window.session, Typist(user)
    user.window.open_operation(10)
    user.front()
    typist.press(Qt.Key.Key_F1, Qt.KeyboardModifier.ControlModifier)
    walk = user.window.guide.walk
    assert walk is not None
    assert walk.current == 0
    typist.push("Show me")
    assert (user.window.number, walk.current) == (30, 1)
    typist.in_dialog("Change the build", "Preview:")
    user.wait()
    assert walk.current == 2
    session.undo()
    assert walk.current == 2  # whoever takes it back is not sent back
    typist.push("Leave the walk")
    assert user.window.guide.walk is None
    page = typist.page(20)
    assert isinstance(page, CardPage)
    user.line(page, "blank-card")
    QApplication.processEvents()
    typist.tab_to("blank-card")
    typist.press(Qt.Key.Key_Return)
    user.wait()
    typist.in_dialog("Write to blank-card", "Write to blank-card…")
    user.wait()
    typist.press(Qt.Key.Key_F1, Qt.KeyboardModifier.ControlModifier)
    again = user.window.guide.walk
    assert again is not None
    user.window.open_operation(30)
    assert again.current == 3
    typist.press(Qt.Key.Key_F9)
    user.wait(lambda: session.bring_up is not None)
    assert again.current == 4
