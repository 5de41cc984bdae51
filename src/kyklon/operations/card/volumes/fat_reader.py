"""A FAT file system read from its bytes, within bounds whatever they are (Microsoft FAT specification, 2000).

Only what is asked for is read: a look at a full card costs its folders and its boot files. Writing is mtools' work.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date

from kyklon.base.errors import FormatError
from kyklon.operations.card.volumes.partitions import Read

SECTORS = (512, 1024, 2048, 4096)  # bytes, 3.1 BPB_BytsPerSec
MOST_FILES = 65_536  # the most entries a folder may have (6); a boot partition holds a hundred
DEEPEST = 32  # folders within folders
_PIECE = 1 << 16  # bytes of the table read at a time
_PIECES = 64  # pieces kept
_MOST_TABLE = 64 << 20  # bytes looked through for free clusters; beyond it FSInfo's own count must do
ENDS = {"FAT32": 0x0FFFFFF8, "FAT16": 0xFFF8, "FAT12": 0xFF8}  # from here on an entry ends its chain (4)
_DIRECTORY, _VOLUME_ID, _LONG = 0x10, 0x08, 0x0F  # 6: DIR_Attr
_LOWER_BASE, _LOWER_ENDING = 0x08, 0x10  # DIR_NTRes as Windows and Linux use it


@dataclass(frozen=True)
class FatFile:
    """path: with forward slashes, as it is spelt. size in bytes. modified: ISO 8601 date, '' for none."""

    path: str
    size: int
    cluster: int
    modified: str = ""


@dataclass(frozen=True)
class Geometry:
    """A boot sector's figures; starts in bytes from the beginning of the volume."""

    kind: str
    cluster: int
    clusters: int
    table: int
    table_bytes: int
    root: int
    root_bytes: int
    data: int
    root_cluster: int
    information: int
    sector: int


