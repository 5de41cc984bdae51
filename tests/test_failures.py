"""Every failure mode on a real card: foretold with its cause, and gone once its remedy was done."""

from __future__ import annotations

import random
import subprocess
from dataclasses import replace
from functools import cache
from pathlib import Path

import pytest

from failure_modes import CHOOSER, LABELS, MODES, Mode, root
from judges.cards import BOOT, chooser_card, copied, put_fat
from kyklon.catalogue.image_records import Chooser
from kyklon.catalogue.loader import Catalogue, load, standard_timings
from kyklon.demo import lighthouse
from kyklon.model.build import Build, edited, remedied
from kyklon.model.card import CardContents
from kyklon.model.findings import Remedy
from kyklon.model.timing import Mode as Mode_
from kyklon.model.world import World
from kyklon.operations import inspection
from kyklon.operations.boot.acts import plan_boot_files
from kyklon.operations.card.observe import started_by
from kyklon.operations.card.sets import multiboot
from kyklon.operations.card.volumes import contents
from kyklon.operations.picture import edid
from kyklon.operations.poweron.bench import lay_out
from kyklon.operations.poweron.bringup import bring_up
from kyklon.operations.poweron.events import BringUp, Failure
from kyklon.operations.poweron.sequence import stages_of
from kyklon.operations.poweron.stages.display import waking

HIDING = (
    "card.not-bootable",
    "card.no-boot-partition",
    "card.loader-partition",
    "boot.no-root",
    "boot.root-nowhere",
    "card.no-root-partition",
)
BESIDE = ("card.bundle", "assembly")  # of failures that block nothing, those that are judged here


@cache
def catalogue() -> Catalogue:
    return load()


@cache
def good_build(way: str) -> Build:
    """The demo's build with its faults put right; for LABELS on a board that reads extlinux.conf, with a flat
    display."""
    parts = catalogue()
    build = lighthouse.build(parts, "0" * 64)
    if way == CHOOSER:
        build = build.with_part("image", "slipway").with_part("display", "pane-24")
        build = edited(build, "sets.multi_boot", "")
        build = edited(edited(build, "boot.kernel", "slipway-armv7.krn"), "boot.device_tree", "herring.dtb")
        return edited(build, "picture.menu", Mode_(name="CTA 16", timing=standard_timings("cta")[16].timing))
    if way == LABELS:
        build = build.with_part("board", "ling").with_part("display", "pane-24")
        build = edited(edited(build, "boot.dialect", "extlinux"), "boot.kernel", "merrow-armv8.krn")
        build = edited(build, "boot.device_tree", "ling.dtb")
        build = edited(build, "parts", tuple(part for part in build.parts if part.role not in ("adapter", "supply")))
        build = edited(build, "links", ())
        build = edited(build, "picture.menu", Mode_(name="CTA 16", timing=standard_timings("cta")[16].timing))
    for code in ("boot.kernel-set", "controls.encoder-quirk", "picture.out-of-range:menu"):
        found = [each for each in inspection.inspect(build, parts, World()) if each.code == code]
        if found and found[0].remedy:
            build = remedied(build, found[0].remedy)
    return build


def world_of(build: Build, folder: Path) -> World:
    data = (folder / (lighthouse.TUBE if build.part("display") == "casement-19" else lighthouse.PANE)).read_bytes()
    return World(identification=edid.read(data))


def put(card: Path, build: Build) -> None:
    """This build's boot files onto a card, by the usual tools."""
    for name, data in plan_boot_files(build, catalogue(), contents.observe(card)).files.items():
        put_fat(card, name, data)


@pytest.fixture(scope="module")
def good(tmp_path_factory: pytest.TempPathFactory, demo_master: Path) -> dict[str, Path]:
    """A whole card for each way, and the demo's folder."""
    held = tmp_path_factory.mktemp("good")
    image = held / "image.img"
    with image.open("wb") as file:
        subprocess.run(["xz", "-dc", demo_master / lighthouse.IMAGE], stdout=file, check=True)
    found = {"folder": demo_master}
    for way in ("merrow", LABELS):
        found[way] = copied(image, held / f"{way}.img")
        put(found[way], good_build(way))
    found[CHOOSER] = chooser_card(held / "chooser.img")
    put(found[CHOOSER], good_build(CHOOSER))
    return found


def observed(card: Path, build: Build) -> CardContents:
    return contents.observe(card, started_by(build, catalogue()))


