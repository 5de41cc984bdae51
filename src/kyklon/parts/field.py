"""One fact of a part as it is typed: its unit, from where to where, and how what was typed becomes a record's value."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

from kyklon.base import units
from kyklon.base.quantities import NARROW_SPACE

Kind = Literal[
    "path",
    "numbers",
    "number",
    "whole",
    "text",
    "choice",
    "switch",
    "words",
    "pair",
    "size",
    "ranges",
    "gauge",
    "rate",
    "hex",
    "map",
]


@dataclass(frozen=True)
class PartField:
    """unit: that a bare number is in. scale: what one of it is in the record's own. low, high: None for no bound.
    choices: value and words. why: the reason it is asked. default: what is taken when nothing is typed, None where it
    must be answered; empty: an empty text is an answer."""

    name: str
    label: str
    kind: Kind = "text"
    unit: str = ""
    scale: float = 1.0
    low: float | None = None
    high: float | None = None
    choices: tuple[tuple[str, str], ...] = ()
    why: str = ""
    default: Any = None
    empty: bool = False
    hint: str = ""
    pattern: str = ""

    def parse(self, text: str) -> Any:
        """The record's value of what was typed. Raises ValueError in words."""
        text = text.strip()
        if not text:
            if self.default is not None:
                return self.default
            if self.empty:
                return _EMPTY[self.kind]
            raise ValueError(f"{self.label} is asked: {self.why}" if self.why else f"{self.label} is asked")
        return _PARSERS[self.kind](self, text)

    def number(self, text: str) -> float:
        """One number in the typed unit, between low and high. Raises ValueError in words."""
        try:
            value = units.measure(text, self.unit)
        except ValueError as bad:
            raise ValueError(f"{self.label}: {bad}") from None
        if (self.low is not None and value < self.low) or (self.high is not None and value > self.high):
            low = "" if self.low is None else f"from {units.words(self.low, self.unit)} "
            high = "" if self.high is None else f"to {units.words(self.high, self.unit)}"
            raise ValueError(f"{self.label} goes {low}{high}; {units.words(value, self.unit)} is outside")
        return value

    def words(self, value: Any) -> str:
        """A record's value as the screen says it."""
        if value is None or value in ("", (), {}):
            return "not known" if value is None else "none"
        if self.kind == "switch":
            return "yes" if value else "no"
        if self.kind == "hex":
            return f"{value:04x}"
        if self.kind in ("number", "whole", "gauge"):
            return units.words(value / self.scale, self.unit if self.kind != "gauge" else "AWG")
        if self.kind == "pair" or self.kind == "size":
            joint = " × " if self.kind == "size" else " to "
            if self.kind == "pair" and len(value) == 2 and value[0] == value[1]:
                value = value[:1]
            return joint.join(units.words(each / self.scale, "") for each in value) + (
                f"{NARROW_SPACE}{self.unit}" if self.unit else ""
            )
        if self.kind == "choice":
            return dict(self.choices).get(str(value), str(value))
        if self.kind == "ranges":
            return "; ".join(range_words(each) for each in value)
        if self.kind in ("words", "numbers"):
            return ", ".join(map(str, value))
        if self.kind == "map":
            return ", ".join(f"{word}={meaning}" for word, meaning in value.items())
        return f"{value}{NARROW_SPACE}{self.unit}" if self.unit else str(value)

    def typed(self, value: Any) -> str:
        """A record's value as somebody would type it, so that it reads back as the same."""
        if value is None:
            return ""
        if self.kind == "switch":
            return "yes" if value else "no"
        if self.kind in ("words", "numbers"):
            return ", ".join(map(str, value))
        if self.kind == "choice":
            return str(value)
        if self.kind in ("number", "whole"):
            return f"{value / self.scale:.12g}{NARROW_SPACE}{self.unit}".rstrip(NARROW_SPACE)
        return self.words(value) if value not in ("", (), {}) else ""


