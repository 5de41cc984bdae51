"""What a field of the build is called, in which unit, from where to where, and what may be chosen.

Written once beside the field itself (model.described); pages, commands and the catalogue's loader ask here.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Annotated, Any, Literal, get_args, get_origin

from annotated_types import Ge, Le
from pydantic.fields import FieldInfo

from kyklon.model.record import Record

Kind = Literal["switch", "choice", "number", "text", "words", "other"]


@dataclass(frozen=True)
class Field:
    """path: dotted names from the build. choices: value and words; of a number they are what is offered, not all that
    is allowed. low, high: None where there is no bound. decimals: shown of a number. hint: what an empty text
    may hold, or what the least number stands for."""

    path: str
    label: str
    kind: Kind
    unit: str = ""
    low: float | None = None
    high: float | None = None
    choices: tuple[tuple[str, str], ...] = ()
    decimals: int = 0
    hint: str = ""
    secret: bool = False

    def words(self, value: Any) -> str:
        """A value as the screen says it."""
        if self.secret:
            return "kept as its key" if value else ""
        if isinstance(value, bool):
            return "on" if value else "off"
        if isinstance(value, (tuple, list)):
            return " ".join(map(str, value))
        return dict(self.choices).get(str(value), f"{value}" + (f" {self.unit}" if self.unit else ""))

    def parse(self, text: str) -> Any:
        """The value that somebody typed. Raises ValueError that says what is allowed."""
        text = text.strip()
        if self.kind == "switch":
            if text.lower() not in _SWITCH:
                raise ValueError(f"{self.label} is on or off, not {text!r}")
            return _SWITCH[text.lower()]
        if self.kind == "number":
            number = _number(text.removesuffix(self.unit).strip(), self)
            if (self.low is not None and number < self.low) or (self.high is not None and number > self.high):
                raise ValueError(f"{self.label} goes from {self.low:g} to {self.high:g} {self.unit}".rstrip())
            return number
        if self.kind == "choice":
            for value, words in self.choices:
                if text.lower() in (value.lower(), words.lower()):
                    return value
            raise ValueError(f"{self.label} is one of: {', '.join(value for value, _words in self.choices)}")
        return text.split() if self.kind == "words" else text


_SWITCH = {"on": True, "yes": True, "true": True, "off": False, "no": False, "false": False}


def _number(text: str, field: Field) -> float:
    try:
        return float(text) if field.decimals else int(text)
    except ValueError:
        raise ValueError(f"{field.label} is a number, not {text!r}") from None


def describe(model: type[Record], path: str) -> Field:
    """The field at a dotted path. Raises KeyError for a path that is none or that nobody has described."""
    names = path.split(".")
    place: type[Record] = model
    for name in names[:-1]:
        inner = place.model_fields[name].annotation
        if not (isinstance(inner, type) and issubclass(inner, Record)):
            raise KeyError(path)
        place = inner
    info = place.model_fields[names[-1]]
    if info.title is None:
        raise KeyError(path)
    return _field(path, info)


@cache
def described_fields(model: type[Record]) -> tuple[Field, ...]:
    """Every described field, in the order of the records."""
    return tuple(_walk(model, ""))


def _walk(model: type[Record], before: str) -> list[Field]:
    found: list[Field] = []
    for name, info in model.model_fields.items():
        path = f"{before}{name}"
        if info.title is not None:
            found.append(_field(path, info))
        elif isinstance(info.annotation, type) and issubclass(info.annotation, Record):
            found += _walk(info.annotation, f"{path}.")
    return found


def _plain(kind: Any) -> Any:
    """A type without what is said beside it."""
    return get_args(kind)[0] if get_origin(kind) is Annotated else kind


def _field(path: str, info: FieldInfo) -> Field:
    extra: dict[str, Any] = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
    low = next((float(each.ge) for each in info.metadata if isinstance(each, Ge)), None)  # type: ignore[arg-type] # numbers only
    high = next((float(each.le) for each in info.metadata if isinstance(each, Le)), None)  # type: ignore[arg-type] # numbers only
    choices = tuple((str(value), str(words)) for value, words in extra.get("choices", ()))
    kind: Kind = "text"
    if info.annotation is bool:
        kind = "switch"
    elif get_origin(info.annotation) is Literal:
        kind = "choice"
        choices = choices or tuple((str(arg), str(arg)) for arg in get_args(info.annotation))
    elif info.annotation in (int, float):
        kind = "number"
    elif get_origin(info.annotation) is tuple and _plain(get_args(info.annotation)[0]) is str:
        kind = "words"
    elif info.annotation is not str:
        kind = "other"
    decimals = 1 if info.annotation is float else 0
    unit, hint = str(extra.get("unit", "")), str(extra.get("hint", ""))
    return Field(path, str(info.title), kind, unit, low, high, choices, decimals, hint, bool(extra.get("secret")))
