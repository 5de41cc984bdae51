"""Looks through a library folder: one sub-folder a system, and one of system files. Reads, never changes."""

from __future__ import annotations

import hashlib
import os
import re
from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path, PurePosixPath

from kyklon.base import reading
from kyklon.base.errors import KyklonError
from kyklon.base.inside import files_below
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.system_records import System
from kyklon.model.build import LibrarySettings
from kyklon.model.library import FoundSystemFile, Game, Reason, Scan, SystemFile
from kyklon.operations.library.facts import Asked, Facts, FileFacts
from kyklon.operations.library.packed import ARCHIVES
from kyklon.operations.library.sheets import find, tracks_of
from kyklon.operations.library.titles import title_of

SYSTEM_FILES = "system-files"  # the sub-folder for firmware
IGNORED = {".txt", ".nfo", ".jpg", ".png", ".xml", ".dat", ".sfv", ".md5"}
# '(Disc 1)', '(Disk 1 of 2)', '(CD1)', '[Disc A]': the number or letter, and of how many, CP
_DISC = re.compile(
    r"\s*[\(\[](?:disc|disk|cd|dvd|gd)[ _-]?(\d{1,3}|[a-h])(?:[ _]?(?:of|/)[ _]?(\d{1,3}))?(?:[ ,-][^)\]]*)?[\)\]]",
    re.IGNORECASE,
)


@dataclass(frozen=True, slots=True)
class File:
    """path: relative to the library, with forward slashes. suffix: in small letters, with its dot."""

    path: str
    status: os.stat_result
    suffix: str

    @property
    def size(self) -> int:
        return self.status.st_size


@dataclass
class Shelf:
    """What lies in a system's folder: its files by path, and the same by the case-folded path."""

    folder: Path
    system: System
    systems: tuple[System, ...]
    files: dict[str, File] = field(default_factory=dict)
    folded: dict[str, str] = field(default_factory=dict)
    facts: dict[str, FileFacts] = field(default_factory=dict)

    def add(self, file: File) -> None:
        self.files[file.path] = file
        self.folded.setdefault(file.path.casefold(), file.path)

    @property
    def sheet_endings(self) -> tuple[str, ...]:
        playlists = (".m3u",) if self.system.multi_disc or "m3u" in self.system.extensions else ()
        return (*playlists, ".cue", *(f".{track_list.ending}" for track_list in self.system.track_lists))


def scan(
    folder: Path,
    systems: tuple[System, ...],
    settings: LibrarySettings,
    watch: Watch = UNWATCHED,
    facts: Facts | None = None,
) -> Scan:
    """Scan a library. facts: what earlier looks have read. Raises KyklonError when the folder is not there (any more),
    Cancelled."""
    if not folder.is_dir():
        raise KyklonError(f"The library folder {folder} is missing.", do="Plug its disk in or choose another folder.")
    facts = facts or Facts()
    try:
        shelves, shelf, unsorted = _sorted_out(folder, systems)
        system_files = tuple(_system_files(folder, shelf, systems, settings))
        _read_archives(shelves, facts, watch)
        games: list[Game] = []
        for shelve in shelves:
            watch.check()
            games += _games(shelve, system_files)
        games = _without_clashes(_without_duplicates(shelves, games, facts, watch))
    except OSError as bad:
        raise KyklonError(
            f"The library folder {folder} is no longer reachable: {bad.strerror}.", do="Plug its disk in again."
        ) from bad
    finally:
        facts.keep()
    return Scan(str(folder), tuple(games), system_files, unsorted)


def _sorted_out(folder: Path, systems: tuple[System, ...]) -> tuple[list[Shelf], list[File], tuple[str, ...]]:
    """The systems' folders, the system files, and what lies in no known folder."""
    shelves = [Shelf(folder, system, systems) for system in systems]
    by_folder = {shelve.system.folder: shelve for shelve in shelves}
    system_files, unsorted = [], []
    for path, status in files_below(folder):
        file = File(path, status, os.path.splitext(path)[1].lower())
        top = path.partition("/")[0] if "/" in path else ""
        own = by_folder.get(top) or next(
            (each for name, each in by_folder.items() if "/" in name and path.startswith(f"{name}/")), None
        )
        if own is not None:
            own.add(file)
        elif top == SYSTEM_FILES:
            system_files.append(file)
        else:
            unsorted.append(path)
    return shelves, system_files, tuple(unsorted)


