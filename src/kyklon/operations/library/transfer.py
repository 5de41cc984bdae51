"""What goes where on a machine: into the folder layout of an image, under names that its file system keeps."""

from __future__ import annotations

import hashlib
import os
import stat
from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path, PurePosixPath

from kyklon.base.errors import KyklonError
from kyklon.base.reading import text_of
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.system_records import System
from kyklon.devices.destination import Destination, Limits
from kyklon.model.card import RootFacts
from kyklon.model.library import Game, OnMachine, Scan
from kyklon.operations.library import soundness
from kyklon.operations.library.sheets import lines_of

_PACKED = (".zip", ".7z")
_UNSEEN_ENDS = (b"", b"")
_LARGEST_SYSTEM_FILE = 64 << 20  # bytes; they are hardly larger than one
SHEETS = (".cue",)  # files that name a disc's tracks
ASIDE = ".set-aside"  # the folder beside the systems' that keeps those which are hidden
_LARGEST_PLAYLIST = 1 << 20  # bytes
PICTURES = (".png", ".jpg", ".jpeg")
TEXTS = (".txt", ".xml", ".md")


@dataclass(frozen=True)
class Copy:
    """source: in the library, or absolute. target: relative to the destination."""

    source: str
    target: str
    size: int


@dataclass(frozen=True)
class Transfer:
    """What will be put where. texts: playlists and lists to write, by target. refused: games that cannot be kept there,
    and why. renamed: how many got a name that the file system keeps. menu: titles that the front end will list of what
    is copied, by system. drafts: lists as they were made, before edits by hand on the machine are put in."""

    copies: tuple[Copy, ...]
    texts: dict[str, str]
    games: int
    refused: tuple[tuple[Game, str], ...] = ()
    renamed: int = 0
    menu: dict[str, tuple[str, ...]] = field(default_factory=dict)
    drafts: dict[str, str] = field(default_factory=dict)

    @property
    def size(self) -> int:
        return sum(copy.size for copy in self.copies)


@dataclass(frozen=True)
class Extras:
    """Folders of the user's own whose files go along with the game that has their name."""

    pictures: Path | None = None
    texts: Path | None = None


PLAIN = Limits(kind="FAT", folds=True, barred='<>:"\\|?*', largest=(1 << 32) - 1, owned=False)  # what every stick keeps


def plan(
    scan: Scan, systems: tuple[System, ...], image: Image, limits: Limits = PLAIN, extras: Extras | None = None
) -> Transfer:
    """Ready games, their playlists, pictures and texts, and the system files under their right names."""
    return _Planner(scan, systems, image, limits).plan(extras or Extras())


