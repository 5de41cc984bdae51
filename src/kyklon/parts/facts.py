"""The facts of a part as the shelf shows them: what, and where each comes from."""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.base.errors import CatalogueError
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import CataloguePart, Known
from kyklon.model.record import Record
from kyklon.parts.draft import AGREED
from kyklon.parts.fields import field_of, fields_of, label_of, one, value_words

_LAST = (
    "ports",
    "terminals",
    "kernels",
    "inputs",
    "controls",
    "modes",
    "files",
    "system_files",
    "colour",
    "note",
    "price",
)


@dataclass(frozen=True)
class Fact:
    """name: of the field. origin: shipped, read, measured or typed, with day and source."""

    name: str
    label: str
    words: str
    how: str
    origin: str


def facts_of(kind: str, part_id: str, catalogue: Catalogue) -> tuple[Fact, ...]:
    """Every fact that says something, in the order in which it is asked. Raises CatalogueError for a part that is not
    there."""
    part = catalogue.parts.get(kind, {}).get(part_id)
    if part is None:
        raise CatalogueError(f"There is no {one(kind)} {part_id!r}.", do="`kyklon part list` names them.")
    return facts(part, kind, own=(kind, part_id) in catalogue.own)


def facts(part: CataloguePart, kind: str, *, own: bool) -> tuple[Fact, ...]:
    """The same for a part at hand. own: it is the user's."""
    names = [name for name in type(part).model_fields if name not in ("id", "known")]
    order = [field.name for field in fields_of(kind)]
    names.sort(key=lambda name: (name != "name", name in _LAST, order.index(name) if name in order else 99))
    found = []
    for name in names:
        value = getattr(part, name)
        default = type(part).model_fields[name].default
        if value in ("", (), None, 0.0) and value == default and name not in part.known:
            continue
        found.append(_fact(part, kind, name, own=own))
    return tuple(found)


def _fact(part: CataloguePart, kind: str, name: str, *, own: bool) -> Fact:
    how, origin = "shipped", "ships with Kyklon"
    known = part.known.get(name) or next(
        (each for key, each in part.known.items() if key.partition(".")[0] == name), None
    )
    if known is not None:
        how, origin = known.how, _origin(known)
    elif own:
        how, origin = "typed", "typed"
    value = getattr(part, name)
    words = value_words(kind, name, value)
    if name == "lamps" and isinstance(value, Record):
        words = "; ".join(f"{key.replace('_', ' ')} {each}" for key, each in value.model_dump().items())
    field = field_of(kind, name)
    return Fact(name, field.label if field else label_of(kind, name), words, how, origin)


def _origin(known: Known) -> str:
    """Where a fact comes from, in words."""
    if known.how == "typed" and known.by == AGREED:
        return f"suggested, agreed {known.at}"
    link = "from" if known.how in ("read", "copied") else "by"
    return " ".join(filter(None, (known.how, known.at, f"{link} {known.by}" if known.by else "")))
