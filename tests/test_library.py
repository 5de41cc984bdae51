"""Scanning, the usual mess, moving onto the machine, and what the front end then sees."""

from __future__ import annotations

import shutil
import zipfile
from collections import Counter
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kyklon.base.errors import Cancelled, KyklonError, TargetFull
from kyklon.base.progress import CancelToken, Watch
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import System
from kyklon.devices.linux.folder import Folder
from kyklon.model.build import LibrarySettings, edited, remedied
from kyklon.model.library import Scan
from kyklon.model.world import World
from kyklon.operations.library import transfer
from kyklon.operations.library.acts import copy_games
from kyklon.operations.library.carry import UNFINISHED, TransferReport, carry_out
from kyklon.operations.library.facts import Facts
from kyklon.operations.library.findings import findings
from kyklon.operations.library.naming import Terms, named
from kyklon.operations.library.observe import look, look_at_library
from kyklon.operations.library.packed import unsafe_member
from kyklon.operations.library.scan import scan
from kyklon.operations.library.titles import title_of
from kyklon.operations.library.versions import Tags, place, tags_of
from kyklon.record import folder as store
from support import Demo


def scanned(demo: Demo, catalogue: Catalogue) -> Scan:
    return scan(demo.folder / "library", systems_of(demo.build, catalogue), demo.build.library)


def named_scan(folder: Path, systems: tuple[System, ...], settings: LibrarySettings) -> Scan:
    return named(scan(folder, systems, settings), Terms(settings, systems, Path, {}), Facts())


def test_the_demo_has_about_200_games_of_five_systems(demo: Demo, catalogue: Catalogue) -> None:
    found = scanned(demo, catalogue)
    assert 220 <= len(found.games) <= 245
    assert {game.system for game in found.games} == set(demo.build.systems)
    assert found.unsorted == ("read me.txt",)


def test_every_kind_of_mess_is_named(demo: Demo, catalogue: Catalogue) -> None:
    found = scanned(demo, catalogue)
    codes = Counter(reason.code for game in found.games for reason in game.reasons)
    assert {code: codes[code] for code in codes if code != "system-file"} == {
        "wrong-folder": 1,
        "archive": 1,
        "duplicate": 1,
        "unknown": 1,
        "unsafe-archive": 1,
        "damaged": 1,
        "track": 1,
    }
    cedar = found.of("cedar-disc")
    assert codes["system-file"] == len(cedar)
    assert not any(game.ready for game in cedar)


def test_the_wrong_folder_says_where_to_move_it(demo: Demo, catalogue: Catalogue) -> None:
    reasons = [reason for game in scanned(demo, catalogue).games for reason in game.reasons]
    text = next(reason.text for reason in reasons if reason.code == "wrong-folder")
    assert text == ".b16 belongs to Birch 16: move it to birch16/."


def test_the_copy_is_the_duplicate_and_not_the_original(demo: Demo, catalogue: Catalogue) -> None:
    games = scanned(demo, catalogue).games
    double = next(game for game in games if any(reason.code == "duplicate" for reason in game.reasons))
    assert "(copy)" in double.files[0]


def test_discs_of_one_title_are_one_game(demo: Demo, catalogue: Catalogue) -> None:
    pair = next(game for game in scanned(demo, catalogue).of("cedar-disc") if game.discs == 2)
    assert [path.rsplit(".", 1)[1] for path in pair.files] == ["cue", "bin", "cue", "bin"]
    assert "Disc 1" in pair.files[0]


def test_the_system_file_is_found_by_its_contents(demo: Demo, catalogue: Catalogue) -> None:
    found = next(file for file in scanned(demo, catalogue).system_files if file.system == "cedar-disc")
    assert found.found == "system-files/Cedar_Boot_v1.0.rom"
    assert not found.usable
    finding = next(
        each
        for each in findings(demo.build, catalogue, World(scan=scanned(demo, catalogue)))
        if each.severity == "stop"
    )
    assert finding.code == "library.system-file-name:cedar-disc"
    after = remedied(demo.build, finding.remedy)
    again = scan(demo.folder / "library", systems_of(after, catalogue), after.library)
    assert next(game for game in again.of("cedar-disc") if not game.ready).reasons[0].code in ("archive", "track")
    assert not [each for each in findings(after, catalogue, World(scan=again)) if each.severity == "stop"]


