"""Cards, tables, volumes and backups judged by the usual tools: sfdisk, sgdisk, blkid, wipefs, fsck.fat, e2fsck,
dumpe2fs, mdir, the *sum programs, xz, zstd, gzip, bzip2, 7z, split; and a real loop device for the whole path."""

from __future__ import annotations

import os
import random
import re
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kyklon.base import tools
from kyklon.base.errors import FormatError, Refused, TargetFull
from kyklon.devices.layers import Layers, node_at
from kyklon.model.card import PartitionTable
from kyklon.operations import checksums
from kyklon.operations.card.acts import CardJob, backup_card, compare_cards, prepare_card, prove_card
from kyklon.operations.card.drives import looking, prepare
from kyklon.operations.card.drives.interlock import Consent, Purpose
from kyklon.operations.card.drives.writer import Order
from kyklon.operations.card.sources import source
from kyklon.operations.card.sources.joined import open_image
from kyklon.operations.card.volumes import contents, partitions, usage
from kyklon.operations.card.volumes import survey as volumes
from kyklon.operations.card.volumes.compare import side
from support import MIB, Demo, simulated, write

ROOT_ONLY = pytest.mark.skipif(os.geteuid() != 0, reason="loop devices need root")


def run(*arguments: str, stdin: str = "") -> str:
    command = [tools.find(arguments[0]), *arguments[1:]]
    done = subprocess.run(
        command,
        capture_output=True,
        text=True,
        input=stdin,
        env={"LC_ALL": "C", "PATH": "/usr/bin:/usr/sbin:/bin:/sbin"},
    )
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def blank(path: Path, size: int) -> Path:
    with path.open("wb") as file:
        file.truncate(size)
    return path


def table_of(path: Path) -> PartitionTable:
    with path.open("rb") as file:
        return partitions.read_table(volumes.reader(file.fileno()), path.stat().st_size)


# --- partition tables ----------------------------------------------------------------------------------------


@pytest.fixture
def gpt(tmp_path: Path) -> Path:
    """Made by sgdisk."""
    path = blank(tmp_path / "gpt.img", 80 * MIB)
    run(
        "sgdisk",
        "-n",
        "1:8192:+32M",
        "-t",
        "1:ef00",
        "-c",
        "1:boot part",
        "-n",
        "3:0:+20M",
        "-t",
        "3:8300",
        "-c",
        "3:root",
        "-A",
        "1:set:2",
        str(path),
    )
    return path


def test_a_gpt_is_read_as_sgdisk_prints_it(gpt: Path) -> None:
    rows = re.findall(
        r"^ +(\d+) +(\d+) +(\d+) +\S+ \S+ +(\S{4}) +(.+?) *$", run("sgdisk", "-p", str(gpt)), re.MULTILINE
    )
    told = [(int(n), int(a) * 512, (int(b) - int(a) + 1) * 512, name) for n, a, b, _code, name in rows]
    table = table_of(gpt)
    assert [(part.number, part.start, part.size, part.label) for part in table.partitions] == told
    assert (table.scheme, table.note) == ("GPT", "")
    boot, root = table.boot(), table.root()
    assert boot is not None
    assert boot.active
    assert root is not None
    assert (boot.number, root.number) == (1, 3)


