"""What was found in a library folder, and what is on the machine."""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.model.record import Record

REASONS = {
    "wrong-folder": "In the wrong folder",
    "archive": "Archive not supported",
    "unsafe-archive": "Archive with unsafe paths",
    "damaged": "Damaged archive",
    "unknown": "Unknown kind of file",
    "system-file": "Missing system file",
    "track": "Missing disc track",
    "duplicate": "Duplicate",
    "version": "Another version is kept",
    "clash": "Same name but for case",
    "empty": "Empty file",
    "sheet": "Sheet that names no track",
}


class SystemFile(Record):
    """Firmware an emulator needs, by exact name."""

    name: str
    size: int
    sha256: str
    region: str = ""
    required: bool = True


@dataclass(frozen=True)
class Reason:
    """Why a game will not show or play. code is one of the REASONS."""

    code: str
    text: str


@dataclass(frozen=True)
class Game:
    """One game as the player sees it. files: relative to the library folder; discs of a set are one game."""

    system: str
    title: str
    files: tuple[str, ...]
    size: int
    discs: int = 1
    reasons: tuple[Reason, ...] = ()

    @property
    def ready(self) -> bool:
        return not self.reasons


@dataclass(frozen=True)
class FoundSystemFile:
    """A firmware file that some system wants. found: where it is, '' when it is nowhere. right_name: it is
    there under its own name, or the build says to put it there under it."""

    system: str
    wanted: SystemFile
    found: str
    right_name: bool

    @property
    def usable(self) -> bool:
        return bool(self.found) and self.right_name


@dataclass(frozen=True)
class Scan:
    """All that was found. unsorted: files outside any known folder."""

    folder: str
    games: tuple[Game, ...]
    system_files: tuple[FoundSystemFile, ...]
    unsorted: tuple[str, ...] = ()

    def of(self, system: str) -> tuple[Game, ...]:
        return tuple(game for game in self.games if game.system == system)

    @property
    def ready(self) -> tuple[Game, ...]:
        return tuple(game for game in self.games if game.ready)


@dataclass(frozen=True)
class OnMachine:
    """What the front end will find. games: titles by system id. system_files: names."""

    games: dict[str, tuple[str, ...]]
    system_files: frozenset[str]
