"""The shared libraries that a program needs, and where its loader looks for them on a root.

Sources: System V gABI 4.1, chapters 4 and 5 (program headers, dynamic section); ld.so(8) for the order of the search,
ldconfig(8); elf.h and glibc's dl-cache.h for the forms; musl's ldso/dynlink.c.
"""

from __future__ import annotations

import posixpath
import re
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

from kyklon.base.errors import FormatError
from kyklon.operations.card.volumes.ext_inodes import Inode
from kyklon.operations.card.volumes.ext_reader import ExtReader
from kyklon.operations.card.volumes.ramdisk_files import RamdiskFiles

Table = Callable[[int, int], bytes]  # a file's bytes, from an offset, so many
LOAD, DYNAMIC, INTERPRETER = 1, 2, 3  # kinds of segments
_NEEDED, _STRTAB, _STRSZ, _RPATH, _RUNPATH = 1, 5, 10, 15, 29
_MOST_SEGMENTS, _MOST_TAGS, _MOST_NAMES = 512, 4096, 200
_MOST_TEXT = 4 << 20  # bytes of a string table
_MOST_LOOKS = 50_000  # for a library, of all programs of a root: some hundred programs need some thousand
_LOADER = 4 << 20  # bytes of a loader that are searched for its own folders
_CACHE = b"glibc-ld.so.cache1.1"
_MOST_CACHE = 8 << 20
# where a loader looks whose own folders cannot be told
_USUAL = ("/lib", "/usr/lib", "/lib64", "/usr/lib64", "/lib32", "/usr/lib32", "/usr/local/lib")
_BIN = ("/bin", "/sbin", "/usr/bin", "/usr/sbin", "/usr/local/bin", "/usr/local/sbin")
_MUSL = ("/lib", "/usr/local/lib", "/usr/lib")
_OWN_FOLDERS = re.compile(rb"(?<=\0)(/(?:usr/)?lib[\x21-\x7e]{0,60}/)(?=\0)")


@dataclass(frozen=True)
class Segment:
    """offset, size: in the file; address: in memory."""

    kind: int
    offset: int
    address: int
    size: int


@dataclass(frozen=True)
class Elf:
    """A program's or library's head. machine: e_machine; kind: 2 for a program at a fixed place, 3 for one that can
    lie anywhere. whole: all of its table of segments could be read."""

    wide: bool
    machine: int
    kind: int
    segments: tuple[Segment, ...]
    whole: bool = True


def elf_of(head: bytes, table_of: Table) -> Elf | None:
    """What a file's first 64 bytes say; None for what is no ELF file of the little end. table_of: bytes of the file
    from an offset."""
    if head[:4] != b"\x7fELF" or len(head) < 52 or head[4] not in (1, 2) or head[5] != 1:
        return None
    wide = head[4] == 2

    def n(raw: bytes, at: int, width: int) -> int:
        return int.from_bytes(raw[at : at + width], "little")

    offset = n(head, 32, 8) if wide else n(head, 28, 4)
    each, count = (n(head, 54, 2), n(head, 56, 2)) if wide else (n(head, 42, 2), n(head, 44, 2))
    if each != (56 if wide else 32) or not 0 < count <= _MOST_SEGMENTS:
        return Elf(wide, n(head, 18, 2), n(head, 16, 2), (), whole=False)
    table = table_of(offset, each * count)
    found = []
    for at in range(0, len(table) - each + 1, each):
        one = table[at : at + each]
        place = (n(one, 8, 8), n(one, 16, 8), n(one, 32, 8)) if wide else (n(one, 4, 4), n(one, 8, 4), n(one, 16, 4))
        found.append(Segment(n(one, 0, 4), *place))
    return Elf(wide, n(head, 18, 2), n(head, 16, 2), tuple(found), len(table) == each * count)


@dataclass(frozen=True)
class Needs:
    """needed: names of libraries, in their order. paths: folders of its own to look in, RUNPATH before RPATH. inherits:
    those of whoever needs it count too, as they do without a RUNPATH."""

    needed: tuple[str, ...] = ()
    paths: tuple[str, ...] = ()
    inherits: bool = True


