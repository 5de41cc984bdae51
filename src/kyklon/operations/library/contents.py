"""A contents page to print and keep in the cabinet: every game that goes along, by system."""

from __future__ import annotations

from html import escape

from kyklon.base.shown import visible
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.library import Scan

_WIDE, _HIGH = 210.0, 297.0  # mm, A4 (ISO 216)
_MARGIN, _LINE, _HEAD = 14.0, 4.2, 9.0  # mm
_COLUMNS = 3
_LONGEST = 38  # letters of a title that fit a column


def titles_by_system(build: Build, catalogue: Catalogue, scan: Scan) -> list[tuple[str, list[str]]]:
    """Names of the systems, and the titles of each in order."""
    found = []
    for system in systems_of(build, catalogue):
        titles = sorted({visible(game.called) for game in scan.of(system.id) if game.ready}, key=str.casefold)
        if titles:
            found.append((system.name, titles))
    return found


def page_text(build: Build, catalogue: Catalogue, scan: Scan) -> str:
    """The page as plain text."""
    lines = [build.name, "=" * len(build.name), ""]
    for name, titles in titles_by_system(build, catalogue, scan):
        lines += [f"{name} ({len(titles)})", *(f"  {title}" for title in titles), ""]
    return "\n".join(lines) + "\n"


def page_svg(build: Build, catalogue: Catalogue, scan: Scan) -> str:
    """The pages, one below the other, as SVG in mm; three columns."""
    column_high = _HIGH - 2 * _MARGIN - 16
    wide = (_WIDE - 2 * _MARGIN) / _COLUMNS
    placed: list[tuple[int, float, str, bool]] = []  # column of all, y, text, heading
    column, y = 0, 0.0
    for name, titles in titles_by_system(build, catalogue, scan):
        if y + _HEAD + 2 * _LINE > column_high:
            column, y = column + 1, 0.0
        placed.append((column, y + 5, f"{name} · {len(titles)}", True))
        y += _HEAD
        for title in titles:
            if y + _LINE > column_high:
                column, y = column + 1, 0.0
            placed.append((column, y, title if len(title) <= _LONGEST else f"{title[: _LONGEST - 1]}…", False))
            y += _LINE
    pages = column // _COLUMNS + 1
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{_WIDE}mm" height="{_HIGH * pages}mm" '
        f'viewBox="0 0 {_WIDE} {_HIGH * pages}" font-family="sans-serif">',
        f'<rect width="{_WIDE}" height="{_HIGH * pages}" fill="#ffffff"/>',
    ]
    for page in range(pages):
        top = page * _HIGH + _MARGIN
        parts.append(
            f'<text x="{_MARGIN}" y="{top + 5:.1f}" font-size="5.5" font-weight="600">'
            f"{escape(visible(build.name))}</text>"
        )
        parts.append(
            f'<text x="{_WIDE - _MARGIN}" y="{top + 5:.1f}" font-size="3" text-anchor="end">'
            f"{page + 1} of {pages}</text>"
        )
    for place, at, text, heading in placed:
        x = _MARGIN + place % _COLUMNS * wide
        line = place // _COLUMNS * _HIGH + _MARGIN + 16 + at
        weight = ' font-weight="600"' if heading else ""
        parts.append(
            f'<text x="{x:.1f}" y="{line:.1f}" font-size="{3.6 if heading else 3}"{weight}>{escape(text)}</text>'
        )
    return "\n".join((*parts, "</svg>\n"))
