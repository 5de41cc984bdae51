"""Two cards, or a card and an image, side by side: the boot partition file by file, the others by their used bytes."""

from __future__ import annotations

import contextlib
from collections.abc import Generator, Iterator
from dataclasses import dataclass
from pathlib import Path

from kyklon.base import reading, scratch
from kyklon.base.errors import FormatError, ToolError, WrongUse
from kyklon.base.meter import Meter
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.quantities import show_bytes
from kyklon.model.card import Partition, PartitionTable
from kyklon.model.image_file import SourceFacts
from kyklon.operations.card.sources.source import SUFFIX, chunks, inspect
from kyklon.operations.card.volumes.contents import beginning
from kyklon.operations.card.volumes.fat import FatVolume
from kyklon.operations.card.volumes.survey import survey
from kyklon.operations.card.volumes.usage import Extent, usage

_STEP = 1 << 20  # bytes compared at a time


@dataclass(frozen=True)
class FileDifference:
    """kind: only in the first, only in the second, differs. offset: of the first byte that differs."""

    name: str
    kind: str
    first: int | None
    second: int | None
    offset: int | None = None


@dataclass(frozen=True)
class PartDifference:
    """A partition by its number. first and second: its size in bytes, None where it is missing. offset: of the first
    used byte that differs, from the partition's start; None when all are the same. used: bytes compared."""

    number: int
    word: str
    first: int | None
    second: int | None
    used: int = 0
    offset: int | None = None

    @property
    def same(self) -> bool:
        return self.offset is None and self.first == self.second


@dataclass(frozen=True)
class Comparison:
    """same_files: how many files of the boot partition are alike."""

    same_files: int
    files: tuple[FileDifference, ...]
    parts: tuple[PartDifference, ...]

    @property
    def same(self) -> bool:
        return not self.files and all(part.same for part in self.parts)


@dataclass(frozen=True)
class Side:
    """One of the two. facts: of an image that must be unpacked, None for a drive or a plain image."""

    name: str
    path: Path
    facts: SourceFacts | None = None


def side(name: str, path: Path) -> Side:
    """A drive's path, or an image file of any kind. Raises SourceError for a damaged one."""
    if path.is_file() and path.suffix.lower() in SUFFIX and SUFFIX[path.suffix.lower()] != "plain":
        return Side(name, path, inspect(path))
    return Side(name, path)


@contextlib.contextmanager
def _beginning(each: Side) -> Iterator[tuple[Path, PartitionTable]]:
    if each.facts is not None:
        with beginning(each.facts) as found:
            yield found
        return
    try:
        table = survey(each.path, deep=False)
    except OSError as bad:
        raise WrongUse(f"{each.name} cannot be read: {bad.strerror}.", do="Choose another.") from bad
    if table.table is None:
        raise WrongUse(f"{each.name} has no partition table. {table.error}".strip(), do="Choose a written card.")
    yield each.path, table.table


def compare(a: Side, b: Side, watch: Watch = UNWATCHED) -> Comparison:
    """Raises WrongUse for a side without a table, SourceError for a damaged image, Cancelled."""
    try:
        with _beginning(a) as (first, first_table), _beginning(b) as (second, second_table):
            same, files = _compare_boot(first, first_table, second, second_table)
    except FormatError as bad:
        raise WrongUse(f"One of the two has no readable partition table: {bad}") from bad
    parts = _compare_parts((a, first_table), (b, second_table), watch)
    return Comparison(same, tuple(files), tuple(parts))


def _compare_boot(
    a: Path, a_table: PartitionTable, b: Path, b_table: PartitionTable
) -> tuple[int, list[FileDifference]]:
    a_boot, b_boot = a_table.boot(), b_table.boot()
    if a_boot is None or b_boot is None:
        return 0, []
    with scratch.folder("compare") as held:
        folders = Path(held, "a"), Path(held, "b")
        for folder, path, part in zip(folders, (a, b), (a_boot, b_boot), strict=True):
            folder.mkdir()
            FatVolume(path, part.start).copy_out(folder)
        return compare_folders(*folders)


def compare_folders(a: Path, b: Path) -> tuple[int, list[FileDifference]]:
    """How many files are alike, and the others; names are compared as FAT does, without case."""
    first, second = _files(a), _files(b)
    found, same = [], 0
    for key in sorted(first.keys() | second.keys()):
        here, there = first.get(key), second.get(key)
        if here is None or there is None:
            one = here or there
            assert one is not None
            name = one.relative_to(a if here else b).as_posix()
            kind = "only in the first" if here else "only in the second"
            found.append(FileDifference(name, kind, _size(here), _size(there)))
        elif (offset := _first_in_files(here, there)) is not None:
            found.append(FileDifference(here.relative_to(a).as_posix(), "differs", _size(here), _size(there), offset))
        else:
            same += 1
    return same, found


def _files(folder: Path) -> dict[str, Path]:
    return {path.relative_to(folder).as_posix().lower(): path for path in folder.rglob("*") if path.is_file()}


def _size(path: Path | None) -> int | None:
    return path.stat().st_size if path else None


_PIECE = 4 << 20  # bytes of each side held at a time


