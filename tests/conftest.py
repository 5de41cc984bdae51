"""Shared fixtures: the shipped catalogue, and the demo build, made once and copied for each test."""

from __future__ import annotations

import os
import shutil
from pathlib import Path
from typing import Any

import pytest

from support import Demo

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from hypothesis import settings

from kyklon.catalogue.loader import Catalogue, load
from kyklon.demo import lighthouse

# the same cases every time, and no deadline: a busy machine is no fault of the code
settings.register_profile("kyklon", deadline=None, derandomize=True)
settings.load_profile("kyklon")


@pytest.fixture(scope="session")
def catalogue() -> Catalogue:
    return load()


@pytest.fixture(scope="session")
def demo_master(tmp_path_factory: pytest.TempPathFactory, catalogue: Catalogue) -> Path:
    """The demo as generated; never changed."""
    return lighthouse.make(tmp_path_factory.mktemp("demo") / "lighthouse", catalogue)


@pytest.fixture
def demo(demo_master: Path, tmp_path: Path) -> Demo:
    """A demo build of the test's own."""
    place = tmp_path / "build"
    shutil.copytree(demo_master, place)
    return Demo(place)


@pytest.fixture(autouse=True)
def own_places(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """No test sees or touches the user's own settings and data."""
    for name in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME"):
        monkeypatch.setenv(name, str(tmp_path / name.lower()))


def pytest_terminal_summary(terminalreporter: Any) -> None:
    """As the last line: what was not run here, and why."""
    why: dict[str, int] = {}
    for report in terminalreporter.stats.get("skipped", []):
        reason = str(report.longrepr[2]).removeprefix("Skipped: ") if isinstance(report.longrepr, tuple) else ""
        reason = reason.partition(": Command")[0]
        why[reason] = why.get(reason, 0) + 1
    if why:
        told = "; ".join(f"{count} for {reason}" if reason else str(count) for reason, count in why.items())
        terminalreporter.write_line(f"{sum(why.values())} not run here: {told}")
