"""Looks through a library folder: one sub-folder a system, and one of system files. Reads, never changes."""

from __future__ import annotations

import hashlib
import re
import struct
import zipfile
import zlib
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, replace
from pathlib import Path, PurePosixPath

from kyklon.base.archives import ARCHIVE_DAMAGE, header_7z, open_zip
from kyklon.base.errors import KyklonError
from kyklon.base.inside import files_below
from kyklon.base.progress import UNWATCHED, Progress, Watch
from kyklon.base.reading import bytes_of
from kyklon.catalogue.records import System
from kyklon.model.build import LibrarySettings
from kyklon.model.library import FoundSystemFile, Game, Reason, Scan, SystemFile
from kyklon.operations.library.versions import without_others

SYSTEM_FILES = "system-files"  # the sub-folder for firmware
ARCHIVES = (".zip", ".7z")
IGNORED = {".txt", ".nfo", ".jpg", ".png", ".xml", ".dat", ".sfv", ".md5"}
_BLOCK = 1 << 20
LOOKED_THROUGH = 256 << 20  # bytes of an archive that are unpacked to try it
_DISC = re.compile(r"\s*[\(\[]disc (\d+)[^)\]]*[\)\]]", re.IGNORECASE)
_TAGS = re.compile(r"\s*[\(\[][^)\]]*[\)\]]")


@dataclass(frozen=True)
class _File:
    path: str  # relative, with forward slashes
    size: int

    @property
    def suffix(self) -> str:
        return PurePosixPath(self.path).suffix.lower()


def title_of(name: str) -> str:
    """The title in a file name: no ending, no bracketed tags, 'X, The' turned round."""
    stem = _TAGS.sub("", PurePosixPath(name).stem).replace("_", " ").strip()
    match = re.fullmatch(r"(.*), (The|A|An)", stem)
    return f"{match[2]} {match[1]}" if match else stem


def scan(
    folder: Path,
    systems: tuple[System, ...],
    settings: LibrarySettings,
    watch: Watch = UNWATCHED,
) -> Scan:
    """Scan a library. Raises KyklonError when the folder is not there (any more)."""
    if not folder.is_dir():
        raise KyklonError(f"The library folder {folder} is not there.", do="Plug its disk in or choose another folder.")
    try:
        files = [_File(path, status.st_size) for path, status in files_below(folder)]
        system_files = _system_files(folder, files, systems, settings)
        games: list[Game] = []
        for number, system in enumerate(systems):
            watch.check()
            watch.sink(Progress("Scanning", number, len(systems), unit="systems"))
            own = [file for file in files if file.path.split("/")[0] == system.folder]
            games += _games(folder, own, system, systems, system_files, watch)
        games = without_others(_without_clashes(_without_duplicates(folder, games, watch)), settings)
    except OSError as bad:
        raise KyklonError(
            f"The library folder {folder} went away: {bad.strerror}.", do="Plug its disk in again."
        ) from bad
    known = {system.folder for system in systems} | {SYSTEM_FILES}
    unsorted = tuple(file.path for file in files if file.path.split("/")[0] not in known)
    return Scan(str(folder), tuple(games), system_files, unsorted)


def _system_files(
    folder: Path, files: Iterable[_File], systems: tuple[System, ...], settings: LibrarySettings
) -> tuple[FoundSystemFile, ...]:
    shelf = [file for file in files if file.path.startswith(f"{SYSTEM_FILES}/")]
    renamed = {(right.system, right.name): right.found for right in settings.right_names}
    found = []
    for system in systems:
        for wanted in system.system_files:
            at = next((file.path for file in shelf if _is(folder, file, wanted)), "")
            named = PurePosixPath(at).name == wanted.name or renamed.get((system.id, wanted.name)) == at
            found.append(FoundSystemFile(system.id, wanted, at, bool(at) and named))
    return tuple(found)


def _is(folder: Path, file: _File, wanted: SystemFile) -> bool:
    """Same contents, whatever its name."""
    if file.size != wanted.size:
        return False
    with (folder / file.path).open("rb") as data:
        return hashlib.file_digest(data, "sha256").hexdigest() == wanted.sha256


def _games(
    folder: Path,
    files: list[_File],
    system: System,
    systems: tuple[System, ...],
    system_files: tuple[FoundSystemFile, ...],
    watch: Watch,
) -> list[Game]:
    by_path = {file.path: file for file in files}
    tracks: set[str] = set()
    games: list[Game] = []
    common = _missing_system_files(system, system_files)
    for file in files:
        watch.check()
        if file.suffix == ".cue":
            game, used = _cue_game(folder, file, by_path, system)
            tracks |= used
            games.append(replace(game, reasons=(*game.reasons, *common)))
    for file in files:
        if file.suffix == ".cue" or file.path in tracks or file.suffix in IGNORED or file.suffix == ".m3u":
            continue
        reasons = _reasons(folder, file, system, systems)
        title = title_of(file.path)
        games.append(Game(system.id, title, (file.path,), file.size, 1, (*reasons, *common)))
    return _joined_discs(games) if system.multi_disc else games


