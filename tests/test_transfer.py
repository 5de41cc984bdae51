"""Moving games: cut short at any moment, taken back, names that a stick cannot keep, edits by hand on lists."""

from __future__ import annotations

import hashlib
import os
import random
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kyklon.base.errors import KyklonError, TargetError, VerifyError, WrongUse
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import System
from kyklon.devices.destination import limits_of
from kyklon.devices.linux.folder import Folder
from kyklon.devices.simulated.failing import Failing
from kyklon.model.build import LibrarySettings, edited
from kyklon.operations.library import acts, transfer
from kyklon.operations.library.carry import UNDO, UNFINISHED, carry_out, last_transfer, undo
from kyklon.operations.library.merged_text import merged
from kyklon.operations.library.scan import scan
from support import Demo


def sums(folder: Path) -> dict[str, str]:
    return {
        path.relative_to(folder).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(folder.rglob("*"))
        if path.is_file()
    }


@pytest.fixture
def library(tmp_path: Path) -> Path:
    chance = random.Random(3)
    folder = tmp_path / "library" / "alder8"
    folder.mkdir(parents=True)
    for number in range(12):
        (folder / f"Game {number}.al8").write_bytes(chance.randbytes(chance.randrange(1, 400_000)))
    (folder / "Game 0.al8").write_bytes(chance.randbytes(2_500_000))  # more than one block
    return folder.parent


def planned(library: Path, catalogue: Catalogue) -> transfer.Transfer:
    systems = (catalogue.get(System, "alder-8"),)
    return transfer.plan(scan(library, systems, LibrarySettings()), systems, catalogue.get(Image, "quayside"))


@pytest.mark.long
def test_at_200_moments_nothing_half_there_looks_whole(library: Path, catalogue: Catalogue, tmp_path: Path) -> None:
    told, chance = planned(library, catalogue), random.Random(11)
    before = sums(library)
    wanted = {copy.target: before[copy.source] for copy in told.copies}
    shelf, stick = tmp_path / "build", tmp_path / "stick"
    shelf.mkdir()
    for moment in range(200):
        how = ("lost", "full")[moment % 2]
        cut = Failing(Folder(stick), chance.randrange(1, told.size + 400), how)  # type: ignore[arg-type]
        try:
            carry_out(told, library, cut, folder=shelf)
        except TargetError:
            whole = {path: digest for path, digest in sums(stick).items() if UNFINISHED not in path}
            assert all(wanted[path] == digest for path, digest in whole.items())
        got = sum(path.stat().st_size for path in stick.rglob("*") if path.is_file())
        rest = Failing(Folder(stick), 10**12)
        report = carry_out(told, library, rest, folder=shelf)
        assert rest.written == report.sent <= told.size - got  # going on needs no more than the rest
        assert {path: digest for path, digest in sums(stick).items() if not path.startswith(UNDO)} == wanted
        gone = chance.sample(sorted(wanted), 6)  # for the next moment some of it is missing again
        for path in gone:
            (stick / path).unlink()
    assert sums(library) == before


def test_a_stick_that_keeps_wrong_bytes_is_told(library: Path, catalogue: Catalogue, tmp_path: Path) -> None:
    told = planned(library, catalogue)
    with pytest.raises(VerifyError, match="reads back differently"):
        carry_out(told, library, Failing(Folder(tmp_path / "stick"), 300_000, "rot"))
    wanted = {copy.target: (library / copy.source).read_bytes() for copy in told.copies}
    there = [path for path in (tmp_path / "stick").rglob("*") if path.is_file() and UNFINISHED not in path.name]
    assert all(path.read_bytes() == wanted[path.relative_to(tmp_path / "stick").as_posix()] for path in there)


def test_an_unfinished_part_of_other_bytes_is_not_gone_on_with(
    library: Path, catalogue: Catalogue, tmp_path: Path
) -> None:
    told = planned(library, catalogue)
    first = told.copies[0]
    part = tmp_path / "stick" / Path(first.target).parent / f".{Path(first.target).name}{UNFINISHED}"
    part.parent.mkdir(parents=True)
    part.write_bytes(b"x" * 1000)
    carry_out(told, library, Folder(tmp_path / "stick"))
    assert (tmp_path / "stick" / first.target).read_bytes() == (library / first.source).read_bytes()
    assert not part.exists()


