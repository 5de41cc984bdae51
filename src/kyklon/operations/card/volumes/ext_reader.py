"""An ext2, ext3 or ext4 file system read as strictly as a Linux kernel reads it, within bounds whatever its bytes are.

Sources: the kernel's Documentation/filesystems/ext4, and what fs/ext4/super.c, inode.c, dir.c and extents.c of 6.1
refuse. A kernel mounts the root read-only first, so what it lets pass then is told as a caution.
"""

from __future__ import annotations

import stat
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from uuid import UUID

from kyklon.base.errors import FormatError
from kyklon.operations.card.volumes.partitions import Read

ROOT_INODE = 2
# incompatible features that 6.1 knows: filetype, recover, meta_bg, extents, 64bit, mmp, flex_bg, ea_inode, csum_seed,
# largedir, inline_data, encrypt, casefold
_KNOWN = 0x2 | 0x4 | 0x10 | 0x40 | 0x80 | 0x100 | 0x200 | 0x400 | 0x2000 | 0x4000 | 0x8000 | 0x10000 | 0x20000
# what may be written with: sparse_super to extra_isize, quota, bigalloc, metadata_csum, read-only, project, verity,
# orphans
_WRITABLE = 0x7F | 0x100 | 0x200 | 0x400 | 0x1000 | 0x2000 | 0x8000 | 0x10000
_RECOVER, _META_BG, _64BIT, _FLEX_BG, _CSUM_SEED, _INLINE = 0x4, 0x10, 0x80, 0x200, 0x2000, 0x8000
_JOURNAL, _CSUM, _BIGALLOC, _GDT_CSUM = 0x4, 0x400, 0x200, 0x10
_EXTENTS_FLAG, _INDEX_FLAG, _INLINE_FLAG, _HUGE_FLAG = 0x80000, 0x1000, 0x10000000, 0x40000
_LAST_HASH = 5  # tea, unsigned; the one behind it is for folders that fold case and are encrypted, never the default
_PAGE = 4096  # bytes: the largest block that these kernels mount
_DEEPEST_LINK = 40  # fs/namei.c: MAXSYMLINKS
_MOST_GROUPS = 1 << 17  # of 128 MB: 16 TB
_MOST_FOLDERS, _MOST_INODES = 64, 4096  # kept
_MOST_DIRECTORY = 4 << 20  # bytes of a folder that are looked through


@cache
def _crc_table() -> tuple[int, ...]:
    table = []
    for byte in range(256):
        value = byte
        for _ in range(8):
            value = value >> 1 ^ (0x82F63B78 if value & 1 else 0)  # Castagnoli, reflected: RFC 3720, B.4
        table.append(value)
    return tuple(table)


def crc32c(data: bytes, seed: int = 0xFFFFFFFF) -> int:
    """As the kernel's crypto layer counts it: no final inversion."""
    table = _crc_table()
    for byte in data:
        seed = table[(seed ^ byte) & 0xFF] ^ seed >> 8
    return seed


def _crc16(data: bytes) -> int:
    """lib/crc16.c: polynomial 0x8005, reflected."""
    value = 0xFFFF
    for byte in data:
        value ^= byte
        for _ in range(8):
            value = value >> 1 ^ (0xA001 if value & 1 else 0)
    return value


class Refused(FormatError):
    """The kernel would not mount this."""


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


