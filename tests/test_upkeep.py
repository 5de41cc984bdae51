"""The machine after its first game: found, changed, its saves kept, its stick judged, its image updated."""

from __future__ import annotations

import hashlib
import random
import shutil
import zipfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from kyklon.base.errors import FormatError, KyklonError, Refused, TargetLost, WrongUse
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import Emulator
from kyklon.demo import lighthouse, school_fair
from kyklon.devices.destination import limits_of
from kyklon.devices.linux.folder import Folder
from kyklon.devices.neighbours import _table_of
from kyklon.devices.simulated import neighbours
from kyklon.devices.simulated.failing import Failing
from kyklon.devices.simulated.neighbours import SimulatedNeighbourhood, StandIn
from kyklon.model.build import Build, CardRecord, CardState, Tick, edited
from kyklon.model.world import World
from kyklon.operations.boot.acts import plan_boot_files
from kyklon.operations.card.drives.interlock import Purpose
from kyklon.operations.card.volumes import contents
from kyklon.operations.upkeep import change, find, running, saves, stick, update
from kyklon.operations.upkeep.findings import findings
from kyklon.record import folder as store
from support import Demo
from test_failures import good_build

KEY, OTHER = "ssh-ed25519 AAAA", "ssh-ed25519 BBBB"


@pytest.fixture
def bench(tmp_path: Path, catalogue: Catalogue) -> Path:
    """A folder with a build and nothing else."""
    folder = tmp_path / "bench"
    folder.mkdir()
    store.save(folder, lighthouse.build(catalogue, "0" * 64))
    return folder


def build_in(folder: Path) -> Build:
    return store.load(folder).build


# --- found -----------------------------------------------------------------------------------------------------------


def test_the_machine_is_known_by_its_key_before_its_name(catalogue: Catalogue) -> None:
    build = edited(school_fair.build(), "library.host_key", KEY)
    nearby = SimulatedNeighbourhood(
        (
            StandIn("other.local", "192.0.2.1", host_key=OTHER),
            StandIn("quiet.local", "192.0.2.2"),
            StandIn("192.0.2.9", "192.0.2.9", "neighbour table", host_key=KEY, share=True),
            StandIn("late.local", "192.0.2.3", host_key=KEY, late=30.0),
        )
    )
    assert [row.ours for row in find.find(build, nearby)] == [False, None]
    found = find.find(build, nearby, neighbours=True)
    assert [(row.ours, row.share) for row in found] == [(True, True), (False, False), (None, False)]
    assert "another machine" in found[1].words
    made = find.with_machine(build, found[0])
    assert (made.library.host, made.library.route, made.library.host_key) == ("192.0.2.9", "secure copy", KEY)


def test_a_stand_in_is_kept_and_a_damaged_one_told(tmp_path: Path) -> None:
    rows = (StandIn("a.local", "192.0.2.1", host_key=KEY),)
    neighbours.save(tmp_path, rows)
    assert neighbours.load(tmp_path).find("", 1.0) == (rows[0].neighbour,)
    (tmp_path / neighbours.FILE).write_text('[{"colour": "red"}]')
    with pytest.raises(FormatError, match="list of machines"):
        neighbours.load(tmp_path)


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("", ()),
        ("IP address HW type Flags\n", ()),
        (
            "head\n192.0.2.4 0x1 0x2 00:00:5e:00:53:01 * eth0\n192.0.2.5 0x1 0x0 00:00:00:00:00:00 * eth0\n",
            ("192.0.2.4",),
        ),
        ("head\nnonsense 0x1 0x2 x\n192.0.2.6 0x1 zz x\n\n", ()),
    ],
)
def test_the_neighbour_table(tmp_path: Path, text: str, found: tuple[str, ...]) -> None:
    """As the kernel writes it (net/arp.c): flag 0x2 is a complete entry."""
    path = tmp_path / "arp"
    path.write_text(text)
    assert tuple(row.address for row in _table_of(path)) == found


# --- changed ---------------------------------------------------------------------------------------------------------


def sums(folder: Path) -> dict[str, str]:
    return {
        path.relative_to(folder).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in folder.rglob("*")
        if path.is_file()
    }


@pytest.fixture
def boot(tmp_path: Path) -> Path:
    """The boot folder of a machine that runs: what the demo's image has there."""
    from kyklon.demo.card_image import boot_files

    folder = tmp_path / "boot"
    for name, data in boot_files().items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
    return folder


