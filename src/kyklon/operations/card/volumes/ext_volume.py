"""The superblock and the group descriptors of an ext2, ext3 or ext4 file system, refused where a kernel refuses them.

Sources: the kernel's Documentation/filesystems/ext4, super.rst and group_descr.rst; fs/ext4/super.c (6.1).
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable

from kyklon.base.errors import FormatError
from kyklon.operations.card.volumes.ext_sums import crc16, crc32c
from kyklon.operations.card.volumes.partitions import Read

# incompatible features that 6.1 knows: filetype, recover, meta_bg, extents, 64bit, mmp, flex_bg, ea_inode, csum_seed,
# largedir, inline_data, encrypt, casefold
_KNOWN = 0x2 | 0x4 | 0x10 | 0x40 | 0x80 | 0x100 | 0x200 | 0x400 | 0x2000 | 0x4000 | 0x8000 | 0x10000 | 0x20000
# what may be written with: sparse_super to extra_isize, quota, bigalloc, metadata_csum, read-only, project, verity,
# orphans
_WRITABLE = 0x7F | 0x100 | 0x200 | 0x400 | 0x1000 | 0x2000 | 0x8000 | 0x10000
RECOVER, JOURNAL, INLINE = 0x4, 0x4, 0x8000  # features: incompatible, compatible, incompatible
_META_BG, _64BIT, _FLEX_BG, _CSUM_SEED = 0x10, 0x80, 0x200, 0x2000
_CSUM, _BIGALLOC, _GDT_CSUM, _VERITY = 0x400, 0x200, 0x10, 0x8000
_LAST_HASH = 5  # tea, unsigned; the one behind it is for folders that fold case and are encrypted, never the default
_PAGE = 4096  # bytes: the largest block that these kernels mount
_MOST_GROUPS = 1 << 17  # of 128 MB: 16 TB


class Refused(FormatError):
    """The kernel would not mount this."""


class RefusedJournal(Refused):
    """The kernel would not mount this without the word noload."""


class ExtVolume:
    """read: of the whole card; start, size: of the partition, bytes. Raises Refused for what no kernel mounts.

    cautions: what a kernel lets pass, with a word in its log. no_write: why it could not be mounted for writing, or ''.
    not_for_writing: the same where a mount for writing is not tried again as a read-only one.
    """

    def __init__(self, read: Read, start: int, size: int) -> None:
        self._card, self._start, self._size = read, start, size
        self.cautions: list[str] = []
        self.no_write = self.not_for_writing = ""
        self._newer: Callable[[int], bytes | None] | None = None  # a block as the journal has it
        self._super = self._read(1024, 1024)
        if len(self._super) < 1024 or self._super[56:58] != b"\x53\xef":
            raise Refused("ext superblock", 1080, expected="53 EF", got=self._super[56:58].hex(" ") or "nothing")
        self._check_super()
        self._check_groups()

    def _read(self, offset: int, length: int) -> bytes:
        if offset < 0 or offset + length > self._size:
            length = max(0, self._size - offset) if offset >= 0 else 0
        found = self._card(self._start + offset, length)
        return found if self._newer is None else self._with_newer(offset, found)

    def _with_newer(self, offset: int, found: bytes) -> bytes:
        """What was read, with the blocks in it that the journal has newer."""
        assert self._newer is not None
        kept: bytearray | None = None
        first, last = offset // self.block, -(-(offset + len(found)) // self.block)
        for block in range(first, last):
            newer = self._newer(block)
            if newer is not None:
                kept = kept if kept is not None else bytearray(found)
                begin = block * self.block - offset
                part = newer[max(0, -begin) : len(found) - begin]
                kept[max(0, begin) : max(0, begin) + len(part)] = part
        return bytes(kept) if kept is not None else found

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
        if self._read_only & _VERITY and self.block != _PAGE:  # up to 6.2
            self._refuse(24, f"blocks of {_PAGE} bytes, for it is marked for fs-verity", self.block)
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
            self.cautions.append("not unmounted cleanly")

    def _check_geometry(self) -> None:
        per_group, inodes, first = self._n(32), self._n(40), self._n(20)
        cluster_log = self._n(28)
        if self._read_only & _BIGALLOC:
            if cluster_log > 20 or cluster_log < self._n(24):
                self._refuse(28, "clusters no smaller than blocks", f"2^{cluster_log + 10}")
            if per_group != self._n(36) << cluster_log - self._n(24):
                self._refuse(36, f"{per_group >> cluster_log - self._n(24)} clusters a group", self._n(36))
        elif cluster_log != self._n(24):
            self._refuse(28, "clusters of one block", f"2^{cluster_log + 10}")
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
            for at, high, what, length in (
                (0, 32, "block bitmap", 1),
                (4, 36, "inode bitmap", 1),
                (8, 40, "inode table", table_blocks),
            ):
                place = self._place(one, at, high)
                if not first <= place <= last - length + 1:
                    raise Refused(f"group {group}", at, expected=f"a {what} within the group", got=f"block {place}")
                if place == self.super_block:
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
    def features(self) -> frozenset[str]:
        """Those of "quota" and "project" that it has (super.rst: s_feature_ro_compat)."""
        return frozenset(name for name, bit in (("quota", 0x100), ("project", 0x2000)) if self._read_only & bit)

    @property
    def has_journal(self) -> bool:
        """Inside; one on another device is refused."""
        return bool(self._compatible & JOURNAL)

    @property
    def super_block(self) -> int:
        """The block that the first superblock lies in."""
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
            return self._blocks_at(self.super_block + 1, wanted)
        first_meta, found = self._n(260), b""
        for number in range(wanted):
            if number < first_meta:
                place = self.super_block + 1 + number
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
            return crc16(self._super[104:120] + group.to_bytes(4, "little") + one[:30] + rest) == stated
        return True
