"""Lists of games that their user has a right to: checksum lists, and tables in CSV, XML or JSON whose names a scheme
gives. Read piece by piece: a list of a hundred thousand games takes little memory."""

from __future__ import annotations

import codecs
import contextlib
import csv
import io
import itertools
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath
from typing import Any
from xml.parsers import expat

from pydantic import ValidationError

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
_SAMPLE = 1 << 20  # bytes that a guess looks at
_FIELDS = {"crc": "CRC-32", "md5": "MD5", "sha1": "SHA-1", "sha256": "SHA-256"}
_DIGITS = {"crc": 8, "md5": 32, "sha1": 40, "sha256": 64}
_COLUMNS = ("title", "parent", "part_name", "size", *_FIELDS, *LISTED_TEXTS)
_HEX = re.compile(r"[0-9a-fA-F]+")


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
    encoding = _encoding(path)
    with io.TextIOWrapper(reading.opened(path), encoding=encoding, errors="replace", newline="") as file:
        rows = csv.reader(file, delimiter=_delimiter(path, encoding))
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


def _encoding(path: Path) -> str:
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


def _delimiter(path: Path, encoding: str) -> str:
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
        if name == "crc" and _HEX.fullmatch(value) and len(value) < 8:
            value = value.rjust(8, "0")  # lists that drop what leads
        if _HEX.fullmatch(value) and len(value) == _DIGITS[name]:
            sums[algorithm] = value.lower()
    told = row.get(scheme.size, "").strip() if scheme.size else ""
    size = int(told) if told.isdecimal() and told.isascii() and len(told) < 16 else -1
    name = row.get(scheme.part_name, "").strip() if scheme.part_name else ""
    return [Part(name, size, sums)] if sums or name else []


# --- a scheme guessed from what a list holds -----------------------------------------------------------------------


def guess(path: Path) -> ListScheme | None:
    """A scheme for a list, by the shape of its values: sums by their length, sizes by being numbers. None for a list of
    checksums. Raises KyklonError, FormatError for what is none of these."""
    try:
        with reading.opened(path) as file:
            head = file.read(_SAMPLE)
    except OSError as bad:
        raise KyklonError(f"{path} cannot be read: {bad.strerror}.") from bad
    start = head.lstrip(b"\xef\xbb\xbf \t\r\n")[:1]
    if start == b"<":
        return _guess_xml(path.name, head)
    if start in (b"{", b"["):
        return _guess_json(path)
    with_sums = False
    with contextlib.suppress(FormatError):
        with_sums = bool(checksums.parse(bytes_of(path, 64 << 20).decode("utf-8", "surrogateescape"), path.name))
    return None if with_sums else _guess_csv(path, head)


def _shape(values: Iterable[str]) -> str:
    """What values look like: one of the digests, 'size', 'text', or ''."""
    seen = [value.strip() for value in values if value.strip()][:200]
    if not seen:
        return ""
    for name, digits in _DIGITS.items():
        if all(_HEX.fullmatch(value) and len(value) == digits for value in seen):
            return name
    if _short_crcs(seen):
        return "crc"
    return "size" if all(value.isdecimal() for value in seen) else "text"


def _short_crcs(seen: list[str]) -> bool:
    """Whether these are CRC-32 of which some have lost the zeros that lead."""
    fits = all(_HEX.fullmatch(value) and len(value) <= _DIGITS["crc"] for value in seen)
    whole = sum(len(value) == _DIGITS["crc"] for value in seen)
    return fits and whole * 2 >= len(seen) and any(not value.isdecimal() for value in seen)


_SIZE_NAMES = ("size", "bytes", "length", "filesize", "file_size", "file size")
_TITLE_NAMES = ("name", "title", "game", "description")
_TEXT_NAMES = {
    "description": ("description", "summary", "about", "text"),
    "year": ("year", "released", "date"),
    "players": ("players",),
    "genre": ("genre", "category", "kind"),
}
_LEAST_SIZE, _YEARS = 1024, range(1940, 2101)  # bytes of a usual game; what numbers of a year lie in, CP