def test_the_same_files_as_for_a_card_are_put_and_taken_back(bench: Path, boot: Path, catalogue: Catalogue) -> None:
    build, before = build_in(bench), sums(boot)
    there = running.contents_there(Folder(boot))
    assert {kernel.instruction_set for kernel in there.kernels} == {"ARMv6", "ARMv7", "ARMv8"}
    wanted = plan_boot_files(build, catalogue, there).files
    done = change.put(bench, build, catalogue, Folder(boot))
    assert done.files == wanted
    assert wanted
    assert all((boot / name).read_bytes() == data for name, data in wanted.items())
    assert change.changed_files(bench) == tuple(wanted)
    assert not change.put(bench, build, catalogue, Folder(boot)).files  # nothing more to do
    undone = change.undo(bench, Folder(boot))
    assert undone.restored + undone.removed == len(wanted)
    assert sums(boot) == before
    with pytest.raises(KyklonError, match="undo"):
        change.undo(bench, Folder(boot))


@pytest.mark.long(keep=20)
@pytest.mark.parametrize("seed", range(100))
def test_cut_at_any_moment_nothing_is_half_and_undo_is_exact(
    seed: int, bench: Path, boot: Path, catalogue: Catalogue
) -> None:
    build, before = build_in(bench), sums(boot)
    wanted = change.planned(build, catalogue, Folder(boot)).files
    whole = {name: hashlib.sha256(data).hexdigest() for name, data in wanted.items()}
    pick = random.Random(seed)
    looks = 2 * len(before) + 20  # steps that only read
    after = pick.randrange(looks, looks + sum(map(len, wanted.values())) + 60)
    with_cut = Failing(Folder(boot), after)
    finished = True
    try:
        change.put(bench, build, catalogue, with_cut)
    except TargetLost:
        finished = False
    now = {name: digest for name, digest in sums(boot).items() if not name.split("/")[-1].startswith(".")}
    for name, digest in now.items():
        if name.startswith(change.ASIDE):
            continue
        assert digest in (before.get(name), whole.get(name)), name
    if finished or change.last_change(bench):
        change.undo(bench, Folder(boot))
    assert sums(boot) == before


def test_a_folder_that_is_no_boot_folder_is_refused(bench: Path, tmp_path: Path) -> None:
    (tmp_path / "many").mkdir()
    for number in range(5001):
        (tmp_path / "many" / str(number)).touch()
    with pytest.raises(WrongUse, match="more than 5000"):
        running.contents_there(Folder(tmp_path / "many"))


def test_what_the_kernel_says_of_a_worn_card_is_found() -> None:
    """Lines as the kernel's drivers print them (drivers/mmc/core, block/blk-core.c, fs/ext4/super.c; mem)."""
    worn = (
        "[ 12.1] mmcblk0: error -110 sending status command, retrying",
        "[ 13.0] blk_update_request: I/O error, dev mmcblk0, sector 1234 op 0x0:(READ)",
        "[ 14.0] EXT4-fs error (device mmcblk0p2): ext4_find_entry:1455: inode #2: comm sh",
        "[ 14.1] EXT4-fs (mmcblk0p2): Remounting filesystem read-only",
        "[ 15.0] Buffer I/O error on dev sda1, logical block 3",
    )
    fine = (
        "[ 1.0] mmcblk0: mmc0:aaaa SD32G 29.7 GiB",
        "[ 2.0] EXT4-fs (mmcblk0p2): mounted filesystem",
        "[ 3.0] EXT4-fs error (device loop0): ext4_get_journal_inode:5842: inode #8: comm mount: checksum invalid",
        "[ 4.0] I/O error, dev sr0, sector 0 op 0x0:(READ) flags 0x80700",
    )
    assert all(running.wears_out(line) for line in worn)
    assert not any(running.wears_out(line) for line in fine)


# --- saves -----------------------------------------------------------------------------------------------------------

GAMES = "games/alder8"


@pytest.fixture
def alder(catalogue: Catalogue, bench: Path) -> str:
    """The games' folder of a system whose saves lie beside its games."""
    from kyklon.catalogue.chosen import known_systems

    system = next(each for each in known_systems(build_in(bench), catalogue) if each.emulator == "alderwright")
    return f"games/{system.folder}"


def put(there: Path, path: str, data: bytes) -> None:
    (there / path).parent.mkdir(parents=True, exist_ok=True)
    (there / path).write_bytes(data)


