"""Shared fixtures: the shipped catalogue, and the demo build, made once and copied for each test."""

from __future__ import annotations

import hashlib
import importlib
import os
import pkgutil
import shutil
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from support import Demo

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from hypothesis import settings

from kyklon import commands
from kyklon.catalogue.loader import Catalogue, load
from kyklon.demo import lighthouse

for module in pkgutil.iter_modules(
    commands.__path__
):  # before a test puts something else in a name that they take over
    importlib.import_module(f"kyklon.commands.{module.name}")

# the same cases every time, and no deadline: a busy machine is no fault of the code
settings.register_profile("kyklon", deadline=None, derandomize=True)
settings.load_profile("kyklon")


@pytest.fixture(scope="session")
def catalogue() -> Catalogue:
    return load()


SHARED = ("library", "lists", "pictures", "samples", "sets")  # folders of files never written in place


@pytest.fixture(scope="session")
def demo_master(tmp_path_factory: pytest.TempPathFactory, catalogue: Catalogue) -> Iterator[Path]:
    """The demo as generated; never changed, although its copies share their files with it."""
    made = lighthouse.make(tmp_path_factory.mktemp("demo") / "lighthouse", catalogue)
    before = _digests(made)
    yield made
    assert _digests(made) == before, "a test wrote into a file that it shares with others: give it one of its own"


def _digests(folder: Path) -> dict[str, str]:
    return {
        str(path.relative_to(folder)): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in folder.rglob("*")
        if path.is_file()
    }


@pytest.fixture
def demo(demo_master: Path, tmp_path: Path) -> Demo:
    """A demo build of the test's own: what is written in place is copied, the rest is shared with the master."""
    place = tmp_path / "build"
    shutil.copytree(demo_master, place, ignore=lambda folder, _names: SHARED if Path(folder) == demo_master else ())
    for name in SHARED:
        shutil.copytree(demo_master / name, place / name, copy_function=os.link)
    return Demo(place)


@pytest.fixture(autouse=True)
def own_places(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """No test sees or touches the user's own settings and data."""
    for name in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME", "XDG_STATE_HOME"):
        monkeypatch.setenv(name, str(tmp_path / name.lower()))


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--quick", action="store_true", help="leave out what is marked long; keep=N: all but its first N")


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    if not config.getoption("--quick"):
        return
    met: Counter[str] = Counter()
    left = []
    for item in items:
        mark = item.get_closest_marker("long")
        name = item.nodeid.partition("[")[0]
        met[name] += 1
        if mark is not None and met[name] > mark.kwargs.get("keep", 0):
            left.append(item)
    config.hook.pytest_deselected(items=left)
    gone = set(map(id, left))
    items[:] = [item for item in items if id(item) not in gone]


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
