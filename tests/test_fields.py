"""Fields of the build: described once, typed nowhere else; what a person types is read or refused in words."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kyklon.model.build import Build, edited
from kyklon.model.fields import Field, describe, described_fields
from support import Demo

FIELDS = described_fields(Build)


def value_of(build: Build, path: str) -> Any:
    value: Any = build
    for name in path.split("."):
        value = getattr(value, name)
    return value


def test_every_field_has_a_name_of_its_own_and_is_found_by_its_path() -> None:
    assert len({field.label for field in FIELDS}) == len(FIELDS)
    for field in FIELDS:
        assert describe(Build, field.path) == field
        assert field.label[0].isupper()
    for path in ("boot", "boot.nothing", "name.further"):
        with pytest.raises(KeyError):
            describe(Build, path)


@pytest.mark.parametrize("field", [field for field in FIELDS if field.kind != "other"], ids=lambda field: field.path)
def test_what_is_shown_can_be_typed_again(field: Field, demo: Demo) -> None:
    value = value_of(demo.build, field.path)
    typed = field.parse(field.words(value))
    assert edited(demo.build, field.path, typed) == demo.build


@pytest.mark.parametrize("field", [field for field in FIELDS if field.kind == "choice"], ids=lambda field: field.path)
def test_every_choice_is_allowed_and_others_are_not(field: Field, demo: Demo) -> None:
    for value, words in field.choices:
        assert field.parse(words) == field.parse(value.upper()) == value
        assert value_of(edited(demo.build, field.path, value), field.path) == value
    with pytest.raises(ValueError, match="is one of"):
        field.parse("anything else")


@given(st.sampled_from([field for field in FIELDS if field.kind == "number"]), st.text(max_size=8))
def test_a_number_is_read_or_refused_with_its_name(field: Field, text: str) -> None:
    try:
        number = field.parse(text)
    except ValueError as bad:
        assert field.label in str(bad)
    else:
        assert field.low is None or not number < field.low
        assert field.high is None or not number > field.high
