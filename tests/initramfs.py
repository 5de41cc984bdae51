"""An initramfs out of files with their modes, for tests: `ramdisk.write` makes plain files only."""

from __future__ import annotations

import stat
from collections.abc import Mapping

SCRIPT, FOLDER, LINK = stat.S_IFREG | 0o755, stat.S_IFDIR | 0o755, stat.S_IFLNK | 0o777


def archive(files: Mapping[str, tuple[int, bytes]]) -> bytes:
    """newc: the kernel's driver-api/early-userspace/buffer-format.rst. Folders are made before what is in them."""
    rows: dict[str, tuple[int, bytes]] = {}
    for path, row in files.items():
        parts = path.split("/")
        for depth in range(1, len(parts)):
            rows.setdefault("/".join(parts[:depth]), (FOLDER, b""))
        rows[path] = row
    out = bytearray()
    for number, (path, (mode, data)) in enumerate((*rows.items(), ("TRAILER!!!", (0, b""))), 1):
        name = path.encode() + b"\0"
        values = (number, mode, 0, 0, 1, 0, len(data), 0, 0, 0, 0, len(name), 0)
        out += b"070701" + "".join(f"{value:08x}" for value in values).encode() + name
        out += bytes(-len(out) % 4) + data
        out += bytes(-len(out) % 4)
    return bytes(out)


def elf(machine: int = 183) -> bytes:
    """A program without anything that it needs; 183: ARM 64-bit, 40: ARM 32-bit (elf.h)."""
    wide = machine != 40
    head = bytearray(b"\x7fELF" + bytes([2 if wide else 1, 1, 1]) + bytes(9))
    head += (2).to_bytes(2, "little") + machine.to_bytes(2, "little") + (1).to_bytes(4, "little")
    if wide:
        head += bytes(8) + (64).to_bytes(8, "little") + bytes(8) + bytes(4)
        head += b"".join(value.to_bytes(2, "little") for value in (64, 56, 1, 64, 0, 0))
        return bytes(head) + bytes(56)
    head += bytes(4) + (52).to_bytes(4, "little") + bytes(4) + bytes(4)
    head += b"".join(value.to_bytes(2, "little") for value in (52, 32, 1, 40, 0, 0))
    return bytes(head) + bytes(32)


def usual(release: str = "6.1.0", *modules: str, machine: int = 183) -> dict[str, tuple[int, bytes]]:
    """What one holds that looks for the root with scripts: an init for its own shell, and modules of a release."""
    files = {
        "bin/sh": (SCRIPT, elf(machine)),
        "init": (SCRIPT, b"#!/bin/sh\n"),
        "scripts/functions": (SCRIPT, b"# panic\n"),
        "sbin/blkid": (SCRIPT, elf(machine)),
    }
    return files | {f"lib/modules/{release}/kernel/{name}.ko": (SCRIPT & ~0o111, b"\x7fELF") for name in modules}
