"""Saves and states: found on a machine or a stick, kept as dated archives with sums, put back without losing any.

An archive is a zip (APPNOTE 6.3.10, deflated) with SHA256SUMS as sha256sum writes it. Which of two versions is
newer is told by the archives, not by clocks: boards of this kind often have none.
"""

from __future__ import annotations

import fnmatch
import hashlib
import re
import tempfile
import zipfile
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path, PurePosixPath

from kyklon.base import durable
from kyklon.base.errors import FormatError, KyklonError, WrongUse
from kyklon.base.inside import inside
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.quantities import counted, show_bytes
from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import Emulator, System
from kyklon.devices.destination import Destination
from kyklon.model.build import Build, edited
from kyklon.operations.library import carry
from kyklon.operations.library.transfer import Copy, Transfer
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook, now

OPERATION = 95
FOLDER = "saves"  # of the build: its archives, and the journal of what was put back
ASIDE = ".before-saves"  # folder of the destination that keeps what was replaced
SUMS, STATES = "SHA256SUMS", "STATES"
LARGEST = 64 << 20  # bytes of one save; a memory card has some hundred kilobytes, a state of a large machine 40 MB
MOST = 20_000  # of one machine
_MOST_ALL = 4 << 30  # bytes of one archive, unpacked
_NAME = re.compile(r"^(\d{4}-\d\d-\d\dT\d\d-\d\d-\d\d)(?:-(\d{1,6}))?\.zip$")


@dataclass(frozen=True)
class Save:
    """path: from the destination's top. game: what the games' folder calls it, '' where no game has that name. kind:
    save, state, or guessed where its ending is of no emulator that is known."""

    path: str
    size: int
    system: str
    game: str
    kind: str


def _patterns(emulator: Emulator | None) -> tuple[tuple[str, str], ...]:
    if emulator is None:
        return ()
    return (*((ending, "save") for ending in emulator.saves), *((ending, "state") for ending in emulator.states))


def find(build: Build, catalogue: Catalogue, there: Destination) -> tuple[Save, ...]:
    """Every save and state, by path. Raises KyklonError."""
    image = catalogue.find(Image, build.part("image"))
    if image is None:
        raise WrongUse("The build has no image.", do="Choose one in Plan.")
    found: dict[str, Save] = {}
    for system in known_systems(build, catalogue):
        games = image.games_path.replace("{folder}", system.folder).strip("/")
        own = [catalogue.find(Emulator, each) for each in (system.emulator, *system.also)]
        emulators = [each for each in own if each is not None]
        tops = dict.fromkeys([games, *(each.saves_path.replace("{folder}", system.folder) for each in emulators)])
        listed = {top: list(there.files(top)) for top in tops if top}
        names = _games(path for path, _size, _mode in listed.get(games, ()) if _ending(path) in _kinds(system))
        for top, rows in listed.items():
            for below, size, _mode in rows:
                kind = _kind(below, system, emulators, in_games=top == games, names=names)
                if not kind or _hidden(below):
                    continue
                path = f"{top}/{below}"
                found[path] = Save(path, size, system.name, names.get(_stem(below), ""), kind)
                if len(found) > MOST:
                    raise WrongUse(
                        f"{there.name} holds more than {MOST} saves.", do="Look whether it is the right folder."
                    )
    return tuple(found[path] for path in sorted(found))


def _hidden(path: str) -> bool:
    return any(part.startswith(".") for part in PurePosixPath(path).parts)


def _games(paths: Iterable[str]) -> dict[str, str]:
    """Games by the stem that their saves have."""
    return {PurePosixPath(path).stem.casefold(): PurePosixPath(path).stem for path in paths}


def _kinds(system: System) -> frozenset[str]:
    return frozenset({*system.extensions, "m3u", "cue", *(("zip", "7z") if system.archives else ())})


def _ending(path: str) -> str:
    return PurePosixPath(path).suffix.lower().removeprefix(".")