def test_the_last_transfer_is_taken_back(library: Path, catalogue: Catalogue, tmp_path: Path) -> None:
    stick, shelf = tmp_path / "stick", tmp_path / "build"
    shelf.mkdir()
    told = planned(library, catalogue)
    own = stick / told.copies[1].target
    own.parent.mkdir(parents=True)
    own.write_bytes(b"what was there before")
    (own.parent / "mine.al8").write_bytes(b"not ours")
    before = sums(stick)
    carry_out(told, library, Folder(stick), folder=shelf)
    assert last_transfer(shelf) == str(stick)
    saved = stick / told.copies[2].target
    saved.write_bytes(b"changed by the machine since")
    done = undo(shelf, Folder(stick))
    assert (done.removed, done.restored, done.left) == (len(told.copies) - 2, 1, (told.copies[2].target,))
    saved.unlink()
    assert sums(stick) == before
    assert last_transfer(shelf) == ""
    with pytest.raises(KyklonError, match="no transfer"):
        undo(shelf, Folder(stick))


def test_a_replaced_file_comes_back_after_a_cut(library: Path, catalogue: Catalogue, tmp_path: Path) -> None:
    stick, shelf = tmp_path / "stick", tmp_path / "build"
    shelf.mkdir()
    told = planned(library, catalogue)
    for copy in told.copies:
        (stick / copy.target).parent.mkdir(parents=True, exist_ok=True)
        (stick / copy.target).write_bytes(b"old")
    before = sums(stick)
    for after in range(5, 400_000, 40_009):
        with pytest.raises(TargetError):
            carry_out(told, library, Failing(Folder(stick), after), folder=shelf)
        if last_transfer(shelf):
            undo(shelf, Folder(stick))
        assert {path: told for path, told in sums(stick).items() if UNFINISHED not in path} == before


@pytest.mark.parametrize("name", ["a:b.al8", "what?.al8", 'say "x".al8'])
def test_names_that_fat_refuses_get_another_and_the_menu_says_so(
    name: str, catalogue: Catalogue, tmp_path: Path
) -> None:
    (tmp_path / "alder8").mkdir()
    (tmp_path / "alder8" / name).write_bytes(b"game")
    (tmp_path / "cedar").mkdir()
    (tmp_path / "cedar" / "b?.cue").write_text('FILE "t.bin" BINARY\n', encoding="utf-8")
    (tmp_path / "cedar" / "t.bin").write_bytes(b"track")
    systems = (
        catalogue.get(System, "alder-8"),
        catalogue.get(System, "cedar-disc").model_copy(update={"system_files": ()}),
    )
    found = scan(tmp_path, systems, LibrarySettings())
    image = catalogue.get(Image, "quayside")
    told = transfer.plan(found, systems, image, limits_of("vfat", 4096))
    assert told.renamed == 1
    assert [why for _game, why in told.refused] == ["b?.cue: FAT allows no name with '?'."]  # a sheet names its tracks
    carry_out(told, tmp_path, Folder(tmp_path / "stick"))
    assert transfer.look_at(Folder(tmp_path / "stick"), systems, image).games == told.menu
    assert transfer.plan(found, systems, image, limits_of("ext4", 4096)).renamed == 0


def test_what_a_fat_stick_cannot_keep() -> None:
    fat = limits_of("vfat", 32_768)
    assert "at most 4294967295" in fat.trouble("games/x.al8", 1 << 32)  # Microsoft FAT specification, 3.2
    assert fat.trouble("games/x.al8", (1 << 32) - 1) == ""
    assert "at the end of a name" in fat.trouble("games/x.", 1)
    assert "longer" in fat.trouble(f"games/{'x' * 256}", 1)
    assert fat.trouble(f"games/{'x' * 255}", 1) == ""
    assert limits_of("ext4", 4096).trouble("games/a:b", 1 << 40) == ""
    assert "longer" in limits_of("ext4", 4096).trouble("é" * 128, 1)


