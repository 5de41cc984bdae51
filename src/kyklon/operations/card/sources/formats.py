"""How large a packed image is once unpacked, as far as its format tells without unpacking: xz and zstd."""

from __future__ import annotations

import zlib
from dataclasses import dataclass
from typing import BinaryIO

from kyklon.base.errors import FormatError

XZ_HEADER = b"\xfd7zXZ\x00"
_STRETCH = 1 << 16  # bytes compared at a time
_ZEROS = bytes(_STRETCH)
_STEP = 1 << 20  # bytes of padding read at a time
_MOST_INDEX = 1 << 20  # bytes: 150 000 blocks
ZSTD_MAGIC = b"\x28\xb5\x2f\xfd"


# --- xz (The .xz File Format 1.1.0) -------------------------------------------------------------------------


@dataclass(frozen=True)
class XzBlock:
    """offset and unpadded (both of the packed file) and unpacked in bytes. flags: of its stream, for the check."""

    offset: int
    unpadded: int
    unpacked: int
    flags: bytes

    @property
    def padded(self) -> int:
        return (self.unpadded + 3) // 4 * 4


def xz_blocks(file: BinaryIO) -> list[XzBlock]:
    """Every block of all streams from their indexes (sections 2.1.2 and 4), in the order of the file.

    Raises FormatError when the end of the file is missing or damaged.
    """
    streams: list[list[XzBlock]] = []
    end = file.seek(0, 2)
    while end > 0:
        end = _skip_padding(file, end)
        blocks, end = _stream_blocks(file, end)
        streams.append(blocks)
    return [block for blocks in reversed(streams) for block in blocks]


def without_padding(data: bytes) -> bytes:
    """What is left behind zeros; comparing stretches is a hundred times as fast as stripping a letter at a time."""
    at = 0
    while at < len(data) and data[at : at + _STRETCH] == _ZEROS[: len(data) - at]:
        at += _STRETCH
    return data[at:].lstrip(b"\0")


