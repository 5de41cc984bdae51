"""Every page at the usual window size: no label, note or button is cut."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtWidgets import QApplication, QLabel, QPushButton, QTabBar

from app.conftest import User
from kyklon.app.widgets.basic import Elided


def cut(user: User) -> Iterator[str]:
    """What of the window's texts does not fit its place."""
    for each in user.window.findChildren(QLabel):
        if not each.isVisible():
            continue
        if isinstance(each, Elided):
            if each.text() != each.full:
                yield each.full
        elif each.wordWrap():
            if each.heightForWidth(each.width()) > each.height() + 2:
                yield each.text()
        elif each.sizeHint().width() > each.width() + 1:
            yield each.text()
    for push in user.window.findChildren(QPushButton):
        if push.isVisible() and push.text() and push.sizeHint().width() > push.width() + 2:
            yield push.text()


def settle(user: User) -> None:
    """Until no job runs and the layouts have taken the new texts."""
    user.wait()
    for _turn in range(6):
        QApplication.processEvents()


def test_nothing_is_cut_on_any_page_or_tab(user: User) -> None:
    user.window.resize(1280, 800)
    found: dict[str, None] = {}
    tabs = 0
    for number in range(10, 100, 10):
        page = user.open(number)
        settle(user)
        found |= dict.fromkeys(cut(user))
        for bar in page.findChildren(QTabBar):
            for index in range(bar.count()):
                if not bar.isVisible():
                    continue
                bar.setCurrentIndex(index)
                settle(user)
                tabs += 1
                found |= dict.fromkeys(cut(user))
    assert tabs > 20  # a walk that sees no tabs proves nothing
    assert not list(found)
