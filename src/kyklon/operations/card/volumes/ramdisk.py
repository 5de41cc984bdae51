"""What a kernel unpacks before anything else: an initramfs in the newc form, written and read.

Source: the kernel's Documentation/driver-api/early-userspace/buffer-format.rst and init/initramfs.c (6.1): a file is
made only in a folder that was made before it; an archive may follow another; without /init the kernel goes on to root=.
"""

from __future__ import annotations

from collections.abc import Mapping

from kyklon.base.errors import WrongUse
from kyklon.model.card import Ramdisk
from kyklon.operations.card.volumes.ramdisk_files import END, MAGIC, RamdiskFiles, kind_of
from kyklon.operations.card.volumes.root_facts import INITS, Looker

__all__ = ["READ", "kind_of", "read", "write"]

READ = 96 << 20  # bytes of an initramfs that are looked at, packed; those of distributions have up to 60 MB
_FIRMWARE, _MOST_FIRMWARE = 32 << 10, 500  # bytes of a file that is kept, 256 blocks of EDID; files
# who made it, by a file that is in all of theirs
MAKERS = {"scripts/functions": "initramfs-tools", "usr/lib/dracut": "dracut", "lib/dracut": "dracut"}


def write(files: Mapping[str, bytes]) -> bytes:
    """An archive of files by their paths, with the folders they are in. The same bytes every time."""
    out = bytearray()
    folders: list[str] = []
    for path in files:
        parts = path.split("/")[:-1]
        if path.startswith("/") or not all(parts) or ".." in parts or not path.isascii():
            raise WrongUse(f"{path!r} is no path for an initramfs.")
        for depth in range(1, len(parts) + 1):
            folder = "/".join(parts[:depth])
            if folder not in folders:
                folders.append(folder)
    rows = [*((folder, 0o40755, b"") for folder in folders), *((path, 0o100644, data) for path, data in files.items())]
    for number, (path, mode, data) in enumerate((*rows, (END, 0, b"")), 1):
        out += _entry(number if path != END else 0, path, mode, data)
    return bytes(out) + bytes(-len(out) % 512)


def _entry(number: int, path: str, mode: int, data: bytes) -> bytes:
    name = path.encode() + b"\0"
    links = 2 if mode & 0o40000 and not mode & 0o100000 else 1
    fields = (number, mode, 0, 0, links, 0, len(data), 0, 0, 0, 0, len(name), 0)
    head = MAGIC + "".join(f"{field:08x}" for field in fields).encode() + name
    return head + bytes(-len(head) % 4) + data + bytes(-len(data) % 4)


def _cannot_find(looker: Looker, maker: str) -> dict[str, str]:
    """Ways to name the root that initramfs-tools' scripts/functions, resolve_device(), cannot follow: for LABEL= and
    UUID= it asks blkid(8) with options that busybox does not know; the links of /dev/disk are made by udev."""
    if maker != "initramfs-tools":
        return {}
    found = {}
    blkid = next((path for path in ("/sbin/blkid", "/usr/sbin/blkid", "/bin/blkid") if looker.there(path)), "")
    if not blkid or looker.program(blkid).why:
        found = dict.fromkeys(("LABEL", "UUID"), "it has no blkid that runs")
    elif looker.program(blkid).inodes[:1] == looker.program("/bin/busybox").inodes[:1]:
        found = dict.fromkeys(("LABEL", "UUID"), "its blkid is busybox's, which cannot search")
    udev = ("/lib/systemd/systemd-udevd", "/usr/lib/systemd/systemd-udevd", "/sbin/udevd", "/bin/udevadm")
    if not any(looker.there(path) for path in udev):
        found["/dev/disk"] = "it has no udev, which makes these names"
    return found


def read(name: str, size: int, data: bytes) -> Ramdisk | None:
    """An initramfs from its first READ bytes, None for what is none."""
    if not kind_of(data):
        return None
    files = RamdiskFiles(data, size)
    looker = Looker(files)
    modules: dict[str, set[str]] = {}
    for top in ("lib/modules", "usr/lib/modules"):
        for path, _inode in files.below(top):
            release, _, inside = path.partition("/")
            stem, dot, _ending = inside.rpartition("/")[2].partition(".ko")
            if dot:
                modules.setdefault(release, set()).add(stem.replace("-", "_"))
    small = [(path, inode) for path, inode in files.below("lib/firmware") if inode.size <= _FIRMWARE]
    maker = next((maker for path, maker in MAKERS.items() if looker.there(f"/{path}")), "")
    there = looker.there("/init")  # whatever it is: the kernel only looks whether it is there (fs/init.c)
    return Ramdisk(
        name,
        size,
        whole=files.whole,
        has_init=there,
        firmware={path: files.head(inode, _FIRMWARE) for path, inode in small[:_MOST_FIRMWARE]},
        trouble=f"{name} is {files.trouble}" if files.trouble else "",
        init=looker.program("/init") if there else None,
        others=tuple(looker.program(path) for path in INITS if looker.there(path)),
        modules={release: frozenset(names) for release, names in modules.items()},
        maker=maker,
        unpacked=files.total,
        cannot_find=_cannot_find(looker, maker),
    )
