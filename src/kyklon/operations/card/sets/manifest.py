"""A bundle's manifest, in the form that its chooser reads: what it says of the system and of its partitions.

Grammars: TOML 1.0, JSON (RFC 8259), and INI as Python's configparser reads it, without interpolation.
"""

from __future__ import annotations

import configparser
import math
import re
import tomllib
from collections.abc import Callable, Mapping
from typing import Any

from pydantic import Field, ValidationError

from kyklon.base.errors import FormatError
from kyklon.base.reading import json_of, not_too_deep
from kyklon.catalogue.image_records import ManifestForm
from kyklon.model.record import Record

SHIPPED = ManifestForm()
_LARGEST = 4 * 10**18  # bytes: what a partition table of 2^63 bytes holds, rounded down
_TOP = ("name", "order", "boards", "released")
_PART = ("label", "kind", "size", "unpacked", "archive", "sha256", "grows")
_YES = ("1", "yes", "true", "on")
_NO = ("", "0", "no", "false", "off", "none")


class BundlePartition(Record):
    """label: '' where its manifests tell none. size: least bytes. unpacked: bytes of what its archive holds. Both are 0
    where they are not told. archive: '' for an empty partition."""

    label: str = Field(pattern=r"^[A-Za-z0-9_-]{0,16}$")
    kind: str
    size: int = Field(ge=0, le=_LARGEST)
    unpacked: int = Field(default=0, ge=0, le=_LARGEST)
    archive: str = ""
    sha256: str = Field(default="", pattern=r"^([0-9a-f]{64})?$")
    grows: bool = False


class Manifest(Record):
    """order: place in the chooser's list, 0 where its manifests tell none."""

    name: str = Field(min_length=1)
    order: int = Field(ge=0, le=1_000_000)
    boards: tuple[str, ...] = ()
    released: str = ""
    partitions: tuple[BundlePartition, ...] = Field(min_length=1)


def read_manifest(
    text: str, name: str = "manifest", form: ManifestForm = SHIPPED, folder: str = "bundle", about: str = ""
) -> Manifest:
    """What a manifest says. folder: of its bundle, whose name stands in where manifests tell none. about: the text of
    the second file that tells of the system, '' for none.

    Raises FormatError with its offset in bytes.
    """
    top = tree_of(text, name, form.grammar)
    parts = partitions_of(top, form)
    keys = {field: getattr(form, field) for field in (*_TOP, *_PART, "partitions")}
    if form.closed:
        _no_other(top, parts, keys, text, name)
    other = tree_of(about, f"what lies beside {name}", form.grammar) if about else {}
    row = {
        field: value for field in _TOP for value in (at(other, keys[field]), at(top, keys[field])) if value is not None
    }
    if "order" in row or not form.order:
        row["order"] = _counted(row.get("order", 0))
    if not form.name:
        row["name"] = folder
    row["boards"] = _words(row.get("boards", ()))
    row["released"] = str(row.get("released", ""))
    rows = at(top, keys["partitions"])
    if isinstance(rows, list) and len(rows) != len(parts):
        raise _wrong(text, name, keys["partitions"], "a list of tables", rows)
    row["partitions"] = tuple(_partition(part, form) for part in parts)
    try:
        made = Manifest.model_validate(row)
    except ValidationError as bad:
        first = bad.errors()[0]
        steps = [keys.get(str(step), step) for step in first["loc"]]
        raise _wrong(text, name, ".".join(str(step) for step in steps), first["msg"], first["input"]) from bad
    for part in made.partitions:
        if form.label and not part.label:
            raise _wrong(text, name, form.label, "a label of 1 to 16 letters, digits, _ and -", part.label)
        if form.size and not part.size:
            raise _wrong(text, name, form.size, "a number greater than 0", part.size)
    if form.order and made.order < form.least_order:
        raise _wrong(text, name, form.order, f"a number from {form.least_order}", made.order)
    return made


def tree_of(text: str, name: str, grammar: str) -> dict[str, Any]:
    """A manifest's keys and tables as its grammar has them; INI's sections are tables of texts.

    Raises FormatError with its offset in bytes.
    """
    return _GRAMMARS[grammar](text, name)


def _toml(text: str, name: str) -> dict[str, Any]:
    not_too_deep(text, name)
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as bad:
        raise FormatError(name, _offset_told(str(bad), text), expected="TOML", got=str(bad)) from bad
    except (RecursionError, OverflowError, ValueError) as bad:
        raise FormatError(name, 0, expected="TOML", got=str(bad)) from bad


def _json(text: str, name: str) -> dict[str, Any]:
    found = json_of(text.encode("utf-8", "surrogatepass"), name)
    if not isinstance(found, dict):
        raise FormatError(name, 0, expected="a JSON object", got=type(found).__name__)
    return found


def _ini(text: str, name: str) -> dict[str, Any]:
    """Keys above the first section belong to the top."""
    parser = configparser.ConfigParser(interpolation=None, strict=True, default_section="\0none")
    parser.optionxform = str  # type: ignore[assignment,method-assign] # its documented way to keep capitals
    headed = "[\0top]\n" + text
    try:
        parser.read_string(headed, name)
    except configparser.Error as bad:
        line = getattr(bad, "lineno", None) or next((row for row, _line in getattr(bad, "errors", ())), 2)
        offset = len("".join(headed.splitlines(keepends=True)[1 : max(1, line - 1)]).encode("utf-8", "surrogatepass"))
        words = str(bad).splitlines()[0].replace("\0", "")
        raise FormatError(name, offset, expected="sections and KEY = VALUE", got=words[:200]) from bad
    tree: dict[str, Any] = dict(parser.items("\0top"))
    for section in parser.sections():
        if section != "\0top":
            tree[section] = dict(parser.items(section))
    return tree


