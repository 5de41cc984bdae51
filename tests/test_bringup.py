"""The power-on predicted from bytes: right reasons, right order, and every other way it fails."""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from initramfs import archive, usual
from judges.cards import debugfs
from kyklon.base.progress import UNWATCHED
from kyklon.base.quantities import show_bytes
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import System
from kyklon.model.build import Build, edited, remedied
from kyklon.model.card import CardContents, RootFacts
from kyklon.model.world import World
from kyklon.operations import inspection
from kyklon.operations.boot.acts import put_boot_files
from kyklon.operations.boot.compile import compiled
from kyklon.operations.card.observe import look_at_card, started_by
from kyklon.operations.card.volumes import contents
from kyklon.operations.card.volumes.contents import with_files
from kyklon.operations.library.acts import copy_games
from kyklon.operations.poweron.acts import foretell
from kyklon.operations.poweron.bench import lay_out
from kyklon.operations.poweron.bringup import bring_up
from kyklon.operations.poweron.checklist import items
from kyklon.operations.poweron.events import PUT_ON_CARD, BringUp
from kyklon.operations.poweron.sequence import STAGES
from kyklon.operations.poweron.stages import root as root_stage
from kyklon.record import folder as store
from support import Demo

REMEDIES = (
    "boot.kernel-set",
    "controls.encoder-quirk",
    "picture.out-of-range:menu",
    "library.system-file-name:cedar-disc",
)


def written(demo: Demo) -> CardContents:
    target = demo.target()
    assert demo.write().bad is None
    return contents.observe(target.path)


def run(build: Build, catalogue: Catalogue, card: CardContents, world: World) -> BringUp:
    return bring_up(lay_out(build, catalogue, card, world))


def put(demo: Demo, build: Build, catalogue: Catalogue) -> CardContents:
    target = demo.target()
    put_boot_files(demo.folder, build, catalogue, target)
    return contents.observe(target.path)


def repaired(demo: Demo, catalogue: Catalogue, *codes: str) -> Build:
    build = demo.build
    for code in codes:
        found = inspection.inspect(build, catalogue, inspection.observe(build, demo.folder, catalogue))
        build = remedied(build, inspection.find(found, code).remedy)
    store.save(demo.folder, build)
    return build


def test_the_four_faults_come_out_in_the_order_of_the_power_on(demo: Demo, catalogue: Catalogue) -> None:
    written(demo)
    card = put(demo, demo.build, catalogue)
    result = run(demo.build, catalogue, card, inspection.observe(demo.build, demo.folder, catalogue))
    assert [failure.code for failure in result.failures] == [
        "boot.kernel-set",
        "picture.out-of-range:menu",
        "controls.encoder-quirk",
        "library.system-file-name:cedar-disc",
    ]
    assert result.reached == "boot file"
    assert result.screen.kind == "black"
    assert result.events[-1].text == result.failure.cause
    names = [stage.name for stage in STAGES]
    stages = [names.index(event.stage) for event in result.events]
    assert stages == sorted(stages)
    times = [event.at_s for event in result.events]
    assert times == sorted(times)


def test_one_remedy_after_the_other_gets_further_each_time(demo: Demo, catalogue: Catalogue) -> None:
    written(demo)
    reached = []
    kinds = []
    for count in range(5):
        order = [REMEDIES[0], REMEDIES[2], REMEDIES[1], REMEDIES[3]][:count]
        build = repaired(demo, catalogue, *order[-1:]) if order else demo.build
        card = put(demo, build, catalogue)
        result = run(build, catalogue, card, inspection.observe(build, demo.folder, catalogue))
        assert len(result.failures) == 4 - count
        reached.append(result.reached)
        kinds.append(result.screen.kind)
    assert reached == ["boot file", "kernel", "login", "front end", "front end"]
    assert kinds == ["black", "out of range", "crash", "front end", "front end"]