def needs_of(elf: Elf, read: Table) -> Needs | None:
    """What a file's dynamic section asks for; None where it cannot be read. Nothing for a static program."""
    section = next((each for each in elf.segments if each.kind == DYNAMIC), None)
    if section is None:
        return Needs()
    width = 8 if elf.wide else 4
    raw = read(section.offset, min(section.size, _MOST_TAGS * 2 * width))
    tags: list[tuple[int, int]] = []
    for at in range(0, len(raw) - 2 * width + 1, 2 * width):
        tag, value = (int.from_bytes(raw[at + part : at + part + width], "little") for part in (0, width))
        if not tag:
            break
        tags.append((tag, value))
    else:
        return None  # no end was found: it is cut, or was not kept
    known = dict(tags)
    address, size = known.get(_STRTAB, 0), min(known.get(_STRSZ, 0), _MOST_TEXT)
    holder = next(
        (each for each in elf.segments if each.kind == LOAD and 0 <= address - each.address < each.size), None
    )
    if holder is None:
        return None
    texts = read(holder.offset + address - holder.address, size)
    if len(texts) < size:
        return None

    def text(at: int) -> str:
        end = texts.find(b"\0", at)
        return texts[at : end if end >= 0 else at].decode("utf-8", "surrogateescape")

    named = tuple(text(value) for tag, value in tags if tag == _NEEDED)[:_MOST_NAMES]
    paths = known.get(_RUNPATH, known.get(_RPATH))
    folders = tuple(filter(None, text(paths).split(":"))) if paths is not None else ()
    return Needs(named, folders, _RUNPATH not in known)


@dataclass(frozen=True)
class _File:
    """cut: it ends before its segments do."""

    elf: Elf
    needs: Needs | None
    cut: bool


