"""Two at one build: processes, windows and commands. Nothing of either is lost, and no reader meets half a file."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kyklon.demo import lighthouse
from kyklon.model.build import Build, CardEvent, CardRecord, CardState, KnownCard, edited
from kyklon.model.merge import merge
from kyklon.record import folder as store
from kyklon.record.keeper import Keeper, Saved
from kyklon.record.shelf import Shelf, ShelfImage
from support import Demo

# --- merging -----------------------------------------------------------------------------------------------------

EDITS: dict[str, list[Any]] = {
    "name": ["One", "Two", "Three"],
    "boot.country": ["NL", "BE", ""],
    "boot.hostname": ["a", "b"],
    "library.destination": ["stick", "/x"],
    "tuning.front_end": [{"a": 1}, {"b": 2}, {"a": 1, "b": 3}],
    "boot.kernel_words": [("quiet",), ("quiet", "splash"), ()],
    "medium": ["card", "disk"],
}
changes = st.lists(st.sampled_from([(path, value) for path, values in EDITS.items() for value in values]), max_size=4)


def changed(build: Build, edits: list[tuple[str, Any]]) -> Build:
    for path, value in edits:
        build = edited(build, path, value)
    return build


@pytest.fixture(scope="module")
def base(tmp_path_factory: pytest.TempPathFactory) -> Build:
    from kyklon.catalogue import loader

    return lighthouse.build(loader.load(None), "0" * 64)


@given(mine=changes, theirs=changes)
@settings(max_examples=150, deadline=None)
def test_what_either_changed_is_in_the_merge(base: Build, mine: list[Any], theirs: list[Any]) -> None:
    ours, others = changed(base, mine), changed(base, theirs)
    found = merge(base, ours, others)
    for path in EDITS:
        values = [_at(build, path) for build in (base, ours, others, found.build)]
        was, ours_now, others_now, now = values
        if path == "tuning.front_end":
            continue
        if ours_now != was:
            assert now == ours_now
            assert (path in found.conflicts) == (others_now not in (was, ours_now))
        else:
            assert now == others_now
    assert merge(base, ours, base).build == ours
    assert merge(base, base, others).build == others
    assert merge(base, ours, ours) == merge(base, base, ours)


def _at(build: Build, path: str) -> Any:
    value: Any = build
    for name in path.split("."):
        value = getattr(value, name)
    return value


def test_events_of_a_card_add_up_and_the_later_record_counts(base: Build) -> None:
    def written(at: str, what: str) -> Build:
        build = base.with_event("sim:c", 9, CardEvent(at=at, what=what))
        return edited(build, "card", CardRecord(drive="sim:c", state=CardState.PROVEN, at=at, verdict=what))

    found = merge(base, written("2026-01-02T00:00:00", "mine"), written("2026-01-03T00:00:00", "theirs")).build
    assert [event.what for event in found.known_card("sim:c").events] == ["mine", "theirs"]  # type: ignore[union-attr]
    assert found.card.verdict == "theirs"


def test_a_card_named_here_and_one_written_there(base: Build) -> None:
    both = edited(base, "cards", (KnownCard(identity="a", name="Card 1"), KnownCard(identity="b", name="Card 2")))
    mine = edited(both, "cards", (KnownCard(identity="a", name="Lantern"), both.cards[1]))
    theirs = both.with_event("b", 5, CardEvent(at="2026-01-01T00:00:00", what="probed"))
    found = merge(both, mine, theirs)
    assert [card.name for card in found.build.cards] == ["Lantern", "Card 2"]
    assert found.build.cards[1].events
    assert found.conflicts == ()


# --- processes ---------------------------------------------------------------------------------------------------

WRITER = """
import sys
from pathlib import Path
from kyklon.model.build import edited
from kyklon.record import folder as store
from kyklon.record.shelf import Shelf, ShelfImage
folder, who, rounds = Path(sys.argv[1]), sys.argv[2], int(sys.argv[3])
for number in range(rounds):
    def change(build):
        words = tuple(build.boot.kernel_words) + (f"{who}{number}",)
        return edited(build, "boot.kernel_words", words)
    store.update(folder, change)
    Shelf(folder / "shelf.json").put(ShelfImage(path=f"/images/{who}{number}.img"))
"""
READER = """
import sys
from pathlib import Path
from kyklon.record import folder as store
folder = Path(sys.argv[1])
while not (folder / "stop").exists():
    opened = store.load(folder)
    assert not opened.warning, opened.warning
