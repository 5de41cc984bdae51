"""How a field of the build is described, beside the field itself."""

from __future__ import annotations

from typing import Any

from pydantic import Field


def described(
    label: str,
    default: Any = ...,
    *,
    unit: str = "",
    choices: tuple[tuple[Any, str], ...] = (),
    hint: str = "",
    secret: bool = False,
    **bounds: Any,
) -> Any:
    """A field with what model.fields tells of it. choices: value and words; hint: what may be written into an empty
    text, or what the least number stands for; secret: not to be shown; bounds: as pydantic's Field takes them."""
    extra: dict[str, Any] = {"unit": unit, "choices": [list(choice) for choice in choices], "hint": hint}
    extra |= {"secret": True} if secret else {}
    return Field(default, title=label, json_schema_extra=extra, **bounds)
