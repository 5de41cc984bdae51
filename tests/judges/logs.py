"""Logs of real starts of broken cards, cut, mixed and with noise, and what is true of them."""

from __future__ import annotations

import random
import re
from dataclasses import dataclass
from pathlib import Path

from judges import cards, compare, kernel, loader
from kyklon.operations.card.volumes import contents
from kyklon.operations.poweron.bench import lay_out
from kyklon.operations.poweron.boot_log import LogReading, read_log

_STAGES = ("", "kernel line", "root partition", "init", "front end")
_ORDER = tuple(stage.name for stage in compare.STAGES)
# what the same fault may be called: the log names what the kernel met, the forecast what is behind it
_ALIKE = (
    {"boot.root-nowhere", "boot.no-root", "card.second-table", "boot.no-rootwait", "card.not-bootable"},
    {"card.no-root-partition", "card.root-damaged", "boot.root-elsewhere", "boot.rootfstype", "boot.rootflags"},
    {"system.no-init", "boot.init", "system.start-program", "system.no-dev"},
    {"boot.no-front-end", "system.front-end", "boot.user", "system.shell"},
    {"boot.void-file", "boot.menu-waits", "boot.missing-file"},
    {"boot.kernel-set", "boot.kernel-damaged", "boot.initramfs", "boot.device-tree", "boot.device-tree-damaged"},
)
_FOREIGN = (
    "[    2.100000] random: crng init done",
    "usb 1-1: new full-speed USB device number 2 using hcd",
    "[    3.000000] input: Tackle Pair as /devices/platform/usb/input/input3",
    "systemd-journald: Received client request",
    "cfg80211: Loading compiled-in X.509 certificates for regulatory database",
    "\x1b[32m  ok  \x1b[0m",
    "",
    "clocksource: Switched to clocksource itimer",
    "[    1.500000] NET: Registered PF_INET6 protocol family",
    "what is this? nobody knows",
    "EXT4-fs (sdb1): mounted filesystem with ordered data mode. Quota mode: none.",
)


@dataclass(frozen=True)
class Truth:
    """A log, the stage that was really passed last, and the code of what is wrong, '' where nothing is or no forecast
    agrees with the real start."""

    text: str
    stage: str
    code: str
    what: str


def of_kernel(whole: Path, to: Path, seed: int) -> Truth:
    """A start of a card broken for the kernel; the judge's own reading of the whole log is the truth."""
    broken = cards.for_kernel(whole, to, seed)
    seen = contents.observe(broken.path, compare.lighthouse_programs())
    failure = compare.first_failure(compare._for_kernel(seen, broken.line, broken.path), compare._OF_KERNEL)
    said = kernel.boot(broken.path, f"{broken.line} ignore_loglevel{' printk.time=1' if seed % 2 else ''}")
    stage, _said = kernel._told(re.sub(r"^\[ *\d+\.\d+\] ", "", said.said, flags=re.MULTILINE))
    agreed = compare.stage_before(failure) == stage
    return Truth(said.said, stage, failure.code if failure and agreed else "", broken.what)


def of_loader(whole: Path, to: Path, seed: int) -> Truth:
    """A start of a card broken for the boot loader. stage: the one that failed, 'started' for none."""
    broken = cards.for_loader(whole, to, seed)
    bench = lay_out(compare._build(), compare.catalogue(), compare._as_loaded(contents.observe(broken.path)))
    failure = compare.first_failure(bench, compare._UP_TO_KERNEL)
    real = loader.load(broken.path)
    found = compare.with_loader_stage(real)
    agreed = (failure.stage if failure else "started") == found
    return Truth(real.said, found, failure.code if failure and agreed else "", broken.what)


def mangled(text: str, seed: int) -> str:
    """Cut at its head, other lines in between, a journal's words before, an older start before it."""
    rng = random.Random(f"log {seed}")
    lines = text.replace("\r", "").split("\n")
    if rng.random() < 0.4:  # what scrolled off
        lines = lines[rng.randrange(max(1, len(lines) // 2)) :]
    for _ in range(rng.randrange(12)):
        lines.insert(rng.randrange(len(lines) + 1), rng.choice(_FOREIGN))
    if rng.random() < 0.25:
        lines = [
            f"Nov 27 10:{index % 60:02}:00 games kernel: {line}" if line else line for index, line in enumerate(lines)
        ]
    if rng.random() < 0.25:
        older = "Linux version 6.1.0\nVFS: Mounted root (ext4 filesystem) readonly on device 98:2."
        lines = [
            *older.split("\n"),
            "start: network",
            "gangway: the menu",
            "reboot: Restarting system",
            "Linux version 6.1.0 (again)",
            *lines,
        ]
    if rng.random() < 0.2:
        lines = [line + "\r" for line in lines]
    return "\n".join(lines)


def read(text: str) -> LogReading:
    return read_log(text, compare.catalogue())


def kernel_stage(reading: LogReading) -> str:
    """The judge's stages are fewer."""
    if not reading.reached:
        return ""
    at = _ORDER.index(reading.reached)
    return next((stage for stage in reversed(_STAGES) if stage and _ORDER.index(stage) <= at), "")


def loader_stage(reading: LogReading) -> str:
    if reading.stop is None:
        return (
            "started"
            if reading.reached and _ORDER.index(reading.reached) >= _ORDER.index("kernel")
            else "nothing found"
        )
    return reading.stop.stage if reading.stop.stage in ("boot file", "kernel") else "nothing found"


def same_cause(reading: LogReading, code: str) -> bool:
    """Whether the log's cause is that one, or another name of it."""
    own = reading.stop.code.split(":")[0] if reading.stop else ""
    code = code.split(":")[0]
    return own == code or any(own in names and code in names for names in _ALIKE)