def test_sfdisk_agrees_about_the_gpt(gpt: Path) -> None:
    rows = re.findall(r"start= *(\d+), size= *(\d+), type=([0-9A-F-]+)", run("sfdisk", "-d", str(gpt)))
    ours = [(part.start // 512, part.size // 512, part.guid.upper()) for part in table_of(gpt).partitions]
    assert [(int(a), int(b), c) for a, b, c in rows] == ours


def test_a_hybrid_table_is_told_as_one(gpt: Path) -> None:
    run("sgdisk", "-h", "1", str(gpt))
    assert table_of(gpt).scheme == "hybrid GPT"
    assert [part.number for part in table_of(gpt).partitions] == [1, 3]


def test_the_second_gpt_stands_in_for_a_damaged_first(gpt: Path) -> None:
    good = table_of(gpt)
    with gpt.open("r+b") as file:
        file.seek(512 + 60)
        file.write(b"\xff")
    found = table_of(gpt)
    assert found.partitions == good.partitions
    assert "first GPT is damaged" in found.note
    with gpt.open("r+b") as file:
        file.seek(-512, 2)
        file.write(bytes(512))
    with pytest.raises(FormatError) as caught:
        table_of(gpt)
    assert caught.value.offset == 512 + 16


def test_logical_partitions_are_followed_as_sfdisk_made_them(tmp_path: Path) -> None:
    path = blank(tmp_path / "mbr.img", 100 * MIB)
    run("sfdisk", "--quiet", str(path), stdin="label: dos\n,16M,c\n,,5\n,20M,83\n,30M,83\n,10M,c\n")
    rows = re.findall(r"img(\d+) : start= *(\d+), size= *(\d+), type=([0-9a-f]+)", run("sfdisk", "-d", str(path)))
    told = [(int(n), int(a) * 512, int(b) * 512, int(c, 16)) for n, a, b, c in rows]
    assert [(part.number, part.start, part.size, part.kind) for part in table_of(path).partitions] == told


def test_our_single_fat_table_is_what_sfdisk_reads(tmp_path: Path) -> None:
    path = blank(tmp_path / "a.img", 700 * MIB)
    table, part = partitions.single(700 * MIB, 0x0C, disk_id=0x1234ABCD)
    with path.open("r+b") as file:
        file.write(table)
    told = run("sfdisk", "-d", str(path))
    assert f"start={part.start // 512:>12}, size={part.size // 512:>12}, type=c" in told
    assert "label-id: 0x1234abcd" in told
    run("sfdisk", "--verify", str(path))


@given(st.data())
def test_a_gpt_with_changed_bytes_gives_a_table_or_the_one_error(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    global _GPT
    if not _GPT:
        path = blank(tmp_path_factory.mktemp("gpt") / "a.img", 8 * MIB)
        run("sgdisk", "-n", "1:2048:+1M", "-t", "1:0700", "-n", "2:0:+2M", str(path))
        _GPT = path.read_bytes()
    raw = bytearray(_GPT)
    for _ in range(data.draw(st.integers(1, 4))):
        raw[data.draw(st.integers(0, 34 * 512 - 1))] = data.draw(st.integers(0, 255))
    whole = bytes(raw)
    try:
        partitions.read_table(
            lambda offset, length: whole[offset : offset + length], data.draw(st.sampled_from([0, len(raw)]))
        )
    except FormatError as bad:
        assert 0 <= bad.offset < 1 << 73


_GPT = b""


# --- volumes -------------------------------------------------------------------------------------------------


def blkid(path: Path, offset: int = 0) -> dict[str, str]:
    told = run("blkid", "-p", "-O", str(offset), "-o", "export", str(path))
    return dict(line.split("=", 1) for line in told.splitlines() if "=" in line)


@pytest.mark.parametrize(
    ("make", "size"),
    [
        (("mkfs.fat", "-F", "12", "-n", "SMALL"), 4 * MIB),
        (("mkfs.fat", "-F", "16", "-n", "MIDDLE"), 64 * MIB),
        (("mkfs.fat", "-F", "32", "-s", "1", "-n", "LARGE"), 64 * MIB),
        (("mkfs.ext4", "-q", "-L", "four"), 64 * MIB),
        (("mkfs.ext4", "-q", "-O", "64bit", "-b", "4096", "-L", "wide"), 64 * MIB),
        (("mke2fs", "-q", "-L", "two"), 16 * MIB),
        (("mke2fs", "-q", "-j", "-L", "three"), 32 * MIB),
        (("mkswap", "-L", "swapping"), 8 * MIB),
    ],
)
def test_file_systems_and_labels_as_blkid_tells_them(make: tuple[str, ...], size: int, tmp_path: Path) -> None:
    path = blank(tmp_path / "v.img", size)
    run(*make, str(path))
    told = blkid(path)
    (found,) = volumes.survey(path).volumes
    kind = {"vfat": told.get("VERSION", ""), "swap": "swap"}.get(told["TYPE"], told["TYPE"])
    assert found.kind == kind
    if found.kind != "swap":
        assert found.label == told["LABEL"]


def test_free_bytes_as_dumpe2fs_tells_them(tmp_path: Path) -> None:
    path = blank(tmp_path / "v.img", 96 * MIB)
    run("mkfs.ext4", "-q", "-b", "1024", str(path))
    told = run("dumpe2fs", "-h", str(path))
    free = int(re.search(r"^Free blocks: +(\d+)", told, re.MULTILINE)[1]) * 1024  # type: ignore[index]
    (found,) = volumes.survey(path).volumes
    assert found.free == free
    kept = usage.usage(path, path.stat().st_size)
    assert kept.total == pytest.approx(path.stat().st_size - free, abs=1024)


@pytest.mark.parametrize("bits", ["12", "16", "32"])
def test_free_clusters_as_mtools_counts_them(bits: str, tmp_path: Path) -> None:
    path = blank(tmp_path / "v.img", {"12": 8, "16": 64, "32": 64}[bits] * MIB)
    run("mkfs.fat", "-F", bits, *(["-s", "1"] if bits == "32" else []), str(path))
    chance = random.Random(3)
    for number in range(12):
        file = tmp_path / f"f{number}"
        file.write_bytes(chance.randbytes(chance.randrange(1, 90_000)))
        run("mcopy", "-i", str(path), str(file), "::/")
    for number in (2, 5, 9):
        run("mdel", "-i", str(path), f"::/f{number}")
    free = int(re.search(r"([\d ]+) bytes free", run("mdir", "-i", str(path), "::/"))[1].replace(" ", ""))  # type: ignore[index]
    kept = usage.usage(path, path.stat().st_size)
    assert kept.end - kept.total == free
    data = path.read_bytes()
    masked = bytearray(len(data))
    for start, end in kept.used:
        masked[start:end] = data[start:end]
    path.write_bytes(masked)
    run("fsck.fat", "-n", str(path))
    for number in (0, 11):
        run("mcopy", "-i", str(path), f"::/f{number}", str(tmp_path / "back"))
        assert (tmp_path / "back").read_bytes() == (tmp_path / f"f{number}").read_bytes()
        (tmp_path / "back").unlink()


# --- prepared cards ------------------------------------------------------------------------------------------


def test_a_prepared_card_is_clean_and_has_one_signature(demo: Demo, tmp_path: Path) -> None:
    target = demo.target("blank-card")
    assert demo.write().bad is None
    done, _event = prepare_card(demo.job(), "GAMES")
    volume = tmp_path / "volume"
    with target.path.open("rb") as file, volume.open("wb") as out:
        file.seek(done.start)
        out.write(file.read(64 * MIB))
        out.truncate(done.size)
    run("fsck.fat", "-n", str(volume))
    told = blkid(target.path, done.start)
    assert (told["TYPE"], told["LABEL"]) == ("vfat", "GAMES")
    assert set(re.findall(r"dos|gpt|ext4|vfat", run("wipefs", str(target.path)))) == {"dos"}
    assert [part.word for part in table_of(target.path).partitions] == ["FAT32"]


@pytest.mark.parametrize(
    ("kind", "checker", "size", "label"),
    [
        ("exFAT", ("fsck.exfat", "-n"), 64 << 20, "Games-1"),
        ("exFAT", ("fsck.exfat", "-n"), 3 << 30, "GAMES"),
        ("ext4", ("e2fsck", "-fn"), 64 << 20, "machine-saves"),
        ("ext4", ("e2fsck", "-fn"), 3 << 30, "x"),
    ],
)
def test_other_file_systems_are_clean_on_a_drive_full_of_noise(
    kind: prepare.Kind, checker: tuple[str, ...], size: int, label: str, tmp_path: Path
) -> None:
    """fsck.exfat (exfatprogs) and e2fsck (e2fsprogs): what is a hole in the volume must not be needed on the drive."""
    target = simulated(tmp_path, size=size)
    path, noise = target.path, random.Random(5).randbytes(MIB)
    with path.open("wb") as file:
        for at in range(0, size, 16 * MIB):  # noise everywhere that a file system might leave alone
            file.seek(at)
            file.write(noise)
        file.truncate(size)
    lose = CardJob(target).verdict(Purpose.PREPARE).lose
    done, event = prepare_card(CardJob(target, Consent(lose)), label, kind=kind)
    volume = tmp_path / "volume"
    with path.open("rb") as drive, volume.open("wb") as out:
        drive.seek(done.start)
        while piece := drive.read(16 * MIB):
            out.write(piece)
    run(*checker, str(volume))
    told = blkid(path, done.start)
    assert (told["TYPE"], told["LABEL"]) == (kind.lower(), label)
    assert (done.kind, done.label) == (kind, label)
    assert kind in event.what
    assert [part.word for part in table_of(path).partitions] == ["exFAT or NTFS" if kind == "exFAT" else "Linux"]


# --- packed files --------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def body(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("body") / "a.img"
    chance = random.Random(9)
    path.write_bytes(chance.randbytes(2 * MIB) + bytes(4 * MIB) + chance.randbytes(300) * 4096 + bytes(MIB))
    return path


def packed(body: Path, folder: Path, *arguments: str) -> None:
    subprocess.run(arguments, check=True, cwd=folder, capture_output=True)


COMMANDS = {
    "a.img.xz": "xz -k -1 a.img",
    "blocks.img.xz": "xz -k -1 -T2 --block-size=1MiB -c a.img",
    "a.img.gz": "gzip -k a.img",
    "a.img.bz2": "bzip2 -k a.img",
    "a.img.zst": "zstd -q a.img",
    "long.img.zst": "zstd -q --no-content-size -c a.img",
    "a.7z": "7z a a.7z a.img",
}


@pytest.mark.parametrize("name", COMMANDS)
def test_what_the_usual_packers_made_is_read(name: str, body: Path, tmp_path: Path) -> None:
    (tmp_path / "a.img").write_bytes(body.read_bytes())
    words = COMMANDS[name].split()
    done = subprocess.run(words, check=True, cwd=tmp_path, capture_output=True)
    path = tmp_path / name
    if "-c" in words:
        path.write_bytes(done.stdout)
    facts = source.inspect(path)
    assert b"".join(source.chunks(facts)) == body.read_bytes()
    if name.endswith(".xz"):
        row = run("xz", "--robot", "--list", str(path)).splitlines()[1].split("\t")
        assert (facts.blocks, facts.packed, facts.unpacked) == (int(row[2]), int(row[3]), int(row[4]))
    if name == "a.img.zst":
        told = run("zstd", "-l", "-v", str(path))
        size = int(re.search(r"Decompressed Size: .*\((\d+) B\)", told)[1])  # type: ignore[index]
        assert (facts.unpacked, facts.exact) == (size, True)


def test_what_split_made_is_joined(body: Path, tmp_path: Path) -> None:
    (tmp_path / "a.img").write_bytes(body.read_bytes())
    subprocess.run(["xz", "-1", "a.img"], check=True, cwd=tmp_path)
    subprocess.run(["split", "-b", "500K", "a.img.xz", "a.img.xz."], check=True, cwd=tmp_path)
    (tmp_path / "a.img.xz").unlink()
    facts = source.inspect(tmp_path / "a.img.xz.aa")
    assert len(facts.parts) > 3
    assert b"".join(source.chunks(facts)) == body.read_bytes()


@pytest.mark.parametrize("program", ["sha512sum", "sha256sum", "sha1sum", "md5sum"])
@pytest.mark.parametrize("form", [(), ("--tag",), ("--binary",)])
def test_sums_written_by_coreutils_are_found_and_right(
    program: str, form: tuple[str, ...], body: Path, tmp_path: Path
) -> None:
    path = tmp_path / "a.img"
    path.write_bytes(body.read_bytes())
    told = subprocess.run([program, *form, "a.img"], check=True, cwd=tmp_path, capture_output=True, text=True).stdout
    (tmp_path / f"{program}.txt").write_text(told, encoding="utf-8")
    facts = source.inspect(path)
    stated = checksums.beside(facts)
    assert stated is not None
    with open_image(facts) as file:
        assert checksums.of_file(file, stated.algorithm) == stated.digest


def test_a_backup_is_right_for_the_usual_tools(demo: Demo) -> None:
    assert demo.write().bad is None
    to = demo.folder / "kept.img.zst"
    backup_card(demo.job(), to)
    subprocess.run(["sha256sum", "-c", "kept.img.zst.sha256"], check=True, cwd=demo.folder, capture_output=True)
    run("zstd", "-t", "-q", str(to))
    unpacked = demo.folder / "kept.img"
    run("zstd", "-q", "-d", str(to), "-o", str(unpacked))
    boot, root = table_of(unpacked).partitions
    for part, check in ((boot, ("fsck.fat", "-n")), (root, ("e2fsck", "-fn"))):
        piece = demo.folder / "piece"
        piece.write_bytes(unpacked.read_bytes()[part.start : part.end])
        run(*check, str(piece))


# --- a real loop device --------------------------------------------------------------------------------------


@pytest.fixture
def loop(tmp_path: Path) -> Iterator[Path]:
    backing = blank(tmp_path / "backing.img", 200 * MIB)
    device = run("losetup", "--find", "--show", "--partscan", str(backing)).strip()
    yield Path(device)
    run("losetup", "-d", device)


@ROOT_ONLY
def test_the_whole_path_on_a_loop_device(loop: Path, demo: Demo, tmp_path: Path) -> None:
    target = looking.find(str(loop), None)
    report = write(target, demo.image)
    assert report.verified
    assert report.notes == ()
    names = set(re.findall(rf"{loop.name}p\d", run("lsblk", "-nlo", "NAME", str(loop))))
    if kernel_reads_tables():
        assert names == {f"{loop.name}p1", f"{loop.name}p2"}  # the table was read again
    told = contents.observe(loop)
    assert told.root is not None
    assert [volume.label for volume in told.volumes] == ["QUAYBOOT", "quayroot"]
    with pytest.raises(Refused, match="QUAYBOOT"):
        write(looking.find(str(loop), None), demo.image)
    to = tmp_path / "kept.img.zst"
    backup_card(CardJob(looking.find(str(loop), None)), to)
    proof = prove_card(CardJob(looking.find(str(loop), None), Consent("QUAYBOOT"))).proof
    assert proof.good, proof
    held = looking.find(str(loop), None)
    lose = CardJob(held).verdict(Purpose.PREPARE).lose
    done, _event = prepare_card(CardJob(held, Consent(lose)), "GAMES")
    assert done.kind == "FAT16"
    assert blkid(loop, done.start)["LABEL"] == "GAMES"
    report = write(looking.find(str(loop), None), to, Order(checksums.beside(source.inspect(to))), typed="GAMES")
    assert report.verified
    assert compare_cards(side("a", to), side("b", loop), None).same


def kernel_reads_tables() -> bool:
    """Whether this kernel was built with MBR tables (CONFIG_MSDOS_PARTITION); some small ones are not."""
    try:
        import gzip

        return b"CONFIG_MSDOS_PARTITION=y" in gzip.open("/proc/config.gz").read()
    except OSError:
        return False


@ROOT_ONLY
def test_a_mounted_card_and_the_images_own_drive_are_refused(loop: Path, demo: Demo, tmp_path: Path) -> None:
    run("mkfs.ext4", "-q", "-L", "held", str(loop))
    facts = source.inspect(demo.image)
    with pytest.raises(Refused, match="held"):  # its name must be typed
        write(looking.find(str(loop), None), facts)
    place = tmp_path / "mounted"
    place.mkdir()
    run("mount", str(loop), str(place))
    try:
        with pytest.raises(Refused, match="mounted at"):
            write(looking.find(str(loop), None), facts, typed="held")
        assert node_at(loop) in Layers().below(place)
        copy = place / "quayside.img.xz"
        copy.write_bytes(demo.image.read_bytes())
        with pytest.raises(Refused, match="very drive"):
            write(looking.find(str(loop), None), copy, typed="held")
    finally:
        run("umount", str(place))


@ROOT_ONLY
def test_swap_in_use_is_refused_and_idle_swap_is_not(loop: Path, demo: Demo) -> None:
    run("mkswap", "-L", "spare", str(loop))
    facts = looking.find(str(loop), None).facts
    assert (facts.swap, facts.holds) == (False, "swap")
    try:
        run("swapon", str(loop))
    except AssertionError:
        pytest.skip("this kernel has no swap")
    try:
        with pytest.raises(Refused, match="swap space"):
            write(looking.find(str(loop), None), demo.image, typed="spare")
    finally:
        run("swapoff", str(loop))


@ROOT_ONLY
def test_a_full_disk_is_told_and_leaves_no_table(demo: Demo, tmp_path: Path) -> None:
    place = tmp_path / "small"
    place.mkdir()
    run("mount", "-t", "tmpfs", "-o", "size=24m", "tmpfs", str(place))
    try:
        path = tmp_path / "noise.img"
        path.write_bytes(random.Random(4).randbytes(40 * MIB))
        target = looking.find(str(place / "card.img"), None)
        with pytest.raises(TargetFull, match="is full"):
            write(target, path)
        with (place / "card.img").open("rb") as file:
            assert not any(file.read(MIB))
    finally:
        run("umount", str(place))


@ROOT_ONLY
def test_a_read_only_loop_device_is_refused(tmp_path: Path, demo: Demo) -> None:
    backing = blank(tmp_path / "ro.img", 100 * MIB)
    device = run("losetup", "--find", "--show", "--read-only", str(backing)).strip()
    try:
        with pytest.raises(Refused, match="read-only"):
            write(looking.find(device, None), demo.image)
    finally:
        run("losetup", "-d", device)
