"""What is really on a card or in an image: read once, then handed to findings and to the bring-up as values."""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import time
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from kyklon.base import reading
from kyklon.base.errors import FormatError, KyklonError
from kyklon.base.meter import Meter
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.model.card import (
    LINUX,
    CardContents,
    DeviceTree,
    KernelFile,
    Partition,
    PartitionTable,
    Ramdisk,
    RootFacts,
    Volume,
)
from kyklon.model.image_file import SourceFacts
from kyklon.operations.card.sources.source import chunks
from kyklon.operations.card.volumes import ramdisk
from kyklon.operations.card.volumes.boot_facts import (
    KERNEL_LIMIT,
    TREE_MAGIC,
    is_packed_32,
    kernel_of,
    raw_set,
    tree_of,
)
from kyklon.operations.card.volumes.ext_boot import ExtFiles
from kyklon.operations.card.volumes.fat_health import health, loader_sees
from kyklon.operations.card.volumes.fat_reader import FatFile, FatReader
from kyklon.operations.card.volumes.partitions import HEAD, Read, read_table
from kyklon.operations.card.volumes.root_facts import observe_root
from kyklon.operations.card.volumes.survey import reader, survey

BOOT_LIMIT = 512 << 20  # bytes; CP: boot partitions are smaller
PREVIEW_KEPT = 160 << 20  # bytes in memory
PREVIEW_MIB = {"xz": 160, "7z": 160, "bz2": 64}  # unpacked in about two seconds; the others take 640 in that time
TEXT_LIMIT = 64 * 1024  # bytes that are summed and looked at first; boot files are far smaller
TEXT_MOST = 1 << 20  # bytes of a text that is read: a settings file full of remarks is one all the same
MOST_DIGESTS = 4096  # files that are summed
TREE_LIMIT = 1 << 20  # bytes; CP: trees have tens of kilobytes
CHECKSUMS = "checksums"  # the boot partition's own list
HASHED = 96 << 20  # bytes that are compared with it
_INIT = re.compile(r"\b(?:rd)?init=(/[^\s\"]{1,200})")


def observe(path: Path, programs: Iterable[str] = ()) -> CardContents:
    """Read a card, a device or a plain image, as firmware and kernel would. programs: on the root, to be looked at."""
    try:
        found = survey(path, deep=False, strict=False)
        with reading.opened(path, devices=True) as file:
            return _observed(reader(file.fileno()), file.seek(0, 2), found.volumes, tuple(programs))
    except FormatError as bad:
        return CardContents(table_error=str(bad))
    except OSError as bad:
        return CardContents(table_error=f"{path} cannot be read: {bad.strerror}.")


def _observed(read: Read, size: int, volumes: tuple[Volume, ...], programs: tuple[str, ...]) -> CardContents:
    table = read_table(read, size, strict=False)
    fat = [volume.number for volume in volumes if volume.kind.startswith("FAT")]
    boot = table.boot() or next((part for part in table.partitions if part.number in fat), None)
    contents = CardContents(table=table, volumes=volumes, size=size)
    if boot is not None:
        contents = _but(_with_boot(contents, read, boot.start), boot_number=boot.number)
    contents = _by_labels(contents, read, size, table)
    roots, errors = _roots(read, size, table, contents.texts, programs)
    contents = _but(contents, roots=roots, root_errors=errors)
    root = table.root()
    if root is None:
        return _but(contents, root_error="There is no Linux partition.")
    if root.number in errors:
        return _but(contents, root_error=errors[root.number])
    own = roots[root.number].setup  # under their paths with a slash, which none of the boot partition has
    return _but(
        contents,
        root=roots[root.number],
        root_number=root.number,
        texts={**contents.texts, **{path.lower(): text for path, text in own.items()}},
        names={**contents.names, **{path.lower(): path for path in own}},
    )


