"""Bare-metal sets, multi-boot bundles, the size of a card and disks: every seeded mistake, and properties."""

from __future__ import annotations

import re
import shutil
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kyklon.base.errors import FormatError, Refused, WrongUse
from kyklon.base.progress import UNWATCHED
from kyklon.catalogue.image_records import BareMetal, Chooser, Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Bridge, Card, Disk
from kyklon.demo import lighthouse, school_fair, sets
from kyklon.model.build import Build, TriedSystem, edited, remedied
from kyklon.model.card import CardContents
from kyklon.model.world import World
from kyklon.operations.card import disk, sizing
from kyklon.operations.card.acts import bare_metal_card, prepare_card
from kyklon.operations.card.disk import medium_mb_s as disk_speed
from kyklon.operations.card.findings import findings as card_findings
from kyklon.operations.card.sets import baremetal, multiboot
from kyklon.operations.card.sets.lay_out import lay_out
from kyklon.operations.card.sets.manifest import read_manifest
from kyklon.operations.card.sets.problems import rename
from kyklon.operations.card.sets.tried import with_tried
from kyklon.operations.card.sets_seen import look_at_sets
from kyklon.operations.card.sizing import size_of_folder
from kyklon.operations.card.volumes.contents import observe
from kyklon.operations.controls.findings import findings
from kyklon.operations.plan.steps import steps
from kyklon.operations.plan.way import way
from kyklon.operations.poweron.bench import lay_out as bench_of
from kyklon.operations.poweron.bringup import bring_up
from support import Demo

GB = 10**9


# --- bare metal ----------------------------------------------------------------------------------------------


def plan(folder: Path, catalogue: Catalogue, board: str = "herring") -> baremetal.Plan:
    images = {image.id: image for image in catalogue.all(Image)}
    layout = baremetal.layout_of(folder, catalogue.all(BareMetal), images)
    return baremetal.plan(folder, layout, images[layout.image], catalogue.get(Board, board))


@pytest.fixture
def bare(tmp_path: Path) -> Path:
    return sets.make_bare_metal(tmp_path / "set")


def test_every_seeded_mistake_of_the_bare_metal_set_is_found(bare: Path, catalogue: Catalogue) -> None:
    found = plan(bare, catalogue)
    assert {problem.code for problem in found.problems} == set(sets.BARE_METAL_MISTAKES)
    assert not found.ready
    assert found.machines == ()


def test_a_set_without_mistakes_is_ready_for_every_board(tmp_path: Path, catalogue: Catalogue) -> None:
    folder = sets.make_bare_metal(tmp_path / "set", mistakes=False)
    for board, kernel in (
        ("sprat", "tidepool-armv6.krn"),
        ("herring", "tidepool-armv7.krn"),
        ("cod", "tidepool-armv8.krn"),
        ("ling", "tidepool-armv8.krn"),
    ):
        found = plan(folder, catalogue, board)
        assert found.problems == ()
        targets = {each.target for each in found.placed}
        assert kernel in targets
        assert {name for name in targets if name.endswith(".krn")} == {kernel}
        assert {name for name in targets if name.endswith(".dtb")} == {f"{board}.dtb"}
        assert found.machines == ("elm-s", "elm-l", "rowan-desk")


def test_the_renamings_offered_put_names_right(bare: Path, catalogue: Catalogue) -> None:
    for problem in plan(bare, catalogue).problems:
        if problem.rename:
            rename(bare, problem)
    codes = {problem.code for problem in plan(bare, catalogue).problems}
    assert not codes & {"needed-file", "system-file-name"}
    assert "system-file-size" in codes  # what no renaming mends still stands
    assert "remembered" in codes  # elm-s is complete now: only the menu would be skipped


def test_a_renaming_never_writes_over_another_file(bare: Path, catalogue: Catalogue) -> None:
    problem = next(problem for problem in plan(bare, catalogue).problems if problem.rename)
    (bare / problem.rename[1]).write_bytes(b"mine")
    with pytest.raises(WrongUse, match="already exists"):
        rename(bare, problem)
    assert (bare / problem.rename[1]).read_bytes() == b"mine"


