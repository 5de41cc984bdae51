# ruff: noqa: E501 # a table
"""Every way in which a card, a build or a bench keeps a machine from its menu: how it is made, what is foretold.

`docs/power-on.md` holds them as a table; test_failures.py makes each one on a real card, and puts it right again.
"""

from __future__ import annotations

import struct
import subprocess
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import initramfs
from judges.cards import BOOT, ROOT, debugfs, peek, poke, put_fat
from kyklon.catalogue.loader import load, standard_timings
from kyklon.demo import card_image
from kyklon.model.build import Build, edited
from kyklon.model.controls import Proof
from kyklon.model.world import World
from kyklon.operations.card.volumes.ext_reader import ExtReader
from kyklon.operations.card.volumes.ext_sums import crc32c
from kyklon.operations.card.volumes.fat_reader import FatReader
from kyklon.operations.card.volumes.partitions import reader
from kyklon.operations.controls.acts import wired
from kyklon.operations.controls.findings import fingerprint
from kyklon.operations.controls.hookup import hookup_of

Act = Callable[[Path], object]
MERROW, LABELS, CHOOSER = "merrow", "labels", "chooser"  # CHOOSER: a multi-boot card


@dataclass(frozen=True)
class Mode:
    """way: which card, MERROW, LABELS (by its boot files) or CHOOSER. words: part of the cause. build, world: changes beside those on the card."""

    name: str
    stage: str
    code: str
    words: str = ""
    card: Act = lambda card: None
    way: str = MERROW
    build: Callable[[Build], Build] = lambda build: build
    world: Callable[[World], World] = lambda world: world


def _wiring(build: Build) -> str:
    hookup = hookup_of(build, load())
    assert hookup is not None
    return fingerprint(hookup)


def _on_the_header(build: Build) -> Build:
    return wired(build.with_part("encoder", "fairlead-bank"), load())


def _tied(build: Build) -> Build:
    """An adapter with two sync outputs on a lead that joins them."""
    made = build.with_part("adapter", "gantry-15")
    links = [
        link.model_dump() | ({"cable": "de15-21-tied"} if link.start == "adapter.out" else {}) for link in build.links
    ]
    return edited(made, "links", links)


def _second_socket(build: Build) -> Build:
    return edited(build, "links", [{"start": "board.video2", "end": "display.video", "cable": "hdmi-d-a-1m"}])


def _tube_of_a_chooser(build: Build) -> Build:
    """A tube on a board that goes by what the display says; its modes are handed over as firmware."""
    made = build.with_part("display", "casement-19")
    mode = {"name": "CTA 8", "timing": standard_timings("cta")[8].timing.model_dump()}
    return edited(edited(made, "picture.menu", mode), "picture.issue_identification", True)


# --- how a card is changed -----------------------------------------------------------------------------------------


def bytes_at(at: int, data: bytes) -> Act:
    return lambda card: poke(card, at, data)


def text(name: str, change: Callable[[str], str]) -> Act:
    """A boot file changed."""

    def act(card: Path) -> None:
        before = subprocess.run(
            ["mtype", "-i", f"{card}@@{BOOT}", f"::/{name}"], capture_output=True, check=True
        ).stdout
        put_fat(card, name, change(before.decode()).encode())

    return act


def swapped(name: str, old: str, new: str) -> Act:
    def change(before: str) -> str:
        assert old in before, (name, old, before)
        return before.replace(old, new)

    return text(name, change)


def without(name: str) -> Act:
    return lambda card: subprocess.run(["mdel", "-i", f"{card}@@{BOOT}", f"::/{name}"], check=True)


def cut(name: str, length: int) -> Act:
    return lambda card: put_fat(card, name, card_image.boot_files()[name][:length])


def root(*commands: str, body: bytes = b"") -> Act:
    def act(card: Path) -> None:
        file = card.with_suffix(".txt")
        file.write_bytes(body)
        debugfs(card, *(command.replace("TEXT", str(file)) for command in commands))

    return act


def made(path: str, body: bytes, mode: str = "0100755") -> Act:
    """A file of the root in another's place."""
    return root(f"rm {path}", f"write TEXT {path}", f"sif {path} mode {mode}", body=body)


def super_field(at: int, data: bytes) -> Act:
    """A field of the root's superblock, with a right checksum."""

    def act(card: Path) -> None:
        poke(card, ROOT + 1024 + at, data)
        head = peek(card, ROOT + 1024, 1020)
        poke(card, ROOT + 1024 + 1020, crc32c(head).to_bytes(4, "little"))

    return act


def gpt(damage: Act) -> Act:
    """The same partitions under a GPT, then damaged."""

    def act(card: Path) -> None:
        boot, rest = card_image.BOOT_SIZE, card_image.ROOT_SIZE
        with card.open("r+b") as file:
            file.truncate(ROOT + rest + (1 << 20))
        script = (
            f"label: gpt\nunit: sectors\nstart={BOOT // 512}, size={boot // 512}, type=uefi\n"
            f"start={ROOT // 512}, size={rest // 512}, type=linux\n"
        )
        subprocess.run(["sfdisk", "--quiet", "--wipe=never", card], input=script.encode(), check=True)
        damage(card)

    return act


def root_word(value: str) -> Act:
    return swapped("kernel.line", "root=/dev/mmcblk0p2", f"root={value}")


def line(extra: str) -> Act:
    return text("kernel.line", lambda before: f"{before.strip()} {extra}\n")


def labels(old: str, new: str) -> Act:
    return swapped("extlinux/extlinux.conf", old, new)


def with_initramfs(made: Callable[[], bytes], *further: Act) -> Act:
    """The boot file names an initramfs, which lies beside it."""

    def act(card: Path) -> None:
        put_fat(card, "initrd.img", made())
        labels("LINUX /merrow-armv8.krn", "LINUX /merrow-armv8.krn\n  INITRD /initrd.img")(card)
        for change in further:
            change(card)

    return act


def whole_labels(body: str) -> Act:
    return text("extlinux/extlinux.conf", lambda _before: body)


def _table(card: Path) -> int:
    """Where the first table of the boot partition's FAT begins."""
    head = peek(card, BOOT, 512)
    return BOOT + int.from_bytes(head[14:16], "little") * int.from_bytes(head[11:13], "little")


