"""Copies what is ready into the folder layout of an image, each file read back."""

from __future__ import annotations

import shutil
import time
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from kyklon.base import durable
from kyklon.base.errors import KyklonError, TargetFull
from kyklon.base.meter import Meter
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.quantities import show_bytes
from kyklon.catalogue.records import Image, System
from kyklon.model.library import Game, OnMachine, Scan


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
    folders = {system.id: image.games_path.format(folder=system.folder) for system in systems}
    copies: list[Copy] = []
    texts: dict[str, str] = {}
    for game in scan.ready:
        base = folders[game.system]
        copies += [
            Copy(path, f"{base}/{PurePosixPath(path).name}", (Path(scan.folder) / path).stat().st_size)
            for path in game.files
        ]
        if game.discs > 1:
            texts[f"{base}/{game.title}.m3u"] = _playlist(game)
    for found in scan.system_files:
        if found.usable:
            copies.append(Copy(found.found, f"{image.system_files_path}/{found.wanted.name}", found.wanted.size))
    return Transfer(tuple(copies), texts, len(scan.ready))


def _playlist(game: Game) -> str:
    """The discs' entry files in order, one a line."""
    return "".join(f"{PurePosixPath(path).name}\n" for path in game.files if path.lower().endswith(".cue"))


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
            already += not durable.copy(library / copy.source, destination / copy.target, moved)
        for target, text in transfer.texts.items():
            durable.replace_text(destination / target, text)
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
        folder = destination / image.games_path.format(folder=system.folder)
        if not folder.is_dir():
            continue
        names = sorted(path for path in folder.iterdir() if path.is_file())
        listed = {path.name for list_ in names if list_.suffix == ".m3u" for path in _listed(list_)}
        endings = {*system.extensions, "m3u", *(("zip",) if system.archives else ())}
        titles = tuple(
            path.stem for path in names if path.suffix.lower().removeprefix(".") in endings and path.name not in listed
        )
        if titles:
            games[system.id] = titles
    shelf = destination / image.system_files_path
    files = frozenset(path.name for path in shelf.iterdir()) if shelf.is_dir() else frozenset()
    return OnMachine(games, files)


def _listed(playlist: Path) -> tuple[Path, ...]:
    return tuple(playlist.parent / line for line in playlist.read_text(encoding="utf-8").splitlines() if line)
