"""Scans the library, and looks at what is on the machine."""

from __future__ import annotations

import json
import os
from dataclasses import replace
from pathlib import Path

from kyklon.base import durable
from kyklon.base.errors import KyklonError
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.reading import bytes_of, json_of
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.library import OnMachine, Scan
from kyklon.model.world import World
from kyklon.operations.operation import Look
from kyklon.record.folder import resolve


def look_at_library(build: Build, folder: Path, catalogue: Catalogue, world: World, watch: Watch = UNWATCHED) -> World:
    if not build.library.folder:
        return replace(world, scan=None, scan_error="")
    try:
        found = look(build, folder, catalogue, resolve(folder, build.library.folder), watch)
    except KyklonError as bad:
        return replace(world, scan=None, scan_error=str(bad))
    return replace(world, scan=found, scan_error="")


def look(build: Build, folder: Path, catalogue: Catalogue, library: Path, watch: Watch = UNWATCHED) -> Scan:
    """A library scanned, named and chosen from, with what earlier looks have read. folder: of the build. Raises
    KyklonError, Cancelled."""
    from kyklon.operations.library.facts import FILE, Facts
    from kyklon.operations.library.naming import Terms, named
    from kyklon.operations.library.scan import scan
    from kyklon.record.answers import Answers
    from kyklon.record.texts import Texts

    facts = Facts(folder / FILE)
    systems = systems_of(build, catalogue)
    found = scan(library, systems, build.library, watch, facts)
    cluster = cluster_of(resolve(folder, build.library.destination) if build.library.destination else None)
    answers, texts = Answers(folder).all(), Texts(folder).all()
    terms = Terms(build.library, systems, lambda path: resolve(folder, path), answers, cluster, texts)
    return named(found, terms, facts, watch)


def cluster_of(destination: Path | None) -> int:
    """Bytes of a cluster where the games go; a large stick's where that cannot be asked."""
    from kyklon.operations.library.naming import STICK_CLUSTER

    try:
        return os.statvfs(destination).f_frsize if destination is not None else STICK_CLUSTER
    except OSError:
        return STICK_CLUSTER


def look_at_machine(build: Build, folder: Path, catalogue: Catalogue, world: World, _watch: Watch) -> World:
    from kyklon.devices.linux.folder import Folder
    from kyklon.operations.library.transfer import look_at

    image = catalogue.find(Image, build.part("image"))
    if image is None:
        return replace(world, on_machine=None)
    if build.library.route == "secure copy":  # asked for when somebody asks: it takes a connection
        return replace(world, on_machine=read_seen(folder))
    destination = resolve(folder, build.library.destination)
    if not build.library.destination or not destination.is_dir():
        return replace(world, on_machine=None)
    try:
        return replace(world, on_machine=look_at(Folder(destination), systems_of(build, catalogue), image))
    except KyklonError:
        return replace(world, on_machine=None)


SEEN = "machine.json"  # in the build folder: what was last seen of a machine that is reached by secure copy


def keep_seen(folder: Path, seen: OnMachine) -> None:
    """Remember what is on the machine, for when it is not connected. folder: of the build."""
    data = {
        "games": seen.games,
        "system_files": sorted(seen.system_files),
        "unreadable": seen.unreadable,
        "hidden": seen.hidden,
        "bad_files": seen.bad_files,
        "bad_games": seen.bad_games,
    }
    durable.replace_text(folder / SEEN, json.dumps(data))


def read_seen(folder: Path) -> OnMachine | None:
    """What was last seen of the machine, None where it never was."""
    try:
        data = json_of(bytes_of(folder / SEEN), SEEN)
        games = {str(key): tuple(map(str, titles)) for key, titles in data["games"].items()}
        bad = {str(key): tuple(map(str, told)) for key, told in data.get("bad_games", {}).items()}
        return OnMachine(
            games,
            frozenset(map(str, data["system_files"])),
            dict(data["unreadable"]),
            tuple(data["hidden"]),
            dict(data.get("bad_files", {})),
            bad,
        )
    except (KyklonError, KeyError, TypeError, ValueError, AttributeError):
        return None


def look_at_games(build: Build, folder: Path, catalogue: Catalogue, world: World, watch: Watch) -> World:
    """The library and the machine, one after the other."""
    world = look_at_library(build, folder, catalogue, world, watch)
    return look_at_machine(build, folder, catalogue, world, watch)


LOOKS = (
    Look(
        "library",
        "Scanning the library",
        look_at_games,
        ("scan", "scan_error", "on_machine"),
        cancellable=True,
        inputs=("library", "systems", "parts:image"),
    ),
)