def geometry(head: bytes) -> Geometry:
    """From the first 512 bytes. Raises FormatError for figures that no FAT volume can have."""

    def number(at: int, length: int) -> int:
        return int.from_bytes(head[at : at + length], "little")

    sector, per_cluster, reserved, tables = number(11, 2), number(13, 1), number(14, 2), number(16, 1)
    roots, each = number(17, 2), number(22, 2) or number(36, 4)
    total = number(19, 2) or number(32, 4)
    if head[510:512] != b"\x55\xaa":
        raise FormatError("FAT boot sector", 510, expected="55 AA", got=head[510:512].hex() or "nothing")
    if sector not in SECTORS:
        raise FormatError("FAT boot sector", 11, expected="512 to 4096 bytes a sector", got=str(sector))
    if not per_cluster or per_cluster & (per_cluster - 1) or sector * per_cluster > 1 << 18:
        raise FormatError("FAT boot sector", 13, expected="a power of two", got=str(per_cluster))
    if not reserved or tables not in (1, 2) or not each:
        raise FormatError("FAT boot sector", 14, expected="reserved sectors and tables", got=f"{reserved}, {tables}")
    root_sectors = -(-roots * 32 // sector)
    data = reserved + tables * each + root_sectors
    clusters = (total - data) // per_cluster
    if clusters < 1:
        raise FormatError("FAT boot sector", 32, expected=f"more than {data} sectors", got=str(total))
    # 3.5 goes by the number of clusters alone; every reader there is takes a volume without a 16-bit size for FAT32
    kind = "FAT32" if not number(22, 2) else "FAT12" if clusters < 4085 else "FAT16"
    held = each * sector * {"FAT12": 2, "FAT16": 1, "FAT32": 1}[kind] // {"FAT12": 3, "FAT16": 2, "FAT32": 4}[kind]
    if held < 3:
        raise FormatError("FAT boot sector", 22, expected="a table", got=f"{each} sectors")
    return Geometry(
        kind,
        sector * per_cluster,
        min(clusters, held - 2),
        reserved * sector,
        each * sector,
        (reserved + tables * each) * sector,
        root_sectors * sector,
        data * sector,
        number(44, 4) if kind == "FAT32" else 0,
        number(48, 2) * sector if kind == "FAT32" else 0,
        sector,
    )


class FatReader:
    """read: of the whole card; start: where the volume begins on it. Raises FormatError for what is no FAT volume."""

    def __init__(self, read: Read, start: int) -> None:
        self._card, self._start = read, start
        self.geometry = geometry(self._read(0, 512))
        self._table: OrderedDict[int, bytes] = OrderedDict()
        self._all: list[int] | None = None
        self._free: int | None = None
        self.odd_names: set[str] = (
            set()
        )  # of entries that were read: a long name that is not the short one's, bad letters
        self.reserved: set[int] = (
            set()
        )  # clusters whose entries have bits set that are not the chain's, once all are read

    def _read(self, offset: int, length: int) -> bytes:
        return self._card(self._start + offset, length)

    def raw(self, offset: int, length: int) -> bytes:
        """Bytes of the volume, zeros behind its end."""
        return self._read(offset, length).ljust(length, b"\0")

    # --- the table -------------------------------------------------------------------------------------------------

    def _table_bytes(self, at: int, length: int) -> bytes:
        found = b""
        while length > 0:
            number = at // _PIECE
            piece = self._table.get(number)
            if piece is None:
                start = number * _PIECE
                wide = min(_PIECE, max(0, self.geometry.table_bytes - start))
                piece = self._read(self.geometry.table + start, wide).ljust(wide, b"\0")
                self._table[number] = piece
                if len(self._table) > _PIECES:
                    self._table.popitem(last=False)
            part = piece[at % _PIECE : at % _PIECE + length]
            if not part:
                return found.ljust(len(found) + length, b"\0")
            found, at, length = found + part, at + len(part), length - len(part)
        return found

    def _next(self, cluster: int) -> int:
        """The entry of a cluster, ends of chains as 0x0FFFFFF8 and more whatever the kind."""
        kind = self.geometry.kind
        if kind == "FAT32":
            return int.from_bytes(self._table_bytes(cluster * 4, 4), "little") & 0x0FFFFFFF
        if kind == "FAT16":
            value, limit = int.from_bytes(self._table_bytes(cluster * 2, 2), "little"), 0xFFF8
        else:
            pair = int.from_bytes(self._table_bytes(cluster * 3 // 2, 2), "little")
            value, limit = (pair >> 4 if cluster & 1 else pair & 0x0FFF), 0xFF8
        return 0x0FFFFFF8 if value >= limit else value

    def table_entry(self, number: int) -> int:
        """An entry as it stands, without the upper four bits of FAT32."""
        if self.geometry.kind == "FAT12":
            pair = int.from_bytes(self._table_bytes(number * 3 // 2, 2), "little")
            return pair >> 4 if number & 1 else pair & 0x0FFF
        width = 4 if self.geometry.kind == "FAT32" else 2
        return int.from_bytes(self._table_bytes(number * width, width), "little") & 0x0FFFFFFF

    def table_entries(self) -> list[int]:
        """All of them, those of the two reserved clusters included; kept, so that files are then read along them."""
        if self._all is None:
            self._all = self._read_entries()
        return self._all

    def _read_entries(self) -> list[int]:
        shape = self.geometry
        count = shape.clusters + 2
        if shape.kind == "FAT12":
            return [self.table_entry(number) for number in range(count)]
        width = 4 if shape.kind == "FAT32" else 2
        spans = [(at, min(_PIECE, count * width - at)) for at in range(0, count * width, _PIECE)]
        raw = b"".join(self._masked(at, wide, width) for at, wide in spans)
        if width == 4:
            plain = b"".join(self.raw(shape.table + at, wide) for at, wide in spans)
            if plain != raw:
                entries = memoryview(plain).cast("I").tolist()
                self.reserved = {number for number, entry in enumerate(entries) if entry >> 28 and number > 1}
        return memoryview(raw).cast("I" if width == 4 else "H").tolist()

    def chain(self, cluster: int, name: str) -> Iterator[int]:
        """The clusters of a file, in order. Raises FormatError for a chain that is broken or bites its tail."""
        seen = 0
        while cluster < 0x0FFFFFF8:
            if not 2 <= cluster < self.geometry.clusters + 2:
                raise FormatError(
                    name, seen * self.geometry.cluster, expected="a cluster of the volume", got=f"cluster {cluster}"
                )
            yield cluster
            seen += 1
            if seen > self.geometry.clusters:
                raise FormatError(name, 0, expected="a chain with an end", got="one that goes round")
            cluster = self._next(cluster)

    def free_bytes(self) -> int:
        """What is free, from the table; from FSInfo where the table is huge."""
        shape = self.geometry
        if self._all is not None:
            if self._free is None:
                self._free = self._all[2:].count(0)
            return self._free * shape.cluster
        if shape.table_bytes > _MOST_TABLE:
            stated = int.from_bytes(self._read(shape.information + 488, 4), "little")
            return min(stated, shape.clusters) * shape.cluster
        if shape.kind == "FAT12":
            return sum(not self._next(cluster) for cluster in range(2, shape.clusters + 2)) * shape.cluster
        width = 4 if shape.kind == "FAT32" else 2
        end = (shape.clusters + 2) * width
        return sum(self._free_in(at, min(_PIECE, end - at), width) for at in range(0, end, _PIECE)) * shape.cluster

    def _free_in(self, at: int, wide: int, width: int) -> int:
        """Free clusters of one piece of the table, in few steps: a loop over each would hold other threads up."""
        return (
            memoryview(self._masked(at, wide, width))
            .cast("I" if width == 4 else "H")[2 if at == 0 else 0 :]
            .tolist()
            .count(0)
        )

    def _masked(self, at: int, wide: int, width: int) -> bytes:
        raw = self._read(self.geometry.table + at, wide).ljust(wide, b"\0")
        if width == 4:  # the upper four bits are not part of the entry
            mask = int.from_bytes(b"\xff\xff\xff\x0f" * (wide // 4), "little")
            raw = (int.from_bytes(raw, "little") & mask).to_bytes(wide, "little")
        return raw

    # --- folders and files -----------------------------------------------------------------------------------------

    def files(self) -> Iterator[FatFile]:
        """Every file, folder by folder. Raises FormatError for a folder that cannot be followed, or for too many."""
        return (file for file, is_folder in self.everything() if not is_folder)

    def everything(self, lost: list[str] | None = None) -> Iterator[tuple[FatFile, bool]]:
        """Every file and folder, and whether it is a folder. Raises as files(); with `lost`, what is wrong with a
        folder goes there instead, and what was found of it stays."""
        waiting: list[tuple[str, int, int]] = [("", self.geometry.root_cluster, 0)]
        entered: set[int] = set()
        count = 0
        while waiting:
            folder, cluster, depth = waiting.pop()
            try:
                if cluster in entered and folder:
                    raise FormatError(folder, 0, expected="a folder of its own", got="one that contains itself")
                entered.add(cluster)
                for name, is_folder, file in self._entries(folder, cluster):
                    count += 1
                    if count > MOST_FILES or depth > DEEPEST:
                        raise FormatError(
                            folder or "/", 0, expected=f"at most {MOST_FILES} files, {DEEPEST} deep", got="more"
                        )
                    path = f"{folder}/{name}" if folder else name
                    if is_folder:
                        waiting.append((path, file.cluster, depth + 1))
                    yield FatFile(path, file.size, file.cluster, file.modified), is_folder
            except FormatError as bad:
                if lost is None or (not folder and not count):
                    raise
                lost.append(f"{folder or 'the root folder'} cannot be followed to its end: {bad.what}")

    def _folder_bytes(self, folder: str, cluster: int) -> Iterator[bytes]:
        shape = self.geometry
        if not folder and shape.kind != "FAT32":
            yield self._read(shape.root, shape.root_bytes)
            return
        for total, each in enumerate(self.chain(cluster, folder or "/")):
            if total * shape.cluster > MOST_FILES * 32:
                raise FormatError(folder or "/", 0, expected=f"at most {MOST_FILES} entries", got="more")
            yield self._read(shape.data + (each - 2) * shape.cluster, shape.cluster)

    def _entries(self, folder: str, cluster: int) -> Iterator[tuple[str, bool, FatFile]]:
        long: dict[int, bytes] = {}
        check = -1
        for piece in self._folder_bytes(folder, cluster):
            for at in range(0, len(piece) - 31, 32):
                entry = piece[at : at + 32]
                if entry[0] == 0:
                    return
                if entry[0] == 0xE5:
                    long.clear()
                elif entry[11] & 0x3F == _LONG:
                    if entry[0] & 0x40:
                        long.clear()
                        check = entry[13]
                    if entry[13] == check:
                        long[entry[0] & 0x1F] = entry[1:11] + entry[14:26] + entry[28:32]
                else:
                    name = _long_name(long) if long and check == _checksum(entry[:11]) else ""
                    if (long and not name) or _bad_short(entry[:11]):
                        self.odd_names.add(name or _short_name(entry))
                    long.clear()
                    if entry[11] & _VOLUME_ID or entry[0] == 0x2E:  # the label; . and ..
                        continue
                    yield self._entry(name or _short_name(entry), entry)

    def _entry(self, name: str, entry: bytes) -> tuple[str, bool, FatFile]:
        first = int.from_bytes(entry[26:28], "little")
        if self.geometry.kind == "FAT32":
            first |= int.from_bytes(entry[20:22], "little") << 16
        size = int.from_bytes(entry[28:32], "little")
        day = int.from_bytes(entry[24:26], "little")
        return name, bool(entry[11] & _DIRECTORY), FatFile(name, size, first & 0x0FFFFFFF, _date(day))

    def read(self, file: FatFile, most: int) -> bytes:
        """The first `most` bytes of a file. Raises FormatError when its chain ends before its size."""
        wanted = min(file.size, most)
        if not wanted:
            return b""
        parts: list[bytes] = []
        have, each = 0, self.geometry.cluster
        for first, count in self._runs(file, -(-wanted // each)):
            part = self._read(self.geometry.data + (first - 2) * each, count * each)
            parts.append(part)
            have += len(part)
            if have >= wanted:
                return b"".join(parts)[:wanted]
            if len(part) < count * each:
                break
        raise FormatError(file.path, have, expected=f"{file.size} bytes", got=f"{have}")

    def _runs(self, file: FatFile, most: int) -> Iterator[tuple[int, int]]:
        """Clusters that follow one another, as first and how many, `most` in all. Raises FormatError as chain()."""
        if self._all is not None:
            yield from self._runs_along(self._all, file, most)
            return
        first = count = 0
        for total, cluster in enumerate(self.chain(file.cluster, file.path), 1):
            if count and cluster == first + count:
                count += 1
            else:
                if count:
                    yield first, count
                first, count = cluster, 1
            if total >= most:
                break
        if count:
            yield first, count

    def _runs_along(self, entries: list[int], file: FatFile, most: int) -> Iterator[tuple[int, int]]:
        behind, end = self.geometry.clusters + 2, ENDS[self.geometry.kind]
        cluster, total = file.cluster, 0
        while total < most and cluster < end:
            if not 2 <= cluster < behind:
                raise FormatError(
                    file.path,
                    total * self.geometry.cluster,
                    expected="a cluster of the volume",
                    got=f"cluster {cluster}",
                )
            count = run_length(entries, cluster, most - total)
            yield cluster, count
            total += count
            cluster = entries[cluster + count - 1]


def run_length(entries: list[int], cluster: int, most: int) -> int:
    """How many clusters follow one another from this one on, `most` at the most; in long steps, for chains are long."""
    count = step = 1
    while count < most:
        wanted = min(step, most - count)
        at = cluster + count - 1
        if entries[at : at + wanted] == list(range(at + 1, at + 1 + wanted)) and at + wanted < len(entries):
            count += wanted
            step = min(step * 4, 8192)
        elif wanted == 1:
            break
        else:
            step = max(1, wanted // 8)
    return count


def _checksum(short: bytes) -> int:
    """Of a short name, as each part of its long name carries it (6: ChkSum)."""
    value = 0
    for letter in short:
        value = ((value >> 1) | (value & 1) << 7) + letter & 0xFF
    return value


def _bad_short(short: bytes) -> bool:
    """Letters that no short name has, or a blank within one (6.1)."""
    if short[0] in (0x2E, 0xE5):
        return False
    inner = any(b" " in part.rstrip(b" ") for part in (short[:8], short[8:]))
    return (
        inner
        or any(letter < 0x20 and (at or letter != 5) for at, letter in enumerate(short))
        or bool(set(short) & set(b'"*+,./:;<=>?[\\]|'))
    )


def _long_name(parts: dict[int, bytes]) -> str:
    if sorted(parts) != list(range(1, len(parts) + 1)):
        return ""
    raw = b"".join(parts[number] for number in sorted(parts))
    text = raw.decode("utf-16-le", "surrogatepass").split("\0")[0]
    return text.replace("/", "_")


def _short_name(entry: bytes) -> str:
    base, ending = entry[:8], entry[8:11]
    if base[0] == 0x05:  # 6.1: stands for E5, which marks deleted entries
        base = b"\xe5" + base[1:]
    name, tail = base.decode("cp437").rstrip(" "), ending.decode("cp437").rstrip(" ")
    if entry[12] & _LOWER_BASE:
        name = name.lower()
    if entry[12] & _LOWER_ENDING:
        tail = tail.lower()
    return (f"{name}.{tail}" if tail else name).replace("/", "_")


def _date(value: int) -> str:
    try:
        return date(1980 + (value >> 9), value >> 5 & 15, value & 31).isoformat()
    except ValueError:
        return ""
