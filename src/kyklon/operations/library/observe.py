"""Scans the library, and looks at what is on the machine."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

from kyklon.base.errors import KyklonError
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Image
from kyklon.model.build import Build
from kyklon.model.library import Scan
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

    facts = Facts(folder / FILE)
    systems = systems_of(build, catalogue)
    found = scan(library, systems, build.library, watch, facts)
    cluster = cluster_of(resolve(folder, build.library.destination) if build.library.destination else None)
    terms = Terms(build.library, systems, lambda path: resolve(folder, path), Answers(folder).all(), cluster)
    return named(found, terms, facts, watch)


def cluster_of(destination: Path | None) -> int:
    """Bytes of a cluster where the games go; a large stick's where that cannot be asked."""
    from kyklon.operations.library.naming import STICK_CLUSTER

    try:
        return os.statvfs(destination).f_frsize if destination is not None else STICK_CLUSTER
    except OSError:
        return STICK_CLUSTER


def look_at_machine(build: Build, folder: Path, catalogue: Catalogue, world: World, _watch: Watch) -> World:
    from kyklon.operations.library.transfer import look_at

    image = catalogue.find(Image, build.part("image"))
    destination = resolve(folder, build.library.destination)
    if image is None or not build.library.destination or not destination.is_dir():
        return replace(world, on_machine=None)
    return replace(world, on_machine=look_at(destination, systems_of(build, catalogue), image))


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
