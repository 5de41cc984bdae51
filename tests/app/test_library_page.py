"""Operations 60 and 70 through the real window: a mixed folder becomes a machine; titles reviewed by keys; latency."""

from __future__ import annotations

import json
import random
import subprocess
import zipfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QAbstractItemModelTester
from PyQt6.QtWidgets import QMessageBox
from pytestqt.qtbot import QtBot

from conftest import User, at_window
from kyklon.app.pages.library import game_table
from kyklon.app.pages.library.game_table import GameModel
from kyklon.app.pages.library.page import CHOICE, FILES, LISTS, REVIEW, SHELVES, TRANSFER
from kyklon.app.pages.tuning.page import LATENCY, SETTINGS, SPEED
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import System
from kyklon.demo.noise import noise
from kyklon.demo.titles import labelled
from kyklon.model.library import Game, Naming
from kyklon.operations.tuning.camera import filmed
from kyklon.operations.tuning.latency import shares, total
from kyklon.operations.tuning.remedies import case_of
from kyklon.record import folder as store
from machines import Server, needs_root, needs_server, serving
from support import Demo


def mixed(folder: Path, count: int) -> None:
    """Fill a library with so many files of every sort: cartridges, archives, discs with tracks, sub-folders, junk."""
    chance = random.Random(9)
    names = [name for name, _title in labelled(count, seed=3).names]
    for number, name in enumerate(dict.fromkeys(names)):
        name = name.replace("/", "-")
        kind = number % 10
        data = chance.randbytes(chance.randrange(60, 900))
        if kind < 3:
            (folder / "alder8" / f"{name}.al8").write_bytes(data)
        elif kind < 5:
            below = folder / "birch16" / ("shooters" if number % 4 else "")
            below.mkdir(exist_ok=True)
            (below / f"{name}.b16").write_bytes(data)
        elif kind < 7:
            (folder / "elm" / f"{name}.{'edk' if number % 2 else 'etp'}").write_bytes(data)
        elif kind == 7:
            with zipfile.ZipFile(folder / "fir-v" / f"set{number}.zip", "w") as archive:
                archive.writestr("a.1", data)
        elif kind == 8:
            (folder / "cedar" / f"{name}.cue").write_text(f'FILE "{name}.bin" BINARY\n', encoding="utf-8")
            (folder / "cedar" / f"{name}.bin").write_bytes(data)
        else:
            (folder / "alder8" / f"{name}.{chance.choice(('tmp', 'b16', 'doc'))}").write_bytes(data)


