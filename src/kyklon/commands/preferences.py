"""What a user decides for every build, without a window."""

from __future__ import annotations

from typing import Annotated

from kyklon.base import preferences as kept
from kyklon.base.places import cache_folder, catalogue_folder, data_folder
from kyklon.base.quantities import currency
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, Json, out


def preferences(
    sign: Annotated[str | None, Option("--currency", help="Its sign, as €, £ or kr; '' for the desktop's.")] = None,
    as_json: Json = False,
) -> int:
    """Show or set what holds for every build: the currency, and where your things are."""
    if sign is not None:
        kept.keep_currency(sign)
        currency.cache_clear()
    data = {
        "currency": currency(),
        "parts": str(catalogue_folder()),
        "data": str(data_folder()),
        "cache": str(cache_folder()),
        "file": str(kept.file()),
    }
    labels = {
        "currency": "Currency",
        "parts": "Your parts",
        "data": "Demos, shelf, log",
        "cache": "Cache",
        "file": "File",
    }
    out(data, as_json, lambda: [f"{label:20} {data[key]}" for key, label in labels.items()])
    return OK