def _roots(
    read: Read, size: int, table: PartitionTable, texts: Mapping[str, str], programs: tuple[str, ...]
) -> tuple[dict[int, RootFacts], dict[int, str]]:
    """Every partition as a root; the kernel does not look at what the table calls it, and cuts one at the card's
    end."""
    named = (*programs, *(word for text in texts.values() for word in _INIT.findall(text)))
    roots: dict[int, RootFacts] = {}
    errors: dict[int, str] = {}
    for part in table.partitions:
        length = min(part.size, size - part.start)
        if length <= 0:
            errors[part.number] = f"Partition {part.number} begins behind the end of the card."
            continue
        try:
            roots[part.number] = observe_root(read, part.start, length, named)
        except FormatError as bad:
            errors[part.number] = f"Partition {part.number} has no file system that can be the root: {bad}"
    return roots, errors


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


@dataclass(frozen=True)
class Held:
    """An image in memory as far as it was unpacked. read: its bytes; FormatError for those that were not reached.
    whole: all of them were. size: of the unpacked image, or of what is there."""

    path: Path
    read: Read
    size: int
    whole: bool
    done: int


@contextlib.contextmanager
def held(facts: SourceFacts, watch: Watch = UNWATCHED, seconds: float = 2.0) -> Iterator[Held]:
    """As much of an image as can be unpacked in that time and PREVIEW_KEPT bytes; a plain one is read where it is.

    Raises SourceError for a damaged one, Cancelled.
    """
    if facts.kind == "plain" and not facts.parts:
        with reading.opened(facts.path, devices=True) as file:
            size = file.seek(0, 2)
            yield Held(facts.path, reader(file.fileno()), size, True, size)
            return
    descriptor = os.memfd_create("kyklon-image", os.MFD_CLOEXEC)
    try:
        done, kept, whole = 0, 0, True
        started, meter = time.monotonic(), Meter("Looking into the image", facts.unpacked, watch)
        for piece in chunks(facts):
            meter.wait()
            if piece != bytes(len(piece)):
                kept += len(piece)
                os.pwrite(descriptor, piece, done)
            done += len(piece)
            meter.report(done)
            if kept > PREVIEW_KEPT or (time.monotonic() - started > seconds and done >= HEAD):
                whole = bool(facts.exact and facts.unpacked and done >= facts.unpacked)
                break
        below = reader(descriptor)
        size = done
        if not whole:
            size = max(done, facts.unpacked or 0)
            with contextlib.suppress(FormatError):
                size = max(size, read_table(below, strict=False).reach)
        os.ftruncate(descriptor, size)

        def read(offset: int, length: int) -> bytes:
            if offset + length > done and offset < size and not whole:
                raise FormatError(facts.name, done, expected="to be unpacked further", got=f"a look at byte {offset}")
            return below(offset, length)

        yield Held(Path(f"/proc/{os.getpid()}/fd/{descriptor}"), read, size, whole, done)
    finally:
        os.close(descriptor)


def observe_held(image: Held) -> CardContents:
    """What firmware and kernel would meet, as far as the image was unpacked."""
    try:
        found = survey(image.path, deep=False, strict=False)
        return _observed(image.read, image.size, found.volumes, ())
    except FormatError as bad:
        return CardContents(table_error=str(bad))
    except OSError as bad:
        return CardContents(table_error=f"{image.path} cannot be read: {bad.strerror}.")


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
        reach = table.reach if table is not None else 0  # a disk that is shorter is none of this table's
        os.ftruncate(descriptor, facts.unpacked if facts.exact and facts.unpacked else max(done, wanted, reach))
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