def test_repaired_and_filled_it_lists_the_games_that_are_ready(demo: Demo, catalogue: Catalogue) -> None:
    written(demo)
    build = repaired(demo, catalogue, *REMEDIES)
    card = put(demo, build, catalogue)
    build, report = copy_games(demo.folder, build, catalogue, demo.folder / "stick")
    result = run(build, catalogue, card, inspection.observe(build, demo.folder, catalogue))
    assert result.failure is None
    assert result.reached == "front end"
    assert sum(map(len, result.games.values())) == report.games
    assert len(result.screen.lines) == 5


def test_before_any_boot_file_is_put_on_it_fails_for_the_same_reasons(demo: Demo, catalogue: Catalogue) -> None:
    card = written(demo)
    result = run(demo.build, catalogue, card, World())
    assert [failure.code for failure in result.failures][:3] == [
        "boot.kernel-set",
        "picture.out-of-range:menu",
        "controls.encoder-quirk",
    ]


def test_a_build_that_is_right_only_has_to_reach_the_card(demo: Demo, catalogue: Catalogue) -> None:
    card = written(demo)
    build = repaired(demo, catalogue, *REMEDIES)
    result = run(build, catalogue, card, inspection.observe(build, demo.folder, catalogue))
    assert {failure.remedy for failure in result.failures} == {PUT_ON_CARD}


@pytest.fixture(scope="module")
def whole(
    demo_master: Path, catalogue: Catalogue, tmp_path_factory: pytest.TempPathFactory
) -> tuple[Build, CardContents, World]:
    """Everything right: build, card and world."""
    demo = Demo(shutil.copytree(demo_master, tmp_path_factory.mktemp("whole") / "build"))
    written(demo)
    build = repaired(demo, catalogue, *REMEDIES)
    card = put(demo, build, catalogue)
    build, _report = copy_games(demo.folder, build, catalogue, demo.folder / "stick")
    return build, card, inspection.observe(build, demo.folder, catalogue)


def without(mapping: Any, name: str) -> dict[str, Any]:
    return {key: value for key, value in mapping.items() if key != name}


def changed(card: CardContents, name: str, old: str, new: str) -> CardContents:
    assert old in card.texts[name]
    return replace(card, texts={**card.texts, name: card.texts[name].replace(old, new)})


def test_a_card_without_a_table(whole: tuple[Build, CardContents, World], catalogue: Catalogue) -> None:
    build, _card, world = whole
    result = run(build, catalogue, CardContents(table_error="at byte 510 expected 55 aa"), world)
    assert (result.reached, result.failure.stage) == ("card", "partition table")
    assert result.events[-1].lamp == "paired"


def test_everything_else_that_goes_wrong(whole: tuple[Build, CardContents, World], catalogue: Catalogue) -> None:
    build, card, world = whole
    root = card.root
    kernels = tuple(kernel for kernel in card.kernels if kernel.name != "merrow-armv7.krn")
    cases: list[tuple[str, str, CardContents]] = [
        ("boot partition", "card.no-boot-partition", replace(card, boot_error="cannot be read")),
        ("boot file", "boot.missing-file", replace(card, texts=without(card.texts, "merrow.settings"))),
        ("kernel", "boot.kernel-set", replace(card, kernels=kernels)),
        ("kernel", "boot.kernel-set", changed(card, "merrow.settings", "merrow-armv7", "merrow-armv6")),
        ("kernel", "boot.device-tree", changed(card, "merrow.settings", "herring.dtb", "cod.dtb")),
        ("kernel", "boot.device-tree", replace(card, sizes=without(card.sizes, "herring.dtb"))),
        ("kernel line", "boot.no-root", changed(card, "kernel.line", "root=", "boot=")),
        ("root partition", "card.no-root-partition", replace(card, roots={}, root_errors={2: "no ext file system"})),
        ("services", "boot.no-front-end", changed(card, "services.list", "gangway\n", "")),
        ("login", "boot.user", changed(card, "first-boot.settings", "user.name = player", "user.name = nobody")),
        ("login", "boot.user", replace(card, roots={2: replace(root, users=root.users[:1])})),
        ("controllers", "controls.encoder-quirk", changed(card, "kernel.line", "0x40", "0x04")),
        ("controllers", "controls.encoder-quirk", changed(card, "kernel.line", " usbhid", "\nusbhid")),
    ]
    for stage, code, bad in cases:
        result = run(build, catalogue, bad, world)
        assert (result.failure.stage, result.failure.code) == (stage, code), (stage, code, result.failure)
        assert result.screen.kind != "front end"
        assert result.failure.cause


