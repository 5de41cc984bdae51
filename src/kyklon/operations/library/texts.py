"""Descriptions and rights of games: a table out, edited in any program, and in again."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path, PurePosixPath

from kyklon.base import reading
from kyklon.base.errors import FormatError, KyklonError
from kyklon.model.library import TEXTS, Game, GameText
from kyklon.operations.library.lists import not_too_wide
from kyklon.record.answers import key_of

COLUMNS = ("file", "title", *TEXTS)


def key_of_game(game: Game) -> str:
    """What the game's texts and title are kept by."""
    return key_of(game.system, PurePosixPath(game.key).name, game.size)


def table(games: Iterable[Game]) -> str:
    """CSV (RFC 4180) of all games with what is told of each."""
    file = io.StringIO()
    rows = csv.writer(file)
    rows.writerow(COLUMNS)
    for game in games:
        name = game.key.encode("utf-8", "backslashreplace").decode()
        rows.writerow([name, game.called, *(getattr(game.text, each) for each in TEXTS)])
    return file.getvalue()


def read(path: Path, games: Iterable[Game]) -> tuple[dict[str, GameText], list[str]]:
    """What a table says anew of games, by key, and the names in it that no game has. A game is told by its file, or by
    its title where only one has it; a column that is not there changes nothing. Raises FormatError, KyklonError."""
    by_name: dict[str, list[Game]] = {}
    for game in games:
        names = {game.key.encode("utf-8", "backslashreplace").decode(), PurePosixPath(game.key).name, game.called}
        for name in names:
            by_name.setdefault(name.casefold(), []).append(game)
    found: dict[str, GameText] = {}
    unknown: list[str] = []
    try:
        with io.TextIOWrapper(reading.opened(path), encoding="utf-8-sig", errors="replace", newline="") as file:
            rows = csv.reader(file)
            heads = [head.strip().casefold() for head in next(rows, [])]
            not_too_wide(heads, path.name)
            told = [name for name in TEXTS if name in heads]
            if not told or not {"file", "title"} & set(heads):
                raise FormatError(
                    path.name,
                    0,
                    expected=f"a column file or title, and some of {', '.join(TEXTS)}",
                    got=", ".join(heads[:12]) or "no row",
                    do="Export the table first, and edit that.",
                )
            for cells in rows:
                row = dict(zip(heads, cells, strict=False))
                meant = _meant(by_name, row)
                if meant is None:
                    unknown.append(row.get("file") or row.get("title") or "a row without a name")
                    continue
                key = key_of_game(meant)
                values = {name: row[name].strip() for name in told if name in row}
                text = replace(found.get(key, meant.text), **values)
                if text != meant.text:
                    found[key] = text
    except OSError as bad:
        raise KyklonError(f"{path} cannot be read: {bad.strerror}.", do="Choose it again.") from bad
    except csv.Error as bad:
        raise FormatError(path.name, 0, expected="rows of CSV", got=str(bad)) from bad
    return found, unknown


def _meant(by_name: dict[str, list[Game]], row: dict[str, str]) -> Game | None:
    for column in ("file", "title"):
        games = by_name.get(row.get(column, "").strip().casefold(), [])
        if len(games) == 1:
            return games[0]
    return None
