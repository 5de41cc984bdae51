# ruff: noqa: E501 # tables
"""Cards broken at random, seeded, for the outside judges: what is on them is the demo image's, small and whole at first."""

from __future__ import annotations

import random
import shutil
import subprocess
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from kyklon.demo import card_image, sets
from kyklon.demo.noise import device_tree, kernel_32, kernel_64
from kyklon.operations.card.volumes.ext_reader import ExtReader
from kyklon.operations.card.volumes.fat_reader import FatReader
from kyklon.operations.card.volumes.partitions import reader

MIB = 1 << 20
BOOT, ROOT = card_image.BOOT_START, card_image.BOOT_START + card_image.BOOT_SIZE
ROOT_SIZE = 16 * MIB
LINE = "console=tty1 root=/dev/mmcblk0p2 rootfstype=ext4 rootwait"
KERNEL = "/merrow-armv8.krn"
EXTLINUX = (
    f"# a remark\nDEFAULT quayside\nLABEL quayside\n  LINUX {KERNEL}\n  APPEND {LINE}\nLABEL spare\n"
    f"  LINUX {KERNEL}\n  APPEND {LINE} single\n"
)


@dataclass(frozen=True)
class Broken:
    """A card and what was done to it. line: the kernel line that the firmware would hand over."""

    path: Path
    what: str
    line: str = LINE


def whole_card(folder: Path) -> Path:
    """A small card whose programs this machine can run, boot files in /boot of the root too. Made once in a folder."""
    card = folder / "whole.img"
    if card.exists():
        return card
    folder.mkdir(parents=True, exist_ok=True)
    files = card_image.root_tree("/dev/ubda1")
    files["bin/busybox"] = Path(shutil.which("busybox") or "/bin/busybox").read_bytes()
    for name, data in card_image.boot_files().items():
        if name.endswith((".list", ".settings")):
            files[f"boot/{name}"] = data
    sums = {
        f"/{name}": data
        for name, data in files.items()
        if isinstance(data, bytes) and name.startswith(("bin/", "sbin/", "usr/bin/", "etc/services.d/"))
    }
    files["etc/checksums"] = card_image.checksums(sums)
    boot, root = folder / "boot.fat", folder / "root.ext4"
    card_image._make_boot(boot, folder / "boot")
    card_image.make_ext4(root, folder / "root", files, ROOT_SIZE)
    script = (
        f"label: dos\nlabel-id: 0x4b594b31\nunit: sectors\nstart={BOOT // 512}, size={card_image.BOOT_SIZE // 512},"
        f" type=c, bootable\nstart={ROOT // 512}, size={ROOT_SIZE // 512}, type=83\n"
    )
    with card.open("wb") as file:
        file.truncate(ROOT + ROOT_SIZE)
    subprocess.run(["sfdisk", "--quiet", card], input=script.encode(), check=True)
    with card.open("r+b") as file:
        for start, part in ((BOOT, boot), (ROOT, root)):
            file.seek(start)
            file.write(part.read_bytes())
    return card