def run(card: Path, build: Build, world: World) -> BringUp:
    return bring_up(lay_out(build, catalogue(), observed(card, build), world))


def first(result: BringUp) -> Failure | None:
    return next((failure for failure in result.failures if failure.blocks or failure.code.startswith(BESIDE)), None)


@pytest.mark.parametrize("mode", MODES, ids=[mode.name.replace(" ", "-") for mode in MODES])
def test_each_failure_is_foretold_and_its_remedy_passes_the_stage(
    mode: Mode, good: dict[str, Path], tmp_path: Path
) -> None:
    build = mode.build(good_build(mode.way))
    world = mode.world(world_of(build, good["folder"]))
    card = copied(good[mode.way], tmp_path / "card.img")
    mode.card(card)
    result = run(card, build, world)
    failure = first(result)
    assert failure is not None, "predicted as fine"
    if failure.code in HIDING:
        assert result.failures == (failure,), "nothing can be said of what comes after"
    assert (failure.stage, failure.code.split(":")[0].split(".")[0]) == (
        mode.stage,
        mode.code.split(":")[0].split(".")[0],
    ), failure
    assert failure.code.startswith(mode.code), failure
    assert mode.words in failure.cause, failure.cause
    assert failure.screen.title
    assert failure.advice
    after = first(repaired(mode, failure, card, good, tmp_path))
    names = [stage.name for stage in stages_of("multi-boot" if mode.way == CHOOSER else "")]
    assert after is None or names.index(after.stage) > names.index(mode.stage), (failure, after)


def repaired(mode: Mode, failure: Failure, card: Path, good: dict[str, Path], folder: Path) -> BringUp:
    """What is foretold once the remedy was done: the build changed, its boot files put; or the card written again."""
    build = mode.build(good_build(mode.way))
    world = mode.world(world_of(build, good["folder"]))
    remedy: Remedy | None = failure.remedy
    if failure.code.startswith(
        ("assembly", "picture.no-output", "picture.chain", "controls.proof")
    ):  # put right by hand
        build, world = good_build(mode.way), world_of(good_build(mode.way), good["folder"])
        put(card, build)
    elif remedy is not None:
        build = remedied(build, remedy) if remedy.changes else build
        put(card, build)
    if remedy is None or (failure.code in ("boot.missing-file",) and not readable(card)):
        card = copied(good[mode.way], folder / "again.img")
        put(card, build)
    return run(card, build, world)


def readable(card: Path) -> bool:
    return not contents.observe(card).broken


@pytest.mark.parametrize(
    "first_mode", ["an older kind named", "a mount option that ext4 has not", "a safe start on a tube"]
)
def test_a_root_that_is_known_is_followed_behind_a_word_that_stops_it(
    first_mode: str, good: dict[str, Path], tmp_path: Path
) -> None:
    """One run names all that would come: the word, and the init that is not there."""
    modes = {mode.name: mode for mode in MODES}
    build, card = good_build("merrow"), copied(good["merrow"], tmp_path / "card.img")
    modes[first_mode].card(card)
    modes["no init"].card(card)
    found = run(card, build, world_of(build, good["folder"])).failures
    assert [failure.code for failure in found] == [modes[first_mode].code, "system.no-init"]


@pytest.mark.parametrize(
    ("damage", "cause"),
    [
        ((), ""),
        (("rm /bin/i2cset",), "no i2cset"),
        (("sif /bin/busybox mode 0100644",), "not executable"),
        (("rm /bin/i2cset", "symlink /bin/i2cset nowhere"), "no i2cset"),
    ],
)
def test_a_display_is_woken_only_where_the_image_has_what_wakes_it(
    damage: tuple[str, ...], cause: str, good: dict[str, Path], tmp_path: Path
) -> None:
    build = good_build("merrow").with_part("display", "casement-bare-9")
    build = edited(build, "boot.overlays", [*build.boot.overlays, "bus-two-wire"])
    card = copied(good["merrow"], tmp_path / "card.img")
    put(card, build)
    root(*damage)(card)
    world = replace(world_of(build, good["folder"]), identification=None)
    step = waking(lay_out(build, catalogue(), observed(card, build), world))
    assert [failure.code for failure in step.failures] == (["picture.waking-program"] if cause else [])
    assert all(cause in failure.cause for failure in step.failures)


