"""A machine's later life by window alone, in one go: found by multicast DNS, a boot line changed and taken back, saves
kept, its card exchanged, the saves restored, games by stick, the image updated and the first power-on foretold anew."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication, QFileDialog, QMessageBox, QPushButton, QWidget

from app.conftest import User
from kyklon.app.pages.card.drive_list import DriveLine
from kyklon.app.pages.card.keep import KeepBench
from kyklon.app.pages.upkeep import machine_view
from kyklon.app.pages.upkeep.page import EXCHANGE, MACHINE, SAVES, STICK, UPDATE
from kyklon.demo import lighthouse
from kyklon.demo.card_image import boot_files
from kyklon.devices.destination import limits_of
from kyklon.devices.linux.folder import Folder
from kyklon.devices.neighbours import LinuxNeighbourhood
from kyklon.model.build import CardState
from kyklon.operations.upkeep import saves
from machines import Server, answering, needs_server, serving

SAVE = "games/alder8/Saltmarsh Racer.keep"


@pytest.fixture
def machine(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Server]:
    """The running machine: an OpenSSH server whose name multicast DNS answers for, both on loopback alone."""
    monkeypatch.setattr(machine_view, "neighbourhood_of", lambda _folder: LinuxNeighbourhood(["127.0.0.1"]))
    monkeypatch.setattr(Folder, "limits", property(lambda _self: limits_of("vfat", 4096)))  # what a stick would say
    with serving(tmp_path) as made, answering("lighthouse", made.port):
        for name, data in boot_files().items():
            path = made.top / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(data)
        save = made.top / SAVE
        save.parent.mkdir(parents=True)
        save.write_bytes(b"an evening")
        yield made


def view_of(user: User, name: str) -> Any:
    page = user.open(95)
    page.show_view(name)
    return {
        MACHINE: page.machine,
        SAVES: page.saves,
        STICK: page.stick,
        UPDATE: page.update_view,
        EXCHANGE: page.exchange,
    }[name]


def press(user: User, words: str, place: QWidget) -> None:
    user.press(words, place)
    user.wait()


def written(user: User, drive: str) -> None:
    """The image on a drive, by the Card page."""
    user.write_card(drive)
    assert user.saved.card.state is CardState.PROVEN
    page = user.open(30)
    press(user, "Copy ", page)
    assert user.saved.card.boot_files_at >= user.saved.card.at


def is_next(user: User, step: str) -> Any:
    """The exchange's view, once it names that step as the next."""
    view = view_of(user, EXCHANGE)
    user.wait(lambda: view._next.text() == step)
    return view


def found_and_looked_at(user: User, server: Server) -> Any:
    session, view = user.window.session, view_of(user, MACHINE)
    for _ in range(5):  # multicast may lose an answer on a busy machine
        press(user, "Find", view)
        if any(each.neighbour.name == "lighthouse.local" for each in view.found):
            break
    assert "lighthouse.local" in [each.neighbour.name for each in view.found]
    name = "Use this address, lighthouse.local, 127.0.0.1"
    user.click(next(each for each in view.findChildren(QPushButton) if each.accessibleName() == name))
    user.wait()
    assert session.build.library.port == server.port
    own = {"library.key_file": str(server.key), "library.account": server.login().account}
    for path, value in (own | {"upkeep.boot_folder": str(server.top), "upkeep.saves_folder": str(server.top)}).items():
        session.edit(path, value)

    def agree() -> None:
        box = QApplication.activeModalWidget()
        if not isinstance(box, QMessageBox):
            QTimer.singleShot(20, agree)
            return
        next(each for each in box.buttons() if each.text() == "Key matches").click()

    QTimer.singleShot(0, agree)
    user.press("Check", view)
    user.wait(lambda: view.planned is not None)
    return view


@needs_server
def test_a_machine_is_looked_after(
    user: User, machine: Server, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    session = user.window.session
    user.write_card("blank-card")
    user.mend_everything()
    session.edit("library.route", "secure copy")

    view = found_and_looked_at(user, machine)
    press(user, "Change ", view)
    settings = machine.top / "merrow.settings"
    before = settings.read_text(encoding="utf-8")
    session.edit("boot.overscan_percent", "4")
    press(user, "Check", view)
    assert list(view.planned.files) == ["merrow.settings"]
    press(user, "Change 1 boot file", view)
    changed = settings.read_text(encoding="utf-8")
    assert 0 < len(set(changed.splitlines()) ^ set(before.splitlines())) <= 8
    press(user, "Undo change", view)
    assert settings.read_text(encoding="utf-8") == before
    user.front()
    session.undo()

    view = view_of(user, EXCHANGE)
    user.pick(view, "Exchange for", "fresh")
    press(user, "Begin", view)
    is_next(user, "Back up the saves")
    view = view_of(user, SAVES)
    press(user, "Scan", view)
    assert [save.path for save in view.found] == [SAVE]
    press(user, "Back up saves", view)
    assert len(saves.archives(session.folder)) == 1

    press(user, "Open Card", is_next(user, "Back up the old card"))
    page = user.window.page(20)
    user.press("Check and back up")
    bench = page.bench
    assert isinstance(bench, KeepBench)
    user.wait(lambda: bool(bench.drive_list.lines))
    old = next(line for line in bench.drive_list.lines if line.accessibleName().startswith("blank-card,"))
    assert isinstance(old, DriveLine)
    user.click(old)
    user.wait()
    kept = session.folder / "attachments" / "old-card.img.zst"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(kept), ""))
    press(user, "Back up…", bench)
    assert kept.stat().st_size > 0

    press(user, "Open Card", is_next(user, "Write the image to the new card"))
    user.press("Write")
    written(user, "large-card")
    assert user.saved.card.drive != session.build.upkeep.exchange_from
    view = is_next(user, "Copy the games")
    view.ticks["games"].click()
    shutil.rmtree(machine.top / "games")  # the new card starts without them
    view = is_next(user, "Take the old card out, put the new one in, and start")
    view.ticks["start"].click()
    is_next(user, "Restore the saves")
    view = view_of(user, SAVES)
    press(user, "Restore", view)
    assert (machine.top / SAVE).read_bytes() == b"an evening"
    view = is_next(user, "Restore the saves")
    view.ticks["restore"].click()
    view = is_next(user, "Label the old card and put it away")
    view.ticks["keep-old"].click()
    user.wait(lambda: view._next.text() == "All steps are done.")
    press(user, "Finish", view)
    assert user.log[0].title == "Card exchanged"

    place = tmp_path / "stick"
    (place / "quayside").mkdir(parents=True)
    view = view_of(user, STICK)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_a, **_k: str(place))
    press(user, "Choose the stick…", view)
    press(user, "Copy games", view)
    assert not any(view.way.missing.values())
    assert any((place / "quayside").rglob("*"))

    view = view_of(user, UPDATE)
    monkeypatch.setattr(
        QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(session.folder / lighthouse.NEXT_IMAGE), "")
    )
    press(user, "Choose the newer image…", view)
    assert view.found.troubles == ()
    settings_before = user.saved.boot
    press(user, "Use this image", view)
    assert user.saved.source.path == lighthouse.NEXT_IMAGE
    assert user.saved.boot == settings_before
    written(user, "large-card")
    user.press("Run bring-up")
    user.wait(lambda: session.bring_up_current)
    assert session.bring_up.failure is None
    assert session.bring_up.reached == "front end"
