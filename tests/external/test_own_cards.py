"""Cards laid out as nobody here lays them out: boot files in subfolders and on ext4, by fdt and by fdtdir. The judge is
U-Boot 2023.01 in a virtual board; paths as the Boot Loader Specification and U-Boot's doc/README.pxe allow them."""

from __future__ import annotations

import os
import subprocess
from dataclasses import replace
from pathlib import Path

import pytest

from judges import loader
from judges.compare import with_loader_stage
from kyklon.catalogue.loader import Catalogue, load
from kyklon.demo import lighthouse
from kyklon.demo.noise import device_tree, kernel_64
from kyklon.model.build import Build, edited, remedied
from kyklon.operations.boot.acts import planned_for, put_boot_files
from kyklon.operations.boot.compile import compiled
from kyklon.operations.card.drives import looking
from kyklon.operations.card.volumes import contents
from kyklon.operations.poweron.bench import Bench, lay_out
from kyklon.operations.poweron.bringup import bring_up
from kyklon.operations.poweron.events import PUT_ON_CARD, Failure

MIB = 1 << 20
TREES = "dtbs/current/maker"
LINE = "root=/dev/mmcblk0p2 rootwait"


def text(tree: str, kernel: str = "/kernels/Image-6.1") -> str:
    return f"default l0\nprompt 0\n\nlabel l0\n\tlinux {kernel}\n{tree}\tappend {LINE}\n"


FDT = f"\tfdt /{TREES}/ling.dtb\n"
FDTDIR = "\tfdtdir /dtbs/current/\n"


def card_of(tmp_path: Path, files: dict[str, bytes], kind: str, top: str = "") -> Path:
    """One partition with these files, FAT or ext4; top: a folder above them."""
    held, card, volume = tmp_path / "files", tmp_path / "card.img", tmp_path / "volume"
    for name, data in files.items():
        path = held / top / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
    for path, size in ((card, 40 * MIB), (volume, 34 * MIB)):
        with path.open("wb") as file:
            file.truncate(size)
    code = "c" if kind == "fat" else "83"
    table = f"label: dos\nstart=2048, size={34 * 2048}, type={code}, bootable\nstart={36 * 2048}, size=4096, type=83\n"
    subprocess.run(["sfdisk", "-q", str(card)], input=table.encode(), check=True)
    if kind == "fat":
        subprocess.run(["mkfs.fat", "-F", "32", "-s", "1", str(volume)], check=True, stdout=subprocess.DEVNULL)
        subprocess.run(["mcopy", "-s", "-i", str(volume), *map(str, held.iterdir()), "::"], check=True)
    else:
        subprocess.run(["mkfs.ext4", "-q", "-F", "-d", str(held), str(volume)], check=True)
    subprocess.run(["dd", f"if={volume}", f"of={card}", "bs=1M", "seek=1", "conv=notrunc", "status=none"], check=True)
    return card


def files_with(boot: str, conf: str = "extlinux/extlinux.conf") -> dict[str, bytes]:
    return {
        conf: boot.encode(),
        "kernels/Image-6.1": kernel_64(200_000),
        f"{TREES}/ling.dtb": device_tree("Any board", "merrow,ling"),
        f"{TREES}/other.dtb": device_tree("Another", "merrow,other"),
    }


@pytest.fixture(scope="module")
def parts() -> Catalogue:
    return load()


@pytest.fixture
def build(parts: Catalogue) -> Build:
    made = lighthouse.build(parts, "0" * 64).with_part("board", "ling").with_part("display", "pane-24")
    made = edited(edited(made, "boot.dialect", "extlinux"), "boot.device_tree", "ling.dtb")
    return edited(made, "boot.kernel", "Image-6.1")


def seen_by(card: Path, build: Build, parts: Catalogue) -> Bench:
    return lay_out(build, parts, contents.observe(card))


def of_kernel(bench: Bench) -> Failure | None:
    early = ("partition table", "boot partition", "boot file", "kernel")
    return next((failure for failure in bring_up(bench).failures if failure.stage in early and failure.blocks), None)


