"""Root partitions beside what others say of them: debugfs and e2fsck (e2fsprogs), fsck.fat (dosfstools), the kernel's
mount."""

from __future__ import annotations

import os
import random
import subprocess
from pathlib import Path

import pytest

from judges.cards import copied
from kyklon.base.errors import FormatError
from kyklon.operations.card.volumes import contents, fsck
from kyklon.operations.card.volumes.ext_reader import ExtReader
from kyklon.operations.card.volumes.ext_sums import crc32c
from kyklon.operations.card.volumes.partitions import reader

MIB = 1 << 20
# how mkfs.ext4 can lay a volume out; each is read back file by file
FORMS = {
    "plain": [],
    "1k": ["-b", "1024"],
    "4k": ["-b", "4096"],
    "ext2": ["-t", "ext2"],
    "ext3": ["-t", "ext3"],
    "inline": ["-O", "inline_data"],
    "no checksums": ["-O", "^metadata_csum"],
    "old sums": ["-O", "^metadata_csum,uninit_bg"],
    "32 bit": ["-O", "^64bit"],
    "no flex": ["-O", "^flex_bg"],
    "meta_bg": ["-O", "meta_bg,^resize_inode"],
    "bigalloc": ["-O", "bigalloc"],
    "small inodes": ["-I", "128"],
    "seed": ["-O", "metadata_csum_seed"],
    "no journal": ["-O", "^has_journal"],
    "sparse2": ["-O", "sparse_super2"],
    "orphan file": ["-O", "orphan_file"],
}


def run(*arguments: object, check: bool = True, **options: object) -> subprocess.CompletedProcess[bytes]:
    return subprocess.run([str(argument) for argument in arguments], check=check, capture_output=True, **options)  # type: ignore[call-overload, no-any-return]


