"""Which package of a Linux distribution brings a program or a system library, and the line that installs it.

Families are told by ID and ID_LIKE of os-release(5). Names of Debian's packages were proven on Debian 12; those of the
other families are from memory, and a name that is not known is left out rather than guessed.
"""

from __future__ import annotations

import functools
import platform
from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True)
class Family:
    """index: into the rows of _PACKAGES. line: what installs packages."""

    name: str
    index: int
    line: str


_FAMILIES = {
    "debian": Family("debian", 0, "sudo apt install"),
    "fedora": Family("fedora", 1, "sudo dnf install"),
    "arch": Family("arch", 2, "sudo pacman -S --needed"),
    "suse": Family("suse", 3, "sudo zypper install"),
    "alpine": Family("alpine", 4, "sudo apk add"),
}

_UTIL = ("util-linux", "util-linux-core", "util-linux", "util-linux", "util-linux-misc")
_EXT = ("e2fsprogs", "e2fsprogs", "e2fsprogs", "e2fsprogs", "e2fsprogs-extra")
_MTOOLS, _EXFAT, _FAT = ("mtools",) * 5, ("exfatprogs",) * 5, ("dosfstools",) * 5
_PACKAGES = {  # debian, fedora, arch, suse, alpine; '' where none is known
    "mcopy": _MTOOLS,
    "mdir": _MTOOLS,
    "mren": _MTOOLS,
    "mdel": _MTOOLS,
    "mmd": _MTOOLS,
    "mtype": _MTOOLS,
    "mkfs.fat": _FAT,
    "mkfs.exfat": _EXFAT,
    "mke2fs": _EXT,
    "mkfs.ext4": _EXT,
    "debugfs": _EXT,
    "dumpe2fs": _EXT,
    "e2image": _EXT,
    "e2fsck": _EXT,
    "sfdisk": ("fdisk", "util-linux", "util-linux", "util-linux", "sfdisk"),
    "lsblk": ("util-linux", "util-linux", "util-linux", "util-linux", "lsblk"),
    "prlimit": _UTIL,
    "umount": ("mount", "util-linux", "util-linux", "util-linux", "umount"),
    "linux.uml": ("user-mode-linux", "", "", "", ""),
    "busybox": ("busybox-static", "busybox", "busybox", "busybox-static", "busybox-static"),
    "bwrap": ("bubblewrap",) * 5,
    "ldd": ("libc-bin", "glibc-common", "glibc", "glibc", "musl-utils"),
    "qemu-system-aarch64": (
        "qemu-system-arm u-boot-qemu",
        "qemu-system-aarch64",
        "qemu-system-aarch64",
        "qemu-arm",
        "",
    ),
    "libEGL.so.1": ("libegl1", "libglvnd-egl", "libglvnd", "libEGL1", "mesa-egl"),
    "libGL.so.1": ("libgl1", "libglvnd-glx", "libglvnd", "libGL1", "mesa-gl"),
    "libdbus-1.so.3": ("libdbus-1-3", "dbus-libs", "dbus", "libdbus-1-3", "dbus-libs"),
    "libfontconfig.so.1": ("libfontconfig1", "fontconfig", "fontconfig", "libfontconfig1", "fontconfig"),
    "libglib-2.0.so.0": ("libglib2.0-0", "glib2", "glib2", "libglib-2_0-0", "glib"),
    "libxkbcommon.so.0": ("libxkbcommon0", "libxkbcommon", "libxkbcommon", "libxkbcommon0", "libxkbcommon"),
    "libxkbcommon-x11.so.0": (
        "libxkbcommon-x11-0",
        "libxkbcommon-x11",
        "libxkbcommon-x11",
        "libxkbcommon-x11-0",
        "libxkbcommon",
    ),
    "libxcb-cursor.so.0": ("libxcb-cursor0", "xcb-util-cursor", "xcb-util-cursor", "libxcb-cursor0", "xcb-util-cursor"),
    "libxcb-icccm.so.4": ("libxcb-icccm4", "xcb-util-wm", "xcb-util-wm", "libxcb-icccm4", "xcb-util-wm"),
    "libxcb-image.so.0": ("libxcb-image0", "xcb-util-image", "xcb-util-image", "libxcb-image0", "xcb-util-image"),
    "libxcb-keysyms.so.1": (
        "libxcb-keysyms1",
        "xcb-util-keysyms",
        "xcb-util-keysyms",
        "libxcb-keysyms1",
        "xcb-util-keysyms",
    ),
    "libxcb-render-util.so.0": (
        "libxcb-render-util0",
        "xcb-util-renderutil",
        "xcb-util-renderutil",
        "libxcb-render-util0",
        "xcb-util-renderutil",
    ),
    "udisks2": ("udisks2",) * 5,
}


@functools.lru_cache(maxsize=1)
def family() -> Family | None:
    """This computer's, or None where it says nothing that is known."""
    try:
        told = platform.freedesktop_os_release()
    except OSError:
        return None
    return family_of(told.get("ID", ""), told.get("ID_LIKE", ""))


def family_of(own: str, like: str = "") -> Family | None:
    """own, like: ID and ID_LIKE of os-release(5)."""
    for word in (own, *like.split()):
        for name, found in _FAMILIES.items():
            if word == name or word.startswith(f"open{name}"):
                return found
    return None


def packages_for(things: Iterable[str], found: Family | None) -> tuple[str, ...]:
    """The packages that bring programs and libraries, each once, in their order; what no package is known of is left
    out."""
    if found is None:
        return ()
    rows = (_PACKAGES.get(thing, ("",) * 5)[found.index].split() for thing in things)
    return tuple(dict.fromkeys(name for row in rows for name in row))


def install_line(*things: str, found: Family | None = None) -> str:
    """The line to type for what is missing; '' where it is not known. found: this computer's family when None."""
    place = found or family()
    names = packages_for(things, place)
    return f"{place.line} {' '.join(names)}" if place is not None and names else ""


def how_to_install(program: str) -> str:
    """A sentence for an error."""
    line = install_line(program)
    return f"Install it: {line}" if line else f"Install {program} with your system's package manager."
