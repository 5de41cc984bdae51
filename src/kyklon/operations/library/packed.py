"""Archives of games: what is in them, and whether all of it can be unpacked. Nothing is ever unpacked to a disk."""

from __future__ import annotations

import hashlib
import re
import struct
import zipfile
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path, PurePosixPath
from typing import IO, Any, BinaryIO

from kyklon.base import reading
from kyklon.base.archives import ARCHIVE_DAMAGE, header_7z, open_zip
from kyklon.base.quantities import counted, show_bytes

ARCHIVES = (".zip", ".7z")
LOOKED_THROUGH = 8 << 30  # bytes that are unpacked of one archive to try it; no medium of such machines holds more
MOST_MEMBERS = 20_000  # of one archive; sets of boards have some hundred
_FLOOD = 400  # times its own size: what deflate reaches on games is below 100, on zeros 1030 (RFC 1951)
_FLOOD_LEAST = 256 << 20  # bytes; below that a flood hurts nobody
_BLOCK = 1 << 20
_DAMAGE = (*ARCHIVE_DAMAGE, OSError, ValueError, NotImplementedError, struct.error, RuntimeError)


@dataclass(frozen=True, slots=True)
class Member:
    """A file in an archive. size in bytes, unpacked; crc: its CRC-32 in hexadecimal, as the archive states it; sums:
    further ones, where they were taken."""

    name: str
    size: int
    crc: str
    sums: Mapping[str, str] = field(default_factory=dict, hash=False)


Fault = tuple[str, str]  # a code of the REASONS and words, or two ''
_NONE: Fault = ("", "")
Moved = Callable[[int], None]


def unsafe_member(name: str) -> bool:
    """Whether an archive member would be unpacked outside its folder."""
    path = PurePosixPath(name.replace("\\", "/"))
    return path.is_absolute() or ".." in path.parts or bool(re.match(r"[A-Za-z]:", name)) or "\0" in name


def look_into(path: Path, moved: Moved = lambda _count: None) -> tuple[tuple[Member, ...], Fault]:
    """The members of an archive, each read through against its CRC-32, and what is wrong with it.

    moved: called with the bytes of the archive that are done; what it raises stops the look. Raises OSError where the
    file itself cannot be read.
    """
    with reading.opened(path) as data:
        try:
            return _look_7z(data, moved) if path.suffix.lower() == ".7z" else _look_zip(data, moved)
        except _DAMAGE:
            return (), ("damaged", "The archive cannot be opened: it is truncated or not an archive.")


def summed(path: Path, members: tuple[Member, ...], names: Mapping[str, str]) -> tuple[Member, ...]:
    """The members of a ZIP that was found sound, with further sums; those of a 7z keep their CRC-32 alone. names: of
    hashlib's functions by algorithm. Raises OSError."""
    if path.suffix.lower() != ".zip":
        return members
    wanted = {member.name for member in members}
    told: dict[str, dict[str, str]] = {}
    with reading.opened(path) as data, open_zip(data) as packed:
        for info in packed.infolist():
            if info.filename in wanted and info.filename not in told:
                told[info.filename] = _sums_of(packed.open(info), names)
    return tuple(replace(member, sums=told.get(member.name, {})) for member in members)


def _sums_of(opened: IO[bytes], names: Mapping[str, str]) -> dict[str, str]:
    hashes = {each: hashlib.new(name, usedforsecurity=False) for each, name in names.items()}
    with opened as member:
        while piece := member.read(_BLOCK):
            for one in hashes.values():
                one.update(piece)
    return {each: one.hexdigest() for each, one in hashes.items()}


def _look_zip(data: BinaryIO, moved: Moved) -> tuple[tuple[Member, ...], Fault]:
    size = data.seek(0, 2)
    with open_zip(data) as archive:
        infos = archive.infolist()
        members = tuple(Member(info.filename, info.file_size, f"{info.CRC:08x}") for info in infos if not info.is_dir())
        fault = _overlap(infos) or _two_tongues(data, infos) or _listed_fault(members, size)
        if fault[0] in ("", "unsafe-archive"):
            fault = _zip_contents(archive, moved) or fault
    return members[:MOST_MEMBERS], fault


