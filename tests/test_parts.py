"""Parts of the user's own: the shelf's files, drafts, copies in builds, what is brought in, and bytes from anywhere."""

from __future__ import annotations

import json
import random
import shutil
import subprocess
import sys
import threading
from pathlib import Path
from typing import Any

import ezdxf
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kyklon.base import units
from kyklon.base.errors import CatalogueError, FormatError, KyklonError, WrongUse
from kyklon.base.places import catalogue_folder
from kyklon.catalogue import loader, remembered
from kyklon.catalogue.control_records import Keyboard
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Card, Display, Supply
from kyklon.catalogue.text_records import Dialect
from kyklon.commands import main
from kyklon.demo import samples
from kyklon.devices.choose import displays_of, inputs_of
from kyklon.devices.linux.displays import LinuxDisplays
from kyklon.devices.linux.inputs import interval_of
from kyklon.devices.ports import AxisFacts, InputEvent, InputFacts
from kyklon.devices.simulated.inputs import SimulatedInput, SimulatedInputs, StandIn, Switch
from kyklon.model.build import PartCopy, edited
from kyklon.model.card import Program, Unit
from kyklon.model.world import World
from kyklon.operations import inspection
from kyklon.operations.plan.acts import fresh_build, start_build, with_part_used
from kyklon.parts import (
    board,
    copies,
    display,
    encoder,
    exchange,
    image,
    learning,
    panel,
    simple,
    system,
    trust,
    uses,
    view,
)
from kyklon.parts.draft import Draft
from kyklon.parts.fields import FIELDS, field_of
from kyklon.parts.image import front_of
from kyklon.parts.store import Store, plain_row, text_for
from kyklon.record import builds
from kyklon.record import folder as store
from support import Demo, that_ends

BOX = samples.FOLDER


@pytest.fixture
def shelf(tmp_path: Path) -> Store:
    return Store(tmp_path / "catalogue")


def own_board(catalogue: Catalogue, part_id: str = "my-ling") -> dict[str, object]:
    return {**plain_row(catalogue.get(Board, "ling")), "id": part_id, "name": "My Ling"}


# --- units -----------------------------------------------------------------------------------------------------------


@given(st.floats(1e-3, 1e6), st.sampled_from(["A", "mm", "kHz", "MHz", "ms", "GB", "MB/s", "V", "%", "K/W"]))
def test_what_is_shown_reads_back(value: float, unit: str) -> None:
    assert units.measure(units.words(value, unit, 9), unit) == pytest.approx(value, rel=1e-5, abs=1e-8)


@given(st.text(max_size=80), st.sampled_from(["A", "mm", "AWG", "", "Hz"]))
def test_whatever_is_typed_is_a_quantity_or_a_sentence(text: str, unit: str) -> None:
    try:
        assert isinstance(units.measure(text, unit), float)
    except ValueError as bad:
        assert len(str(bad)) < 300


@pytest.mark.parametrize(
    ("kind", "name", "text", "told"),
    [
        ("boards", "peak_a", "200", "0.01"),
        ("boards", "peak_a", "2 V", "unit of current"),
        ("cables", "awg", "99 AWG", "gauges go"),
        ("displays", "ranges", "15 to 16", "both rates"),
        ("displays", "ranges", "16 to 15 kHz, 49 to 63 Hz", "lowest"),
        ("systems", "refresh", "60000 Hz", "1"),
        ("boards", "native_set", "MIPS", "one of"),
        ("encoders", "vendor", "xyzzy", "hexadecimal"),
        ("displays", "native", "640", "two numbers"),
        ("supplies", "volts", "", "asked"),
        ("boards", "runs", "ARMv7 x86", "x86"),
    ],
)
def test_a_wrong_entry_says_what_is_wrong(kind: str, name: str, text: str, told: str) -> None:
    draft = Draft(kind, asked=(name,))
    with pytest.raises(ValueError, match=told):
        draft.answered(name, text)


@pytest.mark.parametrize(
    ("kind", "name", "text", "value"),
    [
        ("boards", "peak_a", "900 mA", 0.9),
        ("displays", "width_mm", "15 in", 381.0),
        ("cables", "awg", "0.205 mm²", 24),
        ("boards", "most_clock_hz", "297 MHz", 297_000_000),
        ("cards", "capacity_bytes", "31.9 GB", 31_900_000_000),
        ("boards", "processor_mhz", "1.2 GHz", (1200, 1200)),
        ("systems", "refresh", "59,73 Hz", "59.73"),
        ("systems", "aspect", "4:3", (4, 3)),
        ("displays", "ranges", "15.2–16.5 kHz, 49–63 Hz", ({"line_khz": [15.2, 16.5], "field_hz": [49.0, 63.0]},)),
    ],
)
def test_units_are_understood_as_people_write_them(kind: str, name: str, text: str, value: object) -> None:
    draft = Draft(kind, asked=(name,)).answered(name, text)
    assert draft.row[name] == value
    asked = field_of(kind, name)
    assert asked is not None
    again = asked.parse(asked.typed(draft.row[name]))
    assert again == value or again == pytest.approx(value)


def test_every_shipped_fact_reads_back_as_it_is_typed(catalogue: Catalogue) -> None:
    for kind, rows in catalogue.parts.items():
        for part in rows.values():
            for asked in FIELDS.get(kind, ()):
                value = getattr(part, asked.name, None)
                if value in (None, "", ()):
                    continue
                again = asked.parse(asked.typed(value))
                if asked.kind == "ranges":
                    again = tuple(type(value[0]).model_validate(each) for each in again)
                assert again == pytest.approx(value) if asked.kind in ("number", "pair") else again == value, (
                    kind,
                    part.id,
                    asked.name,
                )