def _first_in_files(first: Path, second: Path) -> int | None:
    """The first byte in which two files differ; the shorter one's end when it is the other's beginning."""
    at = 0
    with reading.opened(first, devices=True) as here, reading.opened(second, devices=True) as there:
        while True:
            a, b = here.read(_PIECE), there.read(_PIECE)
            if (offset := _first_difference(a, b)) is not None:
                return at + offset
            if not a:
                return None
            at += len(a)


def _first_difference(a: bytes, b: bytes) -> int | None:
    if a == b:
        return None
    low, high = 0, min(len(a), len(b))
    while low < high:
        middle = (low + high) // 2
        if a[low : middle + 1] == b[low : middle + 1]:
            low = middle + 1
        else:
            high = middle
    return low


def _compare_parts(
    first: tuple[Side, PartitionTable], second: tuple[Side, PartitionTable], watch: Watch
) -> list[PartDifference]:
    (a, a_table), (b, b_table) = first, second
    boots = {part.number for part in (a_table.boot(), b_table.boot()) if part}
    theirs = {part.number: part for part in b_table.partitions}
    ours = {part.number: part for part in a_table.partitions}
    found = []
    for number in sorted(ours.keys() | theirs.keys()):
        one, other = ours.get(number), theirs.get(number)
        word = (one or other or a_table.partitions[0]).word
        sizes = one.size if one else None, other.size if other else None
        if one is None or other is None or number in boots:
            found.append(PartDifference(number, word, *sizes))
            continue
        used, offset = _compare_used((a, one), (b, other), watch)
        found.append(PartDifference(number, word, *sizes, used, offset))
    return found


def _compare_used(
    first: tuple[Side, Partition], second: tuple[Side, Partition], watch: Watch
) -> tuple[int, int | None]:
    """Bytes compared and the first that differs, of what either file system uses."""
    (a, one), (b, other) = first, second
    length = min(one.size, other.size)
    mask_a, mask_b = _used_in(a, one), _used_in(b, other)
    meter = Meter(f"Comparing partition {one.number}", length, watch)
    compared = 0
    with (
        contextlib.closing(_bytes(a, one.start, length)) as left,
        contextlib.closing(_bytes(b, other.start, length)) as right,
    ):
        for at, (here, there) in zip(range(0, length, _STEP), zip(left, right, strict=True), strict=True):
            meter.wait()
            for start, end in _inside(mask_a if mask_a is not None else mask_b, at, at + len(here)):
                compared += end - start
                offset = _first_difference(here[start - at : end - at], there[start - at : end - at])
                if offset is not None:
                    return compared, start + offset
            meter.report(at + len(here))
    return compared, None


def _used_in(each: Side, part: Partition) -> list[Extent] | None:
    """What the file system uses, from the partition's start; None for an image that must be unpacked."""
    if each.facts is not None:
        return None
    try:
        found = usage(each.path, part.end)
    except (OSError, ToolError):
        return None
    return [
        (max(start, part.start) - part.start, min(end, part.end) - part.start)
        for start, end in found.used
        if start < part.end and end > part.start
    ]


def _inside(mask: list[Extent] | None, start: int, end: int) -> list[Extent]:
    if mask is None:
        return [(start, end)]
    return [(max(a, start), min(b, end)) for a, b in mask if a < end and b > start]


def _bytes(each: Side, start: int, length: int) -> Generator[bytes, None, None]:
    """A stretch in pieces of _STEP; what lies behind the end of a file is zeros."""
    if each.facts is None:
        with each.path.open("rb", buffering=0) as file:
            file.seek(start)
            for at in range(0, length, _STEP):
                want = min(_STEP, length - at)
                yield (file.read(want) or b"").ljust(want, b"\0")
        return
    at, held = 0, bytearray()
    end = start + length
    given = start
    for piece in chunks(each.facts):
        a, b = max(start, at), min(end, at + len(piece))
        if b > a:
            held += piece[a - at : b - at]
        at += len(piece)
        while len(held) >= _STEP or (held and given + len(held) == end):
            yield bytes(held[:_STEP])
            given += len(held[:_STEP])
            del held[:_STEP]
        if at >= end:
            break
    while given < end:
        want = min(_STEP, end - given)
        yield bytes(held[:want]).ljust(want, b"\0")
        held, given = held[want:], given + want


def in_words(found: Comparison) -> str:
    """One line per difference."""
    lines = [f"{found.same_files} files of the boot partition are the same"]
    for file in found.files:
        at = f" from byte {file.offset}" if file.offset is not None else ""
        lines.append(f"{file.name}: {file.kind}{at}")
    for part in found.parts:
        if part.first != part.second:
            sizes = " and ".join("missing" if size is None else show_bytes(size) for size in (part.first, part.second))
            lines.append(f"partition {part.number} ({part.word}): {sizes}")
        elif part.offset is not None:
            lines.append(f"partition {part.number} ({part.word}): differs from byte {part.offset}")
        elif part.used:
            lines.append(f"partition {part.number} ({part.word}): {show_bytes(part.used)} in use are the same")
    return "\n".join(lines)