def _stem(path: str) -> str:
    return PurePosixPath(path).stem.casefold()


_OTHERS = frozenset(("png", "jpg", "jpeg", "txt", "xml", "md", "bin", "img", "iso", "chd", "dat", "bak", "tmp", "log"))


def _kind(
    below: str, system: System, emulators: Sequence[Emulator], *, in_games: bool, names: Mapping[str, str]
) -> str:
    ending = _ending(below)
    for emulator in emulators:
        for pattern, kind in _patterns(emulator):
            if fnmatch.fnmatchcase(ending, pattern.lower()):
                return kind
    if not in_games:
        return "guessed" if ending else ""
    beside = _stem(below) in names and ending and ending not in _kinds(system) and ending not in _OTHERS
    return "guessed" if beside and ending not in {kind.lower() for kind in system.disk_kinds} else ""


# --- archives --------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Archive:
    """name: of its file. sums: SHA-256 by path. states: of states the emulator that made them, and its system."""

    name: str
    sums: Mapping[str, str] = field(default_factory=dict)
    states: Mapping[str, tuple[str, str]] = field(default_factory=dict)

    @property
    def when(self) -> str:
        """ISO 8601, to the second."""
        date, _, clock = self.name[:19].partition("T")
        return f"{date}T{clock.replace('-', ':')}"


def archives(folder: Path) -> tuple[Archive, ...]:
    """The build's archives, the oldest first; one that cannot be read is left out. folder: of the build."""
    found = []
    for name in _names(folder / FOLDER):
        try:
            found.append(read(folder / FOLDER / name))
        except KyklonError:
            continue
    return tuple(found)


def _names(folder: Path) -> list[str]:
    """Names of archives, the oldest first: by date, then by number."""
    return sorted((path.name for path in folder.glob("*.zip") if _NAME.match(path.name)), key=_age)


def _age(name: str) -> tuple[str, int]:
    match = _NAME.match(name)
    return (match[1], int(match[2] or 1)) if match else ("", 0)


def read(path: Path) -> Archive:
    """What an archive holds, by its own list of sums. Raises FormatError, OSError as KyklonError."""
    try:
        with zipfile.ZipFile(path) as file:
            info = file.getinfo(SUMS)
            if info.file_size > 8 << 20:
                raise FormatError(path.name, 0, expected="a list of sums", got=f"{info.file_size} bytes")
            lines = file.read(SUMS).decode("utf-8").split("\n")
            names = {each.filename: each.file_size for each in file.infolist()}
            told = file.read(STATES).decode("utf-8") if 0 < names.get(STATES, 0) <= 8 << 20 else ""
    except (
        zipfile.BadZipFile,
        KeyError,
        UnicodeDecodeError,
        NotImplementedError,
        RuntimeError,
        EOFError,
        ValueError,
    ) as bad:
        raise FormatError(path.name, 0, expected="an archive of saves", got=str(bad)[:100] or "something else") from bad
    except OSError as bad:
        raise KyklonError(f"{path} cannot be read: {bad.strerror}.", do="Choose another archive.") from bad
    sums: dict[str, str] = {}
    for line in filter(None, lines):
        digest, mark, name = line.partition("  ")
        if not mark or not re.fullmatch(r"[0-9a-f]{64}", digest) or name not in names or not _plain(name):
            raise FormatError(path.name, 0, expected="a sum and a path in a line of SHA256SUMS", got=line[:80])
        if names[name] > LARGEST:
            raise FormatError(path.name, 0, expected=f"at most {LARGEST} bytes a save", got=f"{names[name]} bytes")
        sums[name] = digest
    if sum(names[name] for name in sums) > _MOST_ALL or len(sums) > MOST:
        raise FormatError(path.name, 0, expected="an archive of saves", got="far too much")
    rows = [line.split("\t") for line in told.split("\n")]
    states = {row[2]: (row[0], row[1]) for row in rows if len(row) == 3 and row[2] in sums}
    return Archive(path.name, sums, states)


