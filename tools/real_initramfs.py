"""An initramfs out of a distribution's own scripts, programs and modules, and what a real kernel makes of it.

Used by tools/real_machine.py. Needs cpio, depmod (kmod), zstd, gzip, xz and qemu-system-arm.
"""

from __future__ import annotations

import random
import re
import shutil
import subprocess
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from kyklon.operations.poweron.bench import Bench

WAYS = (
    "good",
    "good",
    "good",
    "good",
    "no init",
    "init without rights",
    "shell gone",
    "another release",
    "no file system",
    "no checksums",
    "no journal",
    "no blkid",
    "garbled",
    "cut",
    "two archives",
    "other processor",
)
MODULES = ("sdhci-pci", "ext4", "mmc_block", "crc32c_generic")
SECONDS = 150.0
PACKERS = {"zstd": ("zstd", "-q"), "gzip": ("gzip", "-n"), "xz": ("xz", "--check=crc32"), "": ("cat",)}


def made(root: Path, release: str, way: str, chance: random.Random) -> bytes:
    """The bytes of an initramfs, spoilt in a way."""
    with tempfile.TemporaryDirectory(prefix="initramfs-") as held:
        top = Path(held)
        _laid_out(root, release, way, top)
        packed = _packed(top, chance.choice(tuple(PACKERS)))
        if way == "two archives":
            early = Path(held) / "early"
            (early / "kernel/x86/microcode").mkdir(parents=True)
            (early / "kernel/x86/microcode/none.bin").write_bytes(bytes(3000))
            packed = _packed(early, "") + packed
        if way == "garbled":
            at = len(packed) // 3
            packed = packed[:at] + bytes(chance.randbytes(200)) + packed[at + 200 :]
        return packed[: len(packed) // 2] if way == "cut" else packed


def _laid_out(root: Path, release: str, way: str, top: Path) -> None:
    source = root / "usr/share/initramfs-tools"
    for name in ("bin", "conf/conf.d", "etc", "lib", "sbin", "run", "usr", "var/lock"):
        (top / name).mkdir(parents=True, exist_ok=True)
    shutil.copytree(source / "scripts", top / "scripts")
    for folder in [path for path in (top / "scripts").iterdir() if path.is_dir()]:
        shutil.rmtree(folder)  # hooks of udev and others, whose programs are not brought along
    shutil.copy(source / "init", top / "init")
    shutil.copy(root / "bin/busybox", top / "bin/busybox")
    for name in (root / "usr/lib/klibc/bin").iterdir():
        shutil.copy(name, top / "bin" / name.name)
    shutil.copy(next((root / "lib").glob("klibc-*.so")), top / "lib")
    if way != "no blkid":
        _program(root, top, "sbin/blkid")
    for name in ("sh", "modprobe", "awk", "sed", "grep", "ls", "cat", "mountpoint", "tr", "rm", "touch", "wc"):
        (top / "bin" / name).unlink(missing_ok=True)
        (top / "bin" / name).symlink_to("busybox")
    (top / "sbin/modprobe").symlink_to("../bin/busybox")
    if way == "no blkid":
        (top / "sbin/blkid").symlink_to("../bin/busybox")
    (top / "conf/arch.conf").write_text("DPKG_ARCH=arm64\n")
    (top / "conf/initramfs.conf").write_text("MODULES=most\nBUSYBOX=y\nKEYMAP=n\nBOOT=local\n")
    left_out = {"no file system": "ext4", "no checksums": "crc32c_generic"}.get(way)
    wanted = [name for name in MODULES if name != left_out]
    (top / "conf/modules").write_text("\n".join(wanted) + "\n")
    named = "5.10.0-99-arm64" if way == "another release" else release
    modules = top / "lib/modules" / named
    modules.mkdir(parents=True)
    for name in ("modules.builtin", "modules.order", "modules.builtin.modinfo"):
        if (root / "lib/modules" / release / name).exists():
            shutil.copy(root / "lib/modules" / release / name, modules)
    for path in _with_needed(root / "lib/modules" / release, wanted):
        (modules / path).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(root / "lib/modules" / release / path, modules / path)
    subprocess.run(["depmod", "-b", str(top), named], check=True, capture_output=True)
    if way == "no journal":
        next(modules.rglob("jbd2.ko*")).unlink()
    if way == "no init":
        (top / "init").unlink()
    elif way == "init without rights":
        (top / "init").chmod(0o644)
    elif way == "shell gone":
        (top / "bin/sh").unlink()
    elif way == "other processor":
        shutil.copy("/bin/true", top / "bin/busybox")


def _program(root: Path, top: Path, name: str) -> None:
    """A program with the libraries it names (readelf), as the scripts that make one copy them."""
    waiting = [root / name]
    while waiting:
        path = waiting.pop()
        to = top / path.resolve().relative_to(root.resolve())
        inside = top / path.relative_to(root)
        if inside.exists():
            continue
        inside.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(path, inside)
        if to != inside and not to.exists():
            to.parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(path, to)
        told = subprocess.run(["readelf", "-ld", str(path)], capture_output=True, text=True, check=True).stdout
        names = re.findall(r"Shared library: \[(.+?)\]|program interpreter: (.+?)\]", told)
        for library, interpreter in names:
            if interpreter:
                waiting.append(root / interpreter.lstrip("/"))
            else:
                found = [*root.glob(f"lib/*/{library}"), *root.glob(f"usr/lib/*/{library}")]
                waiting.append(found[0])


def _with_needed(folder: Path, names: list[str]) -> list[str]:
    """Modules and what they depend on, by their paths (modules.dep is not there yet: it is made here)."""
    with tempfile.TemporaryDirectory() as held:
        copy = Path(held) / "lib/modules" / folder.name
        copy.parent.mkdir(parents=True)
        shutil.copytree(folder, copy, symlinks=True)
        subprocess.run(["depmod", "-b", held, folder.name], check=True, capture_output=True)
        rows = dict(line.split(":", 1) for line in (copy / "modules.dep").read_text().splitlines())
    found: list[str] = []
    for path, needed in rows.items():
        if re.sub(r"\.ko.*", "", path.rpartition("/")[2]) in names:
            found += [path, *needed.split()]
    return list(dict.fromkeys(found))


def _packed(top: Path, how: str) -> bytes:
    names = subprocess.run(["find", "."], cwd=top, capture_output=True, check=True).stdout
    archive = subprocess.run(
        ["cpio", "-o", "-H", "newc", "--quiet", "-R", "0:0"], cwd=top, input=names, capture_output=True, check=True
    ).stdout
    return subprocess.run(PACKERS[how], input=archive, capture_output=True, check=True).stdout


def started(bench: Bench, card: Path) -> tuple[str, str]:
    """What the card's kernel comes to with its own initramfs and line: init, no root, panic words; and all it said."""
    from kyklon.base.running import Talk, run_watched

    settings = bench.settings
    assert settings is not None
    with tempfile.TemporaryDirectory(prefix="kernel-", dir=card.parent) as held:
        given = {}
        for key, name in (("-kernel", bench.kernel_name), ("-initrd", settings.initramfs)):
            if name:
                given[key] = _fetched(bench, card, name, Path(held) / key)
        line = re.sub(r"\bquiet\b", "", settings.kernel_line) + " console=ttyAMA0 loglevel=6"
        command = [
            *("qemu-system-aarch64", "-M", "virt", "-cpu", "cortex-a57", "-m", "1024", "-nographic", "-nic", "none"),
            *(word for pair in given.items() for word in (pair[0], str(pair[1]))),
            *("-append", line, "-device", "sdhci-pci", "-device", "sd-card,drive=d"),
            *("-drive", f"if=none,file={card},format=raw,id=d,snapshot=on"),
        ]

        def ended(said: bytes, quiet: float) -> bool:
            return any(mark in said for mark in _ENDS) and quiet > 1.0

        ran = run_watched(command, Path(held), seconds=SECONDS, title="judge", talk=Talk(ended, lambda _said: b""))
    said = ran.said.decode("utf-8", "replace").replace("\r", "")
    return _came_to(said), said


_ENDS = (
    b"Kernel panic",
    b"(initramfs)",
    b"systemd[1]:",
    b"/ #",
    b"Welcome to",
    b"can't access tty",
    b"Dropping to a shell",
)


def _came_to(said: str) -> str:
    if "systemd[1]:" in said or "Welcome to" in said:
        return "init"
    if "Attempted to kill init" in said:
        return "panic"
    if re.search(r"Failed to execute /init|Run /bin/sh as init", said):
        return "root partition"
    if re.search(r"No init found|No working init|Target filesystem doesn't have requested", said):
        return "init"
    if re.search(r"Gave up waiting|ALERT!|VFS: Unable to mount|Cannot open root|initramfs\)|Failed to mount", said):
        return "no root"
    return "nothing"


def _fetched(bench: Bench, card: Path, name: str, to: Path) -> Path:
    """A file of the boot partition, by general-purpose tools."""
    part = next(part for part in bench.contents.table.partitions if part.number == bench.contents.boot_number)  # type: ignore[union-attr]
    if not bench.contents.exact_names:
        command = ["mcopy", "-o", "-i", f"{card}@@{part.start}", f"::/{name}", str(to)]
    else:
        command = ["debugfs", "-R", f"dump /{name} {to}", f"{card}?offset={part.start}"]
    subprocess.run(command, check=True, capture_output=True)
    return to
