"""How a list of games is written, guessed from what it holds: sums by their length, sizes by being numbers."""

from __future__ import annotations

import contextlib
import csv
import io
import itertools
from collections import Counter
from collections.abc import Iterable
from pathlib import Path
from xml.parsers import expat

from pydantic import ValidationError

from kyklon.base import reading
from kyklon.base.errors import FormatError, KyklonError
from kyklon.base.reading import bytes_of
from kyklon.model.library import ListScheme
from kyklon.operations import checksums
from kyklon.operations.library.lists import DIGITS, HEX, delimiter_of, encoding_of, not_too_wide

_SAMPLE = 1 << 20  # bytes that a guess looks at


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
    for name, digits in DIGITS.items():
        if all(HEX.fullmatch(value) and len(value) == digits for value in seen):
            return name
    if _short_crcs(seen):
        return "crc"
    return "size" if all(value.isdecimal() for value in seen) else "text"


def _short_crcs(seen: list[str]) -> bool:
    """Whether these are CRC-32 of which some have lost the zeros that lead."""
    fits = all(HEX.fullmatch(value) and len(value) <= DIGITS["crc"] for value in seen)
    whole = sum(len(value) == DIGITS["crc"] for value in seen)
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
        if shape in DIGITS and shape not in found:
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
    encoding = encoding_of(path)
    text = head.decode(encoding, "replace")
    try:
        mark = delimiter_of(path, encoding)
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
        return any(_shape(each) in DIGITS for each in values.get(element, {}).values())

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
    held = next((place for place, own in columns.items() if any(_shape(each) in DIGITS for each in own.values())), "")
    if not held:
        raise FormatError(path.name, 0, expected="objects with checksums", got="none", do="Name the keys by hand.")
    outer = next((place for place in columns if held.startswith(f"{place}.") and held.endswith(".item")), "")
    if outer:
        part = held[len(outer) + 1 :].removesuffix(".item")
        return _scheme("json", columns[outer], outer.removesuffix("item").rstrip("."), part, columns[held])
    return _scheme("json", columns[held], held.removesuffix("item").rstrip("."))
