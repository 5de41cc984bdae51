"""Saving, loading, migrating, undo and the logbook."""

from __future__ import annotations

import json
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path

import pytest

from kyklon.base.errors import BuildFolderError, KyklonError, NewerBuild
from kyklon.model.build import Build, CardEvent, CardState, edited
from kyklon.record import folder as store
from kyklon.record import keeper as keeper_module
from kyklon.record.history import History
from kyklon.record.keeper import Keeper
from kyklon.record.logbook import Logbook
from support import Demo


def test_a_saved_build_comes_back_equal(demo: Demo) -> None:
    build = demo.build
    store.save(demo.folder, build)
    assert demo.build == build


def test_the_file_is_sorted_and_diffable(demo: Demo) -> None:
    text = (demo.folder / store.CURRENT).read_text(encoding="utf-8")
    data = json.loads(text)
    assert data["format"] == "kyklon-build"
    assert data["version"] == store.VERSION
    assert text == json.dumps(data, indent=1, sort_keys=True, ensure_ascii=False) + "\n"


KILLER = """
import os, sys
from pathlib import Path
from kyklon.record import folder as store
from kyklon.model.build import edited
place, step = Path(sys.argv[1]), int(sys.argv[2])
build = edited(store.load(place).build, "name", "the new name")
count = 0
def dying(real):
    def call(*a, **k):
        global count
        count += 1
        if count == step:
            os._exit(9)
        return real(*a, **k)
    return call
os.replace, os.fsync = dying(os.replace), dying(os.fsync)
real_open = Path.open
Path.open = dying(real_open)
Path.write_bytes = dying(Path.write_bytes)
store.save(place, build)
print("whole", count)
"""


def test_killing_a_save_at_any_step_leaves_the_old_or_the_new_build(demo: Demo) -> None:
    old = demo.build
    outcomes = set()
    for step in range(1, 20):
        store.save(demo.folder, old)
        run = subprocess.run(
            [sys.executable, "-c", KILLER, str(demo.folder), str(step)], capture_output=True, text=True
        )
        found = store.load(demo.folder).build
        assert found.name in (old.name, "the new name")
        assert edited(found, "name", old.name) == old
        outcomes.add((run.returncode, found.name))
        if run.returncode == 0:
            break
    assert (9, old.name) in outcomes  # killed before the rename
    assert (9, "the new name") in outcomes  # killed after it
    assert run.returncode == 0, run.stderr


def test_a_damaged_build_falls_back_to_the_save_before(demo: Demo) -> None:
    build = demo.build
    store.save(demo.folder, edited(build, "name", "second"))
    store.save(demo.folder, edited(build, "name", "third"))
    damaged = demo.folder / store.CURRENT
    damaged.write_text(damaged.read_text(encoding="utf-8")[:200], encoding="utf-8")
    opened = store.load(demo.folder)
    assert opened.build.name == "second"
    assert "damaged" in opened.warning


@pytest.mark.parametrize(
    "damage", ["{", "{}", '{"format": "kyklon-build"}', "[" * 100_000, '{"a": ' + "9" * 5000 + "}", "\0"]
)
def test_a_damaged_build_and_the_good_save_before_both_stay(demo: Demo, damage: str) -> None:
    current, previous = demo.folder / store.CURRENT, demo.folder / store.PREVIOUS
    store.save(demo.folder, edited(demo.build, "name", "good"))
    store.save(demo.folder, edited(demo.build, "name", "newer"))
    for number in ("", "-2", "-3"):  # a command saves over it, thrice
        good = previous.read_bytes()
        current.write_text(damage + " " * int(number[1:] or 0), encoding="utf-8")
        store.update(demo.folder, lambda kept: edited(kept, "name", kept.name + "+"))
        assert (demo.folder / f"build.json.damaged{number}").read_text(encoding="utf-8").startswith(damage)
        assert previous.read_bytes() == good
        assert demo.build.name == "good+"


@pytest.mark.parametrize("change", [{"version": store.VERSION + 1}, {"version": 99, "parts": "in a way unknown yet"}])
def test_a_newer_build_is_refused_and_left_alone(demo: Demo, change: dict[str, object]) -> None:
    path = demo.folder / store.CURRENT
    data = json.loads(path.read_text(encoding="utf-8")) | change
    path.write_text(json.dumps(data), encoding="utf-8")
    before = path.read_bytes()
    with pytest.raises(NewerBuild, match="newer"):
        store.load(demo.folder)
    assert path.read_bytes() == before


@pytest.mark.parametrize("text", ["", "[]", "{}", '{"format": "else", "version": 1}', "null", "\x00"])
def test_what_is_no_build_is_an_error(tmp_path: Path, text: str) -> None:
    (tmp_path / store.CURRENT).write_text(text, encoding="utf-8")
    with pytest.raises(BuildFolderError):
        store.load(tmp_path)


def test_a_change_to_what_is_no_build_leaves_nothing_behind(tmp_path: Path) -> None:
    for folder in (tmp_path / "none", tmp_path):
        with pytest.raises(BuildFolderError):
            store.update(folder, lambda build: build)
    assert not list(tmp_path.iterdir())