def _system_files(
    folder: Path, shelf: list[File], systems: tuple[System, ...], settings: LibrarySettings
) -> Iterator[FoundSystemFile]:
    renamed = {(right.system, right.name): right.found for right in settings.right_names}
    for system in systems:
        for wanted in system.system_files:
            ranked = [(rank, file) for file in shelf if (rank := _rank(folder, file, wanted)) is not None]
            if not ranked:
                yield FoundSystemFile(system.id, wanted, "", right_name=False)
                continue
            given = renamed.get((system.id, wanted.name))
            by_name = {file.path for _rank, file in ranked if PurePosixPath(file.path).name == wanted.name}
            by_name |= {given} if given else set()
            # one that starts the games as it lies there goes before a better one that would have to be renamed first
            rank, best = min(ranked, key=lambda each: (each[1].path not in by_name, each[0]))
            yield FoundSystemFile(system.id, wanted, best.path, best.path in by_name, best.size, rank)


def _rank(folder: Path, file: File, wanted: SystemFile) -> int | None:
    """Which revision it is by its contents, whatever its name; None for none."""
    if file.size not in wanted.sizes:
        return None
    with reading.opened(folder / file.path) as data:
        return wanted.rank(file.size, hashlib.file_digest(data, "sha256").hexdigest())


def _read_archives(shelves: list[Shelf], facts: Facts, watch: Watch) -> None:
    owner: dict[str, tuple[Shelf, str]] = {}
    asked = []
    for shelf in shelves:
        for file in shelf.files.values():
            if file.suffix in ARCHIVES and (shelf.system.archives or file.suffix[1:] in shelf.system.extensions):
                path = f"{shelf.folder}/{file.path}"
                owner[path] = shelf, file.path
                asked.append(Asked(path, file.status))
    for each, found in facts.all(asked, watch, "Checking archives"):
        shelf, name = owner[each.path]
        if isinstance(found, OSError):
            found = FileFacts(fault=("damaged", f"It cannot be read: {found.strerror}."), packed=True)
        shelf.facts[name] = found


def _games(shelf: Shelf, system_files: tuple[FoundSystemFile, ...]) -> list[Game]:
    system = shelf.system
    common = _missing_system_files(system, system_files)
    used: set[str] = set()
    games: list[Game] = []
    for ending in shelf.sheet_endings:
        for file in [each for each in shelf.files.values() if each.suffix == ending and each.path not in used]:
            game, own = _sheet_game(shelf, file)
            used |= own
            games.append(game)
    if system.folder_games:
        games += _folder_games(shelf, used)
    for file in shelf.files.values():
        if file.suffix in IGNORED or file.suffix in shelf.sheet_endings or file.suffix == ".m3u" or file.path in used:
            continue
        disks = _disks_of(shelf, file) if system.disk_kinds else ()
        used.update(disks)
        files = (file.path, *disks)
        size = sum(shelf.files[path].size for path in files)
        games.append(Game(system.id, title_of(file.path), files, size, 1, _reasons(shelf, file)))
    if system.disk_kinds:  # a set's own disk is none by itself, whichever was met first
        games = [each for each in games if len(each.files) > 1 or each.files[0] not in used]
    games = [replace(each, reasons=(*each.reasons, *common)) if common else each for each in games]
    return _joined_discs(games) if system.multi_disc else games


def _missing_system_files(system: System, found: tuple[FoundSystemFile, ...]) -> tuple[Reason, ...]:
    bad = [
        found_system_file
        for found_system_file in found
        if found_system_file.system == system.id and found_system_file.wanted.required and not found_system_file.usable
    ]
    return tuple(
        Reason("system-file", f"{each.wanted.name} is {'there under another name' if each.found else 'missing'}.")
        for each in bad
    )


