"""What somebody types beside an entry: a measured value, money, time."""

from __future__ import annotations

import re
from collections.abc import Iterable
from math import isfinite

from kyklon.base.errors import WrongUse
from kyklon.record.logbook import NOTHING, Noted

_VALUE = re.compile(r"^(.+)=\s*([+-]?\d+(?:[.,]\d+)?(?:[eE][+-]?\d{1,3})?)\s*(\S{0,12})$")
_MOST_COST, _MOST_MINUTES = 1e9, 1e7


def noted_of(measured: str = "", spent: Iterable[str] = ()) -> Noted:
    """measured: as '5 V rail=4.71 V'. spent: each 12.50, 40min or 1.5h. Raises WrongUse."""
    quantity, value, unit = "", 0.0, ""
    if measured.strip():
        match = _VALUE.match(measured.strip())
        if match is None:
            raise WrongUse(f"{measured!r} is no measured value.", do="Write it as '5 V rail=4.71 V'.")
        quantity, value, unit = match[1].strip(), float(match[2].replace(",", ".")), match[3]
        if not isfinite(value):
            raise WrongUse(f"{match[2]} is too large to be measured.", do="Write it as '5 V rail=4.71 V'.")
    cost = minutes = 0.0
    for text in spent:
        plain = text.strip().lower().replace(",", ".")
        try:
            if plain.endswith("min"):
                minutes += float(plain.removesuffix("min"))
            elif plain.endswith("h"):
                minutes += 60 * float(plain.removesuffix("h"))
            elif plain:
                cost += float(plain)
        except ValueError:
            raise WrongUse(f"{text!r} is neither money nor time.", do="Write 12.50, 40min or 1.5h.") from None
    if not (0 <= cost < _MOST_COST and 0 <= minutes < _MOST_MINUTES):
        raise WrongUse("Money and time are from 0 up.", do="Write 12.50, 40min or 1.5h.")
    return Noted(quantity, value, unit, cost, minutes) if quantity or cost or minutes else NOTHING