def test_saves_are_told_from_what_lies_about(bench: Path, tmp_path: Path, catalogue: Catalogue, alder: str) -> None:
    there = tmp_path / "machine"
    game = catalogue.parts["systems"]["alder-8"].extensions[0] if "alder-8" in catalogue.parts["systems"] else "al8"
    for name in (
        f"Quay.{game}",
        "Quay.keep",
        "Quay.snap3",
        "Quay.odd",
        "Quay.png",
        "Else.odd",
        ".Quay.keep",
        "Gone.keep",
    ):
        put(there, f"{alder}/{name}", name.encode())
    found = {save.path.rpartition("/")[2]: save for save in saves.find(build_in(bench), catalogue, Folder(there))}
    assert {name: save.kind for name, save in found.items()} == {
        "Quay.keep": "save",
        "Quay.snap3": "state",
        "Quay.odd": "guessed",
        "Gone.keep": "save",
    }
    assert found["Quay.keep"].game == "Quay"
    assert found["Gone.keep"].game == ""


@pytest.mark.long(keep=25)
@pytest.mark.parametrize("seed", range(200))
def test_nothing_newer_is_overwritten_without_a_word(
    seed: int, bench: Path, tmp_path: Path, catalogue: Catalogue, alder: str
) -> None:
    """Two sides with random histories: played on, kept, put back, a card exchanged for an older or an empty one."""
    pick, there = random.Random(seed), tmp_path / "machine"
    build, names = build_in(bench), [f"{alder}/{letter}.keep" for letter in "abc"]
    count, ever = 0, {name: set[bytes]() for name in names}
    older: list[dict[str, bytes]] = [{}]

    def state() -> dict[str, bytes]:
        return {name: (there / name).read_bytes() for name in names if (there / name).exists()}

    there.mkdir()
    for _step in range(pick.randint(4, 9)):
        act = pick.choice(["play", "play", "keep", "restore", "restore", "card"])
        if act == "play":
            name, count = pick.choice(names), count + 1
            put(there, name, f"{seed} {count}".encode())
            ever[name].add(f"{seed} {count}".encode())
        elif act == "keep":
            saves.keep(bench, build, catalogue, Folder(there))
            older.append(state())
        elif act == "card":
            shutil.rmtree(there)
            there.mkdir()
            for name, data in pick.choice(older).items():
                put(there, name, data)
        elif saves.archives(bench):
            known, before = saves.archives(bench), state()
            chosen = pick.choice(known)
            said = tuple(name for name in names if pick.random() < 0.2)
            done = saves.restore(bench, build, catalogue, Folder(there), saves.Wanted(chosen.name, said))
            for name, data in before.items():
                digest = hashlib.sha256(data).hexdigest()
                held = [number for number, each in enumerate(known) if each.sums.get(name) == digest]
                newer = not held or max(held) > known.index(chosen)
                if newer and name not in said:
                    assert (there / name).read_bytes() == data, "newer, and replaced without a word"
                    assert name not in done.put
                # whatever was there lies in an archive now
                assert any(each.sums.get(name) == digest for each in saves.archives(bench))
            for name in done.put:
                assert hashlib.sha256((there / name).read_bytes()).hexdigest() == chosen.sums[name]
    latest = state()
    saves.keep(bench, build, catalogue, Folder(there))
    assert {name: hashlib.sha256(data).hexdigest() for name, data in latest.items()} == saves.archives(bench)[-1].sums


def test_archives_keep_their_order_when_the_clock_does_not(bench: Path) -> None:
    top = bench / saves.FOLDER
    top.mkdir()
    made = []
    for _ in range(12):
        made.append(saves._free_name(top))
        (top / made[-1]).touch()
    assert saves._names(top) == made
    (top / "2999-01-01T00-00-00.zip").touch()  # from a day when the clock was wrong
    assert saves._free_name(top) == "2999-01-01T00-00-00-2.zip"


def test_putting_back_is_taken_back(bench: Path, tmp_path: Path, catalogue: Catalogue, alder: str) -> None:
    there, build = tmp_path / "machine", build_in(bench)
    put(there, f"{alder}/a.keep", b"one")
    put(there, f"{alder}/b.keep", b"two")
    assert saves.keep(bench, build, catalogue, Folder(there)).archive
    assert not saves.keep(bench, build, catalogue, Folder(there)).archive  # the same again is not kept twice
    (there / alder / "a.keep").unlink()
    put(there, f"{alder}/b.keep", b"newer")
    done = saves.restore(bench, build, catalogue, Folder(there), saves.Wanted(saves.archives(bench)[0].name))
    assert done.put == (f"{alder}/a.keep",)
    assert [row.path for row in done.left] == [f"{alder}/b.keep"]
    assert saves.can_take_back(bench)
    saves.take_back(bench, Folder(there))
    assert not (there / alder / "a.keep").exists()
    assert (there / alder / "b.keep").read_bytes() == b"newer"
    with pytest.raises(WrongUse, match="no archive"):
        saves.restore(bench, build, catalogue, Folder(there), saves.Wanted("2020-01-01T00-00-00.zip"))


