"""What sets up a machine whose image runs no script of the boot partition: files put on its root. The judges are a real
kernel with busybox's init (package user-mode-linux), e2fsck and debugfs."""

from __future__ import annotations

import shutil
import subprocess
from dataclasses import replace
from pathlib import Path

import pytest

from external.test_setup_outside import EVERY, whole
from judges import kernel
from kyklon.base.errors import KyklonError
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build, edited
from kyklon.model.card import SETUP_NUMBERED, SETUP_SCRIPT, SETUP_SERVICE, SETUP_UNIT
from kyklon.model.world import World
from kyklon.operations.boot import first_boot
from kyklon.operations.boot.acts import plan_boot_files, put_boot_files
from kyklon.operations.boot.findings import findings
from kyklon.operations.card.drives import looking
from kyklon.operations.card.volumes import contents
from kyklon.operations.poweron.bench import lay_out
from kyklon.operations.poweron.stages.init import first_start
from support import Demo

MIB = 1 << 20
ROOT = 17 * MIB
RC = '#!/bin/sh\nfor script in /etc/init.d/S??*; do "$script" start; done\n'
TABLE = "::sysinit:/bin/mount -t proc none /proc\n::sysinit:/bin/mount -o remount,rw /\n::sysinit:/etc/init.d/rcS\n"
SYSTEMD = {
    "usr/lib/systemd/systemd": b"",
    "usr/lib/systemd/system/multi-user.target": b"[Unit]\nDescription=Multi-User\n",
    "usr/lib/systemd/system/default.target": b"[Unit]\nRequires=multi-user.target\n",
}


def card_of(tmp_path: Path, files: dict[str, bytes]) -> Path:
    """A FAT boot partition, and a root of ext4 with these files."""
    held, card = tmp_path / "files", tmp_path / "card.img"
    for folder in ("bin", "sbin", "dev", "proc", "sys", "boot", "etc/init.d", "usr/lib/systemd/system", "home/player"):
        (held / folder).mkdir(parents=True, exist_ok=True)
    for name, data in files.items():
        (held / name).parent.mkdir(parents=True, exist_ok=True)
        (held / name).write_bytes(data)
        (held / name).chmod(0o755)
    (held / "etc/passwd").write_text("root:x:0:0::/root:/bin/sh\nplayer:x:1000:1000::/home/player:/bin/sh\n")
    with card.open("wb") as file:
        file.truncate(50 * MIB)
    table = (
        f"label: dos\nstart=2048, size={16 * 2048}, type=c, bootable\nstart={17 * 2048}, size={32 * 2048}, type=83\n"
    )
    subprocess.run(["sfdisk", "-q", card], input=table.encode(), check=True)
    subprocess.run(["mkfs.fat", "--offset", "2048", card, str(16 * 1024)], check=True, stdout=subprocess.DEVNULL)
    (tmp_path / "kernel.line").write_text("root=/dev/mmcblk0p2 rootwait\n")
    subprocess.run(["mcopy", "-i", f"{card}@@1M", tmp_path / "kernel.line", "::/"], check=True)
    made = ["mkfs.ext4", "-q", "-F", "-E", f"offset={ROOT}", "-d", str(held), str(card), "32m"]
    subprocess.run(made, check=True, stderr=subprocess.DEVNULL)
    return card


@pytest.fixture
def parts(catalogue: Catalogue) -> Catalogue:
    """An image that runs nothing and reads nothing of ours."""
    image = catalogue.get(Image, "quayside").model_copy(update={"first_boot_script": "", "reads": ()})
    return replace(catalogue, parts={**catalogue.parts, "images": {"quayside": image}})


def left(card: Path, path: str) -> str:
    done = subprocess.run(["debugfs", "-R", f"cat {path}", f"{card}?offset={ROOT}"], capture_output=True, text=True)
    return done.stdout


def put(card: Path, build: Build, parts: Catalogue, folder: Path) -> list[str]:
    made = put_boot_files(folder, build, parts, looking.find(str(card), folder))
    checked = subprocess.run(["e2fsck", "-fn", f"{card}?offset={ROOT}"], capture_output=True, text=True, check=False)
    assert checked.returncode == 0, checked.stdout
    return [name for name in made.files if name.startswith("/")]


def told(card: Path, build: Build, parts: Catalogue) -> str:
    step = first_start(lay_out(build, parts, contents.observe(card)))
    return " ".join(moment.text for moment in step.moments)


@pytest.mark.skipif(not kernel.available(), reason="user-mode-linux and busybox are not installed")
def test_a_real_start_does_it_once(demo: Demo, parts: Catalogue, tmp_path: Path) -> None:
    busybox = Path(shutil.which("busybox") or "").read_bytes()
    names = "mount sh cat mkdir chmod grep ln head tail cut mv sync reboot awk chown chpasswd"
    tools = {"bin/busybox": busybox, "sbin/init": busybox, **{f"bin/{name}": busybox for name in names.split()}}
    script = b"#!/bin/sh\necho 'start: first'\n"
    files = {"etc/inittab": TABLE.encode(), "etc/init.d/rcS": RC.encode(), "etc/init.d/S01first": script}
    card, build = card_of(tmp_path, {"bin/busybox": busybox, **files}), whole(demo.build)
    rows = [f"ln /bin/busybox /{name}" for name in tools if name != "bin/busybox"]
    subprocess.run(["debugfs", "-w", "-f", "-", f"{card}?offset={ROOT}"], input="\n".join(rows), text=True, check=True)
    assert put(card, build, parts, tmp_path) == [SETUP_SCRIPT, f"/etc/init.d/{SETUP_NUMBERED}"]
    assert "sets up: time zone" in told(card, build, parts)
    first = kernel.boot(card, "root=/dev/mmcblk0p2 rw init=/sbin/init")
    assert "reboot: " in first.said, first.said  # once, then everything is in force
    assert left(card, "/etc/timezone") == "Europe/Dublin\n"
    assert "Address=10.0.0.7/24\n" in left(card, "/etc/systemd/network/10-wired.network")
    assert left(card, "/etc/rc.local").count(str(EVERY["system.start_command"])) == 1
    second = kernel.boot(card, "root=/dev/mmcblk0p2 rw init=/sbin/init")
    assert "start: first" in second.said
    assert "reboot: Restarting" not in second.said
    assert "was run already" in told(card, build, parts)
    other = edited(build, "system.time_zone", "Europe/Paris")
    assert "what it does is not simulated" not in told(card, build, parts)
    assert put(card, other, parts, tmp_path) == [SETUP_SCRIPT]
    assert "reboot: " in kernel.boot(card, "root=/dev/mmcblk0p2 rw init=/sbin/init").said
    assert left(card, "/etc/timezone") == "Europe/Paris\n"


