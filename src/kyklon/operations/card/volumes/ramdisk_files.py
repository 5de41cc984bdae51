"""The files of an initramfs as the kernel unpacks them, with the verbs of a file system.

Source: the kernel's init/initramfs.c (6.1): archives follow one another, each in the newc form, packed as a whole
or not; a file is made only in a folder that was made before it; a name met again takes the place of the first.
"""

from __future__ import annotations

import bz2
import lzma
import stat
import zlib
from collections.abc import Iterator
from dataclasses import dataclass, field, replace

from backports import zstd

from kyklon.base.errors import FormatError
from kyklon.operations.card.volumes.ext_inodes import Inode

MAGIC = b"070701"
MAGICS = (MAGIC, b"070702")  # the second with sums of its files
HEAD = 110  # bytes: the magic and 13 fields of 8 hexadecimal digits
END = "TRAILER!!!"
THERE = ("", "dev", "root")  # folders that the kernel has before it unpacks: usr/default_cpio_list
UNPACKED = 192 << 20  # bytes that are unpacked of one; those of distributions have up to 100 MB
KEPT = 64 << 10  # bytes of a file that are kept: a script, or the head of a program
_MOST = 50_000  # files
_DEEPEST_LINK = 40  # fs/namei.c: MAXSYMLINKS
PACKED = {
    b"\x1f\x8b": "gzip",
    b"BZh": "bzip2",
    b"\xfd7zX": "xz",
    b"\x5d\0\0": "lzma",
    b"\x28\xb5\x2f\xfd": "zstd",
    b"\x02\x21\x4c\x18": "lz4",
    b"\x89LZO": "lzo",
}  # lib/decompress.c
UNREAD = ("lz4", "lzo")  # nothing here unpacks these


@dataclass
class _Entry:
    """A file, folder or link. data: its first KEPT bytes; names: what a folder holds."""

    inode: Inode
    data: bytes = b""
    names: dict[str, _Entry] = field(default_factory=dict)


def kind_of(head: bytes) -> str:
    """'newc', or how it is packed; '' for what is no initramfs."""
    if head[:6] in MAGICS:
        return "newc"
    return next((words for magic, words in PACKED.items() if head.startswith(magic)), "")


class Stopped(ValueError):
    """The kernel stops unpacking. str(): why."""


def unpacked(kind: str, data: bytes, most: int) -> tuple[bytes, int, bool]:
    """A packed archive's bytes, how many of `data` it took, and whether its end came. Raises Stopped for damage."""
    try:
        if kind == "gzip":
            gunzip = zlib.decompressobj(31)
            out = gunzip.decompress(data, most)
            return out, len(data) - len(gunzip.unused_data), gunzip.eof
        opened: bz2.BZ2Decompressor | lzma.LZMADecompressor | zstd.ZstdDecompressor = (
            bz2.BZ2Decompressor() if kind == "bzip2" else zstd.ZstdDecompressor() if kind == "zstd" else _lzma(kind)
        )
        out = opened.decompress(data, max_length=most)
        return out, len(data) - len(opened.unused_data), opened.eof
    except (zlib.error, lzma.LZMAError, zstd.ZstdError, OSError, ValueError, EOFError) as bad:
        raise Stopped(f"packed with {kind} and damaged") from bad


def _lzma(kind: str) -> lzma.LZMADecompressor:
    return lzma.LZMADecompressor(lzma.FORMAT_XZ if kind == "xz" else lzma.FORMAT_ALONE, memlimit=128 << 20)


