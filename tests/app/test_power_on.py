"""Power-on as a user meets it: forecast, rehearsal, the real machine's log, the fault finder, drills."""

from __future__ import annotations

from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QTabBar

from judges import kernel
from kyklon.app.pages.poweron.page import FINDER, FORECAST, LOG, PRACTICE, REHEARSAL, STEPS
from kyklon.app.widgets.basic import Choice
from kyklon.faults.finder import next_step
from kyklon.record import cures
from support import Demo

LOG_OF_A_FAILED_START = """\
[    0.000000] Linux version 6.1.0 (builder@bench) (gcc 12.2.0) #1 SMP
[    0.000000] Machine model: Merrow Herring
[    0.000000] Kernel command line: console=tty1 root=/dev/mmcblk0p5 rootwait
[    1.412345] Waiting for root device /dev/mmcblk0p5...
"""


def switch(user, words: str):
    """Click a tab of the page."""
    page = user.open(90)
    for bar in page.findChildren(QTabBar):
        for index in range(bar.count()):
            if bar.isVisible() and bar.tabText(index) == words:
                user.bot.mouseClick(bar, Qt.MouseButton.LeftButton, pos=bar.tabRect(index).center())
                return page
    raise AssertionError(words)


def pick(user, box: Choice, key: str) -> None:
    """Choose in a combo box as a click does."""
    index = box.findData(key)
    assert index >= 0, key
    box.setCurrentIndex(index)
    box.activated.emit(index)


@pytest.mark.long
@pytest.mark.skipif(not kernel.available(), reason="no kernel: user-mode-linux and busybox-static")
def test_a_card_that_fails_is_forecast_rehearsed_and_compared(user) -> None:
    user.write_card("blank-card")
    user.press("Run bring-up")
    session = user.window.session
    user.wait(lambda: session.bring_up_current)
    page = switch(user, "Rehearsal")
    assert page.view == REHEARSAL
    user.press("Rehearse", page)
    user.wait(lambda: session.rehearsal is not None)
    assert session.rehearsal.rehearsal.reading.reached == "front end"
    assert "Predicted to stop earlier, at stages that are not rehearsed: kernel" in page.rehearsal._verdict.text()
    assert "gangway: the menu" in page.rehearsal._log.toPlainText()
    assert "Rehearsed: It came to its menu." in [entry.title for entry in user.log]

    page = switch(user, "Real machine")
    page = switch(user, "Boot log")
    page.log.set_log(LOG_OF_A_FAILED_START)
    user.press("Read", page.log)
    user.wait(lambda: session.log_reading is not None)
    assert page.log._verdict.text() == "Stops at kernel line"
    assert "Predicted to stop at kernel, the real machine goes on." in page.log._why.text()
    assert page.instrument() is page.log.instrument

    page = switch(user, "Forecast")
    assert page.instrument() is page.forecast.instrument


def test_a_pasted_log_leads_to_its_cause_and_a_remedy_of_one_click(user, demo: Demo) -> None:
    user.write_card("blank-card")
    session = user.window.session
    session.run_bring_up()
    user.wait(lambda: session.bring_up_current)
    page = user.open(90)
    page.show_view(LOG)
    user.press("Read", page.log)
    assert "No log yet" in user.message
    page.log.set_log(LOG_OF_A_FAILED_START)
    user.press("Read", page.log)
    user.wait(lambda: session.log_reading is not None)
    assert "/dev/mmcblk0p5, which does not come" in page.log._why.text()
    user.answer(lambda dialog: user.press("Copy them to the card", dialog), lambda: user.click(page.remedy_button))
    user.wait()
    assert user.saved.card.boot_files_at
    assert any("Boot log read" in entry.title for entry in user.log)


def test_times_of_a_log_become_the_boards_own(user, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    user.write_card("blank-card")
    session = user.window.session
    session.run_bring_up()
    user.wait(lambda: session.bring_up_current)
    path = tmp_path / "start.log"
    mounted = "VFS: Mounted root (ext4 filesystem) readonly on device 179:2.\n[    3.000000] start: network"
    path.write_text(LOG_OF_A_FAILED_START.replace("Waiting for root device /dev/mmcblk0p5...", mounted))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(path), ""))
    page = user.open(90)
    page.show_view(LOG)
    user.press("Open", page.log)
    user.wait(lambda: session.log_reading is not None)
    user.press("Use these times", page.log)
    user.wait(lambda: session.bring_up_current)
    assert {each.stage for each in user.saved.measured} >= {"root partition", "init"}
    assert all(each.board == "herring" for each in user.saved.measured)


