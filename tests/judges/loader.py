"""U-Boot itself, in a virtual machine without rights, with the card as its only disk (packages qemu-system-arm,
u-boot-qemu).

What differs from a board: it has no fdt_addr_r, so a label's FDT is not fetched and its own tree is used; the card is
called virtio 0.
"""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from pathlib import Path

from kyklon.base.running import Talk, run_watched

FIRMWARE = Path("/usr/lib/u-boot/qemu_arm64/u-boot.bin")
NARROW = Path("/usr/lib/u-boot/qemu_arm/u-boot.bin")
SECONDS = 40.0
_ENDS = (b"Starting kernel", b"NOTHINGELSE", b"Synchronous Abort", b"data abort")
_WAITS, _LONGER_S = b"Enter choice: ", 7.0  # a menu, and how long it is silent when it waits for ever


def available() -> bool:
    return FIRMWARE.exists() and shutil.which("qemu-system-aarch64") is not None


@dataclass(frozen=True)
class Loaded:
    """found: a boot file was found. files: fetched, in order. missing: those that could not be. line: the kernel line
    of what was started. started: whether a kernel was. waits: whether a menu waits for a key. said: everything."""

    found: bool
    files: tuple[str, ...]
    missing: tuple[str, ...]
    line: str
    started: bool
    waits: bool
    said: str


def load(card: Path, *, patient: bool = False, narrow: bool = False) -> Loaded:
    """Switch the virtual board on with this card. patient: a menu is given the time to go on by itself. narrow: a board
    of 32 bits."""
    program, core = ("qemu-system-arm", "cortex-a15") if narrow else ("qemu-system-aarch64", "cortex-a57")
    command = [
        program,
        "-M",
        "virt",
        "-cpu",
        core,
        "-m",
        "512",
        "-nographic",
        "-nic",
        "none",
        "-bios",
        str(NARROW if narrow else FIRMWARE),
        "-drive",
        f"if=none,file={card},format=raw,id=d,snapshot=on",
        "-device",
        "virtio-blk-device,drive=d",
    ]
    asked: list[bool] = []

    def answer(said: bytes) -> bytes:
        if asked or b"autoboot" not in said:
            return b""
        asked.append(True)
        return b"\nvirtio scan; run bootcmd_virtio0; echo NOTHING''ELSE\n"

    def ended(said: bytes, quiet: float) -> bool:
        if said.rstrip(b"\b \r\n").endswith(_WAITS.rstrip()) and (quiet > _LONGER_S or patient is False):
            return True
        return any(mark in said for mark in _ENDS)

    talk = Talk(ended, answer)
    ran = run_watched(command, card.parent, seconds=SECONDS, title="judge", talk=talk)
    return told(ran.said.decode("utf-8", "replace").replace("\r", ""))


def told(said: str) -> Loaded:
    """What a boot loader's words come to."""
    after = said.partition("Scanning virtio 0")[2]
    files, missing, line = [], [], ""
    name = ""
    for words in after.split("\n"):
        if words.startswith("Retrieving file: "):
            name = words.removeprefix("Retrieving file: ")
            files.append(name)
        elif "failure retrieving" in words:
            missing.append(name)
        elif words.startswith("append: "):
            line = words.removeprefix("append: ")
    return Loaded(
        "Found /" in after,
        tuple(files),
        tuple(missing),
        line,
        "Starting kernel" in after,
        "Enter choice" in after and "Retrieving file" not in after.partition("Enter choice")[2],
        said,
    )