def test_a_kernel_of_another_set_under_the_right_name_is_told(bare: Path, catalogue: Catalogue) -> None:
    (bare / "tidepool-armv7.krn").write_bytes((bare / "tidepool-armv6.krn").read_bytes())
    (problem,) = [each for each in plan(bare, catalogue).problems if each.code == "kernel-set"]
    assert "ARMv6, not ARMv7" in problem.sentence
    (bare / "tidepool-armv7.krn").write_bytes(b"no kernel")
    assert "kernel-damaged" in {each.code for each in plan(bare, catalogue).problems}
    (bare / "tidepool-armv7.krn").unlink()
    assert "no-kernel" in {each.code for each in plan(bare, catalogue).problems}
    (bare / "trees" / "herring.dtb").rename(bare / "trees" / "Herring.DTB")
    (tree,) = [each for each in plan(bare, catalogue).problems if each.code == "no-tree"]
    assert tree.rename == ("trees/Herring.DTB", "trees/herring.dtb")


def test_a_choosers_systems_are_steps_and_what_stops_one_is_found(tmp_path: Path, catalogue: Catalogue) -> None:
    folder = sets.make_multi_boot(tmp_path / "stick")
    build = edited(edited(school_fair.build(), "sets.multi_boot", "stick"), "system.add_ons", ["fan-by-heat"])
    build = build.with_part("image", "slipway")

    def seen(build: Build) -> tuple[set[str], list[str]]:
        """Codes of operation 20, and what the steps are."""
        world = look_at_sets(build, tmp_path, catalogue, World(), UNWATCHED)
        return {each.code for each in card_findings(build, catalogue, world)}, [
            step.what for step in way(build, catalogue, world)
        ]

    codes, _steps = seen(build)
    assert {f"card.set:{name}" for name in ("breakwater", "jetty", "quayside", "sandbar", "skerry")} <= codes
    picked = edited(build, "sets.chosen", ["harbour"])
    codes, told = seen(picked)
    assert not [code for code in codes if code.startswith("card.set")]  # what nobody chose may be as it is
    assert told[-2:] == ["Unpack Harbour Lite", "Install Fan by temperature in Harbour Lite"]
    tried = with_tried(picked, TriedSystem(bundle="harbour", started=True, released="2026-05-10", at="2026-06-01"))
    codes, _steps = seen(tried)
    assert "card.system-no-return:harbour" in codes
    world = look_at_sets(tried, tmp_path, catalogue, World(), UNWATCHED)
    assert next(step for step in steps(tried, catalogue, world) if step.id == "unpack-harbour").done
    manifest = folder / "berths" / "harbour" / "berth.toml"
    manifest.write_text(manifest.read_text("utf-8").replace("2026-05-10", "2026-11-20"), encoding="utf-8")
    codes, told = seen(tried)
    assert "card.system-updated:harbour" in codes
    assert any(each.startswith("Update Harbour Lite: keep its saves") for each in told)
    codes, _steps = seen(edited(tried, "sets.multi_boot", "gone"))
    assert "card.set" in codes


def _radio_needs_a_driver(catalogue: Catalogue, card: CardContents) -> None:
    """No operating system, no driver: a wireless controller is silent, unless the image says that it has its own."""
    keyed = school_fair.build().with_part("encoder", "thole-air")
    alone = keyed.with_part("keyboard", "")
    tidepool = catalogue.get(Image, "tidepool").model_copy(update={"radio": True})
    driven = replace(catalogue, parts={**catalogue.parts, "images": {"tidepool": tidepool}})

    def silent(build: Build, shelf: Catalogue) -> tuple[bool, bool]:
        """Whether it is a finding, and whether the forecast stops at it."""
        codes = [each.code.partition(":")[0] for each in findings(build, shelf, World())]
        failure = bring_up(bench_of(build, shelf, card, World())).failure
        return "controls.no-radio" in codes, failure is not None and failure.code.startswith("controls.no-radio")

    assert silent(alone, catalogue) == (True, True)
    assert silent(keyed, catalogue) == (True, False)  # the keyboard moves the menu
    assert silent(alone, driven) == (False, False)


