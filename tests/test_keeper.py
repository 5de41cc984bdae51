"""The thread that keeps a build folder: order, what is passed over, failures that are tried again, the end."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from kyklon.base.errors import BuildFolderError, KyklonError
from kyklon.catalogue.loader import Catalogue
from kyklon.demo import lighthouse
from kyklon.model.build import Build, edited
from kyklon.model.merge import Merged
from kyklon.record import folder as store
from kyklon.record import keeper as keeping
from kyklon.record.keeper import Keeper, Saved

WAIT_S = 60


class Desk:
    """Who hands builds over, and is told: what the window is to the keeper."""

    def __init__(self, folder: Path, build: Build) -> None:
        self.folder, self.build = folder, build
        self.told: list[Saved] = []
        self.raised: list[BaseException] = []
        self.news = threading.Condition()
        self.keeper = Keeper(folder, build, self.deliver, self.saved, store.stamp(folder))

    def deliver(self, act: Callable[[], object]) -> None:
        with self.news:
            try:
                act()
            except BaseException as bad:
                self.raised.append(bad)
            self.news.notify_all()

    def saved(self, told: Saved) -> None:
        self.told.append(told)

    def until(self, found: Callable[[], bool]) -> None:
        with self.news:
            assert self.news.wait_for(found, WAIT_S)

    def named(self, name: str) -> Build:
        return edited(self.build, "name", name)

    def on_disk(self) -> str:
        return store.load(self.folder).build.name

    def held(self) -> threading.Event:
        """Keep the thread busy until the event is set."""
        gate, there = threading.Event(), threading.Event()

        def work() -> None:
            there.set()
            assert gate.wait(WAIT_S)

        self.keeper.do(work, lambda _none: None, lambda _bad: None)
        assert there.wait(WAIT_S)
        return gate


@pytest.fixture
def desk(tmp_path: Path, catalogue: Catalogue) -> Iterator[Desk]:
    folder = tmp_path / "bench"
    folder.mkdir()
    build = lighthouse.build(catalogue, "0" * 64)
    store.save(folder, build)
    made = Desk(folder, build)
    yield made
    made.keeper.end()


class Disk:
    """Stands before save_since: counts, and fails as often as it is told."""

    def __init__(self, patch: pytest.MonkeyPatch) -> None:
        self.asked: list[tuple[str, str]] = []
        self.failures: list[BaseException] = []
        self._real = store.save_since
        patch.setattr(keeping.store, "save_since", self)

    def __call__(self, folder: Path, base: Build, build: Build) -> Merged:
        self.asked.append((base.name, build.name))
        if self.failures:
            raise self.failures.pop(0)
        return self._real(folder, base, build)


@pytest.fixture
def disk(monkeypatch: pytest.MonkeyPatch) -> Disk:
    return Disk(monkeypatch)


def test_of_saves_that_wait_the_newest_is_written_from_the_first_base(desk: Desk, disk: Disk) -> None:
    gate = desk.held()
    desk.keeper.save(desk.build, desk.named("one"))
    desk.keeper.save(desk.named("one"), desk.named("two"))
    unsaved = desk.keeper.unsaved
    assert unsaved is not None
    assert unsaved.name == "two"
    gate.set()
    desk.keeper.flush()
    assert disk.asked == [(desk.build.name, "two")]
    assert desk.on_disk() == "two"
    assert desk.keeper.unsaved is None
    assert [(told.given.name, told.error) for told in desk.told] == [("two", None)]


def test_what_lies_between_two_saves_finds_the_first(desk: Desk, disk: Disk) -> None:
    gate, seen = desk.held(), list[str]()
    desk.keeper.save(desk.build, desk.named("one"))
    desk.keeper.do(desk.on_disk, seen.append, lambda _bad: None)
    desk.keeper.save(desk.named("one"), desk.named("two"))
    desk.keeper.save(desk.named("two"), desk.named("three"))
    gate.set()
    desk.keeper.flush()
    assert seen == ["one"]
    assert disk.asked == [(desk.build.name, "one"), ("one", "three")]
    assert desk.on_disk() == "three"


def test_a_flush_waits_for_what_is_under_way(desk: Desk) -> None:
    gate, flushed = desk.held(), threading.Event()

    def wait() -> None:
        desk.keeper.flush()
        flushed.set()

    waiting = threading.Thread(target=wait)
    waiting.start()
    assert not flushed.wait(0.2)  # nothing waits any more, but the work is not done
    gate.set()
    assert flushed.wait(WAIT_S)
    waiting.join()


def test_a_save_that_failed_is_tried_again_until_it_is_there(
    desk: Desk, disk: Disk, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(keeping, "AGAIN_S", 0.02)
    full = BuildFolderError("the disk is full", do="make room")
    disk.failures = [full, full, full]
    desk.keeper.save(desk.build, desk.named("one"))
    desk.until(lambda: desk.told != [] and desk.told[-1].error is None)
    assert [told.error for told in desk.told] == [full, full, full, None]
    assert set(disk.asked) == {(desk.build.name, "one")}
    assert desk.raised == []
    assert desk.on_disk() == "one"
    assert desk.keeper.unsaved is None


def test_a_newer_build_takes_the_place_of_one_that_failed(desk: Desk, disk: Disk) -> None:
    """AGAIN_S stays long: the new save itself begins the next try, from the base that the failed one had."""
    disk.failures = [BuildFolderError("full", do="make room")]
    desk.keeper.save(desk.build, desk.named("one"))
    desk.until(lambda: len(desk.told) == 1)
    unsaved = desk.keeper.unsaved
    assert unsaved is not None
    assert unsaved.name == "one"
    desk.keeper.save(desk.named("one"), desk.named("two"))
    desk.until(lambda: len(desk.told) == 2)
    assert disk.asked == [(desk.build.name, "one"), (desk.build.name, "two")]
    assert desk.on_disk() == "two"


def test_a_save_that_fails_before_another_hands_its_base_on(desk: Desk, disk: Disk) -> None:
    gate = desk.held()
    disk.failures = [BuildFolderError("full", do="make room")]
    desk.keeper.save(desk.build, desk.named("one"))
    desk.keeper.do(lambda: None, lambda _none: None, lambda _bad: None)
    desk.keeper.save(desk.named("one"), desk.named("two"))
    gate.set()
    desk.keeper.flush()
    assert disk.asked == [(desk.build.name, "one"), (desk.build.name, "two")]
    assert desk.on_disk() == "two"


def test_an_error_that_nobody_expected_is_raised_once_and_the_thread_goes_on(
    desk: Desk, disk: Disk, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(keeping, "AGAIN_S", 0.02)
    disk.failures = [RuntimeError("worn"), RuntimeError("worn"), RuntimeError("worn")]
    desk.keeper.save(desk.build, desk.named("one"))
    desk.until(lambda: desk.told != [] and desk.told[-1].error is None)
    assert [str(bad) for bad in desk.raised] == ["worn"]  # told three times, raised once
    assert [isinstance(told.error, KyklonError) for told in desk.told] == [True, True, True, False]
    assert "worn" in str(desk.told[0].error)
    disk.failures = [RuntimeError("again")]
    desk.keeper.save(desk.named("one"), desk.named("two"))
    desk.until(lambda: desk.told[-1].error is None and desk.told[-1].given.name == "two")
    assert [str(bad) for bad in desk.raised] == ["worn", "again"]


def test_work_that_fails_is_told_and_the_next_is_done(desk: Desk) -> None:
    bad: list[KyklonError] = []
    done: list[Any] = []
    wrong = KyklonError("wrong", do="other")

    def fails(error: BaseException) -> Callable[[], object]:
        def work() -> object:
            raise error

        return work

    desk.keeper.do(fails(wrong), done.append, bad.append)
    desk.keeper.do(fails(ValueError("unexpected")), done.append, bad.append)
    desk.keeper.do(lambda: 7, done.append, bad.append)
    desk.keeper.flush()
    desk.until(lambda: done == [7])
    assert bad == [wrong]
    assert [str(each) for each in desk.raised] == ["unexpected"]


@pytest.mark.parametrize("failures", [1, 2])
def test_the_end_tries_what_failed_once_more(failures: int, desk: Desk, disk: Disk) -> None:
    """A save that failed before the end is tried once more at it, and no longer."""
    disk.failures = [BuildFolderError("full", do="make room")] * failures
    desk.keeper.save(desk.build, desk.named("one"))
    desk.until(lambda: len(desk.told) == 1)
    assert desk.keeper.alive
    desk.keeper.end()
    assert not desk.keeper.alive
    assert len(disk.asked) == 2
    assert desk.on_disk() == ("one" if failures == 1 else desk.build.name)
    assert (desk.keeper.unsaved is None) is (failures == 1)


def test_the_end_does_all_that_waits(desk: Desk) -> None:
    gate, done = desk.held(), list[int]()
    for number in range(5):
        desk.keeper.do(lambda number=number: number, done.append, lambda _bad: None)  # type: ignore[misc]
    desk.keeper.save(desk.build, desk.named("last"))
    desk.keeper.end_soon()
    gate.set()
    desk.keeper.end()
    assert done == [0, 1, 2, 3, 4]
    assert desk.on_disk() == "last"


def test_a_look_tells_what_others_saved_and_not_what_we_did(desk: Desk) -> None:
    desk.keeper.save(desk.build, desk.named("ours"))
    desk.keeper.look()
    desk.keeper.flush()
    assert [told.build.name for told in desk.told] == ["ours"]
    store.save(desk.folder, desk.named("theirs"))
    desk.keeper.look()
    desk.keeper.look()
    desk.keeper.flush()
    assert [told.build.name for told in desk.told] == ["ours", "theirs"]
    assert desk.told[-1].given.name == "ours"
    store.update(desk.folder, lambda build: edited(build, "boot.country", "NL"))  # an act of this program
    desk.keeper.look()
    desk.keeper.flush()
    assert len(desk.told) == 2