def test_there_are_as_many_ways_to_fail_as_the_documents_say() -> None:
    assert len(MODES) >= 120
    assert len({mode.name for mode in MODES}) == len(MODES)
    table = (Path(__file__).parent.parent / "docs" / "power-on.md").read_text(encoding="utf-8")
    missing = [mode.name for mode in MODES if f"| {mode.name} |" not in table]
    assert not missing, "run tools/failure_table.py"


# --- what does no harm -----------------------------------------------------------------------------------------------

BOTH = ("merrow", LABELS)
_SETTINGS = {"merrow": "merrow.settings", LABELS: "extlinux/extlinux.conf"}


def _reworded(text: str, number: int) -> str:
    """A boot file with something done to it that changes nothing: one of ten, by its number."""
    lines = text.split("\n")
    head, rest = lines[:1], lines[1:]
    remark = "-- " if text.startswith("merrow") else "# "
    return {
        0: lambda: "\n".join((*head, f"{remark}a remark", *rest)),
        1: lambda: "\n".join((*head, "", *rest)),
        2: lambda: "\n".join((*head, *(f"\t{line}" if line else line for line in rest))),
        3: lambda: text.replace(" = ", "="),
        4: lambda: text.replace(" = ", "   =   "),
        5: lambda: text + f"\n{remark}the end",
        6: lambda: text.rstrip("\n"),
        7: lambda: "\n".join((*head, *(line.replace("APPEND", "append").replace("LINUX", "kernel") for line in rest))),
        8: lambda: "\n".join((*head, f"{remark}{'x' * 300}", *rest)),
        9: lambda: text.replace("\n", "\n\n"),
    }[number]()


@pytest.mark.parametrize("way", BOTH)
@pytest.mark.parametrize("number", range(25))
def test_what_does_no_harm_is_not_foretold_as_harm(
    way: str, number: int, good: dict[str, Path], tmp_path: Path
) -> None:
    """Fifty variations: boot files in other words, names in capitals, kernel lines in other orders and forms."""
    build = good_build(way)
    card = copied(good[way], tmp_path / "card.img")
    seen = contents.observe(card)
    main = _SETTINGS[way]
    text = seen.texts[main]
    if number < 10:
        put_fat(card, main, _reworded(text, number).encode())
    elif number < 20:
        _other_line(card, way, seen, number - 10)
    elif number == 20:
        put_fat(card, "new file.txt", b"something else\r\n")
    elif number == 21 and way == "merrow":
        put_fat(card, main, text.replace("\n", "\r\n").encode())
    elif number == 22:
        name = "merrow-armv7.krn" if way == "merrow" else "merrow-armv8.krn"
        put_fat(card, main, text.replace(name, name.upper()).encode())
    elif number == 23 and way == "merrow":
        put_fat(card, main, text.replace("memory.video", "unknown.word = 1\nmemory.video").encode())
    elif number == 24 and way == "merrow":
        put_fat(card, "services.list", "\n".join(("# all of them", *seen.texts["services.list"].split("\n"))).encode())
    assert first(run(card, build, world_of(build, good["folder"]))) is None


def _other_line(card: Path, way: str, seen: CardContents, number: int) -> None:
    """The kernel line in other words of the same meaning."""
    name = "kernel.line" if way == "merrow" else "extlinux/extlinux.conf"
    old = "root=/dev/mmcblk0p2"
    new = {
        0: "root=PARTUUID=4b594b31-02",
        1: "root=PARTUUID=4B594B31-02",
        2: "root=179:2",
        3: "root=b302",
        4: "root=B302",
        5: f"root=/dev/mmcblk0p7 {old}",
        6: f'greet="good day" {old}',
        7: f"{old} ro",
        8: f"{old} rw rootflags=data=ordered",
        9: f"{old} rootdelay=2 loglevel=3",
    }[number]
    put_fat(card, name, seen.texts[name].replace(old, new).encode())


@pytest.mark.parametrize("board", ["sprat", "herring", "cod", "ling"])
@pytest.mark.parametrize("image", ["quayside"])
def test_every_board_reaches_the_menu_with_a_good_card(
    image: str, board: str, good: dict[str, Path], tmp_path: Path
) -> None:
    way = LABELS if board == "ling" else "merrow"
    build = good_build(way).with_part("board", board).with_part("image", image)
    kernel = {"sprat": "merrow-armv6.krn", "herring": "merrow-armv7.krn"}.get(board, "merrow-armv8.krn")
    build = edited(edited(build, "boot.kernel", kernel), "boot.device_tree", f"{board}.dtb")
    build = edited(build, "parts", tuple(part for part in build.parts if part.role != "supply"))
    card = copied(good[way], tmp_path / "card.img")
    put(card, build)
    assert first(run(card, build, world_of(build, good["folder"]))) is None


