"""File systems that the root's own table asks for, against what is on the card.

Sources: fstab(5), mount(8) (options of any file system), vfat options: the kernel's filesystems/vfat.rst and
fs/fat/inode.c (6.1); what systemd makes of a line: systemd.mount(5), systemd-fstab-generator(8).
"""

from __future__ import annotations

from dataclasses import replace

from kyklon.model.card import Mount, Partition, RootFacts
from kyklon.model.root_device import root_device
from kyklon.operations.boot.read import CardSettings, read_settings
from kyklon.operations.card.volumes.root_facts import CHECKERS
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import Failure, Screen
from kyklon.operations.poweron.stages.root import root_of, wrong_flag

_ANY = frozenset(
    (
        "async",
        "atime",
        "noatime",
        "auto",
        "noauto",
        "context",
        "defaults",
        "dev",
        "nodev",
        "diratime",
        "nodiratime",
        "dirsync",
        "exec",
        "noexec",
        "group",
        "iversion",
        "noiversion",
        "mand",
        "nomand",
        "_netdev",
        "nofail",
        "relatime",
        "norelatime",
        "strictatime",
        "nostrictatime",
        "lazytime",
        "nolazytime",
        "suid",
        "nosuid",
        "silent",
        "loud",
        "owner",
        "remount",
        "ro",
        "rw",
        "sync",
        "user",
        "nouser",
        "users",
        "comment",
        "loop",
        "offset",
        "sizelimit",
        "bind",
        "rbind",
        "private",
        "shared",
        "slave",
        "unbindable",
        "nosymfollow",
        "fscontext",
        "defcontext",
        "rootcontext",
        "pri",
    )
)
_FAT = frozenset(
    (
        "check",
        "uid",
        "gid",
        "umask",
        "dmask",
        "fmask",
        "allow_utime",
        "codepage",
        "usefree",
        "nocase",
        "quiet",
        "showexec",
        "debug",
        "errors",
        "flush",
        "tz",
        "time_offset",
        "dots",
        "nodots",
        "sys_immutable",
        "iocharset",
        "shortname",
        "utf8",
        "uni_xlate",
        "nonumtail",
        "rodir",
        "discard",
        "nfs",
        "dos1xfloppy",
        "fat",
        "blocksize",
        "cvf_format",
        "cvf_options",
        "conv",
        "posix",
    )
)
_IN_MEMORY = (
    "proc",
    "sysfs",
    "tmpfs",
    "devtmpfs",
    "devpts",
    "debugfs",
    "tracefs",
    "configfs",
    "securityfs",
    "cgroup",
    "cgroup2",
    "ramfs",
    "mqueue",
    "hugetlbfs",
    "pstore",
    "bpf",
    "overlay",
    "none",
)
_NETWORK = ("nfs", "nfs4", "cifs", "smb3", "sshfs", "fuse.sshfs", "9p", "ceph", "glusterfs")  # systemd.mount(5): remote
_BY = {
    "/dev/disk/by-uuid/": "UUID=",
    "/dev/disk/by-label/": "LABEL=",
    "/dev/disk/by-partuuid/": "PARTUUID=",
    "/dev/disk/by-partlabel/": "PARTLABEL=",
}
BOOT_PLACES = ("/boot", "/boot/firmware")  # where images mount it, CP


def why_not_mounted(bench: Bench, mount: Mount) -> str:
    """Why a line's file system is not mounted, '' when it is or nobody can tell."""
    if mount.kind in (*_IN_MEMORY, *_NETWORK, "swap", "auto.master") or mount.kind.startswith("fuse"):
        return ""
    if "bind" in mount.options or "rbind" in mount.options or not _is_device(mount.source):
        return ""
    part, why = _partition(bench, mount.source)
    if part is None:
        return why
    kinds = _kinds(bench, part)
    wanted = mount.kind.split(",")
    if kinds and "auto" not in wanted and not set(wanted) & set(kinds):
        return f"{mount.source} is {kinds[0]}, not {mount.kind}"
    return _wrong_option(mount, kinds)


def _is_device(source: str) -> bool:
    return source.startswith("/dev/") or source.partition("=")[0].upper() in ("UUID", "LABEL", "PARTUUID", "PARTLABEL")


def _partition(bench: Bench, source: str) -> tuple[Partition | None, str]:
    """The partition that a source means; or why there is none."""
    table = bench.contents.table
    for start, name in _BY.items():
        if source.startswith(start):
            source = name + source.removeprefix(start)
    name, _, value = source.partition("=")
    value = value.strip('"')
    if table is None:
        return None, ""
    if name in ("UUID", "LABEL"):
        for volume in bench.contents.volumes:
            own = volume.uuid if name == "UUID" else volume.label
            if own and (own.lower() == value.lower() if name == "UUID" else own == value):
                return next((part for part in table.partitions if part.number == volume.number), None), ""
        return None, f"no volume has {name} {value}"
    if source.startswith(("/dev/mapper/", "/dev/loop")):
        return None, ""
    found = root_device(
        (f"root={name}={value}" if value else f"root={source}",), table, disk=bench.build.medium == "disk"
    )
    if found is None or found.partition is not None:
        return (found.partition if found else None), ""
    return None, found.why.rstrip(".")