def test_a_state_of_another_emulator_waits_for_a_word(
    bench: Path, tmp_path: Path, catalogue: Catalogue, alder: str
) -> None:
    there, build = tmp_path / "machine", build_in(bench)
    system = next(each for each in systems_of(build, catalogue) if each.folder in alder)
    emulator = catalogue.get(Emulator, system.emulator)
    state = f"{alder}/a.{emulator.states[0].replace('*', '1')}"
    put(there, state, b"state of old")
    put(there, f"{alder}/a.{system.extensions[0]}", b"the game")
    put(there, f"{alder}/a.keep", b"save")
    saves.keep(bench, build, catalogue, Folder(there))
    other = next(each for each in catalogue.all(Emulator) if each.id != emulator.id)
    exchanged = {**catalogue.parts["systems"], system.id: system.model_copy(update={"emulator": other.id})}
    changed = replace(catalogue, parts={**catalogue.parts, "systems": exchanged})
    saves.keep(bench, build, changed, Folder(there))  # what is there was made before the exchange
    (there / state).unlink()
    (there / alder / "a.keep").unlink()
    done = saves.restore(bench, build, changed, Folder(there), saves.Wanted(saves.archives(bench)[0].name))
    assert done.put == (f"{alder}/a.keep",)
    assert [(row.path, row.foreign) for row in done.left] == [(state, emulator.name)]
    saves.restore(bench, build, changed, Folder(there), saves.Wanted(saves.archives(bench)[0].name, (state,)))
    assert (there / state).read_bytes() == b"state of old"
    saves.keep(bench, build, changed, Folder(there))
    assert saves.archives(bench)[-1].states == {state: (emulator.id, system.id)}


@pytest.mark.parametrize("name", ["a\nb.keep", "b\x1b[31m.keep", "c\\d.keep", "\udcff.keep", "e\r.keep"])
def test_a_name_that_no_list_holds_costs_no_other_save(
    name: str, bench: Path, tmp_path: Path, catalogue: Catalogue, alder: str
) -> None:
    there = tmp_path / "machine"
    put(there, f"{alder}/{name}", b"odd")
    put(there, f"{alder}/good.keep", b"good")
    kept = saves.keep(bench, build_in(bench), catalogue, Folder(there))
    assert list(kept.left_out) == [f"{alder}/{name}"]
    assert list(saves.archives(bench)[-1].sums) == [f"{alder}/good.keep"]
    shutil.rmtree(there)
    there.mkdir()
    assert saves.restore(bench, build_in(bench), catalogue, Folder(there)).put == (f"{alder}/good.keep",)


def test_what_is_too_large_for_a_save_is_left_out_and_told(
    bench: Path, tmp_path: Path, catalogue: Catalogue, alder: str
) -> None:
    there = tmp_path / "machine"
    put(there, f"{alder}/big.snap1", b"")
    with (there / alder / "big.snap1").open("r+b") as file:
        file.truncate(saves.LARGEST + 1)
    kept = saves.keep(bench, build_in(bench), catalogue, Folder(there))
    assert "more than" in kept.left_out[f"{alder}/big.snap1"]


def archive(folder: Path, rows: dict[str, bytes], listed: str | None = None) -> None:
    path = folder / saves.FOLDER / "2026-01-01T00-00-00.zip"
    path.parent.mkdir(exist_ok=True)
    with zipfile.ZipFile(path, "w") as file:
        for name, data in rows.items():
            file.writestr(name, data)
        told = "".join(f"{hashlib.sha256(data).hexdigest()}  {name}\n" for name, data in rows.items())
        if listed != "none":
            file.writestr(saves.SUMS, listed if listed is not None else told)


