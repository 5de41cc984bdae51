"""Cards we wrote and edited, judged by dosfstools, mtools, util-linux' sfdisk, e2fsprogs, coreutils and xz-utils."""

from __future__ import annotations

import gzip
import hashlib
import lzma
import re
import shutil
import subprocess
import zipfile
from pathlib import Path

import pytest

from kyklon.base import tools
from kyklon.catalogue.loader import Catalogue
from kyklon.demo.card_image import BOOT_SIZE, BOOT_START, ROOT_SIZE, boot_files, make_image
from kyklon.model.build import edited
from kyklon.operations.boot.acts import put_boot_files
from kyklon.operations.card.drives import looking
from kyklon.operations.card.drives.writer import Order
from kyklon.operations.card.sources import source
from kyklon.operations.card.volumes import contents
from support import Demo, write


def run(*arguments: str, check: bool = True) -> str:
    command = [tools.find(arguments[0]), *arguments[1:]]
    done = subprocess.run(command, capture_output=True, text=True, env={"LC_ALL": "C", "PATH": "/usr/bin:/usr/sbin"})
    assert not check or done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def cut(card: Path, start: int, size: int, to: Path) -> Path:
    with card.open("rb") as file:
        file.seek(start)
        to.write_bytes(file.read(size))
    return to


@pytest.fixture
def card(demo: Demo) -> Path:
    """The demo's card, written and proven."""
    target = demo.target()
    assert demo.write().bad is None
    return target.path


def all_clean(card: Path, tmp_path: Path) -> None:
    run("fsck.fat", "-n", str(cut(card, BOOT_START, BOOT_SIZE, tmp_path / "boot")))
    run("e2fsck", "-fn", str(cut(card, BOOT_START + BOOT_SIZE, ROOT_SIZE, tmp_path / "root")))


def test_the_written_card_is_what_xz_unpacks(card: Path, demo: Demo) -> None:
    unpacked = subprocess.run(["xz", "-dc", str(demo.image)], capture_output=True, check=True).stdout
    assert card.read_bytes()[: len(unpacked)] == unpacked


def test_the_written_card_is_clean(card: Path, tmp_path: Path) -> None:
    all_clean(card, tmp_path)


def test_sfdisk_sees_the_partitions_we_see(card: Path) -> None:
    table = contents.observe(card).table
    assert table is not None
    rows = re.findall(r"start=\s*(\d+), size=\s*(\d+), type=([0-9a-f]+)", run("sfdisk", "-d", str(card)))
    assert [(int(a) * 512, int(b) * 512, int(c, 16)) for a, b, c in rows] == [
        (part.start, part.size, part.kind) for part in table.partitions
    ]


def test_mdir_lists_what_was_put_there(card: Path) -> None:
    told = run("mdir", "-i", f"{card}@@{BOOT_START}", "-b", "-/", "::/")
    names = {line.removeprefix("::/") for line in told.splitlines()}
    assert set(boot_files()) <= names


def test_an_edited_card_is_still_clean_and_holds_the_files(
    card: Path, demo: Demo, catalogue: Catalogue, tmp_path: Path
) -> None:
    build = edited(demo.build, "boot.kernel_words", ["usbhid.quirks=0x6b79:0x0022:0x40"])
    target = demo.target("blank-card")
    put = put_boot_files(demo.folder, build, catalogue, target)
    assert set(put.files) == {"merrow.settings", "kernel.line", "first-boot.settings"}
    all_clean(card, tmp_path)
    for name, data in put.files.items():
        assert run("mtype", "-i", f"{card}@@{BOOT_START}", f"::/{name}") == data.decode()
    assert "NEW" not in run("mdir", "-i", f"{card}@@{BOOT_START}", "::/")
    again = put_boot_files(demo.folder, build, catalogue, target)
    assert again.files == {}


def test_the_root_partition_is_read_as_debugfs_reads_it(card: Path) -> None:
    root = contents.observe(card).root
    assert root is not None
    offset = BOOT_START + BOOT_SIZE
    passwd = run("debugfs", "-R", "cat /etc/passwd", f"{card}?offset={offset}")
    assert tuple(user.name for user in root.users) == tuple(line.split(":")[0] for line in passwd.splitlines())
    assert root.unit("gangway") is not None


