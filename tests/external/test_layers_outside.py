"""What stands on a drive, asked of the kernel with real loop devices, mounts, mapped devices and swap (util-linux,
dmsetup); each is made by the test and taken apart again."""

from __future__ import annotations

import contextlib
import os
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from kyklon.base.errors import Refused
from kyklon.devices.layers import Layers, node_at
from kyklon.operations.card.drives import looking
from kyklon.operations.card.drives.ext_files import ExtFiles, NewFile
from kyklon.operations.card.drives.interlock import Consent, Purpose, Request, judge, opened
from kyklon.operations.card.sources import source
from support import MIB

pytestmark = pytest.mark.skipif(
    os.geteuid() != 0 or not Path("/dev/loop-control").exists(), reason="needs root and loops"
)


def run(*command: str) -> str:
    return subprocess.run(command, check=True, capture_output=True, text=True).stdout


@contextlib.contextmanager
def attached(path: Path) -> Iterator[Path]:
    device = run("losetup", "--find", "--show", "--partscan", str(path)).strip()
    try:
        yield Path(device)
    finally:
        subprocess.run(["losetup", "--detach", device], check=False, capture_output=True)


@contextlib.contextmanager
def mounted(what: Path, where: Path, *options: str) -> Iterator[Path]:
    where.mkdir(exist_ok=True)
    run("mount", *options, str(what), str(where))
    try:
        yield where
    finally:
        run("umount", str(where))


@pytest.fixture
def disk(tmp_path: Path) -> Path:
    path = tmp_path / "disk.img"
    with path.open("wb") as file:
        file.truncate(64 * MIB)
    run("mkfs.ext4", "-q", "-F", str(path))
    return path


@pytest.fixture
def image(tmp_path: Path) -> Path:
    path = tmp_path / "a.img"
    path.write_bytes(b"IMAGE" * 1024 + bytes(512 * 1024 - 5120))
    return path


def codes(name: Path, image: Path) -> set[str]:
    target = looking.find(str(name), None)
    return set(judge(Request(target, Purpose.WRITE, source.inspect(image)).case).codes)


def test_the_file_behind_a_mounted_loop_device_is_mounted(disk: Path, image: Path, tmp_path: Path) -> None:
    with attached(disk) as loop:
        assert codes(disk, image) == set()
        with mounted(loop, tmp_path / "at"):
            assert codes(disk, image) == {"mounted"}
            assert codes(loop, image) == {"mounted"}
            os.link(disk, tmp_path / "other.img")
            assert codes(tmp_path / "other.img", image) == {"mounted"}


def test_a_second_loop_device_on_one_file_is_the_same_drive(disk: Path, image: Path, tmp_path: Path) -> None:
    with attached(disk) as first, attached(disk) as second, mounted(first, tmp_path / "at"):
        assert codes(second, image) == {"mounted"}


def test_the_image_on_the_target_by_any_way(disk: Path, image: Path, tmp_path: Path) -> None:
    with attached(disk) as loop, attached(disk) as other, mounted(loop, tmp_path / "at") as at:
        inner = at / "b.img"
        inner.write_bytes(image.read_bytes())
        for name in (loop, other, disk):
            assert "is-source" in codes(name, inner)
        with attached(inner) as deep:  # a loop on a file on a loop on a file
            assert {node_at(deep), node_at(inner), node_at(loop), node_at(disk)} <= Layers().below(deep)
        with mounted(inner.parent, tmp_path / "bound", "--bind") as bound:
            assert "is-source" in codes(disk, bound / "b.img")
            assert "is-source" in codes(bound / "b.img", inner)


@pytest.mark.parametrize(("uuid", "code"), [("LVM-x", "lvm"), ("CRYPT-LUKS2-x", "crypt"), ("other", "mapped")])
def test_a_drive_that_a_mapped_device_is_built_on(disk: Path, image: Path, uuid: str, code: str) -> None:
    with attached(disk) as loop:
        name = f"kyklon-test-{os.getpid()}"
        table = f"0 {64 * 2048} linear {loop} 0"
        try:
            run("dmsetup", "create", name, "--uuid", f"{uuid}-{os.getpid()}", "--table", table)
        except (OSError, subprocess.CalledProcessError) as bad:
            pytest.skip(f"no device mapper here: {bad}")
        try:
            assert code in codes(loop, image)
            assert code in codes(disk, image)
        finally:
            run("dmsetup", "remove", name)
        assert codes(loop, image) == set()