# --- the shelf's files -----------------------------------------------------------------------------------------------


def test_every_kind_of_part_goes_on_the_shelf_and_comes_back(shelf: Store, catalogue: Catalogue) -> None:
    for kind, rows in catalogue.parts.items():
        part = next(iter(rows.values()))
        shelf.add(kind, {**plain_row(part), "id": "own"})
        assert loader.load(shelf.folder).parts[kind]["own"].model_copy(update={"id": part.id}) == part


def test_remarks_survive_and_only_named_facts_change(shelf: Store, catalogue: Catalogue) -> None:
    path = shelf.add("boards", own_board(catalogue)).path
    text = path.read_text().replace("memory_mb = 4096", "memory_mb = 4096  # two chips") + "# the end\n"
    path.write_text(text)
    step = shelf.change(
        "boards", "my-ling", {"peak_a": 2.5, "lamps.idle": "slow", "known": {"peak_a": {"how": "measured"}}}
    )
    after = path.read_text()
    assert "# two chips" in after
    assert "# the end" in after
    part = loader.load(shelf.folder).get(Board, "my-ling")
    assert (part.peak_a, part.lamps.idle, part.known["peak_a"].how, part.memory_mb) == (2.5, "slow", "measured", 4096)
    shelf.undo(step)
    assert path.read_text() == text


def test_undo_never_takes_somebody_elses_change(shelf: Store, catalogue: Catalogue) -> None:
    shelf.add("boards", own_board(catalogue))
    step = shelf.change("boards", "my-ling", {"peak_a": 2.0})
    shelf.change("boards", "my-ling", {"note": "theirs"})
    with pytest.raises(WrongUse, match="changed elsewhere"):
        shelf.undo(step)
    assert loader.load(shelf.folder).get(Board, "my-ling").note == "theirs"


def test_a_deleted_part_comes_back_by_undo(shelf: Store, catalogue: Catalogue) -> None:
    text = shelf.add("boards", own_board(catalogue)).after
    step = shelf.remove("boards", "my-ling")
    assert not step.path.exists()
    shelf.undo(step)
    assert step.path.read_text() == text


def test_a_wrong_change_changes_nothing(shelf: Store, catalogue: Catalogue) -> None:
    path = shelf.add("boards", own_board(catalogue)).path
    before = path.read_text()
    with pytest.raises(CatalogueError, match="peak_a"):
        shelf.change("boards", "my-ling", {"peak_a": -1})
    with pytest.raises(WrongUse, match="already"):
        shelf.add("boards", own_board(catalogue))
    with pytest.raises(WrongUse, match="already"):
        shelf.add("boards", own_board(catalogue, "ling"))
    with pytest.raises(WrongUse, match="no board of your own"):
        shelf.change("boards", "ling", {"peak_a": 1})
    for name in ("../escape", "a/b", "", "A B"):
        with pytest.raises((WrongUse, CatalogueError)):
            shelf.add("boards", own_board(catalogue, name))
    assert path.read_text() == before


def test_a_row_among_others_is_edited_where_it_stands(shelf: Store, catalogue: Catalogue) -> None:
    shelf.folder.mkdir(parents=True)
    rows = [{**plain_row(catalogue.get(Card, "cockle-32")), "id": each, "name": each} for each in ("one", "two")]
    (shelf.folder / "cards.toml").write_text("# mine\n" + text_for({"cards": rows}))
    shelf.change("cards", "two", {"write_mb_s": 33.0})
    shelf.remove("cards", "one")
    made = loader.load(shelf.folder)
    assert (made.find(Card, "one"), made.get(Card, "two").write_mb_s) == (None, 33.0)
    assert (shelf.folder / "cards.toml").read_text().startswith("# mine")


def test_two_at_once_lose_nothing(shelf: Store, catalogue: Catalogue) -> None:
    """Two windows, or a window and a command: each changes another fact of one part, and adds parts, again and
    again."""
    shelf.add("boards", own_board(catalogue))
    wrong: list[BaseException] = []

    def work(name: str, field: str) -> None:
        own = Store(shelf.folder)
        try:
            for number in range(1, 16):
                own.change("boards", "my-ling", {field: number / 10})
                own.add(
                    "cards", {**plain_row(catalogue.get(Card, "cockle-32")), "id": f"{name}-{number}", "name": name}
                )
        except BaseException as bad:
            wrong.append(bad)

    threads = [
        threading.Thread(target=work, args=each) for each in (("a", "peak_a"), ("b", "typical_a"), ("c", "price"))
    ]
    for thread in threads:
        thread.start()
    program = (
        "from pathlib import Path; from kyklon.parts.store import Store; import sys; shelf = Store(Path(sys.argv[1]))\n"
    )
    program += "for n in range(1, 16): shelf.change('boards', 'my-ling', {'memory_mb': 100 * n})"
    subprocess.run([sys.executable, "-c", program, str(shelf.folder)], check=True)
    for thread in threads:
        thread.join()
    assert wrong == []
    made = loader.load(shelf.folder)
    part = made.get(Board, "my-ling")
    assert (part.peak_a, part.typical_a, part.price, part.memory_mb) == (1.5, 1.5, 1.5, 1500)
    assert sum(kind == "cards" for kind, _id in made.own) == 45


