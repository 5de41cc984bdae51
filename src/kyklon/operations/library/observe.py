"""Scans the library, and looks at what is on the machine."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from kyklon.base.errors import KyklonError
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Image
from kyklon.model.build import Build
from kyklon.model.world import World
from kyklon.operations.operation import Look
from kyklon.record.folder import resolve


def look_at_library(build: Build, folder: Path, catalogue: Catalogue, world: World, watch: Watch = UNWATCHED) -> World:
    if not build.library.folder:
        return replace(world, scan=None, scan_error="")
    from kyklon.operations.library.scan import scan

    try:
        found = scan(resolve(folder, build.library.folder), systems_of(build, catalogue), build.library, watch)
    except KyklonError as bad:
        return replace(world, scan=None, scan_error=str(bad))
    return replace(world, scan=found, scan_error="")


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
