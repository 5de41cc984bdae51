"""The demo while it is made: shown, stopped, and never opened half."""

from __future__ import annotations

from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from kyklon.app import start
from kyklon.app.shell.making import MakingWindow
from kyklon.base.errors import Cancelled
from kyklon.base.progress import CancelToken, Progress, Watch
from kyklon.catalogue.loader import Catalogue
from kyklon.demo import school_fair
from kyklon.demo.folders import is_current, make_current


def test_a_demo_that_was_broken_off_is_made_again(tmp_path: Path, catalogue: Catalogue) -> None:
    token, phases = CancelToken(), []

    def stop(report: Progress) -> None:
        phases.append((report.phase, report.fraction))
        if report.phase == "EDID":
            token.cancel()

    place = tmp_path / "fair"
    with pytest.raises(Cancelled):
        school_fair.make(place, catalogue, Watch(stop, token))
    assert place.exists()
    assert not is_current(place)
    assert make_current(school_fair.make, place, catalogue, Watch(lambda report: phases.append((report.phase, 0)))) == (
        place,
        None,  # nobody worked in it: nothing is put aside
    )
    assert is_current(place)
    assert [path.name for path in tmp_path.iterdir()] == ["fair"]
    shares = [share for _phase, share in phases[:4]]
    assert shares == sorted(shares)


def test_the_window_shows_the_making_and_stops_it(
    tmp_path: Path, catalogue: Catalogue, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    seen: list[str] = []

    def make(watch: Watch) -> Path:
        def sink(report: Progress) -> None:
            watch.sink(report)
            if len(seen) == 0:
                seen.append(report.phase)
                assert watch.cancel._event.wait(60)

        return school_fair.make(tmp_path / "fair", catalogue, Watch(sink, watch.cancel))

    original = MakingWindow.show_progress

    def shown(window: MakingWindow, report: Progress) -> None:
        original(window, report)
        seen.append(window._phase.text())
        qtbot.keyClick(window, Qt.Key.Key_Escape)

    monkeypatch.setattr(MakingWindow, "show_progress", shown)
    assert start.run(make) == 3
    assert seen == ["Drives", "Drives"]
    assert not is_current(tmp_path / "fair")
    assert not [toplevelwidget for toplevelwidget in QApplication.topLevelWidgets() if toplevelwidget.isVisible()]
