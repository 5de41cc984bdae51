"""From wishes to a machine by window: the first page, the plans, the parts list and the schedule."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QCheckBox, QDialog, QFileDialog, QInputDialog
from pytestqt.qtbot import QtBot

from app.conftest import User, at_window
from kyklon.app.pages.plan.bundle_dialog import BundleDialog
from kyklon.app.pages.plan.page import CHOOSE
from kyklon.app.pages.plan.wish_form import WishForm
from kyklon.app.shell.start_window import StartWindow
from kyklon.app.theme.tokens import Theme
from kyklon.base.places import catalogue_folder
from kyklon.catalogue import loader
from kyklon.commands import part as by_command
from kyklon.commands import planning
from kyklon.operations.plan import planned
from kyklon.operations.plan.acts import keep_new
from kyklon.operations.registry import OPERATIONS
from kyklon.record import builds
from kyklon.record import folder as store
from support import Demo


def ticked(form: WishForm, *systems: str) -> None:
    for name in systems:
        form._rows[name][0].click()


@pytest.fixture
def first(qtbot: QtBot) -> Iterator[StartWindow]:
    window = StartWindow(Theme(), loader.load(catalogue_folder()))
    qtbot.addWidget(window)
    window.show()
    qtbot.waitExposed(window)
    yield window
    qtbot.waitUntil(lambda: not window.jobs.running, timeout=180_000)


def settled(window: StartWindow, bot: QtBot) -> None:
    bot.waitUntil(lambda: not window.jobs.running, timeout=180_000)
    bot.wait(30)


def test_three_answers_and_two_own_parts_become_a_plan_without_stops(qtbot: QtBot, tmp_path: Path) -> None:
    """The first page, from an own board's copy and an own supply to a build with a parts list and a schedule."""
    assert by_command.copy("board", "herring", "Own board") == 0
    assert by_command.add("supply", "Own supply", ["volts=5.1 V", "amps=3 A", "socket=USB-A"], agree=True) == 0
    window = StartWindow(Theme(), loader.load(catalogue_folder()))
    qtbot.addWidget(window)
    window.show()
    qtbot.waitExposed(window)
    form = window._form

    def tick(dialog: QDialog) -> None:
        for words in ("Own board", "Own supply"):
            next(box for box in dialog.findChildren(QCheckBox) if box.text() == words).click()
        dialog.accept()

    User(window, qtbot).answer(tick, lambda: qtbot.mouseClick(form._hand, Qt.MouseButton.LeftButton))  # type: ignore[arg-type]
    assert form.settings.at_hand == ("boards/own-board", "supplies/own-supply")
    ticked(form, "alder-8", "birch-16")
    settled(window, qtbot)
    plans = window._answer.plans
    assert plans
    # an own board is served by no image: the answer says so and how it is reached
    words = planned.in_words(window._answer) if not plans else []
    assert not words
    assert plans[0].part("supply") == "own-supply"
    window._name.setText("Holiday console")
    window._place.setText(str(tmp_path / "holiday"))
    opened: list[Path] = []
    window.opened.connect(opened.append)
    qtbot.mouseClick(window._start, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: bool(opened), timeout=180_000)
    user = next(at_window(opened[0], qtbot))
    build = user.window.session.build
    assert (build.name, build.part("supply")) == ("Holiday console", "own-supply")
    assert [code for code in user.stops if code.startswith(("plan", "picture", "assembly"))] == []
    page = user.open(10)
    page.show_view(2)
    assert page.parts._list.missing
    assert next(line for line in page.parts._list.lines if line.key == "supplies/own-supply").owned
    page.show_view(3)
    assert page.schedule._made.slots
    user.window.session.end()


def test_the_first_page_begins_empty_opens_and_refuses(
    first: StartWindow, qtbot: QtBot, tmp_path: Path, demo: Demo
) -> None:
    opened: list[Path] = []
    first.opened.connect(opened.append)
    assert not first._start.isEnabled()
    full = tmp_path / "full"
    full.mkdir()
    (full / "mine").write_text("x")
    first._place.setText(str(full))
    qtbot.mouseClick(first._empty, Qt.MouseButton.LeftButton)
    settled(first, qtbot)
    assert "is not empty" in first._said.text()
    first._place.setText("somewhere")
    qtbot.mouseClick(first._empty, Qt.MouseButton.LeftButton)
    assert "whole path" in first._said.text()
    builds.remember(demo.folder)
    first._recent.show_builds(())
    from kyklon.app.shell.start_window import recent_builds

    first._recent.show_builds(recent_builds(loader.load(None)))
    first._recent.grab()
    qtbot.mouseClick(first._recent, Qt.MouseButton.LeftButton, pos=QPoint(60, 20))
    assert opened[0] == demo.folder.resolve()