def test_a_thin_supply_cable_restarts_the_board(whole: tuple[Build, CardContents, World], catalogue: Catalogue) -> None:
    build, card, world = whole
    links = [link.model_dump() for link in build.links]
    links[0]["cable"] = "power-a-micro-3m"
    build = edited(
        edited(build, "links", links),
        "parts",
        [
            *[part.model_dump() for part in build.parts if part.role != "supply"],
            {"role": "supply", "part": "ballast-2a"},
        ],
    )
    result = run(build, catalogue, card, world)
    assert (result.failure.stage, result.failure.code) == ("supply", "assembly.low-voltage")


def test_no_mode_and_no_identification_leave_the_output_off(
    whole: tuple[Build, CardContents, World], catalogue: Catalogue
) -> None:
    build, card, world = whole
    bare = changed(card, "merrow.settings", "picture.timing", "picture.was")
    result = run(build, catalogue, bare, replace(world, identification=None))
    assert result.failure.code == "picture.no-output"
    result = run(build, catalogue, bare, world)  # with identification data its preferred mode is sent
    assert result.failure is None
    assert any("EDID" in event.text for event in result.events)


def test_a_watcher_behind_the_front_end_never_starts(
    whole: tuple[Build, CardContents, World], catalogue: Catalogue
) -> None:
    build, card, world = whole
    late = replace(card, texts={**card.texts, "services.list": "network\ngangway\nshutdown-watcher\n"})
    result = run(build, catalogue, late, world)
    assert result.reached == "front end"
    assert any("shutdown-watcher never starts" in event.text for event in result.events)


def test_the_extlinux_way(demo: Demo, catalogue: Catalogue) -> None:
    written(demo)
    build = repaired(demo, catalogue, *REMEDIES).with_part("board", "cod")
    for path, value in (
        ("boot.dialect", "extlinux"),
        ("boot.kernel", "merrow-armv8.krn"),
        ("boot.device_tree", "cod.dtb"),
    ):
        build = edited(build, path, value)
    store.save(demo.folder, build)
    card = put(demo, build, catalogue)
    world = inspection.observe(build, demo.folder, catalogue)
    offering = replace(world.identification, timings=(build.picture.menu.timing,))
    assert not run(build, catalogue, card, replace(world, identification=offering)).failures
    result = run(build, catalogue, card, world)  # a tube that offers other modes only
    assert [failure.code for failure in result.failures] == ["picture.no-output"]
    assert "GTF" in result.failures[0].cause  # which has no such timing