print("read")
"""


def two_processes(folder: Path, rounds: int) -> None:
    """Two writers and a reader; raises AssertionError when anything is lost or unreadable."""
    reader = subprocess.Popen([sys.executable, "-c", READER, str(folder)], stdout=subprocess.PIPE, text=True)
    writers = [subprocess.Popen([sys.executable, "-c", WRITER, str(folder), who, str(rounds)]) for who in "ab"]
    assert [writer.wait() for writer in writers] == [0, 0]
    (folder / "stop").touch()
    assert reader.communicate()[0] == "read\n"
    words = set(store.load(folder).build.boot.kernel_words)
    wanted = {f"{who}{number}" for who in "ab" for number in range(rounds)}
    assert wanted <= words
    assert {Path(image.path).stem for image in Shelf(folder / "shelf.json").images()} >= wanted


def test_two_processes_lose_nothing_of_each_other(demo: Demo) -> None:
    two_processes(demo.folder, 12)


def test_a_killed_writer_leaves_no_lock(demo: Demo) -> None:
    script = (
        "import os, sys; from pathlib import Path; from kyklon.record import folder as s\n"
        "s.update(Path(sys.argv[1]), lambda build: os._exit(9))"
    )
    assert subprocess.run([sys.executable, "-c", script, str(demo.folder)]).returncode == 9
    store.update(demo.folder, lambda build: edited(build, "name", "still going"))
    assert demo.build.name == "still going"


def test_remedies_of_two_processes_both_hold(demo: Demo) -> None:
    wanted = {"boot.country": "NL", "boot.hostname": "arcade", "boot.user": "mate", "library.destination": "x"}
    commands = [[sys.executable, "-m", "kyklon", "set", str(demo.folder), *each] for each in wanted.items()]
    runs = [subprocess.Popen(command, stdout=subprocess.DEVNULL) for command in commands]
    assert [run.wait() for run in runs] == [0] * 4
    build = demo.build
    assert (build.boot.country, build.boot.hostname, build.boot.user) == ("NL", "arcade", "mate")
    assert build.library.destination == "x"


# --- the window's keeper -----------------------------------------------------------------------------------------


def test_what_a_window_saves_keeps_what_a_command_saved(demo: Demo) -> None:
    told: list[Saved] = []
    build = demo.build
    keeper = Keeper(demo.folder, build, lambda act: act(), told.append)
    store.update(demo.folder, lambda kept: edited(kept, "boot.country", "BE"))
    keeper.save(build, edited(build, "boot.hostname", "window"))
    keeper.end()
    assert (demo.build.boot.country, demo.build.boot.hostname) == ("BE", "window")
    assert told[-1].build == demo.build
    assert told[-1].conflicts == ()


def test_the_same_field_changed_twice_is_a_conflict_that_is_told(demo: Demo) -> None:
    told: list[Saved] = []
    build = demo.build
    keeper = Keeper(demo.folder, build, lambda act: act(), told.append)
    store.update(demo.folder, lambda kept: edited(kept, "boot.hostname", "command"))
    keeper.save(build, edited(build, "boot.hostname", "window"))
    keeper.end()
    assert demo.build.boot.hostname == "window"
    assert told[-1].conflicts == ("boot.hostname",)


def test_a_look_passes_over_what_this_program_saved_but_not_over_what_another_did(demo: Demo) -> None:
    told: list[Saved] = []
    opened = store.load(demo.folder)
    keeper = Keeper(demo.folder, opened.build, lambda act: act(), told.append, opened.stamp)
    store.update(demo.folder, lambda kept: edited(kept, "boot.country", "BE"))
    keeper.look()
    keeper.flush()
    assert told == []
    subprocess.run(
        [sys.executable, "-m", "kyklon", "set", str(demo.folder), "boot.hostname", "command"],
        check=True,
        stdout=subprocess.DEVNULL,
    )
    store.update(demo.folder, lambda kept: edited(kept, "boot.country", "NL"))
    keeper.look()
    keeper.end()
    assert [(saved.build.boot.country, saved.build.boot.hostname) for saved in told] == [("NL", "command")]


def test_names_that_are_taken_by_hand(tmp_path: Path) -> None:
    """A link in place of the lock or of the fresh file is not followed."""
    victim = tmp_path / "victim"
    victim.write_text("theirs", encoding="utf-8")
    shelf = Shelf(tmp_path / "shelf" / "shelf.json")
    shelf.put(ShelfImage(path="/a.img"))
    for name in (".shelf.json.lock", ".shelf.json.unfinished"):
        (tmp_path / "shelf" / name).unlink(missing_ok=True)
        (tmp_path / "shelf" / name).symlink_to(victim)
        with pytest.raises(Exception, match="cannot be written"):
            shelf.put(ShelfImage(path="/b.img"))
        (tmp_path / "shelf" / name).unlink()
    assert victim.read_text(encoding="utf-8") == "theirs"
    assert json.loads(shelf.path.read_text(encoding="utf-8"))["images"][0]["path"] == "/a.img"
    assert os.path.exists(shelf.path)
