"""What a kernel unpacks before anything else: an initramfs in the newc form, written and read.

Source: the kernel's Documentation/driver-api/early-userspace/buffer-format.rst and init/initramfs.c (6.1): a file is
made only in a folder that was made before it; an archive may follow another; without /init the kernel goes on to root=.
"""

from __future__ import annotations

import zlib
from collections.abc import Mapping

from kyklon.base.errors import WrongUse
from kyklon.model.card import Ramdisk

READ = 4 << 20  # bytes of an initramfs that are looked at, packed and unpacked
MAGIC = b"070701"
_MAGICS = (MAGIC, b"070702")  # the second with sums of its files
_HEAD = 110  # bytes: the magic and 13 fields of 8 hexadecimal digits
_END = "TRAILER!!!"
_KEPT = 64 << 10  # bytes of a firmware file that are kept
_THERE = ("", "dev", "root")  # folders that the kernel has before it unpacks: usr/default_cpio_list
PACKED = {
    b"\x1f\x8b": "gzip",
    b"BZh": "bzip2",
    b"\xfd7zX": "xz",
    b"\x5d\0\0": "lzma",
    b"\x28\xb5\x2f\xfd": "zstd",
    b"\x02\x21\x4c\x18": "lz4",
    b"\x89LZO": "lzo",
}  # lib/decompress.c


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
    for number, (path, mode, data) in enumerate((*rows, (_END, 0, b"")), 1):
        out += _entry(number if path != _END else 0, path, mode, data)
    return bytes(out) + bytes(-len(out) % 512)


def _entry(number: int, path: str, mode: int, data: bytes) -> bytes:
    name = path.encode() + b"\0"
    links = 2 if mode & 0o40000 and not mode & 0o100000 else 1
    fields = (number, mode, 0, 0, links, 0, len(data), 0, 0, 0, 0, len(name), 0)
    head = MAGIC + "".join(f"{field:08x}" for field in fields).encode() + name
    return head + bytes(-len(head) % 4) + data + bytes(-len(data) % 4)


def kind_of(head: bytes) -> str:
    """'newc', or how it is packed; '' for what is no initramfs."""
    if head[:6] in _MAGICS:
        return "newc"
    return next((words for magic, words in PACKED.items() if head.startswith(magic)), "")


def read(name: str, size: int, data: bytes) -> Ramdisk | None:
    """An initramfs from its first READ bytes, None for what is none. Nothing is unpacked but gzip."""
    kind = kind_of(data)
    if not kind:
        return None
    packed, cut = kind != "newc", size > len(data)
    if kind == "gzip":
        try:
            unpacker = zlib.decompressobj(31)
            data = unpacker.decompress(data, READ)
        except zlib.error:
            return Ramdisk(name, size, trouble=f"{name} is packed and damaged")
        cut = cut or not unpacker.eof or bool(unpacker.unused_data.strip(b"\0"))
    elif packed:
        return Ramdisk(name, size)
    if not data.startswith(_MAGICS):
        return Ramdisk(name, size, trouble=f"{name} holds no archive")
    return _walked(name, size, data, cut=cut)


def _walked(name: str, size: int, data: bytes, *, cut: bool) -> Ramdisk:
    """Entry by entry, as the kernel takes them in."""
    at, folders, has_init, trouble = 0, set(_THERE), False, ""
    firmware: dict[str, bytes] = {}
    while True:
        head = data[at : at + _HEAD]
        if len(head) < _HEAD or head[:6] not in _MAGICS:
            trouble = "" if cut and len(head) < _HEAD else f"{name} is damaged at byte {at}"
            break
        try:
            fields = [int(head[place : place + 8], 16) for place in range(6, _HEAD, 8)]
        except ValueError:
            trouble = f"{name} is damaged at byte {at}"
            break
        mode, length, named = fields[1], fields[6], fields[11]
        begin = at + _HEAD + named + (-(_HEAD + named) % 4)
        path = data[at + _HEAD : at + _HEAD + max(0, named - 1)].decode("utf-8", "surrogateescape")
        if path == _END:
            rest = data[begin:].strip(b"\0")
            return Ramdisk(name, size, whole=not cut and not rest, has_init=has_init, firmware=firmware)
        if begin + length > len(data):
            trouble = "" if cut else f"{name} is cut short"
            break
        path = path.removeprefix("./").strip("/")
        if path.rpartition("/")[0] in folders:
            if mode & 0o170000 == 0o40000:
                folders.add(path)
            has_init |= path == "init"  # whatever it is: the kernel only looks whether it is there (fs/init.c)
            if path.startswith("lib/firmware/") and mode & 0o170000 == 0o100000 and length <= _KEPT:
                firmware[path.removeprefix("lib/firmware/")] = data[begin : begin + length]
        at = begin + length + (-length % 4)
    return Ramdisk(name, size, whole=False, has_init=has_init, firmware=firmware, trouble=trouble)
