"""What a running machine says of itself, and what its boot folder holds."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import PurePosixPath

from kyklon.base.errors import WrongUse
from kyklon.base.numbers import whole
from kyklon.devices.destination import Destination
from kyklon.devices.secure_copy import Login, SecureCopy
from kyklon.model.build import Build
from kyklon.model.card import CardContents, KernelFile
from kyklon.operations.card.volumes.boot_facts import kernel_of
from kyklon.operations.card.volumes.contents import TEXT_MOST
from kyklon.operations.library.acts import login_of

_KERNEL_HEAD = 64 << 10  # bytes that tell of a 64-bit kernel; a 32-bit one is asked for whole
_KERNEL_MOST = 64 << 20
_MOST_FILES = 5000
_LOG_LINES = 4000

# what the kernel says of a card or a disk that wears out: its own words (kernel: drivers/mmc, block, fs/ext4)
_WORN = re.compile(
    r"(mmcblk\d|mmc\d|sd[a-z]).*(error -(110|84|5)|I/O error|timeout waiting|card never left busy)"
    r"|EXT4-fs error|EXT4-fs .*remounting filesystem read-only|blk_update_request: I/O error|Buffer I/O error",
    re.IGNORECASE,
)

_NO_DRIVE = re.compile(r"\b(loop|zram|ram|nbd|sr|dm-)\d")  # what is no drive of its own


@dataclass(frozen=True)
class Running:
    """Empty or 0 where the machine does not tell. celsius: of the processor. worn: lines of its log that speak of a
    card that wears out."""

    kernel: str = ""
    line: str = ""
    up_s: float = 0.0
    celsius: float = 0.0
    free: int = 0
    log: str = ""
    worn: tuple[str, ...] = ()
    failed: tuple[str, ...] = field(default=())


def login(build: Build, password: str = "", folder: str = "") -> Login:
    """How the build's machine is reached, in another folder than its games. Raises WrongUse."""
    return replace(login_of(build, password), folder=folder or build.library.remote_folder)


def boot_login(build: Build, password: str = "") -> Login:
    """The same for its boot folder, which root owns. Raises WrongUse."""
    return replace(login(build, password, build.upkeep.boot_folder or "/boot"), as_root=build.upkeep.as_root)


@contextmanager
def boot_folder(build: Build, password: str = "") -> Iterator[SecureCopy]:
    """The boot folder of the running machine. Raises KyklonError."""
    machine = SecureCopy(boot_login(build, password))
    try:
        yield machine
    finally:
        machine.close()


ROOT = "/"


@contextmanager
def root_folder(build: Build, password: str = "", top: str = ROOT) -> Iterator[SecureCopy]:
    """The whole root of the running machine, for the files of its settings. Raises KyklonError."""
    machine = SecureCopy(replace(login(build, password, top), as_root=build.upkeep.as_root, private=True))
    try:
        yield machine
    finally:
        machine.close()


_ASK = (
    "uname -r; echo; cat /proc/cmdline; echo; cut -d' ' -f1 /proc/uptime; echo; "
    "cat /sys/class/thermal/thermal_zone0/temp 2>/dev/null; echo; df -Pk / | tail -n 1; echo; "
    "systemctl --failed --plain --no-legend 2>/dev/null | head -n 20"
)


def look(machine: SecureCopy) -> Running:
    """What the machine says; nothing is changed there. Raises TargetLost."""
    parts = [part.strip() for part in re.split(r"\n[ \t]*\n", machine.run(_ASK) + "\n\n")]
    parts += [""] * (6 - len(parts))
    log = machine.run(f"dmesg 2>/dev/null | tail -n {_LOG_LINES}")
    lines = [line for line in log.splitlines() if wears_out(line)]
    cells = parts[4].split()
    free = whole(cells[3]) if len(cells) > 3 else None
    milli = whole(parts[3]) or 0
    return Running(
        _plain(parts[0])[:100],
        _plain(parts[1])[:4096],
        _number(parts[2]),
        milli / 1000 if 0 < milli < 200_000 else 0.0,
        (free or 0) * 1024,
        log,
        tuple(_plain(line)[:200] for line in lines[:20]),
        tuple(_plain(row.split()[0])[:80] for row in parts[5].splitlines() if row.split()),
    )


def wears_out(line: str) -> bool:
    """Whether a line of the kernel's log speaks of a card or a disk that wears out, and not of a file in its place."""
    return bool(_WORN.search(line)) and not _NO_DRIVE.search(line)


def _plain(text: str) -> str:
    return "".join(letter if letter.isprintable() else "?" for letter in text.splitlines()[0] if text) if text else ""


def _number(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        return 0.0
    return value if 0 <= value < 1e9 else 0.0


def contents_there(machine: Destination) -> CardContents:
    """The boot folder as a card's boot partition: names, texts, sums, kernels. Raises KyklonError; WrongUse where it
    holds too much to be one."""
    sizes: dict[str, int] = {}
    texts: dict[str, str] = {}
    names: dict[str, str] = {}
    digests: dict[str, str] = {}
    heads: dict[str, bytes] = {}
    kernels: list[KernelFile] = []
    for path, size, _mode in machine.files(""):
        if len(sizes) >= _MOST_FILES:
            raise WrongUse(
                f"{machine.name} holds more than {_MOST_FILES} files.",
                do="Set the boot folder on the machine, as /boot.",
            )
        if any(part.startswith(".before-") for part in PurePosixPath(path).parts) or path.endswith(".unfinished"):
            continue
        sizes[path] = size
        low = path.lower()
        with machine.read(path) as file:
            data = file.read(TEXT_MOST if size <= TEXT_MOST else _KERNEL_HEAD)
            if size > TEXT_MOST and b"\0" in data and kernel_of(path, size, data) is None and _may_be_kernel(data):
                data += file.read(_KERNEL_MOST)
        heads[low] = data[:8]
        if size <= TEXT_MOST:
            digests[low] = hashlib.sha256(data).hexdigest()
            if b"\0" not in data:
                texts[low], names[low] = data.decode("utf-8", "surrogateescape"), path
        if (kernel := kernel_of(path, size, data)) is not None:
            kernels.append(kernel)
    held: Mapping[str, object] = {"texts": texts, "names": names, "digests": digests, "heads": heads}
    return CardContents(sizes=sizes, kernels=tuple(kernels), **held)  # type: ignore[arg-type]


def _may_be_kernel(data: bytes) -> bool:
    """A 32-bit kernel tells its set only inside (kernel: arch/arm/boot/compressed/head.S)."""
    return data[0x24:0x28] == b"\x18\x28\x6f\x01"