class ExtReader:
    """read: of the whole card; start, size: of the partition, bytes. Raises Refused for what no kernel mounts.

    cautions: what a kernel lets pass, with a word in its log. no_write: why it could not be mounted for writing, or ''.
    not_for_writing: the same where a mount for writing is not tried again as a read-only one.
    """

    def __init__(self, read: Read, start: int, size: int) -> None:
        self._card, self._start, self._size = read, start, size
        self.cautions: list[str] = []
        self.no_write = self.not_for_writing = ""
        self._blocks_kept: dict[int, bytes] = {}
        self._folders: dict[int, dict[str, int]] = {}
        self._inodes_kept: dict[int, Inode] = {}
        self._super = self._read(1024, 1024)
        if len(self._super) < 1024 or self._super[56:58] != b"\x53\xef":
            raise Refused("ext superblock", 1080, expected="53 EF", got=self._super[56:58].hex(" ") or "nothing")
        self._check_super()
        self._check_groups()
        self._check_journal()
        root = self._inode(ROOT_INODE)
        if not root.is_folder or not root.size:
            raise Refused("root folder", 0, expected="a folder", got=f"mode {root.mode:o}, {root.size} bytes")

    def _read(self, offset: int, length: int) -> bytes:
        if offset < 0 or offset + length > self._size:
            length = max(0, self._size - offset) if offset >= 0 else 0
        return self._card(self._start + offset, length)

    def _n(self, at: int, width: int = 4) -> int:
        return int.from_bytes(self._super[at : at + width], "little")

    # --- the superblock (Documentation/filesystems/ext4/super.rst) ----------------------------------------------------

    def _refuse(self, at: int, expected: str, got: object) -> None:
        raise Refused("ext superblock", 1024 + at, expected=expected, got=str(got))

    def _check_super(self) -> None:
        self._compatible, self._incompatible, self._read_only = self._n(92), self._n(96), self._n(100)
        if self._n(76) == 0 and (self._compatible or self._incompatible or self._read_only):
            self.cautions.append("features on an old revision of the file system")
        log = self._n(24)
        if unknown := self._incompatible & ~_KNOWN:
            self._refuse(96, "features that a kernel knows", f"{unknown:#x}")
        self._csum = bool(self._read_only & _CSUM)
        if self._csum:
            if self._super[0x175] != 1:
                self._refuse(0x175, "checksum kind 1", self._super[0x175])
            if crc32c(self._super[:1020]) != self._n(1020):
                self._refuse(1020, "the superblock's own checksum", f"{self._n(1020):#010x}")
        if log > 6 or 1024 << log > _PAGE:
            self._refuse(24, "blocks of 1024 to 4096 bytes", f"2^{log + 10}")
        self.block = 1024 << log
        self._seed = self._n(0x270) if self._incompatible & _CSUM_SEED else crc32c(self._super[104:120])
        wide = bool(self._incompatible & _64BIT)
        self.blocks = self._n(4) | (self._n(0x150) << 32 if wide else 0)
        self._inode_size = 128 if self._n(76) == 0 else self._n(88, 2)
        if not 128 <= self._inode_size <= self.block or self._inode_size & (self._inode_size - 1):
            self._refuse(88, "inodes of 128 bytes to a block", self._inode_size)
        if self._n(76) and self._n(84) < 11:
            self._refuse(84, "a first inode from 11", self._n(84))
        if self._inode_size > 128 and self._read_only & 0x40:  # extra_isize
            for at in (0x15C, 0x15E):
                if self._n(at, 2) > self._inode_size - 128:
                    self._refuse(at, f"at most {self._inode_size - 128} further bytes of an inode", self._n(at, 2))
        if self._n(252, 1) > _LAST_HASH:  # 6.1 lets it pass; later ones do not (fs/ext4/super.c: ext4_hash_info_init)
            self._refuse(252, f"a way of hashing from 0 to {_LAST_HASH}", self._n(252, 1))
        self._first_inode = self._n(84) if self._n(76) else 11
        self._desc = self._n(254, 2) if wide else 32
        if wide and (not 64 <= self._desc <= 1024 or self._desc & (self._desc - 1)):
            self._refuse(254, "descriptors of 64 to 1024 bytes", self._desc)
        if self._n(206, 2) > self.block // 4:
            self._refuse(206, f"at most {self.block // 4} spare descriptor blocks", self._n(206, 2))
        self._check_geometry()
        if unknown := self._read_only & ~_WRITABLE:
            self.no_write = f"features that must not be written to ({unknown:#x})"
        elif self._read_only & 0x1000:
            self.no_write = "it is marked read-only"
        if self._n(58, 2) & 2:
            self.cautions.append("marked as having errors")
        elif not self._n(58, 2) & 1:
            self.cautions.append("not taken out of use cleanly")

    def _check_geometry(self) -> None:
        per_group, inodes, first = self._n(32), self._n(40), self._n(20)
        cluster_log = self._n(28)
        if self._read_only & _BIGALLOC:
            if cluster_log > 20 or cluster_log < self._n(24):
                self._refuse(28, "clusters no smaller than blocks", f"2^{cluster_log + 10}")
        elif cluster_log != self._n(24):
            self._refuse(28, "clusters of one block", f"2^{cluster_log + 10}")
        elif per_group != self._n(36):
            self._refuse(36, f"{per_group} clusters a group", self._n(36))
        if not 0 < per_group <= self.block * 8 * (1 << max(0, cluster_log - self._n(24))):
            self._refuse(32, f"1 to {self.block * 8} blocks a group", per_group)
        if not self.block // self._inode_size <= inodes <= self.block * 8:
            self._refuse(40, f"{self.block // self._inode_size} to {self.block * 8} inodes a group", inodes)
        if self.blocks > self._size // self.block:
            self._refuse(4, f"at most the partition's {self._size // self.block} blocks", self.blocks)
        if first >= self.blocks or (first == 0 and self.block == 1024 and not self._read_only & _BIGALLOC):
            self._refuse(20, "a first data block within the volume", first)
        self._groups = -(-(self.blocks - first) // per_group)
        if self._groups > _MOST_GROUPS:
            self._refuse(4, f"at most {_MOST_GROUPS} groups", self._groups)
        if self._groups * inodes != self._n(0):
            self._refuse(0, f"{self._groups * inodes} inodes", self._n(0))
        self._per_group, self._inodes, self._first = per_group, inodes, first

    # --- groups (Documentation/filesystems/ext4/group_descr.rst) ------------------------------------------------------

    def _check_groups(self) -> None:
        self._descriptors = self._all_descriptors()
        table_blocks = -(-self._inodes * self._inode_size // self.block)
        bad_sums = 0
        for group in range(self._groups):
            first = self._first if self._incompatible & _FLEX_BG else self._first + group * self._per_group
            last = self.blocks - 1
            if not self._incompatible & _FLEX_BG and group < self._groups - 1:
                last = first + self._per_group - 1
            one = self._descriptors[group * self._desc : (group + 1) * self._desc]
            for at, high, what, length in ((0, 32, "block bitmap", 1), (4, 36, "inode bitmap", 1),
                                           (8, 40, "inode table", table_blocks)):  # fmt: skip
                place = self._place(one, at, high)
                if not first <= place <= last - length + 1:
                    raise Refused(f"group {group}", at, expected=f"a {what} within the group", got=f"block {place}")
                if place == self._super_block:
                    self._sums_bad("a bitmap over the superblock")
            bad_sums += not self._sum_right(group, one)
        self._check_zones(table_blocks)
        if bad_sums:
            self._sums_bad(f"{bad_sums} of {self._groups} group descriptors do not match their checksum")
        self._table_of = [
            self._place(self._descriptors[group * self._desc : (group + 1) * self._desc], 8, 40)
            for group in range(self._groups)
        ]

    def _check_zones(self, table_blocks: int) -> None:
        """What belongs to the file system itself must not lie in itself (fs/ext4/block_validity.c)."""
        starts: list[int] = []
        ends: dict[int, int] = {}
        base = -(-self._groups // (self.block // self._desc)) + self._n(206, 2)
        for group in range(self._groups):
            one = self._descriptors[group * self._desc : (group + 1) * self._desc]
            zones = [
                (self._place(one, 0, 32), 1),
                (self._place(one, 4, 36), 1),
                (self._place(one, 8, 40), table_blocks),
            ]
            if self._has_super(group) and not self._incompatible & _META_BG:
                zones.insert(0, (self._first + group * self._per_group, 1 + base))
            for start, count in zones:
                at = bisect_right(starts, start)
                if at and start < ends[starts[at - 1]]:
                    raise Refused(f"group {group}", 0, expected="blocks that nothing else uses", got=f"block {start}")
                starts.insert(at, start)
                ends[start] = start + count

    def _sums_bad(self, what: str) -> None:
        self.cautions.append(what)
        self.no_write = self.no_write or what
        self.not_for_writing = self.not_for_writing or what

    @property
    def _super_block(self) -> int:
        return 1 if self.block == 1024 else 0

    def _place(self, descriptor: bytes, low: int, high: int) -> int:
        place = int.from_bytes(descriptor[low : low + 4], "little")
        if self._desc >= 64:
            place |= int.from_bytes(descriptor[high : high + 4], "little") << 32
        return place

    def _all_descriptors(self) -> bytes:
        per_block = self.block // self._desc
        wanted = -(-self._groups // per_block)
        if not self._incompatible & _META_BG:
            return self._blocks_at(self._super_block + 1, wanted)
        first_meta, found = self._n(260), b""
        for number in range(wanted):
            if number < first_meta:
                place = self._super_block + 1 + number
            else:
                group = number * per_block
                has_super = self._has_super(group)
                place = self._first + group * self._per_group + has_super
            found += self._blocks_at(place, 1)
        return found

    def _has_super(self, group: int) -> bool:
        if not self._read_only & 1 or group <= 1:
            return True
        if not group & 1:
            return False
        for base in (3, 5, 7):
            power = base
            while power < group:
                power *= base
            if power == group:
                return True
        return False

    def _blocks_at(self, block: int, count: int) -> bytes:
        found = self._read(block * self.block, count * self.block)
        if len(found) < count * self.block:
            raise Refused(
                "group descriptors", block * self.block, expected=f"{count} blocks", got="the end of the card"
            )
        return found

    def _sum_right(self, group: int, one: bytes) -> bool:
        stated = int.from_bytes(one[30:32], "little")
        if self._csum:
            seed = crc32c(group.to_bytes(4, "little"), self._seed)
            return crc32c(one[:30] + b"\0\0" + one[32:], seed) & 0xFFFF == stated
        if self._read_only & _GDT_CSUM:
            rest = one[32 : self._desc] if self._desc > 32 else b""
            return _crc16(self._super[104:120] + group.to_bytes(4, "little") + one[:30] + rest) == stated
        return True

    # --- the journal (Documentation/filesystems/ext4/journal.rst) -----------------------------------------------------

    def _check_journal(self) -> None:
        if not self._compatible & _JOURNAL:
            if self._incompatible & _RECOVER:
                raise Refused("ext superblock", 1024 + 96, expected="a journal to recover from", got="none")
            return
        number = self._n(224)
        if self._n(228):
            raise Refused("ext superblock", 1024 + 228, expected="a journal inside", got="one on another device")
        try:
            journal = self._inode(number, special=True)
            head = next(self.pieces(journal), b"") if journal.size else b""
        except FormatError as bad:
            raise Refused("journal", bad.offset, expected=bad.expected, got=bad.got) from bad
        if not journal.is_file:
            raise Refused("journal", 0, expected="a file", got=f"mode {journal.mode:o}")
        self._check_journal_head(head, journal.size)
        if self._incompatible & _RECOVER:
            self.cautions.append("its journal is to be recovered: it was not taken out of use cleanly")

    def _check_journal_head(self, head: bytes, size: int) -> None:
        def big(at: int) -> int:
            return int.from_bytes(head[at : at + 4], "big")

        if len(head) < 1024 or big(0) != 0xC03B3998 or big(4) not in (3, 4):
            raise Refused(
                "journal", 0, expected="C0 3B 39 98 and a superblock's kind", got=head[:8].hex(" ") or "nothing"
            )
        if big(12) != self.block:
            raise Refused("journal", 12, expected=f"blocks of {self.block} bytes", got=str(big(12)))
        if big(16) > size // self.block or (big(16) < 1024 and big(16) < 256):
            raise Refused("journal", 16, expected=f"at most {size // self.block} blocks", got=str(big(16)))
        if not 0 < big(20) < max(2, big(16)):
            raise Refused("journal", 20, expected="a first block within", got=str(big(20)))
        if big(4) == 4:
            # revoke, 64bit, async commit, checksums 2 and 3, fast commit; compatible: checksum
            if big(40) & ~0x3F or big(44):
                raise Refused("journal", 40, expected="features that a kernel knows", got=f"{big(40):#x} {big(44):#x}")
            if big(40) & 0x18 == 0x18:
                raise Refused("journal", 40, expected="one kind of checksum", got="two")
            if big(40) & 0x18:
                if head[80] != 4:
                    raise Refused("journal", 80, expected="checksum kind 4", got=str(head[80]))
                if crc32c(head[:252] + bytes(4) + head[256:1024]) != big(252):
                    raise Refused("journal", 252, expected="its own checksum", got=f"{big(252):#010x}")

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
        if flags & _EXTENTS_FLAG and not self._incompatible & 0x40:
            raise bad(32, "no extents on this volume", f"{flags:#x}")
        if flags & _INLINE_FLAG and not self._incompatible & _INLINE:
            raise bad(32, "no data inside inodes on this volume", f"{flags:#x}")
        if flags & _INDEX_FLAG and kind == stat.S_IFDIR and not self._compatible & 0x20:
            raise bad(32, "no indexed folders on this volume", f"{flags:#x}")
        uid, gid = n(2) | n(120) << 16, n(24) | n(122) << 16
        found = Inode(number, mode, uid, gid, size, flags, raw[40:100], seed)
        if flags & _EXTENTS_FLAG and not (kind == stat.S_IFLNK and size < 60 and not n(28, 4)):
            self._check_node(found, found.map, 0, top=True)
        if flags & _INLINE_FLAG:
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
                offset, length = int.from_bytes(body[at + 2 : at + 4], "little"), int.from_bytes(
                    body[at + 8 : at + 12], "little")  # fmt: skip
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
            if len(self._blocks_kept) < 512:
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
        if inode.flags & _EXTENTS_FLAG:
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

    def _on_volume(self, inode: Inode, block: int) -> int:
        if block and not self._first < block < self.blocks:
            raise FormatError(f"inode {inode.number}", 40, expected="a block of the volume", got=str(block))
        return block

    def pieces(self, inode: Inode) -> Iterator[bytes]:
        """The file's bytes, an extent at a time, holes as zeros, to its size."""
        if inode.flags & _INLINE_FLAG:
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

    def head(self, inode: Inode, most: int) -> bytes:
        """The first bytes of a file."""
        found = b""
        for piece in self.pieces(inode):
            found += piece
            if len(found) >= most:
                break
        return found[:most]

    # --- folders (Documentation/filesystems/ext4/directory.rst) -------------------------------------------------------

    def _folder_blocks(self, folder: Inode) -> Iterator[tuple[int, bytes]]:
        data = self.head(folder, _MOST_DIRECTORY)
        if folder.flags & _INLINE_FLAG:
            dots = (2).to_bytes(4, "little")
            yield 0, dots + data[4:60]
            if len(data) > 60:
                yield 1, data[60:]
            return
        for at in range(0, len(data), self.block):
            block = data[at : at + self.block]
            if self._csum:
                self._check_folder_block(folder, block, at)
            yield at // self.block, block

    def _check_folder_block(self, folder: Inode, block: bytes, at: int) -> None:
        rec = int.from_bytes(block[4:6], "little")
        dot_dot = int.from_bytes(block[16:18], "little")
        if folder.flags & _INDEX_FLAG and (rec == self.block or (at == 0 and rec == 12 and dot_dot == self.block - 12)):
            return  # a node of the index: its checksum is its own affair, and a linear search goes past it
        tail = block[-12:]
        if tail[:8] != b"\0\0\0\0\x0c\0\0\xde":
            raise FormatError(f"folder, inode {folder.number}", at + self.block - 12, expected="a checksum", got="none")
        stated = int.from_bytes(tail[8:], "little")
        if crc32c(block[:-12], folder.seed) != stated:
            raise FormatError(f"folder, inode {folder.number}", at + self.block - 4, expected="its own checksum",
                              got=f"{stated:#010x}")  # fmt: skip

    def entries(self, folder: Inode) -> Iterator[tuple[str, int]]:
        """Names and inode numbers, without . and .. ; a damaged entry ends its block as it does for the kernel."""
        if not folder.is_folder:
            raise FormatError(f"inode {folder.number}", 0, expected="a folder", got=f"mode {folder.mode:o}")
        for number, block in self._folder_blocks(folder):
            at = 0
            while at + 8 <= len(block):
                inode = int.from_bytes(block[at : at + 4], "little")
                length = int.from_bytes(block[at + 4 : at + 6], "little")
                if folder.flags & _INLINE_FLAG and number == 0 and at == 0:
                    at += 4
                    continue
                if length < 8 or length % 4 or at + length > len(block):
                    raise FormatError(f"folder, inode {folder.number}", number * self.block + at + 4,
                                      expected="an entry within its block", got=f"{length} bytes")  # fmt: skip
                name_length = block[at + 6]
                name = block[at + 8 : at + 8 + name_length]
                if inode and name not in (b".", b".."):
                    if inode > self._n(0) or name_length + 8 > length:
                        raise FormatError(f"folder, inode {folder.number}", number * self.block + at,
                                          expected="an entry of the volume", got=str(inode))  # fmt: skip
                    yield name.decode("utf-8", "surrogateescape"), inode
                at += length

    def find(self, path: str, *, follow: bool = True) -> Inode | None:
        """The inode of an absolute path, links followed; None when there is none. Raises FormatError for damage on the
        way, a circle of links included."""
        followed = 0
        names = [name for name in reversed(path.split("/")) if name not in ("", ".")]
        walked = [self._inode(ROOT_INODE)]
        while names:
            name = names.pop()
            if name == "..":
                if len(walked) > 1:
                    walked.pop()
                continue
            if not walked[-1].is_folder:
                return None
            number = self._names(walked[-1]).get(name)
            if number is None:
                return None
            inode = self._inode(number)
            if inode.is_link and (follow or names):
                followed += 1
                if followed > _DEEPEST_LINK:
                    raise FormatError(path, 0, expected="a link that ends", got="a circle of links")
                target = self.target_of(inode)
                if target.startswith("/"):
                    walked = walked[:1]
                names += [each for each in reversed(target.split("/")) if each not in ("", ".")]
                continue
            walked.append(inode)
        return walked[-1]

    def _names(self, folder: Inode) -> dict[str, int]:
        """A folder's entries, kept: a start looks into the same few folders over and over."""
        kept = self._folders.get(folder.number)
        if kept is None:
            kept = dict(self.entries(folder))
            if len(self._folders) < _MOST_FOLDERS:
                self._folders[folder.number] = kept
        return kept

    def target_of(self, link: Inode) -> str:
        """Where a link leads."""
        fast = link.size < 60 and not link.flags & (_EXTENTS_FLAG | _INLINE_FLAG)
        raw = link.map[: link.size] if fast else self.head(link, 4096)
        return raw.decode("utf-8", "surrogateescape")

    @property
    def uuid(self) -> str:
        """The volume's own id, as blkid(8) writes it."""
        return str(UUID(bytes=self._super[104:120]))

    @property
    def label(self) -> str:
        return self._super[120:136].split(b"\0")[0].decode("utf-8", "replace")

    @property
    def kinds(self) -> tuple[str, ...]:
        """The names under which a kernel mounts it: ext2 and ext3 only without what came later."""
        found = ["ext4"]
        plain = not self._incompatible & ~0x16 and not self._read_only & ~0x7
        if plain and self._compatible & _JOURNAL:
            found.append("ext3")
        if plain and not self._incompatible & _RECOVER:
            found.append("ext2")
        return tuple(found)

    @property
    def free_bytes(self) -> int:
        """What the superblock states."""
        free = self._n(12) | (self._n(0x158) << 32 if self._incompatible & _64BIT else 0)
        return min(free, self.blocks) * self.block
