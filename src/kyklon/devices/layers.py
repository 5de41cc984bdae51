"""What rests on what: file systems on partitions on drives, files behind loop devices, arrays, volumes, swap.

Read from sysfs (Documentation/ABI/stable/sysfs-block: partition, holders, slaves, loop/backing_file, dm/uuid, diskseq),
/proc/self/mountinfo and /proc/swaps (proc_pid_mountinfo(5), proc_swaps(5)).

A node names one thing that holds bytes: 'b8:1' a block device by its number, 'f2049:77' a file by its file system's
device number and its inode. Two paths to one thing, hard links and bind mounts too, have one node.
"""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

SYSTEM_PLACES = ("/", "/boot", "/boot/efi", "/usr", "/var", "/home")
_ESCAPED = re.compile(r"\\([0-7]{3})")  # how proc writes blanks in names


@dataclass(frozen=True)
class Uses:
    """What stands on a drive or a file. members: LVM, RAID, crypt or 'mapped'. system: this computer runs from it."""

    mounts: tuple[str, ...] = ()
    swap: bool = False
    members: tuple[str, ...] = ()
    system: bool = False


def node_of(status: os.stat_result) -> str:
    if stat.S_ISBLK(status.st_mode):
        return _block(status.st_rdev)
    return f"f{status.st_dev}:{status.st_ino}"


def _block(device: int) -> str:
    return f"b{os.major(device)}:{os.minor(device)}"


@dataclass(frozen=True)
class _Mount:
    device: str  # major:minor
    place: str
    source: str


@dataclass
class Layers:
    """One look at this computer. sys and proc: where they are mounted."""

    sys: Path = Path("/sys")
    proc: Path = Path("/proc")
    _mounts: list[_Mount] = field(default_factory=list)
    _loops: dict[str, str] = field(default_factory=dict)  # node of the backing file -> node of the loop device

    def __post_init__(self) -> None:
        self._mounts = list(self._read_mounts())
        self._loops = {}
        for loop in _found(self.sys / "block", "loop*/loop/backing_file"):
            behind = self._behind(loop.parent.parent)
            if behind:
                self._loops.setdefault(behind, "")
                self._loops[behind] += f" b{_text(loop.parent.parent / 'dev')}"

    def _read_mounts(self) -> Iterator[_Mount]:
        for line in _text(self.proc / "self" / "mountinfo").splitlines():
            words = line.split(" ")
            if len(words) > 6 and "-" in words:
                yield _Mount(words[2], _unescaped(words[4]), _unescaped(words[words.index("-") + 2]))

    # --- downwards -------------------------------------------------------------------------------------------------

    def below(self, path: Path) -> frozenset[str]:
        """Every node that a file's or device's bytes lie on, itself included; {} where it cannot be told."""
        try:
            status = path.stat()
        except OSError:
            return frozenset()
        found: set[str] = set()
        waiting = [node_of(status)]
        while waiting:
            node = waiting.pop()
            if node not in found:
                found.add(node)
                waiting += self._under(node)
        return frozenset(found)

    def _under(self, node: str) -> list[str]:
        if node.startswith("f"):
            device = int(node[1:].split(":")[0])
            return self._devices_of(f"{os.major(device)}:{os.minor(device)}")
        folder = self._folder(node)
        if folder is None:
            return []
        under = [f"b{_text(each / 'dev')}" for each in _listed(folder / "slaves")]
        if (folder / "partition").exists():
            under.append(f"b{_text(folder.parent / 'dev')}")
        behind = self._behind(folder)
        return [*under, behind] if behind else under

    def _devices_of(self, device: str) -> list[str]:
        """The block devices of a mounted file system; some (btrfs) have a number of their own."""
        if (self.sys / "dev" / "block" / device).exists():
            return [f"b{device}"]
        return [node for mount in self._mounts if mount.device == device and (node := _device_node(mount.source))]

    def _folder(self, node: str) -> Path | None:
        link = self.sys / "dev" / "block" / node[1:]
        return link.resolve() if link.exists() else None

    def _behind(self, folder: Path) -> str:
        """The node of the file behind a loop device, '' for another device."""
        name = _text(folder / "loop" / "backing_file")
        try:
            return node_of(Path(name).stat()) if name else ""
        except OSError:  # deleted, or in another place's view
            return ""

    # --- upwards ---------------------------------------------------------------------------------------------------

    def same(self, node: str) -> frozenset[str]:
        """The nodes that are the same bytes as this one: partitions, the file behind a loop device, its other loops."""
        found: set[str] = set()
        waiting = [node]
        while waiting:
            now = waiting.pop()
            if now in found:
                continue
            found.add(now)
            waiting += self._loops.get(now, "").split()
            folder = self._folder(now) if now.startswith("b") else None
            if folder is not None:
                waiting += [f"b{_text(each.parent / 'dev')}" for each in _found(folder, "*/partition")]
                behind = self._behind(folder)
                waiting += [behind] if behind else []
        return frozenset(found)

    def uses(self, node: str) -> Uses:
        """Everything that would be hurt by writing to this node."""
        own = self.same(node)
        above, members = self._holders(own)
        everything = own | above
        numbers = {each[1:] for each in everything if each.startswith("b")}
        mounts = [
            mount.place
            for mount in self._mounts
            if mount.device in numbers
            or (mount.source.startswith("/dev/") and _device_node(mount.source) in everything)
        ]
        swaps = [node_at(Path(_unescaped(line.split()[0]))) for line in self._swap_lines()]
        under_system: set[str] = set()
        for place in SYSTEM_PLACES:
            under_system |= self.below(Path(place))
        return Uses(
            tuple(dict.fromkeys(mounts)),
            any(swap in everything for swap in swaps if swap),
            members,
            bool(own & under_system),
        )

    def _swap_lines(self) -> list[str]:
        return [line for line in _text(self.proc / "swaps").splitlines()[1:] if line.strip()]

    def _holders(self, own: frozenset[str]) -> tuple[frozenset[str], tuple[str, ...]]:
        """What is built on these nodes, and its kinds."""
        found: set[str] = set()
        kinds: list[str] = []
        waiting = [node for node in own if node.startswith("b")]
        seen: set[str] = set()
        while waiting:
            node = waiting.pop()
            folder = self._folder(node)
            if node in seen or folder is None:
                continue
            seen.add(node)
            for holder in _listed(folder / "holders"):
                held = f"b{_text(holder / 'dev')}"
                found.add(held)
                kinds.append(_kind(holder))
                waiting += self.same(held)
        return frozenset(found), tuple(dict.fromkeys(kinds))


