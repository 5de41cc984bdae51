"""What kernels and device trees on a boot partition say of themselves.

Sources: the kernel's Documentation/arch/arm64/booting.rst, arch/arm/boot/compressed/head.S and
admin-guide/efi-stub.rst; PE/COFF specification 3 and 4 (a 64-bit kernel is one too); Devicetree Specification 0.4,
chapter 5.
"""

from __future__ import annotations

import contextlib
import lzma
import re
import struct
import zlib
from collections.abc import Callable, Mapping
from typing import Protocol

from kyklon.model.card import DeviceTree, KernelFile

ZIMAGE_MAGIC = 0x016F2818  # arch/arm/boot/compressed/head.S: at 0x24 of a 32-bit kernel
IMAGE64_MAGIC = b"ARM\x64"  # Documentation/arch/arm64/booting.rst: at 0x38 of a 64-bit kernel
KERNEL_LIMIT = 64 << 20  # bytes; CP: kernels are smaller, packed as well as unpacked
TREE_MAGIC = b"\xd0\x0d\xfe\xed"  # 5.2
_TREE_LIMIT = 1 << 20  # bytes; CP: trees have tens of kilobytes
# linux/vermagic.h: a release, words, the 32-bit set, p2v8 or nothing; a module's has vermagic= before it
_VERMAGIC = re.compile(rb"(?:vermagic=|\0)[\w.+~-]{1,64} (?:[\w-]+ ){0,8}(ARMv[5-8])\b(?! [A-Z])")
_CORES = {"ARMv6": b"ARMv6-compatible processor", "ARMv7": b"ARMv7 Processor"}  # arch/arm/mm/proc-v6.S, proc-v7.S
UNKNOWN_32 = "ARM 32-bit"


def is_packed_32(head: bytes) -> bool:
    """Whether this begins a 32-bit kernel, which tells its set only inside."""
    return len(head) >= 0x28 and struct.unpack_from("<I", head, 0x24)[0] == ZIMAGE_MAGIC


def kernel_set(data: bytes) -> str:
    """The instruction set of a kernel file, from its header and, for 32-bit ones, from what is packed in it."""
    if data[0x38:0x3C] == IMAGE64_MAGIC:
        return "ARMv8"
    return _set_32(data, unpacked_payload(data)) if is_packed_32(data) else ""


def _set_32(*bodies: bytes) -> str:
    for body in bodies:
        if match := _VERMAGIC.search(body):
            return match[1].decode()
    # without modules there is no such string; one that has both starts on the older
    return next((name for name, words in _CORES.items() if any(words in body for body in bodies)), UNKNOWN_32)


def unpacked_payload(data: bytes) -> bytes:
    """What a 32-bit kernel carries compressed behind its header; nothing where it is damaged, or packed in a way that
    is not read here. Its own unpacker has marks of forms in it, so every place is tried."""
    for mark, opened in _PACKED.items():
        at, tried = data.find(mark), 0
        while at >= 0 and tried < _MOST_TRIED:
            with contextlib.suppress(zlib.error, lzma.LZMAError, EOFError):
                unpack = opened()
                found = unpack.decompress(data[at:], _UNPACKED_LIMIT)
                if len(found) > len(data) // 2 and (unpack.eof or len(found) >= _UNPACKED_LIMIT):
                    return found
            at, tried = data.find(mark, at + 1), tried + 1
    return b""


class _Unpacker(Protocol):
    @property
    def eof(self) -> bool: ...
    def decompress(self, data: bytes, most: int, /) -> bytes: ...


_MOST_TRIED = 64  # places of each form
_UNPACKED_LIMIT = 128 << 20  # bytes; CP
_MEMORY = 256 << 20  # bytes that a head may ask for
_PACKED: Mapping[bytes, Callable[[], _Unpacker]] = {  # arch/arm/boot/compressed/Makefile (6.1)
    b"\x1f\x8b\x08": lambda: zlib.decompressobj(31),
    b"\xfd7zXZ\0": lambda: lzma.LZMADecompressor(lzma.FORMAT_XZ, _MEMORY),
    b"\x5d\0\0": lambda: lzma.LZMADecompressor(lzma.FORMAT_ALONE, _MEMORY),
}
_NOT_READ = (b"\x89LZO\0\r\n\x1a\n", b"\x02\x21\x4c\x18")  # the same: LZO, and LZ4 in its old form


_RAW_LOOKED = 1 << 18  # bytes of a program without a head that are counted
_LEAST_WORDS = 1024
# the highest bytes of the instructions that compilers use most in A64 (Arm Architecture Reference Manual for A-profile,
# C4.1): loads and stores, moves, sums, comparisons, branches
_A64 = frozenset(
    bytes.fromhex(
        "0b11121417 1a292a3435 3637383952 5153544b6b 7172787a8b 9091929497 9aa8a9aab0 b4b5b8b9cb d0d1d2d3d5"
        "d6ebf0f1f2 f8f9fa"
    )
)
_ALWAYS = frozenset(range(0xE0, 0xF0))  # those of A32 instructions without a condition (the same, F1.3.1: AL)


