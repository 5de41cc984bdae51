"""Which game of a list a file is, by checksum: whole files, archives by their members, discs by their tracks.

Of an archive the game counts of which it holds the most; members that it lacks may lie in its parent's (a split set),
and its clones' may lie in it (a merged one).
"""

from __future__ import annotations

import os
from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.system_records import System
from kyklon.model.library import Game, Naming, Reason
from kyklon.operations.library.facts import Asked, Facts, FileFacts
from kyklon.operations.library.lists import Listed, Part
from kyklon.operations.library.packed import ARCHIVES
from kyklon.operations.library.titles import shown_title

# of several sums the first is taken: quick, and long enough that no two games share one
PREFERENCE = ("SHA-1", "SHA-256", "MD5", "SHA-512", "CRC-32")
_MOST_NAMED = 4  # missing members that a sentence names


@dataclass
class Index:
    """The games of a system's lists, and where each sum stands in them."""

    games: list[Listed] = field(default_factory=list)
    by_sum: dict[tuple[str, str], list[int]] = field(default_factory=lambda: defaultdict(list))
    by_title: dict[str, int] = field(default_factory=dict)
    sizes: set[int] = field(default_factory=set)
    algorithms: set[str] = field(default_factory=set)
    has_crc: bool = False

    def add(self, game: Listed) -> None:
        number = len(self.games)
        self.games.append(game)
        self.by_title.setdefault(game.title, number)
        for part in game.parts:
            for algorithm, digest in part.sums.items():
                self.by_sum[algorithm, digest].append(number)
            if part.sums:
                self.algorithms.add(next(each for each in PREFERENCE if each in part.sums))
                self.sizes.add(part.size)
                self.has_crc = self.has_crc or "CRC-32" in part.sums

    def may_hold(self, size: int) -> bool:
        """Whether a file of that size may be in the lists."""
        return -1 in self.sizes or size in self.sizes


@dataclass(frozen=True, slots=True)
class Piece:
    """What a game is made of: a file, or a member of an archive."""

    name: str
    size: int
    sums: Mapping[str, str]


def identify(
    folder: Path,
    games: Iterable[Game],
    systems: Iterable[System],
    lists: Mapping[str, Index],
    facts: Facts,
    watch: Watch = UNWATCHED,
) -> list[Game]:
    """The games, named where a list of their system knows them. lists: by system. Raises Cancelled, OSError."""
    games = list(games)
    known = _facts_of(folder, games, {system.id: system for system in systems}, lists, facts, watch)
    pieces = {game.key: _pieces(game, known) for game in games if game.system in lists}
    held: dict[str, set[str]] = defaultdict(set)  # sums there are at all, by system
    for game in games:
        held[game.system].update(f"{a}:{d}" for piece in pieces.get(game.key, ()) for a, d in piece.sums.items())
    return [
        _named(game, pieces[game.key], lists[game.system], held[game.system]) if game.system in lists else game
        for game in games
    ]


def why_nothing(games: Iterable[Game], system: str, index: Index) -> str:
    """Why the lists of a system recognise none of its games, '' where they know one or there is none to know."""
    own = [game for game in games if game.system == system]
    if not own or not index.games or any(game.naming is not None and game.naming.how == "list" for game in own):
        return ""
    sevens = sum(game.key.lower().endswith(".7z") for game in own)
    if not index.algorithms:
        return f"none of its games ({len(index.games)}) has a checksum: check the field names"
    if sevens == len(own) and not index.has_crc:
        stated = " and ".join(sorted(index.algorithms))
        return f"it has {stated} only, and 7z archives store only CRC-32"
    sizes = index.sizes - {-1}
    if (
        sizes
        and -1 not in index.sizes
        and not any(game.size in sizes for game in own)
        and not any(game.key.lower().endswith(ARCHIVES) for game in own)
    ):
        return "none of its sizes matches a game here: the size column may be wrong"
    return f"its {len(index.games)} games and the {len(own)} here share no checksum: different dumps, or a header"


