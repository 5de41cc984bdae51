"""The demo's card image: a real MBR, FAT32 and ext4, made with the usual tools, packed as .img.xz."""

from __future__ import annotations

import hashlib
import lzma
import os
from collections.abc import Mapping
from pathlib import Path

from kyklon.base import scratch, tools
from kyklon.demo.noise import device_tree, kernel_32, kernel_64, program_32

MIB = 1 << 20
EPOCH = 1_780_272_000  # 1 June 2026, the image's release date
BOOT_START, BOOT_SIZE, ROOT_SIZE = 4 * MIB, 48 * MIB, 32 * MIB  # bytes; FAT32 needs 65 525 clusters of 512 bytes
_FIXED = {"SOURCE_DATE_EPOCH": str(EPOCH), "E2FSPROGS_FAKE_TIME": str(EPOCH), "MTOOLSRC": "/dev/null"}

BOOT_FILE = """\
merrow settings 2
-- Quayside. A line that begins with two dashes is a remark; of two lines for one word the later counts.
-- A line for some boards only begins with their names.
kernel.file = merrow-armv8.krn
sound.route = digital
memory.video = 128
on sprat: memory.video = 64
-- A mode that most screens know:
picture.timing = 25175000 640/16/96/48- 480/10/2/33-
start.greeting = off
on ling, cod: fan.start_celsius = 60
"""
KERNEL_LINE = "console=serial0,115200 console=tty1 root=/dev/mmcblk0p2 rootfstype=ext4 rootwait quiet\n"
EXTLINUX = """\
# for boards that read this file instead
DEFAULT quayside
LABEL quayside
  LINUX /merrow-armv8.krn
  FDT /ling.dtb
  APPEND root=/dev/mmcblk0p2 rootwait quiet
"""
FIRST_BOOT = "-- read once, at first boot\nuser.name = player\nnetwork.country =\nnetwork.name = quayside\n"
SERVICES = ("network", "shutdown-watcher", "sound", "gangway")
QUAYSIDE, HARBOUR, NEXT = "quayside", "harbour", "quayside-next"
EXTRAS = (
    "bus-two-wire",
    "bus-sound",
    "bus-four-wire",
    "bus-serial",
    "shutdown-button",
    "fan-switch",
    "sound-stage",
    "day-clock",
    "marquee-panel",
    "power-lamp",
    "stick-bank",
    "stick-bank-two",
    "parallel-video",
    "key-matrix",
)
RELEASES = {
    QUAYSIDE: b"Quayside 4.2, 2026-06-01\n",
    HARBOUR: b"Harbour Lite, 2026-03-18\n",
    NEXT: b"Quayside 4.3, 2026-10-12\n",
}
PLAYER = 1000  # the player's number
INIT = """\
#!/bin/sh
# Quayside starts here: file systems, the settings of the first start, the services in their order.
PATH=/usr/bin:/bin
export PATH
mount -t proc proc /proc
mount -t sysfs sys /sys
mount -o remount,rw /
mount -a
setting() {
  sed -n "s/^$1 *= *//p" /boot/first-boot.settings 2>/dev/null | tr -d '\\r' | tail -n 1
}
if [ -f /boot/first-boot.sh ] && [ ! -f /etc/first-boot-done ]; then
  sh /boot/first-boot.sh
  : > /etc/first-boot-done
  sync
fi
user=$(setting user.name)
user=${user:-player}
services=$(tr -d '\\r' 2>/dev/null < /boot/services.list | sed -e '/^ *#/d')
[ -n "$services" ] || services=$(ls /etc/services.d | sed 's/[.]service$//')
for name in $services; do
  unit=/etc/services.d/$name.service
  if [ ! -f "$unit" ]; then
    echo "start: $name: no such service"
    continue
  fi
  program=$(sed -n 's/^ExecStart=//p' "$unit" | tail -n 1)
  echo "start: $name"
  if grep -q '^Type=oneshot' "$unit"; then
    if ! grep -q "^$user:" /etc/passwd; then
      echo "start: login incorrect: $user"
      exec sh
    fi
    su "$user" -c "exec $program"
    echo "start: $name has ended"
  else
    $program &
  fi
done
echo "start: nothing more to start"
exec sh
"""
TOOLS = (
    "sh",
    "mount",
    "sed",
    "tr",
    "tail",
    "ls",
    "grep",
    "su",
    "sleep",
    "mkdir",
    "cat",
    "chmod",
    "chown",
    "awk",
    "head",
    "cut",
    "mv",
    "ln",
    "sync",
    "i2cset",
)
ON_AND_ON = "while :; do\n  sleep 60\ndone\n"


