"""Forecasts against what machines really did, and how often they were right on this bench."""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt

from kyklon.record.logbook import OUTCOME, Entry, Logbook, Noted

QUANTITY = "Forecast right"  # 1 or 0, so that it can be plotted
_Z = 1.96  # standard deviations of a 95 % interval of the normal distribution


@dataclass(frozen=True)
class Score:
    """right of count; low, high: of the share, 0 to 1, a 95 % interval by Wilson (1927); 0 to 1 where nothing is
    known."""

    right: int
    count: int
    low: float = 0.0
    high: float = 1.0

    @property
    def words(self) -> str:
        if not self.count:
            return "No power-on was noted yet."
        often = f"{self.low * 100:.0f}\u202f% and {self.high * 100:.0f}\u202f%"
        return f"The forecast was right in {self.right} of {self.count}: a share between {often} (95 % confidence)."


def score(right: int, count: int) -> Score:
    """Raises ValueError for more right than there are."""
    if not 0 <= right <= count:
        raise ValueError("more right than there are")
    if not count:
        return Score(0, 0)
    share, z2 = right / count, _Z * _Z
    middle = (share + z2 / (2 * count)) / (1 + z2 / count)
    half = _Z / (1 + z2 / count) * sqrt(share * (1 - share) / count + z2 / (4 * count * count))
    return Score(right, count, max(0.0, middle - half), min(1.0, middle + half))


def note(book: Logbook, foretold: str, reached: str, *, right: bool, detail: str = "") -> Entry:
    """Note a real power-on. foretold, reached: stages, as the bring-up calls them."""
    told = f"Power-on reached {reached or 'nothing'}"
    title = f"{told}, as forecast" if right else f"{told}; the forecast was {foretold or 'nothing'}"
    return book.add(90, title, detail, kind=OUTCOME, noted=Noted(quantity=QUANTITY, value=float(right)))


def score_of(book: Logbook) -> Score:
    """Of a logbook. Raises BuildFolderError."""
    rows = book.measured().get(QUANTITY, ())
    return score(sum(value >= 0.5 for _at, value, _unit in rows), len(rows))