def _missing_system_files(system: System, found: tuple[FoundSystemFile, ...]) -> tuple[Reason, ...]:
    bad = [each for each in found if each.system == system.id and each.wanted.required and not each.usable]
    return tuple(
        Reason("system-file", f"{each.wanted.name} is {'there under another name' if each.found else 'missing'}.")
        for each in bad
    )


def _cue_game(folder: Path, cue: _File, files: dict[str, _File], system: System) -> tuple[Game, set[str]]:
    """A cue sheet with its tracks, FILE \"name\" BINARY lines."""
    sheet = _sheet(folder / cue.path)
    names = tuple(dict.fromkeys(track.file for track in sheet))
    base = PurePosixPath(cue.path).parent
    wanted = [_normal(base / name.replace("\\", "/")) for name in names]
    there = [path for path in wanted if path in files]
    reasons = tuple(Reason("track", f"{PurePosixPath(p).name} is missing.") for p in wanted if p not in files)
    for track in sheet:
        file = files.get(_normal(base / track.file.replace("\\", "/")))
        if file is not None and file.size <= track.start:
            name = PurePosixPath(file.path).name
            reasons += (Reason("track", f"{name} ends before track {track.number} of the sheet begins."),)
    if not names:
        reasons += (Reason("sheet", f"{PurePosixPath(cue.path).name} names no track."),)
    size = cue.size + sum(files[path].size for path in there)
    return Game(system.id, title_of(cue.path), (cue.path, *there), size, 1, reasons), set(there)


@dataclass(frozen=True)
class _Track:
    """start: in bytes of its file, 0 where the sheet does not tell."""

    file: str
    number: int
    start: int


_SECTOR = {"AUDIO": 2352, "MODE1/2048": 2048, "MODE1/2352": 2352, "MODE2/2336": 2336, "MODE2/2352": 2352}  # bytes
_LARGEST_SHEET = 1 << 20  # bytes; a hundred tracks take ten thousand


def _sheet(path: Path) -> tuple[_Track, ...]:
    """The tracks of a cue sheet: FILE, TRACK and INDEX lines, in any case, names with or without quotes."""
    try:
        text = bytes_of(path, _LARGEST_SHEET).decode("utf-8-sig", "surrogateescape")
    except KyklonError:
        return ()
    tracks: list[_Track] = []
    file, binary, number, wide, begun = "", False, 0, 0, 0
    for line in text.split("\n"):
        word, _, rest = line.strip().partition(" ")
        word, rest = word.upper(), rest.strip()
        if word == "FILE":
            name, _, kind = rest[1:].partition('"') if rest.startswith('"') else rest.rpartition(" ")
            file, binary, begun = name or kind, kind.strip().upper() == "BINARY", 0
            if file:
                tracks.append(_Track(file, number + 1, 0))
        elif word == "TRACK" and file:
            told, _, mode = rest.partition(" ")
            number, wide = int(told) if told.isdecimal() and len(told) < 4 else 0, _SECTOR.get(mode.strip().upper(), 0)
        elif word == "INDEX" and file and binary and wide:
            index, _, time = rest.partition(" ")
            parts = time.strip().split(":")
            if index == "01" and len(parts) == 3 and all(each.isdecimal() and len(each) < 4 for each in parts):
                sectors = (int(parts[0]) * 60 + int(parts[1])) * 75 + int(parts[2])  # 75 frames a second: Red Book
                begun = max(begun, sectors * wide)
                tracks.append(_Track(file, number, begun))
    return tuple(tracks)


def _normal(path: PurePosixPath) -> str:
    """Without '.' and with '..' taken back; what leads out of the library matches no file of it."""
    parts: list[str] = []
    for part in path.parts:
        if part == ".." and parts and parts[-1] != "..":
            parts.pop()
        else:
            parts.append(part)
    return "/".join(parts)


def _reasons(folder: Path, file: _File, system: System, systems: tuple[System, ...]) -> tuple[Reason, ...]:
    ending = file.suffix.removeprefix(".")
    if not file.size:
        return (Reason("empty", "It has no bytes in it."),)
    if ending in system.extensions:
        return _archive_faults(folder, file, system) if file.suffix in ARCHIVES else ()
    if file.suffix in ARCHIVES:
        if not system.archives:
            return (Reason("archive", f"{system.name} does not read {file.suffix} archives; unpack it."),)
        return _archive_faults(folder, file, system)
    owners = [other for other in systems if ending in other.extensions and other.id != system.id]
    if len(owners) == 1:
        return (Reason("wrong-folder", f".{ending} belongs to {owners[0].name}: move it to {owners[0].folder}/."),)
    return (Reason("unknown", f"{system.name} does not use .{ending or 'nothing'} files."),)