def test_an_empty_build_goes_through_every_page(qtbot: QtBot, tmp_path: Path, catalogue: loader.Catalogue) -> None:
    folder = keep_new(tmp_path / "empty", planned.empty_build("Nothing yet", catalogue))
    user = next(at_window(folder, qtbot))
    for operation in OPERATIONS:
        page = user.open(operation.number)
        tabs = getattr(page, "_tabs", None)
        for number in range(tabs.count() if tabs is not None and hasattr(page, "show_view") else 0):
            page.show_view(number)
            page.grab()
            user.wait()
    page = user.open(10)
    page.show_view(1)
    ticked(page.choose.form, "alder-8")
    user.wait(lambda: bool(page.choose._answer.plans))
    user.press("Use plan 1")
    user.wait()
    assert user.saved.part("board")
    assert user.saved.systems == ("alder-8",)
    assert [code for code in user.stops if code.startswith(("plan", "picture", "assembly"))] == []
    user.window.session.end()


def test_plans_are_chosen_insisted_on_and_taken_back(user, qtbot: QtBot) -> None:
    page = user.open(10)
    page.show_view(1)
    view = page.choose
    user.wait(lambda: bool(view._answer.plans))
    before = user.window.session.build
    view._columns.setFocus()
    qtbot.keyClick(view._columns, Qt.Key.Key_Right)
    assert view._columns.current == 1
    assert view.plan.part("board") != "" if view.plan else True
    view._role.setCurrentIndex(view._role.findData("board"))
    view._fill_parts()
    view._part.setCurrentIndex(view._part.findData("ling"))
    view._part.activated.emit(view._part.currentIndex())
    user.wait(lambda: "Ling" in view._why.text())
    user.press("Insist on it")
    user.wait(lambda: bool(view._answer.plans) and view._answer.plans[0].part("board") == "ling")
    assert user.saved.plan.fixed == ("board=ling",)
    user.press("Use plan")
    user.wait()
    assert user.saved.part("board") == "ling" or view._columns.current > 0
    user.window.undo()
    user.window.undo()
    assert user.window.session.build.parts == before.parts
    view.form._budget.setText("many")
    view.form._budget.editingFinished.emit()
    assert user.window.session.build.plan.budget == 0
    view.form._by.setText("soon")
    view.form._by.editingFinished.emit()
    assert "cannot be" in view.form._wrong.text()
    view.form._budget.setText("1 €")
    view.form._budget.editingFinished.emit()
    user.wait()
    assert user.window.session.build.plan.budget == 1.0


def test_the_parts_list_is_ticked_off(user, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    page = user.open(10)
    page.show_view(2)
    view = page.parts
    row = next(number for number, line in enumerate(view._model.lines) if line.key.startswith("extra/button"))
    view._table.selectRow(row)
    monkeypatch.setattr(QInputDialog, "getDouble", lambda *_args: (1.5, True))
    user.press("Price…")
    user.press("Ordered")
    assert user.saved.plan.parts[0].state == "ordered"
    line = view._model.lines[row]
    assert (line.state, line.price, line.cost) == ("ordered", 1.5, 1.5 * line.count)
    monkeypatch.setattr(QInputDialog, "getDouble", lambda *_args: (1.75, True))
    view._table.selectRow(row)
    user.press("Price…")
    assert user.saved.plan.parts[0].history[0][1] == 1.5
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_args: (str(tmp_path / "parts.csv"), ""))
    user.press("Save as CSV…")
    user.window.session.flush()
    user.bot.waitUntil(lambda: (tmp_path / "parts.csv").exists(), timeout=180_000)
    assert "Merrow Herring" in (tmp_path / "parts.csv").read_text()
    pdf = view.as_pdf()
    assert pdf.startswith(b"%PDF")
    (tmp_path / "parts.pdf").write_bytes(pdf)
    if shutil.which("pdftotext"):
        told = subprocess.run(["pdftotext", tmp_path / "parts.pdf", "-"], capture_output=True, text=True, check=True)
        assert "Merrow Herring" in told.stdout
    user.press("Arrived")
    assert view._model.lines[row].cost == 0