def _plain(name: str) -> bool:
    """Whether a path stays below its top on any machine, and stands in a line of a list of sums."""
    parts = name.split("/")
    readable = all(letter.isprintable() for letter in name)  # no line ends, no bytes that are no text
    return readable and not name.startswith("/") and "\\" not in name and not {"", ".", ".."} & set(parts)


def sums_there(there: Destination, found: Sequence[Save], watch: Watch = UNWATCHED) -> dict[str, str]:
    """SHA-256 of what is there, by path; what is too large is left out. Raises KyklonError, Cancelled."""
    sums = {}
    for save in found:
        watch.check()
        if save.size <= LARGEST:
            sums[save.path] = hashlib.sha256(_bytes(there, save)).hexdigest()
    return sums


def _bytes(there: Destination, save: Save) -> bytes:
    with there.read(save.path) as file:
        data = file.read(LARGEST + 1)
    if len(data) > LARGEST:
        raise KyklonError(f"{save.path} has more than {LARGEST} bytes.", do="It is hardly a save: leave it out.")
    return data


@dataclass(frozen=True)
class Kept:
    """archive: '' where nothing was new. gone: paths of the archive before that are not there any more. left_out:
    paths that were not kept, with why."""

    archive: str
    new: tuple[str, ...]
    changed: tuple[str, ...]
    same: int
    gone: tuple[str, ...]
    left_out: Mapping[str, str] = field(default_factory=dict)


def keep(
    folder: Path, build: Build, catalogue: Catalogue, there: Destination, watch: Watch = UNWATCHED, why: str = ""
) -> Kept:
    """Keep all saves in a dated archive, unless the latest one holds the same. Raises KyklonError, Cancelled; an
    archive is there whole or not at all."""
    found = find(build, catalogue, there)
    before = archives(folder)
    last: Mapping[str, str] = before[-1].sums if before else {}
    sums: dict[str, str] = {}
    left_out = {save.path: why for save in found if (why := _why_not(save))}
    (folder / FOLDER).mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory(dir=folder / FOLDER, prefix=".") as place:
        held = Path(place) / "saves.zip"
        with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as file:
            for save in found:
                watch.check()
                if save.path in left_out:
                    continue
                data = _bytes(there, save)
                sums[save.path] = hashlib.sha256(data).hexdigest()
                _store(file, save.path, data)
            systems = {each.name: each for each in known_systems(build, catalogue)}
            _store(file, STATES, _made_with(found, sums, systems, before).encode("utf-8"))
            listed = "".join(f"{digest}  {path}\n" for path, digest in sorted(sums.items()))
            _store(file, SUMS, listed.encode("utf-8"))
        new = tuple(path for path in sums if path not in last)
        changed = tuple(path for path in sums if path in last and last[path] != sums[path])
        gone = tuple(path for path in last if path not in sums)
        name = ""
        if new or changed or gone or not before:
            name = _free_name(folder / FOLDER)
            durable.copy(held, folder / FOLDER / name)
    store.update(folder, lambda kept: edited(kept, "upkeep.saves_at", now()))
    if name:
        words = f"{len(new)} new, {len(changed)} changed, {len(gone)} gone" + (f"; {why}" if why else "")
        Logbook(folder).add(OPERATION, f"{counted(len(sums), 'save')} backed up", f"{name}: {words}")
    return Kept(name, new, changed, len(sums) - len(new) - len(changed), gone, left_out)