class _Planner:
    def __init__(self, scan: Scan, systems: tuple[System, ...], image: Image, limits: Limits) -> None:
        self.scan, self.systems, self.image, self.limits = scan, systems, image, limits
        self.copies: list[Copy] = []
        self.texts: dict[str, str] = {}
        self.refused: list[tuple[Game, str]] = []
        self.taken: dict[str, str] = {}
        self.renamed = self.games = 0

    def plan(self, extras: Extras) -> Transfer:
        own = {system.id: system for system in self.systems}
        beside = [
            (_by_stem(extras.pictures, PICTURES), self.image.pictures_path),
            (_by_stem(extras.texts, TEXTS), self.image.texts_path),
        ]
        for game in self.scan.ready:
            start = self._add(game, own[game.system])
            if start:
                for there, folder in beside:
                    self._add_beside(game, own[game.system], start, there, folder)
        for file in self.scan.system_files:
            if file.usable:
                target = f"{self.image.system_files_path}/{file.wanted.name}"
                self.copies.append(Copy(file.found, target, file.size or file.wanted.size))
        return Transfer(tuple(self.copies), self.texts, self.games, tuple(self.refused), self.renamed, self._menu())

    def _add(self, game: Game, system: System) -> str:
        """The target that starts the game, '' where it cannot be kept."""
        base = self.image.games_path.replace("{folder}", system.folder)
        targets = {path: f"{base}/{below(path, system)}" for path in game.files}
        sizes = {path: _size(Path(self.scan.folder) / path) for path in game.files}
        for path, target in targets.items():
            why = self.limits.trouble(target, sizes[path])
            if why and len(game.files) == 1 and not self.limits.trouble(_kept_path(target), sizes[path]):
                targets[path] = _kept_path(target)
                self.renamed += 1
            elif why:
                self.refused.append((game, f"{PurePosixPath(path).name}: {why}."))
                return ""
        for path, target in targets.items():
            other = self.taken.get(self._fold(target))
            if other is not None and other != path:
                self.refused.append((game, f"{PurePosixPath(other).name} would get the same name there."))
                return ""
        for path, target in targets.items():
            self.taken[self._fold(target)] = path
            self.copies.append(Copy(path, target, sizes[path]))
        self.games += 1
        first = targets[game.files[0]]
        if game.discs > 1 and not first.lower().endswith(".m3u"):
            place = PurePosixPath(first).parent
            first = _free_name(place / f"{kept_name(game.title)}.m3u", {*self.texts, *targets.values()})
            self.texts[first] = _playlist(game)
        return first

    def _add_beside(self, game: Game, system: System, start: str, there: dict[str, Path], folder: str) -> None:
        """A picture or a text under the name of what starts the game."""
        stems = (PurePosixPath(game.key).stem, game.called, game.title)
        found = next((there[stem.casefold()] for stem in stems if stem.casefold() in there), None)
        if found is None:
            return
        base = folder.replace("{folder}", system.folder)
        target = f"{base}/{PurePosixPath(start).stem}{found.suffix.lower()}"
        size = _size(found)
        if not self.limits.trouble(target, size) and self._fold(target) not in self.taken:
            self.taken[self._fold(target)] = str(found)
            self.copies.append(Copy(str(found), target, size))

    def _fold(self, target: str) -> str:
        return target.casefold() if self.limits.folds else target

    def _menu(self) -> dict[str, tuple[str, ...]]:
        names = [copy.target for copy in self.copies] + list(self.texts)
        texts = dict(self.texts)
        for copy in self.copies:
            if copy.target.lower().endswith(".m3u"):
                path = Path(self.scan.folder) / copy.source
                texts[copy.target] = path.read_bytes()[:_LARGEST_PLAYLIST].decode("utf-8", "surrogateescape")
        return _listed(names, texts, self.systems, self.image)


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError as bad:
        raise KyklonError(f"{path} cannot be read: {bad.strerror}.", do="Scan the library again.") from bad


def _by_stem(folder: Path | None, endings: tuple[str, ...]) -> dict[str, Path]:
    if folder is None or not folder.is_dir():
        return {}
    return {path.stem.casefold(): path for path in sorted(folder.iterdir()) if path.suffix.lower() in endings}


def below(path: str, system: System) -> str:
    """A path in the library without its system's folder: sub-folders stay, so that no two files meet."""
    return path.removeprefix(f"{system.folder}/") if path.startswith(f"{system.folder}/") else path.split("/", 1)[-1]


def _kept_path(target: str) -> str:
    """A target whose last part every stick can keep."""
    folder, _, name = target.rpartition("/")
    stem, ending = os.path.splitext(name)
    return f"{folder}/{kept_name(stem)[:180]}{ending}"


def kept_name(title: str) -> str:
    """A title as a file name that every stick can keep (Microsoft FAT specification, 7)."""
    plain = title.encode("utf-8", "surrogateescape").decode("utf-8", "replace")
    return (
        "".join("_" if letter in '<>:"/\\|?*\ufffd' or ord(letter) < 32 else letter for letter in plain).rstrip(". ")
        or "_"
    )


def _free_name(path: PurePosixPath, taken: Iterable[str]) -> str:
    lower = {name.casefold() for name in taken}
    names = (path.with_stem(f"{path.stem}{end}").as_posix() for end in ("", *(f" ({n})" for n in range(2, 10_000))))
    return next(name for name in names if name.casefold() not in lower)


def _playlist(game: Game) -> str:
    """What starts each disc, in order, one a line: its sheet, or the disc's only file; from the first one's folder."""
    base = PurePosixPath(game.files[0]).parent
    starts = [path for path in game.files if path.lower().endswith(SHEETS)] or list(game.files)
    return "".join(f"{os.path.relpath(path, base)}\n" for path in starts)


# --- what is there ---------------------------------------------------------------------------------------------