@pytest.fixture
def large(demo: Demo, qtbot: QtBot) -> Iterator[User]:
    """The demo with 3000 files in its library."""
    there = sum(1 for path in (demo.folder / "library").rglob("*") if path.is_file())
    mixed(demo.folder / "library", (3000 - there) * 10 // 11)
    yield from at_window(demo.folder, qtbot)


def foretold_is_there(user: User) -> None:
    page = user.window.page(60)
    user.wait(lambda: page.transfer.planned is not None)
    session = user.window.session
    there, menu = session.world.on_machine, page.transfer.planned.menu
    assert there is not None
    assert {key: sorted(titles) for key, titles in there.games.items()} == {
        key: sorted(titles) for key, titles in menu.items()
    }


def ready_to_start(user: User) -> None:
    """The demo's card written, and its faults cured."""
    user.choose_drive("blank-card")
    user.answer(lambda dialog: user.press("Write to blank-card", dialog), lambda: user.press("Write to blank-card…"))
    user.wait()
    session = user.window.session
    for _ in range(5):
        session.run_bring_up()
        user.wait(lambda: session.bring_up_current)
        failure = session.bring_up.failure
        if failure is None or failure.remedy is None:
            break
        session.apply_remedy(failure.remedy, failure.cause)
        user.window.put_on_card()
        user.wait()
    assert session.bring_up.reached == "front end"


@pytest.mark.long
@needs_server
@needs_root
def test_3000_mixed_files_become_a_machine_by_every_way(large: User, demo: Demo, tmp_path: Path) -> None:
    user, session = large, large.window.session
    files = sum(1 for path in (demo.folder / "library").rglob("*") if path.is_file())
    assert 2900 <= files <= 3100
    ready_to_start(user)
    page = user.open(60)
    page.show_view(TRANSFER)
    user.wait(lambda: page.transfer.planned is not None)
    count = page.transfer.planned.games
    assert count > 1500

    user.press("Copy", page)  # the stick
    user.wait()
    assert f"{count} games copied" in user.message
    foretold_is_there(user)
    session.run_bring_up()
    user.wait(lambda: session.bring_up_current)
    assert session.bring_up.games == session.world.on_machine.games

    with serving(tmp_path) as server:  # secure copy
        by_secure_copy(user, server)
        foretold_is_there(user)
        session.run_bring_up()
        user.wait(lambda: session.bring_up_current)
        assert session.bring_up.games == session.world.on_machine.games

    onto_the_card(user, demo, tmp_path)  # the card's own file system
    session.run_bring_up()
    user.wait(lambda: session.bring_up_current)
    menu = page.transfer.planned.menu
    assert {key: sorted(titles) for key, titles in session.bring_up.games.items()} == {
        key: sorted(titles) for key, titles in menu.items()
    }


def by_secure_copy(user: User, server: Server) -> None:
    """Choose the way, name the machine, compare its key, copy."""
    page, session = user.window.page(60), user.window.session
    user.pick(page, "Transfer method", "secure copy")
    own = server.build(session.build).library.model_copy(update={"host_key": ""})
    session.edit("library", own, "Machine")
    user.wait()
    asked: list[str] = []

    def accept(dialog: QMessageBox) -> None:
        asked.append(dialog.text())
        user.press("Key matches", dialog)

    user.answer(accept, lambda: user.press("Copy", page))
    user.wait(lambda: bool(session.build.library.host_key))
    user.wait()
    assert "SHA256:" in asked[0]
    assert session.build.library.host_key == server.host_key
    assert "games copied" in user.message
    assert sum(1 for path in server.top.rglob("*") if path.is_file()) > 1500


def onto_the_card(user: User, demo: Demo, tmp_path: Path) -> None:
    """The written card's root is mounted, as a desktop does; the games go there, and it is unmounted."""
    session, page = user.window.session, user.window.page(60)
    card, place = demo.folder / "drives" / "blank-card.standin", tmp_path / "root"
    table = subprocess.run(["sfdisk", "--json", str(card)], capture_output=True, text=True, check=True).stdout

    parts = json.loads(table)["partitiontable"]["partitions"]
    root = next(part for part in parts if part["type"] in ("83", "0FC63DAF-8483-4772-8E79-3D69D8477DE4"))
    place.mkdir()
    offset, size = root["start"] * 512, root["size"] * 512
    options = f"loop,offset={offset},sizelimit={size}"
    if subprocess.run(["mount", "-o", options, str(card), str(place)], capture_output=True).returncode:
        pytest.skip("no loop device can be mounted here")
    try:
        for path in (place / "games").glob("*/*"):
            path.unlink()
        user.pick(page, "Transfer method", "folder")
        session.edit("library.destination", str(place))
        user.wait()
        user.press("Copy", page)
        user.wait()
        assert "games copied" in user.message, user.message
        foretold_is_there(user)
    finally:
        subprocess.run(["umount", str(place)], check=True)
    session.edit("library.destination", "")
    user.wait()


# --- review ------------------------------------------------------------------------------------------------------


@pytest.fixture
def doubtful(demo: Demo, qtbot: QtBot) -> Iterator[User]:
    """The demo with 200 titles more that nobody can be sure of."""
    folder = demo.folder / "library" / "alder8"
    titles = sorted({path.stem.partition(" (")[0] for path in folder.glob("*.al8")})
    for number in range(200):
        (folder / f"{titles[number % len(titles)]} {number + 2} and.al8").write_bytes(noise(f"d{number}", 700 + number))
    yield from at_window(demo.folder, qtbot)


def test_200_titles_are_reviewed_by_keys_and_survive_a_rescan(doubtful: User) -> None:
    user, session = doubtful, doubtful.window.session
    page = user.open(60)
    page.show_view(REVIEW)
    view = page.review
    whole = view.left
    assert whole >= 200
    keys = [Qt.Key.Key_Return, Qt.Key.Key_N, Qt.Key.Key_2, Qt.Key.Key_Return]
    said: dict[str, str] = {}
    view.drawing.setFocus()
    for number in range(whole):
        game = view.current
        assert game is not None
        key = keys[number % 4] if len(game.naming.others) > 1 else Qt.Key.Key_N
        told = [game.naming.title, *(title for title, _share in game.naming.others)]
        said[game.key] = {Qt.Key.Key_Return: told[0], Qt.Key.Key_2: told[min(1, len(told) - 1)]}.get(key, game.title)
        user.bot.keyClick(view.drawing, key)
        view.drawing.grab()
    assert view.left == 0
    user.bot.keyClick(view.drawing, Qt.Key.Key_Backspace)  # the last one once more
    assert view.left == 1
    user.bot.keyClick(view.drawing, Qt.Key.Key_T)
    view.title.setText("My own title")
    user.bot.keyClick(view.title, Qt.Key.Key_Return)
    said[game.key] = "My own title"
    session.flush()
    session.look("library")
    user.wait()
    asked_again = {each.key for each in view._queue} & set(said)
    assert not asked_again  # others may have come into doubt: so many answers have taught something
    called = {game.key: game.called for game in session.world.scan.games}
    assert {key: called[key] for key in said} == said
    session.flush()
    assert user.saved.name  # the build itself is none the larger
    assert len(store.load(session.folder).build.model_dump_json()) < 60_000


def test_a_title_goes_to_the_end_and_typing_can_be_left(doubtful: User) -> None:
    page = doubtful.open(60)
    page.show_view(REVIEW)
    view = page.review
    view.drawing.setFocus()
    first = view.current
    doubtful.bot.keyClick(view.drawing, Qt.Key.Key_Right)
    assert view.current is not first
    doubtful.bot.keyClick(view.drawing, Qt.Key.Key_T)
    assert view.title.isVisible()
    doubtful.bot.keyClick(view.title, Qt.Key.Key_Escape)
    assert not view.title.isVisible()
    count = view.left
    view.drawing.grab()
    doubtful.click(view.drawing, view.drawing._boxes[1].center())
    assert view.left == count - 1


# --- the table ---------------------------------------------------------------------------------------------------


def test_50_000_rows_filter_and_each_order_is_made_once(qapp: object, monkeypatch) -> None:
    chance = random.Random(1)
    names = [name for name, _title in labelled(5000).names]
    games = tuple(
        Game(
            "alder-8",
            names[n % 5000],
            (f"alder8/{n}.al8",),
            chance.randrange(10**6),
            1,
            (),
            Naming(names[n % 5000], "title", chance.random()),
        )
        for n in range(50_000)
    )
    model = GameModel()
    model.set_games(games)
    for column in range(6):
        model.sort(column)
    asked: list[object] = []
    monkeypatch.setattr(game_table, "_KEYS", tuple(asked.append for _ in range(6)))
    for needle in ("b", "br", "bra", "bras", "brass", "brass o", "brass orc", ""):
        model.filter(needle)
        hay = [f"{game.called}\n{game.key}\n{game.system}\nready".casefold() for game in games[:5000]]
        assert model.rowCount() == 10 * sum(all(word in each for word in needle.split()) for each in hay)
    for column in range(6):
        model.sort(column, Qt.SortOrder.DescendingOrder)
    assert not asked  # benchmarks/library.py says how long a key takes
    assert model.rowCount() == 50_000
    model.filter(" ".join(games[0].title.split()[:2]))
    assert 0 < model.rowCount() < 5000
    sizes = [game.size for game in model.games]
    model.sort(3)
    assert [game.size for game in model.games] == sorted(sizes)


def test_marks_and_filters(user: User) -> None:
    page = user.open(60)
    page.show_view(SHELVES)
    view = page.shelves
    QAbstractItemModelTester(view.model, QAbstractItemModelTester.FailureReportingMode.Fatal)
    view.search.setText("causeway alder")
    assert {game.system for game in view.model.games} == {"alder-8"}
    view.search.clear()
    view.waiting.setChecked(True)
    assert all(game.reasons for game in view.model.games)
    view.waiting.setChecked(False)
    view.search.setText("copper")
    view.table.setFocus()
    key = next(game.key for game in view.model.games if game.ready)
    view.table.selectRow(next(row for row, game in enumerate(view.model.games) if game.key == key))
    user.bot.keyClick(view.table, Qt.Key.Key_X)
    user.wait()
    assert user.saved.library.never == (key,)
    game = next(each for each in user.window.session.world.scan.games if each.key == key)
    assert [reason.code for reason in game.reasons] == ["left-out"]
    view.table.selectRow(view.model.row_of(game))
    user.bot.keyClick(view.table, Qt.Key.Key_M)
    user.wait()
    assert (user.saved.library.never, user.saved.library.must) == ((), (key,))


def test_what_fits_lists_and_files_in_the_window(user: User, tmp_path: Path) -> None:
    page, session = user.open(60), user.window.session
    page.show_view(CHOICE)
    session.edit("library.room_bytes", 9_000_000)
    user.wait()
    kept = len(session.world.scan.ready)
    assert session.world.scan.choice.used <= 9_000_000
    assert page.choice.model.rowCount() == len(session.world.scan.choice.left)
    session.edit("library.room_bytes", 0)
    user.wait()
    assert len(session.world.scan.ready) > kept
    page.show_view(LISTS)
    lists = page.lists
    lists.open(session.folder / "lists" / "birch16.xml")
    assert "Use this list" in user.buttons(page)
    assert lists.first.toPlainText().count("SHA-1") >= 3
    lists.drop(1)
    user.wait()
    assert len(user.saved.library.lists) == 2
    known = sum(bool(g.naming and g.naming.how == "list") for g in session.world.scan.games)
    user.press("Use this list", page)
    user.wait()
    assert sum(bool(g.naming and g.naming.how == "list") for g in session.world.scan.games) > known
    for ending in ("pdf", "svg", "txt"):
        lists.write_page(tmp_path / f"contents.{ending}")
    session.flush()
    assert (tmp_path / "contents.pdf").read_bytes().startswith(b"%PDF")
    assert "Alder 8" in (tmp_path / "contents.txt").read_text(encoding="utf-8")
    page.show_view(FILES)
    files = page.system_files
    files.drawing.grab()
    box, _index = files.drawing._buttons[0]
    user.click(files.drawing, box.center())
    user.wait()
    assert not any(stop.startswith("library.system-file-name") for stop in user.stops)


def test_a_new_file_in_the_library_is_seen_by_itself(user: User) -> None:
    user.open(60)
    session = user.window.session
    before = len(session.world.scan.games)
    (session.folder / "library" / "elm" / "Late Arrival.edk").write_bytes(b"x" * 99)
    user.wait(lambda: len(session.world.scan.games) == before + 1)


def test_a_transfer_is_taken_back_by_its_button(user: User) -> None:
    page = user.open(60)
    page.show_view(TRANSFER)
    user.wait(lambda: page.transfer.planned is not None)
    user.press("Copy", page)
    user.wait()
    user.press("Hide", page)
    user.wait()
    assert user.window.session.world.on_machine.hidden == ("alder-8",)
    user.press("Show", page)
    user.wait()
    user.press("Undo transfer", page)
    user.wait()
    assert user.window.session.world.on_machine.games == {}
    assert not any(path.is_file() for path in (user.window.session.folder / "stick").rglob("*"))


# --- tuning --------------------------------------------------------------------------------------------------------


def test_a_filmed_latency_is_explained_and_the_remedies_keep_their_word(user: User, catalogue: Catalogue) -> None:
    page, session = user.open(70), user.window.session
    page.show_view(LATENCY)
    page.choose_system("alder-8")
    view, system = page.latency, catalogue.get(System, "alder-8")
    chance, hidden = np.random.default_rng(21), 14.0
    promised = 0

    def filmed_now() -> float:
        """Ten presses before a simulated camera, three times; what the window says is not explained."""
        case = case_of(session.build, session.catalogue, system)
        model = total(shares(case.way, case.values, case.rate))
        user.press("Delete measurements", page)
        for _ in range(3):
            view.counts.setText(" ".join(map(str, filmed(model, hidden, 10, 240.0, chance))))
            user.press("Fit it", page)
        assert view.measured is not None
        assert view.measured.presses == 30
        return view.measured.unknown_ms

    assert abs(filmed_now() - hidden) <= 3
    while promised < 3 and (tips := [tip for tip in view.tips if tip.remedy]):
        before = case_of(session.build, session.catalogue, system).mean
        seen = view.measured.mean_ms
        won = tips[0].won_ms
        user.press(f"{tips[0].words}:", page)
        user.wait()
        after = case_of(session.build, session.catalogue, system).mean
        assert before - after == pytest.approx(won, abs=0.01)
        assert abs(filmed_now() - hidden) <= 3
        assert seen - view.measured.mean_ms == pytest.approx(won, abs=5)  # as the camera sees it, thirty presses each
        promised += 1
    assert promised == 3


def test_settings_on_the_machine_are_compared_in_the_window(user: User) -> None:
    page, session = user.open(70), user.window.session
    page.show_view(SETTINGS)
    user.press("Compare", page)
    user.wait()
    assert {each.theirs for each in page.settings.found} == {"not there"}
    user.press("Restore the build's values", page)
    user.wait()
    assert page.settings.found == ()
    own = session.folder / "stick" / "settings" / "birch-16.conf"
    own.write_text(own.read_text(encoding="utf-8").replace("smoothing = off", "smoothing = on"), encoding="utf-8")
    user.press("Compare", page)
    user.wait()
    user.press("Use the machine's values", page)
    user.wait()
    assert user.saved.tuning.systems["birch-16"]["smoothing"] is True
    assert {each.place.game for each in page.settings.found} == {
        "birch-16/Brass Parade"
    }  # its own file has the old one
    user.press("Restore the build's values", page)
    user.wait()
    assert page.settings.found == ()
    page.show_view(SPEED)
    log = session.folder / "times.log"
    log.write_text("\n".join(f"{15 + n % 3} ms" for n in range(60)), encoding="utf-8")
    page.speed.read_log(log)
    user.wait()
    assert user.saved.tuning.costs[0].frames == 60