def test_a_bare_metal_card_holds_the_plan_and_nothing_else(tmp_path: Path, catalogue: Catalogue, demo: Demo) -> None:
    from kyklon.operations.card.volumes.fat import FatVolume

    folder = sets.make_bare_metal(tmp_path / "set", mistakes=False)
    planned = plan(folder, catalogue)
    target = demo.target("blank-card")
    found, event = bare_metal_card(demo.job(), folder, planned, "TIDEPOOL")
    assert found.same_files == len(planned.placed)
    assert "read back" in event.detail
    _radio_needs_a_driver(catalogue, observe(target.path))
    with pytest.raises(Refused, match="TIDEPOOL"):  # it holds something now
        prepare_card(demo.job(), "X")
    back = tmp_path / "back"
    back.mkdir()
    FatVolume(target.path, 4 << 20).copy_out(back)
    there = {path.relative_to(back).as_posix().lower() for path in back.rglob("*") if path.is_file()}
    assert there == {each.target.lower() for each in planned.placed}


def test_a_set_that_is_not_ready_makes_no_card(bare: Path, catalogue: Catalogue, demo: Demo) -> None:
    target = demo.target("blank-card")
    with pytest.raises(WrongUse, match="not ready"):
        bare_metal_card(demo.job(), bare, plan(bare, catalogue), "TIDEPOOL")
    assert not target.path.exists()


def test_a_folder_that_is_no_set_is_told(tmp_path: Path, catalogue: Catalogue) -> None:
    (tmp_path / "x.txt").write_text("x", encoding="utf-8")
    with pytest.raises(WrongUse, match="not a bare-metal set"):
        plan(tmp_path, catalogue)
    with pytest.raises(WrongUse, match="not a folder"):
        plan(tmp_path / "nowhere", catalogue)


# --- multi-boot ----------------------------------------------------------------------------------------------


@pytest.fixture
def chooser(catalogue: Catalogue) -> Chooser:
    return catalogue.all(Chooser)[0]


@pytest.fixture
def stick(tmp_path: Path) -> Path:
    return sets.make_multi_boot(tmp_path / "stick")


def test_every_seeded_mistake_of_the_bundles_is_found(stick: Path, chooser: Chooser) -> None:
    found = multiboot.check(stick, chooser, 32 * GB, board="herring")
    assert {problem.code for problem in found.problems} == set(sets.MULTI_BOOT_MISTAKES)
    assert not found.ready
    assert multiboot.check(stick / "berths", chooser, 32 * GB, board="herring") == found


def test_bundles_without_mistakes_are_ready_and_laid_out(tmp_path: Path, chooser: Chooser) -> None:
    folder = sets.make_multi_boot(tmp_path / "stick", mistakes=False)
    found = multiboot.check(folder, chooser, 32 * GB, board="herring")
    assert found.problems == ()
    assert found.ready
    assert [bundle.name for bundle in found.bundles] == [
        "Quayside 4.2",
        "Harbour Lite",
        "Breakwater player",
        "Jetty desktop",
    ]
    to = tmp_path / "to"
    to.mkdir()
    some = multiboot.check(folder, chooser, 32 * GB, chosen=("jetty", "quayside"))
    files, size = lay_out(folder, chooser, some, to)
    assert (files, size) == (10, sum(bundle.files for bundle in some.bundles if bundle.folder in some.chosen))
    assert sorted(path.name for path in (to / "berths").iterdir()) == ["jetty", "quayside"]
    again = multiboot.check(to, chooser, 32 * GB)
    assert again.ready
    with pytest.raises(WrongUse, match="where the bundles are"):
        lay_out(folder, chooser, found, folder)


def test_the_sum_of_the_partitions_is_compared_with_what_is_usable(tmp_path: Path, chooser: Chooser) -> None:
    folder = sets.make_multi_boot(tmp_path / "stick", mistakes=False)
    need = multiboot.check(folder, chooser, 32 * GB).need
    exact = need + chooser.own_bytes
    assert multiboot.check(folder, chooser, exact).fits
    tight = multiboot.check(folder, chooser, exact - 1)
    assert not tight.fits
    assert "too-much" in {problem.code for problem in tight.problems}
    assert multiboot.check(folder, chooser, exact - 1, chosen=("quayside",)).ready


def test_the_renaming_offered_puts_a_bundle_right(stick: Path, chooser: Chooser) -> None:
    for problem in multiboot.check(stick, chooser, 32 * GB).problems:
        if problem.rename:
            rename(multiboot.top_of(stick, chooser), problem)
    codes = {problem.code for problem in multiboot.check(stick, chooser, 32 * GB).problems}
    assert not codes & {"archive-name", "no-manifest"}


