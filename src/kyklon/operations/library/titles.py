"""Titles as people write them into file names, cleaned of all that is not the title.

Tags as people write them, CP: (Europe), (Rev B), (Disc 2), (En,De), [b1]; articles put last; numerals either way;
accents, punctuation, underscores; a sub-title behind a colon or a dash.
"""

from __future__ import annotations

import os
import re
import unicodedata
from dataclasses import dataclass
from functools import lru_cache

_TAGS = re.compile(r"\s*[\(\[\{][^)\]\}]*[\)\]\}]")
_ARTICLES = ("the", "a", "an", "le", "la", "les", "l'", "der", "die", "das", "el", "los", "las", "il", "lo")
_LAST_ARTICLE = re.compile(rf"^(.*?), ({'|'.join(_ARTICLES)})\b(.*)$", re.IGNORECASE)
_FIRST_ARTICLE = re.compile(rf"^({'|'.join(_ARTICLES)}) ")
_ROMAN = re.compile(r"^(?=[ivx])(x{0,3})(ix|iv|v?i{0,3})$")
_ROMAN_VALUES = {"i": 1, "v": 5, "x": 10}
_WORDS_FOR_NUMBERS = {
    "one": 1,
    "two": 2,
    "three": 3,
    "four": 4,
    "five": 5,
    "six": 6,
    "seven": 7,
    "eight": 8,
    "nine": 9,
    "ten": 10,
}
_SUBTITLE = re.compile(r"\s*(?::|\s-\s|\s–\s|~)\s*")
_CAMEL = re.compile(r"(?<=[a-z])(?=[A-Z0-9])|(?<=[0-9])(?=[A-Z])")
_TURNED = re.compile(r"(.*), (The|A|An)")
_NO_WORD = re.compile(r"[^\w]+|_")
_GLUED = re.compile(r"([^\W\d_]{3,})(\d{1,2})")  # a sequel's number that no blank parts from its title
_COUNTED = re.compile(
    r"^\s*[(\[]?\d{1,4}[)\]]?(?:\s*[-–.)_]\s+|\s+-\s*)(?=.*[^\W\d_])"
)  # '012 - X', '07. X': a list's own


def title_of(name: str) -> str:
    """The title in a file name as it is shown: no ending, no tags in brackets, 'X, The' turned round."""
    return shown_title(os.path.splitext(name.rpartition("/")[2])[0].replace("_", " "))


def shown_title(text: str) -> str:
    """A title without tags in brackets, 'X, The' turned round."""
    stem = _TAGS.sub("", text).strip()
    match = _TURNED.fullmatch(stem) if "," in stem else None
    return f"{match[2]} {match[1]}" if match else stem


@dataclass(frozen=True, slots=True)
class Cleaned:
    """words: of the whole title, plain, numerals as digits. main, sub: before and behind the first mark of a sub-title.
    numbers: of a sequel, 1 left out."""

    words: tuple[str, ...]
    main: tuple[str, ...]
    sub: tuple[str, ...]
    numbers: tuple[int, ...]

    @property
    def text(self) -> str:
        return " ".join(self.words)

    @property
    def main_text(self) -> str:
        return " ".join(self.main)


@lru_cache(maxsize=400_000)
def cleaned(title: str) -> Cleaned:
    """A title or a file's stem, taken to pieces."""
    text = _COUNTED.sub("", title)
    text = _TAGS.sub("", text).strip() or text
    if " " not in text:
        text = text.replace("_", " ").replace(".", " ")
        text = _CAMEL.sub(" ", text) if " " not in text.strip() else text
    text = unicodedata.normalize("NFKD", text)
    text = "".join(letter for letter in text if not unicodedata.combining(letter)).replace("&", " and ")
    match = _LAST_ARTICLE.match(text)
    if match:
        text = f"{match[1]}{match[3]}"
    parts = _SUBTITLE.split(text.casefold(), maxsplit=1)
    main, sub = _words(parts[0]), _words(parts[1]) if len(parts) > 1 else ()
    numbers = tuple(
        sorted(
            {
                int(word)
                for word in (*main, *sub)
                if word.isdecimal() and word.isascii() and len(word) < 5 and int(word) > 1
            }
        )
    )
    return Cleaned((*main, *sub), main, sub, numbers)


def _words(text: str) -> tuple[str, ...]:
    text = _FIRST_ARTICLE.sub("", text.strip().replace("'", "").replace("’", ""))
    found: list[str] = []
    for word in _NO_WORD.sub(" ", text).split():
        glued = _GLUED.fullmatch(word)
        found += glued.groups() if glued else (word,)
    return tuple(_digits(word, index) for index, word in enumerate(found))


def _digits(word: str, index: int) -> str:
    """Roman numerals and number words behind the first word as digits; no game is called I, V or X by itself here."""
    if index == 0:
        return word
    if word in _WORDS_FOR_NUMBERS:
        return str(_WORDS_FOR_NUMBERS[word])
    if _ROMAN.match(word):
        values = [_ROMAN_VALUES[letter] for letter in word]
        return str(sum(-v if v < max(values[n:], default=v) else v for n, v in enumerate(values)))
    return word.lstrip("0") or "0" if word.isdecimal() and word.isascii() else word
