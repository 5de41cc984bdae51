"""One formatter for every quantity on the screen. SI inside, thin spaces outside. base.units reads what is typed."""

from __future__ import annotations

import locale
import math
from contextlib import suppress
from functools import cache

from kyklon.base import preferences

NARROW_SPACE = "\u202f"  # between groups of digits and before a unit (ISO 80000-1, 7.3.1 and 7.1.4)

_PREFIXES = {"": 1.0, "k": 1e3, "M": 1e6, "G": 1e9, "T": 1e12, "m": 1e-3, "µ": 1e-6, "n": 1e-9}


def group(number: int) -> str:
    """An integer with thin spaces between groups of three digits, from five digits on.

    >>> group(1920).replace(NARROW_SPACE, ' '), group(65536).replace(NARROW_SPACE, ' ')
    ('1920', '65 536')
    """
    return f"{number:,}".replace(",", NARROW_SPACE) if abs(number) >= 10_000 else str(number)


def counted(number: int, one: str, many: str = "") -> str:
    """How many of something. one: its name, singular; many: its plural where that is not the name and an s.

    >>> counted(0, 'save'), counted(1, 'save'), counted(2, 'entry', 'entries')
    ('0 saves', '1 save', '2 entries')
    """
    return f"{group(number)} {one if number == 1 else many or f'{one}s'}"


def show(value: float, unit: str, digits: int = 2, *, prefix: str | None = None) -> str:
    """A value in SI units as text with `digits` decimals and a thin space before the unit.

    prefix: force one of k M G T m µ n, or "" for none; by default one is chosen so that the figure is
    between 1 and 1000.
    """
    if not math.isfinite(value):
        return f"unknown{NARROW_SPACE}{unit}"
    if prefix is None:
        prefix = _choose_prefix(abs(value))
    return f"{value / _PREFIXES[prefix]:.{digits}f}{NARROW_SPACE}{prefix}{unit}"


def signed(value: float, digits: int = 1) -> str:
    """A difference with its sign; what rounds to nothing is 0 without one."""
    rounded = round(value, digits)
    return f"{rounded:+.{digits}f}" if rounded else f"{0:.{digits}f}"


def _choose_prefix(size: float) -> str:
    if size == 0:
        return ""
    for prefix in ("T", "G", "M", "k", "", "m", "µ"):
        if size >= _PREFIXES[prefix]:
            return prefix
    return "n"


@cache
def currency() -> str:
    """The sign of the user's currency: of the preferences, else as the desktop's locale has it (localeconv(3)); a
    euro's where it has none."""
    if own := preferences.currency():
        return own
    with suppress(locale.Error):
        locale.setlocale(locale.LC_MONETARY, "")
    return locale.localeconv()["currency_symbol"] or "€"


def show_money(value: float, digits: int = 0) -> str:
    """A price in the user's currency. The catalogue's are rough figures without one."""
    return f"{value:.{digits}f}{NARROW_SPACE}{currency()}"


def show_bytes(count: float) -> str:
    """Bytes in makers' decimal units (1 GB = 10^9 bytes), three figures."""
    if count < 1000:
        return f"{int(count)}{NARROW_SPACE}B"
    prefix = "k" if count < 1e6 else _choose_prefix(count)
    scaled = count / _PREFIXES[prefix]
    digits = 0 if scaled >= 100 else 1 if scaled >= 10 else 2
    return f"{scaled:.{digits}f}{NARROW_SPACE}{prefix}B"


def show_minutes(minutes: float) -> str:
    """A duration as people say it: 12 s, 3 min, 1 h 20 min."""
    if minutes < 0.995:
        return f"{max(1, round(minutes * 60))}{NARROW_SPACE}s"
    whole = round(minutes)
    if whole < 60:
        return f"{whole}{NARROW_SPACE}min"
    return f"{whole // 60}{NARROW_SPACE}h" + (f" {whole % 60}{NARROW_SPACE}min" if whole % 60 else "")


def show_probability(chance: float) -> str:
    """A probability in per cent; nothing is said to be certain or impossible."""
    if chance < 0.01:
        return f"under 1{NARROW_SPACE}%"
    return f"over 99{NARROW_SPACE}%" if chance > 0.995 else f"{chance * 100:.0f}{NARROW_SPACE}%"


def show_share(share: float, digits: int = 0) -> str:
    """A share of a whole in per cent, as 13 %; digits: behind the point. Never −0."""
    text = f"{share * 100:.{digits}f}"
    return f"{text.removeprefix('-') if not float(text) else text}{NARROW_SPACE}%"


def show_duration(seconds: float) -> str:
    """A duration in the two largest units that matter: 8 s, 1 min 52 s, 2 h 05 min."""
    if not math.isfinite(seconds):
        return "unknown"
    if seconds < 10:
        return f"{seconds:.1f}{NARROW_SPACE}s"
    whole = round(seconds)
    if whole < 60:
        return f"{whole}{NARROW_SPACE}s"
    if whole < 3600:
        return f"{whole // 60}{NARROW_SPACE}min" + (f" {whole % 60:02d}{NARROW_SPACE}s" if whole % 60 else "")
    return f"{whole // 3600}{NARROW_SPACE}h {whole % 3600 // 60:02d}{NARROW_SPACE}min"