@pytest.mark.long(keep=1)
@pytest.mark.parametrize("dialect", ["extlinux", "merrow"])
def test_a_board_that_takes_only_a_size_shows_a_15_khz_picture_by_identification_data(
    dialect: str, demo: Demo, catalogue: Catalogue
) -> None:
    """From the stop in the check, by its remedy, to the card's bytes and a power-on that passes."""
    written(demo)
    build = repaired(demo, catalogue, *REMEDIES).with_part("board", "ling")
    for path, value in (
        ("boot.dialect", dialect),
        ("boot.kernel", "merrow-armv8.krn"),
        ("boot.device_tree", "ling.dtb"),
        ("picture.identification", ""),
        ("parts", [part for part in build.parts if part.role != "supply"]),
    ):
        build = edited(build, path, value)
    store.save(demo.folder, build)
    world = inspection.observe(build, demo.folder, catalogue)
    assert world.identification is None
    before = run(build, catalogue, put(demo, build, catalogue), world)
    assert before.failure is not None
    assert before.failure.stage == "display"
    found = next(f for f in inspection.inspect(build, catalogue, world) if f.code == "picture.video-only")
    assert (found.severity, found.remedy.label) == ("stop", "Issue an EDID file")
    build = remedied(build, found.remedy)
    assert "picture.video-only" not in {f.code for f in inspection.inspect(build, catalogue, world)}
    card = put(demo, build, catalogue)
    assert "drm.edid_firmware=HDMI-A-1:edid/kyklon.bin" in str(card.texts)
    # the kernel's mode is right; the firmware's before it is not, as long as the tube is on from the start
    early = run(build, catalogue, card, world).failures
    assert [(each.stage, each.code) for each in early] == [("display", "picture.signal:firmware")]
    told = next(f for f in inspection.inspect(build, catalogue, world) if f.code == "picture.signal:firmware")
    assert told.severity == "stop"
    assert told.remedy == early[0].remedy
    build = remedied(build, told.remedy)
    after = run(build, catalogue, card, world)
    assert not after.failures, after.failures
    assert any("edid/kyklon.bin, issued as firmware" in event.text for event in after.events)
    (ramdisk,) = card.ramdisks
    for firmware in ({}, {"edid/kyklon.bin": b"\0" * 128}):  # without it, the kernel falls back on the display's own
        damaged = replace(card, ramdisks=(replace(ramdisk, firmware=firmware),))
        failure = run(build, catalogue, damaged, world).failure
        assert (failure.stage, failure.code) == ("display", "picture.no-output")
        assert "edid/kyklon.bin" in failure.cause
    back = edited(build, "picture.issue_identification", False)  # and nothing of it stays
    card = put(demo, back, catalogue)
    assert "kyklon" not in str(card.texts)
    assert run(back, catalogue, card, world).failure.stage == "display"


def test_an_initramfs_of_the_image_is_not_pushed_aside(demo: Demo, catalogue: Catalogue) -> None:
    written(demo)
    build = repaired(demo, catalogue, *REMEDIES).with_part("board", "ling")
    for path, value in (("boot.dialect", "extlinux"), ("picture.issue_identification", True)):
        build = edited(build, path, value)
    own = "LABEL a\n  LINUX /k\n  INITRD /initramfs.gz\n  APPEND root=/dev/sda2\n"
    text = next(f.text for f in compiled(build, catalogue, {"extlinux/extlinux.conf": own}) if "extlinux" in f.path)
    assert "INITRD /initramfs.gz" in text
    assert "kyklon-picture" not in text


def test_the_front_end_without_games_says_how_many_wait(demo: Demo, catalogue: Catalogue) -> None:
    written(demo)
    build = repaired(demo, catalogue, *REMEDIES)
    card = put(demo, build, catalogue)
    world = inspection.observe(build, demo.folder, catalogue)
    result = run(build, catalogue, card, world)
    assert result.reached == "front end"
    assert result.screen.lines[0] == "No games on the machine yet"
    assert any(f"{len(world.scan.ready)} in the library are ready" in event.text for event in result.events)


def test_games_moved_before_the_remedy_have_to_be_moved_again(demo: Demo, catalogue: Catalogue) -> None:
    written(demo)
    build, _report = copy_games(demo.folder, demo.build, catalogue, demo.folder / "stick")
    (demo.folder / "stick" / "games" / "cedar").mkdir(parents=True)
    (demo.folder / "stick" / "games" / "cedar" / "x.cdx").write_bytes(b"x")
    store.save(demo.folder, build)
    build = repaired(demo, catalogue, *REMEDIES)
    card = put(demo, build, catalogue)
    result = run(build, catalogue, card, inspection.observe(build, demo.folder, catalogue))
    assert result.failure.remedy.label == "Copy the games again"


