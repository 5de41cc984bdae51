"""Timings by the names people give them: 'cta 8', 'dmt 12h', 'cvt 640 480 60', 'gtf 800 600 72'."""

from __future__ import annotations

from kyklon.base.errors import WrongUse
from kyklon.catalogue.loader import standard_timings
from kyklon.model.timing import Timing
from kyklon.operations.picture.formulas import Blanking, cvt, gtf

BLANKINGS: tuple[Blanking, ...] = ("normal", "reduced1", "reduced2", "reduced3")
HINT = "Write it as: dmt 12h, cta 8, cvt 640 480 60, gtf 640 480 60"


def standard(table: str, text: str) -> Timing:
    """A row of 'dmt' or 'cta' by its number: decimal, 0x12 or 12h. Raises WrongUse."""
    try:
        number = int(text[:-1], 16) if text.lower().endswith("h") else int(text, 0)
    except ValueError as bad:
        raise WrongUse(f"{text!r} is not a number.", do=HINT) from bad
    row = standard_timings(table).get(number)
    if row is None:
        known = sorted(standard_timings(table))
        raise WrongUse(f"There is no {table.upper()} {text}.", do=f"They go from {known[0]} to {known[-1]}.")
    return row.timing


def parse_timing(text: str) -> Timing:
    """A timing from its name; after cvt and gtf may stand reduced1, reduced2, reduced3, interlaced. Raises WrongUse."""
    kind, *rest = text.lower().replace(",", " ").split() or [""]
    try:
        if kind in ("dmt", "cta") and len(rest) == 1:
            return standard(kind, rest[0])
        if kind in ("cvt", "gtf") and len(rest) >= 3:
            width, height, rate = int(rest[0]), int(rest[1]), float(rest[2])
            interlaced = "interlaced" in rest[3:]
            blanking: Blanking = next((each for each in BLANKINGS if each in rest[3:]), "normal")
            if kind == "gtf":
                return gtf(width, height, rate, interlaced=interlaced)
            return cvt(width, height, rate, blanking, interlaced=interlaced)
    except ValueError as bad:
        raise WrongUse(f"{text!r} is not a timing.", do=HINT) from bad
    raise WrongUse(f"{text!r} is not a timing.", do=HINT)


def standard_number(timing: Timing) -> str:
    """'cta 16' or 'dmt 0x52' for a timing that a standard lists, '' for another."""
    for table, form in (("cta", "{}"), ("dmt", "{:#04x}")):
        for number, row in standard_timings(table).items():
            if row.timing == timing:
                return f"{table} {form.format(number)}"
    return ""