@pytest.mark.parametrize(
    ("rows", "listed"),
    [
        ({"../out.keep": b"x"}, None),
        ({"/etc/passwd": b"x"}, None),
        ({"a//b.keep": b"x"}, None),
        ({"a\\b.keep": b"x"}, None),
        ({"a.keep": b"x"}, "none"),
        ({"a.keep": b"x"}, "nonsense\n"),
        ({"a.keep": b"x"}, f"{'0' * 64}  b.keep\n"),
    ],
)
def test_an_archive_that_is_none_is_told_and_left_out(rows: dict[str, bytes], listed: str | None, bench: Path) -> None:
    archive(bench, rows, listed)
    with pytest.raises(FormatError):
        saves.read(bench / saves.FOLDER / "2026-01-01T00-00-00.zip")
    assert saves.archives(bench) == ()


def test_a_save_of_other_bytes_than_its_sum_is_not_put_back(
    bench: Path, tmp_path: Path, catalogue: Catalogue, alder: str
) -> None:
    name = f"{alder}/a.keep"
    archive(bench, {name: b"x"}, f"{'0' * 64}  {name}\n")
    (tmp_path / "machine").mkdir()
    with pytest.raises(FormatError, match="as its sum states it"):
        saves.restore(
            bench, build_in(bench), catalogue, Folder(tmp_path / "machine"), saves.Wanted("2026-01-01T00-00-00.zip")
        )
    assert not (tmp_path / "machine" / name).exists()


def test_a_card_that_was_played_on_asks_for_its_saves_first(demo: Demo) -> None:
    target = demo.target()
    card = CardRecord(drive=target.facts.identity, state=CardState.PROVEN, at="2026-11-01T10:00:00")
    played = demo.build.model_copy(update={"card": card, "ticks": (Tick(item="picture", at="2026-11-01"),)})
    job = demo.job(build=played)
    assert any("not backed up" in warning for warning in job.verdict(Purpose.PREPARE).warnings)
    assert [row.code for row in findings(played, None, World())] == ["upkeep.saves"]  # type: ignore[arg-type]
    kept = edited(played, "upkeep.saves_at", "2026-11-02T10:00:00")
    assert not demo.job(build=kept).verdict(Purpose.PREPARE).warnings
    assert findings(kept, None, World()) == []  # type: ignore[arg-type]
    assert not demo.job(build=demo.build).verdict(Purpose.PREPARE).warnings


# --- stick -----------------------------------------------------------------------------------------------------------


@pytest.fixture
def as_fat(monkeypatch: pytest.MonkeyPatch) -> Callable[[str], None]:
    """Folders as if they lay on another file system."""

    def chosen(kind: str) -> None:
        monkeypatch.setattr(Folder, "limits", property(lambda _self: limits_of(kind, 4096)))

    return chosen


def test_both_halves_of_the_stick(demo: Demo, catalogue: Catalogue, as_fat: Callable[[str], None]) -> None:
    as_fat("vfat")
    build, path = demo.build, demo.folder / "the-stick"
    path.mkdir()
    found = stick.way(build, demo.folder, catalogue, path, measure=True)
    assert [step.done for step in found.steps] == [True, False, False, False, False, False]
    assert found.stick.write_mb_s
    assert list(path.iterdir()) == []  # nothing is left of the measuring
    with pytest.raises(WrongUse, match="running machine first"):
        stick.copy(build, demo.folder, catalogue, path)
    (path / "quayside").mkdir()
    report = stick.copy(build, demo.folder, catalogue, path)
    after = stick.way(build, demo.folder, catalogue, path)
    assert [step.done for step in after.steps][:3] == [True, True, True]
    assert after.missing == {}
    assert report.games == sum(map(len, after.foretold.values())) > 100
    assert {each.name for each in path.iterdir()} == {"quayside"}
    image = catalogue.get(Image, build.part("image"))
    assert image.stick is not None
    lacks, besides = stick.check_menu(after, replace(stick._seen(build, catalogue, Folder(path)), games={}))
    assert len(lacks) == report.games
    assert besides == ()


@pytest.mark.parametrize("kind", ["ntfs", "ext4"])
def test_a_stick_that_the_machine_does_not_read(
    kind: str, demo: Demo, catalogue: Catalogue, as_fat: Callable[[str], None]
) -> None:
    as_fat(kind)
    path = demo.folder / "the-stick"
    path.mkdir()
    found = stick.way(demo.build, demo.folder, catalogue, path)
    assert not found.steps[0].done
    assert "does not read" in found.stick.troubles[0]
    with pytest.raises(WrongUse, match="does not read"):
        stick.copy(demo.build, demo.folder, catalogue, path)


def test_an_image_that_takes_no_stick_says_so(catalogue: Catalogue) -> None:
    with pytest.raises(WrongUse, match="takes no games from a stick"):
        stick.rule_of(school_fair.build(), catalogue)


