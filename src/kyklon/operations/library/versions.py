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
_REVISION = re.compile(
    r"(?:rev(?:ision)?\.? ?|v(?:er(?:sion)?\.? ?)?)([a-z]\d{0,2}|\d{1,4}(?:\.\d{1,4}){0,3}[a-z]?)", re.IGNORECASE
)
_LANGUAGE = re.compile(r"En|Fr|De|Es|It|Nl|Pt|Sv|No|Da|Fi|Pl|Ru|Ja|Ko|Zh|Cs|Hu|Tr|El")  # ISO 639-1, CP
_UNFINISHED = frozenset({"beta", "proto", "prototype", "demo", "sample", "preview", "alpha", "kiosk", "taikenban"})
_CHANGED = frozenset({"hack", "pirate", "bootleg", "trainer", "cracked"})
# bad, over-long, changed, pirated, trained, fixed or translated dump: a letter and a number, or a letter and words
_DAMAGED = re.compile(r"[bohtpfx]\d{0,2}[a-z]?|[bhtpf] .*|t[+-].*|.*\b(?:hack|bad|cracked)\b.*", re.IGNORECASE)
_GOOD = re.compile(r"!|c|a\d{0,2}|s|r|m\d{0,2}", re.IGNORECASE)  # verified, checksum right, another dump, CP
# words for regions -> the names of LibrarySettings.regions
_REGIONS = {
    "europe": "Europe",
    "eu": "Europe",
    "eur": "Europe",
    "e": "Europe",
    "world": "World",
    "w": "World",
    "america": "America",
    "usa": "America",
    "us": "America",
    "u": "America",
    "japan": "Japan",
    "jp": "Japan",
    "jpn": "Japan",
    "j": "Japan",
    "asia": "Asia",
    "australia": "Australia",
    "brazil": "Brazil",
    "korea": "Korea",
    "china": "China",
    "france": "France",
    "germany": "Germany",
    "spain": "Spain",
    "italy": "Italy",
    "uk": "Europe",
    "sweden": "Sweden",
    "netherlands": "Netherlands",
    "holland": "Netherlands",
    "denmark": "Denmark",
    "norway": "Norway",
    "finland": "Finland",
    "portugal": "Portugal",
    "poland": "Poland",
    "russia": "Russia",
    "greece": "Greece",
    "austria": "Austria",
    "switzerland": "Switzerland",
    "belgium": "Belgium",
    "ireland": "Ireland",
    "hungary": "Hungary",
    "czech republic": "Czech Republic",
    "scandinavia": "Scandinavia",
    "united kingdom": "Europe",
    "canada": "Canada",
    "mexico": "Mexico",
    "argentina": "Argentina",
    "taiwan": "Taiwan",
    "hong kong": "Hong Kong",
    "india": "India",
    "new zealand": "New Zealand",
    "latin america": "Latin America",
    "pal": "Europe",
    "ntsc": "America",
    "ntsc-u": "America",
    "ntsc-j": "Japan",
    "secam": "France",
    "ue": "Europe",
    "eng": "Europe",
    "ger": "Germany",
    "fra": "France",
    "ita": "Italy",
    "esp": "Spain",
    "aus": "Australia",
}
# where a country is looked for when the user's order does not name it
_PART_OF = {
    **dict.fromkeys(
        (
            "France",
            "Germany",
            "Spain",
            "Italy",
            "Sweden",
            "Netherlands",
            "Denmark",
            "Norway",
            "Finland",
            "Portugal",
            "Poland",
            "Russia",
            "Greece",
            "Austria",
            "Switzerland",
            "Belgium",
            "Ireland",
            "Hungary",
            "Czech Republic",
            "Scandinavia",
            "Australia",
            "New Zealand",
        ),
        "Europe",
    ),
    **dict.fromkeys(("Canada", "Mexico", "Argentina", "Brazil", "Latin America"), "America"),
    **dict.fromkeys(("Korea", "China", "Taiwan", "Hong Kong", "India"), "Asia"),
}
_PARTS = re.compile(r"\s*[,/+&]\s*|\s+and\s+|(?<=[a-z])-(?=[a-z])", re.IGNORECASE)