def _size_column(columns: dict[str, list[str]]) -> str:
    """The column of sizes: by its name, else the one whose numbers can be nothing else: an id, a year, a number of
    players or a rank is small, or the same again and again."""
    numeric = [
        name for name, values in columns.items() if _shape(values) == "size" and name.casefold() not in _TITLE_NAMES
    ]
    named = next((name for name in numeric if name.casefold().rpartition(".")[2] in _SIZE_NAMES), "")
    if named:
        return named
    for name in numeric:
        numbers = sorted(int(value) for value in columns[name] if value.strip().isdecimal() and len(value) < 16)
        middle = numbers[len(numbers) // 2] if numbers else 0
        counted = len(numbers) > 3 and numbers[-1] - numbers[0] < 2 * len(numbers)  # 1001, 1002, 1003 ...
        if middle >= _LEAST_SIZE and middle not in _YEARS and not counted:
            return name
    return ""


def _scheme(
    kind: str, columns: dict[str, list[str]], game: str = "", part: str = "", inner: dict[str, list[str]] | None = None
) -> ListScheme:
    """columns: values by the name they stand under. inner: the same of a part."""
    found: dict[str, str] = {}
    own = inner if inner is not None else columns
    for name, values in own.items():
        shape = _shape(values)
        if shape in _DIGITS and shape not in found:
            found[shape] = name
        elif shape == "text" and inner is not None and "part_name" not in found:
            found["part_name"] = name
    if size := _size_column(own):
        found["size"] = size
    free = [
        name for name, values in columns.items() if name not in found.values() and _shape(values) in ("text", "size")
    ]
    texts = [name for name in free if _shape(columns[name]) == "text"]
    title = next((name for name in free if name.casefold() in _TITLE_NAMES), texts[0] if texts else "")
    if title:
        found["title"] = title
    told = set(columns.get(title, ()))
    parent = next(
        (
            name
            for name in texts
            if name != title
            and columns[name]
            and sum(value in told for value in columns[name]) * 2 > len(columns[name])
        ),
        "",
    )
    if parent:
        found["parent"] = parent
    for key, names in _TEXT_NAMES.items():
        if told_by := next((name for name in free if name.casefold() in names and name not in found.values()), ""):
            found[key] = told_by
    try:
        return ListScheme.model_validate({"id": f"{kind} list", "kind": kind, "game": game, "part": part, **found})
    except ValidationError as bad:
        first = bad.errors()[0]
        where = ".".join(map(str, first["loc"]))
        raise FormatError(
            f"{kind} list",
            0,
            expected=f"a name for its {where} that is text",
            got=str(first["msg"]),
            do="Name its columns by hand.",
        ) from bad


def _guess_csv(path: Path, head: bytes) -> ListScheme:
    encoding = _encoding(path)
    text = head.decode(encoding, "replace")
    try:
        mark = _delimiter(path, encoding)
        not_too_wide(next(csv.reader(io.StringIO(text), delimiter=mark), []), path.name)
        rows = list(itertools.islice(csv.DictReader(io.StringIO(text), delimiter=mark), 500))
    except csv.Error as bad:
        raise FormatError(path.name, 0, expected="rows of CSV", got=str(bad)) from bad
    if not rows or len(rows[0]) < 2:
        raise FormatError(
            path.name,
            0,
            expected="a list of games in CSV, XML, JSON or checksums",
            got="something else",
            do="Each column needs its name in the first row.",
        )
    columns = {str(key): [str(row[key]) for row in rows if isinstance(row.get(key), str)] for key in rows[0] if key}
    return _scheme("csv", columns)


def _guess_xml(name: str, head: bytes) -> ListScheme:
    """The element that holds digests is the part, or the game itself; what holds it most often is the game."""
    stack: list[tuple[str, dict[str, list[str]]]] = []
    values: dict[str, dict[str, list[str]]] = {}
    outer: dict[str, Counter[str]] = {}
    text: list[str] = []

    def start(element: str, attributes: dict[str, str]) -> None:
        text.clear()
        own = values.setdefault(element, {})
        for key, value in attributes.items():
            own.setdefault(key, []).append(value)
        outer.setdefault(element, Counter())[stack[-1][0] if stack else ""] += 1
        stack.append((element, own))

    def end(element: str) -> None:
        told = "".join(text).strip()
        text.clear()
        stack.pop()
        if told and stack:
            stack[-1][1].setdefault(element, []).append(told)

    parser = expat.ParserCreate()
    parser.StartElementHandler, parser.EndElementHandler, parser.CharacterDataHandler = start, end, text.append
    try:
        parser.Parse(head, False)
    except expat.ExpatError as bad:
        raise FormatError(name, max(0, parser.ErrorByteIndex), expected="XML", got=expat.ErrorString(bad.code)) from bad
    except (ValueError, LookupError) as bad:
        raise FormatError(name, 0, expected="XML", got=str(bad)) from bad

    def has_sum(element: str) -> bool:
        return any(_shape(each) in _DIGITS for each in values.get(element, {}).values())

    held = max((each for each in values if has_sum(each)), key=lambda each: sum(outer[each].values()), default="")
    if not held:
        raise FormatError(name, 0, expected="elements with checksums", got="none", do="Name them by hand.")
    above = outer[held].most_common(1)[0][0]
    if above and any(_shape(each) == "text" for each in values[above].values()) and sum(outer[above].values()) > 1:
        return _scheme("xml", values[above], above, held, values[held])
    return _scheme("xml", values[held], held)


def _guess_json(path: Path) -> ListScheme:
    """The longest way to a list of objects whose values look like digests, itself or in a list inside."""
    import ijson

    columns: dict[str, dict[str, list[str]]] = {}
    try:
        with reading.opened(path) as file:
            for count, (prefix, event, value) in enumerate(ijson.parse(file, use_float=True)):
                if event in ("string", "number") and ".item." in f".{prefix}":
                    outer_place, _, key = f".{prefix}".rpartition(".item.")  # an object inside belongs to its row
                    place = f"{outer_place}.item".lstrip(".")
                    columns.setdefault(place, {}).setdefault(key, []).append(str(value))
                if count > 50_000:
                    break
    except (ijson.JSONError, UnicodeDecodeError, ValueError) as bad:
        raise FormatError(path.name, 0, expected="JSON", got=str(bad)[:200]) from bad
    held = next((place for place, own in columns.items() if any(_shape(each) in _DIGITS for each in own.values())), "")
    if not held:
        raise FormatError(path.name, 0, expected="objects with checksums", got="none", do="Name the keys by hand.")
    outer = next((place for place in columns if held.startswith(f"{place}.") and held.endswith(".item")), "")
    if outer:
        part = held[len(outer) + 1 :].removesuffix(".item")
        return _scheme("json", columns[outer], outer.removesuffix("item").rstrip("."), part, columns[held])
    return _scheme("json", columns[held], held.removesuffix("item").rstrip("."))


def sample(path: Path, scheme: ListScheme | None, most: int = 6) -> tuple[Listed, ...]:
    """The first games that a scheme finds in a list."""
    found = []
    for game in read_list(path, scheme):
        found.append(game)
        if len(found) >= most:
            break
    return tuple(found)
