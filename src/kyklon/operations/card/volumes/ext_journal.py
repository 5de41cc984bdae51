"""What a kernel takes out of an ext3 or ext4 journal before it mounts: whole transactions, in their order.

Sources: the kernel's Documentation/filesystems/ext4/journal.rst, and what fs/jbd2/recovery.c (6.1) does. Nothing is
written: the blocks are read where they stand in the log.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from kyklon.base.errors import FormatError
from kyklon.base.late import late
from kyklon.operations.card.volumes.ext_sums import crc32c, crc32c_each

if TYPE_CHECKING:
    import numpy as np
else:
    np = late("numpy")

MAGIC = bytes.fromhex("C03B3998")
_DESCRIPTOR, _COMMIT, _REVOKE = 1, 2, 5
_64BIT, _CSUM_2, _CSUM_3, _FAST_COMMIT = 0x2, 0x8, 0x10, 0x20  # incompatible features
_ESCAPED, _SAME_UUID, _LAST = 1, 2, 8  # of a tag
_HEADER = 12  # bytes: magic, kind, transaction
_TOGETHER = 2048  # blocks whose checksums are taken at once: 8 MB


@dataclass(frozen=True)
class Tag:
    """A block that the log holds: where it belongs, where it stands in the log, its checksum and whether its first
    four bytes, the journal's own mark, were blanked there."""

    block: int
    at: int
    checksum: int
    escaped: bool


@dataclass(frozen=True)
class _Transaction:
    number: int
    tags: tuple[Tag, ...]
    revoked: frozenset[int]


