"""What a user decides for every build: kept in one small file, which may be written by hand."""

from __future__ import annotations

import re
import tomllib
from contextlib import suppress
from pathlib import Path

import platformdirs

from kyklon.base import durable
from kyklon.base.errors import WrongUse

MOST_SIGN = 6  # letters of a currency's sign, as CHF or Kčs
_MOST_FILE = 64 << 10  # bytes


def file() -> Path:
    return platformdirs.user_config_path("kyklon") / "preferences.toml"


def currency() -> str:
    """The sign of the user's currency, '' where nothing was said."""
    with suppress(OSError, ValueError):  # absent or damaged: nothing was said
        with file().open("rb") as opened:
            told = tomllib.loads(opened.read(_MOST_FILE).decode("utf-8")).get("currency", "")
        return told if isinstance(told, str) and _fits(told) else ""
    return ""


def keep_currency(sign: str) -> None:
    """Raises WrongUse for what is no sign, KyklonError where it cannot be kept."""
    sign = sign.strip()
    if not _fits(sign):
        raise WrongUse(f"{sign[:20]!r} is no currency's sign.", do="Write one such as €, £, kr or CHF.")
    file().parent.mkdir(parents=True, exist_ok=True)
    durable.keep(file(), f'currency = "{sign}"\n'.encode())


def _fits(sign: str) -> bool:
    return len(sign) <= MOST_SIGN and not re.search(r"[\\\"\d\x00-\x1f\x7f]", sign)