def _overlap(infos: list[zipfile.ZipInfo]) -> Fault | None:
    """Members that share bytes of the archive, which no honest one has (APPNOTE 4.3.6: one after the other)."""
    ends = 0
    for each in sorted(infos, key=lambda info: info.header_offset):
        if each.header_offset < ends:
            return "bomb", f"{each.filename} overlaps another member of the archive."
        ends = each.header_offset + 30 + each.compress_size  # 4.3.7: a local header takes 30 bytes at least
    return None


def _two_tongues(data: BinaryIO, infos: list[zipfile.ZipInfo]) -> Fault | None:
    """Where a member's own header says another thing than the list of contents: some programs go by the one, some by
    the other (APPNOTE 4.3.7, 4.3.12, 4.4)."""
    for info in infos:
        data.seek(info.header_offset)
        head = data.read(30)
        if len(head) < 30 or head[:4] != b"PK\x03\x04":
            return "damaged", f"{info.filename} is not where the directory says."
        flags, method = struct.unpack_from("<HH", head, 6)
        told = struct.unpack_from("<III", head, 14)
        wanted = (info.CRC, info.compress_size, info.file_size)
        later = bool(flags & 8)  # what was not known when the header was written stands behind the data
        good = all(own in (want, 0xFFFFFFFF) or (later and own == 0) for own, want in zip(told, wanted, strict=True))
        if not good or method != info.compress_type or (flags ^ info.flag_bits) & 9:
            return "damaged", f"{info.filename} in it is damaged: its two headers disagree."
    data.seek(-min(data.seek(0, 2), 65_557), 2)
    tail = data.read()
    at = tail.rfind(b"PK\x05\x06")
    count = int.from_bytes(tail[at + 10 : at + 12], "little")
    if at >= 0 and count not in (0xFFFF, len(infos) & 0xFFFF):
        return "damaged", f"Its index lists {counted(count, 'file')}; it holds {len(infos)}."
    return None


def _listed_fault(members: tuple[Member, ...], size: int) -> Fault:
    """What the list of contents alone gives away."""
    whole = sum(member.size for member in members)
    if len(members) > MOST_MEMBERS:
        return "bomb", f"It has {len(members)} members; at most {MOST_MEMBERS} are read."
    if whole > max(_FLOOD_LEAST, _FLOOD * size) or whole > LOOKED_THROUGH:
        return "bomb", f"{show_bytes(size)} would unpack to {show_bytes(whole)}."
    bad = next((member.name for member in members if unsafe_member(member.name)), "")
    return ("unsafe-archive", f"It would unpack outside its folder: {bad}.") if bad else _NONE


def _zip_contents(archive: zipfile.ZipFile, moved: Moved) -> Fault | None:
    """Why a member cannot be unpacked, None when all can."""
    left = LOOKED_THROUGH
    for info in archive.infolist():
        try:
            with archive.open(info) as member:
                while piece := member.read(_BLOCK):
                    left -= len(piece)
                    if left < 0:
                        return "bomb", f"{info.filename} unpacks to more than it states."
        except _DAMAGE as bad:
            if isinstance(bad, RuntimeError) and "password" in str(bad):
                return "damaged", f"{info.filename} is password-protected."
            return "damaged", f"{info.filename} in it is damaged: its checksum is wrong."
        moved(info.compress_size)
    return None


def _look_7z(data: BinaryIO, moved: Moved) -> tuple[tuple[Member, ...], Fault]:
    size = data.seek(0, 2)
    header_7z(data)
    from py7zr import SevenZipFile
    from py7zr.exceptions import ArchiveError, PasswordRequired

    try:
        with SevenZipFile(data) as archive:
            if archive.needs_password():
                return (), ("damaged", "It is password-protected.")
            listed: list[Any] = [each for each in archive.list() if not each.is_directory]
            members = tuple(Member(each.filename, each.uncompressed or 0, f"{each.crc32 or 0:08x}") for each in listed)
            fault = _listed_fault(members, size)
            if fault[0] != "bomb" and archive.testzip() is not None:
                fault = ("damaged", "A member of it is damaged: its checksum is wrong.")
    except PasswordRequired:
        return (), ("damaged", "It is password-protected.")
    except ArchiveError as bad:
        return (), ("damaged", f"The archive cannot be opened: {bad}.")
    moved(size)
    return members[:MOST_MEMBERS], fault