@pytest.mark.parametrize("board", ["herring", "cod"])
def test_a_good_multi_boot_card_lists_its_systems(board: str, good: dict[str, Path], tmp_path: Path) -> None:
    build = edited(good_build(CHOOSER).with_part("board", board), "boot.device_tree", f"{board}.dtb")
    card = copied(good[CHOOSER], tmp_path / "card.img")
    put(card, build)
    result = run(card, build, world_of(build, good["folder"]))
    assert not result.failures
    assert (result.reached, result.screen.lines) == ("front end", ("Quayside 4.2", "Harbour Lite"))
    assert any("is not simulated" in words for words in result.assumed)


def test_a_chooser_whose_bundles_are_on_a_stick_says_what_it_assumes(good: dict[str, Path], tmp_path: Path) -> None:
    build = edited(good_build(CHOOSER), "sets.multi_boot", "bundles")
    card = copied(good[CHOOSER], tmp_path / "card.img")
    subprocess.run(["mdeltree", "-i", f"{card}@@{BOOT}", "::/berths"], check=True)
    result = run(card, build, world_of(build, good["folder"]))
    assert not result.failures
    assert any("stick with the bundles" in words for words in result.assumed)


@pytest.mark.parametrize("seed", range(8))
def test_bundles_on_a_card_are_judged_as_those_copied_off_it(seed: int, good: dict[str, Path], tmp_path: Path) -> None:
    """Random damage to a chooser's card; mcopy(1) takes the bundles off it, and the check of folders says the same."""
    rng = random.Random(seed)
    card, off = copied(good[CHOOSER], tmp_path / "card.img"), tmp_path / "off"
    off.mkdir()
    for _ in range(rng.randint(1, 4)):
        _damaged_bundle(card, rng)
    subprocess.run(["mcopy", "-s", "-i", f"{card}@@{BOOT}", "::/berths", off], check=True)
    chooser = catalogue().all(Chooser)[0]
    on_card = multiboot.check_card(contents.observe(card), chooser, board="herring", size=32 * 10**9)
    copied_off = multiboot.check(off, chooser, 32 * 10**9, board="herring")
    assert sorted(on_card.problems, key=repr) == sorted(copied_off.problems, key=repr)
    assert [b.name for b in on_card.bundles] == [b.name for b in copied_off.bundles]


def _damaged_bundle(card: Path, rng: random.Random) -> None:
    seen = contents.observe(card)
    name = rng.choice(sorted(path for path in seen.sizes if path.startswith("berths/")))
    data = bytearray(
        subprocess.run(["mtype", "-i", f"{card}@@{BOOT}", f"::/{name}"], capture_output=True, check=True).stdout
    )
    act = rng.randrange(5)
    if act == 0 and data:
        data[rng.randrange(len(data))] ^= 1 << rng.randrange(8)
    elif act == 1:
        del data[rng.randrange(len(data) + 1) :]
    if act < 2:
        put_fat(card, name, bytes(data))
    elif act == 2:
        subprocess.run(["mdel", "-i", f"{card}@@{BOOT}", f"::/{name}"], check=True)
    elif act == 3:
        put_fat(card, f"{name.rpartition('/')[0]}/spare-{rng.randrange(9)}.tar.gz", bytes(data))
    else:
        put_fat(card, "berths/loose.txt", b"x")


@pytest.mark.parametrize(
    ("name", "title"),
    [("a partition that is not there", "Waiting for ever"), ("a number without a partition", "Kernel panic")],
)
def test_a_kernel_waits_for_names_and_not_for_numbers(
    name: str, title: str, good: dict[str, Path], tmp_path: Path
) -> None:
    mode, build = next(each for each in MODES if each.name == name), good_build("merrow")
    card = copied(good["merrow"], tmp_path / "card.img")
    mode.card(card)
    failure = first(run(card, build, world_of(build, good["folder"])))
    assert failure is not None
    assert failure.screen.title == title
