"""Descriptions of games, and by what right they are there."""

from __future__ import annotations

from dataclasses import asdict, replace
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, Annotated

from kyklon.base import durable
from kyklon.base.errors import WrongUse
from kyklon.base.quantities import counted
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, Folder, Json, open_folder, out, watching
from kyklon.model.library import TEXTS, GameText
from kyklon.record.folder import resolve

if TYPE_CHECKING:
    from kyklon.model.library import Game


def texts(
    folder: Folder,
    say: Annotated[
        list[str] | None, Option("--say", help="File, field and text, e.g. 'name.al8:year=1991'; saved; repeatable.")
    ] = None,
    read: Annotated[Path | None, Option("--import", help="A CSV of file or title and the fields; saved.")] = None,
    write: Annotated[Path | None, Option("--export", help="Write a CSV of all games to edit.")] = None,
    as_json: Json = False,
) -> int:
    """List what is told of each game: description, year, players, genre, origin, licence, receipt."""
    from kyklon.operations.library import texts as told
    from kyklon.operations.library.observe import look
    from kyklon.record.texts import Texts

    build, parts = open_folder(folder)
    if not build.library.folder:
        raise WrongUse("The build has no library folder.", do="Set library.folder.")

    def seen() -> tuple[Game, ...]:
        with watching() as watch:
            return look(build, folder, parts, resolve(folder, build.library.folder), watch).games

    games, unknown = seen(), list[str]()
    changed: dict[str, GameText] = {}
    if read is not None:
        changed, unknown = told.read(read, games)
    for text in say or ():
        key, value = _said(text, games, changed)
        changed[key] = value
    if changed:
        Texts(folder).put(changed)
        games = seen()
    if write is not None:
        durable.keep(write, told.table(games).encode("utf-8", "replace"))
    lacking = {name: sum(not getattr(game.text, name) for game in games) for name in TEXTS}
    data = {
        "games": [{"file": game.key, "title": game.called, **asdict(game.text)} for game in games],
        "without": lacking,
        "saved": len(changed),
        "unknown": unknown,
    }

    def lines() -> list[str]:
        rows = [f"Saved for {counted(len(changed), 'game')}."] if changed else []
        rows += [f"In no game, or in several: {name}" for name in unknown[:40]]
        rows += [f"{len(unknown) - 40} more names in no game."] if len(unknown) > 40 else []
        return [*rows, *(f"{count} of {len(games)} games without {name}" for name, count in lacking.items())]

    out(data, as_json, lines)
    return OK


def _said(text: str, games: tuple[Game, ...], changed: dict[str, GameText]) -> tuple[str, GameText]:
    from kyklon.operations.library.texts import key_of_game

    head, equals, value = text.partition("=")
    name, colon, field = head.rpartition(":")
    if not equals or not colon or field not in TEXTS:
        raise WrongUse(f"{text!r} is not understood.", do=f"Write FILE:FIELD=TEXT; fields are {', '.join(TEXTS)}.")
    game = next((each for each in games if name in (each.key, PurePosixPath(each.key).name)), None)
    if game is None:
        raise WrongUse(f"The library has no game {name!r}.", do="Name its file as `kyklon scan` lists it.")
    key = key_of_game(game)
    return key, replace(changed.get(key, game.text), **{field: value})
