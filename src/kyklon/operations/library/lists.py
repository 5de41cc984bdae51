"""Lists of games that their user has a right to: checksum lists, and tables in CSV, XML or JSON whose names a scheme
gives. Read piece by piece: a list of a hundred thousand games takes little memory."""

from __future__ import annotations

import codecs
import csv
import io
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath
from typing import Any
from xml.parsers import expat

from kyklon.base import reading
from kyklon.base.errors import FormatError, KyklonError
from kyklon.base.reading import bytes_of
from kyklon.model.library import LISTED_TEXTS, NO_TEXT, GameText, ListScheme
from kyklon.operations import checksums

LARGEST = 1 << 30  # bytes of a list
MOST_COLUMNS = 500  # of a table; lists have a dozen
MOST = 2_000_000  # games of one list
_LONGEST = 2_000  # letters of a value that is kept
_DEEPEST = 60  # elements within elements
_BLOCK = 1 << 18
_FIELDS = {"crc": "CRC-32", "md5": "MD5", "sha1": "SHA-1", "sha256": "SHA-256"}
DIGITS = {"crc": 8, "md5": 32, "sha1": 40, "sha256": 64}
_COLUMNS = ("title", "parent", "part_name", "size", *_FIELDS, *LISTED_TEXTS)
HEX = re.compile(r"[0-9a-fA-F]+")


@dataclass(frozen=True, slots=True)
class Part:
    """A file of a game. size in bytes, -1 where the list does not tell. sums: hexadecimal, by algorithm."""

    name: str = ""
    size: int = -1
    sums: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Listed:
    """A game of a list. parent: the name of the one that it is a version of."""

    title: str
    parent: str = ""
    parts: tuple[Part, ...] = ()
    text: GameText = NO_TEXT


def read_list(path: Path, scheme: ListScheme | None) -> Iterator[Listed]:
    """The games of a list, one by one. scheme: None for a list of checksums. Raises FormatError, KyklonError."""
    read = {"csv": _read_csv, "xml": _read_xml, "json": _read_json}
    count = 0
    try:
        size = path.stat().st_size
        if size > LARGEST:
            raise FormatError(path.name, LARGEST, expected=f"at most {LARGEST} bytes", got=f"{size}")
        for game in _read_sums(path) if scheme is None else read[scheme.kind](path, scheme):
            count += 1
            if count > MOST:
                raise FormatError(path.name, 0, expected=f"at most {MOST} games", got="more")
            yield game
    except OSError as bad:
        raise KyklonError(f"The list {path} cannot be read: {bad.strerror}.", do="Choose it again.") from bad


def _read_sums(path: Path) -> Iterator[Listed]:
    """Each file of a checksum list as a game of its own."""
    text = bytes_of(path, 64 << 20).decode("utf-8", "surrogateescape")
    for name, stated in checksums.parse(text, path.name).items():
        if stated.algorithm in (*_FIELDS.values(), "SHA-512"):
            yield Listed(PurePosixPath(name).stem, "", (Part(name, -1, {stated.algorithm: stated.digest}),))


def _read_csv(path: Path, scheme: ListScheme) -> Iterator[Listed]:
    """Rows; those that follow one another with one title are parts of one game."""
    encoding = encoding_of(path)
    with io.TextIOWrapper(reading.opened(path), encoding=encoding, errors="replace", newline="") as file:
        rows = csv.reader(file, delimiter=delimiter_of(path, encoding))
        try:
            names = next(rows, [])
            not_too_wide(names, path.name)
            if scheme.title not in names:
                known = ", ".join(names[:12])
                raise FormatError(path.name, 0, expected=f"a column {scheme.title!r}", got=known or "no row")
            asked = {getattr(scheme, each) for each in _COLUMNS} - {""}
            places = [(name, number) for number, name in enumerate(names) if name in asked]
            title, parent, parts, text = "", "", list[Part](), NO_TEXT
            for row in rows:
                found = {name: row[number][:_LONGEST] for name, number in places if number < len(row)}
                name = found.get(scheme.title, "").strip()
                if name and name != title:
                    if title:
                        yield Listed(title, parent, tuple(parts), text)
                    title, parent, parts = name, _parent(found.get(scheme.parent, ""), name), []
                    text = _text(scheme, found)
                if name:
                    parts += _part(scheme, found)
            if title:
                yield Listed(title, parent, tuple(parts), text)
        except csv.Error as bad:
            raise FormatError(path.name, 0, expected="rows of CSV", got=f"line {rows.line_num}: {bad}") from bad


