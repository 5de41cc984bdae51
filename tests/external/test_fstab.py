"""The table of file systems beside libmount's reading (findmnt of util-linux) and what systemd's own generator makes of
it; and what a start then does."""

from __future__ import annotations

import json
import os
import random
import subprocess
from dataclasses import replace
from pathlib import Path

import pytest

from failure_modes import made
from judges.cards import copied
from kyklon.model.card import Mount, Program, Unit
from kyklon.operations.card.volumes.mounts import read_fstab
from kyklon.operations.poweron.bench import Bench, lay_out
from kyklon.operations.poweron.stages import mounts, services
from kyklon.operations.poweron.stages.init import init
from test_failures import catalogue, good, good_build, observed, world_of  # noqa: F401 # a fixture

GENERATOR = Path("/usr/lib/systemd/system-generators/systemd-fstab-generator")
SOURCES = (
    "/dev/mmcblk0p1",
    "UUID=1234-ABCD",
    "LABEL=QUAYBOOT",
    "PARTUUID=4b594b31-01",
    "/dev/sda1",
    "tmpfs",
    "UUID=none",
    "/dev/disk/by-label/QUAYBOOT",
    "//attic/games",
)
KINDS = ("vfat", "ext4", "auto", "tmpfs", "swap", "cifs", "nfs", "exfat")
OPTIONS = (
    "defaults",
    "ro",
    "nofail",
    "noauto",
    "noatime",
    "_netdev",
    "x-systemd.automount",
    "umask=0077",
    "nofail,noauto",
    "rw,x-systemd.device-timeout=5",
    "uid=1000,gid=1000",
)


def table(chance: random.Random) -> str:
    rows = ["# a remark", "", "   # another"]
    for number in range(chance.randint(1, 8)):
        where = chance.choice((f"/mnt/{number}", f"/mnt/a\\040b{number}", f"/games{number}"))
        fields = [
            chance.choice(SOURCES),
            where,
            chance.choice(KINDS),
            chance.choice(OPTIONS),
            "0",
            str(chance.randrange(3)),
        ]
        rows.append(chance.choice((" ", "\t", " \t ")).join(fields[: chance.choice((4, 5, 6, 6))]))
    return "\n".join(rows) + chance.choice(("\n", ""))


@pytest.mark.parametrize("seed", range(40))
def test_lines_are_read_as_libmount_reads_them(seed: int, tmp_path: Path) -> None:
    file = tmp_path / "fstab"
    file.write_text(table(random.Random(seed)))
    told = subprocess.run(
        ["findmnt", "--tab-file", file, "--json", "--list", "-o", "SOURCE,TARGET,FSTYPE,OPTIONS"],
        capture_output=True,
        check=True,
    ).stdout
    theirs = [
        (load["source"], load["target"], load["fstype"], load["options"]) for load in json.loads(told)["filesystems"]
    ]
    ours = [(mount.source, mount.where, mount.kind, ",".join(mount.options)) for mount in read_fstab(file.read_text())]
    assert ours == theirs


@pytest.mark.skipif(not GENERATOR.exists(), reason="systemd's generator is not installed")
@pytest.mark.parametrize("seed", range(40))
def test_what_must_be_mounted_is_what_systemd_requires(seed: int, tmp_path: Path) -> None:
    file, units = tmp_path / "fstab", tmp_path / "units"
    file.write_text(table(random.Random(seed)))
    units.mkdir()
    own = {**os.environ, "SYSTEMD_FSTAB": str(file), "SYSTEMD_LOG_LEVEL": "emerg"}
    subprocess.run([GENERATOR, units, units, units], env=own, check=True)
    required = {path.name for path in (units / "local-fs.target.requires").glob("*.mount")}
    ours = {unit_name(mount.where) for mount in read_fstab(file.read_text()) if mounts.must_be(mount)}
    assert ours == required, file.read_text()


def unit_name(where: str) -> str:
    """systemd-escape --path (systemd.unit(5)): slashes as dashes, blanks as \\x20."""
    told = subprocess.run(["systemd-escape", "--path", "--suffix=mount", where], capture_output=True, check=True)
    return told.stdout.decode().strip()


# --- what a start does with it -------------------------------------------------------------------------------------


WRONG = {
    "UUID=1111-2222 /boot vfat ro 0 0": "no volume has UUID 1111-2222",
    "/dev/mmcblk0p7 /boot vfat ro 0 0": "No partition 7",
    "/dev/sda1 /boot vfat ro 0 0": "a disk on USB",
    "/dev/mmcblk0p1 /boot ext4 ro 0 0": "is vfat, not ext4",
    "/dev/mmcblk0p1 /boot vfat ro,frob 0 0": "knows no option frob",
    "/dev/mmcblk0p2 /boot auto errors=sometimes 0 0": "errors is one of",
}
RIGHT = (
    "/dev/mmcblk0p1 /boot vfat ro 0 0",
    "UUID=1234-abcd /boot vfat defaults,umask=0022,x-systemd.mount-timeout=9 0 2",
    "LABEL=QUAYBOOT /boot auto noatime",
    "PARTUUID=4b594b31-01 /boot vfat,ext4 rw",
    "/dev/disk/by-uuid/1234-ABCD /boot vfat ro",
    "tmpfs /boot tmpfs size=1M",
    "//attic/x /boot cifs guest",
)


