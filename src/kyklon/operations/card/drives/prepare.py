"""A plain card or stick, FAT, exFAT or ext4: every old table and signature cleared, one partition, the right clusters,
a label."""

from __future__ import annotations

import errno
import os
import re
import secrets
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from kyklon.base import scratch, tools
from kyklon.base.errors import TargetError, ToolError, WrongUse
from kyklon.base.meter import Meter
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.devices.ports import DriveFacts, Handle
from kyklon.operations.card.drives.interlock import OpenTarget, Purpose
from kyklon.operations.card.volumes import partitions
from kyklon.operations.card.volumes.survey import Survey, survey

MIB = 1 << 20
_CLEAR = 4 * MIB  # bytes at each end of the drive and the beginning of each old partition
_CLEAR_END = MIB  # bytes at the end of each old partition: second superblocks of arrays lie there
_FAT16_BELOW = 512 * MIB  # bytes; FAT32 needs 65 525 clusters, which a smaller card has with tiny ones only
_LARGEST = 2 * 1024**4  # bytes: an MBR counts 2^32 sectors of 512 bytes
_CLUSTERS = (  # volume up to so many bytes: cluster (Microsoft's own defaults for FAT32, mem)
    (260 * MIB, 512),
    (8 << 30, 4096),
    (16 << 30, 8192),
    (32 << 30, 16384),
    (_LARGEST, 32768),
)
_LABEL = re.compile(r"[A-Z0-9 _-]{1,11}")
Kind = Literal["FAT", "exFAT", "ext4"]
KINDS: tuple[Kind, ...] = ("FAT", "exFAT", "ext4")
_OTHER_LABEL = {
    "exFAT": re.compile(r"[A-Za-z0-9 _-]{1,11}"),
    "ext4": re.compile(r"[A-Za-z0-9 _-]{1,16}"),
}  # as the formats
_TYPES = {"exFAT": 0x07, "ext4": 0x83}  # partition types of an MBR
_HEAD_EXT4, _EXT4_BLOCK = (
    1024 + 24,
    1024,
)  # byte of the superblock's block size: ext4 disk layout (kernel documentation)


@dataclass(frozen=True)
class Prepared:
    """cluster, start and size in bytes."""

    label: str
    kind: str
    cluster: int
    start: int
    size: int
    cleared: tuple[str, ...]


def cluster_for(size: int) -> int:
    """Bytes of a cluster for a FAT32 volume of `size` bytes."""
    return next(cluster for most, cluster in _CLUSTERS if size <= most)


def check_label(label: str, kind: Kind = "FAT") -> str:
    """The label as the file system keeps it. Raises WrongUse for one that it cannot keep."""
    if kind != "FAT":
        if not _OTHER_LABEL[kind].fullmatch(label.strip()):
            most = 16 if kind == "ext4" else 11
            raise WrongUse(
                f"{label!r} is not a valid {kind} label.", do=f"Use 1 to {most} letters, digits, spaces, - or _."
            )
        return label.strip()
    upper = label.strip().upper()
    if not _LABEL.fullmatch(upper):
        raise WrongUse(f"{label!r} is not a valid FAT label.", do="Use 1 to 11 letters, digits, spaces, - or _.")
    return upper


def prepare(target: OpenTarget, label: str, watch: Watch = UNWATCHED, kind: Kind = "FAT") -> Prepared:
    """Make a plain card of one volume.

    Raises WrongUse (label, size), TargetError, Cancelled; a card whose preparing was cut short has no table.
    """
    label, drive = check_label(label, kind), target.facts
    check_size(drive)
    handle = target.handle_for(Purpose.PREPARE)
    wide = drive.size >= _FAT16_BELOW
    table, part = partitions.single(drive.size, _TYPES.get(kind, 0x0C if wide else 0x0E), disk_id=secrets.randbits(32))
    cluster = cluster_for(part.size) if wide and kind == "FAT" else 0
    try:
        old = survey(target.path, deep=False)
    except OSError:
        old = Survey(None, ())
    with scratch.folder("fat") as held:
        image = Path(held) / "volume"
        if kind == "FAT":
            extents = [(0, _make_volume(image, part.size, label, cluster))]
        else:
            extents = _make_other(image, part.size, label, kind)
        stretches = _old_stretches(old, drive.size)
        total = sum(end - start for start, end in (*extents, *stretches))
        meter = Meter("Preparing the card", total, watch)
        done = _clear(handle, stretches, meter)
        _copy(handle, image, part.start, extents, meter, done)
        handle.sync()
        handle.write_at(table.ljust(4096, b"\0"), 0)
        handle.sync()
        handle.forget_cache()
        _prove(handle, image, part.start, extents, table)
        handle.reread_table()
        meter.report(total, force=True)
        with image.open("rb") as file:
            head = file.read(2048)
    words = tuple(volume.words for volume in old.volumes)
    if kind == "FAT":
        made = max(512, int.from_bytes(head[11:13], "little") * head[13])
        return Prepared(label, "FAT32" if wide else "FAT16", made, part.start, part.size, words)
    # exFAT specification 3.1.14 and 3.1.15: both are powers of two
    made = 1 << (head[108] + head[109]) if kind == "exFAT" else _EXT4_BLOCK << head[_HEAD_EXT4]
    return Prepared(label, kind, made, part.start, part.size, words)