def test_a_folder_that_is_not_there_is_named(tmp_path: Path) -> None:
    with pytest.raises(BuildFolderError, match="nowhere"):
        store.load(tmp_path / "nowhere")


def test_old_versions_migrate_in_ordered_steps(demo: Demo, monkeypatch: pytest.MonkeyPatch) -> None:
    data = json.loads((demo.folder / store.CURRENT).read_text(encoding="utf-8"))
    data["version"] = -1
    data["title"] = data.pop("name")

    def to_zero(old: dict[str, object]) -> dict[str, object]:
        return {**old, "version": 0, "label": old.pop("title")}

    def to_one(old: dict[str, object]) -> dict[str, object]:
        new = {**old, "version": 1, "name": old["label"]}
        del new["label"], new["title"]
        return new

    old_steps = dict(store.MIGRATIONS)

    monkeypatch.setattr(store, "MIGRATIONS", {-1: to_zero, 0: to_one, **old_steps})
    data_now = store.migrated({**data, "title": data["title"]}, demo.folder)
    assert Build.model_validate(data_now).name == "Lighthouse Café table"


def test_an_edit_makes_a_new_build_and_checks_it(demo: Demo) -> None:
    build = demo.build
    other = edited(build, "boot.country", "NL")
    assert (build.boot.country, other.boot.country) == ("GB", "NL")
    with pytest.raises(ValueError, match="country"):
        edited(build, "boot.country", "Holland")
    with pytest.raises(KeyError):
        edited(build, "boot.colour", "red")


def test_undo_and_redo_walk_the_edits_but_not_the_world(demo: Demo) -> None:
    build = demo.build
    history = History(build)
    history.edit("Country", edited(build, "boot.country", "NL"))
    history.edit("Country", edited(build, "boot.country", "BE"))
    history.replace(edited(history.build, "card", {"drive": "sim:x", "state": CardState.PROVEN}))
    assert history.undo_label == "Country"
    history.undo()
    history.undo()
    assert history.build.boot.country == "GB"
    assert history.build.card.state is CardState.PROVEN
    history.undo()
    assert history.undo_label == ""
    history.redo()
    assert history.build.boot.country == "NL"
    history.edit("Country", edited(history.build, "boot.country", "FR"))
    assert history.redo_label == ""


def test_the_logbook_finds_entries_by_all_words(tmp_path: Path) -> None:
    book = Logbook(tmp_path)
    book.add(20, "Card written", "to blank-card, 100 % proven")
    book.add(30, "Boot files put on the card")
    book.add(0, "Glued the left foot", kind="own")
    assert [entry.title for entry in book.entries("card written")] == ["Card written"]
    assert len(book.entries("card")) == 2
    assert book.entries("100 %")[0].operation == 20
    assert book.entries("100_%") == ()
    text = book.markdown("My build")
    assert text.index("Card written") < text.index("Glued the left foot")
    assert "(own entry)" in text


def test_a_logbook_that_is_no_database_is_told(tmp_path: Path) -> None:
    (tmp_path / "logbook.sqlite3").write_bytes(b"not a database, but long enough to be looked at" * 40)
    with pytest.raises(BuildFolderError, match="logbook"):
        Logbook(tmp_path).entries()


def test_undoing_keeps_what_happened_to_cards_and_takes_back_their_names(demo: Demo) -> None:
    history = History(demo.build)
    history.edit("country", edited(demo.build, "boot.country", "NL"))
    history.replace(history.build.with_event("sim:a", 10, CardEvent(at="2026-06-01T10:00:00", what="probed")))
    named = [{**card.model_dump(), "name": "Lighthouse one"} for card in history.build.cards]
    history.edit("name", edited(history.build, "cards", named))
    history.replace(history.build.with_event("sim:a", 10, CardEvent(at="2026-06-01T11:00:00", what="backed up")))
    history.undo()
    history.undo()
    assert history.build.boot.country == demo.build.boot.country
    (card,) = history.build.cards
    assert [event.what for event in card.events] == ["probed", "backed up"]
    history.redo()
    history.redo()
    assert history.build.cards[0].name == "Lighthouse one"


def test_a_build_of_the_first_format_opens_with_the_new_fields(demo: Demo) -> None:
    path = demo.folder / store.CURRENT
    data = json.loads(path.read_text(encoding="utf-8"))
    for name in ("cards", "medium", "sets"):
        del data[name]
    data["version"] = 1
    path.write_text(json.dumps(data), encoding="utf-8")
    build = store.load(demo.folder).build
    assert (build.version, build.cards, build.medium) == (store.VERSION, (), "card")