def _sheet_game(shelf: Shelf, sheet: File) -> tuple[Game, set[str]]:
    """A sheet with all that it names, and all that these name; the files that are taken by it."""
    reasons: list[Reason] = []
    files = [sheet.path]
    discs = _follow(shelf, sheet, files, reasons, 0)
    size = sum(shelf.files[path].size for path in files)
    game = Game(shelf.system.id, title_of(sheet.path), tuple(files), size, max(1, discs), tuple(reasons))
    return game, {*files[1:], sheet.path}


def _follow(shelf: Shelf, sheet: File, files: list[str], reasons: list[Reason], depth: int) -> int:
    """Add what a sheet names to the files; how many of them start a disc."""
    tracks = tracks_of(shelf.folder / sheet.path, shelf.system)
    if not tracks:
        reasons.append(Reason("sheet", f"{PurePosixPath(sheet.path).name} names no track."))
    base, starts = PurePosixPath(sheet.path).parent, 0
    for name in dict.fromkeys(track.file for track in tracks):
        path = find(name, base, shelf.files, shelf.folded)
        shown = PurePosixPath(name.replace("\\", "/")).name
        if not path:
            reasons.append(Reason("track", f"{shown} is missing."))
            continue
        if PurePosixPath(path).name != shown:
            own = PurePosixPath(path).name
            reasons.append(Reason("track", f"{shown} is {own} here; upper and lower case matter on the machine."))
        inner = shelf.files[path]
        starts += 1
        if path not in files:
            files.append(path)
            if inner.suffix in shelf.sheet_endings and depth < 2:
                _follow(shelf, inner, files, reasons, depth + 1)
        late = next((each for each in tracks if each.file == name and each.start and inner.size <= each.start), None)
        if late is not None:
            reasons.append(
                Reason("track", f"{own_name(path)} ends before track {late.number} of the cue sheet begins.")
            )
    return starts if sheet.suffix == ".m3u" else 1


def own_name(path: str) -> str:
    return path.rpartition("/")[2]


def _folder_games(shelf: Shelf, used: set[str]) -> list[Game]:
    """Folders that are a game each: those that hold a file of the system's kinds."""
    inside: dict[str, list[str]] = defaultdict(list)
    for path in shelf.files:
        below = path[len(shelf.system.folder) + 1 :]
        if "/" in below and path not in used:
            inside[below.partition("/")[0]].append(path)
    games = []
    for name, paths in inside.items():
        first = next((each for each in paths if shelf.files[each].suffix[1:] in shelf.system.extensions), "")
        used.update(paths)
        start = first or paths[0]
        kinds = " or ".join(f".{extension}" for extension in shelf.system.extensions)
        reasons = () if first else (Reason("unknown", f"The folder {name} holds no {kinds} file."),)
        files = (start, *(each for each in paths if each != start))
        size = sum(shelf.files[each].size for each in paths)
        games.append(Game(shelf.system.id, title_of(f"{name}.x"), files, size, 1, reasons))
    return games


def _disks_of(shelf: Shelf, file: File) -> tuple[str, ...]:
    """Hard-disk files in a folder that has the archive's name."""
    beside = f"{os.path.splitext(file.path)[0]}/"
    return tuple(
        path
        for path, each in shelf.files.items()
        if path.startswith(beside) and each.suffix[1:] in shelf.system.disk_kinds
    )


def _reasons(shelf: Shelf, file: File) -> tuple[Reason, ...]:
    system, ending = shelf.system, file.suffix.removeprefix(".")
    if not file.size:
        return (Reason("empty", "It has no bytes in it."),)
    if file.suffix in ARCHIVES:
        if not system.archives and ending not in system.extensions:
            return (Reason("archive", f"{system.name} does not read {file.suffix} archives; unpack it."),)
        return _archive_reasons(system, shelf.facts.get(file.path, FileFacts()))
    if ending in system.extensions:
        return ()
    owners = [other for other in shelf.systems if ending in other.extensions and other.id != system.id]
    if len(owners) == 1:
        return (Reason("wrong-folder", f".{ending} belongs to {owners[0].name}: move it to {owners[0].folder}/."),)
    return (Reason("unknown", f"{system.name} does not use .{ending or 'nothing'} files."),)