def test_a_broken_part_is_passed_over_named_and_left(shelf: Store, catalogue: Catalogue) -> None:
    good = shelf.add("boards", own_board(catalogue)).path
    bad = good.with_name("bad.toml")
    bad.write_text(good.read_text().replace('"my-ling"', '"bad"').replace("memory_mb = 4096", "memory_mb = 'much'"))
    lost = good.with_name("lost.toml")
    lost.write_text(good.read_text().replace('"my-ling"', '"lost"').replace('["extlinux", "merrow"]', '["nowhere"]'))
    torn = good.with_name("torn.toml")
    torn.write_bytes(b"\xff\xfe[[boards]\n")
    before = {each: each.read_bytes() for each in (bad, lost, torn)}
    made = loader.load(shelf.folder, strict=False)
    assert {part_id for _kind, part_id in made.own} == {"my-ling"}
    told = {each.path.name: str(each.error) for each in made.broken}
    assert set(told) == {"bad.toml", "lost.toml", "torn.toml"}
    assert "memory_mb" in told["bad.toml"]
    assert "nowhere" in told["lost.toml"]
    assert {each: each.read_bytes() for each in before} == before
    with pytest.raises(CatalogueError):
        loader.load(shelf.folder)


def spoilt_row(value: Any, chance: random.Random) -> Any:
    """A row with one thing in it another: a list cut, a name that leads nowhere, a number beyond its bounds."""
    if isinstance(value, dict):
        key = chance.choice(sorted(value))
        return {**value, key: spoilt_row(value[key], chance)}
    if isinstance(value, (list, tuple)) and value:
        cut = chance.randrange(len(value))
        if chance.random() < 0.5:
            return [each for index, each in enumerate(value) if index != cut]
        return [spoilt_row(each, chance) if index == cut else each for index, each in enumerate(value)]
    return chance.choice(("nowhere", "", 0, -1, [], {}, 1e9, True, "{{ x", "(", "../up"))


@pytest.mark.long(keep=8)
@pytest.mark.parametrize("kind", [*loader.KINDS, *loader.LATE])
def test_one_wrong_file_of_the_users_stops_nothing(kind: str, shelf: Store, demo: Demo) -> None:
    """Whatever is wrong with one own part, in place of any shipped one: the rest opens, and that file is named."""
    chance, ships = random.Random(kind), loader.load()
    rows = [plain_row(part) for part in loader.shipped(kind).values()]
    path = shelf.folder / f"{kind}.toml"
    path.parent.mkdir(parents=True, exist_ok=True)
    for number in range(25):
        row = spoilt_row(chance.choice(rows), chance)
        try:
            path.write_text(text_for({kind: [row]}))
        except (TypeError, ValueError):
            continue
        made = loader.load(shelf.folder, strict=False)
        assert {each.path for each in made.broken} <= {path}
        for record in loader.LATE.values():
            assert len(made.all(record)) >= len(ships.all(record))
        if number % 5 == 0 and kind not in loader.LATE:
            copy = PartCopy(kind=kind, id=str(row.get("id")), row=row) if isinstance(row.get("id"), str) else None
            seen = loader.with_copies(ships, [copy] if copy and copy.id else [])
            for catalogue in (made, seen):
                inspection.inspect(demo.build, catalogue, World())


def test_a_keyboard_that_spoils_a_shipped_system_is_the_one_that_goes(shelf: Store) -> None:
    row = plain_row(loader.load().get(Keyboard, "elm-keys"))
    row["keys"] = [key for key in row["keys"] if key["id"] != "q"]
    path = shelf.folder / "keyboards.toml"
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text_for({"keyboards": [row]}))
    made = loader.load(shelf.folder, strict=False)
    assert [each.path for each in made.broken] == [path]
    assert "'q'" in str(made.broken[0].error)
    assert made.get(Keyboard, "elm-keys").key("q") is not None
    seen = loader.with_copies(loader.load(), [PartCopy(kind="keyboards", id="elm-keys", row=row)])
    assert seen.get(Keyboard, "elm-keys").key("q") is not None


def test_thousands_of_parts_are_remembered_and_changes_seen(shelf: Store, catalogue: Catalogue, monkeypatch) -> None:
    row = {**plain_row(catalogue.get(Card, "cockle-32")), "name": "Many"}
    (shelf.folder / "cards").mkdir(parents=True)
    for number in range(120):
        (shelf.folder / "cards" / f"c{number}.toml").write_text(text_for({"cards": [{**row, "id": f"c{number}"}]}))
    first = loader.load(shelf.folder)
    monkeypatch.setattr(remembered, "_in_memory", {})
    monkeypatch.setattr(remembered, "_rows", {})
    monkeypatch.setattr(remembered, "_loaded", False)
    parsed: list[str] = []
    with monkeypatch.context() as counted:
        counted.setattr(loader, "toml_of", lambda _text, name: parsed.append(name))
        again = loader.load(shelf.folder)
    assert (again.parts, again.own) == (first.parts, first.own)
    assert not parsed
    shelf.change("cards", "c7", {"note": "changed"})
    assert loader.load(shelf.folder).get(Card, "c7").note == "changed"
    remembered._file().write_text("[]")  # a damaged cache is no loss
    monkeypatch.setattr(remembered, "_rows", {})
    monkeypatch.setattr(remembered, "_loaded", False)
    assert len(loader.load(shelf.folder).own) == 120


# --- builds and their copies -----------------------------------------------------------------------------------------


def with_own(tmp_path: Path, catalogue: Catalogue) -> tuple[Store, Path, Catalogue]:
    """A build that uses an own board, and the shelf that it is on."""
    shelf = Store(catalogue_folder())
    shelf.add("boards", own_board(catalogue))
    made = loader.load(shelf.folder)
    folder = start_build(tmp_path / "build", "Mine", made)
    build = with_part_used(store.load(folder).build, "boards", "my-ling", made)
    build = edited(build, "links", ())
    store.save(folder, view.kept(build, made))
    return shelf, folder, made