def broken_chain(name: str) -> Act:
    def act(card: Path) -> None:
        with card.open("rb") as file:
            found = next(each for each in FatReader(reader(file.fileno()), BOOT).files() if each.path == name)
        poke(card, _table(card) + 4 * found.cluster, (0x0FFFFFFF).to_bytes(4, "little"))

    return act


def super_clusters() -> bytes:
    return bytes(4)


def made_line(path: str, body: bytes) -> Act:
    """A file of the root, executable, named as init."""
    return lambda card: (made(path, body)(card), line(f"init={path}")(card))


def _flipped(data: bytes, at: int) -> bytes:
    return data[:at] + bytes([data[at] ^ 1]) + data[at + 1 :]


def _shorten(card: Path, size: int) -> None:
    with card.open("r+b") as file:
        file.truncate(size)


def _elf(machine: int, *, wide: bool) -> bytes:
    """A program of one segment that is all of it."""
    size = 64 + 56 + 100 if wide else 52 + 32 + 100
    if wide:
        head = (
            b"\x7fELF\x02\x01\x01"
            + bytes(9)
            + struct.pack("<HHIQQQIHHHHHH", 2, machine, 1, 0, 64, 0, 0, 64, 56, 1, 64, 0, 0)
        )
        head += struct.pack("<IIQQQQQQ", 1, 5, 0, 0, 0, size, size, 4096)
    else:
        head = (
            b"\x7fELF\x01\x01\x01"
            + bytes(9)
            + struct.pack("<HHIIIIIHHHHHH", 2, machine, 1, 0, 52, 0, 0, 52, 32, 1, 40, 0, 0)
        )
        head += struct.pack("<IIIIIIII", 1, 0, 0, 0, size, size, 5, 4096)
    return head + bytes(100)


def _volume(card: Path) -> ExtReader:
    data = peek(card, 0, card.stat().st_size)
    return ExtReader(lambda at, length: data[at : at + length], ROOT, card_image.ROOT_SIZE)


def _inode(card: Path, path: str) -> int:
    """Where an inode is on the card."""
    volume = _volume(card)
    found = volume.find(path)
    assert found is not None
    group, index = divmod(found.number - 1, volume._inodes)
    return ROOT + volume._table_of[group] * volume.block + index * volume._inode_size


def _folder(card: Path, path: str) -> int:
    """Where a folder's first block is on the card."""
    volume = _volume(card)
    found = volume.find(path)
    assert found is not None
    return ROOT + next(place for _logical, place, _count in volume._mapped(found)) * volume.block


def _entry_of(card: Path, name: str) -> int:
    """Where the short entry of a file in the boot partition's root folder is on the card."""
    with card.open("rb") as file:
        volume = FatReader(reader(file.fileno()), BOOT)
        found = next(each for each in volume.files() if each.path == name)
        wanted = found.size.to_bytes(4, "little")
        for cluster in volume.chain(volume.geometry.root_cluster, "/"):
            at = volume.geometry.data + (cluster - 2) * volume.geometry.cluster
            block = volume.raw(at, volume.geometry.cluster)
            for place in range(0, len(block), 32):
                entry = block[place : place + 32]
                if entry[28:32] == wanted and entry[26:28] == (found.cluster & 0xFFFF).to_bytes(2, "little"):
                    return BOOT + at + place
    raise AssertionError(name)


def _thin_cable(build: Build) -> Build:
    """Three metres of thin cable to the board."""
    links = [
        link.model_copy(update={"cable": "power-a-micro-3m"}) if link.end == "board.power" else link
        for link in build.links
    ]
    return edited(build, "links", links)


def _setting(path: str, value: object) -> Callable[[Build], Build]:
    return lambda build: edited(build, path, value)


K, D = "merrow-armv7.krn", "herring.dtb"
CONF = "extlinux/extlinux.conf"
Q = "berths/quayside"
UP = "LABEL up\n  LINUX /merrow-armv8.krn\n"

EXT4_MODULE = root(
    "mkdir /lib",
    "mkdir /lib/modules",
    "mkdir /lib/modules/6.1.0",
    "mkdir /lib/modules/6.1.0/kernel",
    "mkdir /lib/modules/6.1.0/kernel/fs",
    "mkdir /lib/modules/6.1.0/kernel/fs/ext4",
    "write TEXT /lib/modules/6.1.0/kernel/fs/ext4/ext4.ko",
    body=b"\x7fELF",
)