def _archive_reasons(system: System, facts: FileFacts) -> tuple[Reason, ...]:
    if facts.fault[0]:
        return (Reason(*facts.fault),)
    kinds = {os.path.splitext(member.name)[1].lower().removeprefix(".") for member in facts.members}
    if not {"zip", "7z"} & set(system.extensions) and not kinds & set(system.extensions):
        return (Reason("unknown", f"The archive holds no file that {system.name} can use."),)
    return ()


def _joined_discs(games: list[Game]) -> list[Game]:
    """Discs of one title as one game."""
    sets: dict[tuple[str, bool], list[Game]] = defaultdict(list)
    for game in games:  # discs of another region, revision or language are another game's
        stem = os.path.splitext(game.files[0])[0]
        sets[" ".join(_DISC.sub("", stem).casefold().split()), bool(_DISC.search(stem))].append(game)
    joined = []
    for (_name, on_discs), members in sets.items():
        if not on_discs:
            joined += members
            continue
        ordered = sorted(members, key=lambda game: _disc_of(game)[0])
        reasons = [reason for member in ordered for reason in member.reasons]
        joined.append(
            replace(
                ordered[0],
                files=tuple(path for member in ordered for path in member.files),
                size=sum(member.size for member in ordered),
                discs=max(len(ordered), *(member.discs for member in ordered)),
                reasons=tuple(dict.fromkeys((*reasons, *_missing_discs(ordered)))),
            )
        )
    return joined


def _disc_of(game: Game) -> tuple[int, int]:
    """The number of a disc, a letter's place in the alphabet, and of how many it says it is, 0 where it does not."""
    found = _DISC.search(os.path.splitext(game.files[0])[0])
    assert found is not None
    number = int(found[1]) if found[1].isdecimal() else ord(found[1].lower()) - 96
    return number, int(found[2] or 0)


def _missing_discs(ordered: list[Game]) -> list[Reason]:
    """A reason for every disc of a set that is not there, as far as the others tell."""
    there = {_disc_of(game)[0] for game in ordered}
    last = max((*there, *(_disc_of(game)[1] for game in ordered)))
    lost = (number for number in range(1, min(last, 99) + 1) if number not in there)
    return [Reason("disc", f"Disc {number} is missing.") for number in lost]


def _without_duplicates(shelves: Iterable[Shelf], games: list[Game], facts: Facts, watch: Watch) -> list[Game]:
    """Mark all but the first of files with the same contents; only those of equal size are read, whole."""
    by_size: dict[tuple[str, int], list[int]] = defaultdict(list)
    for index, game in enumerate(games):
        if len(game.files) == 1 and game.size:
            by_size[game.system, game.size].append(index)
    twins = [
        sorted(each, key=lambda index: (len(games[index].key), games[index].key))
        for each in by_size.values()
        if len(each) > 1
    ]
    statuses = {path: file.status for shelf in shelves for path, file in shelf.files.items()}
    top = next(iter(shelves)).folder if twins else ""
    paths = {f"{top}/{games[index].key}": games[index].key for twin in twins for index in twin}
    asked = (
        Asked(path, statuses[key], frozenset({"SHA-1"}))
        for path, key in paths.items()
        if not path.lower().endswith(ARCHIVES)
    )
    told: dict[str, object] = {
        paths[each.path]: found.sums["SHA-1"]
        for each, found in facts.all(asked, watch, "Looking for duplicates")
        if not isinstance(found, OSError)
    }
    contents = {path: each.members for shelf in shelves for path, each in shelf.facts.items()}
    marked = list(games)
    for indexes in twins:
        first_of: dict[object, int] = {}
        for index in indexes:
            key = games[index].key
            same = told.get(key) or contents.get(key)
            if not same:
                continue
            if same in first_of:
                reason = Reason("duplicate", f"The same bytes as {own_name(games[first_of[same]].key)}.")
                marked[index] = replace(games[index], reasons=(*games[index].reasons, reason))
            else:
                first_of[same] = index
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