def unsafe_member(name: str) -> bool:
    """Whether an archive member would be unpacked outside its folder."""
    path = PurePosixPath(name.replace("\\", "/"))
    return path.is_absolute() or ".." in path.parts or bool(re.match(r"[A-Za-z]:", name))


def _archive_faults(folder: Path, file: _File, system: System) -> tuple[Reason, ...]:
    try:
        if file.suffix == ".7z":
            with (folder / file.path).open("rb") as data:
                header_7z(data)
            return ()
        with (folder / file.path).open("rb") as data, open_zip(data) as archive:
            names = archive.namelist()
            fault = _contents_fault(archive)
    except (*ARCHIVE_DAMAGE, OSError, ValueError, NotImplementedError, struct.error):
        return (Reason("damaged", "The archive cannot be opened: it is cut off or not an archive."),)
    if fault:
        return (Reason("damaged", fault),)
    bad = [name for name in names if unsafe_member(name)]
    if bad:
        return (Reason("unsafe-archive", f"It would unpack outside its folder: {bad[0]}."),)
    if "zip" not in system.extensions and not any(
        PurePosixPath(name).suffix.lower().removeprefix(".") in system.extensions for name in names
    ):
        return (Reason("unknown", f"The archive holds nothing for {system.name} knows."),)
    return ()


def _contents_fault(archive: zipfile.ZipFile) -> str:
    """Why a member cannot be unpacked, '' when the first LOOKED_THROUGH bytes of the archive can."""
    left = LOOKED_THROUGH
    for info in archive.infolist():
        try:
            with archive.open(info) as member:
                while left > 0 and (piece := member.read(_BLOCK)):
                    left -= len(piece)
        except RuntimeError:
            return f"{info.filename} asks for a password."
        except (*ARCHIVE_DAMAGE, OSError, ValueError, NotImplementedError, struct.error):
            return f"{info.filename} in it is damaged: its checksum is wrong."
        if left <= 0:
            return ""
    return ""


def _joined_discs(games: list[Game]) -> list[Game]:
    """Discs of one title as one game."""
    sets: dict[str, list[Game]] = defaultdict(list)
    for game in games:
        sets[_DISC.sub("", title_of(game.files[0])) + str(bool(_DISC.search(game.files[0])))].append(game)
    joined = []
    for members in sets.values():
        if len(members) == 1 or not _DISC.search(members[0].files[0]):
            joined += members
            continue
        ordered = sorted(members, key=lambda game: int(_DISC.search(game.files[0])[1]))  # type: ignore[index] # matched
        joined.append(
            replace(
                ordered[0],
                files=tuple(path for member in ordered for path in member.files),
                size=sum(member.size for member in ordered),
                discs=len(ordered),
                reasons=tuple(dict.fromkeys(reason for member in ordered for reason in member.reasons)),
            )
        )
    return joined


def _without_duplicates(folder: Path, games: list[Game], watch: Watch) -> list[Game]:
    """Mark all but the first of files with the same contents; only those of equal size are read."""
    by_size: dict[tuple[str, int], list[int]] = defaultdict(list)
    for index, game in enumerate(games):
        if len(game.files) == 1:
            by_size[game.system, game.size].append(index)
    for twins in by_size.values():
        twins.sort(key=lambda index: (len(games[index].files[0]), games[index].files[0]))
    marked = list(games)
    for indexes in by_size.values():
        first_of: dict[int, int] = {}
        for index in indexes if len(indexes) > 1 else ():
            watch.check()
            sum_ = _crc(folder / games[index].files[0])
            if sum_ in first_of:
                twin = PurePosixPath(games[first_of[sum_]].files[0]).name
                reason = Reason("duplicate", f"The same bytes as {twin}.")
                marked[index] = replace(games[index], reasons=(*games[index].reasons, reason))
            else:
                first_of[sum_] = index
    return marked


def _without_clashes(games: list[Game]) -> list[Game]:
    """Names that a FAT stick takes for one another's: all but the first would be lost, so they are told."""
    taken: dict[str, str] = {}
    told = []
    for game in games:
        others = [taken[path.casefold()] for path in game.files if taken.get(path.casefold(), path) != path]
        if game.ready:
            taken |= {path.casefold(): path for path in game.files if path.casefold() not in taken}
        if others:
            name = PurePosixPath(others[0]).name
            game = replace(
                game, reasons=(*game.reasons, Reason("clash", f"Its name differs from {name} only in case."))
            )
        told.append(game)
    return told


def _crc(path: Path) -> int:
    value = 0
    with path.open("rb") as file:
        while block := file.read(_BLOCK):
            value = zlib.crc32(block, value)
    return value
