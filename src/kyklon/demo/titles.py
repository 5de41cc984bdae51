"""Invented titles, and the file names that people give their games: the labelled list that matching is fitted on."""

from __future__ import annotations

import random
from dataclasses import dataclass

from kyklon.demo.library import FIRST, SECOND
from kyklon.operations.library.titles import cleaned

_FIRST = (
    *FIRST,
    "Amber",
    "Barley",
    "Clover",
    "Dapple",
    "Ember",
    "Fennel",
    "Granite",
    "Heather",
    "Indigo",
    "Jasper",
    "Kettle",
    "Lantern",
    "Meadow",
    "Nettle",
    "Ochre",
    "Pebble",
    "Quill",
    "Russet",
    "Sable",
    "Tallow",
    "Vellum",
    "Willow",
    "Yarrow",
    "Zinc",
    "Bramble",
    "Crimson",
)
_MIDDLE = (
    "Almond",
    "Button",
    "Candle",
    "Duster",
    "Engine",
    "Ferry",
    "Garden",
    "Hammer",
    "Island",
    "Jubilee",
    "Kitchen",
    "Ladder",
    "Market",
    "Needle",
    "Orbit",
    "Pocket",
    "Quarter",
    "River",
    "Station",
    "Tower",
    "Umbrella",
    "Valley",
    "Window",
    "Yellow",
    "Zigzag",
    "Anchor",
    "Bottle",
    "Chimney",
    "Doorbell",
    "Echo",
)
_SECOND = (
    *SECOND,
    "Carousel",
    "Dovecote",
    "Estuary",
    "Foundry",
    "Greenhouse",
    "Harvest",
    "Inkwell",
    "Junction",
    "Kiln",
    "Lighthouse",
    "Millrace",
    "Nursery",
    "Observatory",
    "Postmaster",
    "Quilters",
    "Ropewalk",
    "Sawmill",
    "Tannery",
    "Underpass",
    "Viaduct",
)
_SUBTITLES = (
    "The Long Winter",
    "Second Helping",
    "A Night Out",
    "The Lost Ledger",
    "Return to the Quay",
    "Summer Fete",
    "The Cartwright Affair",
    "Beyond the Hedge",
    "High Water",
    "The Last Tram",
    "Under the Arches",
    "Market Day",
    "The Silent Bell",
    "Over the Weir",
    "A Fine Kettle",
    "The Paper Crown",
    "Out of Season",
    "Tea at Four",
)
_ACCENTS = {"e": "é", "o": "ö", "a": "à", "u": "ü", "n": "ñ"}
_ROMAN = {2: "II", 3: "III", 4: "IV", 5: "V"}
_REGIONS = ("Europe", "USA", "Japan", "World", "USA, Europe", "France")
_TAGS = ("Rev A", "Rev B", "v1.1", "Beta", "En,Fr,De", "Disc 1", "Unl", "Alt")
_SQUARE = ("!", "b1", "h1", "a", "t1", "o2")


@dataclass(frozen=True)
class Labelled:
    """titles: of the list. names: file names without an ending, each with its title, '' for one that is not listed."""

    titles: tuple[str, ...]
    names: tuple[tuple[str, str], ...]


def labelled(count: int = 5000, seed: int = 1) -> Labelled:
    """A list of titles, with sequels and sub-titles, and `count` file names. One seed makes one list."""
    chance = random.Random(seed)
    titles = _titles(chance, round(count * 1.1))
    listed, unlisted = titles[: len(titles) * 19 // 20], titles[len(titles) * 19 // 20 :]
    names = []
    for _ in range(count):
        gone = chance.random() < 0.04
        title = chance.choice(unlisted if gone else listed)
        names.append((file_name(title, chance), "" if gone else title))
    return Labelled(tuple(listed), tuple(names))


def _titles(chance: random.Random, count: int) -> list[str]:
    """Titles, no two alike but for an article or how a numeral is written; a third are sequels or have a sub-title."""
    found: dict[str, str] = {}
    while len(found) < count:
        base = f"{chance.choice(_FIRST)} {chance.choice(_SECOND)}"
        if chance.random() < 0.6:
            base = f"{chance.choice(_FIRST)} {chance.choice(_MIDDLE)} {chance.choice(_SECOND)}"
        if chance.random() < 0.3:
            base = f"{base} {chance.choice(('of', 'and the', 'in'))} {chance.choice(_FIRST)} {chance.choice(_SECOND)}"
        if chance.random() < 0.15:
            base = f"The {base}"
        if chance.random() < 0.05:
            at = chance.randrange(1, len(base))
            base = base[:at] + _ACCENTS.get(base[at], base[at]) + base[at + 1 :]
        if cleaned(base).text in found:
            continue
        found[cleaned(base).text] = base
        if chance.random() < 0.15:
            for number in range(2, chance.randrange(3, 6)):
                sequel = f"{base} {_ROMAN[number] if chance.random() < 0.5 else number}"
                found[cleaned(sequel).text] = sequel
        if chance.random() < 0.15:
            whole = f"{base}: {chance.choice(_SUBTITLES)}"
            found[cleaned(whole).text] = whole
    titles = list(found.values())
    chance.shuffle(titles)
    return titles


def file_name(title: str, chance: random.Random) -> str:
    """What somebody may have called a file of that title."""
    name = title
    if name.startswith("The ") and chance.random() < 0.6:
        head, mark, tail = name[4:].partition(": ")
        name = f"{head}, The{' - ' + tail if mark else ''}" if chance.random() < 0.8 else name[4:]
    if ": " in name:
        name = name.replace(": ", chance.choice((" - ", " ", " - ", ", ")))
    name = _numbers(name, chance)
    if chance.random() < 0.7:
        name = "".join({v: k for k, v in _ACCENTS.items()}.get(letter, letter) for letter in name)
    if chance.random() < 0.12:
        name = _mistyped(name, chance)
    if chance.random() < 0.08:
        name = name.replace(" and ", " & ")
    if chance.random() < 0.06:
        name = name.lower()
    if chance.random() < 0.07:
        name = name.replace(" ", chance.choice("_.")) if chance.random() < 0.6 else name.title().replace(" ", "")
    if chance.random() < 0.02 and len(name) > 24:
        name = name[: chance.randrange(18, 24)].rstrip()
    if chance.random() < 0.75:
        name += f" ({chance.choice(_REGIONS)})"
    if chance.random() < 0.25:
        name += f" ({chance.choice(_TAGS)})"
    if chance.random() < 0.2:
        name += f" [{chance.choice(_SQUARE)}]"
    return name


def _numbers(name: str, chance: random.Random) -> str:
    words = name.split(" ")
    for index, word in enumerate(words):
        bare = word.rstrip(":,")
        for number, roman in _ROMAN.items():
            if bare == roman and chance.random() < 0.4:
                words[index] = word.replace(roman, str(number))
            elif bare == str(number) and chance.random() < 0.3:
                words[index] = word.replace(str(number), roman)
    return " ".join(words)


def _mistyped(name: str, chance: random.Random) -> str:
    """One letter of a word left out, doubled, or changed with the next; numerals are typed with care."""
    places = [at for at in range(1, len(name) - 2) if name[at - 1 : at + 2].isalpha() and name[at : at + 2].islower()]
    if not places:
        return name
    at = chance.choice(places)
    how = chance.randrange(3)
    if how == 0:
        return name[:at] + name[at + 1 :]
    if how == 1:
        return name[:at] + name[at] + name[at:]
    return name[:at] + name[at + 1] + name[at] + name[at + 2 :]