def test_the_checklist_speaks_of_this_build(demo: Demo, catalogue: Catalogue) -> None:
    found = items(demo.build, catalogue)
    assert len({item.key for item in found}) == len(found)
    told = " ".join(item.look for item in found)
    for name in ("Merrow Herring", "Casement 19", "Tackle Pair", "Gangway", "player"):
        assert name in told
    assert all(item.otherwise for item in found)


def test_an_initramfs_finds_a_root_by_its_own_id_or_name(
    whole: tuple[Build, CardContents, World], catalogue: Catalogue
) -> None:
    build, card, world = whole
    build = edited(edited(build.with_part("board", "ling"), "boot.dialect", "extlinux"), "boot.device_tree", "ling.dtb")
    root = card.roots[2]
    for word, holds in ((f"UUID={root.uuid}", True), (f"LABEL={root.label}", True), ("LABEL=other", False)):
        for initramfs in (True, False):
            line = "  INITRD /initrd.img\n" if initramfs else ""
            menu = f"LABEL a\n  LINUX /merrow-armv8.krn\n{line}  APPEND root={word} rootwait\n"
            data = archive(usual())
            seen = with_files(card, {"initrd.img": data, "extlinux/extlinux.conf": menu.encode()})
            result = run(build, catalogue, seen, world)
            nowhere = any(failure.code == "boot.root-nowhere" for failure in result.failures)
            assert nowhere is not (holds and initramfs), (word, initramfs)
            loads = any("(initramfs-tools) loads its drivers" in event.text for event in result.events)
            assert loads is (holds and initramfs)


def test_what_could_not_be_seen_is_told(whole: tuple[Build, CardContents, World], catalogue: Catalogue) -> None:
    build, card, world = whole
    (only,) = run(build, catalogue, card, world).assumed
    assert "settings files on the machine" in only
    assert run(edited(build, "picture.systems", []), catalogue, card, world).assumed == ()
    blind = run(build, catalogue, card, World())
    assert any("EDID was not read" in words for words in blind.assumed)
    assert any("games on the machine" in words for words in blind.assumed)
    bare = replace(card, roots={2: replace(card.roots[2], stated=False)})
    assert any("no checksums" in words for words in run(build, catalogue, bare, world).assumed)


CUE = b'FILE "t.bin" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\n'


def test_games_and_system_files_on_the_cards_own_root_count(demo: Demo, catalogue: Catalogue, tmp_path: Path) -> None:
    written(demo)
    build = edited(repaired(demo, catalogue, *REMEDIES), "library.destination", "")
    put(demo, build, catalogue)
    system = catalogue.get(System, "cedar-disc")
    wanted = next(file for file in system.system_files if file.required)
    body = (demo.folder / "library" / "system-files" / "Cedar_Boot_v1.0.rom").read_bytes()
    for name, data in (
        ("a.cue", CUE),
        ("b.cue", CUE),
        ("t.bin", b"x"),
        ("list.m3u", b"# two\na.cue\nb.cue\n"),
        ("rom", body),
        ("bad", bytes(len(body))),
    ):
        (tmp_path / name).write_bytes(data)
    folder = f"/games/{system.folder}"
    card = demo.target().path
    games = (f"write {tmp_path}/{name} {folder}/{name}" for name in ("a.cue", "b.cue", "t.bin", "list.m3u"))
    debugfs(card, f"mkdir {folder}", *games, f"write {tmp_path}/rom /system-files/{wanted.name}")

    def foretold() -> BringUp:
        seen = contents.observe(card, started_by(build, catalogue))
        return run(build, catalogue, seen, inspection.observe(build, demo.folder, catalogue))

    good = foretold()
    assert good.games == {"cedar-disc": ("list",)}
    assert not good.failures
    debugfs(card, f"rm /system-files/{wanted.name}", f"write {tmp_path}/bad /system-files/{wanted.name}")
    (failure,) = foretold().failures
    assert (failure.code, failure.blocks) == (f"library.system-file-damaged:{wanted.name}", False)
    assert "different contents" in failure.cause


