"""What was found in a library folder, and what is on the machine."""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from typing import Annotated, Literal

from pydantic import Field

from kyklon.model.record import Record

REASONS = {
    "wrong-folder": "In the wrong folder",
    "archive": "Archive not supported",
    "unsafe-archive": "Archive with unsafe paths",
    "damaged": "Damaged archive",
    "unknown": "Unknown kind of file",
    "system-file": "Missing firmware file",
    "track": "Missing disc track",
    "disc": "Missing disc",
    "duplicate": "Duplicate",
    "version": "Another version is kept",
    "members": "Members missing",
    "bomb": "Archive bomb",
    "too-large": "Larger than the stick's file system allows",
    "left-out": "Left out",
    "clash": "Same name except for case",
    "empty": "Empty file",
    "sheet": "Cue sheet without tracks",
}


class Revision(Record):
    """Another revision of a firmware file. note: which it is, or what it lacks."""

    size: int = Field(gt=0)
    sha256: str
    note: str = Field(default="", max_length=200)


class SystemFile(Record):
    """Firmware an emulator needs, by exact name. revisions: others that games start with, the better ones first."""

    name: str
    size: int
    sha256: str
    region: str = ""
    required: bool = True
    revisions: tuple[Revision, ...] = ()

    def rank(self, size: int, sha256: str) -> int | None:
        """0 for the file itself, its place from 1 for another revision, None for what is neither. sha256: '' where only
        the size is known, which then tells."""
        known = [(self.size, self.sha256), *((each.size, each.sha256) for each in self.revisions)]
        return next((at for at, (its, own) in enumerate(known) if its == size and sha256 in ("", own)), None)

    @property
    def sizes(self) -> frozenset[int]:
        return frozenset((self.size, *(each.size for each in self.revisions)))

    @property
    def sizes_told(self) -> str:
        """The sizes that it may have, as '13312' or '13312 or 16384'."""
        return " or ".join(map(str, dict.fromkeys((self.size, *(each.size for each in self.revisions)))))


Route = Literal["folder", "secure copy"]
Words = Annotated[str, Field(max_length=200)]


class ListScheme(Record):
    """How a list of games is written. Names are those of columns (CSV), of attributes or inner elements (XML), or of
    keys (JSON); '' for what the list does not tell. game: the element or key that holds one game, '' where each row
    is one; part: the same for one file of it. A part's names count only inside it."""

    id: Words
    name: Words = ""
    kind: Literal["csv", "xml", "json"] = "csv"
    game: Words = ""
    title: Words = "name"
    parent: Words = ""
    part: Words = ""
    part_name: Words = ""
    size: Words = ""
    crc: Words = ""
    md5: Words = ""
    sha1: Words = ""
    sha256: Words = ""
    description: Words = ""
    year: Words = ""
    players: Words = ""
    genre: Words = ""


class ListFile(Record):
    """A list that the user has. path: as in Source. scheme: id of a ListScheme, '' for a list of checksums. system:
    that its games are for."""

    path: str
    system: str
    scheme: str = ""


@dataclass(frozen=True)
class Naming:
    """What a game is called, and how that is known. how: 'list' by its checksum, 'title' by its file name, 'yours' as
    its user said, '' for the bare file name. full: with the tags that the list gives it. features: that the
    confidence came from. confidence: that it is right, 0 to 1. parent: the game that it is a
    version of. others: what else it may be, each with its confidence, the likeliest first. missing: members."""

    title: str
    how: Literal["list", "title", "yours", ""] = ""
    confidence: float = 0.0
    parent: str = ""
    others: tuple[tuple[str, float], ...] = ()
    missing: tuple[str, ...] = ()
    full: str = ""
    features: tuple[float, ...] = ()

    @property
    def group(self) -> str:
        """What all versions of one game share."""
        return self.parent or self.title


@dataclass(frozen=True, slots=True)
class GameText:
    """What is told of a game, '' where nothing is. origin: where it came from; licence: what allows its use; receipt:
    number, date or file of what was paid."""

    description: str = ""
    year: str = ""
    players: str = ""
    genre: str = ""
    origin: str = ""
    licence: str = ""
    receipt: str = ""

    def over(self, other: GameText) -> GameText:
        """These, and the other's where these tell nothing."""
        return GameText(*(getattr(self, name) or getattr(other, name) for name in TEXTS))


TEXTS = tuple(each.name for each in fields(GameText))
LISTED_TEXTS = ("description", "year", "players", "genre")  # what a list may tell
NO_TEXT = GameText()


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
    naming: Naming | None = None
    doubtful: bool = False  # its title waits for somebody to look
    text: GameText = NO_TEXT

    @property
    def key(self) -> str:
        """What the build knows it by: its first file."""
        return self.files[0]

    @property
    def called(self) -> str:
        """The title that people see."""
        return self.naming.title if self.naming and not self.doubtful and self.naming.how else self.title

    @property
    def ready(self) -> bool:
        return not self.reasons


@dataclass(frozen=True)
class FoundSystemFile:
    """A firmware file that some system wants. found: where it is, '' when it is nowhere. right_name: it is
    there under its own name, or the build says to put it there under it. size: of what was found; rank: 0 for the file
    itself, the place of another revision from 1."""

    system: str
    wanted: SystemFile
    found: str
    right_name: bool
    size: int = 0
    rank: int = 0

    @property
    def usable(self) -> bool:
        return bool(self.found) and self.right_name


@dataclass(frozen=True)
class Choice:
    """What fits. kept, left: keys of games. used, room: bytes. gap: how far the worth may be from the best there is, 0
    to 1. worth: of those kept; whole: of all."""

    kept: frozenset[str]
    left: frozenset[str]
    used: int
    room: int
    gap: float
    worth: float
    whole: float


@dataclass(frozen=True)
class Scan:
    """All that was found. unsorted: files outside any known folder. list_errors: why a list was not read. threshold:
    the confidence from which titles were accepted. choice: what fits, None where all may go along. cluster: bytes, of
    the file system that the games go to."""

    folder: str
    games: tuple[Game, ...]
    system_files: tuple[FoundSystemFile, ...]
    unsorted: tuple[str, ...] = ()
    list_errors: tuple[str, ...] = ()
    threshold: float = 1.0
    choice: Choice | None = None
    cluster: int = 32_768

    @property
    def doubtful(self) -> tuple[Game, ...]:
        """Games whose title waits for somebody to look."""
        return tuple(game for game in self.games if game.doubtful)

    def of(self, system: str) -> tuple[Game, ...]:
        return tuple(game for game in self.games if game.system == system)

    @property
    def ready(self) -> tuple[Game, ...]:
        return tuple(game for game in self.games if game.ready)


@dataclass(frozen=True)
class OnMachine:
    """What the front end will find. games: titles by system id. system_files: names. unreadable: files that whoever
    plays may not read, counted by system. hidden: systems that were set aside. bad_files: system files that are not
    what is wanted, by name, each with why. bad_games: what is listed and will not start, by system, in sentences."""

    games: dict[str, tuple[str, ...]]
    system_files: frozenset[str]
    unreadable: dict[str, int] = field(default_factory=dict)
    hidden: tuple[str, ...] = ()
    bad_files: dict[str, str] = field(default_factory=dict)
    bad_games: dict[str, tuple[str, ...]] = field(default_factory=dict)