_EMPTY: Mapping[str, Any] = {
    **dict.fromkeys(("path", "text", "rate", "choice"), ""),
    **dict.fromkeys(("numbers", "words", "pair", "size", "ranges"), ()),
    "number": 0.0,
    "whole": 0,
    "hex": 0,
    "switch": False,
    "gauge": None,
    "map": {},
}


def _number(field: PartField, text: str) -> float:
    return field.number(text) * field.scale


def _whole(field: PartField, text: str) -> int:
    value = field.number(text) * field.scale
    if abs(value - round(value)) > 1e-6 * max(1.0, abs(value)):
        raise ValueError(f"{field.label} is a whole number of {field.unit or 'pieces'}, not {text}")
    return round(value)


def _hex(field: PartField, text: str) -> int:
    if not re.fullmatch(r"(0x)?[0-9a-fA-F]{1,4}", text):
        raise ValueError(f"{field.label} is a number of four hexadecimal digits, as 1d6b, not “{text[:20]}”")
    return int(text, 16)


def _text(field: PartField, text: str) -> str:
    if len(text) > 300:
        raise ValueError(f"{field.label} has at most 300 letters")
    if field.pattern and not re.fullmatch(field.pattern, text):
        raise ValueError(
            f"{field.label} cannot be “{text[:60]}”" + (f"; write it as {field.hint}" if field.hint else "")
        )
    return text


def _path(field: PartField, text: str) -> str:
    """A path on the root, with or without a slash before it; that of games with a folder for each system."""
    plain = _text(field, text).replace("\\", "/").strip("/")
    if ".." in plain.split("/"):
        raise ValueError(f"{field.label} cannot lead upwards; write it from the root of the card, as {field.hint}")
    return f"{plain}/{{folder}}" if "{folder}" in field.hint and "{folder}" not in plain else plain


def _choice(field: PartField, text: str) -> str:
    for value, words in field.choices:
        if text.lower() in (value.lower(), words.lower()):
            return value
    raise ValueError(f"{field.label} is one of: {', '.join(words for _value, words in field.choices)}")


def _switch(field: PartField, text: str) -> bool:
    known = {"yes": True, "on": True, "true": True, "no": False, "off": False, "false": False}
    if text.lower() not in known:
        raise ValueError(f"{field.label} is yes or no, not “{text[:20]}”")
    return known[text.lower()]


def _words(field: PartField, text: str) -> tuple[str, ...]:
    """Words with commas between them; blanks do where no word has one."""
    known = {value.lower(): value for value, _words in field.choices}
    by_comma = bool(re.search(r"[,;\n]", text)) or text.strip().lower() in known
    parts = re.split(r"[,;\n]+" if by_comma else r"\s+", text)
    found = tuple(part.strip() for part in parts if part.strip())
    if not known:
        return found
    for each in found:
        if each.lower() not in known:
            offered = ", ".join(sorted(known.values()))
            raise ValueError(f"{field.label}: “{each[:40]}” is not one of {offered}; separate them with commas")
    return tuple(known[each.lower()] for each in found)


def _map(field: PartField, text: str) -> dict[str, str]:
    """Words and what they mean: 'WORD=MEANING, WORD=MEANING'."""
    found = {}
    for part in re.split(r"[,;\n]+", text):
        word, joint, meaning = (piece.strip() for piece in part.partition("="))
        if not part.strip():
            continue
        if not joint or not word or not meaning:
            raise ValueError(f"{field.label}: “{part.strip()[:40]}” is not written as {field.hint or 'WORD=MEANING'}")
        known = {value.lower(): value for value, _words in field.choices}
        if known and meaning.lower() not in known:
            raise ValueError(f"{field.label}: “{meaning[:40]}” is not one of {', '.join(known.values())}")
        found[word] = known.get(meaning.lower(), meaning)
    return found


def _numbers(field: PartField, text: str) -> tuple[int, ...]:
    """Whole numbers with blanks or commas between them."""
    return tuple(_whole(field, word) for word in re.split(r"[,;\s]+", text.strip()) if word)