def check_size(drive: DriveFacts) -> None:
    """Raise WrongUse for a drive that no plain FAT card can be made of."""
    if not 8 * MIB <= drive.size <= _LARGEST:
        raise WrongUse(f"{drive.name} has {drive.size} bytes; a FAT card has 8 MiB to 2 TiB.")


def _make_volume(image: Path, size: int, label: str, cluster: int) -> int:
    """mkfs.fat on a sparse file; how many bytes from its beginning matter: all up to the root folder's end."""
    with image.open("wb") as file:
        file.truncate(size)
    clusters = ["-s", str(cluster // 512)] if cluster else []
    kind = ["-F", "32" if cluster else "16"]
    tools.run(["mkfs.fat", *kind, *clusters, "-n", label, str(image)], seconds=300)
    with image.open("rb") as file:
        head = file.read(512)
    sector, reserved, tables = int.from_bytes(head[11:13], "little"), int.from_bytes(head[14:16], "little"), head[16]
    each = int.from_bytes(head[22:24], "little") or int.from_bytes(head[36:40], "little")
    roots = int.from_bytes(head[17:19], "little") * 32
    if not sector or not each:
        raise ToolError("The volume that mkfs.fat made cannot be read.")
    return (reserved + tables * each) * sector + max(roots, head[13] * sector)


def _old_stretches(old: Survey, size: int) -> list[tuple[int, int]]:
    """Where signatures of older systems may lie: libblkid looks at the beginnings and the ends."""
    places = [(0, _CLEAR), (size - _CLEAR, size)]
    for volume in old.volumes:
        if volume.number:
            places += [
                (volume.start, volume.start + _CLEAR),
                (volume.start + volume.size - _CLEAR_END, volume.start + volume.size),
            ]
    cut = sorted((max(0, start), min(size, end)) for start, end in places if start < size and end > 0)
    joined: list[tuple[int, int]] = []
    for start, end in cut:
        if joined and start <= joined[-1][1]:
            joined[-1] = (joined[-1][0], max(joined[-1][1], end))
        else:
            joined.append((start, end))
    return joined


def _clear(handle: Handle, stretches: list[tuple[int, int]], meter: Meter) -> int:
    done = 0
    for start, end in stretches:
        for at in range(start, end, MIB):
            meter.wait()
            handle.write_at(bytes(min(MIB, end - at)), at)
            done += min(MIB, end - at)
            meter.report(done)
    return done


def _make_other(image: Path, size: int, label: str, kind: Kind) -> list[tuple[int, int]]:
    """mkfs.exfat or mke2fs on a sparse file; the stretches that it wrote, from and to, in bytes."""
    with image.open("wb") as file:
        file.truncate(size)
    if kind == "exFAT":
        tools.run(["mkfs.exfat", "-L", label, str(image)], seconds=300)
    else:  # tables that the kernel fills in later are not written here; what counts is under checksums
        further = ["-E", "nodiscard,lazy_itable_init=1,lazy_journal_init=0", "-m", "1"]
        tools.run(["mke2fs", "-q", "-F", "-t", "ext4", "-L", label, *further, str(image)], seconds=600)
    found = []
    with image.open("rb") as file:
        at = 0
        while at < size:
            try:
                begin = os.lseek(file.fileno(), at, os.SEEK_DATA)
            except OSError as bad:
                if bad.errno == errno.ENXIO:
                    break
                raise
            at = os.lseek(file.fileno(), begin, os.SEEK_HOLE)
            found.append((begin, at))
    # a hole is read as nothing but zeros: what lies in the first stretch must not be an older file system's
    return [(0, min(size, _CLEAR)), *((max(begin, _CLEAR), end) for begin, end in found if end > _CLEAR)]


def _copy(handle: Handle, image: Path, start: int, extents: list[tuple[int, int]], meter: Meter, done: int) -> None:
    with image.open("rb") as file:
        for begin, end in extents:
            file.seek(begin)
            for at in range(begin, end, MIB):
                meter.wait()
                handle.write_at(file.read(min(MIB, end - at)), start + at)
                done += min(MIB, end - at)
                meter.report(done)


def _prove(handle: Handle, image: Path, start: int, extents: list[tuple[int, int]], table: bytes) -> None:
    if handle.read_at(512, 0) != table:
        raise TargetError(
            "The card did not keep the partition table.", do="The card is worn or locked. Use another one."
        )
    with image.open("rb") as file:
        for begin, end in extents:
            file.seek(begin)
            for at in range(begin, end, MIB):
                want = file.read(min(MIB, end - at))
                if handle.read_at(len(want), start + at) != want:
                    raise TargetError(
                        "The card did not keep the file system; the first difference is between bytes "
                        f"{start + at} and {start + at + MIB}.",
                        do="The card is worn. Use another one.",
                    )