def test_the_demo_image_is_the_same_every_time(tmp_path: Path) -> None:
    make_image(tmp_path / "one.img.xz")
    make_image(tmp_path / "two.img.xz")
    out = run("sha256sum", str(tmp_path / "one.img.xz"), str(tmp_path / "two.img.xz")).split()
    assert out[0] == out[2]


def test_checksums_are_sha256sums(demo: Demo) -> None:
    assert run("sha256sum", str(demo.image)).split()[0] == demo.build.source.sha256


def several_streams(path: Path) -> int:
    """A file of two xz streams with padding between, as pixz or cat make them; returns its unpacked size."""
    a, b = bytes(3_000_000), hashlib.shake_256(b"b").digest(700_000)
    path.write_bytes(lzma.compress(a) + bytes(8) + lzma.compress(b, check=lzma.CHECK_CRC32))
    return len(a) + len(b)


def test_the_unpacked_size_is_what_xz_lists(demo: Demo, tmp_path: Path) -> None:
    joined = tmp_path / "joined.img.xz"
    several_streams(joined)
    for path in (demo.image, joined):
        told = run("xz", "--robot", "--list", str(path))
        wanted = int(re.search(r"^file\t\d+\t\d+\t\d+\t(\d+)", told, re.MULTILINE)[1])
        assert source.inspect(path).unpacked == wanted


def test_multi_block_xz_is_read_whole(tmp_path: Path) -> None:
    """xz -T2 writes many blocks; --block-size makes them small."""
    plain = tmp_path / "a.img"
    plain.write_bytes(hashlib.shake_256(b"blocks").digest(3 << 20))
    run("xz", "-k", "-T2", "--block-size=262144", str(plain))
    facts = source.inspect(tmp_path / "a.img.xz")
    assert facts.unpacked == 3 << 20
    assert b"".join(source.chunks(facts)) == plain.read_bytes()


@pytest.mark.parametrize("kind", ["plain", "xz", "gz", "zip"])
def test_each_kind_of_source_arrives_unchanged(kind: str, demo: Demo, tmp_path: Path) -> None:
    unpacked = lzma.decompress(demo.image.read_bytes())
    path = {
        "plain": tmp_path / "a.img",
        "xz": tmp_path / "a.img.xz",
        "gz": tmp_path / "a.img.gz",
        "zip": tmp_path / "a.zip",
    }[kind]
    if kind == "zip":
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("a.img", unpacked)
            archive.writestr("readme.txt", "no image")
    else:
        packed = {"plain": unpacked, "xz": demo.image.read_bytes(), "gz": gzip.compress(unpacked, 1)}[kind]
        path.write_bytes(packed)
    target = tmp_path / "card.bin"
    facts = source.inspect(path)
    assert facts.unpacked == len(unpacked)
    place = looking.find(str(target), None, len(unpacked))
    report = write(place, facts, Order(digest=True))
    assert report.verified
    assert run("sha256sum", str(target)).split()[0] == report.sha256


@pytest.fixture
def loop_device(tmp_path: Path) -> object:
    """A loop device of the test's own; skipped where none can be made."""
    backing = tmp_path / "loop.bin"
    with backing.open("wb") as file:
        file.truncate(96 << 20)
    made = subprocess.run([tools.find("losetup"), "--find", "--show", str(backing)], capture_output=True, text=True)
    if made.returncode:
        pytest.skip(f"no loop device can be made here: {made.stderr.strip()}")
    device = made.stdout.strip()
    yield Path(device)
    subprocess.run([tools.find("losetup"), "--detach", device], check=True)


def test_the_whole_way_on_a_loop_device(loop_device: Path, demo: Demo, catalogue: Catalogue, tmp_path: Path) -> None:
    """The real Linux back end: lsblk's facts, O_EXCL, write, read back, boot files."""
    if shutil.which("lsblk") is None:
        pytest.skip("util-linux is not here")
    target = looking.find(str(loop_device), None)
    assert target.facts.size == 96 << 20
    report = write(target, demo.image)
    assert report.verified
    put = put_boot_files(demo.folder, demo.build, catalogue, looking.find(str(loop_device), None))
    assert "merrow.settings" in put.files
    copy = tmp_path / "copy.img"
    with loop_device.open("rb") as file:
        copy.write_bytes(file.read(report.size))
    all_clean(copy, tmp_path)
