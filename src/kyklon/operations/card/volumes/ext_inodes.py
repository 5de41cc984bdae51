"""The inodes of an ext2, ext3 or ext4 file system, its journal, and where the bytes of each file are.

Sources: the kernel's Documentation/filesystems/ext4, and what fs/ext4/super.c, inode.c, dir.c and extents.c of 6.1
refuse. A kernel mounts the root read-only first, so what it lets pass then is told as a caution.
"""

from __future__ import annotations

import stat
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass

from kyklon.base.errors import FormatError
from kyklon.operations.card.volumes.ext_journal import Journal, Tag
from kyklon.operations.card.volumes.ext_sums import crc32c
from kyklon.operations.card.volumes.ext_volume import INLINE, JOURNAL, RECOVER, ExtVolume, Refused, RefusedJournal
from kyklon.operations.card.volumes.partitions import Read

ROOT_INODE = 2
EXTENTS_FLAG, INDEX_FLAG, INLINE_FLAG = 0x80000, 0x1000, 0x10000000
_MOST_INODES, _MOST_BLOCKS = 4096, 512  # kept


@dataclass(frozen=True)
class Inode:
    """mode as stat gives it; size in bytes; extent: whether its map is a tree of extents; map: the 60 bytes of it."""

    number: int
    mode: int
    uid: int
    gid: int
    size: int
    flags: int
    map: bytes
    seed: int

    @property
    def is_folder(self) -> bool:
        return stat.S_ISDIR(self.mode)

    @property
    def is_file(self) -> bool:
        return stat.S_ISREG(self.mode)

    @property
    def is_link(self) -> bool:
        return stat.S_ISLNK(self.mode)