def test_a_build_keeps_copies_and_drops_them(tmp_path: Path, catalogue: Catalogue) -> None:
    _shelf, folder, made = with_own(tmp_path, catalogue)
    build = store.load(folder).build
    assert [copy.key for copy in build.copies] == ["boards/my-ling"]
    seen = view.catalogue_for(build, catalogue)  # where the shelf is empty
    assert seen.get(Board, "my-ling") == made.get(Board, "my-ling")
    other = view.kept(with_part_used(build, "boards", "ling", seen), seen)
    assert other.copies == ()


def test_a_newer_copy_is_offered_and_taken(tmp_path: Path, catalogue: Catalogue) -> None:
    shelf, folder, _made = with_own(tmp_path, catalogue)
    shelf.change("boards", "my-ling", {"peak_a": 2.2})
    build = store.load(folder).build
    seen = view.catalogue_for(build, loader.load(shelf.folder))
    assert seen.get(Board, "my-ling").peak_a == 1.8
    found = [
        finding for finding in copies.findings(build, seen, None) if finding.code == "plan.newer-copy:boards/my-ling"
    ]  # type: ignore[arg-type]
    assert "1.8" in found[0].message
    assert found[0].remedy is not None
    assert main._run(["remedy", str(folder), found[0].code]) == 0
    build = store.load(folder).build
    assert view.catalogue_for(build, catalogue).get(Board, "my-ling").peak_a == 2.2


def test_a_damaged_copy_is_told_and_the_rest_opens(tmp_path: Path, catalogue: Catalogue) -> None:
    _shelf, folder, _made = with_own(tmp_path, catalogue)
    build = store.load(folder).build
    row = {**build.copies[0].row, "memory_mb": "much"}
    build = edited(build, "copies", [PartCopy(kind="boards", id="my-ling", row=row)])
    seen = view.catalogue_for(build, catalogue)
    assert seen.find(Board, "my-ling") is None
    codes = [finding.code for finding in copies.findings(build, seen, None)]  # type: ignore[arg-type]
    assert codes == ["plan.copy-broken:boards/my-ling.toml"]


def test_a_part_in_use_is_not_deleted(tmp_path: Path, catalogue: Catalogue) -> None:
    shelf, folder, made = with_own(tmp_path, catalogue)
    builds.remember(folder)
    with pytest.raises(WrongUse, match="Mine"):
        uses.delete("boards", "my-ling", made, shelf, uses.uses())
    shutil.rmtree(folder)
    uses.delete("boards", "my-ling", made, shelf, uses.uses())
    assert loader.load(shelf.folder).own == {}


def test_text_of_somebody_else_is_shown_before_it_writes(tmp_path: Path, catalogue: Catalogue) -> None:
    row = {**plain_row(catalogue.get(Dialect, "merrow")), "id": "theirs", "name": "Theirs"}
    build = edited(fresh_build("B", catalogue), "copies", [PartCopy(kind="dialects", id="theirs", row=row)])
    waiting = view.waiting_for(build, catalogue)
    assert [copy.id for copy in waiting] == ["theirs"]
    seen = view.catalogue_for(build, catalogue)
    assert all(not file.entries for file in seen.get(Dialect, "theirs").files)
    assert "merrow.settings" in trust.shown("dialects", row)
    assert "plan.not-looked-at" in {finding.code for finding in trust.finding(build, waiting)}
    trust.remember([("dialects", row)])
    assert view.waiting_for(build, catalogue) == ()
    assert view.catalogue_for(build, catalogue).get(Dialect, "theirs").files[0].entries
    changed = {**row, "overlays": "elsewhere"}  # other bytes are unseen again
    assert trust.unseen([PartCopy(kind="dialects", id="theirs", row=changed)], catalogue)


@pytest.mark.parametrize("path", ["../../etc/passwd", "/etc/passwd", "a/../../b", "\0"])
def test_a_part_writes_nowhere_but_below_the_chosen_folder(path: str, catalogue: Catalogue) -> None:
    row = json.loads(json.dumps(plain_row(catalogue.get(Dialect, "merrow"))))
    row["files"][0]["path"] = path
    with pytest.raises(CatalogueError):
        loader.part_of("dialects", row, "x")


# --- exchange --------------------------------------------------------------------------------------------------------


def test_a_part_goes_out_with_what_it_needs_and_comes_in_again(tmp_path: Path, catalogue: Catalogue) -> None:
    shelf = Store(tmp_path / "one")
    dialect_row = {**plain_row(catalogue.get(Dialect, "merrow")), "id": "own-words", "name": "Own words"}
    shelf.add("dialects", dialect_row)
    shelf.add("boards", {**own_board(catalogue), "dialects": ["own-words"]})
    made = loader.load(shelf.folder)
    path = tmp_path / "part.toml"
    exchange.export("boards", "my-ling", made, path)
    found = exchange.incoming(path, catalogue)
    assert {(incoming.kind, incoming.state) for incoming in found} == {("boards", "new"), ("dialects", "new")}
    assert any(incoming.text for incoming in found)
    other = Store(tmp_path / "two")
    exchange.bring_in(found, other)
    assert loader.load(other.folder).get(Board, "my-ling") == made.get(Board, "my-ling")
    path.write_text(path.read_text().replace("peak_a = 1.8", "peak_a = 2.4"))
    again = exchange.incoming(path, loader.load(other.folder))
    told = next(incoming for incoming in again if incoming.kind == "boards")
    assert "peak_a" in {difference.name for difference in told.differences}
    with pytest.raises(WrongUse, match="different"):
        exchange.bring_in(again, other)
    exchange.bring_in(again, other, replace=True)
    assert loader.load(other.folder).get(Board, "my-ling").peak_a == 2.4


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("", "no part"),
        ("[[things]]\n", "things"),
        ("cards = 1", "list"),
        ("[[cards]]\nid = 'x'\n", "name"),
        ("x = = 1", "line 1"),
        ("[[boards]]\nid='b'\n", "name"),
    ],
)
def test_what_is_no_part_is_refused_with_the_place(tmp_path: Path, catalogue: Catalogue, text: str, told: str) -> None:
    path = tmp_path / "x.toml"
    path.write_text(text)
    with pytest.raises(KyklonError) as caught:
        exchange.incoming(path, catalogue)
    assert "x.toml" in str(caught.value)
    assert told in str(caught.value)