class RamdiskFiles:
    """What lies in an initramfs. whole: it was read to its end. trouble: why the kernel stops unpacking it, '' when it
    does not; what came before stays. total: bytes that were unpacked."""

    def __init__(self, data: bytes, size: int) -> None:
        """data: the first bytes of a file of `size` bytes."""
        self._entries_by_number: list[_Entry] = []
        self._root = self._new(stat.S_IFDIR | 0o755)
        self.trouble = ""
        self.whole = False
        self.total = 0
        self._linked: dict[tuple[int, ...], _Entry] = {}
        for name in THERE[1:]:
            self._root.names[name] = self._new(stat.S_IFDIR | 0o755)
        try:
            self.whole = self._archives(data, cut=size > len(data))
        except Stopped as bad:
            self.trouble = str(bad)

    def _new(self, mode: int, uid: int = 0, gid: int = 0) -> _Entry:
        entry = _Entry(Inode(len(self._entries_by_number), mode, uid, gid, 0, 0, b"", 0))
        self._entries_by_number.append(entry)
        return entry

    def _archives(self, data: bytes, *, cut: bool) -> bool:
        """One archive after the other; whether all were read."""
        at, ended = 0, False
        while at < len(data):
            if data[at] == 0:
                at += len(data) - at - len(data[at:].lstrip(b"\0"))
                continue
            kind = kind_of(data[at : at + 16])
            if kind == "newc" and at % 4 == 0:
                at, ended = self._entries(data, at, cut=cut)
                if not ended:
                    return False
                continue
            if kind in ("", "newc"):
                raise Stopped(f"damaged at byte {at}")
            if kind in UNREAD:
                return False
            out, taken, ended = unpacked(kind, data[at:], UNPACKED - self.total)
            if not kind_of(out[:6]) == "newc":
                raise Stopped("no archive")
            inside = 0
            while inside < len(out):
                if out[inside] == 0:
                    inside += len(out) - inside - len(out[inside:].lstrip(b"\0"))
                    continue
                inside, done = self._entries(out, inside, cut=not ended)
                if not done:
                    return False
            if not ended:
                if cut or len(out) >= UNPACKED - self.total:
                    return False
                raise Stopped(f"packed with {kind} and cut short")
            self.total += len(out)
            at += taken
        return not cut

    def _entries(self, data: bytes, at: int, *, cut: bool) -> tuple[int, bool]:
        """One archive's entries; where it ends, and whether its end came. Raises Stopped."""
        while True:
            head = data[at : at + HEAD]
            if len(head) < HEAD and cut:
                return at, False
            try:
                fields = [int(head[place : place + 8], 16) for place in range(6, HEAD, 8)]
            except ValueError:
                raise Stopped(f"damaged at byte {at}") from None
            if len(head) < HEAD or head[:6] not in MAGICS:
                raise Stopped(f"damaged at byte {at}")
            length, named = fields[6], fields[11]
            begin = at + HEAD + named + (-(HEAD + named) % 4)
            path = data[at + HEAD : at + HEAD + max(0, named - 1)].decode("utf-8", "surrogateescape")
            if path == END:
                return min(begin, len(data)), True
            if begin + length > len(data):
                if cut:
                    return at, False
                raise Stopped("cut short")
            self._take(path.removeprefix("./").strip("/"), fields, data, begin)
            at = begin + length + (-length % 4)
            if at >= len(data):
                return len(data), not cut  # the kernel misses no trailer

    def _take(self, path: str, fields: list[int], data: bytes, begin: int) -> None:
        mode, length = fields[1], fields[6]
        folder, _, name = path.rpartition("/")
        parent = self._folder(folder)
        if parent is None or len(self._entries_by_number) > _MOST:
            return
        if not path:
            return
        known = parent.names.get(name)
        if stat.S_ISDIR(mode):
            if known is None or not known.inode.is_folder:
                parent.names[name] = self._new(mode, fields[2], fields[3])
            return
        key = (fields[7], fields[8], fields[0], stat.S_IFMT(mode))
        linked = self._linked.get(key) if fields[4] >= 2 and stat.S_ISREG(mode) else None
        entry = linked or self._new(mode, fields[2], fields[3])
        if fields[4] >= 2:
            self._linked[key] = entry
        if length or linked is None:
            entry.inode = replace(entry.inode, mode=mode, size=length)
            entry.data = data[begin : begin + min(length, KEPT)]
        parent.names[name] = entry

    def _folder(self, path: str) -> _Entry | None:
        """A folder that is there already; the kernel follows links on the way."""
        try:
            found = self.find(f"/{path}")
        except FormatError:
            return None
        return self._entries_by_number[found.number] if found is not None and found.is_folder else None

    # --- the verbs of ExtReader --------------------------------------------------------------------------------------

    def find(self, path: str, *, follow: bool = True) -> Inode | None:
        """The inode of an absolute path, links followed; None when there is none. Raises FormatError for a circle."""
        return self.walk(path, follow=follow)[0]

    def real(self, path: str) -> str:
        """As of ExtReader."""
        found, _folders, place = self.walk(path)
        return place if found is not None else ""

    def walk(self, path: str, *, follow: bool = True) -> tuple[Inode | None, tuple[tuple[str, Inode], ...], str]:
        """The same with the folders on the way, and the path without links."""
        names = [name for name in reversed(path.split("/")) if name not in ("", ".")]
        walked, steps, passed, followed = [self._root], list[str](), dict[int, tuple[str, Inode]](), 0
        while names:
            name = names.pop()
            here = walked[-1].inode
            if not here.is_folder:
                return None, tuple(passed.values()), ""
            passed.setdefault(here.number, ("/" + "/".join(steps), here))
            if name == "..":
                if len(walked) > 1:
                    walked.pop()
                    steps.pop()
                continue
            entry = walked[-1].names.get(name)
            if entry is None:
                return None, tuple(passed.values()), ""
            if entry.inode.is_link and (follow or names):
                followed += 1
                if followed > _DEEPEST_LINK:
                    raise FormatError(path, 0, expected="a link that ends", got="a circle of links")
                target = self.target_of(entry.inode)
                if target.startswith("/"):
                    walked, steps = walked[:1], []
                names += [word for word in reversed(target.split("/")) if word not in ("", ".")]
                continue
            walked.append(entry)
            steps.append(name)
        return walked[-1].inode, tuple(passed.values()), "/" + "/".join(steps)

    def head(self, inode: Inode, most: int) -> bytes:
        """The first bytes of a file, KEPT at most."""
        return self._entries_by_number[inode.number].data[:most]

    def tail(self, inode: Inode, most: int) -> bytes:
        return self._entries_by_number[inode.number].data[-most:] if inode.size <= KEPT else b""

    def span(self, inode: Inode, begin: int, most: int) -> bytes:
        """Bytes of a file from one on, of the KEPT first ones."""
        return self._entries_by_number[inode.number].data[begin : begin + most]

    def pieces(self, inode: Inode) -> Iterator[bytes]:
        yield self._entries_by_number[inode.number].data

    def entries(self, folder: Inode) -> Iterator[tuple[str, int]]:
        for name, entry in self._entries_by_number[folder.number].names.items():
            yield name, entry.inode.number

    def target_of(self, link: Inode) -> str:
        return self._entries_by_number[link.number].data.decode("utf-8", "surrogateescape")

    def below(self, path: str) -> Iterator[tuple[str, Inode]]:
        """Every file below a folder by its path inside it, links not followed."""
        top = self._folder(path.strip("/"))
        waiting = [("", top)] if top is not None else []
        while waiting:
            place, folder = waiting.pop()
            for name, entry in folder.names.items():
                inside = f"{place}{name}"
                if entry.inode.is_folder:
                    waiting.append((f"{inside}/", entry))
                elif entry.inode.is_file:
                    yield inside, entry.inode