_GRAMMARS: Mapping[str, Callable[[str, str], dict[str, Any]]] = {"TOML": _toml, "JSON": _json, "INI": _ini}


def at(tree: Any, path: str) -> Any:
    """What lies at keys with dots between them; None where that is nothing, or the path is ''.

    A key that has a dot itself is found as well.
    """
    if not path:
        return None
    if isinstance(tree, Mapping) and path in tree:
        return tree[path]
    here = tree
    for step in path.split("."):
        if not isinstance(here, Mapping) or step not in here:
            return None
        here = here[step]
    return here


def partitions_of(top: Mapping[str, Any], form: ManifestForm) -> tuple[Mapping[str, Any], ...]:
    """The tables that tell of partitions, in their order. Those of a table of tables get its key as '#'."""
    if form.grammar == "INI":
        before = form.partitions
        rows: Any = {key[len(before) :].strip(): each for key, each in top.items() if key.startswith(before)}
    else:
        rows = at(top, form.partitions)
    if isinstance(rows, Mapping):
        return tuple({"#": key, **each} for key, each in rows.items() if isinstance(each, Mapping))
    return tuple(each for each in rows if isinstance(each, Mapping)) if isinstance(rows, (list, tuple)) else ()


def _partition(part: Mapping[str, Any], form: ManifestForm) -> dict[str, Any]:
    """A partition's row; what is not told is left to the record."""
    row = {field: value for field in _PART if (value := at(part, getattr(form, field))) is not None}
    for field, unit in (("size", form.size_bytes), ("unpacked", form.unpacked_bytes)):
        if field in row:
            row[field] = _bytes(row[field], unit)
    for field, told in (("label", form.label), ("kind", form.kind), ("size", form.size)):
        if not told:
            row[field] = {"label": "", "kind": "", "size": 0}[field]
    words = {key.lower(): kind for key, kind in form.kinds.items()}
    kind = row.get("kind")
    if isinstance(kind, str):
        row["kind"] = words.get(kind.strip().lower(), kind)
    if isinstance(row.get("archive"), str) and row["archive"]:
        row["archive"] += form.ending
    if isinstance(row.get("sha256"), str):
        row["sha256"] = row["sha256"].strip().lower()
    if isinstance(row.get("grows"), str):
        said = row["grows"].strip().lower()
        row["grows"] = True if said in _YES else False if said in _NO else row["grows"]
    return row


def _bytes(value: Any, unit: int) -> Any:
    """A number of units as bytes; whatever is no number as it is, for the record to refuse."""
    number = numeric(value)
    return value if number is None else math.ceil(number * unit)


def numeric(value: Any) -> int | float | None:
    """A number, or a text that is nothing else; None for anything else, endless ones too."""
    if isinstance(value, bool):
        return None
    if isinstance(value, str):
        text = value.strip()
        if re.fullmatch(r"\d{1,19}", text):
            return int(text)
        if not re.fullmatch(r"\d{1,19}\.\d{1,9}", text):
            return None
        value = float(text)
    if isinstance(value, int):
        return value
    return value if isinstance(value, float) and math.isfinite(value) else None


def _counted(value: Any) -> Any:
    number = numeric(value)
    return number if isinstance(number, int) else value


def _words(value: Any) -> Any:
    """A list of words; a text's words where blanks or commas part them."""
    if isinstance(value, str):
        return tuple(word for word in re.split(r"[,\s]+", value) if word)
    return tuple(value) if isinstance(value, list) and all(isinstance(each, str) for each in value) else value


def _no_other(
    top: Mapping[str, Any], parts: tuple[Mapping[str, Any], ...], keys: Mapping[str, str], text: str, name: str
) -> None:
    """Raise FormatError for a key that the form does not know."""
    known = {keys[field].partition(".")[0] for field in (*_TOP, "partitions")}
    inner = {keys[field].partition(".")[0] for field in _PART} | {"#"}
    strange = [key for key in top if key not in known] + [key for part in parts for key in part if key not in inner]
    if strange:
        raise _wrong(text, name, str(strange[0]), "no such key here", "one")


def _wrong(text: str, name: str, key: str, expected: str, got: Any) -> FormatError:
    """What is wrong at a key, with the offset of its last word that stands in the text."""
    words = [step for step in key.split(".") if not step.isdigit()]
    place = text.find(words[-1]) if words else 0
    offset = len(text[: max(0, place)].encode("utf-8", "surrogatepass"))
    return FormatError(name, offset, expected=expected, got=f"{key} = {str(got)[:40]!r}")


def _offset_told(words: str, text: str) -> int:
    """The byte at the line and column that tomllib names, the end of the text where it names none."""
    match = re.search(r"line (\d+), column (\d+)", words)
    lines = text.splitlines(keepends=True)
    if match is None or int(match[1]) > len(lines):
        return len(text.encode("utf-8", "surrogatepass"))
    row, column = int(match[1]) - 1, int(match[2]) - 1
    return len(("".join(lines[:row]) + lines[row][:column]).encode("utf-8", "surrogatepass"))