def _two(field: PartField, text: str, between: str, what: str) -> tuple[float, float]:
    plain = text.replace(NARROW_SPACE, " ")
    parts = re.split(between, plain)
    if len(parts) != 2 or not all(part.strip() for part in parts):
        raise ValueError(f"{field.label}: write two numbers, as {what}")
    second = parts[1].strip()
    tail = re.sub(r"^[\d.,\s+eE-]+", "", second)
    first = parts[0].strip()
    if tail and re.fullmatch(r"[\d.,\s]+", first):  # 15 to 16 kHz: the unit is for both
        first = f"{first} {tail}"
    return field.number(first), field.number(second)


def _pair(field: PartField, text: str) -> tuple[Any, Any]:
    if re.fullmatch(r"[\d.,\s\u202f]+[^\d\s]*", text):  # one number is both ends
        text = f"{text} to {text}"
    low, high = _two(field, text, r"\s*(?:–|\bto\b|\.\.|(?<=[\d\w])\s*-)\s*", "700 to 800")
    if low > high:
        raise ValueError(f"{field.label}: the lowest stands first")
    low, high = low * field.scale, high * field.scale
    return (round(low), round(high)) if field.name in _WHOLE_PAIRS else (low, high)


_WHOLE_PAIRS = ("processor_mhz", "signal_strength", "unattended_min")


def _size(field: PartField, text: str) -> tuple[int, int]:
    low, high = _two(field, text, r"\s*[x×X:]\s*", "640 × 480")
    if low != round(low) or high != round(high):
        raise ValueError(f"{field.label} are two whole numbers")
    return round(low), round(high)


_RATE = PartField("rate", "Refresh", "number", "Hz", low=1, high=1000)


def _rate(field: PartField, text: str) -> str:
    plain = text.replace(",", ".").replace(NARROW_SPACE, " ").strip()
    plain = re.sub(r"\s*[hH][zZ]$", "", plain)
    if re.fullmatch(r"\d{1,9}/\d{1,9}", plain) and int(plain.split("/")[1]):
        value = int(plain.split("/")[0]) / int(plain.split("/")[1])
        if 1 <= value <= 1000:
            return plain
    value = field.number(plain)
    if not re.fullmatch(r"\d{1,9}(\.\d{1,9})?", plain):
        plain = f"{value:.6f}".rstrip("0").rstrip(".")
    return plain


_KHZ = PartField("line", "Horizontal frequency", "number", "kHz", low=1, high=1000)
_HZ = PartField("field", "Refresh rate", "number", "Hz", low=1, high=1000)


def _ranges(field: PartField, text: str) -> tuple[dict[str, Any], ...]:
    """'15.2 to 16.5 kHz, 49 to 63 Hz; 31 to 32 kHz, 49 to 72 Hz'."""
    found = []
    for part in re.split(r"[;\n]+", text):
        if not part.strip():
            continue
        sides = re.split(r",\s+|\s+at\s+", part.strip())
        if len(sides) != 2:
            raise ValueError(f"{field.label}: write both rates, as 15.2 to 16.5 kHz, 49 to 63 Hz")
        found.append({"line_khz": list(_pair(_KHZ, sides[0])), "field_hz": list(_pair(_HZ, sides[1]))})
    return tuple(found)


def range_words(band: Any) -> str:
    """A range as it is typed and shown."""
    line, rate = (band["line_khz"], band["field_hz"]) if isinstance(band, Mapping) else (band.line_khz, band.field_hz)
    return f"{line[0]:g} to {line[1]:g}{NARROW_SPACE}kHz, {rate[0]:g} to {rate[1]:g}{NARROW_SPACE}Hz"


_PARSERS: Mapping[str, Any] = {
    "number": _number,
    "whole": _whole,
    "text": _text,
    "choice": _choice,
    "switch": _switch,
    "words": _words,
    "path": _path,
    "pair": _pair,
    "size": _size,
    "ranges": _ranges,
    "rate": _rate,
    "hex": _hex,
    "numbers": _numbers,
    "map": _map,
    "gauge": lambda field, text: round(field.number(text)),
}

# --- the fields, kind by kind --------------------------------------------------------------------------------------