def _kind(folder: Path) -> str:
    """LVM, RAID, crypt, or 'mapped' for whatever else the kernel builds."""
    if (folder / "md").is_dir():
        return "RAID"
    name = _text(folder / "dm" / "uuid")
    return next((kind for start, kind in _DM if name.startswith(start)), "mapped")


_DM = (("LVM-", "LVM"), ("CRYPT-", "crypt"), ("DMRAID-", "RAID"), ("mpath-", "RAID"))  # who made it, by its dm uuid


def sequence(device: int) -> str:
    """What tells one plugging-in of a device number from the next (sysfs diskseq, Linux 5.15); '' where not told."""
    return _text(Path(f"/sys/dev/block/{os.major(device)}:{os.minor(device)}/diskseq"))


def node_at(path: Path) -> str:
    """The node of a path, '' when nothing is there."""
    try:
        return node_of(path.stat())
    except OSError:
        return ""


def held_node(where: Path | int) -> str:
    """The node of a path or of an open descriptor, told apart from every later drive or file of the same name: by the
    device's sequence, by the file's birth. '' when nothing is there."""
    try:
        status = os.stat(where)
    except OSError:
        return ""
    once = sequence(status.st_rdev) if stat.S_ISBLK(status.st_mode) else _birth(where)
    return f"{node_of(status)}:{once}"


_AT_FDCWD, _AT_EMPTY_PATH, _STATX_BTIME = -100, 0x1000, 0x800  # linux/fcntl.h, linux/stat.h
_BTIME_AT = 80  # bytes into struct statx (statx(2)): seconds as s64, nanoseconds as u32


def _birth(where: Path | int) -> str:
    """When a file was made, by statx(2), which the standard library lacks: inode numbers are used again at once."""
    import ctypes
    import struct

    found = ctypes.create_string_buffer(256)
    at, name, flags = (where, b"", _AT_EMPTY_PATH) if isinstance(where, int) else (_AT_FDCWD, os.fsencode(where), 0)
    call = getattr(ctypes.CDLL(None, use_errno=True), "statx", None)
    if call is None or call(at, name, flags, _STATX_BTIME, found):
        return ""
    seconds, nanoseconds = struct.unpack_from("<qI", found, _BTIME_AT)
    return f"{seconds}.{nanoseconds}"


def _device_node(source: str) -> str:
    node = node_at(Path(source)) if source.startswith("/") else ""
    return node if node.startswith("b") else ""


def _text(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8", errors="surrogateescape").rstrip("\n")
    except OSError:
        return ""


def _listed(folder: Path) -> list[Path]:
    """What is in a folder of sysfs, links followed; a device may be pulled out while it is read."""
    try:
        return sorted(path.resolve() for path in folder.iterdir())
    except OSError:
        return []


def _found(folder: Path, pattern: str) -> list[Path]:
    """As glob, of a folder that may vanish meanwhile."""
    try:
        return sorted(folder.glob(pattern))
    except OSError:
        return []


def _unescaped(text: str) -> str:
    return _ESCAPED.sub(lambda match: chr(int(match[1], 8)), text)