@pytest.fixture(scope="module")
def tree(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Files of every size, a large folder, holes, links."""
    place, rng = tmp_path_factory.mktemp("tree") / "t", random.Random(4)
    (place / "deep" / "er").mkdir(parents=True)
    (place / "many").mkdir()
    for index in range(700):
        (place / "many" / f"file-{index:04}-{'x' * (index % 60)}").write_bytes(b"" if index % 3 else b"y" * index)
    for size in (0, 1, 59, 60, 61, 150, 1023, 1024, 4096, 4097, 100_000, 2_000_000):
        (place / "deep" / f"size-{size}").write_bytes(rng.randbytes(size))
    with (place / "deep" / "holes").open("wb") as file:
        for at in range(0, 3_000_000, 50_000):
            file.seek(at)
            file.write(b"!" * 100)
    (place / "deep" / "short").symlink_to("size-60")
    (place / "deep" / "long").symlink_to("/".join(["er", ".."] * 30) + "/size-61")
    (place / "up").symlink_to("deep/er/../size-150")
    return place


@pytest.mark.parametrize("form", FORMS)
def test_every_form_of_a_volume_is_read_as_debugfs_reads_it(form: str, tree: Path, tmp_path: Path) -> None:
    image = tmp_path / "v.img"
    with image.open("wb") as file:
        file.truncate(40 * MIB)
    run("mkfs.ext4", "-q", "-F", *FORMS[form], "-d", tree, image)
    with image.open("rb") as file:
        volume = ExtReader(reader(file.fileno()), 0, image.stat().st_size)
        assert volume.cautions == []
        names = [*tree.rglob("*")]
        for each in names:
            inside = f"/{each.relative_to(tree)}"
            found = volume.find(inside)
            assert found is not None, inside
            if each.is_file():
                data = b"".join(volume.pieces(found))
                assert data == each.read_bytes(), inside
            if each.is_symlink():
                link = volume.find(inside, follow=False)
                assert link is not None
                assert volume.target_of(link) == os.readlink(each)
        many = volume.find("/many")
        assert many is not None
        assert {name for name, _inode in volume.entries(many)} == {path.name for path in (tree / "many").iterdir()}
        assert volume.find("/many/none") is None
    out = run("debugfs", "-R", "stat /deep/size-100000", image).stdout.decode()
    assert f"Inode: {found_number(image, '/deep/size-100000')} " in out


def found_number(image: Path, path: str) -> int:
    with image.open("rb") as file:
        found = ExtReader(reader(file.fileno()), 0, image.stat().st_size).find(path)
    assert found is not None
    return found.number


def test_crc32c_is_that_of_rfc_3720() -> None:
    """RFC 3720, B.4, which inverts at the end; the kernel does not."""
    for data, wanted in ((bytes(32), 0x8A9136AA), (b"\xff" * 32, 0x62A8AB43), (bytes(range(32)), 0x46DD794E)):
        assert crc32c(data) ^ 0xFFFFFFFF == wanted


# --- damage ----------------------------------------------------------------------------------------------------------


def can_mount() -> bool:
    return (
        os.geteuid() == 0 and Path("/dev/loop-control").exists() and run("losetup", "-f", check=False).returncode == 0
    )


@pytest.fixture
def small(tmp_path: Path) -> Path:
    """A small root volume."""
    image, tree = tmp_path / "root.img", tmp_path / "t"
    (tree / "sbin").mkdir(parents=True)
    (tree / "sbin" / "init").write_bytes(b"#!/bin/sh\n" * 50)
    for index in range(40):
        (tree / f"f{index}").write_bytes(bytes([index]) * 3000)
    with image.open("wb") as file:
        file.truncate(8 * MIB)
    run("mkfs.ext4", "-q", "-F", "-d", tree, image)
    return image


def mounts(image: Path, place: Path) -> bool | None:
    """Whether this machine's kernel mounts it read-only; None where that cannot be tried here."""
    place.mkdir(exist_ok=True)
    loop = run("losetup", "-f", "--show", "-r", image, check=False).stdout.decode().strip()
    if not loop:
        return None
    try:
        done = run("mount", "-t", "ext4", "-o", "ro,noload", loop, place, check=False)
        if done.returncode == 0:
            run("umount", place)
        return done.returncode == 0
    finally:
        run("losetup", "-d", loop, check=False)


def damaged(image: Path, to: Path, rng: random.Random) -> int:
    """A copy with one to four bytes changed where a file system keeps its own; the first place."""
    copied(image, to)
    data = bytearray(to.read_bytes())
    first = 0
    for _ in range(rng.randint(1, 4)):
        at = rng.choice((1024 + rng.randrange(1024), 2048 + rng.randrange(256), rng.randrange(1024, 700_000)))
        data[at] = rng.choice((0, 255, data[at] ^ 1 << rng.randrange(8)))
        first = first or at
    if rng.random() < 0.5:
        data[2044:2048] = crc32c(bytes(data[1024:2044])).to_bytes(4, "little")
    to.write_bytes(data)
    return first


@pytest.mark.long(keep=2)
@pytest.mark.parametrize("seed", range(6))
def test_no_damaged_root_is_read_where_this_kernel_refuses_it(seed: int, small: Path, tmp_path: Path) -> None:
    """And whatever e2fsck complains of within what was read is told."""
    if not can_mount():
        pytest.skip("no loop devices here")
    rng, spoilt = random.Random(seed), tmp_path / "spoilt.img"
    tried = 0
    for _ in range(int(os.environ.get("KYKLON_DAMAGED", "25"))):
        at = damaged(small, spoilt, rng)
        real = mounts(spoilt, tmp_path / "at")
        if real is None:
            continue
        tried += 1
        try:
            with spoilt.open("rb") as file:
                ExtReader(reader(file.fileno()), 0, spoilt.stat().st_size)
            mine = True
        except FormatError:
            mine = False
        assert real or not mine, f"seed {seed}, byte {at}: this kernel refuses it"
    assert tried


@pytest.mark.long
def test_whatever_e2fsck_complains_of_is_told(small: Path, tmp_path: Path) -> None:
    """Damage in bitmaps, inode tables and folders; on a card, because e2fsck is asked of a partition."""
    rng, card, spoilt = random.Random(11), tmp_path / "card.img", tmp_path / "spoilt.img"
    complained = 0
    for _ in range(int(os.environ.get("KYKLON_DAMAGED", "25"))):
        damaged(small, spoilt, rng)
        size = spoilt.stat().st_size
        with card.open("wb") as file:
            file.truncate(MIB + size)
        run(
            "sfdisk",
            "--quiet",
            card,
            input=f"label: dos\nunit: sectors\nstart=2048, size={size // 512}, type=83\n".encode(),
        )
        with card.open("r+b") as file:
            file.seek(MIB)
            file.write(spoilt.read_bytes())
        real = run("e2fsck", "-fn", spoilt, check=False)
        with fsck.asked(card) as found:
            pass
        assert found.asked
        if real.returncode & 8:  # it could not look at all, and the reader says why
            continue
        assert bool(found.told) == bool(real.returncode & 4 or b"? no" in real.stdout), real.stdout
        complained += bool(found.told)
    assert complained


@pytest.mark.long
def test_a_damaged_fat_is_complained_of_as_fsck_does(demo_master: Path, tmp_path: Path) -> None:
    """Whatever fsck.fat -n reports of a boot partition is at least a caution, a failure or an error of a file."""
    from kyklon.demo import card_image, lighthouse

    whole, card = tmp_path / "whole.img", tmp_path / "card.img"
    with whole.open("wb") as file:
        run_to(file, "xz", "-dc", demo_master / lighthouse.IMAGE)
    rng = random.Random(11)
    start, size = card_image.BOOT_START, card_image.BOOT_SIZE
    told = 0
    for _ in range(int(os.environ.get("KYKLON_DAMAGED", "25"))):
        copied(whole, card)
        with card.open("r+b") as file:
            for _ in range(rng.randint(1, 2)):
                table = 32 * 512
                at = rng.choice(
                    (
                        rng.randrange(3, 90),
                        table + rng.randrange(4 * 3000),
                        512 + rng.randrange(480, 496),
                        787_000 + rng.randrange(6000),
                    )
                )
                file.seek(start + at)
                old = file.read(1)[0]
                file.seek(start + at)
                file.write(bytes([rng.choice((0, 255, old ^ 1 << rng.randrange(8)))]))
            file.seek(start)
            fat = file.read(size)
        part = tmp_path / "part.fat"
        part.write_bytes(fat)
        done = run("fsck.fat", "-n", part, check=False)
        if done.returncode == 0:
            continue
        told += 1
        seen = contents.observe(card)
        words = (*seen.boot_cautions, *seen.broken, seen.boot_error, seen.loader_error)
        assert any(words), done.stdout.decode("utf-8", "replace")
    assert told


def run_to(file: object, *arguments: object) -> None:
    subprocess.run([str(argument) for argument in arguments], stdout=file, check=True)  # type: ignore[call-overload]