def _kinds(bench: Bench, part: Partition) -> tuple[str, ...]:
    """What a partition can be mounted as; () where nobody tells."""
    if (root := bench.contents.roots.get(part.number)) is not None:
        return root.kinds
    kind = next((volume.kind for volume in bench.contents.volumes if volume.number == part.number), "")
    return ("vfat", "msdos") if kind.startswith("FAT") else (kind.lower(),) if kind else ()


def _wrong_option(mount: Mount, kinds: tuple[str, ...]) -> str:
    for option in mount.options:
        name = option.partition("=")[0]
        if not name or name in _ANY or name.startswith(("x-", "X-")):
            continue
        if "vfat" in kinds and name not in _FAT:
            return f"{mount.kind} knows no option {name}"
        if "ext4" in kinds and (why := wrong_flag(option)):
            return why
    return ""


def must_be(mount: Mount) -> bool:
    """Whether systemd goes on only when a line is mounted (systemd.mount(5): nofail, noauto, _netdev, automount)."""
    if mount.kind == "swap" or mount.where == "/" or not mount.where.startswith("/"):
        return False
    remote = mount.kind in _NETWORK or mount.kind in (
        "fuse.sshfs",
        "pvfs2",
        "gfs",
        "gfs2",
        "afs",
        "ncp",
        "ncpfs",
        "ocfs2",
        "orangefs",
        "davfs",
        "curlftpfs",
    )
    return not remote and not {"noauto", "nofail", "x-systemd.automount", "_netdev"} & set(mount.options)


def emergency(bench: Bench, root: RootFacts) -> Failure | None:
    """Where systemd stops for a line that must be mounted and is not."""
    for mount in root.mounts:
        if must_be(mount) and (why := why_not_mounted(bench, mount)):
            lines = ("You are in emergency mode.", "Press Enter for maintenance")
            return _failure(bench, f"{mount.where} is not mounted, and systemd waits for it: {why}.", lines)
    return None


def checked(bench: Bench, root: RootFacts) -> Failure | None:
    """Where scripts by their numbers stop: a file system that is to be checked at the start is not there, CP."""
    if why := _root_unchecked(root):
        return _failure(
            bench,
            why,
            ("An automatic file system check of the root filesystem failed.", "Give root password for maintenance"),
        )
    for mount in root.mounts:
        if not mount.checked or mount.where == "/" or {"noauto", "nofail"} & set(mount.options):
            continue
        if _is_device(mount.source):
            part, why = _partition(bench, mount.source)
            if part is None and why:
                lines = ("fsck failed.", "A maintenance shell will now be started.")
                return _failure(bench, f"{mount.where} cannot be checked: {why}.", lines)
    return None


def _root_unchecked(root: RootFacts) -> str:
    """Why the script that checks the root stops: fsck(8) is there and ends with 8 without the program for its kind."""
    line = next((mount for mount in root.mounts if mount.where == "/" and mount.checked), None)
    checks = any(name.removesuffix(".sh") == "checkroot" for name in root.numbered)
    fsck, own = (root.programs.get(path) for path in CHECKERS)
    if line is None or not checks or fsck is None or own is None or not fsck.there or own.there:
        return ""
    return f"/ cannot be checked: {own.path} is not there" if line.kind in ("ext4", "auto") else ""


def _failure(bench: Bench, cause: str, lines: tuple[str, ...]) -> Failure:
    screen = Screen("text", "Text screen", lines)
    return Failure("services", "system.mount", f"/etc/fstab: {cause}", None, screen, bench.board.lamps.idle)


def boot_files_unseen(bench: Bench) -> str:
    """Why what init starts does not see the boot partition's files, '' when it does or nobody can tell: where init is a
    script that mounts what the table lists."""
    root = root_of(bench)
    if root is None or not root.mounts_all:
        return ""
    meant = [mount for mount in root.mounts if mount.where in BOOT_PLACES]
    for mount in meant:
        part, why = _partition(bench, mount.source) if _is_device(mount.source) else (None, "")
        why = why_not_mounted(bench, mount) or why
        if "noauto" in mount.options:
            why = "it is not mounted by itself (noauto)"
        if why:
            return f"/etc/fstab: {mount.where} is not mounted: {why}"
        if part is not None and part.number != bench.contents.boot_number:
            own = bench.contents.boot_number
            return f"/etc/fstab: {mount.where} is partition {part.number}; the boot files are on {own}"
    return "" if meant else "/etc/fstab does not mount the boot partition"


def system_settings(bench: Bench) -> CardSettings | None:
    """The settings with those that the system, not the firmware, reads from the boot partition as it finds them."""
    if bench.settings is None or not boot_files_unseen(bench):
        return bench.settings
    root = root_of(bench)
    own = {**(root.own_boot if root else {}), bench.settings.boot_file.lower(): ""}
    found = read_settings(bench.dialect, bench.board, own)
    if found is None:
        return replace(bench.settings, services=(), user="", hostname="", country="")
    return replace(
        bench.settings, services=found.services, user=found.user, hostname=found.hostname, country=found.country
    )
