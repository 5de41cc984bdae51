"""Tables as CSV, for a spreadsheet (RFC 4180): no cell is taken for a formula."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence

from kyklon.base.shown import visible

_FORMULA = ("=", "+", "-", "@", "\t")  # what common spreadsheets begin a formula with


def csv_of(rows: Iterable[Sequence[object]]) -> str:
    """Rows as CSV. A text that begins like a formula gets an apostrophe before it; numbers stay numbers."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    for row in rows:
        table.writerow([_cell(value) for value in row])
    return out.getvalue()


def _cell(value: object) -> object:
    if isinstance(value, str):
        value = visible(value, lines=True)
    if not isinstance(value, str) or not value.lstrip(" ").startswith(_FORMULA):
        return value
    try:
        float(value)
    except ValueError:
        return f"'{value}"
    return value