@dataclass(frozen=True)
class Tags:
    """regions: as LibrarySettings names them. revision: its numbers, a letter as its place in the alphabet; () for the
    first. poor: unfinished, damaged or changed. languages: ISO 639-1, as En. odd: tags that nobody here knows."""

    regions: tuple[str, ...] = ()
    revision: tuple[int, ...] = ()
    poor: bool = False
    languages: tuple[str, ...] = ()
    odd: int = 0


def tags_of(name: str) -> Tags:
    """What the brackets of a file name say; what they do not say is left out."""
    regions: list[str] = []
    revision: tuple[int, ...] = ()
    poor = False
    languages: list[str] = []
    odd = 0
    for match in _BRACKETS.finditer(PurePosixPath(name).stem):
        round_, square = match[1], match[2]
        if square is not None:
            poor = poor or bool(_DAMAGED.fullmatch(square.strip()))
            odd += not (_DAMAGED.fullmatch(square.strip()) or _GOOD.fullmatch(square.strip()))
            continue
        words = [word.strip().lower() for word in _PARTS.split(round_.strip())]
        if round_.strip().lower() in _REGIONS:  # 'NTSC-J' is one word
            words = [round_.strip().lower()]
        if all(_LANGUAGE.fullmatch(word.strip()) for word in round_.split(",")):
            languages += [word.strip() for word in round_.split(",")]
        elif all(word in _REGIONS for word in words):
            regions += [_REGIONS[word] for word in words]
        elif told := _REVISION.fullmatch(round_.strip()):
            part = told[1].lower()
            pieces = re.findall(r"[a-z]|\d+", part)
            revision = tuple(ord(piece) - 96 if piece.isalpha() else int(piece) for piece in pieces)
        elif set(re.split(r"[^a-z]+", round_.lower())) & (_UNFINISHED | _CHANGED):
            poor = True
        elif not _NEUTRAL.fullmatch(round_.strip()):
            odd += 1
    return Tags(tuple(dict.fromkeys(regions)), revision, poor, tuple(dict.fromkeys(languages)), odd)


# what is no reason to prefer another: a disc, a date, an unlicensed or another dump
_NEUTRAL = re.compile(
    r"(?:disc|disk|cd|side|tape|part)\b.*|\d{4}(?:-\d\d){0,2}|\d\d-\d\d-\d\d|unl|alt.*", re.IGNORECASE
)


Place = tuple[bool, int, float, bool, tuple[int, ...]]


def place(tags: Tags, order: Sequence[str], languages: Sequence[str] = ()) -> Place:
    """Where a version stands: the least is the best. order: of regions, the dearest first; others come after them.
    languages: the same; a version that names none may have any."""
    ranks = [_rank(region, order) for region in tags.regions]
    known = [languages.index(language) if language in languages else len(languages) for language in tags.languages]
    spoken = min(known) if known and languages else 0
    later = tuple(-number for number in (*tags.revision, *(0,) * (4 - len(tags.revision))))
    return tags.poor, spoken, min(ranks, default=float(len(order))), bool(tags.odd), later


def _rank(region: str, order: Sequence[str]) -> float:
    """The place of a region: its own, or behind the larger one that it lies in."""
    if region in order:
        return float(order.index(region))
    whole = _PART_OF.get(region, "")
    return order.index(whole) + 0.5 if whole in order else float(len(order))


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
                reason = Reason("version", f"Kept instead: {name} ({_why(places[index], places[best])}).")
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
    if own[2] != best[2]:
        return "its region comes first"
    return "this one has an unknown tag" if own[3] != best[3] else "it is the later revision"