class Libraries:
    """Where a root's loaders find libraries. What cannot be read is taken for there: only what is surely missing is
    told."""

    def __init__(self, reader: ExtReader | RamdiskFiles) -> None:
        self._reader = reader
        self._files: dict[str, _File | None] = {}
        self._folders: dict[str, tuple[str, ...]] = {}
        self._looked = 0
        self._cached: dict[str, tuple[str, ...]] | None = None

    @property
    def more(self) -> bool:
        """Whether there was more than is looked at: whoever means harm can link thousands to thousands."""
        return self._looked > _MOST_LOOKS

    def lacking(self, path: str, found: Inode, loader: str) -> tuple[str, tuple[int, ...]]:
        """Why the loader does not start a program, '' where it does, and the inodes of its libraries. loader: its
        path, '' for a static program. Libraries beside a program that lies apart count too: whoever starts that tells
        the loader, by LD_LIBRARY_PATH."""
        first = self._file(path, found) if loader else None
        if first is None:
            return "", ()
        path = self._reader.real(path) or path  # $ORIGIN is of the file itself (ld.so(8); /proc/self/exe)
        own = posixpath.dirname(path)
        beside = () if own in _BIN else (own, f"{own}/lib", posixpath.normpath(f"{own}/../lib"))
        # breadth first, as ld.so loads them: what is loaded already is found by its name, whoever needs it again
        loaded, inodes = {posixpath.basename(loader)}, list[int]()
        waiting: deque[tuple[str, _File, tuple[str, ...], tuple[str, ...]]] = deque([(path, first, beside, ())])
        while waiting and not self.more:
            holder, file, inherited, way = waiting.popleft()
            folders = self._spelt(file.needs.paths, holder) if file.needs is not None else None
            if file.needs is None or folders is None:
                continue
            searched = (*folders, *inherited) if file.needs.inherits else folders
            for name in file.needs.needed:
                if name in loaded:
                    continue
                loaded.add(name)
                self._looked += 1
                place, misfit = self._place(name, first.elf, loader, searched, posixpath.dirname(holder))
                if place is None:
                    lost = f"{misfit}, which is for another processor" if misfit else f"{name}, which is not there"
                    return "".join(f"{each}, which needs " for each in way) + lost, ()
                inner = self._reader.find(place) if place else None
                library = self._file(place, inner) if inner is not None else None
                if inner is None or library is None:
                    continue
                if library.cut:
                    return "".join(f"{each}, which needs " for each in way) + f"{place}, which is cut short", ()
                inodes.append(inner.number)
                waiting.append((place, library, searched if file.needs.inherits else (), (*way, name)))
        return "", tuple(dict.fromkeys(inodes))

    def _file(self, path: str, found: Inode) -> _File | None:
        if path not in self._files:
            elf = elf_of(self._bytes(found, 0, 64), lambda at, size: self._bytes(found, at, size))
            self._files[path] = None
            if elf is not None:
                cut = not elf.whole or any(
                    each.kind == LOAD and each.offset + each.size > found.size for each in elf.segments
                )
                self._files[path] = _File(elf, needs_of(elf, lambda at, size: self._bytes(found, at, size)), cut)
        return self._files[path]

    def _place(self, name: str, elf: Elf, loader: str, folders: tuple[str, ...], own: str) -> tuple[str | None, str]:
        """Where a library is, None for nowhere, '' where that is not ours to tell; and one of the name that does not
        fit."""
        misfit = ""
        tried: Iterable[str] = (f"{folder}/{name}" for folder in (*folders, *self._own(loader)))
        if "/" in name:
            tried = [name if name.startswith("/") else f"{own}/{name}"]
        elif "musl" not in loader:
            ahead = [f"{folder}/{name}" for folder in folders]
            tried = [*ahead, *self._cache().get(name, ()), *(f"{folder}/{name}" for folder in self._own(loader))]
        for path in tried:
            found = self._reader.find(path)
            if found is None or not found.is_file:
                continue
            inner = self._file(path, found)
            if inner is None:
                return "", ""  # a text, or not kept: whatever it is, it is there
            if (inner.elf.wide, inner.elf.machine) == (elf.wide, elf.machine):
                return path, ""
            misfit = misfit or path
        return None, misfit

    def _own(self, loader: str) -> tuple[str, ...]:
        """The folders that a loader knows by itself: they are written in it."""
        if loader not in self._folders:
            self._folders[loader] = tuple(self._of_loader(loader))
        return self._folders[loader]

    def _of_loader(self, loader: str) -> Iterator[str]:
        if "musl" in loader:
            arch = re.sub(r"^ld-musl-|\.so.*$", "", posixpath.basename(loader))
            named = self._text(f"/etc/ld-musl-{arch}.path", 4096)
            yield from (re.split(r"[:\n]", named.strip()) if named.strip() else _MUSL)
            return
        found = self._reader.find(loader)
        raw = self._reader.head(found, _LOADER) if found is not None and found.is_file else b""
        written = dict.fromkeys(match.decode().rstrip("/") for match in _OWN_FOLDERS.findall(raw))
        if written:
            yield from written
            return
        for folder in _USUAL:
            yield folder
            place = self._reader.find(folder)
            if place is not None and place.is_folder:
                names = [name for name, _number in self._reader.entries(place) if "-linux-" in name]
                yield from (f"{folder}/{name}" for name in names[:20])

    def _cache(self) -> dict[str, tuple[str, ...]]:
        """What ldconfig(8) found: paths by name."""
        if self._cached is None:
            found: dict[str, list[str]] = {}
            place = self._reader.find("/etc/ld.so.cache")
            raw = self._reader.head(place, _MOST_CACHE) if place is not None and place.is_file else b""
            at = raw.find(_CACHE)
            body = raw[at:] if at >= 0 else b""
            count = int.from_bytes(body[20:24], "little")
            for index in range(min(count, max(0, len(body) - 48) // 24)):
                entry = body[48 + 24 * index : 72 + 24 * index]
                key, value = (int.from_bytes(entry[part : part + 4], "little") for part in (4, 8))
                name, path = (
                    body[start : start + 4096].split(b"\0", 1)[0].decode("utf-8", "surrogateescape")
                    for start in (key, value)
                )
                if path.startswith("/"):
                    found.setdefault(name, []).append(path)
            self._cached = {name: tuple(paths) for name, paths in found.items()}
        return self._cached

    def _text(self, path: str, most: int) -> str:
        found = self._reader.find(path)
        raw = self._reader.head(found, most) if found is not None and found.is_file else b""
        return raw.decode("utf-8", "surrogateescape")

    def _bytes(self, found: Inode, at: int, size: int) -> bytes:
        try:
            return self._reader.span(found, at, size)
        except FormatError:
            return b""

    @staticmethod
    def _spelt(paths: tuple[str, ...], path: str) -> tuple[str, ...] | None:
        """Folders with $ORIGIN in full; None where another word stands in them."""
        own = posixpath.dirname(path)
        spelt = [re.sub(r"\$(?:ORIGIN\b|\{ORIGIN\})", lambda _m: own, each) for each in paths]
        return None if any("$" in each for each in spelt) else tuple(posixpath.normpath(each) for each in spelt)