def not_too_wide(names: Sequence[str], name: str) -> None:
    """Raise FormatError for a first row of more columns than any list has; each row would fill the memory."""
    if len(names) > MOST_COLUMNS:
        raise FormatError(name, 0, expected=f"at most {MOST_COLUMNS} columns", got=f"{len(names)}")


def encoding_of(path: Path) -> str:
    """What a text is written in: UTF-16 with its mark, UTF-8 where every byte of it is, else what programs of old
    wrote (Windows-1252)."""
    decoder = codecs.getincrementaldecoder("utf-8")()
    with reading.opened(path) as file:
        block = file.read(_BLOCK)
        if block[:2] in (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE):
            return "utf-16"
        try:
            while block:
                decoder.decode(block)
                block = file.read(_BLOCK)
            decoder.decode(b"", final=True)
        except UnicodeDecodeError:
            return "cp1252"
    return "utf-8-sig"


def delimiter_of(path: Path, encoding: str) -> str:
    """The mark that stands most often in the first line, outside of quotes."""
    with reading.opened(path) as file:
        line = file.read(65_536).decode(encoding, "replace").partition("\n")[0]
    bare = re.sub(r'"[^"]*"', "", line)
    return max(",;\t|", key=bare.count)


class _Xml:
    """Collects games while expat reads. The text of an inner element counts as an attribute of its outer one."""

    def __init__(self, scheme: ListScheme, name: str) -> None:
        self.scheme, self.name = scheme, name
        self.found: list[Listed] = []
        self._depth = 0
        self._game: dict[str, str] | None = None
        self._part: dict[str, str] | None = None
        self._parts: list[Part] = []
        self._text: list[str] = []
        self.parser = expat.ParserCreate()
        self.parser.buffer_text = True
        self.parser.StartElementHandler = self._start
        self.parser.EndElementHandler = self._end
        self.parser.CharacterDataHandler = self._on_text
        self.parser.EntityDeclHandler = self._on_entity

    def _on_entity(self, *_told: object) -> None:
        raise FormatError(
            self.name,
            self.parser.CurrentByteIndex,
            expected="a list",
            got="entities of its own",
            do="A list of games needs none; they can flood the memory.",
        )

    def _start(self, name: str, attributes: dict[str, str]) -> None:
        self._depth += 1
        self._text = []
        if self._depth > _DEEPEST:
            raise FormatError(
                self.name, self.parser.CurrentByteIndex, expected=f"at most {_DEEPEST} elements deep", got="more"
            )
        if name == self.scheme.game and self._game is None:
            self._game, self._parts = dict(attributes), []
        elif self._game is not None and name == self.scheme.part:
            self._part = dict(attributes)

    def _on_text(self, text: str) -> None:
        if self._game is not None and len(self._text) < 100:
            self._text.append(text[:_LONGEST])

    def _end(self, name: str) -> None:
        self._depth -= 1
        text, self._text = "".join(self._text).strip()[:_LONGEST], []
        if self._game is None:
            return
        if self._part is not None and name == self.scheme.part:
            if text and not self._part:
                self._part[name] = text
            self._parts += _part(self.scheme, self._part)
            self._part = None
        elif name == self.scheme.game:
            if not self.scheme.part:
                self._parts += _part(self.scheme, self._game)
            title = self._game.get(self.scheme.title, "").strip()
            if title:
                parent = _parent(self._game.get(self.scheme.parent, ""), title)
                self.found.append(Listed(title, parent, tuple(self._parts), _text(self.scheme, self._game)))
            self._game = None
        elif text:
            (self._game if self._part is None else self._part).setdefault(name, text)