@pytest.mark.long(keep=3)
@pytest.mark.parametrize("kind", ["fat", "ext4", "ext4 below /boot"])
@pytest.mark.parametrize("tree", [FDT, FDTDIR, ""])
def test_what_stands_in_a_boot_file_and_fits_stays(
    kind: str, tree: str, build: Build, parts: Catalogue, tmp_path: Path
) -> None:
    top = "boot" if kind.endswith("/boot") else ""
    boot = text(tree)
    if top:
        boot = boot.replace(" /kernels", " /boot/kernels").replace(" /dtbs", " /boot/dtbs")
    card = card_of(tmp_path, files_with(boot), kind.split()[0], top)
    bench = seen_by(card, build, parts)
    assert of_kernel(bench) is None
    path = f"{top}/{TREES}/ling.dtb".lstrip("/")
    assert bench.tree == (path if tree else "")
    told = bench.as_read.texts
    name = "extlinux/extlinux.conf"
    made = {
        file.path: file.text
        for file in compiled(build, parts, {name: told[f"{top}/{name}".lstrip("/")]}, bench.contents)
    }
    kept = [line for line in made[name].split("\n") if "fdt" in line.lower() or "linux" in line]
    added = [] if tree else [f"  FDT /{path}"]  # the loader's own tree before; the fitting one now
    assert kept == [line for line in boot.split("\n") if "fdt" in line or "linux" in line] + added
    if loader.available():
        assert with_loader_stage(loader.load(card)) == "started"


@pytest.mark.parametrize(
    ("boot", "stage"),
    [
        (text(FDT).replace("kernels", "Kernels"), "kernel"),  # ext4 tells capitals from small letters
        (text("\tfdt /dtbs/missing.dtb\n"), "kernel"),
        (text(FDT, "/kernels/none"), "kernel"),
        (text(FDT).replace("default l0\n", "default\n"), "boot file"),
    ],
)
def test_what_fails_on_ext4_fails_for_the_loader(
    boot: str, stage: str, build: Build, parts: Catalogue, tmp_path: Path
) -> None:
    card = card_of(tmp_path, files_with(boot), "ext4")
    failure = of_kernel(seen_by(card, build, parts))
    assert failure is not None
    assert failure.stage == stage
    if loader.available() and "missing" not in boot:  # the virtual board takes its own tree
        assert with_loader_stage(loader.load(card)) == stage
    if failure.remedy is None:
        return
    better = remedied(build, failure.remedy)  # foretold to help, and it does
    put_boot_files(tmp_path, better, parts, looking.find(str(card), tmp_path))
    assert of_kernel(seen_by(card, better, parts)) is None
    if loader.available():
        assert with_loader_stage(loader.load(card)) == "started"


@pytest.mark.parametrize("top", ["", "boot"])
def test_boot_files_on_ext4_are_written(top: str, build: Build, parts: Catalogue, tmp_path: Path) -> None:
    boot = text(f"\tfdt /{TREES}/other.dtb\n")
    if top:
        boot = boot.replace(" /kernels", " /boot/kernels").replace(" /dtbs", " /boot/dtbs")
    card = card_of(tmp_path, files_with(boot), "ext4", top)
    failure = of_kernel(seen_by(card, build, parts))
    assert failure is not None
    assert failure.remedy == PUT_ON_CARD
    put = put_boot_files(tmp_path, build, parts, looking.find(str(card), tmp_path))
    assert f"{top}/extlinux/extlinux.conf".lstrip("/") in put.files
    bench = seen_by(card, build, parts)
    assert of_kernel(bench) is None
    path = f"{top}/{TREES}/ling.dtb".lstrip("/")
    assert bench.tree == path
    checked = subprocess.run(["e2fsck", "-fn", f"{card}?offset={MIB}"], capture_output=True, text=True, check=False)
    assert checked.returncode == 0, checked.stdout
    assert not planned_for(build, parts, looking.find(str(card), tmp_path)).files
    if loader.available():
        assert with_loader_stage(loader.load(card)) == "started"


def test_a_wrong_tree_is_led_to_the_one_that_fits_wherever_it_is(
    build: Build, parts: Catalogue, tmp_path: Path
) -> None:
    card = card_of(tmp_path, files_with(text(f"\tfdt /{TREES}/other.dtb\n")), "fat")
    bench = seen_by(card, build, parts)
    failure = of_kernel(bench)
    assert failure is not None
    assert failure.code == "boot.device-tree"
    assert failure.remedy == PUT_ON_CARD
    (made,) = (
        file.text for file in compiled(build, parts, bench.as_read.texts, bench.as_read) if "extlinux" in file.path
    )
    assert f"fdt /{TREES}/ling.dtb" in made


