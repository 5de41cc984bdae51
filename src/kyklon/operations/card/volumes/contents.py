"""What is really on a card or in an image: read once, then handed to findings and to the bring-up as values."""

from __future__ import annotations

import contextlib
import os
import re
import struct
import zlib
from collections.abc import Iterator
from pathlib import Path

from kyklon.base.errors import FormatError, KyklonError, ToolError
from kyklon.model.card import CardContents, KernelFile, Partition, PartitionTable, RootFacts
from kyklon.model.image_file import SourceFacts
from kyklon.operations.card.sources.source import chunks
from kyklon.operations.card.volumes.ext import list_ext_folder, read_ext_files
from kyklon.operations.card.volumes.fat_reader import FatFile, FatReader
from kyklon.operations.card.volumes.partitions import HEAD, read_table
from kyklon.operations.card.volumes.survey import reader, survey

ZIMAGE_MAGIC = 0x016F2818  # arch/arm/boot/compressed/head.S: at 0x24 of a 32-bit kernel
IMAGE64_MAGIC = b"ARM\x64"  # Documentation/arch/arm64/booting.rst: at 0x38 of a 64-bit kernel
BOOT_LIMIT = 512 << 20  # bytes; CP: boot partitions are smaller
PREVIEW_KEPT = 160 << 20  # bytes in memory
PREVIEW_MIB = {"xz": 160, "7z": 160, "bz2": 64}  # unpacked in about two seconds; the others take 640 in that time
KERNEL_LIMIT = 64 << 20  # bytes; CP: kernels are smaller, packed as well as unpacked
TEXT_LIMIT = 64 * 1024  # bytes; boot files are far smaller
_VERMAGIC = re.compile(rb"vermagic=[^\0]{0,256}\b(ARMv[5-8])\b")  # linux/vermagic.h names the 32-bit set


def kernel_set(data: bytes) -> str:
    """The instruction set of a kernel file, from its header and, for 32-bit ones, its version string."""
    if data[0x38:0x3C] == IMAGE64_MAGIC:
        return "ARMv8"
    if len(data) >= 0x28 and struct.unpack_from("<I", data, 0x24)[0] == ZIMAGE_MAGIC:
        for body in (data, _unpacked_payload(data)):
            match = _VERMAGIC.search(body)
            if match:
                return match[1].decode()
        return "ARM 32-bit"
    return ""


def _unpacked_payload(data: bytes) -> bytes:
    """A 32-bit kernel carries itself compressed behind its header."""
    start = data.find(b"\x1f\x8b\x08")
    if start < 0:
        return b""
    try:
        return zlib.decompressobj(31).decompress(data[start:], KERNEL_LIMIT)
    except zlib.error:
        return b""


def observe(path: Path) -> CardContents:
    """Read a card, a device or a plain image."""
    try:
        found = survey(path, deep=False)
        with path.open("rb") as file:
            table = read_table(reader(file.fileno()), file.seek(0, 2))
    except FormatError as bad:
        return CardContents(table_error=str(bad))
    except OSError as bad:
        return CardContents(table_error=f"{path} cannot be read: {bad.strerror}.")
    boot = table.boot()
    contents = CardContents(table=table, volumes=found.volumes)
    if boot is None:
        contents = _but(contents, boot_error="There is no FAT partition.")
    else:
        with path.open("rb") as file:
            contents = _with_boot(contents, file.fileno(), boot.start)
    root = table.root()
    if root is None:
        return _but(contents, root_error="There is no Linux partition.")
    try:
        return _but(contents, root=_observe_root(path, root.start), root_number=root.number)
    except ToolError as bad:
        return _but(contents, root_error=str(bad))


def observe_source(facts: SourceFacts) -> CardContents:
    """The partition table and the boot partition inside an image file, with nothing unpacked to disk."""
    if facts.kind == "plain" and not facts.parts:
        return observe(facts.path)
    try:
        with beginning(facts) as (path, _table):
            found = observe(path)
    except TooLong as bad:
        return CardContents(not_read=bad.what)
    except KyklonError as bad:
        return CardContents(table_error=str(bad))
    return _but(found, root=None, root_error="The root partition is read from the written card.")


class TooLong(KyklonError):
    """A look would take longer than a look may."""