def with_files(seen: CardContents, files: Mapping[str, bytes]) -> CardContents:
    """A card as it would be with these files put onto it, by their paths on the boot partition; those of the root begin
    with a slash."""
    sizes, texts, names = dict(seen.sizes), dict(seen.texts), dict(seen.names)
    digests, heads, ramdisks = dict(seen.digests), dict(seen.heads), list(seen.ramdisks)
    for path, data in files.items():
        low = path.lower()
        sizes = {name: size for name, size in sizes.items() if not seen.same(name, path)} | {path: len(data)}
        digests[low], heads[low] = hashlib.sha256(data).hexdigest(), data[:8]
        ramdisks = [each for each in ramdisks if each.name.lower() != low]
        if ramdisk.kind_of(data):
            unpacked = ramdisk.read(path, len(data), data)
            ramdisks += [unpacked] if unpacked else []
        elif b"\0" not in data:
            texts[low], names[low] = data.decode("utf-8", "surrogateescape"), path
    broken = tuple(each for each in seen.broken if each.partition(":")[0].lower() not in map(str.lower, files))
    root, roots = seen.root, dict(seen.roots)
    own = {path: texts[path.lower()] for path in files if path.startswith("/")}
    if own and root is not None:
        root = roots[seen.root_number] = replace(root, setup={**root.setup, **own})
    return _but(
        seen,
        sizes=sizes,
        texts=texts,
        names=names,
        digests=digests,
        heads=heads,
        ramdisks=tuple(ramdisks),
        broken=broken,
        root=root,
        roots=roots,
    )


def _but(contents: CardContents, **changes: object) -> CardContents:
    return CardContents(**{**contents.__dict__, **changes})


def _with_boot(found: CardContents, read: Read, offset: int) -> CardContents:
    """What is on the boot partition; a file that cannot be followed is told and not read."""
    taken = _Taken()
    try:
        volume = FatReader(read, offset)
        found_health = health(volume)
        free = volume.free_bytes()
        files = [file for file, is_folder in volume.everything(taken.broken) if not is_folder]
        for file in sorted(files, key=lambda each: each.path):
            taken.file(volume, file)
        loader_error = loader_sees(volume.raw(0, 512))
        damaged = taken.damaged(volume)
    except (FormatError, OSError) as bad:
        return _but(found, boot_error=f"The boot partition cannot be read: {bad}")
    told = {each.partition(":")[0] for each in taken.broken}
    further = (
        f"{path}: its chain of clusters ends before it does." for path in found_health.broken if path not in told
    )
    return _but(
        found,
        sizes=taken.sizes,
        texts=taken.texts,
        names=taken.names,
        kernels=tuple(taken.kernels),
        programs=tuple(taken.programs),
        trees=tuple(taken.trees),
        ramdisks=tuple(taken.ramdisks),
        boot_free=free,
        broken=(*taken.broken, *further),
        boot_cautions=tuple(found_health.complaints),
        digests=taken.digests,
        heads=taken.heads,
        loader_broken=frozenset(path.lower() for path in found_health.reserved),
        loader_error=loader_error,
        damaged=damaged,
    )


def _by_labels(first: CardContents, read: Read, size: int, table: PartitionTable) -> CardContents:
    """What a loader by labels starts from, where that is another partition than the first FAT one; `first` where it is
    not, or nothing else has its file."""
    looked, other = table.looked_on(), None
    if (first.boot_number in looked and _has_labels(first)) or first.kernels or first.programs:
        return first
    blank = CardContents(table=table, volumes=first.volumes, size=size)
    for part in sorted(table.partitions, key=lambda each: looked.index(each.number) if each.number in looked else 99):
        if part.number not in looked or part.number == first.boot_number:
            continue
        if part.kind == LINUX:
            found = _with_ext_boot(blank, read, part, size)
            other = other or _but(found, boot_number=part.number)
        elif part.is_fat:
            found = _with_boot(blank, read, part.start)
        else:
            continue
        if _has_labels(found):
            return _but(found, boot_number=part.number)
    if first.boot_number:
        return first
    return other or _but(first, boot_error="There is no FAT partition.")


def _has_labels(seen: CardContents) -> bool:
    return any(path.endswith("extlinux/extlinux.conf") for path in seen.texts)