class Journal:
    """head: its superblock. block: bytes of one. read: a block of the log by its number there.

    Raises FormatError where a kernel refuses to replay it.
    """

    def __init__(self, head: bytes, block: int, read: Callable[[int], bytes]) -> None:
        self._head, self._block, self._read = head, block, read
        self._features = self._big(40) if self._big(4) == 4 else 0
        self._sums = bool(self._features & (_CSUM_2 | _CSUM_3))
        self._seed = crc32c(head[48:64])
        fast = (self._big(84) or 256) if self._features & _FAST_COMMIT else 0  # jbd2.h: JBD2_DEFAULT_FAST_COMMIT_BLOCKS
        self._first, self._last = self._big(20), self._big(16) - fast

    def replayed(self) -> dict[int, Tag]:
        """The blocks of the volume that are other than they stand there, each with where it is in the log."""
        found: dict[int, Tag] = {}
        if not self._big(28):
            return found
        transactions = list(self._transactions())
        until: dict[int, int] = {}  # the last transaction that takes a block back
        for transaction in transactions:
            until |= dict.fromkeys(transaction.revoked, transaction.number)
        for transaction in transactions:
            for tag in transaction.tags:
                if not _reaches(until.get(tag.block), transaction.number):
                    found[tag.block] = tag
            if self._sums:
                self._check(transaction)
        return found

    @property
    def fast_commits(self) -> bool:
        """Whether it may hold changes of the newer, smaller kind, which are not read here."""
        return bool(self._features & _FAST_COMMIT and self._big(28))

    def data(self, tag: Tag) -> bytes:
        """The block that a tag stands for."""
        raw = self._read(tag.at)
        return MAGIC + raw[4:] if tag.escaped else raw

    def _big(self, at: int, raw: bytes | None = None) -> int:
        raw = self._head if raw is None else raw
        return int.from_bytes(raw[at : at + 4], "big")

    def _next(self, at: int) -> int:
        return at + 1 if at + 1 < self._last else self._first

    def _transactions(self) -> Iterator[_Transaction]:
        """Those that are whole, in their order. One that ends without its commit has never been."""
        number, at, last_time = self._big(24), self._big(28), 0
        if not self._first <= at < self._last:
            raise FormatError("journal", 28, expected="a start within", got=str(at))
        tags: list[Tag] = []
        revoked: set[int] = set()
        stale = False  # a descriptor of an older life of the log, or a damaged one: its commit's time tells which
        for _each in range(self._last):  # once round at most
            raw = self._read(at)
            if raw[:4] != MAGIC or self._big(8, raw) != number:
                return
            kind, place, at = self._big(4, raw), at, self._next(at)
            if kind == _DESCRIPTOR:
                stale = stale or not self._tail_right(raw)
                for tag in self._tags(raw, at):
                    tags.append(tag)
                    at = self._next(tag.at)
                if len(tags) > self._last:
                    raise FormatError(
                        "journal",
                        place * self._block,
                        expected="a transaction that fits into it",
                        got=f"one of {len(tags)} blocks",
                    )
            elif kind == _COMMIT:
                time = int.from_bytes(raw[48:56], "big")
                wrong = stale or (self._sums and not self._commit_right(raw))
                if wrong and time < last_time:
                    return
                if wrong:
                    whole = f"transaction {number} as it was written"
                    raise FormatError("journal", place * self._block, expected=whole, got="another checksum")
                yield _Transaction(number, tuple(tags), frozenset(revoked))
                number, last_time, stale = (number + 1) & 0xFFFFFFFF, time, False
                tags, revoked = [], set()
            elif kind == _REVOKE:
                if self._tail_right(raw):  # a kernel passes over one that is damaged
                    revoked |= self._revoked(raw, place)
            else:
                return

    def _tags(self, raw: bytes, at: int) -> Iterator[Tag]:
        """A descriptor's tags. at: where the first one's block stands."""
        three = bool(self._features & _CSUM_3)
        wide = bool(self._features & _64BIT)
        size = 16 if three else 8 + 4 * wide + 2 * bool(self._features & _CSUM_2)
        place, end = _HEADER, self._block - 4 * self._sums
        while place + size <= end:
            one = raw[place : place + size]
            flags = self._big(4, one) if three else int.from_bytes(one[6:8], "big")
            block = self._big(0, one) | (self._big(8, one) << 32 if wide else 0)
            stated = self._big(12, one) if three else int.from_bytes(one[4:6], "big")
            yield Tag(block, at, stated, bool(flags & _ESCAPED))
            if flags & _LAST:
                return
            at = self._next(at)
            place += size + (0 if flags & _SAME_UUID else 16)

    def _revoked(self, raw: bytes, place: int) -> set[int]:
        size, width = self._big(_HEADER, raw), 8 if self._features & _64BIT else 4
        if size > self._block - 4 * self._sums:
            raise FormatError(
                "journal", place * self._block + _HEADER, expected="a list within its block", got=str(size)
            )
        places = range(_HEADER + 4, size - width + 1, width)
        return {int.from_bytes(raw[each : each + width], "big") for each in places}

    def _tail_right(self, raw: bytes) -> bool:
        return not self._sums or crc32c(raw[:-4] + bytes(4), self._seed) == self._big(self._block - 4, raw)

    def _commit_right(self, raw: bytes) -> bool:
        return crc32c(raw[:16] + bytes(4) + raw[20:], self._seed) == self._big(16, raw)

    def _check(self, transaction: _Transaction) -> None:
        seed = crc32c(transaction.number.to_bytes(4, "big"), self._seed)
        mask = 0xFFFFFFFF if self._features & _CSUM_3 else 0xFFFF
        for start in range(0, len(transaction.tags), _TOGETHER):
            part = transaction.tags[start : start + _TOGETHER]
            raw = b"".join(self._read(each.at).ljust(self._block, b"\0") for each in part)
            sums = crc32c_each(np.frombuffer(raw, np.uint8).reshape(len(part), self._block), seed)
            for tag, counted in zip(part, sums.tolist(), strict=True):
                if counted & mask != tag.checksum:
                    raise FormatError(
                        "journal",
                        tag.at * self._block,
                        expected=f"block {tag.block} as it was written",
                        got="another checksum",
                    )


def _reaches(revoked: int | None, number: int) -> bool:
    """Whether a block of a transaction was taken back by that one or a later one; numbers go round."""
    if revoked is None:
        return False
    return revoked == number or bool((number - revoked) & 0x80000000)