def make_image(path: Path, flavour: str = QUAYSIDE) -> None:
    """Write the packed image to `path` (.img.xz). Raises ToolError when a system tool is missing."""
    make_card(path, boot_files(flavour), root_tree(flavour=flavour))


def make_card(path: Path, boot_tree: Mapping[str, bytes], root: Mapping[str, bytes | str]) -> None:
    """A packed image (.img.xz) of a card with these files on its boot partition and on its root."""
    with scratch.folder("demo") as held:
        work = Path(held)
        boot, root_volume, whole = work / "boot.fat", work / "root.ext4", work / "whole.img"
        _make_fat(boot, work / "boot", boot_tree)
        make_ext4(root_volume, work / "root", root, ROOT_SIZE)
        _join(whole, boot, root_volume)
        with lzma.open(path, "wb", preset=1) as packed, whole.open("rb") as file:
            while block := file.read(4 * MIB):
                packed.write(block)


def _dated(path: Path) -> None:
    os.utime(path, (EPOCH, EPOCH))


def boot_files(flavour: str = QUAYSIDE) -> dict[str, bytes]:
    """The boot partition's files."""
    services = services_of(flavour)
    files = {
        "merrow.settings": BOOT_FILE.encode(),
        "kernel.line": KERNEL_LINE.encode(),
        "extlinux/extlinux.conf": EXTLINUX.encode(),
        "first-boot.settings": FIRST_BOOT.encode(),
        "services.list": "".join(f"{name}\n" for name in services).encode(),
        "merrow-armv6.krn": kernel_32("ARMv6"),
        "merrow-armv7.krn": kernel_32("ARMv7"),
        "merrow-armv8.krn": kernel_64(),
        "readme.txt": b"Quayside: put the card in the board and switch on.\r\n",
    }
    if flavour == NEXT:  # a longer boot file, a kernel for one board less
        files["merrow.settings"] += b"-- New in 4.3: the menu dims after so many minutes.\nmenu.dim_minutes = 10\n"
        files["readme.txt"] = b"Quayside 4.3: keep your saves before you write it.\r\n"
        del files["merrow-armv6.krn"]
    for board in ("sprat", "herring", "cod", "ling"):
        files[f"{board}.dtb"] = device_tree(f"Merrow {board.capitalize()}", f"merrow,{board}")
    for name in EXTRAS:
        files[f"extras/{name}.dtbo"] = device_tree(name, "merrow,header")
    files["checksums"] = checksums({name: data for name, data in files.items() if name.endswith((".krn", ".dtb"))})
    return files


def services_of(flavour: str) -> tuple[str, ...]:
    """What its services.list starts, in order."""
    if flavour == NEXT:
        return (*SERVICES[:-1], "clock", SERVICES[-1])
    return SERVICES if flavour == QUAYSIDE else (*SERVICES[:-1], "installer", SERVICES[-1])


def checksums(files: Mapping[str, bytes]) -> bytes:
    """A list as sha256sum(1) writes it."""
    return "".join(f"{hashlib.sha256(data).hexdigest()}  {name}\n" for name, data in files.items()).encode()


def _make_boot(path: Path, tree: Path, flavour: str = QUAYSIDE) -> None:
    _make_fat(path, tree, boot_files(flavour))


def _make_fat(path: Path, tree: Path, files: Mapping[str, bytes]) -> None:
    for name, data in files.items():
        file = tree / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(data)
        _dated(file)
    for folder in dict.fromkeys(name.partition("/")[0] for name in files if "/" in name):
        _dated(tree / folder)
    with path.open("wb") as image:
        image.truncate(BOOT_SIZE)
    tools.run(
        ["mkfs.fat", "-F", "32", "-s", "1", "-n", "QUAYBOOT", "-i", "4b594b31", "--invariant", str(path)],
        environment=_FIXED,
    )
    names = sorted(str(each) for each in tree.iterdir())
    tools.run(["mcopy", "-s", "-m", "-i", str(path), *names, "::/"], environment=_FIXED)


