"""Every page at the usual window size: no label, note or button is cut."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QAbstractButton, QApplication, QLabel, QScrollArea, QTabBar, QWidget
from pytestqt.qtbot import QtBot

from app.conftest import User
from kyklon.app.start import open_window
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Elided
from kyklon.app.widgets.tick import Tick
from kyklon.base.progress import UNWATCHED
from kyklon.catalogue.loader import Catalogue
from kyklon.demo.known import DEMOS
from support import Demo


def reaching(place: QWidget, width: int) -> list[str]:
    """What in a place that scrolls upright only reaches beyond its right edge, pixels."""
    return [
        each.text()
        for kind in (QLabel, QAbstractButton)
        for each in place.findChildren(kind)
        if each.isVisible() and each.mapTo(place, QPoint(each.width(), 0)).x() > width + 1
    ] or [type(place).__name__]


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
    for push in user.window.findChildren(QAbstractButton):
        if not push.isVisible() or not push.text():
            continue
        if isinstance(push, Tick):
            if push.heightForWidth(push.width()) > push.height() + 2:
                yield push.text()
        elif push.sizeHint().width() > push.width() + 2:
            yield push.text()
    for area in user.window.findChildren(QScrollArea):
        inner = area.widget()
        off = area.horizontalScrollBarPolicy() == Qt.ScrollBarPolicy.ScrollBarAlwaysOff
        if off and area.isVisible() and inner is not None and inner.width() > area.viewport().width() + 1:
            yield from (f"beside its place: {words}" for words in reaching(inner, area.viewport().width()))


def settle(user: User) -> None:
    """Until no job runs and the layouts have taken the new texts."""
    user.wait()
    for _turn in range(6):
        QApplication.processEvents()


def test_nothing_is_cut_on_any_page_or_tab(user: User) -> None:
    user.window.resize(1280, 800)
    found: dict[str, None] = {}
    tabs = 0
    for number in (*range(10, 100, 10), 95):
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


@pytest.mark.long(keep=1)
@pytest.mark.parametrize("name", ["lighthouse", "camper", "school-fair"])
def test_nothing_is_cut_at_half_as_large_again(
    name: str, tmp_path: Path, catalogue: Catalogue, demo: Demo, qtbot: QtBot
) -> None:
    """Text at 150 % in a window of 1280 x 800: no label, button or tab is cut but what shows its whole text in a tip,
    no page is wider than its place, and the findings are a drawer."""
    folder = demo.folder if name == "lighthouse" else DEMOS[name].make(tmp_path / name, catalogue, UNWATCHED)
    window = open_window(folder, Theme(scale=1.5))
    qtbot.addWidget(window)
    window.resize(1280, 800)
    window.show()
    qtbot.waitExposed(window)
    window.activateWindow()
    window.session.look_at_everything()
    user = User(window, qtbot)
    settle(user)
    assert not window.findings.isVisible()
    user.press("Findings")
    assert window.findings.isVisible()
    user.press("Findings")
    found: dict[str, None] = {}
    for number in (*range(10, 100, 10), 95):
        page = user.open(number)
        settle(user)
        bars = [bar for bar in page.findChildren(QTabBar) if bar.isVisible()]
        for bar in bars or [None]:
            for index in range(bar.count() if bar is not None else 1):
                if bar is not None and bar.isVisible():
                    bar.setCurrentIndex(index)
                settle(user)
                tipped = {each.full for each in window.findChildren(Elided)}
                found |= dict.fromkeys(text for text in cut(user) if text not in tipped)
                holder = window._holders[number]
                assert page.width() <= holder.width() + 2, (number, index)
    assert not list(found)
    window.session.end()
