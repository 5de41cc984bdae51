"""A part on its way to the shelf: what was read of it, what was measured, and what is still asked."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from kyklon.base.errors import CatalogueError
from kyklon.catalogue import loader
from kyklon.catalogue.records import AGREED, CataloguePart, Known
from kyklon.parts.field import PartField
from kyklon.parts.fields import field_of, fields_of, one
from kyklon.parts.shaping import shaped
from kyklon.parts.store import id_of, today, without_none

__all__ = ["AGREED", "Draft"]

Values = Mapping[str, Any]


@dataclass(frozen=True)
class Draft:
    """row: values by field, as the record has them. known: where each comes from. suggested: what is offered for a
    field that has no value yet, with why in because. asked: fields that are put to the user, in order. told: what is
    worth knowing of the source, what is broken with its offset. about: further facts for the screen that no field
    keeps. choices: by field, what the shelf offers for it."""

    kind: str
    row: Values = field(default_factory=dict)
    known: Mapping[str, Known] = field(default_factory=dict)
    suggested: Values = field(default_factory=dict)
    because: Mapping[str, str] = field(default_factory=dict)
    asked: tuple[str, ...] = ()
    told: tuple[str, ...] = ()
    about: tuple[tuple[str, str], ...] = ()
    choices: Mapping[str, tuple[tuple[str, str], ...]] = field(default_factory=dict)

    def with_read(self, by: str, **values: Any) -> Draft:
        """With facts that were read from something."""
        return self._with("read", by, values)

    def with_measured(self, by: str, **values: Any) -> Draft:
        return self._with("measured", by, values)

    def _with(self, how: Any, by: str, values: Values) -> Draft:
        fresh = {name: Known(how=how, at=today(), by=by[:200]) for name in values}
        return replace(self, row={**self.row, **values}, known={**self.known, **fresh})

    def answered(self, name: str, text: str) -> Draft:
        """With what somebody typed into a field. Raises ValueError in words; the draft stays as it is then."""
        if name == "name":
            if not text.strip() or len(text.strip()) > 120:
                raise ValueError("A name has 1 to 120 letters")
            return self.with_value("name", text.strip())
        asked = field_of(self.kind, name)
        if asked is None:
            raise ValueError(f"A {one(self.kind)} has no {name}")
        value = asked.parse(text)
        if name in self.row and asked.typed(self.row[name]) == text.strip():  # it was read, and is left so
            return self
        return self.with_value(name, value)

    def with_value(self, name: str, value: Any) -> Draft:
        """With a value that the user gave."""
        return self._with("typed", "", {name: value})

    def without(self, name: str) -> Draft:
        row = {key: each for key, each in self.row.items() if key != name}
        return replace(self, row=row, known={key: each for key, each in self.known.items() if key != name})

    def tell(self, *words: str) -> Draft:
        return replace(self, told=(*self.told, *words))

    def offer(self, because: str = "", **values: Any) -> Draft:
        """With suggestions, which the user confirms or changes."""
        why = dict.fromkeys(values, because) if because else {}
        return replace(self, suggested={**self.suggested, **values}, because={**self.because, **why})

    def missing(self) -> tuple[PartField, ...]:
        """The fields that must be answered yet."""
        return tuple(
            field
            for field in fields_of(self.kind)
            if field.name in self.asked and field.name not in self.row and field.default is None and not field.empty
        )

    def agreed(self) -> Draft:
        """With every suggestion taken as it is, and the defaults of what was asked."""
        made = self
        for asked in fields_of(self.kind):
            if asked.name in made.row:
                continue
            if asked.name in made.suggested:
                made = made._with("typed", AGREED, {asked.name: made.suggested[asked.name]})
            elif asked.name in made.asked and asked.default is not None:
                made = made._with("typed", AGREED, {asked.name: asked.default})
        for name, value in self.suggested.items():  # sockets and other lists that are drawn
            made = made._with("typed", AGREED, {name: value}) if name not in made.row else made
        return made

    def as_row(self, name: str = "", part_id: str = "") -> dict[str, Any]:
        """The values as a catalogue file holds them."""
        called = (name or str(self.row.get("name", ""))).strip() or one(self.kind).capitalize()
        row: dict[str, Any] = {"id": part_id or id_of(called), "name": called}
        for key, value in self.row.items():
            if key == "name":
                continue
            inner, _, last = key.rpartition(".")
            if inner:
                row.setdefault(inner, {})[last] = value
            else:
                row[key] = value
        if self.known:
            row["known"] = {key: each.model_dump(exclude_defaults=True) for key, each in self.known.items()}
        return dict(without_none(shaped(self.kind, row)))

    def part(self, name: str = "", part_id: str = "") -> CataloguePart:
        """The part that this comes to. Raises CatalogueError that says which fact is missing or wrong."""
        lacking = self.missing()
        if lacking:
            raise CatalogueError(
                f"{lacking[0].label} is not answered yet.",
                do=f"It is asked because {lacking[0].why}." if lacking[0].why else "",
            )
        try:
            row = self.as_row(name, part_id)
        except ValueError as bad:
            raise CatalogueError(f"{bad}.") from bad
        return loader.part_of(self.kind, row, f"the new {one(self.kind)}")