def look_at(destination: Destination, systems: tuple[System, ...], image: Image) -> OnMachine:
    """What is really in a destination, seen with the front end's eyes. Raises KyklonError."""
    files: dict[str, int] = {}
    texts: dict[str, str] = {}
    unreadable: Counter[str] = Counter()
    for system in systems:
        top = image.games_path.replace("{folder}", system.folder)
        for below_top, size, mode in destination.files(top):
            path = f"{top}/{below_top}"
            files[path.strip("/")] = size
            if destination.limits.owned and not mode & (stat.S_IRGRP | stat.S_IROTH):
                unreadable[system.id] += 1
            if path.lower().endswith(".m3u"):
                texts[path.strip("/")] = _playlist_at(destination, path)
    shelf = {path: size for path, size, _mode in destination.files(image.system_files_path) if "/" not in path}
    files |= {f"{image.system_files_path.strip('/')}/{name}": size for name, size in shelf.items()}
    base = PurePosixPath(image.games_path.replace("{folder}", "x")).parent / ASIDE
    hidden = {path.split("/")[0] for path, _bytes, _mode in destination.files(str(base))}
    aside = tuple(each.id for each in systems if PurePosixPath(each.folder).name in hidden)
    lead = "/" if image.games_path.startswith("/") else ""

    def ends(path: str) -> tuple[bytes, bytes]:
        with destination.read(lead + path) as file:
            head = file.read(32)
            file.seek(max(0, files[path] - soundness.TAIL))
            return head, file.read(soundness.TAIL)

    def digest(path: str) -> str:
        with destination.read(lead + path) as file:
            return hashlib.sha256(file.read(_LARGEST_SYSTEM_FILE)).hexdigest()

    there = soundness.There(
        files,
        lambda path: texts.get(path) or _playlist_at(destination, lead + path),
        None if destination.limits.text else ends,
        digest,
    )
    return OnMachine(
        _listed(files, texts, systems, image),
        frozenset(shelf),
        dict(unreadable),
        aside,
        soundness.bad_system_files(there, systems, image),
        soundness.bad_games(there, systems, image),
    )


def _playlist_at(destination: Destination, path: str) -> str:
    """A playlist's text; nothing for one that is no text."""
    try:
        with destination.read(path) as file:
            return text_of(file.read(_LARGEST_PLAYLIST), path)
    except KyklonError:
        return ""


def on_root(root: RootFacts, systems: tuple[System, ...], image: Image) -> OnMachine:
    """The same of a card's own root, as far as a look has listed it."""
    shelf = image.system_files_path.strip("/") + "/"
    files = frozenset(PurePosixPath(path).name for path in root.files if path.startswith(shelf))
    there = soundness.There(
        root.files,
        lambda path: root.playlists.get(path) or root.sheets.get(path, ""),
        lambda path: root.ends.get(path, _UNSEEN_ENDS),
        lambda path: root.file_sums.get(path, ""),
    )
    seen = {path: size for path, size in root.files.items() if path in root.ends or not path.lower().endswith(_PACKED)}
    return OnMachine(
        _listed(list(root.files), root.playlists, systems, image),
        files,
        bad_files=soundness.bad_system_files(there, systems, image),
        bad_games={} if root.more_files else soundness.bad_games(replace(there, files=seen), systems, image),
    )


def _listed(
    names: Iterable[str], playlists: Mapping[str, str], systems: tuple[System, ...], image: Image
) -> dict[str, tuple[str, ...]]:
    """Titles that the front end lists, by system: files of its kinds that no playlist or set names."""
    tops = {image.games_path.replace("{folder}", system.folder).strip("/") + "/": system for system in systems}
    by_system: dict[str, list[PurePosixPath]] = defaultdict(list)
    for path in names:
        top = next((each for each in tops if path.startswith(each)), "")
        if top:
            by_system[top].append(PurePosixPath(path.removeprefix(top)))
    found: dict[str, tuple[str, ...]] = {}
    for top, system in tops.items():
        inside = {
            os.path.normpath(PurePosixPath(path.removeprefix(top)).parent / line)
            for path, text in playlists.items()
            if path.startswith(top)
            for line in lines_of(text)
        }
        if titles := _titles(by_system[top], inside, system):
            found[system.id] = titles
    return found


def _titles(names: list[PurePosixPath], listed: set[str], system: System) -> tuple[str, ...]:
    """What the front end lists of a system's folder: files of its kinds that no playlist names."""
    kinds = {*system.extensions, "m3u", *(("zip",) if system.archives else ())}
    shown = [path for path in names if path.suffix.lower().removeprefix(".") in kinds and path.as_posix() not in listed]
    if system.folder_games:  # a folder is listed once, under its own name
        return tuple(dict.fromkeys(path.parts[0] if len(path.parts) > 1 else path.stem for path in shown))
    return tuple(path.stem for path in shown)