def _facts_of(
    folder: Path,
    games: list[Game],
    systems: Mapping[str, System],
    lists: Mapping[str, Index],
    facts: Facts,
    watch: Watch,
) -> dict[str, FileFacts]:
    paths: dict[str, str] = {}
    asked = []
    for game in games:
        index = lists.get(game.system)
        if index is None or not index.algorithms:
            continue
        system = systems[game.system]
        headers = {header.size for header in system.headers}
        for name in game.files:
            path = f"{folder}/{name}"
            status = os.stat(path)
            packed = name.lower().endswith(ARCHIVES)
            fits = any(index.may_hold(status.st_size - each) for each in (0, *headers))
            if packed or (fits and not name.lower().endswith((".cue", ".m3u"))):
                paths[path] = name
                # what stands in an archive is a CRC-32: others are taken only where a list has none
                sums = frozenset() if packed and index.has_crc else frozenset(index.algorithms)
                asked.append(Asked(path, status, sums, () if packed else system.headers))
    return {
        paths[each.path]: found
        for each, found in facts.all(asked, watch, "Taking checksums")
        if not isinstance(found, OSError)
    }


def _pieces(game: Game, known: Mapping[str, FileFacts]) -> tuple[Piece, ...]:
    found: list[Piece] = []
    for name in game.files:
        facts = known.get(name)
        if facts is None:
            continue
        if facts.packed:
            found += [
                Piece(member.name, member.size, {"CRC-32": member.crc, **member.sums}) for member in facts.members
            ]
        else:
            found.append(Piece(name.rpartition("/")[2], -1, facts.sums))
    return tuple(found)


def _named(game: Game, pieces: tuple[Piece, ...], index: Index, held: set[str]) -> Game:
    counts: Counter[int] = Counter()
    for piece in pieces:
        for number in {each for sum_ in piece.sums.items() for each in index.by_sum.get(sum_, ())}:
            if _agrees(piece, index.games[number]):
                counts[number] += 1
    if not counts:
        return game
    own = {f"{a}:{d}" for piece in pieces for a, d in piece.sums.items()}
    stem = os.path.splitext(game.key.rpartition("/")[2])[0].casefold()

    def fit(number: int) -> tuple[int, int, bool]:
        lacking = len(_missing(index.games[number], own))
        return counts[number] - lacking, -lacking, index.games[number].title.casefold() == stem

    best = max(sorted(counts), key=fit) if len(counts) > 1 else next(iter(counts))
    listed = index.games[best]
    missing = _missing(listed, own | (held if listed.parent or len(pieces) > 1 else set()))
    title = shown_title(listed.title) or listed.title
    named = tuple(part.name or "one without a name" for part in missing)
    naming = Naming(title, "list", 1.0, shown_title(listed.parent), missing=named, full=listed.title)
    reasons = game.reasons
    if missing:
        shown = ", ".join(named[:_MOST_NAMED]) + (f" and {len(named) - _MOST_NAMED} more" if len(named) > 4 else "")
        where = f" or into {listed.parent}" if listed.parent else ""
        reasons = (*reasons, Reason("members", f"{shown} missing: needed in this set{where}."))
    return replace(game, naming=naming, reasons=reasons)


def _agrees(piece: Piece, game: Listed) -> bool:
    """Whether a part of a game is this piece. A CRC-32 alone is short: the size must agree where both are known."""
    strong = {(name, digest) for name, digest in piece.sums.items() if name != "CRC-32"}
    if piece.size < 0 or any(strong & set(part.sums.items()) for part in game.parts):
        return True
    return any(part.sums.get("CRC-32") == piece.sums["CRC-32"] and part.size in (-1, piece.size) for part in game.parts)


def _missing(game: Listed, there: set[str]) -> tuple[Part, ...]:
    return tuple(
        part
        for part in game.parts
        if part.sums and not any(f"{algorithm}:{digest}" in there for algorithm, digest in part.sums.items())
    )
