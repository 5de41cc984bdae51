"""Bytes that look like data and are the same every time."""

from __future__ import annotations

import gzip
import hashlib
import struct


def noise(seed: str, size: int) -> bytes:
    """SHAKE-256 of the seed: `size` bytes."""
    return hashlib.shake_256(f"kyklon demo {seed}".encode()).digest(size)


def kernel_32(instruction_set: str, size: int = 300_000) -> bytes:
    """A 32-bit kernel file: zImage header (arch/arm/boot/compressed/head.S) and a gzip payload with its version."""
    version = f"\0vermagic=6.6.31 SMP mod_unload modversions {instruction_set} p2v8 \0".encode()
    payload = gzip.compress(noise(f"kernel {instruction_set}", size) + version, 1, mtime=0)
    head = bytearray(0x40)
    struct.pack_into("<IIII", head, 0x24, 0x016F2818, 0, len(head) + len(payload), 0x04030201)
    return bytes(head) + payload


def kernel_64(size: int = 420_000) -> bytes:
    """A 64-bit kernel file: the header of Documentation/arch/arm64/booting.rst, with the PE header that tells its
    length (PE/COFF specification 3 and 4)."""
    head = bytearray(0x80)
    head[0:2] = b"MZ"
    struct.pack_into("<QQQ", head, 8, 0x80000, size, 0b1010)
    head[0x38:0x3C] = b"ARM\x64"
    struct.pack_into("<I", head, 0x3C, 0x40)
    struct.pack_into("<4sHH12xHH", head, 0x40, b"PE\0\0", 0xAA64, 1, 0, 0x0206)
    struct.pack_into("<8sIIII", head, 0x58, b".text", size, len(head), size, len(head))
    return bytes(head) + noise("kernel ARMv8", size)


def program_32(name: str, size: int = 60_000) -> bytes:
    """A 32-bit ARM program without libraries (System V ABI, gABI 4.1): one segment, which holds noise."""
    body = noise(f"program {name}", size)
    total = 52 + 32 + len(body)
    head = b"\x7fELF" + bytes([1, 1, 1]) + bytes(9)
    head += struct.pack("<HHIIIIIHHHHHH", 2, 40, 1, 0x10054, 52, 0, 0x05000200, 52, 32, 1, 40, 0, 0)
    return head + struct.pack("<IIIIIIII", 1, 0, 0x10000, 0x10000, total, total, 5, 0x1000) + body


def device_tree(board: str, compatible: str) -> bytes:
    """A flattened device tree (Devicetree Specification 0.4, chapter 5) with a model and a compatible string."""
    strings = b"model\0compatible\0"

    def prop(offset: int, value: bytes) -> bytes:
        padded = value + b"\0" * (-len(value) % 4)
        return struct.pack(">III", 3, len(value), offset) + padded

    body = struct.pack(">II", 1, 0) + prop(0, board.encode() + b"\0") + prop(6, compatible.encode() + b"\0")
    body += struct.pack(">II", 2, 9)
    reserve = bytes(16)
    start = 40 + len(reserve)
    total = start + len(body) + len(strings)
    head = struct.pack(
        ">IIIIIIIIII", 0xD00DFEED, total, start, start + len(body), 40, 17, 16, 0, len(strings), len(body)
    )
    return head + reserve + body + strings