def root_tree(device: str = "/dev/mmcblk0p1", flavour: str = QUAYSIDE) -> dict[str, bytes | str]:
    """The root partition's files by path; a name that ends in / is an empty folder, a str is where a link leads.

    device: the boot partition's. HARBOUR has no front end yet, and an installer that fetches it.
    """
    programs: dict[str, bytes] = {
        "bin/busybox": program_32("busybox"),
        "sbin/init": INIT.encode(),
        "usr/bin/gangway": f'#!/bin/sh\n# stands for the front end\necho "gangway: the menu"\n{ON_AND_ON}'.encode(),
        "usr/bin/shutdown-watcher": f"#!/bin/sh\n# stands for the watcher\n{ON_AND_ON}".encode(),
        "usr/bin/network": b"#!/bin/sh\nexit 0\n",
        "usr/bin/sound": b"#!/bin/sh\nexit 0\n",
    }
    services: tuple[str, ...] = SERVICES
    if flavour == HARBOUR:
        del programs["usr/bin/gangway"]
        programs["usr/bin/installer"] = b"#!/bin/sh\n# stands for the installer\nexit 0\n"
        services = (*SERVICES[:-1], "installer")
    if flavour == NEXT:
        programs["usr/bin/clock"] = b"#!/bin/sh\n# stands for what sets the clock\nexit 0\n"
        services = services_of(flavour)
    for service in services:
        kind = "Type=oneshot\n" if service in ("gangway", "installer") else ""
        after = "After=network\n" if service in ("gangway", "installer") else ""
        unit = f"[Unit]\nDescription={service}\n{after}[Service]\n{kind}ExecStart=/usr/bin/{service}\n"
        programs[f"etc/services.d/{service}.service"] = unit.encode()
    files: dict[str, bytes | str] = {
        "etc/passwd": b"root:x:0:0:root:/root:/bin/sh\nplayer:x:1000:1000:player:/home/player:/bin/sh\n",
        "etc/group": b"root:x:0:\nplayer:x:1000:\n",
        "etc/fstab": f"{device} /boot vfat ro 0 0\n".encode(),
        "etc/hostname": b"quayside\n",
        "etc/image-release": RELEASES[flavour],
        "etc/checksums": checksums({f"/{name}": data for name, data in programs.items()}),
        **{f"bin/{tool}": "busybox" for tool in TOOLS},
        **programs,
    }
    for folder in ("home/player", "games", "system-files", "boot", "dev", "proc", "root", "run", "sys", "tmp"):
        files[f"{folder}/"] = b""
    return files


def make_ext4(path: Path, tree: Path, files: Mapping[str, bytes | str], size: int) -> None:
    """An ext4 file system of `size` bytes with these files, laid out in the folder `tree` first: root's but for what
    lies in the player's home, and the same bytes every time."""
    for name, data in files.items():
        file = tree / name
        file.parent.mkdir(parents=True, exist_ok=True)
        if name.endswith("/"):
            file.mkdir(parents=True, exist_ok=True)
        elif isinstance(data, str):
            file.symlink_to(data)
        else:
            file.write_bytes(data)
            file.chmod(0o755 if "bin/" in name else 0o644)
    for each in sorted(tree.rglob("*"), reverse=True):
        os.utime(each, (EPOCH, EPOCH), follow_symlinks=False)
    _dated(tree)
    with path.open("wb") as image:
        image.truncate(size)
    options = "root_owner=0:0,hash_seed=4b594b00-0000-4000-8000-000000000002,lazy_itable_init=0"
    labels = ["-L", "quayroot", "-U", "4b594b00-0000-4000-8000-000000000001"]
    tools.run(
        ["mkfs.ext4", "-q", *labels, "-E", options, "-d", str(tree), str(path)],
        environment=_FIXED,
    )
    # a copied file's change time and owner are those of this minute and this user: set them, for the same bytes
    lines = []
    for each in sorted(tree.rglob("*")):
        inside = f"/{each.relative_to(tree).as_posix()}"
        owner = PLAYER if inside.startswith(("/home/", "/games", "/system-files")) else 0
        values = (("ctime", f"@{EPOCH}"), ("uid", owner), ("gid", owner))
        lines += [f"sif {inside} {name} {value}" for name, value in values]
    lines += [f"sif / ctime @{EPOCH}", f"ssv wtime @{EPOCH}"]
    tools.run(["debugfs", "-w", "-f", "-", str(path)], stdin="\n".join(lines).encode(), environment=_FIXED)


def _join(whole: Path, boot: Path, root: Path) -> None:
    root_start = BOOT_START + BOOT_SIZE
    with whole.open("wb") as file:
        file.truncate(root_start + ROOT_SIZE)
    script = (
        f"label: dos\nlabel-id: 0x4b594b31\nunit: sectors\n"
        f"start={BOOT_START // 512}, size={BOOT_SIZE // 512}, type=c, bootable\n"
        f"start={root_start // 512}, size={ROOT_SIZE // 512}, type=83\n"
    )
    tools.run(["sfdisk", "--quiet", str(whole)], stdin=script.encode())
    with whole.open("r+b") as file:
        for start, part in ((BOOT_START, boot), (root_start, root)):
            file.seek(start)
            file.write(part.read_bytes())