# --- update ----------------------------------------------------------------------------------------------------------


ROWS = (("one", "2026-01"), ("two", "2026-04"))


def _edited(build: Build, **values: object) -> Build:
    for path, value in values.items():
        build = edited(build, path, value)
    return build


def test_an_update_keeps_settings_and_says_what_it_changes(demo: Demo, catalogue: Catalogue) -> None:
    build = good_build("merrow").model_copy(update={"source": demo.build.source})
    found = update.compare(build, demo.folder, catalogue, demo.folder / lighthouse.NEXT_IMAGE)
    told = {(row.what, row.name): row.change for row in found.rows}
    assert told["boot file", "merrow-armv6.krn"] == "gone"
    assert told["service", "clock"] == "new"
    assert ("service", "gangway") not in told
    assert (found.old, found.new) == ("Quayside 4.2, 2026-06-01", "Quayside 4.3, 2026-10-12")
    assert found.troubles == ()
    assert found.run is not None
    assert found.run.failure is None or not found.run.failure.blocks  # of the demo's own library
    # each setting of the build is in the new card's boot files, and the image's own new line stays
    new, sha256 = update._contents(demo.folder / lighthouse.NEXT_IMAGE, build, catalogue)
    assert new.root is not None
    files = plan_boot_files(build, catalogue, new).files
    text = files["merrow.settings"].decode()
    assert f"kernel.file = {build.boot.kernel}" in text
    assert "menu.dim_minutes = 10" in text
    again = plan_boot_files(build, catalogue, contents.with_files(new, files))
    assert again.files == {}
    made = update.with_image(build, demo.folder, demo.folder / lighthouse.NEXT_IMAGE)
    assert made.source.path == lighthouse.NEXT_IMAGE
    assert made.boot == build.boot
    assert sha256 == found.sha256

    def done(build: Build) -> list[bool]:
        return [step.done for step in update.steps(build, demo.folder, found)]

    one, two = ({"identity": name, "name": name, "events": [{"at": at, "what": "backed up"}]} for name, at in ROWS)
    old = {"drive": "one", "state": "written and read back", "at": "2026-02", "boot_files_at": "2026-03"}
    assert not any(done(_edited(build, cards=[one, two], card=old)))  # of another card, or older than its boot files
    assert done(_edited(build, cards=[{**two, "identity": "one"}], card=old))[1]
    there = {**old, "image_sha256": sha256, "at": "2026-05", "boot_files_at": "2026-06"}
    write = {"at": "2026-01", "what": "written and read back"}
    bare, saved = ({**one, "events": [write, *more, {**write, "at": "2026-05"}]} for more in ([], one["events"]))
    assert done(_edited(build, cards=[bare, two], card=there)) == [False, False, True, True, False, False, False]
    assert done(_edited(build, cards=[saved], card=there))[1]
    assert done(_edited(build, cards=[{**bare, "events": [write]}, two], card=there))[1]  # the old card is still there


def test_an_image_for_which_there_is_no_room_is_told(
    demo: Demo, catalogue: Catalogue, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(update.shutil, "disk_usage", lambda _path: shutil._ntuple_diskusage(1, 1, 1))
    with pytest.raises(KyklonError, match="Make room"):
        update._contents(demo.folder / lighthouse.NEXT_IMAGE, demo.build, catalogue)


def test_an_update_that_leaves_the_board_behind_is_a_stop(demo: Demo, catalogue: Catalogue) -> None:
    build = good_build("merrow").model_copy(update={"source": demo.build.source})
    build = edited(build, "boot.kernel", "merrow-armv6.krn")
    found = update.compare(build, demo.folder, catalogue, demo.folder / lighthouse.NEXT_IMAGE)
    assert any("has no merrow-armv6.krn" in trouble for trouble in found.troubles)
    with pytest.raises(KyklonError):
        update.compare(build, demo.folder, catalogue, demo.folder / "none.img")
    (demo.folder / "noise.img").write_bytes(random.Random(1).randbytes(1 << 20))
    noise = update.compare(build, demo.folder, catalogue, demo.folder / "noise.img")
    assert noise.troubles
    assert noise.run is None
    with pytest.raises(KyklonError, match="not a file"):
        update.with_image(build, demo.folder, demo.folder / "none.img")


def test_the_interlock_still_asks(demo: Demo) -> None:
    """A warning is none of its reasons."""
    with pytest.raises(Refused):
        demo.write("photo-stick")