def test_a_missing_optional_system_file_is_a_caution(demo: Demo, catalogue: Catalogue) -> None:
    found = {finding.code: finding for finding in findings(demo.build, catalogue, World(scan=scanned(demo, catalogue)))}
    assert found["library.system-file-missing:elm-disk.rom"].severity == "caution"
    (demo.folder / "library" / "system-files" / "Cedar_Boot_v1.0.rom").unlink()
    found = {finding.code: finding for finding in findings(demo.build, catalogue, World(scan=scanned(demo, catalogue)))}
    assert found["library.system-file-missing:cedar-boot.rom"].severity == "stop"


@pytest.mark.parametrize(
    ("name", "title"),
    [
        ("Brass Orchard (Europe) (Rev 2).al8", "Brass Orchard"),
        ("Orchard, The [b1].b16", "The Orchard"),
        ("Copper_Parade (Japan) (Disc 2).cue", "Copper Parade"),
        ("plain.zip", "plain"),
    ],
)
def test_titles(name: str, title: str) -> None:
    assert title_of(name) == title


@pytest.mark.parametrize("name", ["/etc/passwd", "../up.al8", "a/../../b", "C:/x.al8", "..\\up.al8", "\\\\host\\x"])
def test_members_that_climb_out_are_unsafe(name: str) -> None:
    assert unsafe_member(name)


@given(
    st.lists(
        st.from_regex(r"[a-zA-Z0-9 _.()-]{1,12}", fullmatch=True).filter(lambda p: p.strip(". ")),
        min_size=1,
        max_size=4,
    )
)
def test_ordinary_members_are_safe(parts: list[str]) -> None:
    assert not unsafe_member("/".join(parts)) or ".." in parts


def test_absolute_and_parent_paths_are_never_ready(demo: Demo, catalogue: Catalogue) -> None:
    for name in ("/etc/cron.d/x.al8", "../../x.al8"):
        path = demo.folder / "library" / "alder8" / "evil.zip"
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr(name, b"x")
        game = next(game for game in scanned(demo, catalogue).games if game.files[0].endswith("evil.zip"))
        assert [reason.code for reason in game.reasons] == ["unsafe-archive"]
        assert name in game.reasons[0].text


def test_a_library_that_vanished_is_told(demo: Demo, catalogue: Catalogue) -> None:
    shutil.rmtree(demo.folder / "library")
    world = look_at_library(demo.build, demo.folder, catalogue, World())
    assert world.scan is None
    assert "is missing" in world.scan_error
    (finding,) = findings(demo.build, catalogue, world)
    assert finding.code == "library.gone"
    with pytest.raises(KyklonError, match="is missing"):
        copy_games(demo.folder, demo.build, catalogue, demo.folder / "stick")


# --- moving ----------------------------------------------------------------------------------------------------


def moved(demo: Demo, catalogue: Catalogue) -> TransferReport:
    build, report = copy_games(demo.folder, demo.build, catalogue, demo.folder / "stick")
    store.save(demo.folder, build)
    return report


def test_what_is_ready_arrives_byte_for_byte(demo: Demo, catalogue: Catalogue) -> None:
    found = look(demo.build, demo.folder, catalogue, demo.folder / "library")
    report = moved(demo, catalogue)
    assert report.games == len(found.ready)
    systems = {system.id: system for system in systems_of(demo.build, catalogue)}
    for game in found.ready:
        for path in game.files:
            there = demo.folder / "stick" / "games" / systems[game.system].folder / Path(path).name
            assert there.read_bytes() == (demo.folder / "library" / path).read_bytes()
    assert not list((demo.folder / "stick").rglob("*.part"))
    again = moved(demo, catalogue)
    assert again.already_there == again.files


def test_the_front_end_sees_what_was_moved(demo: Demo, catalogue: Catalogue) -> None:
    finding = next(
        each for each in findings(demo.build, catalogue, World(scan=scanned(demo, catalogue))) if each.remedy
    )
    store.save(demo.folder, remedied(demo.build, finding.remedy))
    report = moved(demo, catalogue)
    image = catalogue.get(Image, "quayside")
    seen = transfer.look_at(Folder(demo.folder / "stick"), systems_of(demo.build, catalogue), image)
    assert sum(map(len, seen.games.values())) == report.games
    assert "cedar-boot.rom" in seen.system_files
    playlists = list((demo.folder / "stick" / "games" / "cedar").glob("*.m3u"))
    assert len(playlists) == 1
    lines = playlists[0].read_text(encoding="utf-8").splitlines()
    assert len(lines) == 2
    assert all((playlists[0].parent / line).exists() for line in lines)
    assert playlists[0].stem in seen.games["cedar-disc"]