# --- learning --------------------------------------------------------------------------------------------------------


def test_a_display_is_learnt_whole_and_its_serial_is_not_kept() -> None:
    data = bytearray(samples.display_data())
    data[12:16] = (123_456_789).to_bytes(4, "little")
    data[127] = -sum(data[:127]) % 256
    draft = display.learn(bytes(data))
    part = draft.agreed().part("Mine")
    assert isinstance(part, Display)
    assert (part.native, part.width_mm, part.sync, part.tube, part.hdmi) == ((1920, 1080), 477, "digital", False, True)
    assert "123456789" not in str(draft)
    assert dict(draft.about)["Serial number"] == "there, and not kept"
    assert draft.told == ()


def test_broken_data_are_learnt_as_far_as_they_go_with_the_offset(demo: Demo) -> None:
    told = {each.socket: each.data for each in displays_of(demo.folder).list()}
    assert told["VGA-1"] == b""
    draft = display.learn(told["HDMI-A-2"])
    assert any(words.startswith("Byte 127: the checksum") for words in draft.told)
    with pytest.raises(FormatError) as caught:
        display.learn(b"\x01" * 128)
    assert caught.value.offset == 0


def test_a_tube_is_asked_and_nothing_is_guessed() -> None:
    draft = display.tube(display.CLASSES[0])
    assert {each.name for each in draft.missing()} == {"ranges", "width_mm", "height_mm", "sync", "socket"}
    assert any("destroy" in words for words in draft.told)
    with pytest.raises(CatalogueError, match="Picture width"):
        draft.agreed().part("Tube")
    made = draft.answered("width_mm", "15 in").answered("height_mm", "11.1 in").agreed().part("Tube")
    assert made.ports[0].connector == "EN 50049"  # the television's


def test_a_board_by_its_own_text(catalogue: Catalogue) -> None:
    text = (
        "processor\t: 0\nmodel name\t: ARMv7 Processor rev 4 (v7l)\nCPU architecture: 7\nprocessor\t: 1\n"
        "MemTotal:         948304 kB\nBus 002 Device 001: ID 1d6b:0003 root hub\nModel\t: Dory Brill\n"
    )
    draft = board.learn_text(text, catalogue)
    assert (draft.row["native_set"], draft.row["memory_mb"], draft.row["name"]) == ("ARMv7", 1024, "Dory Brill")
    assert dict(draft.about)["Cores"] == "2 cores"
    assert draft.suggested["usb_mb_s"] == 350
    assert board.learn_text("good morning\nhow are you", catalogue).told


def test_a_board_from_the_tree_in_an_image(demo: Demo, catalogue: Catalogue) -> None:
    draft = learning.learn("board", demo.folder / BOX / samples.IMAGE, catalogue)
    assert dict(draft.row) == dict(learning.learn("board", demo.folder / BOX / samples.BOARD, catalogue).row)
    with pytest.raises(WrongUse, match="4 device trees"):
        learning.learn("board", demo.image, catalogue)
    assert main._run(["part", "learn", "board", str(demo.image), "--tree", "cod.dtb"]) == 0
    assert main._run(["part", "learn", "board", str(demo.image), "--tree", "eel.dtb"]) == 2


def test_an_image_is_learnt_from_its_file(demo: Demo, catalogue: Catalogue) -> None:
    tree = demo.folder / BOX / samples.BOARD
    shelf = Store(demo.folder / "catalogue")
    shelf.add("boards", learning.learn("board", tree, catalogue).agreed().as_row("Dory Gurnard"))
    known = loader.load(shelf.folder)
    draft = learning.learn("image", demo.folder / BOX / samples.IMAGE, known)
    row, offered = draft.row, draft.suggested
    assert (row["name"], row["released"], row["default_user"]) == ("Skiff 1.0", "2026-05-11", "deckhand")
    assert (row["boards"], row["services"]) == (["dory-gurnard"], ["network", "sound", "tiller"])
    assert (offered["foreground_service"], offered["front_end_program"]) == ("tiller", "/usr/bin/tiller")
    assert (offered["games_path"], offered["system_files_path"]) == ("home/deckhand/games/{folder}", "system-files")
    assert not any(demo.folder.glob("**/*.img"))


def test_what_was_not_reached_is_asked_and_not_made_up(demo: Demo, catalogue: Catalogue, monkeypatch) -> None:
    monkeypatch.setattr(image.contents, "PREVIEW_KEPT", 1 << 20)
    draft = learning.learn("image", demo.image, catalogue)
    assert any("unpacked" in words for words in draft.told)
    assert "default_user" not in draft.row
    assert "services" not in draft.row


