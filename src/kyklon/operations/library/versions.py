"""Several versions of one game: which is kept, by what its name says in brackets.

Tags as people write them, CP: (Europe), (USA, Europe), (Rev B), (v1.2), (Beta), [b]. The user's order of regions comes
first, then the later revision; unfinished and damaged ones come last whatever their region.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import PurePosixPath

from kyklon.model.build import LibrarySettings
from kyklon.model.library import Game, Reason

_BRACKETS = re.compile(r"\(([^()]{1,80})\)|\[([^\[\]]{1,80})\]")
_REVISION = re.compile(r"(?:rev(?:ision)?\.? ?|v(?:er(?:sion)?\.? ?)?)([a-z]|\d{1,4}(?:\.\d{1,4}){0,3})", re.IGNORECASE)
_LANGUAGE = re.compile(r"En|Fr|De|Es|It|Nl|Pt|Sv|No|Da|Fi|Pl|Ru|Ja|Ko|Zh|Cs|Hu|Tr|El")  # ISO 639-1, CP
_UNFINISHED = frozenset({"beta", "proto", "prototype", "demo", "sample", "preview", "alpha"})
_DAMAGED = re.compile(r"[boh]\d{0,2}|[bh] .*", re.IGNORECASE)  # bad, over-long or changed dump
# words for regions -> the names of LibrarySettings.regions
_REGIONS = {
    "europe": "Europe", "eu": "Europe", "eur": "Europe", "e": "Europe", "world": "World", "w": "World",
    "america": "America", "usa": "America", "us": "America", "u": "America", "japan": "Japan", "jp": "Japan",
    "jpn": "Japan", "j": "Japan", "asia": "Asia", "australia": "Australia", "brazil": "Brazil", "korea": "Korea",
    "china": "China", "france": "France", "germany": "Germany", "spain": "Spain", "italy": "Italy", "uk": "Europe",
}  # fmt: skip


@dataclass(frozen=True)
class Tags:
    """regions: as LibrarySettings names them. revision: its numbers, a letter as its place in the alphabet; () for the
    first. poor: unfinished, damaged or changed. languages: ISO 639-1, as En."""

    regions: tuple[str, ...] = ()
    revision: tuple[int, ...] = ()
    poor: bool = False
    languages: tuple[str, ...] = ()


def tags_of(name: str) -> Tags:
    """What the brackets of a file name say; what they do not say is left out."""
    regions: list[str] = []
    revision: tuple[int, ...] = ()
    poor = False
    languages: list[str] = []
    for match in _BRACKETS.finditer(PurePosixPath(name).stem):
        round_, square = match[1], match[2]
        if square is not None:
            poor = poor or bool(_DAMAGED.fullmatch(square.strip()))
            continue
        words = [word.strip().lower() for word in round_.split(",")]
        if all(_LANGUAGE.fullmatch(word.strip()) for word in round_.split(",")):
            languages += [word.strip() for word in round_.split(",")]
        elif all(word in _REGIONS for word in words):
            regions += [_REGIONS[word] for word in words]
        elif told := _REVISION.fullmatch(round_.strip()):
            part = told[1].lower()
            revision = (ord(part) - 96,) if part.isalpha() else tuple(map(int, part.split(".")))
        elif words[0].split(" ")[0] in _UNFINISHED:
            poor = True
    return Tags(tuple(dict.fromkeys(regions)), revision, poor, tuple(dict.fromkeys(languages)))


Place = tuple[bool, int, int, tuple[int, ...]]


def place(tags: Tags, order: Sequence[str], languages: Sequence[str] = ()) -> Place:
    """Where a version stands: the least is the best. order: of regions, the dearest first; others come after them.
    languages: the same; a version that names none may have any."""
    ranks = [order.index(region) if region in order else len(order) for region in tags.regions]
    known = [languages.index(each) if each in languages else len(languages) for each in tags.languages]
    spoken = min(known) if known and languages else 0
    later = tuple(-number for number in (*tags.revision, *(0,) * (4 - len(tags.revision))))
    return tags.poor, spoken, min(ranks, default=len(order)), later


def without_others(games: list[Game], settings: LibrarySettings) -> list[Game]:
    """The games, with a reason at every ready one of which a better version is ready too. Alike ones all stay."""
    if settings.keep_all_revisions:
        return games
    sets: dict[tuple[str, str], list[int]] = defaultdict(list)
    for index, game in enumerate(games):
        if game.ready:
            certain = game.naming if game.naming and game.naming.how and not game.doubtful else None
            sets[game.system, (certain.group if certain else game.title).casefold()].append(index)
    told = list(games)
    for indexes in sets.values():
        if len(indexes) < 2:
            continue
        places = {index: place(_tags(games[index]), settings.regions, settings.languages) for index in indexes}
        best = min(indexes, key=lambda index: places[index])
        for index in indexes:
            if places[index] > places[best]:
                name = PurePosixPath(games[best].files[0]).name
                reason = Reason("version", f"{name} is kept of this game: {_why(places[index], places[best])}.")
                told[index] = replace(games[index], reasons=(*games[index].reasons, reason))
    return told


def _tags(game: Game) -> Tags:
    """What a game's list says of it, or its file name."""
    naming = game.naming
    return tags_of(f"{naming.full}.x" if naming and naming.how == "list" and naming.full else game.key)


def _why(own: Place, best: Place) -> str:
    if own[0] != best[0]:
        return "this one is unfinished, changed or a bad dump"
    if own[1] != best[1]:
        return "its language comes first"
    return "its region comes first" if own[2] != best[2] else "it is the later revision"
