"""Operation 95 as a user drives it: a stand-in of the network, a real OpenSSH server on loopback, a stick, an image."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication, QMessageBox

from app.conftest import User
from kyklon.app.pages.upkeep.page import EXCHANGE, MACHINE, SAVES, STICK, UPDATE
from kyklon.base.errors import WrongUse
from kyklon.commands import machine as by_machine
from kyklon.commands import upkeep as by_command
from kyklon.demo import lighthouse
from kyklon.demo.card_image import boot_files
from kyklon.devices.destination import limits_of
from kyklon.devices.linux.folder import Folder
from kyklon.devices.neighbours import SSH
from kyklon.devices.simulated import neighbours
from kyklon.devices.simulated.neighbours import StandIn
from kyklon.model.build import edited
from kyklon.operations.upkeep import saves
from kyklon.record import builds
from kyklon.record import folder as store
from machines import Server, needs_server, serving
from support import Demo


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Server]:
    with serving(tmp_path) as made:
        for name, data in boot_files().items():
            path = made.top / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(data)
        yield made


def settled(user: User) -> None:
    user.bot.waitUntil(lambda: not user.window.session.jobs.running, timeout=180_000)
    user.wait()


@needs_server
def test_a_machine_is_found_looked_at_changed_and_taken_back(user: User, server: Server) -> None:
    session = user.window.session
    rows = (StandIn("lighthouse.local", "127.0.0.1", port=server.port, host_key=server.host_key),)
    neighbours.save(session.folder / "drives", rows)
    page = user.open(95)
    view = page.machine
    view.find(seconds=0.2)
    settled(user)
    assert [each.neighbour.address for each in view.found] == ["127.0.0.1"]
    user.press("Use this address", view)
    user.wait()
    assert session.build.library.port == server.port
    for path, value in (
        ("library.key_file", str(server.key)),
        ("library.account", server.login().account),
        ("upkeep.boot_folder", str(server.top)),
    ):
        session.edit(path, value)
    before = (server.top / "merrow.settings").read_bytes()

    def accept() -> None:
        box = QApplication.activeModalWidget()
        if not isinstance(box, QMessageBox):
            QTimer.singleShot(20, accept)
            return
        assert "SHA256" in box.text()
        next(each for each in box.buttons() if each.text() == "Key matches").click()

    QTimer.singleShot(0, accept)
    view.look()
    user.bot.waitUntil(lambda: view.planned is not None, timeout=180_000)
    settled(user)
    assert session.build.library.host_key == server.host_key
    assert session.build.upkeep.looked_at
    assert view.put_button.text().startswith("Change ")
    view.put_files()
    settled(user)
    assert (server.top / "merrow.settings").read_bytes() != before
    assert not view.planned.files
    view.take_back()
    settled(user)
    assert (server.top / "merrow.settings").read_bytes() == before
    assert [entry.title for entry in user.log if entry.operation == 95][:2] == [
        "Change of the running machine undone",
        "Boot files changed on the running machine",
    ]


def test_saves_are_kept_and_put_back_in_the_window(user: User, tmp_path: Path) -> None:
    said: list[str] = []
    user.window.session.said.connect(said.append)
    page = user.open(95)
    page.show_view(SAVES)
    view, top = page.saves, tmp_path / "card"
    path = top / "games" / "alder8" / "One.keep"
    path.parent.mkdir(parents=True)
    path.write_bytes(b"one")
    view.use_folder(top)
    settled(user)
    assert [save.path for save in view.found] == ["games/alder8/One.keep"]
    view.keep()
    settled(user)
    assert len(saves.archives(user.window.session.folder)) == 1
    assert user.saved.upkeep.saves_at
    window = user.window
    assert not any("elsewhere" in words or "at the same time" in words for words in said)
    window.session.edit("upkeep.restart", "true")
    window.session.undo()
    assert window.session.build.upkeep.saves_at  # undo takes back what was decided, not what happened
    assert window.session.build.upkeep.restart != "true"
    path.write_bytes(b"newer")
    view.restore()
    settled(user)
    assert path.read_bytes() == b"newer"
    (box,) = view._boxes.values()
    box.setChecked(True)
    oldest = saves.archives(user.window.session.folder)[0].name
    view._which.set_choices(((oldest, "the first"),), oldest)
    view.restore()
    settled(user)
    assert path.read_bytes() == b"one"
    view.take_back()
    settled(user)
    assert path.read_bytes() == b"newer"


def test_the_stick_and_the_update_in_the_window(user: User, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(Folder, "limits", property(lambda _self: limits_of("vfat", 4096)))
    page = user.open(95)
    page.show_view(STICK)
    place = tmp_path / "stick"
    (place / "quayside").mkdir(parents=True)
    page.stick.use(place)
    settled(user)
    assert page.stick.copy_button.isEnabled()
    page.stick.copy()
    settled(user)
    assert page.stick.way.missing == {}
    assert not page.stick.copy_button.isEnabled()
    page.show_view(UPDATE)
    view = page.update_view
    view.use(user.window.session.folder / lighthouse.NEXT_IMAGE)
    settled(user)
    assert view.found.new.startswith("Quayside 4.3")
    assert "As with the current image" in view._verdict.text()
    assert not view.take_button.isEnabled()
    page.show_view(MACHINE)


@needs_server
def test_the_same_by_commands(
    demo: Demo, server: Server, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setattr(Folder, "limits", property(lambda _self: limits_of("vfat", 4096)))
    folder = demo.folder
    rows = (
        StandIn("lighthouse.local", "127.0.0.1", port=server.port, host_key=server.host_key),
        StandIn("till.local", "192.0.2.7", port=SSH),
    )
    neighbours.save(folder / "drives", rows)
    assert by_machine.find(folder, use="127.0.0.1", seconds=0.2) == 0
    assert "no login" in capsys.readouterr().out
    with pytest.raises(WrongUse, match="Nothing was found"):
        by_machine.find(folder, use="192.0.2.99", seconds=0.2)
    own = {"key_file": str(server.key), "account": server.login().account, "remote_folder": str(server.top)}
    for name, value in own.items():
        store.update(folder, lambda build, name=name, value=value: edited(build, f"library.{name}", value))
    store.update(folder, lambda build: edited(build, "upkeep.boot_folder", str(server.top)))
    with pytest.raises(WrongUse, match="not known yet"):
        by_machine.look(folder)
    assert by_machine.look(folder, accept=True) in (0, 1)  # 1 where this computer's own drives are failing
    assert "merrow.settings" in capsys.readouterr().out
    before = (server.top / "merrow.settings").read_bytes()
    assert by_machine.put(folder) == 0
    assert "Nothing was changed yet" in capsys.readouterr().out
    assert (server.top / "merrow.settings").read_bytes() == before
    assert by_machine.put(folder, yes=True) == 0
    assert "files changed" in capsys.readouterr().out
    assert by_machine.put(folder, yes=True) == 0
    assert "already" in capsys.readouterr().out
    assert by_machine.undo(folder) == 0
    builds.remember(folder)
    assert by_machine.listed(asked=True) == 0
    assert "127.0.0.1" in (told := capsys.readouterr().out)
    assert " answers" in told
    assert by_machine.key(folder, tmp_path / "key") == 0
    assert store.load(folder).build.library.key_file == str(tmp_path / "key")
    store.update(folder, lambda build: edited(build, "library.key_file", str(server.key)))
    save = server.top / "games" / "alder8" / "One.keep"
    save.parent.mkdir(parents=True)
    save.write_bytes(b"one")
    assert by_command.saves_show(folder) == 0
    assert "One.keep" in capsys.readouterr().out
    assert by_command.saves_keep(folder) == 0
    save.write_bytes(b"newer")
    assert by_command.saves_restore(folder) == 1
    assert "Newer on the machine, not restored" in capsys.readouterr().out
    name = saves.archives(folder)[0].name
    assert by_command.saves_restore(folder, name, replace=["*"]) == 0
    assert save.read_bytes() == b"one"
    assert by_command.saves_restore(folder, undo=True) == 0
    assert save.read_bytes() == b"newer"
    place = tmp_path / "stick"
    (place / "quayside").mkdir(parents=True)
    assert by_command.stick_plan(folder, place, measure=True) == 0
    assert "LED quick" in capsys.readouterr().out
    assert by_command.stick_plan(folder, place, copy=True) == 0
    assert by_command.stick_check(folder, place) == 1  # the machine has not taken them in
    assert by_command.update_compare(folder, folder / lighthouse.NEXT_IMAGE) == 1
    assert "new      service    clock" in capsys.readouterr().out
    with pytest.raises(WrongUse, match="As with the current image"):
        by_command.update_plan(folder, folder / lighthouse.NEXT_IMAGE, take=True)


def test_a_card_is_exchanged_step_by_step(user) -> None:
    session = user.window.session
    user.window.open_operation(95)
    page = user.window.page(95)
    page.show_view(EXCHANGE)
    view = page.exchange
    user.pick(view, "Exchange for", "fresh")
    user.wait(lambda: session.build.upkeep.exchange_by == "fresh")
    assert not view.ticks["games"].isEnabled()
    user.press("Begin", view)
    user.wait(lambda: view.ticks["games"].isEnabled())
    assert view._next.text() == "Back up the saves"
    session.upkeep_happened(saves_at="2999-01-01T00:00:00+00:00")
    user.wait(lambda: view._next.text() == "Back up the old card")
    view.ticks["games"].click()
    user.wait(lambda: session.build.upkeep.exchange_ticks == ("games",))
    user.press("Open Card", view)
    user.wait(lambda: user.window.number == 20)
    user.window.open_operation(95)
    user.press("Stop the exchange", view)
    user.wait(lambda: not session.build.upkeep.exchange_since)