def chooser_card(card: Path) -> Path:
    """A multi-boot card: one FAT partition with the chooser's kernels and two bundles."""
    folder = card.with_suffix(".tree")
    sets.make_multi_boot(folder, mistakes=False)
    for spare in ("breakwater", "jetty"):
        shutil.rmtree(folder / "berths" / spare)
    files = {
        "slipway-armv7.krn": kernel_32("ARMv7", 120_000),
        "slipway-armv8.krn": kernel_64(200_000),
        "merrow.settings": b"merrow settings 2\n",
        "kernel.line": b"console=tty1\n",
    }
    files |= {f"{board}.dtb": device_tree(f"Merrow {board.capitalize()}", f"merrow,{board}") for board in sets.BOARDS}
    for name, data in files.items():
        (folder / name).write_bytes(data)
    with card.open("wb") as file:
        file.truncate(BOOT + card_image.BOOT_SIZE)
    table = f"label: dos\nunit: sectors\nstart={BOOT // 512}, size={card_image.BOOT_SIZE // 512}, type=c, bootable\n"
    subprocess.run(["sfdisk", "--quiet", card], input=table.encode(), check=True)
    place = ["--offset", str(BOOT // 512), card, str(card_image.BOOT_SIZE // 1024)]
    subprocess.run(["mkfs.fat", "-F", "32", "-s", "1", *place], check=True, stdout=subprocess.DEVNULL)
    subprocess.run(["mcopy", "-s", "-i", f"{card}@@{BOOT}", *folder.iterdir(), "::/"], check=True)
    return card


def copied(whole: Path, to: Path) -> Path:
    subprocess.run(["cp", "--sparse=always", whole, to], check=True)
    return to


def poke(card: Path, at: int, data: bytes) -> None:
    with card.open("r+b") as file:
        file.seek(at)
        file.write(data)


def peek(card: Path, at: int, length: int) -> bytes:
    with card.open("rb") as file:
        file.seek(at)
        return file.read(length)


def put_fat(card: Path, name: str, data: bytes) -> None:
    source = card.with_suffix(".part")
    source.write_bytes(data)
    subprocess.run(["mcopy", "-o", "-i", f"{card}@@{BOOT}", source, f"::/{name}"], check=True)


def debugfs(card: Path, *commands: str) -> None:
    subprocess.run(
        ["debugfs", "-w", "-f", "-", f"{card}?offset={ROOT}"],
        input="\n".join(commands).encode(),
        check=True,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )


# --- for the boot loader -------------------------------------------------------------------------------------------


def _text(rng: random.Random) -> str:
    """A boot file with one to three things done to it."""
    text = EXTLINUX
    for _ in range(rng.randint(1, 3)):
        text = rng.choice(_TEXT)(text, rng)
    return text


def _lines(change: Callable[[list[str], int, random.Random], object]) -> Callable[[str, random.Random], str]:
    def act(text: str, rng: random.Random) -> str:
        lines = text.split("\n")
        change(lines, rng.randrange(max(1, len(lines) - 1)), rng)
        return "\n".join(lines)

    return act


def _swap(lines: list[str], at: int, rng: random.Random) -> None:
    other = rng.randrange(len(lines))
    lines[at], lines[other] = lines[other], lines[at]


_WORDS = (
    "  SAY hello",
    "  INITRD /readme.txt",
    "  INITRD /none",
    "MENU TITLE Games",
    "  MENU LABEL One",
    "  MENU DEFAULT",
    "TIMEOUT 20",
    "PROMPT 1",
    "ONTIMEOUT spare",
    "  FDT /ling.dtb",
    "  FDTDIR /",
    "  LOCALBOOT 1",
    "  KERNEL /readme.txt",
    "DEFAULT none",
    "LABEL extra",
    "  APPEND quiet",
    "  LINUX /merrow-armv7.krn",
    "  LINUX",
    "# remark",
    "  kaslrseed",
    "  IPAPPEND 0",
    "BACKGROUND x.bmp",
    "frobnicate 1",
    "  APPEND a=${b} 'c d' e",
    "  LINUX merrow-armv8.krn",
)
_TEXT: tuple[Callable[[str, random.Random], str], ...] = (
    _lines(lambda lines, at, rng: lines.pop(at)),
    _lines(lambda lines, at, rng: lines.insert(at, lines[at])),
    _lines(_swap),
    _lines(lambda lines, at, rng: lines.insert(at, rng.choice(_WORDS))),
    _lines(lambda lines, at, rng: lines.insert(at, rng.choice(_WORDS))),
    _lines(lambda lines, at, rng: lines.__setitem__(at, lines[at].swapcase())),
    _lines(lambda lines, at, rng: lines.__setitem__(at, lines[at].split("/")[0].rstrip())),
    _lines(
        lambda lines, at, rng: lines.__setitem__(
            at,
            lines[at].replace(
                KERNEL,
                rng.choice(
                    (
                        "/none",
                        "../merrow-armv8.krn",
                        "merrow-armv8.krn",
                        "//merrow-armv8.krn",
                        "/./merrow-armv8.krn",
                        KERNEL.upper(),
                        "/extlinux/../merrow-armv8.krn",
                        KERNEL + " ",
                        "/readme.txt",
                        "/merrow-armv6.krn",
                    )
                ),
            ),
        )
    ),
    lambda text, rng: text.replace("\n", "\r\n"),
    lambda text, rng: "\ufeff" + text,
    lambda text, rng: text[: rng.randrange(len(text))],
    lambda text, rng: text.replace("\n", "\n\n"),
    lambda text, rng: text.replace("  ", "\t"),
    lambda text, rng: text.replace(LINE, LINE + " x" * rng.choice((10, 220, 240, 400))),
    lambda text, rng: (lambda at: text[:at] + chr(rng.randrange(1, 127)) + text[at + 1 :])(rng.randrange(len(text))),
)


def for_loader(whole: Path, to: Path, seed: int) -> Broken:
    """A card broken for the boot loader."""
    rng = random.Random(f"loader {seed}")
    card = copied(whole, to)
    kind = rng.choices(("text", "fat", "table", "files"), (50, 25, 12, 13))[0]
    put_fat(card, "extlinux/extlinux.conf", (_text(rng) if kind == "text" else EXTLINUX).encode())
    if kind == "fat":
        return Broken(card, _fat(card, rng))
    if kind == "table":
        return Broken(card, _table(card, rng))
    if kind == "files":
        return Broken(card, _files(card, rng))
    return Broken(card, "text")


def _fat(card: Path, rng: random.Random) -> str:
    """Bytes of the boot sector, the tables or a folder."""
    with card.open("rb") as file:
        volume = FatReader(reader(file.fileno()), BOOT)
        shape = volume.geometry
        folders = [shape.data + (shape.root_cluster - 2) * shape.cluster]
        folders += [shape.data + (each.cluster - 2) * shape.cluster for each, folder in volume.everything() if folder]
        files = {each.path: each for each, folder in volume.everything() if not folder}
    where = rng.choice(("sector", "sector", "table", "entry", "folder", "folder", "folder"))
    if where == "sector":
        at = rng.choice(
            (11, 12, 13, 14, 15, 16, 17, 22, 32, 33, 36, 37, 38, 44, 45, 48, 66, 82, 83, 510, 511, 0, 21, 54)
        )
    elif where == "table":
        at = shape.table + rng.randrange(0, 64)
    elif where == "entry":
        kernel = files["merrow-armv8.krn"]
        at = shape.table + 4 * (kernel.cluster + rng.randrange(0, 3)) + rng.randrange(4)
    else:
        at = rng.choice(folders) + rng.randrange(0, 512)
    value = rng.choice((0, 1, 0x80, 0xFF, rng.randrange(256)))
    poke(card, BOOT + at, bytes([value]))
    return f"fat {where} byte {at} = {value:#x}"


def _table(card: Path, rng: random.Random) -> str:
    if rng.random() < 0.3:
        marks = rng.choice(((0, 0), (0, 0x80), (0x80, 0x80), (0x80, 0)))
        for index, mark in enumerate(marks):
            poke(card, 446 + 16 * index, bytes([mark]))
        return f"table marks {marks}"
    at = rng.choice([*range(446, 478), 510, 511, 478, 482, 494])
    value = rng.choice((0, 1, 0x80, 0xFF, 0x83, 0x0C, 0xEF, 0xEE, rng.randrange(256)))
    poke(card, at, bytes([value]))
    return f"table byte {at} = {value:#x}"


def _files(card: Path, rng: random.Random) -> str:
    what = rng.choice(("remove", "cut", "empty", "head", "remove conf", "rename", "in boot", "in boot, broken"))
    data = card_image.boot_files()["merrow-armv8.krn"]
    if what == "remove":
        subprocess.run(["mdel", "-i", f"{card}@@{BOOT}", f"::{KERNEL}"], check=True)
    elif what == "remove conf":
        subprocess.run(["mdel", "-i", f"{card}@@{BOOT}", "::/extlinux/extlinux.conf"], check=True)
    elif what.startswith("in boot"):
        subprocess.run(["mdel", "-i", f"{card}@@{BOOT}", "::/extlinux/extlinux.conf"], check=True)
        subprocess.run(["mmd", "-i", f"{card}@@{BOOT}", "::/boot", "::/boot/extlinux"], check=True)
        put_fat(card, "boot/extlinux/extlinux.conf", (EXTLINUX if what == "in boot" else _text(rng)).encode())
    elif what == "cut":
        put_fat(card, KERNEL, data[: rng.choice((10, 56, 60, 64, 5000))])
    elif what == "empty":
        put_fat(card, KERNEL, b"")
    elif what == "rename":
        subprocess.run(["mren", "-i", f"{card}@@{BOOT}", f"::{KERNEL}", "::/MERROW~9.KRN"], check=True)
    else:
        at = rng.randrange(0x30, 0x40)
        put_fat(card, KERNEL, data[:at] + bytes([rng.randrange(256)]) + data[at + 1 :])
        what += f" {at:#x}"
    return f"files {what}"


# --- for the kernel ------------------------------------------------------------------------------------------------

_ROOTS = (
    "/dev/mmcblk0p2",
    "/dev/mmcblk0p1",
    "/dev/mmcblk0p3",
    "/dev/mmcblk0p02",
    "/dev/mmcblk0",
    "mmcblk0p2",
    "PARTUUID=4b594b31-02",
    "PARTUUID=4B594B31-02",
    "partuuid=4b594b31-02",
    "PARTUUID=4b594b31-03",
    "PARTUUID=4b594b31",
    "PARTUUID=deadbeef-02",
    "UUID=4b594b00-0000-4000-8000-000000000001",
    "LABEL=quayroot",
    "179:2",
    "179:1",
    "179:3",
    "b302",
    "B302",
    "b301",
    "PARTUUID=4b594b31-01/PARTNROFF=1",
    "/dev/root",
    "",
    '"/dev/mmcblk0p2"',
    "/dev/mmcblk1p2",
    "PARTLABEL=root",
    "/dev/disk/by-label/quayroot",
)
_EXTRA = (
    "init=/bin/sh",
    "init=/sbin/none",
    "init=/sbin/init",
    "rootfstype=ext3",
    "rootfstype=ext2,ext4",
    "rootfstype=vfat",
    "rootflags=noatime",
    "rootflags=frob",
    "ro",
    "rw",
    "single",
    "-- root=/dev/mmcblk0p1",
    'greet="good day"',
    '"open',
    "quiet",
    "rootdelay=0",
    "init=/etc/passwd",
    "rootwait=1",
    "ROOTWAIT",
    "root=/dev/mmcblk0p2",
    "rootfstype=",
    "init=",
    "rootflags=data=ordered",
    "rootflags=commit=5",
    "rootflags=commit=x",
    "rootflags=data=now",
    "rootflags=errors=panic",
    "rootflags=discard=1",
    "rootflags=barrier=0",
    "rootflags=barrier",
    "rootflags=stripe=08",
    "rootflags=inode_readahead_blks=3",
    "rootflags=journal_ioprio=9",
    "rootflags=nodelalloc,commit=30",
    "nousb",
    "rootflags=usrjquota=x",
    "rootflags=usrjquota=x,jqfmt=vfsv0",
    "rootflags=prjquota",
    "rootflags=usrquota",
    "rootflags=usrjquota=x,grpquota,jqfmt=vfsv1",
    "rootflags=grpjquota=",
    "rootflags=quota",
)


def _line(rng: random.Random) -> str:
    words = ["console=tty1", f"root={rng.choice(_ROOTS)}" if rng.random() < 0.75 else "root=/dev/mmcblk0p2"]
    if rng.random() < 0.6:
        words.append("rootwait")
    if rng.random() < 0.4:
        words.append("rootfstype=ext4")
    words += rng.sample(_EXTRA, rng.choice((0, 0, 1, 1, 2)))
    rng.shuffle(words)
    return " ".join(words)


def for_kernel(whole: Path, to: Path, seed: int) -> Broken:
    """A card, or a kernel line, broken for the kernel and what it starts."""
    rng = random.Random(f"kernel {seed}")
    card = copied(whole, to)
    kind = rng.choices(("line", "table", "volume", "files", "journal"), (28, 12, 30, 18, 12))[0]
    if kind == "journal":
        line = (
            f"{LINE} {rng.choice(('', '', 'ro', 'rw', 'rootflags=noload', 'rootflags=noload rw', 'rootfstype=ext2'))}"
        )
        return Broken(card, f"{_in_journal(card, rng)} {line.removeprefix(LINE)}", line.strip())
    if kind == "line":
        line = _line(rng)
        return Broken(card, f"line {line}", line)
    if kind == "table":
        return Broken(card, _table(card, rng))
    if kind == "volume":
        return Broken(card, _volume(card, rng), f"{LINE}{' rw' if rng.random() < 0.2 else ''}")
    return Broken(card, _root_files(card, rng))


def _volume(card: Path, rng: random.Random) -> str:
    """Bytes of the superblock, of descriptors, of the inodes, folders and the journal that a start meets."""
    with card.open("rb") as file:
        volume = ExtReader(reader(file.fileno()), ROOT, ROOT_SIZE)
        names = (
            "/",
            "/sbin",
            "/sbin/init",
            "/bin",
            "/bin/sh",
            "/bin/busybox",
            "/usr/bin/gangway",
            "/etc",
            "/etc/passwd",
        )
        inodes = {name: volume.find(name, follow=False) for name in names}
        journal = volume._inode(8, special=True)
        places = {}
        for name, inode in (*inodes.items(), ("journal", journal)):
            group, index = divmod(inode.number - 1, volume._inodes)
            at = volume._table_of[group] * volume.block + index * volume._inode_size
            first = next((place for _logical, place, _count in volume._mapped(inode)), 0) if inode.size > 60 else 0
            places[name] = (at, first * volume.block)
        block = volume.block
    where = rng.choice(
        ("super", "super", "super", "group", "inode", "inode", "inode", "folder", "folder", "journal", "data")
    )
    name = rng.choice(names)
    if where == "super":
        field = rng.choice(
            (
                0,
                4,
                12,
                20,
                24,
                28,
                32,
                36,
                40,
                52,
                56,
                58,
                60,
                76,
                84,
                88,
                92,
                96,
                100,
                104,
                206,
                224,
                254,
                0x175,
                0x270,
                1020,
                rng.randrange(1024),
            )
        )
        at = 1024 + field + (rng.randrange(2) if field < 1020 else 0)
    elif where == "group":
        at = block * (2 if block == 1024 else 1) + rng.randrange(0, 64)
    elif where == "inode":
        at = places[name][0] + rng.randrange(0, 160)
    elif where == "folder":
        name = rng.choice(("/", "/sbin", "/bin", "/etc"))
        at = places[name][1] + rng.randrange(0, 300)
    elif where == "journal":
        name = "journal"
        at = places[name][1] + rng.choice(
            (0, 3, 7, 12, 15, 16, 19, 20, 23, 27, 31, 40, 43, 80, 252, rng.randrange(1024))
        )
    else:
        name = rng.choice(("/sbin/init", "/bin/busybox", "/usr/bin/gangway"))
        at = places[name][1] + rng.randrange(0, 120)
    old = peek(card, ROOT + at, 1)[0]
    value = rng.choice((0, 1, 0xFF, old ^ 1 << rng.randrange(8), rng.randrange(256)))
    poke(card, ROOT + at, bytes([value]))
    fixed = ""
    if where == "super" and rng.random() < 0.6:  # a wrong value with a right checksum
        _right_sum(card)
        fixed = ", summed anew"
    return f"volume {where} {name if where not in ('super', 'group') else ''} byte {at}: {old:#x} -> {value:#x}{fixed}"


def _right_sum(card: Path) -> None:
    from kyklon.operations.card.volumes.ext_sums import crc32c

    head = peek(card, ROOT + 1024, 1024)
    if int.from_bytes(head[100:104], "little") & 0x400:
        poke(card, ROOT + 1024 + 1020, crc32c(head[:1020]).to_bytes(4, "little"))


# not among them, for this judge sees them otherwise: a missing /dev (nothing here needs a device), a missing tool (busybox
# has them all inside), and the front end as init (it prints its line all the same)
def _root_files(card: Path, rng: random.Random) -> str:
    """Something that a person might do to a root partition."""
    text = card.with_suffix(".txt")
    name, commands, body = rng.choice(_ACTS)
    text.write_bytes(body)
    debugfs(card, *(command.replace("TEXT", str(text)) for command in commands))
    return f"files {name}"


def _in_journal(card: Path, rng: random.Random) -> str:
    """The same, but standing in the journal alone: what the kernel replays it gets, whole or with a byte of it wrong."""
    before = peek(card, ROOT, ROOT_SIZE)
    what = _root_files(card, rng)
    after = peek(card, ROOT, ROOT_SIZE)
    size = 1024 << int.from_bytes(before[1048:1052], "little")
    apart = [at // size for at in range(0, ROOT_SIZE, size) if before[at : at + size] != after[at : at + size]]
    poke(card, ROOT, before)
    blocks = card.with_suffix(".blocks")
    blocks.write_bytes(b"".join(after[at * size : (at + 1) * size] for at in apart))
    debugfs(card, "jo -c", f"jw -b {','.join(map(str, apart))} {blocks}", "jc")
    if rng.random() < 0.4:
        log = peek(card, ROOT, ROOT_SIZE)
        marked = [at for at in range(0, ROOT_SIZE, size) if log[at : at + 4] == bytes.fromhex("C03B3998")]
        at = rng.choice(marked) + rng.choice((rng.randrange(64), rng.randrange(size), rng.randrange(6 * size)))
        poke(card, ROOT + at, bytes([log[at] ^ 1 << rng.randrange(8)]))
        what += f", byte {at} wrong"
    return f"journal {what}"


_ACTS: tuple[tuple[str, tuple[str, ...], bytes], ...] = (
    ("no init", ("rm /sbin/init",), b""),
    ("init not executable", ("sif /sbin/init mode 0100644",), b""),
    ("init owned by a player", ("sif /sbin/init uid 1000",), b""),
    ("init a folder", ("rm /sbin/init", "mkdir /sbin/init"), b""),
    ("init empty", ("rm /sbin/init", "write TEXT /sbin/init", "sif /sbin/init mode 0100755"), b""),
    (
        "init without an interpreter",
        ("rm /sbin/init", "write TEXT /sbin/init", "sif /sbin/init mode 0100755"),
        b"echo hi\n",
    ),
    (
        "init with a carriage return",
        ("rm /sbin/init", "write TEXT /sbin/init", "sif /sbin/init mode 0100755"),
        b"#!/bin/sh\r\necho hi\r\n",
    ),
    (
        "init for a missing interpreter",
        ("rm /sbin/init", "write TEXT /sbin/init", "sif /sbin/init mode 0100755"),
        b"#!/bin/bash\necho hi\n",
    ),
    ("init a link", ("rm /sbin/init", "symlink /sbin/init /bin/sh"), b""),
    ("init a link to nothing", ("rm /sbin/init", "symlink /sbin/init nowhere"), b""),
    ("init a link to itself", ("rm /sbin/init", "symlink /sbin/init init"), b""),
    (
        "init cut short",
        ("rm /sbin/init", "write TEXT /sbin/init", "sif /sbin/init mode 0100755"),
        b"\x7fELF\x02\x01\x01",
    ),
    ("no shell", ("rm /bin/sh",), b""),
    ("no busybox", ("rm /bin/busybox",), b""),
    ("busybox not executable", ("sif /bin/busybox mode 0100644",), b""),
    ("no proc", ("rmdir /proc",), b""),
    ("no sys", ("rmdir /sys",), b""),
    (
        "no boot folder",
        ("rm /boot/services.list", "rm /boot/merrow.settings", "rm /boot/first-boot.settings", "rmdir /boot"),
        b"",
    ),
    ("no passwd", ("rm /etc/passwd",), b""),
    ("no player", ("rm /etc/passwd", "write TEXT /etc/passwd"), b"root:x:0:0:root:/root:/bin/sh\n"),
    (
        "player without a shell",
        ("rm /etc/passwd", "write TEXT /etc/passwd"),
        b"root:x:0:0:root:/root:/bin/sh\nplayer:x:1000:1000:player:/home/player:/bin/zsh\n",
    ),
    ("player without a home", ("rmdir /home/player",), b""),
    ("home of root", ("sif /home/player uid 0",), b""),
    ("no front end", ("rm /usr/bin/gangway",), b""),
    ("front end not executable", ("sif /usr/bin/gangway mode 0100644",), b""),
    ("front end for root only", ("sif /usr/bin/gangway mode 0100700",), b""),
    (
        "front end without an interpreter",
        ("rm /usr/bin/gangway", "write TEXT /usr/bin/gangway", "sif /usr/bin/gangway mode 0100755"),
        b"#!/usr/bin/python3\nprint()\n",
    ),
    ("no unit", ("rm /etc/services.d/gangway.service",), b""),
    ("no watcher", ("rm /usr/bin/shutdown-watcher",), b""),
    ("no network unit", ("rm /etc/services.d/network.service",), b""),
    ("no services", ("rm /boot/services.list",), b""),
    (
        "services without the front end",
        ("rm /boot/services.list", "write TEXT /boot/services.list"),
        b"network\nsound\n",
    ),
    (
        "services backwards",
        ("rm /boot/services.list", "write TEXT /boot/services.list"),
        b"gangway\nsound\nshutdown-watcher\nnetwork\n",
    ),
    (
        "services with carriage returns",
        ("rm /boot/services.list", "write TEXT /boot/services.list"),
        b"network\r\nshutdown-watcher\r\nsound\r\ngangway\r\n",
    ),
    (
        "services with a stranger",
        ("rm /boot/services.list", "write TEXT /boot/services.list"),
        b"# all\nbell\ngangway\n",
    ),
    ("another user", ("rm /boot/first-boot.settings", "write TEXT /boot/first-boot.settings"), b"user.name = mate\n"),
    ("root plays", ("rm /boot/first-boot.settings", "write TEXT /boot/first-boot.settings"), b"user.name = root\n"),
    ("root folder closed", ("sif / mode 040700",), b""),
    ("bin closed", ("sif /bin mode 040700",), b""),
    ("usr closed", ("sif /usr mode 040700",), b""),
    ("usr bin closed", ("sif /usr/bin mode 040700",), b""),
    ("usr bin searchable", ("sif /usr/bin mode 040711",), b""),
    ("etc closed", ("sif /etc mode 040700",), b""),
    *(
        (f"unit {number}", ("rm /etc/services.d/gangway.service", "write TEXT /etc/services.d/gangway.service"), body)
        for number, body in enumerate(
            (
                b"[Service]\r\nType=oneshot\r\nExecStart=/usr/bin/gangway\r\n",
                b"[Service]\nType=oneshot\n ExecStart=/usr/bin/gangway\n",
                b"Type=oneshot\nExecStart = /usr/bin/gangway\n",
                b"Type=oneshot\nExecStart=-/usr/bin/gangway\n",
                b'Type=oneshot\nExecStart="/usr/bin/gangway"\n',
                b"Type=oneshot\nExecStart=/usr/bin/none\nExecStart=/usr/bin/gangway\n",
                b"Type=oneshot\nExecStart=/usr/bin/gangway\nExecStart=/usr/bin/none\n",
                b"Type=oneshot\nExecStart=gangway\n",
                b"Type=simple\nExecStart=/usr/bin/gangway\n",
                b"Type=simple\nExecStart=/usr/bin/gangway --full\n",
                b"ExecStart=\n",
                b'Type=simple\nExecStart="/usr/bin/gangway"\n',
                b"Type=oneshotter\nExecStart=/usr/bin/gangway\t--x\n",
                b"Type=oneshot\nExecStart=/usr/bin/gangway",
                b"#ExecStart=/usr/bin/none\nExecStart=/usr/bin/gangway\n",
            )
        )
    ),
    (
        "a oneshot that never returns",
        ("rm /etc/services.d/sound.service", "write TEXT /etc/services.d/sound.service"),
        b"Type=oneshot\nExecStart=/usr/bin/shutdown-watcher\n",
    ),
    (
        "a oneshot that returns",
        ("rm /etc/services.d/sound.service", "write TEXT /etc/services.d/sound.service"),
        b"Type=oneshot\nExecStart=/usr/bin/network\n",
    ),
    *(
        (f"services list {number}", ("rm /boot/services.list", "write TEXT /boot/services.list"), body)
        for number, body in enumerate(
            (
                b"network shutdown-watcher sound gangway\n",
                b"network\tsound\n\tgangway\n",
                b"gangway # the menu\n",
                b" # all\ngangway",
                b"\t# all\nnetwork\n",
                b"#gangway\nsound\n",
                b"net\rwork\ngang\rway\n",
                b"\n\n",
                b"sound#\ngangway \n",
            )
        )
    ),
    (
        "passwd with a carriage return",
        ("rm /etc/passwd", "write TEXT /etc/passwd"),
        b"root:x:0:0:root:/root:/bin/sh\r\nplayer:x:1000:1000:player:/home/player:/bin/sh\r\n",
    ),
    (
        "passwd without an end",
        ("rm /etc/passwd", "write TEXT /etc/passwd"),
        b"root:x:0:0:root:/root:/bin/sh\nplayer:x:1000:1000:player:/home/player:/bin/sh",
    ),
    (
        "passwd with an empty shell",
        ("rm /etc/passwd", "write TEXT /etc/passwd"),
        b"root:x:0:0:root:/root:/bin/sh\nplayer:x:1000:1000:player:/home/player:\n",
    ),
    (
        "passwd short of fields",
        ("rm /etc/passwd", "write TEXT /etc/passwd"),
        b"root:x:0:0:root:/root:/bin/sh\nplayer:x:1000:1000\n",
    ),
    (
        "the user twice",
        ("rm /etc/passwd", "write TEXT /etc/passwd"),
        b"root:x:0:0:root:/root:/bin/sh\nplayer:x:1000:1000::/home/player:/bin/zsh\nplayer:x:0:0::/root:/bin/sh\n",
    ),
    ("marked as having errors", ("ssv state 2",), b""),
    ("not unmounted cleanly", ("ssv state 0",), b""),
    ("a feature of the future", ("feature FEATURE_I31",), b""),
    ("a read-only feature of the future", ("feature FEATURE_R31",), b""),
    ("needs recovery", ("feature needs_recovery",), b""),
    ("no journal feature", ("feature ^has_journal",), b""),
)