def test_a_file_over_four_gib_asks_for_another_file_system(tmp_path: Path, chooser: Chooser) -> None:
    folder = sets.make_multi_boot(tmp_path / "stick", mistakes=False)
    with (folder / "berths" / "jetty" / "jetty-root.tar.xz").open("r+b") as file:
        file.truncate(1 << 32)
    manifest = folder / "berths" / "jetty" / "berth.toml"  # without its sum: four GiB take long to add up
    manifest.write_text(re.sub("(?m)^sha256.*$", "", manifest.read_text(encoding="utf-8")), encoding="utf-8")
    found = multiboot.check(folder, chooser, 32 * GB)
    assert found.stick == "exFAT"
    assert "large-file" in {problem.code for problem in found.problems}


def test_a_folder_without_bundles_is_told(tmp_path: Path, chooser: Chooser) -> None:
    with pytest.raises(WrongUse, match="no bundles"):
        multiboot.check(tmp_path, chooser, GB)


@given(st.text(max_size=300))
def test_any_text_gives_a_manifest_or_the_one_error(text: str) -> None:
    try:
        read_manifest(text)
    except FormatError as bad:
        assert 0 <= bad.offset <= len(text.encode("utf-8", "surrogatepass"))


@given(st.data())
def test_a_real_manifest_with_a_changed_piece_gives_a_result_or_the_one_error(data: st.DataObject) -> None:
    text = (
        'name = "Quay"\norder = 1\nboards = ["cod"]\n\n[[partitions]]\nlabel = "A"\nkind = "ext4"\nmb = 10\n'
        'unpacked_mb = 5\narchive = "a.tar.xz"\ngrows = true\n'
    )
    at = data.draw(st.integers(0, len(text)))
    end = data.draw(st.integers(at, min(len(text), at + 12)))
    changed = text[:at] + data.draw(st.text(max_size=8)) + text[end:]
    try:
        read_manifest(changed)
    except FormatError as bad:
        assert 0 <= bad.offset <= len(changed.encode("utf-8", "surrogatepass"))


# --- size ----------------------------------------------------------------------------------------------------


@given(st.lists(st.integers(0, 10**9), max_size=30), st.sampled_from([512, 4096, 32768]))
def test_files_take_whole_clusters(sizes: list[int], cluster: int) -> None:
    total = sizing.by_cluster(sizes, cluster)
    assert total % cluster == 0
    assert sum(sizes) <= total < sum(sizes) + cluster * max(1, len(sizes))


@given(st.integers(0, 10**11), st.integers(0, 2 * 10**11), st.integers(0, 5000))
def test_the_advice_is_the_smallest_card_that_fits(catalogue: Catalogue, image: int, library: int, games: int) -> None:
    cards = catalogue.all(Card)
    found = sizing.size(image, "", sizing.Library((library,), games, library), cards)
    assert found.need == sum(item.size for item in found.items)
    fitting = [card for card in cards if card.capacity_bytes >= found.need]
    if fitting:
        assert found.advice == min(fitting, key=lambda card: card.capacity_bytes).id
    else:
        assert found.advice == ""
        assert "disk" in found.sentence


def test_a_speed_class_is_told_in_minutes(catalogue: Catalogue) -> None:
    """30 MB/s against 10 MB/s (SD Association: U3, C10): a third of the time for the same bytes."""
    found = sizing.size(9 * GB, "", sizing.Library((), 0, 900_000_000), catalogue.all(Card))
    minutes = {offer.card: offer.minutes for offer in found.offers}
    assert minutes["cockle-16"] == pytest.approx(15)
    assert minutes["cockle-128"] == pytest.approx(5)
    assert next(o for o in found.offers if o.card == "cockle-32").load_s == pytest.approx(10)


def test_the_size_of_the_demo_and_of_a_bare_folder(demo: Demo, catalogue: Catalogue) -> None:
    assert size_of_folder(demo.folder, catalogue).advice == "cockle-16"
    assert size_of_folder(demo.folder / "library", catalogue).items[1].size > 0
    with pytest.raises(WrongUse):
        size_of_folder(demo.folder / "nowhere", catalogue)


# --- disk ----------------------------------------------------------------------------------------------------