class ExtInodes(ExtVolume):
    """The inodes of a volume; as for ExtVolume. journal: whether it is looked at; RefusedJournal only then."""

    def __init__(self, read: Read, start: int, size: int, *, journal: bool = True) -> None:
        self._blocks_kept: dict[int, bytes] = {}
        self._inodes_kept: dict[int, Inode] = {}
        super().__init__(read, start, size)
        self.replayed: frozenset[int] = frozenset()  # blocks that its journal has newer
        self.fast_commits = False
        self.recovers = bool(self._incompatible & RECOVER)  # a kernel replays its journal when it mounts it
        if journal:
            self._check_journal()
        root = self._inode(ROOT_INODE)
        if not root.is_folder or not root.size:
            raise Refused("root folder", 0, expected="a folder", got=f"mode {root.mode:o}, {root.size} bytes")

    # --- the journal (Documentation/filesystems/ext4/journal.rst) -----------------------------------------------------

    def _check_journal(self) -> None:
        if not self._compatible & JOURNAL:
            if self._incompatible & RECOVER:
                raise Refused("ext superblock", 1024 + 96, expected="a journal to recover from", got="none")
            return
        number = self._n(224)
        if self._n(228):
            raise RefusedJournal("ext superblock", 1024 + 228, expected="a journal inside", got="one on another device")
        try:
            journal = self._inode(number, special=True)
            head = next(self.pieces(journal), b"") if journal.size else b""
        except FormatError as bad:
            raise RefusedJournal("journal", bad.offset, expected=bad.expected, got=bad.got) from bad
        if not journal.is_file:
            raise RefusedJournal("journal", 0, expected="a file", got=f"mode {journal.mode:o}")
        self._check_journal_head(head, journal.size)
        if self._incompatible & RECOVER:
            self.cautions.append("its journal is to be recovered: it was not unmounted cleanly")
            self._replay(journal, head)

    def _replay(self, inode: Inode, head: bytes) -> None:
        """From here on every block is read as it is once the journal is replayed."""
        extents = sorted(self._mapped(inode))
        firsts = [logical for logical, _place, _count in extents]

        def in_log(number: int) -> bytes:
            logical, place, count = extents[max(0, bisect_right(firsts, number) - 1)]
            if not place or not logical <= number < logical + count:
                return bytes(self.block)
            return self._read((place + number - logical) * self.block, self.block)

        try:
            log = Journal(head, self.block, in_log)
            replayed = log.replayed()
            self.replayed, self.fast_commits = frozenset(replayed), log.fast_commits
        except FormatError as bad:
            raise RefusedJournal("journal", bad.offset, expected=bad.expected, got=bad.got) from bad
        if log.fast_commits:
            self.cautions.append("its journal may hold fast commits, which are not read here")
        if not replayed:
            return
        kept: dict[int, bytes] = {}

        def newer(block: int) -> bytes | None:
            if block not in replayed:
                return None
            if block not in kept:
                if len(kept) >= _MOST_BLOCKS:
                    kept.clear()
                kept[block] = _untouched(log, replayed[block])
            return kept[block]

        def _untouched(log: Journal, tag: Tag) -> bytes:
            self._newer = None  # the log itself is read as it stands
            try:
                return log.data(tag)
            finally:
                self._newer = newer

        self._newer = newer
        self._blocks_kept.clear()
        self._inodes_kept.clear()
        self._super = self._read(1024, 1024)
        self._check_super()
        self._check_groups()
        self.cautions = list(dict.fromkeys(self.cautions))
        if not self._compatible & JOURNAL:  # fs/ext4/super.c: ext4_mark_recovery_complete
            raise Refused("ext superblock", 1024 + 92, expected="a journal still, once it is replayed", got="none")

    def _check_journal_head(self, head: bytes, size: int) -> None:
        def big(at: int) -> int:
            return int.from_bytes(head[at : at + 4], "big")

        if len(head) < 1024 or big(0) != 0xC03B3998 or big(4) not in (3, 4):
            raise RefusedJournal(
                "journal", 0, expected="C0 3B 39 98 and a superblock's kind", got=head[:8].hex(" ") or "nothing"
            )
        if big(12) != self.block:
            raise RefusedJournal("journal", 12, expected=f"blocks of {self.block} bytes", got=str(big(12)))
        if big(16) > size // self.block or (big(16) < 1024 and big(16) < 256):
            raise RefusedJournal("journal", 16, expected=f"at most {size // self.block} blocks", got=str(big(16)))
        if not 0 < big(20) < max(2, big(16)):
            raise RefusedJournal("journal", 20, expected="a first block within", got=str(big(20)))
        if big(4) == 4:
            # revoke, 64bit, async commit, checksums 2 and 3, fast commit; compatible: checksum
            if big(40) & ~0x3F or big(44):
                raise RefusedJournal(
                    "journal", 40, expected="features that a kernel knows", got=f"{big(40):#x} {big(44):#x}"
                )
            if big(40) & 0x18 == 0x18:
                raise RefusedJournal("journal", 40, expected="one kind of checksum", got="two")
            if big(40) & 0x18:
                if head[80] != 4:
                    raise RefusedJournal("journal", 80, expected="checksum kind 4", got=str(head[80]))
                if crc32c(head[:252] + bytes(4) + head[256:1024]) != big(252):
                    raise RefusedJournal("journal", 252, expected="its own checksum", got=f"{big(252):#010x}")

    # --- inodes (Documentation/filesystems/ext4/inodes.rst) -----------------------------------------------------------

    def _inode(self, number: int, *, special: bool = False) -> Inode:
        kept = self._inodes_kept.get(number)
        if kept is None:
            kept = self._read_inode(number, special=special)
            if len(self._inodes_kept) < _MOST_INODES:
                self._inodes_kept[number] = kept
        return kept

    def _read_inode(self, number: int, *, special: bool) -> Inode:
        if not 0 < number <= self._n(0) or (number < self._first_inode and number != ROOT_INODE and not special):
            raise FormatError(f"inode {number}", 0, expected="an inode of the volume", got=str(number))
        group, index = divmod(number - 1, self._inodes)
        place = self._table_of[group] * self.block + index * self._inode_size
        raw = self._read(place, self._inode_size)
        if len(raw) < self._inode_size:
            raise FormatError(f"inode {number}", place, expected=f"{self._inode_size} bytes", got="the end of the card")
        return self._inode_of(number, raw, special=special)

    def _inode_of(self, number: int, raw: bytes, *, special: bool) -> Inode:
        def n(at: int, width: int = 2) -> int:
            return int.from_bytes(raw[at : at + width], "little")

        def bad(at: int, expected: str, got: object) -> FormatError:
            return FormatError(f"inode {number}", at, expected=expected, got=str(got))

        extra = n(128) if self._inode_size > 128 else 0
        if self._inode_size > 128 and (128 + extra > self._inode_size or extra & 3):
            raise bad(128, "a size within the inode", extra)
        generation = raw[100:104]
        seed = crc32c(generation, crc32c(number.to_bytes(4, "little"), self._seed)) if self._csum else 0
        if self._csum:
            wide = extra >= 4
            blank = raw[:124] + b"\0\0" + raw[126:130] + (b"\0\0" if wide else raw[130:132]) + raw[132:]
            stated = n(124) | (n(130) << 16 if wide else 0)
            if crc32c(blank[: self._inode_size], seed) & (0xFFFFFFFF if wide else 0xFFFF) != stated:
                raise bad(124, "its own checksum", f"{stated:#x}")
        mode, links, flags = n(0), n(26), n(32, 4)
        if links == 0 and (mode == 0 or number != ROOT_INODE or self._n(224) == number):
            raise bad(26, "a file that is in use", "no links")
        size = n(4, 4) | n(108, 4) << 32
        if size >= 1 << 63:
            raise bad(108, "a size below 2^63", size)
        kind = stat.S_IFMT(mode)
        known = (stat.S_IFREG, stat.S_IFDIR, stat.S_IFLNK, stat.S_IFCHR, stat.S_IFBLK, stat.S_IFIFO, stat.S_IFSOCK)
        if kind not in known:
            raise bad(0, "a kind of file", f"{mode:o}")
        if flags & EXTENTS_FLAG and not self._incompatible & 0x40:
            raise bad(32, "no extents on this volume", f"{flags:#x}")
        if flags & INLINE_FLAG and not self._incompatible & INLINE:
            raise bad(32, "no data inside inodes on this volume", f"{flags:#x}")
        if flags & INDEX_FLAG and kind == stat.S_IFDIR and not self._compatible & 0x20:
            raise bad(32, "no indexed folders on this volume", f"{flags:#x}")
        uid, gid = n(2) | n(120) << 16, n(24) | n(122) << 16
        found = Inode(number, mode, uid, gid, size, flags, raw[40:100], seed)
        if flags & EXTENTS_FLAG and not (kind == stat.S_IFLNK and size < 60 and not n(28, 4)):
            self._check_node(found, found.map, 0, top=True)
        if flags & INLINE_FLAG:
            return self._inlined(found, raw, extra)
        return found

    def _inlined(self, found: Inode, raw: bytes, extra: int) -> Inode:
        """Data inside: 60 bytes in the map, more in the attribute 'system.data' behind it."""
        body = raw[128 + extra :]
        more = b""
        if body[:4] == (0xEA020000).to_bytes(4, "little"):
            at = 4
            while at + 16 <= len(body) and any(body[at : at + 4]):
                name_length, index = body[at], body[at + 1]
                offset, length = (
                    int.from_bytes(body[at + 2 : at + 4], "little"),
                    int.from_bytes(body[at + 8 : at + 12], "little"),
                )
                if index == 7 and body[at + 16 : at + 16 + name_length] == b"data":
                    more = body[4 + offset : 4 + offset + length]
                at += 16 + (name_length + 3 & ~3)
        return Inode(
            found.number, found.mode, found.uid, found.gid, found.size, found.flags, found.map + more, found.seed
        )

    # --- where a file's bytes are (Documentation/filesystems/ext4/ifork.rst) ------------------------------------------

    def _check_node(self, inode: Inode, node: bytes, depth: int, *, top: bool) -> None:
        """A node of an extent tree: its head, that its extents follow one another and lie on the volume."""

        def n(at: int, width: int = 2) -> int:
            return int.from_bytes(node[at : at + width], "little")

        def bad(at: int, expected: str, got: object) -> FormatError:
            return FormatError(f"extents of inode {inode.number}", at, expected=expected, got=str(got))

        if n(0) != 0xF30A:
            raise bad(0, "0A F3", node[:2].hex(" "))
        entries, most, level = n(2), n(4), n(6)
        if level > 5 or (not top and level != depth):
            raise bad(6, f"depth {depth}", level)
        if not most or most > (len(node) - 12) // 12:
            raise bad(4, f"at most {(len(node) - 12) // 12} entries", most)
        if entries > most or (level and not entries):
            raise bad(2, f"at most {most} entries", entries)
        if not top and self._csum:
            tail = 12 + 12 * most
            if crc32c(node[:tail], inode.seed) != n(tail, 4):
                raise bad(tail, "its own checksum", f"{n(tail, 4):#010x}")
        behind = -1
        for index in range(entries):
            at = 12 + 12 * index
            logical = n(at, 4)
            if level:
                place, count = n(at + 4, 4) | n(at + 8) << 32, 1
                if logical <= behind and index:
                    raise bad(at, "entries in order", logical)
                behind = logical
            else:
                raw = n(at + 4)
                count = raw - 32768 if raw > 32768 else raw
                place = n(at + 8, 4) | n(at + 6) << 32
                if not count:
                    raise bad(at + 4, "at least a block", 0)
                if logical + count > 1 << 32 or logical <= behind:
                    raise bad(at, "extents in order", logical)
                behind = logical + count - 1
            if (place <= self._first and self._first) or place + count > self.blocks or place < 1:
                raise bad(at + 6, "blocks of the volume", place)

    def _block_bytes(self, block: int) -> bytes:
        kept = self._blocks_kept.get(block)
        if kept is None:
            kept = self._read(block * self.block, self.block)
            if len(self._blocks_kept) < _MOST_BLOCKS:
                self._blocks_kept[block] = kept
        return kept

    def _extents(
        self, inode: Inode, node: bytes, depth: int = 0, *, top: bool = True
    ) -> Iterator[tuple[int, int, int]]:
        """First block within the file, where it is, how many; one that is reserved only is at 0."""
        self._check_node(inode, node, depth, top=top)
        entries, level = int.from_bytes(node[2:4], "little"), int.from_bytes(node[6:8], "little")
        for index in range(entries):
            at = 12 + 12 * index
            one = node[at : at + 12]
            logical = int.from_bytes(one[:4], "little")
            if level:
                block = int.from_bytes(one[4:8], "little") | int.from_bytes(one[8:10], "little") << 32
                yield from self._extents(inode, self._block_bytes(block), level - 1, top=False)
            else:
                raw = int.from_bytes(one[4:6], "little")
                place = int.from_bytes(one[8:12], "little") | int.from_bytes(one[6:8], "little") << 32
                yield (logical, 0, raw - 32768) if raw > 32768 else (logical, place, raw)

    def _mapped(self, inode: Inode) -> Iterator[tuple[int, int, int]]:
        if inode.flags & EXTENTS_FLAG:
            yield from self._extents(inode, inode.map)
            return
        last = -(-inode.size // self.block)
        per = self.block // 4
        numbers = [int.from_bytes(inode.map[at : at + 4], "little") for at in range(0, 60, 4)]
        for index in range(min(12, last)):
            yield index, self._on_volume(inode, numbers[index]), 1
        at = 12
        for level, top in ((1, numbers[12]), (2, numbers[13]), (3, numbers[14])):
            if at >= last:
                return
            if top:
                yield from self._indirect(inode, self._on_volume(inode, top), level, at, last)
            at += per**level

    def _indirect(self, inode: Inode, block: int, level: int, at: int, last: int) -> Iterator[tuple[int, int, int]]:
        raw, per = self._block_bytes(block), self.block // 4
        for index in range(per):
            first = at + index * per ** (level - 1)
            if first >= last:
                return
            place = int.from_bytes(raw[index * 4 : index * 4 + 4], "little")
            if not place:
                continue
            self._on_volume(inode, place)
            if level == 1:
                yield first, place, 1
            else:
                yield from self._indirect(inode, place, level - 1, first, last)

    def places(self, inode: Inode) -> Iterator[tuple[int, int, int]]:
        """Where a file's blocks are: the first within the file, its number on the volume (0 for one that is reserved
        only), how many; nothing for one that lies in its inode."""
        if not inode.flags & INLINE_FLAG:
            yield from self._mapped(inode)

    def block_at(self, block: int) -> bytes:
        """A block as it is once the journal is replayed."""
        return self._read(block * self.block, self.block)

    @property
    def journal_start(self) -> int:
        """The block of the journal's own superblock; 0 where there is none inside."""
        if not self.has_journal:
            return 0
        return next(place for _logical, place, _count in self._mapped(self._inode(self._n(224), special=True)))

    def _on_volume(self, inode: Inode, block: int) -> int:
        if block and not self._first < block < self.blocks:
            raise FormatError(f"inode {inode.number}", 40, expected="a block of the volume", got=str(block))
        return block

    def pieces(self, inode: Inode) -> Iterator[bytes]:
        """The file's bytes, an extent at a time, holes as zeros, to its size."""
        if inode.flags & INLINE_FLAG:
            yield inode.map[: inode.size]
            return
        done = 0
        for logical, place, count in self._mapped(inode):
            begin = logical * self.block
            if begin >= inode.size:
                break
            if begin > done:
                yield bytes(min(begin - done, 1 << 20))
                done = begin
            wanted = min(count * self.block, inode.size - begin)
            at = 0
            while at < wanted:
                step = min(1 << 20, wanted - at)
                data = self._read(place * self.block + at, step) if place else bytes(step)
                yield data.ljust(step, b"\0")
                at += step
            done = begin + wanted
        if done < inode.size:
            yield bytes(min(inode.size - done, 1 << 20))

    def tail(self, inode: Inode, most: int) -> bytes:
        """The last bytes of a file."""
        return self.span(inode, max(0, inode.size - most), most)

    def span(self, inode: Inode, begin: int, most: int) -> bytes:
        """Bytes of a file from one on, at most so many; fewer at its end."""
        if inode.flags & INLINE_FLAG:
            return inode.map[: inode.size][begin : begin + most]
        end = min(inode.size, begin + most)
        found = bytearray(max(0, end - begin))
        for logical, place, count in self._mapped(inode) if found else ():
            first, last = logical * self.block, min((logical + count) * self.block, end)
            start = max(first, begin)
            if first >= end:
                break
            if place and start < last:
                data = self._read(place * self.block + start - first, last - start)
                found[start - begin : start - begin + len(data)] = data
        return bytes(found)

    def head(self, inode: Inode, most: int) -> bytes:
        """The first bytes of a file."""
        found = b""
        for piece in self.pieces(inode):
            found += piece
            if len(found) >= most:
                break
        return found[:most]
