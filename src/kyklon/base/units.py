"""What somebody types into a field that has a unit: 900 mA, 15,7 kHz, 19 in, 24 AWG. Kept in the field's own unit.

Factors: the SI brochure (9th edition), NIST SP 811 (2008), appendix B.8 (inch, foot, mil, degree Fahrenheit), IEC
80000-13 (KiB and up). Gauges: ASTM B258, a diameter of 0.127 mm x 92^((36 - n)/39).
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping

from kyklon.base.quantities import NARROW_SPACE, group

# of each dimension: what may stand behind a number, and how many of its SI unit one is
_DIMENSIONS: Mapping[str, Mapping[str, float]] = {
    "length": {
        "m": 1.0,
        "µm": 1e-6,
        "um": 1e-6,
        "mm": 1e-3,
        "cm": 1e-2,
        "km": 1e3,
        "in": 0.0254,
        "inch": 0.0254,
        "inches": 0.0254,
        '"': 0.0254,
        "″": 0.0254,
        "ft": 0.3048,
        "foot": 0.3048,
        "feet": 0.3048,
        "'": 0.3048,
        "′": 0.3048,
        "mil": 2.54e-5,
        "thou": 2.54e-5,
    },
    "current": {"A": 1.0, "kA": 1e3, "mA": 1e-3, "µA": 1e-6, "uA": 1e-6},
    "voltage": {"V": 1.0, "mV": 1e-3, "kV": 1e3},
    "power": {"W": 1.0, "mW": 1e-3, "kW": 1e3},
    "frequency": {"Hz": 1.0, "kHz": 1e3, "MHz": 1e6, "GHz": 1e9},
    "time": {"s": 1.0, "ms": 1e-3, "µs": 1e-6, "us": 1e-6, "min": 60.0, "h": 3600.0},
    "bytes": {
        "B": 1.0,
        "kB": 1e3,
        "MB": 1e6,
        "GB": 1e9,
        "TB": 1e12,
        "KiB": 2.0**10,
        "MiB": 2.0**20,
        "GiB": 2.0**30,
        "TiB": 2.0**40,
    },
    "rate": {
        "B/s": 1.0,
        "kB/s": 1e3,
        "MB/s": 1e6,
        "GB/s": 1e9,
        "KiB/s": 2.0**10,
        "MiB/s": 2.0**20,
        "kbit/s": 125.0,
        "Mbit/s": 125e3,
        "Gbit/s": 125e6,
    },
    "share": {"%": 0.01},
    "thermal resistance": {"K/W": 1.0, "°C/W": 1.0, "C/W": 1.0},
    "resistance": {"Ω": 1.0, "ohm": 1.0, "kΩ": 1e3, "kohm": 1e3, "MΩ": 1e6},
    "pixels": {"px": 1.0, "pixels": 1.0},
    "gauge": {"AWG": 1.0},
}
_LONGEST = 64  # characters; the pattern would take long over a page of blanks
_NUMBER = re.compile(r"\s*([+-]?\d[\d\s\u202f\u00a0]*(?:[.,]\d+)?(?:[eE][+-]?\d{1,3})?)\s*(.*?)\s*$", re.DOTALL)
_SQUARE = ("mm²", "mm2", "mm^2", "sqmm")
_THICKEST, _THINNEST = 0, 40  # gauges that anybody wires with


def dimension_of(unit: str) -> str:
    """The dimension of a unit. Raises KeyError for one that nobody types here."""
    for name, units in _DIMENSIONS.items():
        if unit in units:
            return name
    raise KeyError(unit)


def measure(text: str, unit: str) -> float:
    """The value of what somebody typed, in `unit`; a bare number is in that unit already. '' as unit: a bare number.

    Raises ValueError in words, with what may be written.
    """
    match = _NUMBER.fullmatch(text) if len(text) <= _LONGEST else None
    if not unit:
        if not match or match[2]:
            raise ValueError(f"“{text.strip()[:_LONGEST]}” is not a number")
        return _value(match[1], text)
    if unit == "AWG":
        return _gauge(text)
    if not match:
        raise ValueError(
            f"“{text.strip()[:_LONGEST]}” is not a quantity; write a number and a unit, as 15{NARROW_SPACE}{unit}"
        )
    number = _value(match[1], text)
    if not match[2]:
        return number
    units = _DIMENSIONS[dimension_of(unit)]
    return number * _factor(match[2], unit, units) / units[unit]


def _value(digits: str, text: str) -> float:
    number = float(re.sub(r"[\s\u202f\u00a0]", "", digits).replace(",", "."))
    if not math.isfinite(number):
        raise ValueError(f"“{text.strip()[:_LONGEST]}” is too large a number")
    return number


def _factor(typed: str, unit: str, units: Mapping[str, float]) -> float:
    """How many SI units one of what was typed is; small and capital letters may be mixed where that is clear."""
    if typed in units:
        return units[typed]
    for base in (each for each, scale in units.items() if scale == 1.0):  # 15.7k for kHz
        if typed + base in units:
            return units[typed + base]
    likely = {units[each] for each in units if each.lower() == typed.lower()}
    if len(likely) == 1:
        return likely.pop()
    offered = ", ".join(dict.fromkeys(each for each in units if each.isascii() or each == unit))
    raise ValueError(f"“{typed[:20]}” is no unit of {dimension_of(unit)}; write one of {offered}")


def _gauge(text: str) -> float:
    """A gauge as '24 AWG', 'AWG 24', '24', or the section it has: '0.2 mm²'."""
    plain = text.strip().replace(NARROW_SPACE, " ")
    for square in _SQUARE:
        if plain.lower().endswith(square):
            area = measure(plain[: -len(square)], "")
            if not area > 0:
                raise ValueError(f"“{plain[:_LONGEST]}” is no section of a wire")
            return gauge_of(area)
    plain = re.sub(r"(?i)\bawg\b", " ", plain).strip()
    try:
        number = measure(plain, "")
    except ValueError:
        raise ValueError(f"“{text.strip()[:_LONGEST]}” is no gauge; write 24 AWG, or the section as 0.2 mm²") from None
    if number != round(number) or not _THICKEST <= number <= _THINNEST:
        raise ValueError(f"gauges go from {_THICKEST} to {_THINNEST} AWG in whole numbers")
    return number


def gauge_of(area_mm2: float) -> int:
    """The gauge whose section is nearest to that many mm² (ASTM B258)."""
    diameter = math.sqrt(4 * area_mm2 / math.pi)
    return min(_THINNEST, max(_THICKEST, round(36 - 39 * math.log(diameter / 0.127, 92))))


def words(value: float, unit: str, decimals: int = 0) -> str:
    """A value in its field's unit as the screen shows it: no more decimals than it has."""
    text = f"{value:.{max(decimals, 0)}f}" if decimals else f"{value:.6g}"
    if "." in text:
        text = text.rstrip("0").rstrip(".")
    if value == round(value) and abs(value) >= 10_000:
        text = group(round(value))
    return f"{text}{NARROW_SPACE}{unit}" if unit else text


def show_size(count: float) -> str:
    """Bytes as a card's print gives them: 32 GB, exactly where it is exact."""
    for unit in ("TB", "GB", "MB", "kB"):
        scale = _DIMENSIONS["bytes"][unit]
        if count >= scale:
            return words(count / scale, unit)
    return words(count, "B")