def test_every_look_at_a_card_asks_for_what_init_needs(demo: Demo, catalogue: Catalogue) -> None:
    """The route card's look and the bring-up's: a tool that init calls by name is gone."""
    written(demo)
    build = repaired(demo, catalogue, *REMEDIES)
    put(demo, build, catalogue)
    build = store.load(demo.folder).build
    debugfs(demo.target().path, "rm /bin/mount")
    _world, result = foretell(build, demo.folder, catalogue)
    assert (result.failure.stage, result.failure.code) == ("init", "system.start-program")
    seen = look_at_card(build, demo.folder, catalogue, World(), UNWATCHED).card
    assert seen is not None
    assert seen.root is not None
    assert set(started_by(build, catalogue)) <= {*seen.root.programs, "/games/", "/system-files/"}
    assert bring_up(lay_out(build, catalogue, seen, World())).failure.code == "system.start-program"


def test_a_networks_key_does_not_come_into_the_logbook(demo: Demo, catalogue: Catalogue) -> None:
    written(demo)
    build = edited(repaired(demo, catalogue), "system.wireless_name", "Lantern room")
    build = edited(build, "system.wireless_key", "a long Wi-Fi password")
    told = put_boot_files(demo.folder, build, catalogue, demo.target())
    assert build.system.wireless_key in told.files["first-boot.sh"].decode()
    assert build.system.wireless_key not in "".join(told.differences.values())
    kept = "".join(path.read_text(errors="replace") for path in demo.folder.glob("logbook*"))
    assert "first-boot.sh" in kept
    assert build.system.wireless_key not in kept


def test_growth_is_told_once_and_room_always(whole: tuple[Build, CardContents, World], catalogue: Catalogue) -> None:
    build, card, world = whole
    assert card.root is not None

    def growth(root: RootFacts, build: Build = build, world: World = world) -> list[str]:
        found = replace(card, root=root, roots={**card.roots, 2: root})
        return [event.text for event in run(build, catalogue, found, world).events if event.stage == "root expansion"]

    (text,) = growth(card.root)
    assert text.startswith("Grows from 33.6")
    assert growth(replace(card.root, expanded=True, free=16_000_000)) == []
    (text,) = growth(replace(card.root, expanded=True, free=15_999_999))
    assert text.startswith("Only 16.0")
    (text,) = growth(replace(card.root, no_write="why"))
    assert "read-only" in text
    grown = replace(card, root=replace(card.root, expanded=True), roots={2: replace(card.root, expanded=True)})
    first, later = run(build, catalogue, card, world), run(build, catalogue, grown, world)
    assert [event.text for event in first.events if event.stage == "root partition"] == ["Quayside 4.2, 2026-06-01."]
    assert first.again_s == later.again_s
    assert first.events[-1].at_s > later.events[-1].at_s
    assert world.scan is not None
    big = replace(world.scan, games=tuple(replace(game, size=10**12) for game in world.scan.games))
    assert any("will be free" in text for text in growth(card.root, world=replace(world, scan=big)))
    bare = build.with_part("image", "harbour-lite")
    assert growth(card.root, build=bare)[0].startswith("Grows")


def test_the_root_grows_to_the_cards_own_end_and_no_further(
    whole: tuple[Build, CardContents, World], catalogue: Catalogue
) -> None:
    build, card, world = whole
    part = next(partition for partition in card.table.partitions if partition.number == card.root_number)
    size = 8_000_000_000
    ready = tuple(replace(game, size=400_000_000) for game in world.scan.ready[:30])
    for root_free, told in ((0, True), (6_000_000_000, False)):
        root = replace(card.root, free=root_free)
        bench = lay_out(
            build,
            catalogue,
            replace(card, size=size, roots={card.root_number: root}),
            replace(world, scan=replace(world.scan, games=ready)),
        )
        texts = [moment.text for moment in root_stage.root_expansion(bench).moments]
        assert f"to {show_bytes(size - part.start)}, then restarts." in texts[0]
        free = root_free + size - part.start - part.size
        assert (f"need 12.0\u202fGB; {show_bytes(free)} will be free." in texts[-1]) is told
    full = replace(card, size=part.end, table=card.table)
    bench = replace(lay_out(build, catalogue, full, world), card=None)
    assert not root_stage.root_expansion(bench).moments