def test_evenings_are_filled_and_steps_teach(user, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    page = user.open(10)
    page.show_view(3)
    view = page.schedule
    view._first.setText("2027-03-01")
    view._count.setValue(3)
    user.press("Fill them")
    assert [evening.day for evening in user.saved.plan.evenings] == ["2027-03-01", "2027-03-02", "2027-03-03"]
    view._days.grab()
    box, step = view._days._boxes[0]
    user.click(view._days, box.center())
    assert view.step.id == step
    monkeypatch.setattr(QInputDialog, "getInt", lambda *_args: (7, True))
    user.press("Mark as done…")
    assert user.saved.plan.done[0].step == step
    assert next(made for made in view._steps if made.id == step).done
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_args: (str(tmp_path / "bench.ics"), ""))
    user.press("Save as calendar…")
    user.window.session.flush()
    user.bot.waitUntil(lambda: (tmp_path / "bench.ics").exists(), timeout=180_000)
    assert (tmp_path / "bench.ics").read_text().startswith("BEGIN:VCALENDAR")
    view._first.setText("soon")
    user.press("Fill them")
    assert "2027-03-01" in user.message
    user.press("No evenings")
    assert user.saved.plan.evenings == ()


def test_the_same_by_commands_alone(
    tmp_path: Path, catalogue: loader.Catalogue, capsys: pytest.CaptureFixture[str]
) -> None:
    folder = keep_new(tmp_path / "build", planned.empty_build("By command", catalogue))
    assert (
        planning.wish(folder, system=["alder-8=40", "birch-16"], place="table", players=1, hand=["supply/ballast-3a"])
        == 0
    )
    assert planning.solve(folder, take=1) == 0
    assert store.load(folder).build.part("supply") == "ballast-3a"
    assert planning.parts(folder, state=["displays/generic-full-hd=arrived"], csv=tmp_path / "list.csv") == 0
    assert (tmp_path / "list.csv").exists()
    assert planning.schedule(folder, evening=["2027-03-02", "2027-03-03@20:00/60"], calendar=tmp_path / "a.ics") == 0
    assert planning.why(folder, "board", "halibut-desk") == 0
    assert "more" in capsys.readouterr().out
    assert planning.wish(folder, budget=5.0) == 0
    assert planning.solve(folder) == 1
    assert "a price of at most" in capsys.readouterr().out


def test_a_cable_is_dragged_from_socket_to_socket(user, qtbot: QtBot) -> None:
    page = user.open(10)
    drawing = page.map._map
    drawing.grab()

    def drag(start: str, end: str) -> None:
        spots = {socket: spot.center().toPoint() for spot, socket in drawing._spots}
        qtbot.mousePress(drawing, Qt.MouseButton.LeftButton, pos=spots[start])
        qtbot.mouseMove(drawing, (spots[start] + spots[end]) / 2)
        drawing.grab()
        qtbot.mouseRelease(drawing, Qt.MouseButton.LeftButton, pos=spots[end])

    drag("encoder.usb", "board.usb3")
    assert ("board.usb3", "encoder.usb") in {(link.start, link.end) for link in user.saved.links}
    before = user.saved.links
    drag("board.video", "display.rgb")
    assert user.saved.links == before
    assert "Gantry RGB goes between them." in user.message
    drag("board.usb1", "board.usb2")
    drag("supply.out", "board.video")
    assert user.saved.links == before


def test_a_bundle_is_one_more_column(user: User) -> None:
    user.window.session.edit("plan.at_hand", [])
    page = user.open(10)
    page.show_view(CHOOSE)
    user.wait(lambda: len(page.choose._answer.plans) == 3)

    def said(dialog: QDialog) -> None:
        assert isinstance(dialog, BundleDialog)
        dialog.keep()
        assert dialog._said.isVisible(), "a bundle without a name and a price"
        dialog._name.setText("Kit")
        dialog._price.setText("25 €")
        dialog._boxes["boards/herring"].click()
        dialog.keep()

    user.answer(said, page.choose.form.ask_bundles)
    user.wait(lambda: len(page.choose._answer.plans) == 4)
    assert page.choose._answer.plans[3].bundle == "Kit"
    assert user.window.session.build.plan.bundles[0].price == 25
    page.choose._columns._choose(3)
    user.press("Use plan 4", page)
    user.wait()
    assert user.window.session.build.plan.bundle == "Kit"
    user.answer(lambda dialog: dialog.drop(), page.choose.form.ask_bundles)  # type: ignore[attr-defined]
    user.wait(lambda: len(page.choose._answer.plans) == 3)