def test_two_forecasts_side_by_side(user, demo: Demo, monkeypatch: pytest.MonkeyPatch) -> None:
    user.write_card("blank-card")
    session = user.window.session
    session.run_bring_up()
    user.wait(lambda: session.bring_up_current)
    page = user.open(90)
    session.edit("boot.services", ["network"], "Services")
    session.run_bring_up()
    user.wait(lambda: session.bring_up_current)
    other = demo.drive("blank-card")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(other), ""))
    pick(user, page.forecast._beside, "file")
    user.wait(lambda: session.other_bring_up is not None)
    assert page.forecast._stack.currentIndex() == 1
    assert "no difference" in page.forecast._time_sheet._note.full
    pick(user, page.forecast._beside, "before")
    assert page.forecast._stack.currentIndex() == 1
    pick(user, page.forecast._beside, "alone")
    assert page.forecast._stack.currentIndex() == 0


def test_the_fault_finder_by_clicks(user) -> None:
    session = user.window.session
    page = user.open(90)
    page.show_view(FINDER)
    talk = page.finder.conversation
    pick(user, talk._add, "screen-black")
    pick(user, talk._add, "lamp-paired")
    assert [answer.what for answer in session.build.fault.answers] == ["screen-black", "lamp-paired"]
    first = talk._likely[0]
    assert first.cause.id == "kernel-missing"  # a finding says so, whatever the lamp does
    before = talk.step.id
    user.press("Cannot tell" if talk.step.cause is None else "Skip", talk)
    assert talk.step.id != before
    user.press("Undo answer", talk)
    assert len(session.build.fault.answers) == 1
    user.window.session.undo()
    assert len(session.build.fault.answers) == 2
    user.press("This was the cause", talk)
    user.wait()
    found = user.saved.fault.found
    assert found == (first.cause.id,)
    assert user.log[0].title == f"Found: {first.cause.name}" or user.log[1].title == f"Found: {first.cause.name}"
    from kyklon.faults.acts import cures_file

    assert cures.cured(cures_file()) == {first.cause.id: 1}
    user.press("New case", page)
    assert not session.build.fault.begun
    assert session.build.fault == user.saved.fault


def test_an_answer_makes_no_forecast_stale(user) -> None:
    user.write_card("blank-card")
    session = user.window.session
    session.run_bring_up()
    user.wait(lambda: session.bring_up_current)
    page = user.open(90)
    page.show_view(FINDER)
    pick(user, page.finder.conversation._add, "screen-black")
    assert session.bring_up_current
    talk = page.finder.conversation
    assert talk._likely[0].cause.id == "kernel-missing"
    assert user.sees("Preview: Use merrow-armv7.krn", talk)


@pytest.mark.long(keep=1)
@pytest.mark.parametrize("level", [1, 3, 5, 11, 18])
def test_a_drill_by_clicks(level: int, user, demo: Demo) -> None:
    """The player does what the finder advises: each drill is solved, and is worth its hundred percent."""
    page = user.open(90)
    page.show_view(PRACTICE)
    user.wait(lambda: page.practice._list.count() == 60)
    practice = page.practice
    practice.begin(level)
    user.wait(lambda: practice.state is not None)
    for _ in range(40):
        step = next_step(practice.state.case)
        if step.kind == "try":
            pick(user, practice._cause, step.id)
            user.press("Fix it", practice)
        else:
            pick(user, practice._check, step.id)
            user.press("Check", practice)
        if practice.state.solved:
            break
    assert practice.state.solved
    assert practice.state.score == 100
    user.wait()
    assert "Found" in practice._score.text()
    assert any(entry.title.startswith(f"Exercise {level} solved") for entry in user.log)
    assert practice._kept.progress[f"level-{level}"].best == 100


def test_steps_are_ticked_with_the_time_they_took(user) -> None:
    page = switch(user, "Real machine")
    assert page.view == STEPS
    user.click(page.steps.tick_of("power"))
    user.click(page.steps.tick_of("picture"))
    assert [tick.item for tick in user.saved.ticks] == ["power", "picture"]
    user.press("To the fault finder", page)
    assert page.view == FINDER
    page.show_view(FORECAST)
    assert page.view == FORECAST