def _skip_padding(file: BinaryIO, end: int) -> int:
    """Zeros between streams come in fours (2.2)."""
    while end >= 4:
        wide = min(_STEP, end // 4 * 4)
        file.seek(end - wide)
        piece = file.read(wide)
        bare = 0 if piece == bytes(len(piece)) else len(piece.rstrip(b"\0"))
        left = -(-bare // 4) * 4
        end -= wide - left
        if bare:
            break
    return end


def _stream_blocks(file: BinaryIO, end: int) -> tuple[list[XzBlock], int]:
    """Blocks of the stream that ends at `end`, and where it starts."""
    file.seek(max(0, end - 12))
    footer = file.read(12)
    if len(footer) < 12 or footer[10:] != b"YZ":
        raise FormatError("xz footer", max(0, end - 2), expected="'YZ'", got=repr(footer[10:]))
    index_size = (int.from_bytes(footer[4:8], "little") + 1) * 4
    index_start = end - 12 - index_size
    if index_size > _MOST_INDEX:
        raise FormatError(
            "xz footer", end - 8, expected=f"an index of at most {_MOST_INDEX} bytes", got=str(index_size)
        )
    if index_start < 12:
        raise FormatError("xz footer", end - 8, expected="an index inside the file", got=f"{index_size} bytes")
    file.seek(index_start)
    index = file.read(index_size)
    if index[0] != 0 or zlib.crc32(index[:-4]) != int.from_bytes(index[-4:], "little"):
        raise FormatError("xz index", index_start, expected="an index with a right checksum", got="damage")
    count, place = vli(index, 1)
    if count > index_size // 2:
        raise FormatError("xz index", index_start + 1, expected="as many records as it holds", got=str(count))
    sizes = []
    for _ in range(count):
        unpadded, place = vli(index, place)
        unpacked, place = vli(index, place)
        sizes.append((unpadded, unpacked))
    start = index_start - sum((unpadded + 3) // 4 * 4 for unpadded, _unpacked in sizes) - 12
    if start < 0:
        raise FormatError("xz index", index_start, expected="blocks inside the file", got="more than it holds")
    blocks, at = [], start + 12
    for unpadded, unpacked in sizes:
        block = XzBlock(at, unpadded, unpacked, footer[8:10])
        blocks.append(block)
        at += block.padded
    return blocks, start


def vli(data: bytes, place: int) -> tuple[int, int]:
    """A variable-length integer (section 1.2) and the place behind it."""
    value = 0
    for shift in range(0, 63, 7):
        if place >= len(data):
            break
        byte = data[place]
        place += 1
        value |= (byte & 0x7F) << shift
        if not byte & 0x80:
            return value, place
    raise FormatError("xz index", place, expected="the end of a number", got="more of it")


def _vli_bytes(value: int) -> bytes:
    out = bytearray()
    while value >= 0x80:
        out.append(value & 0x7F | 0x80)
        value >>= 7
    out.append(value)
    return bytes(out)


def xz_around(block: XzBlock) -> tuple[bytes, bytes]:
    """What makes a block an xz file of its own, before and behind it, so that blocks can be unpacked side by side."""
    index = b"\0" + _vli_bytes(1) + _vli_bytes(block.unpadded) + _vli_bytes(block.unpacked)
    index = index.ljust((len(index) + 3) // 4 * 4, b"\0")
    index += zlib.crc32(index).to_bytes(4, "little")
    ending = (len(index) // 4 - 1).to_bytes(4, "little") + block.flags
    header = XZ_HEADER + block.flags + zlib.crc32(block.flags).to_bytes(4, "little")
    return header, index + zlib.crc32(ending).to_bytes(4, "little") + ending + b"YZ"


# --- zstd (RFC 8878) -----------------------------------------------------------------------------------------


def zstd_size(file: BinaryIO) -> int | None:
    """Unpacked bytes as the headers of all frames tell them (3.1.1), None where one does not tell.

    Walks the block headers without unpacking. Raises FormatError with its offset for a file that is cut off.
    """
    end = file.seek(0, 2)
    total: int | None = 0
    at = 0
    while at < end:
        file.seek(at)
        head = file.read(18)
        magic = int.from_bytes(head[:4], "little")
        if magic & 0xFFFFFFF0 == 0x184D2A50:  # 3.1.2: a skippable frame
            at += 8 + int.from_bytes(head[4:8], "little")
            continue
        if head[:4] != ZSTD_MAGIC or len(head) < 6:
            raise FormatError("zstd frame", at, expected="a frame", got=head[:4].hex(" ") or "the end")
        size, header = _zstd_header(head)
        total = total + size if total is not None and size is not None else None
        at = _zstd_end(file, at + header, end) + (4 if head[4] & 4 else 0)
    if at > end:
        raise FormatError("zstd frame", end, expected=f"{at - end} more bytes", got="the end of the file")
    return total


def _zstd_header(head: bytes) -> tuple[int | None, int]:
    """Content size, None where the frame does not state it, and the header's length (3.1.1.1)."""
    descriptor = head[4]
    single, flag = descriptor >> 5 & 1, descriptor >> 6
    length = (1 if single else 0, 2, 4, 8)[flag]
    start = 5 + (0 if single else 1) + (0, 1, 2, 4)[descriptor & 3]
    if not length:
        return None, start
    return int.from_bytes(head[start : start + length], "little") + (256 if flag == 1 else 0), start + length


def _zstd_end(file: BinaryIO, at: int, end: int) -> int:
    """Where the blocks that begin at `at` end (3.1.1.2)."""
    while True:
        file.seek(at)
        head = file.read(3)
        if len(head) < 3 or at > end:
            raise FormatError("zstd block", at, expected="a block", got="the end of the file")
        word = int.from_bytes(head, "little")
        last, kind, size = word & 1, word >> 1 & 3, word >> 3
        if kind == 3:
            raise FormatError("zstd block", at, expected="a block type from 0 to 2", got="3")
        at += 3 + (1 if kind == 1 else size)
        if last:
            return at