def test_a_disk_in_place_of_a_card_is_checked(demo: Demo, catalogue: Catalogue) -> None:
    build = edited(demo.build, "medium", "disk").with_part("disk", "barnacle-512").with_part("bridge", "capstan-plain")
    codes = {finding.code: finding for finding in disk.findings(build, catalogue, World())}
    assert set(codes) == {"disk.board", "disk.uas", "disk.port", "disk.root"}
    assert "usb-storage.quirks=6b79:0c02:u" in codes["disk.uas"].message
    assert "2.07" in codes["disk.uas"].message  # the other school
    build = build.with_part("board", "ling").with_part("supply", "ballast-3a")
    for code in ("disk.uas", "disk.root"):
        remedy = {each.code: each for each in disk.findings(build, catalogue, World())}[code].remedy
        assert remedy is not None
        build = remedied(build, remedy)
    assert {each.code for each in disk.findings(build, catalogue, World())} <= {"disk.supply", "disk.port"}
    assert "usb-storage.quirks=6b79:0c02:u" in build.boot.kernel_words
    assert "root=/dev/sda2" in build.boot.kernel_words
    outlook = disk.outlook(build, catalogue)
    assert outlook is not None
    assert outlook.times > 3
    assert outlook.draws_a == pytest.approx(1.3)
    assert disk.findings(demo.build, catalogue, World()) == []


def test_the_demo_sets_are_in_the_demo(demo: Demo, catalogue: Catalogue) -> None:
    build = demo.build
    found = plan(demo.folder / build.sets.bare_metal, catalogue)
    assert {problem.code for problem in found.problems} == set(sets.BARE_METAL_MISTAKES)
    copy = demo.folder / "copy"
    shutil.copytree(demo.folder / build.sets.multi_boot, copy)
    checked = multiboot.check(copy, catalogue.all(Chooser)[0], 32 * GB, board="herring")
    assert {problem.code for problem in checked.problems} == set(sets.MULTI_BOOT_MISTAKES)


def test_the_chooser_is_told_by_its_manifests_and_decides_the_stick(tmp_path: Path, catalogue: Catalogue) -> None:
    own = catalogue.all(Chooser)[0]
    other = own.model_copy(
        update={"id": "other", "image": "x", "bundles": "moor", "manifest": "moor.toml", "reads": ("FAT32",)}
    )
    both = (own, other)
    sets.make_multi_boot(tmp_path / "own", mistakes=False)
    (tmp_path / "else" / "moor" / "a").mkdir(parents=True)
    (tmp_path / "else" / "moor" / "a" / "moor.toml").write_text("name = 'A'")
    assert multiboot.chooser_for(both, folder=tmp_path / "own") is own
    assert multiboot.chooser_for(both, folder=tmp_path / "else") is other
    assert multiboot.chooser_for(both, "x") is other
    assert multiboot.chooser_for((own,)) is own
    assert multiboot.chooser_for(both, wanted="other") is other
    for folder, wanted in ((tmp_path, ""), (None, "none")):
        with pytest.raises(WrongUse, match="chooser"):
            multiboot.chooser_for(both, folder=folder, wanted=wanted)
    assert [multiboot.stick_for(own, size) for size in (1, 1 << 33)] == ["FAT32", "exFAT"]
    assert multiboot.stick_for(other, 1 << 33) == "FAT32"


def test_a_system_newer_than_its_chooser_is_told(tmp_path: Path, catalogue: Catalogue) -> None:
    sets.make_multi_boot(tmp_path, mistakes=False)
    own = catalogue.all(Chooser)[0]
    for released, count in (("2026-06-15", 0), ("2026-05-09", 4), ("", 0), ("spring", 0)):
        found = multiboot.check(tmp_path, own.model_copy(update={"released": released}), 64 * 10**9)
        assert sum(problem.code == "newer" for problem in found.problems) == count


def test_a_disk_is_as_fast_as_its_bridge_and_socket_let_it(catalogue: Catalogue) -> None:
    build = lighthouse.build(catalogue, "0" * 64)
    card = disk_speed(build, catalogue)
    bridge, own = catalogue.all(Bridge)[0], catalogue.all(Disk)[0]
    build = edited(build.with_part("bridge", bridge.id).with_part("disk", own.id), "medium", "disk")
    found = disk_speed(build, catalogue)
    board = catalogue.get(Board, build.part("board"))
    assert card is not None
    assert found is not None
    assert card[0] <= board.card_mb_s
    assert found[0] <= min(board.usb_mb_s, bridge.mb_s, own.read_mb_s)
    assert found != card