def test_what_the_look_found_goes_before_what_e2fsck_says(
    whole: tuple[Build, CardContents, World], catalogue: Catalogue
) -> None:
    build, card, world = whole
    card = replace(card, fsck=("e2fsck says so",))
    for cautions, told in (((), "e2fsck says so"), (("a sum is wrong",), "a sum is wrong")):
        root = replace(card.root, cautions=cautions)
        seen = replace(card, roots={card.root_number: root}, root=root)
        texts = [moment.text for moment in root_stage.root_partition(lay_out(build, catalogue, seen, world)).moments]
        assert texts[1:2] == [f"The root: {told}."]


@pytest.mark.parametrize(
    "line", ["console=tty1", f"console=tty1{' x' * 300} root=/dev/mmcblk0p2", "root=/dev/mmcblk0p9", "root=179:9"]
)
def test_without_a_root_nothing_behind_it_is_judged(
    line: str, whole: tuple[Build, CardContents, World], catalogue: Catalogue
) -> None:
    """The encoder's quirk is missing in the line, too, and is not told: what would come then is not known."""
    build, card, world = whole
    result = run(build, catalogue, replace(card, texts={**card.texts, "kernel.line": line}), world)
    assert [failure.stage for failure in result.failures if failure.blocks] == ["kernel line"]


def test_a_label_without_a_root_is_not_taken_for_one_that_is_cut(
    whole: tuple[Build, CardContents, World], catalogue: Catalogue
) -> None:
    build, card, world = whole
    build = edited(edited(build.with_part("board", "ling"), "boot.dialect", "extlinux"), "boot.device_tree", "ling.dtb")
    menu = "LABEL a\n  LINUX /merrow-armv8.krn\n  APPEND quiet\n"
    result = run(build, catalogue, replace(card, texts={**card.texts, "extlinux/extlinux.conf": menu}), world)
    assert "boot.no-root" in [failure.code for failure in result.failures]


LOST = "libexample.so.1, which is not there"


def test_an_init_that_lacks_a_library_is_the_end_of_the_kernel(
    whole: tuple[Build, CardContents, World], catalogue: Catalogue
) -> None:
    """The kernel has started it, so it tries no other (init/main.c, kernel_init; kernel/exit.c, do_exit). Seen with a
    real kernel and a root whose libraries were taken away: tools/real_machine.py kernels."""
    build, card, world = whole
    assert card.root is not None
    programs = {**card.root.programs, "/sbin/init": replace(card.root.programs["/sbin/init"], lacks=LOST)}
    root = replace(card.root, programs=programs)
    seen = replace(card, root=root, roots={**card.roots, card.root_number: root})
    panicked(run(build, catalogue, seen, world), "system.init-dies")
    build = edited(edited(build.with_part("board", "ling"), "boot.dialect", "extlinux"), "boot.device_tree", "ling.dtb")
    menu = f"LABEL a\n  LINUX /merrow-armv8.krn\n  INITRD /initrd.img\n  APPEND root=UUID={root.uuid}\n"
    seen = with_files(card, {"initrd.img": archive(usual()), "extlinux/extlinux.conf": menu.encode()})
    (held,) = seen.ramdisks
    assert held.init is not None
    seen = replace(seen, ramdisks=(replace(held, init=replace(held.init, lacks=LOST)),))
    panicked(run(build, catalogue, seen, world), "boot.initramfs-dies")


def panicked(result: BringUp, code: str) -> None:
    failure = next(each for each in result.failures if each.blocks)
    assert failure.code == code
    assert LOST in failure.cause
    assert "/bin/sh" not in failure.cause
    assert failure.screen.title == "Kernel panic"