def test_a_build_of_the_second_format_gets_the_kernels_new_names(demo: Demo) -> None:
    path = demo.folder / store.CURRENT
    data = json.loads(path.read_text(encoding="utf-8"))
    data["version"] = 2
    data["boot"]["kernel"] = "merrow7.krn"
    data["tuning"]["systems"] = {"birch-16": {"run-ahead-frames": 2, "smoothing": True}}
    data["tuning"]["front_end"] = {"run-ahead-frames": 1}
    path.write_text(json.dumps(data), encoding="utf-8")
    build = store.load(demo.folder).build
    assert build.boot.kernel == "merrow-armv7.krn"
    assert build.tuning.systems["birch-16"] == {"frames-ahead": 2, "smoothing": True}
    assert build.tuning.front_end == {"frames-ahead": 1}
    data["boot"]["kernel"] = "own7.krn"  # somebody's own file keeps its name
    path.write_text(json.dumps(data), encoding="utf-8")
    assert store.load(demo.folder).build.boot.kernel == "own7.krn"


def test_a_save_over_a_damaged_file_keeps_the_last_good_one(demo: Demo) -> None:
    good = demo.build
    store.save(demo.folder, edited(good, "name", "second"))
    (demo.folder / store.CURRENT).write_text("{", encoding="utf-8")
    store.update(demo.folder, lambda build: edited(build, "name", "third"))
    assert demo.build.name == "third"
    assert (demo.folder / f"{store.CURRENT}.damaged").read_text(encoding="utf-8") == "{"
    (demo.folder / store.CURRENT).write_text("{", encoding="utf-8")
    assert store.load(demo.folder).build == good


def test_the_keeper_saves_the_newest_and_answers_in_order(demo: Demo) -> None:
    told: list[object] = []
    keeper = Keeper(demo.folder, demo.build, lambda act: act(), lambda saved: told.append(saved.error or "saved"))
    book = Logbook(demo.folder)
    for number in range(20):
        keeper.save(demo.build, edited(demo.build, "name", f"name {number}"))
    keeper.do(lambda: book.add(0, "Note"), lambda _entry: told.append("noted"), told.append)
    keeper.do(book.count, told.append, told.append)
    keeper.flush()
    assert demo.build.name == "name 19"
    assert told[-2:] == ["noted", book.count()]
    assert 1 <= told.count("saved") < 20
    keeper.end()
    assert not keeper.alive


def test_the_keeper_tells_of_a_disk_that_fails_and_goes_on(demo: Demo, monkeypatch: pytest.MonkeyPatch) -> None:
    told: list[object] = []
    keeper = Keeper(demo.folder, demo.build, lambda act: act(), lambda saved: told.append(saved.error))
    with monkeypatch.context() as broken:
        broken.setattr(
            store.durable, "replace", lambda *_a: (_ for _ in ()).throw(OSError(28, "No space left on device"))
        )
        keeper.save(demo.build, edited(demo.build, "name", "in vain"))
        keeper.flush()
    assert isinstance(told[0], BuildFolderError)
    keeper.save(demo.build, edited(demo.build, "name", "after"))
    keeper.flush()
    keeper.end()
    assert told[1] is None
    assert demo.build.name == "after"


def test_an_error_that_nobody_expected_ends_neither_the_thread_nor_the_saving(
    demo: Demo, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A disk's driver that raises what no file system does, a log entry that cannot be, a receiver that is gone."""
    told: list[object] = []
    raised: list[BaseException] = []

    def deliver(act: Callable[[], object]) -> None:
        try:
            act()
        except Exception as bad:
            raised.append(bad)

    keeper = Keeper(demo.folder, demo.build, deliver, lambda saved: told.append(saved.error))
    keeper.do(lambda: 1 / 0, told.append, told.append)
    with monkeypatch.context() as broken:
        broken.setattr(
            store.durable, "replace", lambda *_a: (_ for _ in ()).throw(UnicodeEncodeError("x", "", 0, 1, "y"))
        )
        wanted = edited(demo.build, "name", "kept")
        keeper.save(demo.build, wanted)
        keeper.flush()
        assert keeper.alive
        assert keeper.unsaved == wanted
        keeper.save(wanted, edited(wanted, "boot.hostname", "newer"))
        keeper.flush()
    assert [type(base_exception) for base_exception in raised] == [ZeroDivisionError, UnicodeEncodeError]
    assert all(isinstance(bad, KyklonError) for bad in told)
    keeper.do(lambda: "asked", told.append, told.append)
    keeper.end()  # tries once more what was not saved
    assert keeper.unsaved is None
    assert told[-1] is None
    assert "asked" in told
    assert (demo.build.name, demo.build.boot.hostname) == ("kept", "newer")


def test_a_save_that_failed_is_tried_again_by_itself(demo: Demo, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(keeper_module, "AGAIN_S", 0.01)
    saved = threading.Event()
    keeper = Keeper(demo.folder, demo.build, lambda act: act(), lambda told: told.error or saved.set())
    real, tries = store.durable.replace, []

    def failing(path: Path, data: bytes) -> None:
        tries.append(path)
        if len(tries) < 4:
            raise OSError(5, "Input/output error")
        real(path, data)

    monkeypatch.setattr(store.durable, "replace", failing)
    keeper.save(demo.build, edited(demo.build, "name", "in the end"))
    assert saved.wait(300)
    keeper.end()
    assert demo.build.name == "in the end"