@pytest.mark.parametrize("kind", ["vfat", "ext4", "sftp"])
def test_hostile_names_arrive_as_foretold(kind: str, catalogue: Catalogue, tmp_path: Path) -> None:
    folder = tmp_path / "alder8"
    folder.mkdir()
    hostile = (
        b"\xff\xfe odd",
        b"new\nline",
        b"quote'\"",
        b"-rf",
        b" lead",
        b"tab\t",
        b"x" * 240,
        b"%s%n",
        b"back\\slash",
        "e\u0302 combining".encode(),
        b"CON",
        b"dot.",
    )
    for name in hostile:
        (folder / os.fsdecode(name + b".al8")).write_bytes(name)
    systems, image = (catalogue.get(System, "alder-8"),), catalogue.get(Image, "quayside")
    found = scan(tmp_path, systems, LibrarySettings())
    limits = replace(limits_of("ext4", 4096), text=True) if kind == "sftp" else limits_of(kind, 4096)
    told = transfer.plan(found, systems, image, limits)
    assert told.refused == ()
    assert not any(limits.trouble(copy.target, copy.size) for copy in told.copies)
    place = Folder(tmp_path / "stick")
    carry_out(told, tmp_path, place)
    seen = transfer.look_at(place, systems, image)
    assert {key: sorted(titles) for key, titles in seen.games.items()} == {
        key: sorted(titles) for key, titles in told.menu.items()
    }
    assert len(seen.games["alder-8"]) == 12


def test_a_system_is_hidden_and_shown_again(demo: Demo, catalogue: Catalogue) -> None:
    build, _report = acts.copy_games(demo.folder, demo.build, catalogue, demo.folder / "stick")
    place = Folder(demo.folder / "stick")
    before = acts.remember_seen(demo.folder, build, catalogue, place)
    acts.hide_system(build, catalogue, place, "elm-micro", hide=True)
    hidden = acts.remember_seen(demo.folder, build, catalogue, place)
    assert hidden.hidden == ("elm-micro",)
    assert "elm-micro" not in hidden.games
    with pytest.raises(WrongUse, match="has no"):
        acts.hide_system(build, catalogue, place, "elm-micro", hide=True)
    acts.hide_system(build, catalogue, place, "elm-micro", hide=False)
    assert acts.remember_seen(demo.folder, build, catalogue, place).games == before.games


# --- lists ---------------------------------------------------------------------------------------------------------


def test_edits_by_hand_on_a_list_are_kept(demo: Demo, catalogue: Catalogue) -> None:
    build = edited(demo.build, "library.lists_made", ("list-lines", "list-elements"))
    place = Folder(demo.folder / "stick")
    acts.move_games(demo.folder, build, catalogue, place)
    mine = demo.folder / "stick" / "lists" / "alder8.list"
    lines = mine.read_text(encoding="utf-8").splitlines()
    lines[2] += " | the one for Sundays"
    mine.write_text("\n".join([*lines, "my own line"]) + "\n", encoding="utf-8")
    (demo.folder / "library" / "alder8" / "Aardwolf Bakery (Europe).al8").write_bytes(b"new game")
    acts.move_games(demo.folder, build, catalogue, place)
    after = mine.read_text(encoding="utf-8")
    assert "the one for Sundays" in after
    assert "my own line" in after
    assert "Aardwolf Bakery" in after
    acts.move_games(demo.folder, build, catalogue, place)
    assert mine.read_text(encoding="utf-8") == after


LINES = st.lists(st.sampled_from(["a\n", "b\n", "c\n", "d\n", "e\n"]), max_size=8).map("".join)


@settings(max_examples=300)
@given(LINES, LINES)
def test_merging_with_one_side_unchanged_takes_the_other(base: str, other: str) -> None:
    assert merged(base, base, other)[0] == other
    assert merged(base, other, base)[0] == other
    assert merged(base, other, other)[0] == other


@settings(max_examples=300)
@given(LINES, LINES, LINES)
def test_a_line_typed_by_hand_is_never_lost(base: str, hand: str, new: str) -> None:
    typed = hand + "typed by hand\n"
    assert "typed by hand\n" in merged(base, typed, new)[0]