def test_with_systemd_and_without(demo: Demo, parts: Catalogue, tmp_path: Path) -> None:
    build = edited(demo.build, "system.time_zone", "Europe/Dublin")
    card = card_of(tmp_path, SYSTEMD)
    seen = contents.observe(card)
    assert seen.root is not None
    assert seen.root.can_be_set_up
    assert "boot.by-hand" not in {each.code for each in findings(build, parts, World(card=seen))}
    image = parts.get(Image, "quayside")
    own = first_boot.on_root(build, image, seen.root)
    assert first_boot.joined(build, image, "systemd") == own  # the same from the card and over the login
    files = put(card, build, parts, tmp_path)
    assert files[:2] == [SETUP_SCRIPT, SETUP_UNIT]
    assert told(card, build, parts).endswith("sets up: time zone. Then the machine restarts, once.")
    seen = contents.observe(card)
    assert seen.root is not None
    assert "kyklon-setup" in seen.root.pulled  # as systemd finds it, through its drop-in
    assert not plan_boot_files(build, parts, seen).files
    assert plan_boot_files(demo.build, parts, seen).files == {SETUP_SCRIPT: first_boot.HEAD_ON_ROOT.encode()}
    assert first_start(lay_out(demo.build, parts, seen)).moments[0].text.endswith("is not simulated.")
    shutil.rmtree(tmp_path / "files")
    bare = card_of(tmp_path, {"sbin/init": b"#!/bin/sh\n"})
    assert put(bare, build, parts, tmp_path) == []
    assert "boot.by-hand" in {each.code for each in findings(build, parts, World(card=contents.observe(bare)))}


def test_with_openrc_the_numbers_beside_it_are_not_asked(demo: Demo, parts: Catalogue, tmp_path: Path) -> None:
    """A Debian root with OpenRC keeps /etc/rc2.d, which nothing there reads."""
    build = edited(demo.build, "system.time_zone", "Europe/Dublin")
    wrapper = b"#!/bin/sh\n# /sbin/openrc single\ncase $1 in\n\t* ) exec /sbin/openrc default ;;\nesac\n"
    files = {
        "etc/inittab": b"id:2:initdefault:\nsi::sysinit:/etc/init.d/rcS\nl2:2:wait:/etc/init.d/rc 2\n",
        "etc/init.d/rc": wrapper,
        "etc/rc2.d/S01old": b"#!/bin/sh\n",
        "etc/runlevels/default/game": b"x",
        "etc/init.d/game": b"#!/bin/sh\n",
        "sbin/openrc": b"#!/bin/sh\n",
    }
    card = card_of(tmp_path, files)
    seen = contents.observe(card)
    assert seen.root is not None
    assert seen.root.numbered == ("game",)
    entry = "/etc/runlevels/default/kyklon-setup"
    assert sorted(put(card, build, parts, tmp_path)) == sorted((SETUP_SCRIPT, SETUP_SERVICE, entry))
    assert told(card, build, parts).endswith("sets up: time zone. Then the machine restarts, once.")
    stat = subprocess.run(
        ["debugfs", "-R", f"stat {SETUP_SERVICE}", f"{card}?offset={ROOT}"], capture_output=True, text=True
    )
    assert "Mode:  0755" in stat.stdout
    seen = contents.observe(card)
    assert seen.root is not None
    assert seen.root.numbered == ("game", "kyklon-setup")  # after everything else, as its depend() asks
    assert not plan_boot_files(build, parts, seen).files
    shutil.rmtree(tmp_path / "files")
    beside = card_of(tmp_path, {**files, "etc/init.d/rc": b"#!/bin/sh\n", "etc/rc2.d/S01old": b"#!/bin/sh\n"})
    seen = contents.observe(beside)
    assert seen.root is not None
    assert seen.root.numbered == ("old",)  # OpenRC is installed, but nothing calls it


def test_a_root_with_errors_is_left_alone(demo: Demo, parts: Catalogue, tmp_path: Path) -> None:
    build, card = edited(demo.build, "system.time_zone", "Europe/Dublin"), card_of(tmp_path, SYSTEMD)
    subprocess.run(["debugfs", "-w", "-R", "clri /home/player", f"{card}?offset={ROOT}"], check=True)
    before = card.read_bytes()[ROOT:]
    with pytest.raises(KyklonError):
        put_boot_files(tmp_path, build, parts, looking.find(str(card), tmp_path))
    assert card.read_bytes()[ROOT:] == before
