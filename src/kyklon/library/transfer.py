"""Puts what is ready into the folder layout of an image: each file under a second name first, read back, renamed."""

from __future__ import annotations

import hashlib
import os
import shutil
import time
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from kyklon.catalogue.records import Image, System
from kyklon.errors import KyklonError, TargetFull, VerifyError
from kyklon.library.scan import Game, Scan
from kyklon.progress import CancelToken, Progress, Sink, no_sink
from kyklon.quantities import show_bytes

_BLOCK = 1 << 20
PART = ".part"  # ending of a file that is not whole yet


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


def carry_out(
    transfer: Transfer, library: Path, destination: Path, sink: Sink = no_sink, cancel: CancelToken | None = None
) -> TransferReport:
    """Copy, read back, compare. Files that are already there and the same are left.

    Raises Cancelled, TargetFull before anything is copied, VerifyError, KyklonError when a side goes away.
    A file is under its own name only when it is whole.
    """
    cancel = cancel or CancelToken()
    begun, done, already = time.monotonic(), 0, 0
    try:
        destination.mkdir(parents=True, exist_ok=True)
        free = shutil.disk_usage(destination).free
        if free < transfer.size:
            raise TargetFull(
                f"{destination} has {show_bytes(free)} free; the games need {show_bytes(transfer.size)}.",
                do="Use a larger stick or choose fewer games.",
            )
        for copy in transfer.copies:
            cancel.check()
            already += _copy_one(library / copy.source, destination / copy.target, copy, cancel)
            done += copy.size
            seconds = max(1e-6, time.monotonic() - begun)
            left = (transfer.size - done) / (done / seconds) if done else None
            sink(Progress("Moving games", done, transfer.size, done / seconds, left))
        for target, text in transfer.texts.items():
            (destination / target).write_text(text, encoding="utf-8")
    except OSError as bad:
        raise KyklonError(
            f"{bad.filename or destination} failed: {bad.strerror}.", do="Plug the stick in again and start anew."
        ) from bad
    return TransferReport(transfer.games, len(transfer.copies), transfer.size, already, time.monotonic() - begun)


def _copy_one(source: Path, target: Path, copy: Copy, cancel: CancelToken) -> int:
    """1 when the same file was there already."""
    wanted = _digest(source)
    if target.exists() and target.stat().st_size == copy.size and _digest(target) == wanted:
        return 1
    target.parent.mkdir(parents=True, exist_ok=True)
    part = target.with_name(target.name + PART)
    try:
        with source.open("rb") as reader, part.open("wb") as writer:
            while block := reader.read(_BLOCK):
                cancel.check()
                writer.write(block)
            writer.flush()
            os.fsync(writer.fileno())
            os.posix_fadvise(writer.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
        if _digest(part) != wanted:
            raise VerifyError(f"{target} was not written as it was read.", do="The stick is worn; use another one.")
        os.replace(part, target)
    finally:
        part.unlink(missing_ok=True)
    return 0


def _digest(path: Path) -> bytes:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").digest()


@dataclass(frozen=True)
class OnMachine:
    """What the front end will find. games: titles by system id. system_files: names."""

    games: dict[str, tuple[str, ...]]
    system_files: frozenset[str]


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