@pytest.mark.parametrize("kind", ["systemd", "numbered"])
def test_services_of_other_managers_are_found(tmp_path: Path, catalogue: Catalogue, kind: str) -> None:
    """systemd.unit(5) and the Linux Standard Base's run levels."""
    from kyklon.demo import card_image

    root = {name: data for name, data in card_image.root_tree().items() if not name.startswith("etc/services.d")}
    if kind == "systemd":
        root["lib/systemd/systemd"] = root["bin/busybox"]
        unit = "[Unit]\nAfter=sound.service\n[Service]\nTTYPath=/dev/tty1\nExecStart=/usr/bin/gangway\n"
        root["etc/systemd/system/gangway.service"] = unit.encode()
        root["etc/systemd/system/sound.service"] = b"[Service]\nType=oneshot\nExecStart=/usr/bin/sound\n"
        root["etc/systemd/system/default.target"] = b"[Unit]\nWants=gangway.service sound.service\n"
    else:
        root["etc/rc2.d/S10sound"] = b"#!/bin/sh\nexit 0\n"
        root["etc/rc2.d/S99gangway"] = b"#!/bin/sh\nDAEMON=/usr/bin/gangway\n$DAEMON\n"
        root = {name: (data, 0o755) if False else data for name, data in root.items()}
    files = {name: data for name, data in card_image.boot_files().items() if name != "services.list"}
    path = tmp_path / "own-1.img.xz"
    card_image.make_card(path, files, root)
    draft = learning.learn("image", path, catalogue)
    assert dict(draft.about)["Started by"] == {"systemd": "systemd", "numbered": "numbered scripts"}[kind]
    if kind == "systemd":
        assert draft.suggested["foreground_service"] == "gangway"
        assert draft.suggested["front_end_program"] == "/usr/bin/gangway"


def test_a_system_from_its_games(demo: Demo, catalogue: Catalogue) -> None:
    draft = learning.learn("system", demo.folder / BOX / samples.GAMES, catalogue)
    assert (draft.row["extensions"], draft.row["archives"], draft.row["multi_disc"]) == (["jnp"], True, False)
    assert {each.name for each in draft.missing()} >= {"width", "height", "refresh"}
    hinted = system.hinted(draft, system.HINTS[0]).answered("width", "256").answered("buttons", "4").agreed()
    part = hinted.part("Juniper")
    assert (part.refresh, part.height, len(part.inputs)) == ("59.94", 240, 10)
    discs = learning.learn("system", demo.folder / "library" / "cedar", catalogue)
    assert set(discs.row["extensions"]) >= {"cdx", "cue"}
    assert "bin" not in discs.row["extensions"]
    assert discs.row["multi_disc"]
    with pytest.raises(KyklonError, match="no games"):
        learning.learn("system", demo.folder / "stick", catalogue)


def test_parts_by_their_print() -> None:
    supply = simple.supply().answered("volts", "5.1").answered("amps", "3000 mA").answered("socket", "USB-C")
    part = supply.part("Print")
    assert isinstance(part, Supply)
    assert (part.volts, part.amps, part.ports[0].supplies_a) == (5.1, 3.0, 3.0)
    assert simple.supply_measured(supply, "4950 mV").known["volts"].how == "measured"
    cable = simple.cable().answered("ends", "USB-A USB-C").answered("signals", "power").answered("length_m", "3 ft")
    assert cable.answered("awg", "AWG 24").part("Lead").length_m == pytest.approx(0.9144)
    card = simple.card(31_914_983_424, "reader", (0.0, 21_000_000.0)).answered("read_mb_s", "90")
    assert (card.row["write_mb_s"], card.known["write_mb_s"].how) == (21.0, "measured")


def test_the_holes_of_a_panel_get_their_uses(demo: Demo) -> None:
    draft = learning.learn("panel", demo.folder / BOX / samples.PANEL, loader.load())
    kinds = [each["kind"] for each in draft.row["controls"]]
    assert (kinds.count("lever"), kinds.count("button"), kinds.count("start")) == (1, 6, 1)
    assert draft.agreed().part("Six").switches()[:5] == ("up", "down", "left", "right", "start")
    twice = draft.with_value("controls", panel.with_kind(draft.row["controls"], 4, "lever"))
    with pytest.raises(CatalogueError, match="Two holes are the joystick"):
        twice.agreed().part("Six")


@pytest.mark.parametrize(
    "text", ["<svg xmlns='http://www.w3.org/2000/svg'/>", "no drawing", "<!DOCTYPE a [<!ENTITY b 'c'>]><svg/>"]
)
def test_what_is_no_drawing_is_refused(text: str) -> None:
    with pytest.raises(KyklonError):
        panel.from_svg(text.encode())


# --- input devices ---------------------------------------------------------------------------------------------------


class Clock:
    def __init__(self) -> None:
        self.now = 100.0

    def __call__(self) -> float:
        return self.now


def plugged(clock: Clock, folder: Path, identity: str = "sim:cleat") -> SimulatedInput:
    device = next(
        stand_in for stand_in in SimulatedInputs(folder / "drives").stand_ins() if stand_in.identity == identity
    )
    return SimulatedInput(device, clock)


def pressed(handle: SimulatedInput, clock: Clock, switch: str, count: int = 1) -> list[InputEvent]:
    found: list[InputEvent] = []
    for _ in range(count):
        handle.press(switch)
        clock.now += 0.151
        found += handle.waiting()
        handle.release(switch)
        clock.now += 0.187
        found += handle.waiting()
    return found


def test_the_stand_ins_are_listed_behind_the_same_interface(demo: Demo) -> None:
    listed = inputs_of(demo.folder).list()
    assert all(isinstance(each, InputFacts) for each in listed)
    by_name = {each.name: each for each in listed}
    assert by_name["Fairlead Keys"].is_keyboard
    assert by_name["Cleat One, worn"].interval_ms is None
    assert encoder.players_in(by_name["Cleat One"]).count == 1
    assert encoder.players_in(by_name["Cleat Twin"]).count == 2
    with inputs_of(demo.folder).open("sim:cleat") as handle:
        assert handle.waiting() == ()
    with pytest.raises(KyklonError, match="not plugged in"), inputs_of(demo.folder).open("sim:none"):
        pass