def test_cancelling_leaves_no_half_game(demo: Demo, catalogue: Catalogue) -> None:
    class AfterTwenty(CancelToken):
        asked = 0

        def check(self) -> float:
            self.asked += (demo.folder / "stick" / "games").is_dir()
            if self.asked == 20:
                self.cancel()
            return super().check()

    with pytest.raises(Cancelled):
        copy_games(demo.folder, demo.build, catalogue, demo.folder / "stick", Watch(cancel=AfterTwenty()))
    there = [path for path in (demo.folder / "stick").rglob("*") if path.is_file()]
    assert 0 < len(there) < 60
    parts = [path for path in there if path.suffix == UNFINISHED]
    assert len(parts) < 30  # hidden, and gone on with by the next transfer
    own = [path for top in ("library", "pictures") for path in (demo.folder / top).rglob("*") if path.is_file()]
    originals = {path.name: path for path in own} | {f"{path.stem}.png": path for path in own if path.suffix == ".png"}
    assert all(path.read_bytes() == originals[path.name].read_bytes() for path in there if path not in parts)
    moved(demo, catalogue)
    assert not list((demo.folder / "stick").rglob(f"*{UNFINISHED}"))


def test_a_full_stick_is_told_before_anything_is_copied(
    demo: Demo, catalogue: Catalogue, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(Folder, "free", lambda _self: 1000)
    with pytest.raises(TargetFull, match="free"):
        moved(demo, catalogue)
    assert not list((demo.folder / "stick").iterdir())


def test_a_game_that_goes_away_on_the_way_is_told(demo: Demo, catalogue: Catalogue) -> None:
    found = scanned(demo, catalogue)
    image = catalogue.get(Image, "quayside")
    planned = transfer.plan(found, systems_of(demo.build, catalogue), image)
    (demo.folder / "library" / planned.copies[5].source).unlink()
    with pytest.raises(KyklonError, match="Scan the library again"):
        carry_out(planned, demo.folder / "library", Folder(demo.folder / "stick"))


def test_a_system_without_games_is_not_listed(catalogue: Catalogue, tmp_path: Path) -> None:
    image, systems = catalogue.get(Image, "quayside"), catalogue.all(System)
    assert transfer.look_at(Folder(tmp_path), systems, image).games == {}
    empty = scan(tmp_path, systems, LibrarySettings())
    assert empty.games == ()
    assert transfer.plan(empty, systems, image).copies == ()


VERSIONS = tuple(
    f"Tidal Ferry ({tags}"
    for tags in (
        "Japan)",
        "Europe)",
        "Europe) (Rev A)",
        "World) (Rev 2)",
        "Europe) (Beta)",
        "Europe) (Rev B) [b1]",
    )
)


@pytest.mark.parametrize(
    ("order", "kept"),
    [
        (("Europe", "World", "Japan"), "Tidal Ferry (Europe) (Rev A)"),
        (("Japan",), "Tidal Ferry (Japan)"),
        (("World", "Europe"), "Tidal Ferry (World) (Rev 2)"),
        (("Brazil",), "Tidal Ferry (World) (Rev 2)"),  # none of them: the latest
    ],
)
def test_of_several_versions_one_is_kept(
    order: tuple[str, ...], kept: str, catalogue: Catalogue, tmp_path: Path
) -> None:
    (tmp_path / "alder8").mkdir()
    for number, name in enumerate((*VERSIONS, "Copper Quarry (Japan)")):
        (tmp_path / "alder8" / f"{name}.al8").write_bytes(bytes([number]) * 99)
    systems = (catalogue.get(System, "alder-8"),)
    found = named_scan(tmp_path, systems, LibrarySettings(regions=order))
    ready = {Path(game.files[0]).stem for game in found.ready}
    assert ready == {kept, "Copper Quarry (Japan)"}  # what there is one of stays, whatever its region
    assert {reason.code for game in found.games for reason in game.reasons} == {"version"}
    assert all(kept in reason.text for game in found.games for reason in game.reasons)
    every = named_scan(tmp_path, systems, LibrarySettings(regions=order, keep_all_revisions=True))
    assert len(every.ready) == 7


def test_a_better_version_that_does_not_play_is_no_reason(catalogue: Catalogue, tmp_path: Path) -> None:
    (tmp_path / "alder8").mkdir()
    (tmp_path / "alder8" / "Tidal Ferry (Europe).al8").write_bytes(b"")
    (tmp_path / "alder8" / "Tidal Ferry (Japan).al8").write_bytes(b"x" * 99)
    (tmp_path / "alder8" / "Twin One.al8").write_bytes(b"y" * 99)
    (tmp_path / "alder8" / "twin one.zip").write_bytes(b"z" * 98)
    found = named_scan(tmp_path, (catalogue.get(System, "alder-8"),), LibrarySettings())
    assert "Tidal Ferry (Japan).al8" in {Path(game.files[0]).name for game in found.ready}


@given(st.text(max_size=60))
def test_any_name_has_tags(name: str) -> None:
    tags = tags_of(name)
    assert len(place(tags, ("Europe",))[-1]) == 4


def test_tags_of_names() -> None:
    assert tags_of("A (USA, Europe) (v1.2).x") == Tags(("America", "Europe"), (1, 2))
    assert tags_of("A (Rev C) (Disc 1).x") == Tags((), (3,))
    assert tags_of("A (Prototype 3) [h Someone].x").poor
    assert tags_of("A (1994) (En,Fr).x") == Tags(languages=("En", "Fr"))
    assert tags_of("A (1994) (en,fr).x") == Tags(odd=1)


@pytest.mark.parametrize(
    ("better", "worse"),
    [
        ("A (Sweden)", "A (Japan)"),
        ("A (Europe)", "A (Sweden)"),
        ("A (PAL)", "A (NTSC)"),
        ("A (NTSC)", "A (NTSC-J)"),
        ("A (USA-Europe)", "A (USA)"),
        ("A (USA+Europe)", "A (USA)"),
        ("A (Canada)", "A (Japan)"),
        ("A", "A [b1]"),
        ("A [!]", "A [t1]"),
        ("A", "A [T+Fre]"),
        ("A [a1]", "A [h2C]"),
        ("A", "A (Possible Proto)"),
        ("A", "A (Hack)"),
        ("A (Rev B1)", "A (Rev B)"),
        ("A (Rev B)", "A (Rev A)"),
        ("A (v1.2)", "A (v1.1)"),
        ("A (Europe)", "A (Europe) (Frob)"),
        ("A (Rev A)", "A (Rev C) (Frob)"),
        ("A (Europe) (Alt 2)", "A (Europe) (Frob)"),
        ("A", "A [x]"),
    ],
)
def test_versions_with_tags_as_they_occur(better: str, worse: str) -> None:
    """Common practice in bracketed tags; a tag that nobody knows never makes a version look better."""
    order = ("Europe", "World", "America", "Japan")
    assert place(tags_of(f"{better}.x"), order) < place(tags_of(f"{worse}.x"), order)


@pytest.mark.parametrize(
    ("names", "games", "missing"),
    [
        (("A (Disc 1)", "A (Disc 2)"), 1, ()),
        (("A (Europe) (Disc 1)", "A (Japan) (Disc 1)", "A (Europe) (Disc 2)", "A (Japan) (Disc 2)"), 2, ()),
        (("A (Disk 1 of 2)", "A (Disk 2 of 2)"), 1, ()),
        (("A (CD1)", "A (CD2)"), 1, ()),
        (("A (Disc A)", "A (Disc B)"), 1, ()),
        (("A (Disc 1)", "A (Disc 3)"), 1, ("Disc 2 is missing.",)),
        (("A (Disc 1 of 2)",), 1, ("Disc 2 is missing.",)),
        (("A (Disc 2)",), 1, ("Disc 1 is missing.",)),
        (("A [Disc 1]", "A [Disc 2]"), 1, ()),
        (("A (Disc 1) (Rev A)", "A (Disc 2) (Rev A)"), 1, ()),
        (("A (Discworld)",), 1, ()),
    ],
)
def test_discs_are_joined_within_their_version(
    names: tuple[str, ...], games: int, missing: tuple[str, ...], catalogue: Catalogue, tmp_path: Path
) -> None:
    system = next(each for each in catalogue.all(System) if each.multi_disc)
    folder = tmp_path / system.folder
    folder.mkdir(parents=True)
    for name in names:
        (folder / f"{name}.{system.extensions[0]}").write_bytes(name.encode())
    found = scan(tmp_path, (system,), LibrarySettings())
    assert len(found.games) == games
    told = {reason.text for game in found.games for reason in game.reasons if reason.code == "disc"}
    assert told == set(missing)


def test_another_region_order_is_only_a_setting(demo: Demo) -> None:
    assert edited(demo.build, "library.regions", ["Japan"]).library.regions == ("Japan",)