def _with_ext_boot(found: CardContents, read: Read, part: Partition, size: int) -> CardContents:
    """What a loader by labels sees on a partition of ext4."""
    taken = _Taken()
    try:
        volume = ExtFiles(read, part.start, min(part.size, size - part.start))
        files = sorted(volume.everything(taken.broken), key=lambda each: each.path)
        for file in files:
            taken.file(volume, file)
        for text in [text for path, text in taken.texts.items() if path.endswith("extlinux.conf")]:
            for file in volume.named_in(text, taken.broken):
                taken.file(volume, file)
    except (FormatError, OSError) as bad:
        return _but(found, boot_error=f"There is no FAT partition, and partition {part.number} is no ext4 one: {bad}")
    if not _has_labels(_but(found, texts=taken.texts)):
        return _but(found, boot_error="There is no FAT partition, and no extlinux.conf on the ext4 one.")
    return _but(
        found,
        sizes=taken.sizes,
        texts=taken.texts,
        names=taken.names,
        kernels=tuple(taken.kernels),
        programs=tuple(taken.programs),
        trees=tuple(taken.trees),
        ramdisks=tuple(taken.ramdisks),
        boot_free=volume.free_bytes(),
        broken=tuple(taken.broken),
        digests=taken.digests,
        heads=taken.heads,
        exact_names=True,
    )


class _Taken:
    """What was found of a boot partition's files."""

    def __init__(self) -> None:
        self.sizes: dict[str, int] = {}
        self.texts: dict[str, str] = {}
        self.names: dict[str, str] = {}
        self.kernels: list[KernelFile] = []
        self.programs: list[KernelFile] = []
        self.trees: list[DeviceTree] = []
        self.ramdisks: list[Ramdisk] = []
        self.broken: list[str] = []
        self.digests: dict[str, str] = {}
        self.heads: dict[str, bytes] = {}
        self._files: dict[str, FatFile] = {}

    def file(self, volume: FatReader | ExtFiles, file: FatFile) -> None:
        if file.path.lower() in self._files:  # of two entries of one name the first is found
            return
        self.sizes[file.path] = file.size
        self._files[file.path.lower()] = file
        try:
            head = volume.read(file, TEXT_LIMIT)
            kernel = kernel_of(file.path, file.size, volume.read(file, KERNEL_LIMIT) if is_packed_32(head) else head)
        except FormatError as bad:
            self.broken.append(str(bad))
            return
        self.heads[file.path.lower()] = head[:8]
        if file.size <= TEXT_LIMIT and len(self.digests) < MOST_DIGESTS:
            self.digests[file.path.lower()] = hashlib.sha256(head).hexdigest()
        if kernel is not None:
            self.kernels.append(kernel)
        elif head[:4] == TREE_MAGIC or file.path.lower().endswith(".dtb"):
            self.trees.append(tree_of(file.path, file.size, volume.read(file, TREE_LIMIT)))
        elif ramdisk.kind_of(head):
            found = ramdisk.read(file.path, file.size, volume.read(file, ramdisk.READ))
            self.ramdisks += [found] if found else []
        elif file.size <= TEXT_MOST and b"\0" not in head:
            whole = head if file.size <= TEXT_LIMIT else volume.read(file, TEXT_MOST)
            if b"\0" in whole:
                return
            self.texts[file.path.lower()] = whole.decode("utf-8", "surrogateescape")
            self.names[file.path.lower()] = file.path
        elif instruction_set := raw_set(head):
            self.programs.append(KernelFile(file.path, file.size, instruction_set))

    def damaged(self, volume: FatReader) -> tuple[str, ...]:
        """Files whose bytes are not those that CHECKSUMS states (sha256sum(1))."""
        wrong, done = [], 0
        for line in self.texts.get(CHECKSUMS, "").split("\n"):
            match = re.fullmatch(r"([0-9a-f]{64}) [ *](.+)", line.rstrip("\r"))
            file = self._files.get(match[2].lower()) if match else None
            if match is None or file is None:
                continue
            done += file.size
            if done > HASHED:
                break
            try:
                right = hashlib.sha256(volume.read(file, file.size)).hexdigest() == match[1]
            except FormatError:
                continue  # told as broken already
            if not right:
                wrong.append(file.path)
        return tuple(wrong)