MODES: tuple[Mode, ...] = (
    # the supply
    Mode("a power supply too weak", "supply", "assembly", "V at the board", build=_thin_cable),
    # the table
    Mode("no table at all", "partition table", "card.not-bootable", "expected 55 aa", bytes_at(0, bytes(512))),
    Mode("a table without its end mark", "partition table", "card.not-bootable", "at byte 510", bytes_at(511, b"\0")),
    Mode(
        "a table with a wrong start mark",
        "partition table",
        "card.not-bootable",
        "expected 00 or 80",
        bytes_at(446, b"\x13"),
    ),
    Mode(
        "a wrong mark in an empty entry",
        "partition table",
        "card.not-bootable",
        "expected 00 or 80",
        bytes_at(494, b"\x13"),
    ),
    Mode(
        "both GPTs damaged",
        "partition table",
        "card.not-bootable",
        "GPT",
        gpt(lambda card: (poke(card, 512, bytes(512)), poke(card, card.stat().st_size - 512, bytes(512)))),
    ),
    Mode(
        "the first GPT damaged",
        "kernel line",
        "card.second-table",
        "parameter gpt",
        gpt(lambda card: poke(card, 512 + 16, b"\0\0\0\0")),
    ),
    # the boot partition
    Mode(
        "no FAT partition",
        "boot partition",
        "card.no-boot-partition",
        "no FAT partition",
        lambda card: (poke(card, 450, b"\x83"), poke(card, BOOT, bytes(512))),
    ),
    Mode(
        "a FAT partition that the table calls Linux",
        "boot partition",
        "card.loader-partition",
        "looks for a FAT one",
        bytes_at(450, b"\x83"),
    ),
    Mode(
        "a boot partition without a type",
        "boot partition",
        "card.loader-partition",
        "no type",
        bytes_at(450, b"\0"),
        LABELS,
    ),
    Mode(
        "a boot sector without its end mark",
        "boot partition",
        "card.no-boot-partition",
        "55 AA",
        bytes_at(BOOT + 510, b"\0\0"),
    ),
    Mode(
        "sectors of no size", "boot partition", "card.no-boot-partition", "bytes a sector", bytes_at(BOOT + 11, b"\0\0")
    ),
    Mode("clusters of no size", "boot partition", "card.no-boot-partition", "power of two", bytes_at(BOOT + 13, b"\0")),
    Mode("no tables", "boot partition", "card.no-boot-partition", "tables", bytes_at(BOOT + 16, b"\0")),
    Mode("no reserved sectors", "boot partition", "card.no-boot-partition", "reserved", bytes_at(BOOT + 14, b"\0\0")),
    Mode("no sectors", "boot partition", "card.no-boot-partition", "sectors", bytes_at(BOOT + 32, bytes(4))),
    Mode(
        "a root folder outside",
        "boot partition",
        "card.no-boot-partition",
        "cluster",
        bytes_at(BOOT + 44, b"\xff\xff\xff\0"),
    ),
    Mode(
        "another partition marked",
        "boot partition",
        "card.loader-partition",
        "partition 2 only",
        lambda card: (poke(card, 446, b"\0"), poke(card, 462, b"\x80")),
        LABELS,
    ),
    Mode(
        "a boot sector that does not say FAT",
        "boot partition",
        "card.loader-partition",
        "does not say FAT",
        bytes_at(BOOT + 82, bytes(8)),
        LABELS,
    ),
    # the boot file
    Mode("no boot file", "boot file", "boot.missing-file", "not on the boot partition", without("merrow.settings")),
    Mode(
        "a boot file of zero bytes",
        "boot file",
        "boot.unknown-format",
        "does not begin",
        text("merrow.settings", lambda _: ""),
    ),
    Mode(
        "a boot file without its first line",
        "boot file",
        "boot.unknown-format",
        "does not begin",
        swapped("merrow.settings", "merrow settings 2\n", ""),
    ),
    Mode(
        "a blank line before the first",
        "boot file",
        "boot.unknown-format",
        "does not begin",
        text("merrow.settings", lambda t: "\n" + t),
    ),
    Mode(
        "a boot file of another version",
        "boot file",
        "boot.unknown-format",
        "does not begin",
        swapped("merrow.settings", "merrow settings 2", "merrow settings 3"),
    ),
    Mode(
        "a boot file with zeros in it",
        "boot file",
        "boot.missing-file",
        "",
        text("merrow.settings", lambda t: t + "\0"),
    ),
    Mode(
        "a boot file whose entry leads elsewhere",
        "boot file",
        "boot.missing-file",
        "is not a text file",
        lambda card: poke(card, _entry_of(card, "merrow.settings") + 26, b"\xff\xff"),
    ),
    Mode("no extlinux.conf", "boot file", "boot.missing-file", "", without(CONF), LABELS),
    Mode(
        "extlinux.conf without a label",
        "boot file",
        "boot.void-file",
        "no label",
        whole_labels("DEFAULT x\n# none\n"),
        LABELS,
    ),
    Mode(
        "a label without a name",
        "boot file",
        "boot.void-file",
        "label without a name",
        labels("LABEL quayside", "LABEL"),
        LABELS,
    ),
    Mode(
        "a kernel word without a value",
        "boot file",
        "boot.void-file",
        "linux without a value",
        labels("LINUX /merrow-armv8.krn", "LINUX"),
        LABELS,
    ),
    Mode(
        "an empty kernel line",
        "boot file",
        "boot.void-file",
        "append without a value",
        whole_labels(f"{UP}  APPEND\n"),
        LABELS,
    ),
    Mode(
        "a default without a value",
        "boot file",
        "boot.void-file",
        "default without a value",
        labels("DEFAULT quayside", "DEFAULT"),
        LABELS,
    ),
    Mode(
        "a timeout without a value",
        "boot file",
        "boot.void-file",
        "timeout without a value",
        text(CONF, lambda t: f"TIMEOUT\n{t}"),
        LABELS,
    ),
    Mode(
        "an initramfs word at the line's end",
        "boot file",
        "boot.void-file",
        "initrd= is the last word",
        whole_labels(f"{UP}  APPEND root=/dev/mmcblk0p2 initrd=/x\n"),
        LABELS,
    ),
    Mode(
        "a menu without a timeout",
        "boot file",
        "boot.menu-waits",
        "waits for a key",
        text(CONF, lambda t: f"MENU TITLE Games\n{t}"),
        LABELS,
    ),
    Mode(
        "a label that starts locally",
        "boot file",
        "boot.void-file",
        "LOCALBOOT",
        labels("LABEL quayside\n", "LABEL quayside\n  LOCALBOOT 1\n"),
        LABELS,
    ),
    # the kernel
    Mode("no kernel", "kernel", "boot.kernel-set", "not on the boot partition", without(K)),
    Mode("an empty kernel", "kernel", "boot.kernel-set", "is not a kernel", cut(K, 0)),
    Mode("a kernel cut short", "kernel", "boot.kernel-damaged", "cut short", cut(K, 200_000)),
    Mode("a kernel whose head is gone", "kernel", "boot.kernel-set", "is not a kernel", cut(K, 20)),
    Mode(
        "a kernel with another byte",
        "kernel",
        "boot.kernel-damaged",
        "what is packed in it cannot be unpacked",
        lambda card: put_fat(card, K, _flipped(card_image.boot_files()[K], 299_000)),
    ),
    Mode("a kernel whose chain is broken", "kernel", "boot.kernel-damaged", "", broken_chain(K)),
    Mode(
        "a kernel for an older set",
        "kernel",
        "boot.kernel-set",
        "runs ARMv7",
        swapped("merrow.settings", K, "merrow-armv6.krn"),
    ),
    Mode(
        "a kernel for a newer set",
        "kernel",
        "boot.kernel-set",
        "runs ARMv7",
        swapped("merrow.settings", K, "merrow-armv8.krn"),
    ),
    Mode(
        "a text for a kernel",
        "kernel",
        "boot.kernel-set",
        "is not a kernel",
        swapped("merrow.settings", K, "readme.txt"),
    ),
    Mode(
        "a kernel by a wrong name",
        "kernel",
        "boot.kernel-set",
        "not on the boot partition",
        swapped("merrow.settings", K, "kernel7.krn"),
    ),
    Mode(
        "a label without a kernel",
        "kernel",
        "boot.kernel-set",
        "names no kernel",
        whole_labels("LABEL up\n  APPEND root=/dev/mmcblk0p2 rootwait\n"),
        LABELS,
    ),
    Mode(
        "a label with a word that ends it",
        "kernel",
        "boot.kernel-set",
        "names no kernel",
        labels("LABEL quayside\n", "LABEL quayside\n  SAY hello\n"),
        LABELS,
    ),
    Mode(
        "extlinux.conf with carriage returns",
        "kernel",
        "boot.kernel-set",
        "not on the boot partition",
        text(CONF, lambda t: t.replace("\n", "\r\n")),
        LABELS,
    ),
    Mode(
        "a kernel named from beside the file",
        "kernel",
        "boot.kernel-set",
        "extlinux/merrow-armv8.krn",
        labels("/merrow-armv8.krn", "merrow-armv8.krn"),
        LABELS,
    ),
    Mode(
        "a blank behind the kernel's name",
        "kernel",
        "boot.kernel-set",
        "not on the boot partition",
        labels("/merrow-armv8.krn", "/merrow-armv8.krn "),
        LABELS,
    ),
    Mode(
        "a 32-bit kernel for this loader",
        "kernel",
        "boot.kernel-set",
        "starts ARMv8",
        labels("/merrow-armv8.krn", "/merrow-armv7.krn"),
        LABELS,
    ),
    Mode(
        "an initramfs that is not there",
        "kernel",
        "boot.initramfs",
        "initramfs",
        labels("LINUX /merrow-armv8.krn", "LINUX /merrow-armv8.krn\n  INITRD /initramfs"),
        LABELS,
    ),
    Mode(
        "an initramfs whose init needs what is not in it",
        "root partition",
        "boot.initramfs-init",
        "/bin/sh is not there",
        with_initramfs(lambda: initramfs.archive({"init": (initramfs.SCRIPT, b"#!/bin/sh\n")})),
        LABELS,
    ),
    Mode(
        "an initramfs for another processor",
        "root partition",
        "boot.initramfs-init",
        "x86-64",
        with_initramfs(lambda: initramfs.archive(initramfs.usual(machine=62))),
        LABELS,
    ),
    Mode(
        "a damaged initramfs",
        "root partition",
        "boot.initramfs-damaged",
        "damaged",
        with_initramfs(lambda: initramfs.archive(initramfs.usual("6.1.0", "a", "b"))[:-300] + b"x" * 300),
        LABELS,
    ),
    Mode(
        "an initramfs of another kernel",
        "root partition",
        "boot.no-driver",
        "those of 5.10.0",
        with_initramfs(lambda: initramfs.archive(initramfs.usual("5.10.0", "ext4")), EXT4_MODULE),
        LABELS,
    ),
    Mode(
        "a root that the initramfs does not find",
        "kernel line",
        "boot.root-nowhere",
        "No volume",
        with_initramfs(lambda: initramfs.archive(initramfs.usual()), labels("root=/dev/mmcblk0p2", "root=LABEL=x")),
        LABELS,
    ),
    Mode(
        "a kernel line too long for the boot loader",
        "kernel",
        "boot.line-too-long",
        "the boot loader reads 511",
        labels("rootwait", "rootwait" + " a" * 260),
        LABELS,
    ),
    Mode(
        "a 64-bit kernel cut short",
        "kernel",
        "boot.kernel-damaged",
        "cut short",
        cut("merrow-armv8.krn", 100_000),
        LABELS,
    ),
    # the device tree
    Mode("no device tree", "kernel", "boot.device-tree", "not on the boot partition", without(D)),
    Mode(
        "another board's tree",
        "kernel",
        "boot.device-tree",
        "for another board",
        swapped("merrow.settings", D, "cod.dtb"),
    ),
    Mode(
        "another board's tree under the right name",
        "kernel",
        "boot.device-tree-damaged",
        "differs from the image's checksum",
        lambda card: put_fat(card, D, card_image.boot_files()["cod.dtb"]),
    ),
    Mode(
        "a tree without its mark",
        "kernel",
        "boot.device-tree-damaged",
        "not a device tree",
        lambda card: put_fat(card, D, b"\0" + card_image.boot_files()[D][1:]),
    ),
    Mode("a tree cut short", "kernel", "boot.device-tree-damaged", "cut short", cut(D, 100)),
    Mode("an empty tree", "kernel", "boot.device-tree-damaged", "not a device tree", cut(D, 0)),
    Mode(
        "a tree of a future version",
        "kernel",
        "boot.device-tree-damaged",
        "version",
        lambda card: put_fat(
            card, D, card_image.boot_files()[D][:24] + bytes([0, 0, 0, 99]) + card_image.boot_files()[D][28:]
        ),
    ),
    Mode(
        "a tree damaged inside",
        "kernel",
        "boot.device-tree-damaged",
        "damaged inside",
        lambda card: put_fat(card, D, card_image.boot_files()[D][:56] + b"\xff" * 16 + card_image.boot_files()[D][72:]),
    ),
    Mode(
        "a tree whose chain is broken",
        "kernel",
        "boot.device-tree-damaged",
        "",
        lambda card: poke(card, _entry_of(card, D) + 26, b"\xff\xff"),
    ),
    Mode(
        "a label with another board's tree",
        "kernel",
        "boot.device-tree",
        "for another board",
        labels("/ling.dtb", "/cod.dtb"),
        LABELS,
    ),
    Mode(
        "a label with a tree that is not there",
        "kernel",
        "boot.device-tree",
        "not on the boot partition",
        labels("/ling.dtb", "/eel.dtb"),
        LABELS,
    ),
    # memory and clock
    Mode(
        "all memory for the picture",
        "kernel",
        "boot.memory",
        "too little is left",
        text("merrow.settings", lambda t: f"{t}memory.video = 980\n"),
    ),
    Mode(
        "a clock that the board does not hold",
        "kernel",
        "boot.clock",
        "1050 MHz at most",
        text("merrow.settings", lambda t: f"{t}processor.mhz = 2000\n"),
    ),
    # the picture
    Mode(
        "a safe start on a tube",
        "display",
        "picture.out-of-range:menu",
        "its safe boot",
        text("merrow.settings", lambda t: f"{t}start.safe = on\n"),
    ),
    Mode(
        "a standard's number that the tube does not show",
        "display",
        "picture.out-of-range:menu",
        "1920 × 1080",
        text(
            "merrow.settings",
            lambda t: (
                "\n".join(row for row in t.split("\n") if not row.startswith("picture.timing"))
                + "\npicture.mode = cta 16\n"
            ),
        ),
    ),
    Mode(
        "a mode the tube cannot show",
        "display",
        "picture.out-of-range:menu",
        "accepts",
        text(
            "merrow.settings",
            lambda t: (
                "".join(f"{row}\n" for row in t.split("\n") if not row.startswith("picture.timing"))
                + "picture.timing = 25175000 640/16/96/48- 480/10/2/33-\n"
            ),
        ),
    ),
    Mode(
        "no mode and no identification",
        "display",
        "picture.no-output",
        "switches its output off",
        text(
            "merrow.settings", lambda t: "\n".join(row for row in t.split("\n") if not row.startswith("picture.timing"))
        ),
        world=lambda world: replace(world, identification=None),
    ),
    Mode(
        "a clock the board cannot send",
        "display",
        "picture.clock:menu",
        "pixel clock",
        text(
            "merrow.settings",
            lambda t: (
                "".join(f"{row}\n" for row in t.split("\n") if not row.startswith("picture.timing"))
                + "picture.timing = 5000000 256/16/24/24- 240/3/3/16-\n"
            ),
        ),
    ),
    Mode(
        "an output that the kernel command line switches off",
        "display",
        "picture.no-output",
        "switches the output off",
        labels("video=HDMI-A-1:1920x1080@60D", "video=HDMI-A-1:d"),
        LABELS,
    ),
    Mode(
        "a size that the kernel makes no timing of",
        "display",
        "picture.no-output",
        "no usable timing",
        labels("video=HDMI-A-1:1920x1080@60D", "video=HDMI-A-1:2048x240@60"),
        LABELS,
    ),
    Mode(
        "a rate that the display does not take",
        "display",
        "picture.out-of-range:menu",
        "accepts",
        labels("video=HDMI-A-1:1920x1080@60D", "video=HDMI-A-1:1280x1024M@90"),
        LABELS,
    ),
    Mode("two sync outputs tied together", "display", "picture.chain-tied", "tied together", build=_tied),
    Mode(
        "a display in the second socket",
        "display",
        "picture.chain-output",
        "stays dark",
        way=LABELS,
        build=_second_socket,
    ),
    Mode(
        "a tube that gets 31 kHz before the kernel",
        "display",
        "picture.signal:firmware",
        "Before the kernel",
        way=LABELS,
        build=_tube_of_a_chooser,
        world=lambda world: replace(world, identification=None),
    ),
    Mode(
        "a display that nothing wakes",
        "waking",
        "picture.waking-bus",
        "does not bring that bus up",
        build=lambda build: build.with_part("display", "casement-bare-9"),
        world=lambda world: replace(world, identification=None),
    ),
    # the kernel line
    Mode("no kernel line", "kernel line", "boot.no-root", "names no root", without("kernel.line")),
    Mode(
        "an empty file for the kernel command line",
        "kernel line",
        "boot.no-root",
        "names no root",
        text("kernel.line", lambda _: ""),
    ),
    Mode(
        "a blank first line",
        "kernel line",
        "boot.no-root",
        "Only its first line",
        text("kernel.line", lambda t: f"\n{t}"),
    ),
    Mode(
        "the root on a second line",
        "kernel line",
        "boot.no-root",
        "Only its first line",
        swapped("kernel.line", " root=", "\nroot="),
    ),
    Mode(
        "the root behind what is read of the line",
        "kernel line",
        "boot.line-too-long",
        "480 characters",
        swapped("kernel.line", "root=", f"{'x' * 460} root="),
    ),
    Mode("hardly any memory", "kernel line", "boot.memory", "8.39", line("mem=8M")),
    Mode("no root", "kernel line", "boot.no-root", "names no root", swapped("kernel.line", "root=/dev/mmcblk0p2 ", "")),
    Mode(
        "the root behind two dashes",
        "kernel line",
        "boot.no-root",
        "names no root",
        swapped("kernel.line", "root=/dev", "-- root=/dev"),
    ),
    Mode(
        "the root in an open quote",
        "kernel line",
        "boot.no-root",
        "names no root",
        swapped("kernel.line", "root=/dev", '"a root=/dev'),
    ),
    Mode("root twice over", "kernel line", "boot.root-nowhere", "knows no device", root_word("root=/dev/mmcblk0p2")),
    Mode(
        "a partition that is not there",
        "kernel line",
        "boot.root-nowhere",
        "No partition 3",
        root_word("/dev/mmcblk0p3"),
    ),
    Mode(
        "a later root that is not there",
        "kernel line",
        "boot.root-nowhere",
        "No partition 7",
        line("root=/dev/mmcblk0p7"),
    ),
    Mode("a second slot", "kernel line", "boot.root-nowhere", "second slot", root_word("/dev/mmcblk1p2")),
    Mode("a disk on USB", "kernel line", "boot.root-nowhere", "disk on USB", root_word("/dev/sda2")),
    Mode("a whole card for a root", "kernel line", "boot.root-nowhere", "knows no device", root_word("/dev/mmcblk0")),
    Mode("a partition by a zero", "kernel line", "boot.root-nowhere", "knows no device", root_word("/dev/mmcblk0p02")),
    Mode("a root without its folder", "kernel line", "boot.root-nowhere", "knows no device", root_word("mmcblk0p2")),
    Mode(
        "a root by its own id",
        "kernel line",
        "boot.root-nowhere",
        "initramfs",
        root_word("UUID=4b594b00-0000-4000-8000-000000000001"),
    ),
    Mode("a root by its name", "kernel line", "boot.root-nowhere", "initramfs", root_word("LABEL=quayroot")),
    Mode(
        "a partition id that is not there",
        "kernel line",
        "boot.root-nowhere",
        "No partition has that",
        root_word("PARTUUID=deadbeef-02"),
    ),
    Mode(
        "a partition id in small letters",
        "kernel line",
        "boot.root-nowhere",
        "capitals",
        root_word("partuuid=4b594b31-02"),
    ),
    Mode("a partition name of no GPT", "kernel line", "boot.root-nowhere", "PARTLABEL", root_word("PARTLABEL=root")),
    Mode("another device's number", "kernel line", "boot.root-nowhere", "is no partition of", root_word("8:2")),
    Mode("a number without a partition", "kernel line", "boot.root-nowhere", "No partition 5", root_word("179:5")),
    Mode(
        "a number in sixteens of another device",
        "kernel line",
        "boot.root-nowhere",
        "is no partition of",
        root_word("801"),
    ),
    Mode(
        "a partition behind the card's end",
        "kernel line",
        "boot.root-nowhere",
        "No partition 2",
        bytes_at(470, (1 << 30).to_bytes(4, "little")),
    ),
    Mode(
        "a disk without rootwait",
        "kernel line",
        "boot.no-rootwait",
        "may not be ready",
        lambda card: put_fat(card, "kernel.line", b"root=/dev/sda2\n"),
        build=_setting("medium", "disk"),
    ),
    # the root partition
    Mode(
        "the boot partition for a root",
        "root partition",
        "boot.root-elsewhere",
        "the system is on 2",
        root_word("/dev/mmcblk0p1"),
    ),
    Mode("no file system", "root partition", "card.no-root-partition", "53 EF", bytes_at(ROOT + 1024, bytes(1024))),
    Mode("a wrong mark", "root partition", "card.no-root-partition", "53 EF", bytes_at(ROOT + 1024 + 56, b"\0")),
    Mode(
        "a superblock with another byte",
        "root partition",
        "card.no-root-partition",
        "own checksum",
        bytes_at(ROOT + 1024 + 0x88, b"x"),
    ),
    Mode("a feature no kernel knows", "root partition", "card.no-root-partition", "features", super_field(99, b"\x80")),
    Mode("blocks too large", "root partition", "card.no-root-partition", "4096 bytes", super_field(24, b"\x05")),
    Mode("inodes of no size", "root partition", "card.no-root-partition", "inodes", super_field(88, b"\0\0")),
    Mode(
        "a file system longer than its partition",
        "root partition",
        "card.no-root-partition",
        "blocks",
        super_field(4, b"\xff\xff\xff\0"),
    ),
    Mode("inodes that do not add up", "root partition", "card.no-root-partition", "inodes", super_field(0, b"\x01")),
    Mode(
        "no blocks in a group",
        "root partition",
        "card.no-root-partition",
        "blocks a group",
        super_field(32, bytes(4) + super_clusters()),
    ),
    Mode(
        "a first block outside",
        "root partition",
        "card.no-root-partition",
        "first data block",
        super_field(20, b"\xff\xff\xff\0"),
    ),
    Mode(
        "a journal on another device",
        "root partition",
        "card.no-root-partition",
        "journal",
        super_field(228, b"\1\0\0\0"),
    ),
    Mode(
        "a journal that is no file",
        "root partition",
        "card.no-root-partition",
        "journal",
        super_field(224, b"\2\0\0\0"),
    ),
    Mode(
        "no journal though one is to be replayed",
        "root partition",
        "card.no-root-partition",
        "journal",
        lambda card: (
            super_field(92, bytes([peek(card, ROOT + 1024 + 92, 1)[0] & ~4]))(card),
            super_field(96, bytes([peek(card, ROOT + 1024 + 96, 1)[0] | 4]))(card),
        ),
    ),
    Mode(
        "a partition shorter than its file system",
        "root partition",
        "card.no-root-partition",
        "blocks",
        bytes_at(474, (16 << 11).to_bytes(4, "little")),
    ),
    Mode(
        "a card shorter than its table",
        "root partition",
        "card.no-root-partition",
        "blocks",
        lambda card: _shorten(card, ROOT + (8 << 20)),
    ),
    Mode(
        "another kind of file system named",
        "root partition",
        "boot.rootfstype",
        "rootfstype=vfat",
        swapped("kernel.line", "rootfstype=ext4", "rootfstype=vfat"),
    ),
    Mode(
        "an older kind named",
        "root partition",
        "boot.rootfstype",
        "rootfstype=ext3",
        swapped("kernel.line", "rootfstype=ext4", "rootfstype=ext3"),
    ),
    Mode(
        "the root's driver is a module",
        "root partition",
        "boot.no-driver",
        "has ext4 as a module",
        EXT4_MODULE,
    ),
    Mode("a mount option that ext4 has not", "root partition", "boot.rootflags", "noatime", line("rootflags=noatime")),
    Mode(
        "a mount option with a wrong value",
        "root partition",
        "boot.rootflags",
        "journal, ordered",
        line("rootflags=data=sometimes"),
    ),
    Mode(
        "a mount option with a number that is none",
        "root partition",
        "boot.rootflags",
        "takes a number",
        line("rootflags=commit=soon"),
    ),
    Mode(
        "a mount option that takes no value",
        "root partition",
        "boot.rootflags",
        "takes no value",
        line("rootflags=discard=1"),
    ),
    Mode(
        "group checksums wrong, mounted for writing",
        "root partition",
        "card.root-damaged",
        "rw:",
        lambda card: (poke(card, ROOT + 2048 + 30, b"\x12\x34"), line("rw")(card)),
    ),
    Mode(
        "group checksums wrong, mounted for writing after all",
        "root partition",
        "card.root-damaged",
        "rw:",
        lambda card: (poke(card, ROOT + 2048 + 30, b"\x12\x34"), line("ro rw")(card)),
    ),
    # init
    Mode("no init", "init", "system.no-init", "/sbin/init is not there", root("rm /sbin/init")),
    Mode(
        "an init that is not executable",
        "init",
        "system.no-init",
        "not executable",
        root("sif /sbin/init mode 0100644"),
    ),
    Mode("an empty init", "init", "system.no-init", "is empty", made("/sbin/init", b"")),
    Mode(
        "an init that is a text", "init", "system.no-init", "neither a script nor", made("/sbin/init", b"echo hello\n")
    ),
    Mode(
        "an init with a carriage return",
        "init",
        "system.no-init",
        "carriage return",
        made("/sbin/init", b"#!/bin/sh\r\necho\r\n"),
    ),
    Mode(
        "an init for a missing interpreter",
        "init",
        "system.no-init",
        "/bin/bash is not there",
        made("/sbin/init", b"#!/bin/bash\n"),
    ),
    Mode(
        "an init that leads nowhere",
        "init",
        "system.no-init",
        "not there",
        root("rm /sbin/init", "symlink /sbin/init nowhere"),
    ),
    Mode(
        "an init that leads to itself",
        "init",
        "system.no-init",
        "circle",
        root("rm /sbin/init", "symlink /sbin/init init"),
    ),
    Mode("an init for another machine", "init", "system.no-init", "x86-64", made("/sbin/init", _elf(62, wide=True))),
    Mode(
        "a 64-bit init under a 32-bit kernel",
        "init",
        "system.no-init",
        "ARM 64-bit",
        made("/sbin/init", _elf(183, wide=True)),
    ),
    Mode("an init cut short", "init", "system.no-init", "cut short", made("/sbin/init", _elf(40, wide=False)[:-9])),
    Mode(
        "an init with another byte",
        "init",
        "system.no-init",
        "differs from the image's checksum",
        made("/sbin/init", card_image.INIT.encode().replace(b"PATH", b"path")),
    ),
    Mode("no shell for init", "init", "system.no-init", "/bin/sh is not there", root("rm /bin/sh")),
    Mode("the shell's program gone", "init", "system.no-init", "not there", root("rm /bin/busybox")),
    Mode("no mount for init", "init", "system.start-program", "/bin/mount is not there", root("rm /bin/mount")),
    Mode("no su for init", "init", "system.start-program", "/bin/su is not there", root("rm /bin/su")),
    Mode("no folder for devices", "init", "system.no-dev", "/dev", root("rmdir /dev")),
    Mode(
        "a folder entry damaged",
        "init",
        "system.no-init",
        "own checksum",
        lambda card: poke(card, _folder(card, "/sbin") + 40, b"\xee"),
    ),
    Mode(
        "an inode damaged",
        "init",
        "system.no-init",
        "own checksum",
        lambda card: poke(card, _inode(card, "/sbin/init") + 4, b"\xee"),
    ),
    Mode("init named that is not there", "init", "boot.init", "/sbin/launch is not there", line("init=/sbin/launch")),
    Mode("init that is no program", "init", "boot.init", "neither a script nor", made_line("/etc/hostname", b"x\n")),
    Mode("a shell for init", "init", "boot.init", "instead of the system", line("init=/bin/sh")),
    # services
    Mode(
        "the front end not in the list",
        "services",
        "boot.no-front-end",
        "not in the list of services",
        swapped("services.list", "gangway\n", ""),
    ),
    Mode(
        "the front end spelt wrong",
        "services",
        "boot.no-front-end",
        "not in the list",
        swapped("services.list", "gangway", "gangways"),
    ),
    Mode(
        "no unit for the front end",
        "services",
        "boot.no-front-end",
        "no service gangway",
        root("rm /etc/services.d/gangway.service"),
    ),
    Mode(
        "a service that is waited for and does not return",
        "services",
        "boot.never-returns",
        "never starts",
        made(
            "/etc/services.d/sound.service",
            b"[Service]\nType=oneshot\nExecStart=/usr/bin/shutdown-watcher\n",
            "0100644",
        ),
    ),
    Mode(
        "no units",
        "services",
        "boot.no-front-end",
        "no service",
        root(*(f"rm /etc/services.d/{name}.service" for name in card_image.SERVICES), "rmdir /etc/services.d"),
    ),
    # login
    Mode(
        "a user who is not there",
        "login",
        "boot.user",
        "no user mate",
        swapped("first-boot.settings", "user.name = player", "user.name = mate"),
    ),
    Mode("no users", "login", "boot.user", "no user player", root("rm /etc/passwd")),
    Mode(
        "users without the player",
        "login",
        "boot.user",
        "no user player",
        made("/etc/passwd", b"root:x:0:0:root:/root:/bin/sh\n", "0100644"),
    ),
    Mode(
        "a shell that is not there",
        "login",
        "system.shell",
        "/bin/zsh is not there",
        made("/etc/passwd", b"player:x:1000:1000::/home/player:/bin/zsh\n", "0100644"),
    ),
    Mode(
        "a shell for another machine",
        "login",
        "system.shell",
        "x86-64",
        lambda card: (
            made("/etc/passwd", b"player:x:1000:1000::/home/player:/bin/other\n", "0100644")(card),
            root("write TEXT /bin/other", "sif /bin/other mode 0100755", body=_elf(62, wide=True))(card),
        ),
    ),
    # controllers
    Mode(
        "a folder on the way to the shell closed",
        "login",
        "system.shell",
        "no permission for /bin",
        root("sif /bin mode 040700"),
    ),
    Mode("the root folder closed", "login", "system.shell", "no permission for /", root("sif / mode 040700")),
    Mode("no USB by the kernel command line", "controllers", "boot.no-usb", "nousb", line("nousb")),
    Mode(
        "a quirk without its 0x",
        "controllers",
        "controls.encoder-quirk",
        "",
        text("kernel.line", lambda t: t.replace(":0x40", ":40")),
    ),
    Mode(
        "a quirk in a fifth place",
        "controllers",
        "controls.encoder-quirk",
        "",
        text(
            "kernel.line",
            lambda t: t.replace("usbhid.quirks=", "usbhid.quirks=0x1:0x1:0x1,0x2:0x2:0x2,0x3:0x3:0x4,0x4:0x4:0x4,"),
        ),
    ),
    Mode(
        "a quirk taken back by a later one",
        "controllers",
        "controls.encoder-quirk",
        "",
        text("kernel.line", lambda t: t.rstrip("\n") + " usbhid.quirks=0x1:0x1:0x1\n"),
    ),
    Mode(
        "a quirk behind an open quote",
        "controllers",
        "controls.encoder-quirk",
        "",
        text("kernel.line", lambda t: t.replace("usbhid", 'greet="good usbhid')),
    ),
    Mode(
        "an encoder without its quirk",
        "controllers",
        "controls.encoder-quirk",
        "two players in one device",
        text("kernel.line", lambda t: " ".join(word for word in t.split() if "quirks" not in word)),
    ),
    Mode(
        "a quirk for another encoder",
        "controllers",
        "controls.encoder-quirk",
        "",
        text("kernel.line", lambda t: t.replace("0x0022", "0x0023")),
    ),
    Mode(
        "a quirk without its flag",
        "controllers",
        "controls.encoder-quirk",
        "",
        text("kernel.line", lambda t: t.replace(":0x40", ":0x08")),
    ),
    Mode(
        "a joystick whose up is not wired",
        "controllers",
        "controls.wiring",
        "up is not wired to a terminal",
        build=lambda build: edited(
            build, "controls.wires", [wire for wire in build.controls.wires if wire.control != "p1.up"]
        ),
    ),
    Mode(
        "a seat without a button that is wired",
        "controllers",
        "controls.wiring",
        "cannot choose",
        build=lambda build: edited(
            build, "controls.wires", [wire for wire in build.controls.wires if not wire.control.startswith("p1.b")]
        ),
    ),
    Mode(
        "a joystick that said nothing in the proof",
        "controllers",
        "controls.proof",
        "left said nothing in the proof",
        build=lambda build: edited(
            build, "controls.proof", Proof(at="2026-11-28T06:00", wiring=_wiring(build), silent=("p1.left",))
        ),
    ),
    Mode(
        "a bank on the header without its overlay",
        "controllers",
        "controls.overlay:encoder",
        "does not load",
        build=_on_the_header,
    ),
    # the front end
    Mode("no front end", "front end", "system.front-end", "/usr/bin/gangway is not there", root("rm /usr/bin/gangway")),
    Mode(
        "a front end that is not executable",
        "front end",
        "system.front-end",
        "not executable",
        root("sif /usr/bin/gangway mode 0100644"),
    ),
    Mode(
        "a front end for root only",
        "front end",
        "system.front-end",
        "player has no permission",
        root("sif /usr/bin/gangway mode 0100700"),
    ),
    Mode(
        "a folder on the way to the front end closed",
        "front end",
        "system.front-end",
        "no permission for /usr",
        root("sif /usr mode 040700"),
    ),
    Mode(
        "a unit whose program has a dash before it",
        "front end",
        "system.front-end",
        "not there",
        made("/etc/services.d/gangway.service", b"[Service]\nType=oneshot\nExecStart=-/usr/bin/gangway\n", "0100644"),
    ),
    Mode(
        "a unit with carriage returns",
        "front end",
        "system.front-end",
        "not there",
        made(
            "/etc/services.d/gangway.service", b"[Service]\r\nType=oneshot\r\nExecStart=/usr/bin/gangway\r\n", "0100644"
        ),
    ),
    Mode(
        "a unit whose program is indented",
        "front end",
        "system.front-end",
        "names no program",
        made("/etc/services.d/gangway.service", b"[Service]\nType=oneshot\n  ExecStart=/usr/bin/gangway\n", "0100644"),
    ),
    Mode(
        "a unit with blanks round its sign",
        "front end",
        "system.front-end",
        "names no program",
        made("/etc/services.d/gangway.service", b"[Service]\nType=oneshot\nExecStart = /usr/bin/gangway\n", "0100644"),
    ),
    Mode(
        "a front end for another machine",
        "front end",
        "system.front-end",
        "x86-64",
        made("/usr/bin/gangway", _elf(62, wide=True)),
    ),
    Mode(
        "a front end without its interpreter",
        "front end",
        "system.front-end",
        "python3 is not there",
        made("/usr/bin/gangway", b"#!/usr/bin/python3\n"),
    ),
    Mode(
        "a front end with another byte",
        "front end",
        "system.front-end",
        "differs from the image's checksum",
        made("/usr/bin/gangway", b"#!/bin/sh\nexit 1\n"),
    ),
    Mode(
        "a unit without a program",
        "front end",
        "system.front-end",
        "names no program",
        made("/etc/services.d/gangway.service", b"[Service]\nType=oneshot\n", "0100644"),
    ),
    # a multi-boot card
    Mode(
        "a chooser without bundles",
        "bundles",
        "card.bundle",
        "lists nothing",
        lambda card: subprocess.run(["mdeltree", "-i", f"{card}@@{BOOT}", "::/berths"], check=True),
        CHOOSER,
    ),
    Mode(
        "a bundle without a manifest",
        "bundles",
        "card.bundle:quayside",
        "is not in the list",
        without(f"{Q}/berth.toml"),
        CHOOSER,
    ),
    Mode(
        "a manifest that is none",
        "bundles",
        "card.bundle:quayside",
        "is not in the list",
        text(f"{Q}/berth.toml", lambda _: "name ="),
        CHOOSER,
    ),
    Mode(
        "an empty manifest",
        "bundles",
        "card.bundle:quayside",
        "is not in the list",
        text(f"{Q}/berth.toml", lambda _: ""),
        CHOOSER,
    ),
    Mode(
        "a bundle for other boards",
        "bundles",
        "card.bundle:quayside",
        "not herring",
        text(f"{Q}/berth.toml", lambda t: t.replace('"herring", ', "")),
        CHOOSER,
    ),
    Mode(
        "an archive that is not there",
        "bundles",
        "card.bundle:quayside",
        "is missing",
        without(f"{Q}/quayside-root.tar.xz"),
        CHOOSER,
    ),
    Mode(
        "an archive in other letters",
        "bundles",
        "card.bundle:quayside",
        "not the name in the manifest",
        lambda card: (
            without(f"{Q}/quayside-root.tar.xz")(card),
            put_fat(card, f"{Q}/Quayside-Root.tar.xz", b"\xfd7zXZ\0"),
        ),
        CHOOSER,
    ),
    Mode(
        "an archive of another kind",
        "bundles",
        "card.bundle:quayside",
        "holds gz",
        lambda card: put_fat(card, f"{Q}/quayside-root.tar.xz", b"\x1f\x8b\x08" + bytes(90)),
        CHOOSER,
    ),
    Mode(
        "an empty archive",
        "bundles",
        "card.bundle:quayside",
        "holds no archive",
        lambda card: put_fat(card, f"{Q}/quayside-root.tar.xz", b""),
        CHOOSER,
    ),
    Mode(
        "an archive with another byte",
        "bundles",
        "card.bundle:quayside",
        "SHA-256",
        lambda card: put_fat(card, f"{Q}/quayside-root.tar.xz", b"\xfd7zXZ\0" + bytes(900)),
        CHOOSER,
    ),
    Mode(
        "a partition too small for its archive",
        "bundles",
        "card.bundle:quayside",
        "unpacks to",
        swapped(f"{Q}/berth.toml", "unpacked_mb = 4340", "unpacked_mb = 9340"),
        CHOOSER,
    ),
    Mode(
        "a kind of partition that nobody makes",
        "bundles",
        "card.bundle:quayside",
        "cannot create",
        swapped(f"{Q}/berth.toml", '"ext4"', '"btrfs"'),
        CHOOSER,
    ),
    Mode(
        "two systems with one name for a partition",
        "bundles",
        "card.bundle:",
        "both name a partition",
        swapped("berths/harbour/berth.toml", "HARB-ROOT", "QUAY-ROOT"),
        CHOOSER,
    ),
    Mode(
        "systems larger than the card",
        "space",
        "card.bundle-space",
        "need",
        text(f"{Q}/berth.toml", lambda t: t.replace("mb = 6200", "mb = 62000")),
        CHOOSER,
    ),
)