def test_the_real_back_ends_list_what_there_is() -> None:
    """Contract: whatever this machine has, each answer is of the same shape; a container mostly has nothing."""
    for each in inputs_of(None).list():
        with inputs_of(None).open(each.identity) as handle:
            assert isinstance(handle.waiting(), tuple)
    assert all(isinstance(each.data, bytes) for each in displays_of(None).list())


def test_the_kernels_folders_are_read_as_they_are_laid_out(tmp_path: Path) -> None:
    """Documentation/ABI/testing/sysfs-bus-usb; /sys/class/drm/*/edid."""
    usb = tmp_path / "devices/usb1/1-1/1-1:1.0"
    (usb / "0003:6B79:0101/input/input5/event5").mkdir(parents=True)
    (usb / "bInterfaceNumber").write_text("00\n")
    for name, way, interval in (("ep_81", "in", "4ms"), ("ep_02", "out", "8ms")):
        (usb / name).mkdir()
        (usb / name / "direction").write_text(f"{way}\n")
        (usb / name / "interval").write_text(f"{interval}\n")
    (tmp_path / "class/input").mkdir(parents=True)
    (tmp_path / "class/input/event5").symlink_to(usb / "0003:6B79:0101/input/input5/event5")
    (usb / "0003:6B79:0101/input/input5/event5/device").symlink_to("..")
    assert interval_of("event5", tmp_path) == 4.0
    assert interval_of("event9", tmp_path) is None
    for name, status, data in (
        ("card0-HDMI-A-1", "connected", samples.display_data()),
        ("card0-VGA-1", "disconnected", b""),
    ):
        (tmp_path / "drm" / name).mkdir(parents=True)
        (tmp_path / "drm" / name / "status").write_text(f"{status}\n")
        (tmp_path / "drm" / name / "edid").write_bytes(data)
    found = LinuxDisplays(tmp_path / "drm").list()
    assert [(each.socket, each.data) for each in found] == [("HDMI-A-1", samples.display_data())]


@pytest.mark.parametrize(("interval", "bounce"), [(1, 3.0), (2, 9.0), (4, 14.0), (8, 20.0), (10, 25.0)])
def test_bounce_and_interval_come_out_as_they_were_put_in(interval: float, bounce: float) -> None:
    clock = Clock()
    switch = Switch(id="1", printed="1", event="BTN_TRIGGER")
    device = StandIn(
        identity="x", name="X", vendor=1, product=2, switches=(switch,), interval_ms=interval, bounce_ms=bounce
    )
    told = encoder.measured(pressed(SimulatedInput(device, clock), clock, "1", 30))
    assert told.enough
    assert told.interval_ms == interval
    assert told.longest_ms <= bounce + interval + 0.01
    assert told.longest_ms >= 0.3 * bounce - interval


def test_two_players_in_one_node_are_seen_and_the_quirk_proposed(demo: Demo) -> None:
    clock = Clock()
    handle = plugged(clock, demo.folder, "sim:cleat-twin")
    walk = encoder.Walk(encoder.stops_for(2, 8))
    for switch in handle.device.switches:
        for event in pressed(handle, clock, switch.id):
            walk = walk.heard(event)
    assert walk.done
    proposal = encoder.quirk_for(walk, handle.device.facts)
    assert proposal.flags == encoder.MULTI_INPUT
    assert "kernel merges two gamepads" in proposal.why
    part = encoder.finished(encoder.from_facts(handle.device.facts), walk, proposal).agreed().part("Twin")
    assert (part.players, part.quirk_flags, len(part.terminals)) == (2, 0x40, 24)


def test_the_walk_in_any_order_with_faults(demo: Demo) -> None:
    """A worn encoder: one switch sticks, two are crossed, two tied, one is silent."""
    clock = Clock()
    handle = plugged(clock, demo.folder, "sim:cleat-worn")
    clock.now += 0.2
    walk = encoder.Walk(encoder.stops_for(1, 8)).listening(handle.waiting())
    assert any("BTN_BASE2" in words for words in walk.stuck)
    ids = {"1": "1-1", "2": "1-2", "5": "1-5", "6": "1-6", "U": "1-up"}
    for switch in ("2", "1", "U", "5", "6"):
        walk = walk.again(ids[switch])
        for event in pressed(handle, clock, switch):
            walk = walk.heard(event)
    known = {stop.id: stop.event for stop in walk.stops}
    assert (known["1-1"], known["1-2"], known["1-up"]) == ("BTN_THUMB", "BTN_TRIGGER", "ABS_Y-")
    assert any("may be connected" in words for words in walk.odd)
    walk = walk.again("1-7")
    for event in pressed(handle, clock, "7"):
        walk = walk.heard(event)
    assert walk.current is not None
    assert walk.current.id == "1-7"  # it is silent
    walk = walk.skip()
    assert next(stop for stop in walk.stops if stop.id == "1-7").skipped
    assert encoder.Walk(()).ask == "Every terminal is known"


def test_a_pad_with_two_sticks_is_one_players() -> None:
    axes = tuple(AxisFacts(code, 0, 255) for code in ("ABS_X", "ABS_Y", "ABS_RX", "ABS_RY", "ABS_HAT0X", "ABS_HAT0Y"))
    pad = InputFacts("x", "Pad", 1, 2, 3, "usb", tuple(f"BTN_{n}" for n in range(11)), axes)
    guess = encoder.players_in(pad)
    assert guess.count == 1
    assert guess.why.startswith("3 joysticks and 11 buttons")


# --- commands --------------------------------------------------------------------------------------------------------