@contextlib.contextmanager
def beginning(facts: SourceFacts) -> Iterator[tuple[Path, PartitionTable]]:
    """The image's beginning, up to the end of the boot partition and the root's superblock, as a file in memory.

    Raises FormatError for an image without a readable table, SourceError for a damaged one.
    """
    descriptor = os.memfd_create("kyklon-image", os.MFD_CLOEXEC)
    try:
        done, wanted, kept = 0, HEAD, 0
        table: PartitionTable | None = None
        for piece in chunks(facts):
            if piece != bytes(len(piece)):  # a hundred times as fast as any()
                kept += len(piece)
                os.pwrite(descriptor, piece, done)
            done += len(piece)
            if table is None:
                os.ftruncate(descriptor, done)
                table = read_table(reader(descriptor))
                wanted = max((_needed(table, part) for part in table.partitions), default=done)
            if done >= wanted:
                break
            if kept > PREVIEW_KEPT or done > PREVIEW_MIB.get(facts.kind, 640) << 20:
                raise TooLong(f"{facts.name} is not looked into: its boot partition takes too long to unpack.")
        os.ftruncate(descriptor, facts.unpacked if facts.exact and facts.unpacked else max(done, wanted))
        if table is None:
            raise FormatError("partition table", 0, expected="512 bytes", got="an empty image")
        yield Path(f"/proc/{os.getpid()}/fd/{descriptor}"), table
    finally:
        os.close(descriptor)


def _needed(table: PartitionTable, part: Partition) -> int:
    """How far the image must be read for this partition: the first two only, so that a preview stays quick."""
    if part == table.boot():
        return part.end
    return part.start + 8192 if part == table.root() and part.start < BOOT_LIMIT else 0


def _but(contents: CardContents, **changes: object) -> CardContents:
    return CardContents(**{**contents.__dict__, **changes})


def _with_boot(found: CardContents, descriptor: int, offset: int) -> CardContents:
    """What is on the boot partition; a file that cannot be followed is told and not read."""
    sizes: dict[str, int] = {}
    texts: dict[str, str] = {}
    names: dict[str, str] = {}
    kernels: list[KernelFile] = []
    broken: list[str] = []
    try:
        volume = FatReader(reader(descriptor), offset)
        free = volume.free_bytes()
        for file in sorted(volume.files(), key=lambda each: each.path):
            sizes[file.path] = file.size
            try:
                head = volume.read(file, TEXT_LIMIT)
                instruction_set = kernel_set(_whole_kernel(volume, file, head))
            except FormatError as bad:
                broken.append(str(bad))
                continue
            if instruction_set:
                kernels.append(KernelFile(file.path, file.size, instruction_set))
            elif file.size <= TEXT_LIMIT and b"\0" not in head:
                texts[file.path.lower()] = head.decode("utf-8", "surrogateescape")
                names[file.path.lower()] = file.path
    except (FormatError, OSError) as bad:
        return _but(found, boot_error=f"The boot partition cannot be read: {bad}")
    return _but(
        found, sizes=sizes, texts=texts, names=names, kernels=tuple(kernels), boot_free=free, broken=tuple(broken)
    )


def _whole_kernel(volume: FatReader, file: FatFile, head: bytes) -> bytes:
    """As much of a file as tells its instruction set: a 32-bit kernel tells it only inside."""
    packed = len(head) >= 0x28 and struct.unpack_from("<I", head, 0x24)[0] == ZIMAGE_MAGIC
    return volume.read(file, KERNEL_LIMIT) if packed else head


def _observe_root(path: Path, offset: int) -> RootFacts:
    names = ("/etc/passwd", "/etc/image-release", "/etc/expanded")
    files = read_ext_files(path, offset, names)
    users = [
        line.split(":")[0]
        for line in (files["/etc/passwd"] or b"").decode("utf-8", "surrogateescape").split("\n")
        if ":" in line
    ]
    services = list_ext_folder(path, offset, "/etc/services.d")
    programs = list_ext_folder(path, offset, "/usr/bin")
    return RootFacts(
        users=tuple(users),
        services=tuple(name.removesuffix(".service") for name in services),
        programs=frozenset(f"/usr/bin/{program}" for program in programs),
        release=(files["/etc/image-release"] or b"").decode("utf-8", "replace").strip(),
        expanded=files["/etc/expanded"] is not None,
    )