def raw_set(data: bytes) -> str:
    """The instruction set of a program without any head, as loaders for bare metal take it: by how often its words are
    what compilers write. 'ARMv6' where nothing in it asks for more; '' for anything else.

    U-Boot's own raw builds: of A32 0.80 of the words are carried out always, of A64 0.98 are among the usual; programs
    for other processors, texts, pictures and packed data stay below 0.3.
    """
    if data[:4] == b"\x7fELF":  # the System V ABI's: it has a head, and wants its own loader
        return ""
    data = data[: min(len(data), _RAW_LOOKED) & ~3]
    highest = data[3::4].translate(None, b"\x00\xff")  # of each word; those two begin numbers and padding
    if len(highest) < _LEAST_WORDS:
        return ""
    if _share(highest, _A64) > 0.7:
        return "ARMv8"
    if _share(highest, _ALWAYS) <= 0.6:
        return ""
    # MOVW, MOVT, BFI and UBFX, SBFX, which no ARMv6 carries out (the same, F5.1.126, F5.1.27, F5.1.298)
    words = [each for (each,) in struct.iter_unpack("<I", data) if each >> 28 == 0xE]
    newer = sum(
        each & 0x0FF00000 in (0x03000000, 0x03400000) or each & 0x0FE00070 in (0x07C00010, 0x07E00050, 0x07A00050)
        for each in words
    )
    return "ARMv7" if newer > 0.001 * len(words) else "ARMv6"


def _share(data: bytes, among: frozenset[int]) -> float:
    return 1 - len(data.translate(None, bytes(among))) / len(data)


def strings_in(data: bytes) -> bytes:
    """A kernel's bytes with those that a 32-bit one carries packed, to look for names in."""
    return data + (unpacked_payload(data) if is_packed_32(data) else b"")


def kernel_of(name: str, size: int, data: bytes) -> KernelFile | None:
    """A kernel file from its bytes; of a 64-bit one the first 64 KiB do. None when it is none."""
    packed = is_packed_32(data) and data[0x38:0x3C] != IMAGE64_MAGIC
    payload = unpacked_payload(data) if packed else b""
    instruction_set = _set_32(data, payload) if packed else kernel_set(data)
    if not instruction_set:
        return None
    stated = _stated_size(data, instruction_set)
    whole = len(data) >= size and not any(mark in data for mark in _NOT_READ)
    if packed and not payload and whole and stated <= size:
        return KernelFile(name, size, instruction_set, f"{name} is damaged: what is packed in it cannot be unpacked")
    trouble = f"{name} is cut short: it says {stated} bytes and has {size}" if stated > size else ""
    return KernelFile(name, size, instruction_set, trouble)


_HEAD_32 = 0x30  # bytes of a 32-bit kernel's head: arch/arm/boot/compressed/head.S


def _stated_size(data: bytes, instruction_set: str) -> int:
    """How long a kernel's file is by its own head, 0 when that does not say."""
    if instruction_set != "ARMv8":
        if len(data) < _HEAD_32:
            return _HEAD_32
        start, end = struct.unpack_from("<II", data, 0x28)
        return int(max(0, end - start))
    at = int.from_bytes(data[0x3C:0x40], "little")
    if data[:2] != b"MZ" or data[at : at + 4] != b"PE\0\0":
        return 0
    if len(data) < at + 24:
        return at + 24
    sections, optional = struct.unpack_from("<H", data, at + 6)[0], struct.unpack_from("<H", data, at + 20)[0]
    longest, place = 0, at + 24 + optional
    for index in range(min(sections, 96)):
        one = data[place + 40 * index : place + 40 * (index + 1)]
        if len(one) == 40:
            length, begin = struct.unpack_from("<II", one, 16)
            longest = max(longest, begin + length)
    return longest


def tree_of(name: str, size: int, data: bytes) -> DeviceTree:
    """A device tree from its bytes."""
    if data[:4] != TREE_MAGIC:
        return DeviceTree(name, size, trouble=f"{name} is not a device tree: it does not begin with D0 0D FE ED")
    if len(data) < 40:
        return DeviceTree(name, size, trouble=f"{name} is cut short")
    total, structure, strings = struct.unpack_from(">III", data, 4)
    version, oldest = struct.unpack_from(">II", data, 20)
    if total > size:
        return DeviceTree(name, size, trouble=f"{name} is cut short: it says {total} bytes and has {size}")
    if oldest > 17 or version < 16 or total > _TREE_LIMIT:
        return DeviceTree(name, size, trouble=f"{name} has a version or size that no kernel reads")
    try:
        return DeviceTree(name, size, _compatible(data, structure, strings))
    except (struct.error, ValueError):
        return DeviceTree(name, size, trouble=f"{name} is damaged inside")


def _compatible(data: bytes, at: int, strings: int) -> tuple[str, ...]:
    """The root node's compatible strings (2.3.1). Raises ValueError, struct.error."""
    depth = 0
    for _ in range(1 << 16):
        token = struct.unpack_from(">I", data, at)[0]
        at += 4
        if token == 1:  # a node begins
            depth += 1
            at = (data.index(b"\0", at) + 4) & ~3
        elif token == 2:  # it ends
            depth -= 1
            if depth == 0:
                return ()
        elif token == 3:
            length, name = struct.unpack_from(">II", data, at)
            value = data[at + 8 : at + 8 + length]
            at = (at + 8 + length + 3) & ~3
            if depth == 1 and data[strings + name : data.index(b"\0", strings + name)] == b"compatible":
                return tuple(word for word in value.decode("ascii", "replace").split("\0") if word)
        elif token == 9:
            return ()
        elif token != 4:
            raise ValueError(f"token {token}")
    raise ValueError("no end")