def _read_xml(path: Path, scheme: ListScheme) -> Iterator[Listed]:
    if not scheme.game:
        raise FormatError(path.name, 0, expected="the name of a game's element", got="none in the scheme")
    reader = _Xml(scheme, path.name)
    with reading.opened(path) as file:
        try:
            while block := file.read(_BLOCK):
                reader.parser.Parse(block, False)
                yield from reader.found
                reader.found = []
            reader.parser.Parse(b"", True)
        except expat.ExpatError as bad:
            what = f"line {bad.lineno}: {expat.ErrorString(bad.code)}"
            raise FormatError(path.name, max(0, reader.parser.ErrorByteIndex), expected="XML", got=what) from bad
        except (ValueError, LookupError) as bad:  # an encoding that nobody knows
            raise FormatError(path.name, 0, expected="XML", got=str(bad)) from bad
    yield from reader.found


def _read_json(path: Path, scheme: ListScheme) -> Iterator[Listed]:
    import ijson

    place = f"{scheme.game}.item" if scheme.game else "item"
    with reading.opened(path) as file:
        try:
            for each in ijson.items(file, place, use_float=True):
                game = _flat(each)
                title = game.get(scheme.title, "").strip()
                if not title:
                    continue
                rows = each.get(scheme.part) if scheme.part and isinstance(each, dict) else [each]
                parts = [
                    part for row in (rows if isinstance(rows, list) else [rows]) for part in _part(scheme, _flat(row))
                ]
                yield Listed(title, _parent(game.get(scheme.parent, ""), title), tuple(parts), _text(scheme, game))
        except (ijson.JSONError, UnicodeDecodeError, ValueError, RecursionError) as bad:
            raise FormatError(path.name, file.tell(), expected="JSON", got=str(bad)[:200]) from bad


def _flat(row: Any) -> dict[str, str]:
    """The plain values of an object, as text; those of an object inside under both names with a dot between."""
    if not isinstance(row, dict):
        return {}
    found = {
        str(key): str(value)[:_LONGEST]
        for key, value in row.items()
        if isinstance(value, (str, int, float)) and not isinstance(value, bool)
    }
    for key, value in row.items():
        if isinstance(value, dict):
            found |= {f"{key}.{inner}": each for inner, each in _flat_once(value).items()}
    return found


def _flat_once(row: dict[Any, Any]) -> dict[str, str]:
    return {
        str(key): str(value)[:_LONGEST]
        for key, value in row.items()
        if isinstance(value, (str, int, float)) and not isinstance(value, bool)
    }


def _parent(told: str, title: str) -> str:
    return "" if told.strip() == title else told.strip()


def _text(scheme: ListScheme, row: dict[str, str]) -> GameText:
    if not (scheme.description or scheme.year or scheme.players or scheme.genre):
        return NO_TEXT
    found = {name: row.get(getattr(scheme, name), "").strip() for name in LISTED_TEXTS if getattr(scheme, name)}
    return GameText(**found) if any(found.values()) else NO_TEXT


def _part(scheme: ListScheme, row: dict[str, str]) -> list[Part]:
    """What a row says of a file; nothing where it says neither sum nor name."""
    sums = {}
    for name, algorithm in _FIELDS.items():
        value = row.get(getattr(scheme, name), "").strip() if getattr(scheme, name) else ""
        if name == "crc" and HEX.fullmatch(value) and len(value) < 8:
            value = value.rjust(8, "0")  # lists that drop what leads
        if HEX.fullmatch(value) and len(value) == DIGITS[name]:
            sums[algorithm] = value.lower()
    told = row.get(scheme.size, "").strip() if scheme.size else ""
    size = int(told) if told.isdecimal() and told.isascii() and len(told) < 16 else -1
    name = row.get(scheme.part_name, "").strip() if scheme.part_name else ""
    return [Part(name, size, sums)] if sums or name else []


def sample(path: Path, scheme: ListScheme | None, most: int = 6) -> tuple[Listed, ...]:
    """The first games that a scheme finds in a list."""
    found = []
    for game in read_list(path, scheme):
        found.append(game)
        if len(found) >= most:
            break
    return tuple(found)