def with_table(cards: dict[str, Path], tmp_path: Path, text: str) -> Bench:
    card = copied(cards["merrow"], tmp_path / "card.img")
    made("/etc/fstab", text.encode(), "0100644")(card)
    build = good_build("merrow")
    return lay_out(build, catalogue(), observed(card, build), world_of(build, cards["folder"]))


@pytest.mark.long(keep=4)
@pytest.mark.parametrize("line", [*WRONG, *RIGHT])
def test_a_line_that_cannot_be_mounted_is_told_and_no_other(line: str, good: dict[str, Path], tmp_path: Path) -> None:
    bench = with_table(good, tmp_path, f"{line}\n")
    root = bench.contents.root
    assert root is not None
    why = mounts.why_not_mounted(bench, root.mounts[0])
    assert (WRONG[line] in why) if line in WRONG else why == "", why
    # systemd stops there, unless it may fail
    unit = Unit(bench.image.foreground_service, None)
    managed = replace(root, pulled={unit.name: unit})
    seen = replace(bench.contents, roots=dict.fromkeys(bench.contents.roots, managed), root=managed)
    step = services.services(replace(bench, contents=seen))
    assert [failure.code for failure in step.failures] == (["system.mount"] if why else [])
    spared = replace(
        managed, mounts=tuple(replace(mount, options=(*mount.options, "nofail")) for mount in managed.mounts)
    )
    seen = replace(seen, roots=dict.fromkeys(seen.roots, spared), root=spared)
    assert not services.services(replace(bench, contents=seen)).failures


@pytest.mark.parametrize(
    ("line", "seen"),
    [
        ("/dev/mmcblk0p1 /boot vfat ro 0 0", True),
        ("", False),
        ("# /dev/mmcblk0p1 /boot vfat ro 0 0", False),
        ("/dev/mmcblk0p1 /boot vfat noauto 0 0", False),
        ("/dev/mmcblk0p2 /boot ext4 ro 0 0", False),
        ("/dev/mmcblk0p1 /boot ext4 ro 0 0", False),
        ("/dev/mmcblk0p1 /media vfat ro 0 0", False),
        ("/dev/mmcblk0p1 /boot/firmware vfat ro 0 0", True),
    ],
)
def test_what_the_start_reads_from_the_boot_partition_is_there_only_when_it_is_mounted(
    line: str,
    seen: bool,
    good: dict[str, Path],
    tmp_path: Path,
) -> None:
    bench = with_table(good, tmp_path, f"{line}\n")
    settings = mounts.system_settings(bench)
    assert bench.settings is not None
    assert settings is not None
    assert bool(settings.services) == bool(settings.user) == seen
    assert settings.kernel_line == bench.settings.kernel_line  # the firmware reads it all the same
    assert any("are not read" in moment.text for moment in init(bench).moments) == (not seen)


def test_numbered_scripts_stop_where_what_is_to_be_checked_is_not_there(good: dict[str, Path], tmp_path: Path) -> None:
    bench = with_table(good, tmp_path, "/dev/mmcblk0p7 /games ext4 defaults 0 2\n")
    root = bench.contents.root
    assert root is not None
    assert mounts.checked(bench, root) is not None
    wanted = Mount("/dev/mmcblk0p7", "/games", "ext4")
    for spared in (
        wanted,
        replace(wanted, options=("nofail",), checked=True),
        Mount("/dev/mmcblk0p2", "/games", "ext4", (), True),
    ):
        assert mounts.checked(bench, replace(root, mounts=(spared,))) is None


def test_numbered_scripts_stop_where_nothing_checks_the_root(good: dict[str, Path], tmp_path: Path) -> None:
    """As initscripts 3.06 of Debian 12 did it with a real kernel: fsck ends with 8, and a shell asks for a password."""
    bench = with_table(good, tmp_path, "/dev/mmcblk0p2 / ext4 defaults 0 1\n")
    root = replace(bench.contents.root, mounts=(Mount("/dev/mmcblk0p2", "/", "ext4", ("defaults",), True),))
    there = Program("/sbin/fsck")
    gone = Program("/sbin/fsck.ext4", why="it is not there", there=False)
    numbered = replace(root, numbered=("checkroot.sh",), programs={"/sbin/fsck": there, "/sbin/fsck.ext4": gone})
    failure = mounts.checked(bench, numbered)
    assert failure is not None
    assert "/sbin/fsck.ext4 is not there" in failure.cause
    for spared in (
        replace(numbered, numbered=("hostname.sh",)),
        replace(numbered, programs={**numbered.programs, "/sbin/fsck.ext4": replace(there, path="/sbin/fsck.ext4")}),
        replace(numbered, mounts=(replace(root.mounts[0], checked=False),)),
    ):
        assert mounts.checked(bench, spared) is None