def test_the_commands_of_the_shelf(demo: Demo, capsys, monkeypatch) -> None:
    tree = str(demo.folder / BOX / samples.BOARD)

    def run(*words: str) -> tuple[int, dict]:
        capsys.readouterr()
        code = main._run(["part", *words, "--json"])
        text = capsys.readouterr().out
        return code, json.loads(text) if text.startswith("{") else {}

    code, told = run("learn", "board", tree)
    assert code == 0
    assert "peak_a" in {each["field"] for each in told["asked"]}
    assert run("learn", "board", tree, "--set", "peak_a=900mA", "--agree", "--save")[0] == 0
    assert run("learn", "board", tree, "--agree", "--save")[0] == 2  # it is there
    assert run("learn", "board", tree, "--set", "peak_a=900V")[0] == 2
    assert [each["id"] for each in run("list", "--own")[1]["parts"]] == ["dory-gurnard"]
    facts = {each["name"]: each for each in run("show", "board", "dory-gurnard")[1]["facts"]}
    assert (facts["memory_mb"]["how"], facts["peak_a"]["how"], facts["peak_a"]["words"]) == (
        "read",
        "typed",
        "0.9\u202fA",
    )
    for what, name in (
        ("display", samples.DUMP),
        ("image", samples.IMAGE),
        ("system", samples.GAMES),
        ("panel", samples.PANEL_DXF),
    ):
        assert run("learn", what, str(demo.folder / BOX / name))[0] == 0
    assert run("learn", "encoder", "sim:cleat", "--folder", str(demo.folder))[0] == 0
    words = ["learn", "encoder", "sim:cleat", "--folder", str(demo.folder), "--agree", "--save"]
    assert run(*words)[0] == 2
    assert run(*words, "--terminal", "1U=up")[0] == 2
    assert run(*words, "--terminal", "1U=ABS_Y-", "--terminal", "11=BTN_TRIGGER")[0] == 0
    assert main._run(["part", "delete", "encoder", "cleat-one"]) == 0
    assert run("learn", "toaster", tree)[0] == 2
    out = demo.folder / "board.toml"
    assert main._run(["part", "export", "board", "dory-gurnard", str(out)]) == 0
    assert main._run(["part", "set", "board", "dory-gurnard", "peak_a", "1.1 A"]) == 0
    code, told = run("import", str(out))
    assert (code, told["parts"][0]["state"], told["done"]) == (1, "other", False)
    assert run("import", str(out), "--replace")[1]["done"]
    assert run("check")[1] == {"right": 1, "wrong": []}
    out.write_text("[[boards]]\nid = 'x'\n")
    assert run("check", str(out))[0] == 1
    assert main._run(["part", "copy", "board", "ling", "My Ling"]) == 0
    assert main._run(["part", "delete", "board", "my-ling"]) == 0
    assert run("trust", str(demo.folder))[1] == {"waiting": [], "used": False}


@pytest.mark.parametrize("name", ["a\nb = 1", "a\x00b", "\u202etxt", "# [[boards]]", '"', "é" * 100, "\\u0041"])
def test_hostile_names_stay_names(shelf: Store, catalogue: Catalogue, name: str) -> None:
    shelf.add("boards", {**own_board(catalogue), "name": name})
    assert loader.load(shelf.folder).get(Board, "my-ling").name == name
    shelf.change("boards", "my-ling", {"note": name})
    assert loader.load(shelf.folder).get(Board, "my-ling").note == name


def test_a_shelf_that_cannot_be_written_says_so(tmp_path: Path, catalogue: Catalogue) -> None:
    (tmp_path / "file").write_text("")
    with pytest.raises(KyklonError, match="cannot be written"):
        Store(tmp_path / "file").add("boards", own_board(catalogue))
    assert loader.load(tmp_path / "file").own == {}


def test_drawings_that_hold_themselves_over_and_over_end(tmp_path: Path) -> None:
    """<use> of <use>, ten at a time and twelve deep, and blocks of blocks, made by ezdxf: 10^12 circles in 14 KB."""
    rows = ['<circle id="a0" cx="10" cy="10" r="14"/>']
    for depth in range(1, 13):
        rows.append(f'<g id="a{depth}">' + f'<use href="#a{depth - 1}"/>' * 10 + "</g>")
    for text in ("".join(rows), '<g id="x"><use href="#y"/></g><g id="y"><use href="#x"/></g>'):
        path = tmp_path / "bomb.svg"
        path.write_text(f'<svg xmlns="http://www.w3.org/2000/svg" width="99mm" height="99mm">{text}</svg>')
        with that_ends(), pytest.raises(KyklonError):
            panel.trace(path)
    document = ezdxf.new(units=4)
    document.blocks.new("B0").add_circle((0, 0), 15)
    for depth in range(1, 7):
        block = document.blocks.new(f"B{depth}")
        for number in range(40):
            block.add_blockref(f"B{depth - 1}", (number * 40, 0))
    document.modelspace().add_blockref("B6", (0, 0))
    document.saveas(tmp_path / "bomb.dxf")
    with that_ends(), pytest.raises(KyklonError):
        panel.trace(tmp_path / "bomb.dxf")


@pytest.mark.parametrize(
    ("text", "front"),
    [
        ("", None),
        ("#!/bin/sh -e\n# a remark\nif test -d /etc/boot.d ; then\n\trun-parts /etc/boot.d\nfi\nexit 0\n", None),
        ("#!/bin/sh -e\nsu player -c /opt/menu/start &\nexit 0\n", "rc.local"),
    ],
)
def test_a_bare_rc_local_is_no_front_end(text: str, front: str | None) -> None:
    class Look:
        def text(self, path: str) -> str:
            return text if path == "/etc/rc.local" else ""

    units = {name: Unit(name, Program(f"/etc/init.d/{name}"), foreground=True) for name in ("dbus", "rc.local")}
    found = front_of(tuple(units), units, Look())  # type: ignore[arg-type]
    assert (found.name if found else None) == front
