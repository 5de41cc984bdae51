"""A real Linux kernel, run as a program without rights, with the card as its disk (package user-mode-linux).

What differs from a board: the card is ubda, not mmcblk0, so words and /etc/fstab that name it are translated;
programs are those of this machine, so busybox stands in for the card's own; ubda is there at once, so rootwait is
never missed.
"""

from __future__ import annotations

import contextlib
import os
import re
import select
import shutil
import subprocess
import time
from dataclasses import dataclass
from pathlib import Path

SECONDS = 30.0
_ENDS = (b"gangway: the menu", b"end Kernel panic", b"Waiting for root device", b"start: login incorrect",
         b"start: nothing more to start", b"can't access tty", b"/bin/sh: can't", b"reboot: ")  # fmt: skip


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
    run = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
                           start_new_session=True, cwd=card.parent)  # fmt: skip
    assert run.stdout is not None
    said = b""
    until = time.monotonic() + SECONDS
    try:
        while time.monotonic() < until:
            if select.select([run.stdout], [], [], 0.2)[0]:
                data = os.read(run.stdout.fileno(), 65536)
                if not data:
                    break
                said += data
            if any(mark in said for mark in _ENDS):
                break
    finally:
        _end(run)
    return Booted(*_told(said.decode("utf-8", "replace").replace("\r", "")))


def _end(run: subprocess.Popen[bytes]) -> None:
    """This kernel and its processes, which are all in the session that it was started in."""
    for _ in range(50):  # it may start one while the others end
        own = [number for number in _numbers() if _session(number) == run.pid]
        if not own:
            break
        for number in own:
            with contextlib.suppress(OSError):
                os.kill(number, 9)
        run.poll()
        time.sleep(0.01)
    run.wait()
    assert run.stdout is not None
    run.stdout.close()


def _numbers() -> list[int]:
    return [int(each.name) for each in Path("/proc").iterdir() if each.name.isdigit()]


def _session(number: int) -> int:
    """Of a process that still runs; 0 for one that has ended."""
    try:
        if Path(f"/proc/{number}/stat").read_text().rpartition(")")[2].split()[0] in "ZX":
            return 0
        return os.getsid(number)
    except OSError:
        return 0


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
