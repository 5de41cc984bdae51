"""Reads the display's identification data."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.base.reading import bytes_of
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.world import World
from kyklon.operations.operation import Look
from kyklon.operations.picture import edid
from kyklon.record.folder import resolve


def look_at_display(build: Build, folder: Path, _catalogue: Catalogue, world: World, _watch: Watch) -> World:
    if not build.picture.identification:
        return replace(world, identification=None, identification_error="")
    try:
        data = bytes_of(resolve(folder, build.picture.identification), edid.LARGEST)
        return replace(world, identification=edid.read(data), identification_error="")
    except KyklonError as bad:
        return replace(world, identification=None, identification_error=str(bad))


LOOKS = (
    Look(
        "display",
        "Reading the EDID",
        look_at_display,
        ("identification", "identification_error"),
        inputs=("picture.identification",),
    ),
)