def test_a_swap_file_and_what_it_lies_on(image: Path, tmp_path: Path) -> None:
    swap = tmp_path / "swap.img"
    swap.write_bytes(os.urandom(MIB) * 16)
    swap.chmod(0o600)
    run("mkswap", str(swap))
    try:
        run("swapon", str(swap))
    except subprocess.CalledProcessError as bad:
        pytest.skip(f"no swap file here: {bad.stderr}")
    try:
        assert "swap" in codes(swap, image)
    finally:
        run("swapoff", str(swap))


def test_this_computers_own_disk_is_known_without_any_tool() -> None:
    below = Layers().below(Path("/"))
    devices = [node for node in below if node.startswith("b")]
    if not devices:
        pytest.skip("the root file system lies on no block device")
    assert Layers().uses(devices[0]).system


def test_another_file_behind_the_same_loop_device_is_another_drive(disk: Path, image: Path, tmp_path: Path) -> None:
    other = tmp_path / "other.img"
    with other.open("wb") as file:
        file.truncate(64 * MIB)
    with attached(disk) as loop:
        target = looking.find(str(loop), None)
        consent = Consent(
            target.facts.labels[0] if target.facts.labels else target.facts.name,
            target.facts.identity,
            target.facts.node,
        )
        run("losetup", "--detach", str(loop))
        run("losetup", str(loop), str(other))
        with pytest.raises(Refused, match="swapped"), opened(Request(target, Purpose.PREPARE, consent=consent)):
            pass


def test_while_it_is_open_it_can_neither_be_mounted_nor_formatted(disk: Path, image: Path, tmp_path: Path) -> None:
    with attached(disk) as loop:
        target = looking.find(str(loop), None)
        facts = source.inspect(image)
        typed = judge(Request(target, Purpose.WRITE, facts).case).lose
        with opened(Request(target, Purpose.WRITE, facts, Consent(typed))) as held:
            with pytest.raises(subprocess.CalledProcessError):
                run("mkfs.ext4", "-q", str(loop))
            (tmp_path / "at").mkdir()
            with pytest.raises(subprocess.CalledProcessError):
                run("mount", str(loop), str(tmp_path / "at"))
            with loop.open("r+b", buffering=0) as rude:  # who does not ask is found out before the first byte
                rude.write(b"RUDE")
                os.fsync(rude.fileno())
            with pytest.raises(Refused, match="just written"):
                held.handle_for(Purpose.WRITE, facts).write_at(bytes(4096), 0)


def test_files_on_ext4_go_to_a_real_block_device(tmp_path: Path) -> None:
    """Past the cache, as on a card; debugfs and e2fsck read what is there."""
    card, start, size = tmp_path / "card.img", MIB, 24 * MIB
    card.write_bytes(bytes(start + size))
    table = f"label: dos\nstart={start // 512}, size={size // 512}, type=83\n"
    subprocess.run(["sfdisk", "-q", card], input=table.encode(), check=True)
    run("mkfs.ext4", "-q", "-F", "-E", f"offset={start}", str(card), f"{size // 1024}k")
    new = (NewFile("/etc/hostname", b"games\n"), NewFile("/etc/large", b"0123456789abcde\n" * 16_000, 0o600))
    with attached(card) as loop:
        with opened(Request(looking.find(str(loop), None), Purpose.EDIT)) as place:
            assert len(ExtFiles(place, start, size).replace(new)) == 2
        for file in new:
            assert run("debugfs", "-R", f"cat {file.path}", f"{loop}?offset={start}").encode() == file.data
        run("e2fsck", "-fn", f"{loop}?offset={start}")