def _made_with(
    found: Sequence[Save], sums: Mapping[str, str], systems: Mapping[str, System], before: Sequence[Archive]
) -> str:
    """Emulator, system and path of each state, a line each. What lies in an earlier archive already was made by the
    emulator that is named there; else it is the one of now."""
    known = {(path, each.sums[path]): told for each in before for path, told in each.states.items()}
    rows = []
    for save in found:
        system = systems.get(save.system)
        told = known.get((save.path, sums.get(save.path, "")))
        if told is None and save.kind == "state" and save.path in sums and system is not None:
            told = system.emulator, system.id
        if told is not None:
            rows.append(f"{told[0]}\t{told[1]}\t{save.path}\n")
    return "".join(rows)


def _why_not(save: Save) -> str:
    if save.size > LARGEST:
        return f"it has more than {show_bytes(LARGEST)}"
    return "" if _plain(save.path) else "its name cannot be stored: rename it there"


def _store(file: zipfile.ZipFile, name: str, data: bytes) -> None:
    info = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))  # the board's clock tells nothing, and the same saves zip alike
    info.external_attr = 0o100644 << 16
    file.writestr(info, data, zipfile.ZIP_DEFLATED)


def _free_name(folder: Path) -> str:
    """A name later than every other, also where this computer's clock was set back meanwhile."""
    stem, last = datetime.now().strftime("%Y-%m-%dT%H-%M-%S"), _names(folder)
    before, number = _age(last[-1]) if last else ("", 0)
    return f"{stem}.zip" if stem > before else f"{before}-{number + 1}.zip"


# --- put back --------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Row:
    """A save of an archive against the machine. state: same, missing (not there), older (there, and kept in an earlier
    archive), newer (there, and kept in a later one), unkept (there, and in no archive). foreign: '' or, of a state that
    another emulator made than the build has now, which one."""

    path: str
    state: str
    there: str = ""
    foreign: str = ""

    @property
    def safe(self) -> bool:
        """Whether it can be put back without replacing what is newer."""
        return self.state in ("missing", "older") and not self.foreign

    @property
    def why_left(self) -> str:
        """Why it stays where it is, in words."""
        return f"Made with {self.foreign}, which this build no longer uses" if self.foreign else "Newer on the machine"


def foreign(chosen: Archive, catalogue: Catalogue) -> dict[str, str]:
    """States of an archive that the emulator of now does not load, by path: each is one program's memory, and only that
    program reads it (common practice)."""
    found = {}
    for path, (emulator, system_id) in chosen.states.items():
        system = catalogue.find(System, system_id)
        if system is not None and system.emulator != emulator:
            known = catalogue.find(Emulator, emulator)
            found[path] = known.name if known else emulator
    return found


def compare(
    chosen: Archive, known: Sequence[Archive], there: Mapping[str, str], others: Mapping[str, str] | None = None
) -> tuple[Row, ...]:
    """known: all archives, the oldest first. there: sums on the machine by path. others: as `foreign` tells."""
    place = next((number for number, each in enumerate(known) if each.name == chosen.name), len(known))
    rows = []
    for path, digest in sorted(chosen.sums.items()):
        now_there = there.get(path)
        if now_there is None:
            state = "missing"
        elif now_there == digest:
            state = "same"
        else:
            held = [number for number, each in enumerate(known) if each.sums.get(path) == now_there]
            state = "unkept" if not held else "newer" if max(held) > place else "older"
        rows.append(Row(path, state, now_there or "", (others or {}).get(path, "")))
    return tuple(rows)


@dataclass(frozen=True)
class Restored:
    """put: paths that were put back. left: with why they were not: newer or unkept on the machine, or foreign."""

    put: tuple[str, ...]
    left: tuple[Row, ...]
    kept: str = ""


@dataclass(frozen=True)
class Wanted:
    """What is to be put back. name: of the archive, '' for the latest. replace: paths of newer ones that are replaced
    all the same, or '*' for all."""

    name: str = ""
    replace: tuple[str, ...] = ()


