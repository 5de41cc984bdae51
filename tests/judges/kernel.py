"""A real Linux kernel, run as a program without rights, with the card as its disk (package user-mode-linux).

What differs from a board: the card is ubda, not mmcblk0, so words and /etc/fstab that name it are translated;
programs are those of this machine, so busybox stands in for the card's own; ubda is there at once, so rootwait is
never missed.
"""

from __future__ import annotations

import re
import shutil
from dataclasses import dataclass
from pathlib import Path

from kyklon.base.running import Talk, run_watched

SECONDS = 30.0
_ENDS = (
    b"gangway: the menu",
    b"end Kernel panic",
    b"Waiting for root device",
    b"start: login incorrect",
    b"/bin/sh: can't",
    b"reboot: ",
)
_LAST = (b"start: nothing more to start", b"can't access tty")  # what runs behind may still speak


def available() -> bool:
    return shutil.which("linux") is not None and shutil.which("busybox") is not None


@dataclass(frozen=True)
class Booted:
    """stage: the last that the kernel and what it starts passed, as the forecast calls them, '' for none. said: all."""

    stage: str
    said: str


def translated(line: str) -> str:
    """A board's kernel line for this kernel."""
    line = re.sub(r"/dev/mmcblk0p(\d)", r"/dev/ubda\1", line)
    line = re.sub(r"\broot=179:(\d+)", r"root=98:\1", line)
    line = re.sub(r"\broot=b3(\d\d)\b", r"root=62\1", line, flags=re.IGNORECASE)
    return re.sub(r"\bconsole=\S+", "", line)


def boot(card: Path, line: str) -> Booted:
    """Switch on with this card and this kernel line; the card is written to as a real one would be."""
    command = ["linux", f"ubd0={card}", "mem=96M", "con0=null,fd:1", "con=null", "panic=-1", *translated(line).split()]
    talk = Talk(
        lambda said, quiet: any(mark in said for mark in _ENDS) or (quiet > 1.5 and any(mark in said for mark in _LAST))
    )
    ran = run_watched(command, card.parent, seconds=SECONDS, title="judge", talk=talk)
    return Booted(*_told(ran.said.decode("utf-8", "replace").replace("\r", "")))


def _told(said: str) -> tuple[str, str]:
    reached = ""
    if "Waiting for root device" in said:
        return "", said
    if "Unable to mount root fs" in said or "Cannot open root device" in said:
        found = re.search(r"unknown-block\(98,(\d+)\)", said)  # it counts partitions that are not there as devices too
        listed = found and re.search(rf"^ *62{int(found[1]):02x} ", said, re.MULTILINE)
        return "kernel line" if listed and found[1] != "0" else "", said
    if "Mounted root" in said or "VFS: Mounted" in said or "as init process" in said:
        reached = "root partition"
    if re.search(r"^start: ", said, re.MULTILINE):
        reached = "init"
    if "gangway: the menu" in said:
        reached = "front end"
    return reached, said
