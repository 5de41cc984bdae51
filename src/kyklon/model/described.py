"""How a field of the build is described, beside the field itself."""

from __future__ import annotations

from typing import Any

from pydantic import Field


def described(
    label: str, default: Any = ..., *, unit: str = "", choices: tuple[tuple[Any, str], ...] = (), hint: str = "",
    **bounds: Any,
) -> Any:  # fmt: skip
    """A field with what model.fields tells of it. choices: value and words; hint: what may be written into an empty
    text, or what the least number stands for; bounds: as pydantic's Field takes them."""
    extra: dict[str, Any] = {"unit": unit, "choices": [list(each) for each in choices], "hint": hint}
    return Field(default, title=label, json_schema_extra=extra, **bounds)