def restore(
    folder: Path,
    build: Build,
    catalogue: Catalogue,
    there: Destination,
    wanted: Wanted = Wanted(),
    watch: Watch = UNWATCHED,
) -> Restored:
    """Put an archive's saves back; before that what is there is kept. What is newer there stays, unless it was said
    otherwise. Raises KyklonError, Cancelled; take_back undoes it."""
    name = wanted.name
    known = archives(folder)
    chosen = known[-1] if known and not name else next((each for each in known if each.name == name), None)
    if chosen is None:
        held = ", ".join(each.name for each in known[-5:]) or "none"
        raise WrongUse(f"There is no archive {name!r} of saves.", do=f"There are: {held}.")
    saved = keep(folder, build, catalogue, there, watch, why="before a restore")
    others = foreign(chosen, catalogue)
    rows = compare(chosen, archives(folder), _sums_of(chosen, build, catalogue, there, watch), others)
    said = set(wanted.replace)
    put = [row for row in rows if row.state != "same" and _agreed(row, said, known, chosen)]
    left = tuple(row for row in rows if row.state != "same" and row not in put)
    with tempfile.TemporaryDirectory(prefix="kyklon-saves-") as held_in:
        copies = _unpacked(folder / FOLDER / chosen.name, chosen, [row.path for row in put], Path(held_in))
        if copies:
            carry.carry_out(Transfer(tuple(copies), {}, 0), Path(held_in), there, watch, folder / FOLDER, ASIDE)
    if put:
        Logbook(folder).add(
            OPERATION,
            f"{counted(len(put), 'save')} restored from {chosen.when}",
            f"{len(left)} newer ones not replaced",
        )
    return Restored(tuple(row.path for row in put), left, saved.archive)


def _agreed(row: Row, wanted: set[str], known: Sequence[Archive], chosen: Archive) -> bool:
    """Whether somebody said so, or what is there was kept before the chosen archive, so that this one is newer. What
    was kept only just now, in order not to lose it, counts as unkept."""
    if "*" in wanted or row.path in wanted:
        return True
    if row.foreign or row.state == "missing":
        return not row.foreign
    place = next(number for number, each in enumerate(known) if each.name == chosen.name)
    held = [number for number, each in enumerate(known) if each.sums.get(row.path) == row.there]
    return bool(held) and max(held) < place


def _sums_of(chosen: Archive, build: Build, catalogue: Catalogue, there: Destination, watch: Watch) -> dict[str, str]:
    """Sums on the machine of all that the archive holds, whether it would be found as a save or not."""
    found = {save.path: save for save in find(build, catalogue, there)}
    for path in chosen.sums:
        size = there.size_of(path) if path not in found else None
        if size is not None:
            found[path] = Save(path, size, "", "", "guessed")
    return sums_there(there, list(found.values()), watch)


def _unpacked(path: Path, chosen: Archive, wanted: Sequence[str], top: Path) -> list[Copy]:
    """The wanted files of an archive in a folder, each against its sum. Raises FormatError."""
    copies = []
    with zipfile.ZipFile(path) as file:
        for number, name in enumerate(wanted):
            with file.open(name) as packed:
                data = packed.read(LARGEST + 1)
            if hashlib.sha256(data).hexdigest() != chosen.sums[name]:
                raise FormatError(path.name, 0, expected=f"{name} as its sum states it", got="other bytes")
            plain = inside(top, f"{number}")
            plain.write_bytes(data)
            copies.append(Copy(f"{number}", name, len(data)))
    return copies


def can_take_back(folder: Path) -> str:
    """Where the last putting back went that can still be undone, '' for none. folder: of the build."""
    return carry.last_transfer(folder / FOLDER)


def take_back(folder: Path, there: Destination, watch: Watch = UNWATCHED) -> carry.Undone:
    """Undo the last putting back. Raises KyklonError, Cancelled."""
    with carry.only_one(there):
        done = carry.undo(folder / FOLDER, there, watch, ASIDE)
    Logbook(folder).add(OPERATION, "Restore of saves undone", f"{done.restored} restored, {done.removed} removed")
    return done
