"""Lists for the front end: of games, of a collection, by templates that its user may write; edits by hand are kept."""

from __future__ import annotations

import hashlib
from collections import defaultdict
from pathlib import Path, PurePosixPath
from typing import Any

from kyklon.base import durable
from kyklon.base.errors import KyklonError
from kyklon.base.reading import MOST_BYTES, text_of
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import System
from kyklon.catalogue.templates import render
from kyklon.catalogue.text_records import SettingsTemplate
from kyklon.devices.destination import Destination
from kyklon.model.build import Build
from kyklon.model.library import LISTED_TEXTS, Game, Scan
from kyklon.operations.library.merged_text import merged
from kyklon.operations.library.transfer import PICTURES, Transfer
from kyklon.operations.library.versions import tags_of

ISSUED = "issued/lists"  # in the build folder: what was written last, to tell edits by hand


def lists_of(build: Build, catalogue: Catalogue, scan: Scan, told: Transfer) -> dict[str, str]:
    """The chosen lists, by target on the machine. Raises CatalogueError with the template's line."""
    image = catalogue.get(Image, build.part("image"))
    rows = _rows(build, catalogue, scan, told, image)
    found: dict[str, str] = {}
    for template_id in build.library.lists_made:
        template = catalogue.get(SettingsTemplate, template_id)
        where = f"templates.toml: {template.id}"
        for system in systems_of(build, catalogue):
            games = rows.get(system.id, [])
            if not games and "system" in template.path:
                continue
            everything = [game for row in rows.values() for game in row]
            names = {
                "system": system,
                "image": image,
                "games": games,
                "all_games": everything,
                "favourites": [game for game in everything if game["favourite"]],
            }
            path = render(template.path, names, where).strip()
            found[path] = render(template.text, names, where, MOST_BYTES).lstrip("\n")
    return found


def _rows(
    build: Build, catalogue: Catalogue, scan: Scan, told: Transfer, image: Image
) -> dict[str, list[dict[str, Any]]]:
    """What a template may say of each game that is copied, by system, in order of title."""
    starts = {copy.source: copy.target for copy in told.copies}
    pictures = {
        str(PurePosixPath(c.target).with_suffix("")): c.target
        for c in told.copies
        if c.target.lower().endswith(PICTURES)
    }
    rows: dict[str, list[dict[str, Any]]] = defaultdict(list)
    for game in scan.ready:
        system = catalogue.get(System, game.system)
        top = image.games_path.replace("{folder}", system.folder)
        start = _start(game, starts, told, top)
        if not start:
            continue
        stem = PurePosixPath(start).stem
        shelf = image.pictures_path.replace("{folder}", system.folder)
        rows[game.system].append(
            {
                "title": game.called,
                "file": start.removeprefix(f"{top}/"),
                "path": start,
                "stem": stem,
                "system": system.name,
                "discs": game.discs,
                "favourite": game.key in build.library.favourites,
                "region": ", ".join(tags_of(game.key).regions),
                "picture": pictures.get(f"{shelf}/{stem}", ""),
                **{name: getattr(game.text, name) for name in LISTED_TEXTS},
            }
        )
    for each in rows.values():
        each.sort(key=lambda row: str(row["title"]).casefold())
    return rows


def _start(game: Game, starts: dict[str, str], told: Transfer, top: str) -> str:
    """The target that the front end starts the game by."""
    first = starts.get(game.key, "")
    if not first or game.discs < 2 or first.lower().endswith(".m3u"):
        return first
    folder = PurePosixPath(first).parent.as_posix()
    name = PurePosixPath(first).name
    return next(
        (
            path
            for path, text in told.texts.items()
            if path.startswith(top) and name in text.splitlines() and PurePosixPath(path).parent.as_posix() == folder
        ),
        first,
    )


def made(folder: Path, drafts: dict[str, str], destination: Destination) -> dict[str, str]:
    """The lists as they are to be written: with what was changed by hand on the machine since. Raises KyklonError."""
    found = {}
    for path, text in drafts.items():
        base = _last(folder, destination.name, path)
        theirs = _there(destination, path)
        found[path] = merged(base, theirs, text)[0] if base is not None and theirs is not None else text
    return found


def keep(folder: Path, destination: str, drafts: dict[str, str]) -> None:
    """Remember what was written, before anybody changes it there. folder: of the build."""
    for path, text in drafts.items():
        durable.replace(_kept(folder, destination, path), text.encode("utf-8", "surrogateescape"))


def _kept(folder: Path, destination: str, path: str) -> Path:
    told = hashlib.sha256(f"{destination}\n{path}".encode("utf-8", "surrogateescape")).hexdigest()[:16]
    return folder / ISSUED / f"{told}.list"


def _last(folder: Path, destination: str, path: str) -> str | None:
    try:
        return _kept(folder, destination, path).read_bytes().decode("utf-8", "surrogateescape")
    except OSError:
        return None


def _there(destination: Destination, path: str) -> str | None:
    size = destination.size_of(path)
    if size is None or size > MOST_BYTES:
        return None
    try:
        with destination.read(path) as file:
            return text_of(file.read(), path)
    except KyklonError:
        return None