def test_nothing_is_named_that_is_not_there(build: Build, parts: Catalogue, tmp_path: Path) -> None:
    files = files_with(text(""))
    del files[f"{TREES}/ling.dtb"]
    card = card_of(tmp_path, files, "fat")
    bench = seen_by(card, build, parts)
    (made,) = (
        file.text for file in compiled(build, parts, bench.as_read.texts, bench.as_read) if "extlinux" in file.path
    )
    assert "ling.dtb" not in made
    assert "Image-6.1" in made


def test_boot_files_that_are_there_already_are_no_remedy(build: Build, parts: Catalogue, tmp_path: Path) -> None:
    """The advice must not run in a circle."""
    files = files_with(text(f"\tfdt /{TREES}/other.dtb\n"))
    del files[f"{TREES}/ling.dtb"]
    card = card_of(tmp_path, files, "fat")
    failure = of_kernel(seen_by(card, build, parts))
    assert failure is not None
    assert failure.remedy is None
    assert failure.advice == "Write the image again"


def test_an_image_is_given_only_the_files_that_it_reads(build: Build, parts: Catalogue) -> None:
    image = parts.parts["images"]["quayside"]
    assert {file.path for file in compiled(build, parts, {})} >= {"services.list", "first-boot.settings"}
    own = replace(parts, parts={**parts.parts, "images": {"quayside": image.model_copy(update={"reads": ()})}})
    assert {file.path for file in compiled(build, own, {})} == {"extlinux/extlinux.conf"}


FAT, EFI, LINUX = (
    "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7",
    "C12A7328-F81F-11D2-BA4B-00A0C93EC93B",
    "0FC63DAF-8483-4772-8E79-3D69D8477DE4",
)
MARKED = ', attrs="LegacyBIOSBootable"'


@pytest.mark.parametrize(
    ("rows", "holder", "taken", "starts"),
    [
        ((EFI, LINUX), 0, 1, True),
        ((FAT, EFI, LINUX), 1, 2, True),
        ((EFI, FAT, LINUX), 1, 1, False),
        ((FAT, FAT + MARKED, LINUX), 1, 2, True),
        ((EFI, FAT + MARKED, LINUX), 1, 2, True),
        ((FAT, EFI), 0, 1, False),
        ((LINUX, FAT), 1, 2, False),
    ],
)
def test_the_loader_starts_from_the_partition_that_is_marked(
    rows: tuple[str, ...], holder: int, taken: int, starts: bool, build: Build, parts: Catalogue, tmp_path: Path
) -> None:
    """Judge: U-Boot 2023.01 for QEMU's virtual board started exactly these, seen once; tables by sfdisk."""
    card, menu, sectors = tmp_path / "card.img", tmp_path / "extlinux.conf", 65536
    card.write_bytes(b"")
    os.truncate(card, (2048 + len(rows) * sectors + 4096) * 512)
    lines = [f"start={2048 + number * sectors}, size={sectors}, type={kind}" for number, kind in enumerate(rows)]
    subprocess.run(["sfdisk", "-q", card], input="\n".join(("label: gpt", *lines)), text=True, check=True)
    menu.write_text("default l0\nlabel l0\n\tlinux /Image\n", encoding="utf-8")
    (tmp_path / "Image").write_bytes(kernel_64())
    for number, kind in enumerate(rows):
        start = 2048 + number * sectors
        if kind != LINUX:
            made = ["mkfs.fat", "-F", "16", "--offset", str(start), card, str(sectors // 2)]
            subprocess.run(made, check=True, capture_output=True)
        if number == holder:
            place = f"{card}@@{start * 512}"
            subprocess.run(["mmd", "-i", place, "::/extlinux"], check=True)
            subprocess.run(["mcopy", "-i", place, menu, "::/extlinux/extlinux.conf"], check=True)
            subprocess.run(["mcopy", "-i", place, tmp_path / "Image", "::/Image"], check=True)
    seen = contents.observe(card)
    assert seen.boot_number == taken
    labels = edited(build, "boot.dialect", "extlinux")
    stages = {each.stage for each in bring_up(lay_out(labels, parts, seen)).failures}
    assert bool(stages & {"boot partition", "boot file"}) is not starts
