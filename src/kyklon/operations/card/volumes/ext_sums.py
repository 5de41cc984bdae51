"""Checksums of ext4, as the kernel's crypto layer and lib/crc16.c count them."""

from __future__ import annotations

from functools import cache
from typing import TYPE_CHECKING

from kyklon.base.late import late

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray
else:
    np = late("numpy")


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


def crc32c_each(rows: NDArray[np.uint8], seed: int) -> NDArray[np.uint32]:
    """The same of many blocks at once. rows: shape (n, bytes)."""
    table = np.array(_crc_table(), dtype=np.uint32)
    sums = np.full(len(rows), seed, dtype=np.uint32)
    for column in np.ascontiguousarray(rows.T):
        sums = table[(sums ^ column) & 0xFF] ^ (sums >> 8)
    return sums


def crc16(data: bytes) -> int:
    """lib/crc16.c: polynomial 0x8005, reflected."""
    value = 0xFFFF
    for byte in data:
        value ^= byte
        for _ in range(8):
            value = value >> 1 ^ (0xA001 if value & 1 else 0)
    return value
