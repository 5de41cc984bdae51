"""Copies what is ready into the folder layout of an image, each file read back."""

from __future__ import annotations

import os
import shutil
import time
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from kyklon.base import durable
from kyklon.base.errors import KyklonError, TargetFull
from kyklon.base.inside import files_below, inside
from kyklon.base.meter import Meter
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.quantities import show_bytes
from kyklon.base.reading import bytes_of, text_of
from kyklon.catalogue.records import Image, System
from kyklon.model.card import RootFacts
from kyklon.model.library import Game, OnMachine, Scan
from kyklon.operations.library.sheets import lines_of

SHEETS = (".cue",)  # files that name a disc's tracks


@dataclass(frozen=True)
class Copy:
    """source: in the library; target: relative to the destination."""

    source: str
    target: str
    size: int


@dataclass(frozen=True)
class Transfer:
    """What will be put where. texts: playlists to write, by target."""

    copies: tuple[Copy, ...]
    texts: dict[str, str]
    games: int

    @property
    def size(self) -> int:
        return sum(copy.size for copy in self.copies)


@dataclass(frozen=True)
class TransferReport:
    games: int
    files: int
    size: int
    already_there: int
    seconds: float


def plan(scan: Scan, systems: tuple[System, ...], image: Image) -> Transfer:
    """Ready games, their playlists, and the system files under their right names."""
    folders = {system.id: image.games_path.replace("{folder}", system.folder) for system in systems}
    copies: list[Copy] = []
    texts: dict[str, str] = {}
    for game in scan.ready:
        base = folders[game.system]
        targets = {path: f"{base}/{_below(path)}" for path in game.files}
        copies += [Copy(path, target, (Path(scan.folder) / path).stat().st_size) for path, target in targets.items()]
        if game.discs > 1:
            place = PurePosixPath(targets[game.files[0]]).parent
            texts[_free_name(place / f"{_fat_name(game.title)}.m3u", texts)] = _playlist(game)
    for found in scan.system_files:
        if found.usable:
            copies.append(Copy(found.found, f"{image.system_files_path}/{found.wanted.name}", found.wanted.size))
    return Transfer(tuple(copies), texts, len(scan.ready))


def _below(path: str) -> str:
    """A path in the library without its system's folder: sub-folders stay, so that no two files meet."""
    return path.split("/", 1)[1] if "/" in path else path


def _fat_name(title: str) -> str:
    """A title as a file name that every stick can keep (Microsoft FAT specification, 7)."""
    return (
        "".join("_" if letter in '<>:"/\\|?*' or ord(letter) < 32 else letter for letter in title).rstrip(". ") or "_"
    )


def _free_name(path: PurePosixPath, taken: dict[str, str]) -> str:
    lower = {name.casefold() for name in taken}
    names = (path.with_stem(f"{path.stem}{end}").as_posix() for end in ("", *(f" ({n})" for n in range(2, 10_000))))
    return next(name for name in names if name.casefold() not in lower)


def _playlist(game: Game) -> str:
    """What starts each disc, in order, one a line: its sheet, or the disc's only file; from the first one's folder."""
    base = PurePosixPath(game.files[0]).parent
    starts = [path for path in game.files if path.lower().endswith(SHEETS)] or list(game.files)
    return "".join(f"{os.path.relpath(path, base)}\n" for path in starts)


def carry_out(transfer: Transfer, library: Path, destination: Path, watch: Watch = UNWATCHED) -> TransferReport:
    """Copy, read back, compare. Files that are already there and the same are left.

    Raises Cancelled, TargetFull before anything is copied, VerifyError, KyklonError when a side goes away.
    A file is under its own name only when it is whole.
    """
    begun, already = time.monotonic(), 0
    try:
        destination.mkdir(parents=True, exist_ok=True)
        free = shutil.disk_usage(destination).free
        if free < transfer.size:
            raise TargetFull(
                f"{destination} has {show_bytes(free)} free; the games need {show_bytes(transfer.size)}.",
                do="Use a larger stick or choose fewer games.",
            )
        meter = Meter("Copying games", transfer.size, watch)
        done = 0

        def moved(count: int) -> None:
            nonlocal done
            meter.wait()
            done += count
            meter.report(done)

        for copy in transfer.copies:
            already += not durable.copy(library / copy.source, inside(destination, copy.target), moved)
        for target, text in transfer.texts.items():
            durable.replace(inside(destination, target), text.encode("utf-8", "surrogateescape"))
        meter.report(done, force=True)
    except OSError as bad:
        raise KyklonError(
            f"{bad.filename or destination} failed: {bad.strerror}.", do="Plug the stick in again and start over."
        ) from bad
    return TransferReport(transfer.games, len(transfer.copies), transfer.size, already, time.monotonic() - begun)


def look_at(destination: Path, systems: tuple[System, ...], image: Image) -> OnMachine:
    """What is really in a destination, seen with the front end's eyes."""
    games: dict[str, tuple[str, ...]] = {}
    for system in systems:
        folder = destination / image.games_path.replace("{folder}", system.folder)
        if not folder.is_dir():
            continue
        names = [PurePosixPath(path) for path, _status in files_below(folder)]
        listed = {path for each in names if each.suffix.lower() == ".m3u" for path in _listed(folder, each)}
        if titles := _titles(names, listed, system):
            games[system.id] = titles
    shelf = destination / image.system_files_path
    files = frozenset(path.name for path in shelf.iterdir()) if shelf.is_dir() else frozenset()
    return OnMachine(games, files)


def on_root(root: RootFacts, systems: tuple[System, ...], image: Image) -> OnMachine:
    """The same of a card's own root, as far as a look has listed it."""
    games: dict[str, tuple[str, ...]] = {}
    for system in systems:
        top = image.games_path.replace("{folder}", system.folder).strip("/") + "/"
        names = [PurePosixPath(path.removeprefix(top)) for path in root.files if path.startswith(top)]
        listed = {
            os.path.normpath(PurePosixPath(path.removeprefix(top)).parent / line)
            for path, text in root.playlists.items() if path.startswith(top) for line in lines_of(text)
        }  # fmt: skip
        if titles := _titles(names, listed, system):
            games[system.id] = titles
    shelf = image.system_files_path.strip("/") + "/"
    return OnMachine(games, frozenset(PurePosixPath(path).name for path in root.files if path.startswith(shelf)))


def _titles(names: list[PurePosixPath], listed: set[str], system: System) -> tuple[str, ...]:
    """What the front end lists of a system's folder: files of its kinds that no playlist names."""
    endings = {*system.extensions, "m3u", *(("zip",) if system.archives else ())}
    return tuple(
        path.stem
        for path in names
        if path.suffix.lower().removeprefix(".") in endings and path.as_posix() not in listed
    )


def _listed(folder: Path, playlist: PurePosixPath) -> tuple[str, ...]:
    """What a playlist names, from the system's folder; nothing for one that is no text."""
    try:
        text = text_of(bytes_of(folder / playlist), str(playlist))
    except KyklonError:
        return ()
    return tuple(os.path.normpath(playlist.parent / line) for line in lines_of(text))
