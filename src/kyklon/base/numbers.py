"""Numbers that stand in texts which anybody may have written."""

from __future__ import annotations

MOST_DIGITS = 18  # below 2^63; Python itself raises ValueError beyond 4300 digits


def whole(text: str) -> int | None:
    """A number of decimal digits; None for anything else, and for one that is longer than any that is meant."""
    return int(text) if text.isascii() and text.isdecimal() and len(text) <= MOST_DIGITS else None
