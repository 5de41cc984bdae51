"""Reads the display's identification data."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.base.reading import bytes_of
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Display
from kyklon.model.build import Build
from kyklon.model.display import Edid, Extension
from kyklon.model.world import World
from kyklon.operations.operation import Look
from kyklon.operations.picture import edid
from kyklon.record.folder import resolve


def said_by(display: Display | None) -> Edid | None:
    """What a display of the shelf says of itself when it is asked: the modes it was learnt with; None where it names
    none, as a tube does."""
    if display is None or not display.modes:
        return None
    hdmi = bool(display.hdmi)
    return Edid(
        "KYK",
        0,
        0,
        2026,
        display.name[:13],
        display.modes[:1],
        (round(display.width_mm), round(display.height_mm)),
        digital=display.sync == "digital",
        extension=Extension(hdmi=hdmi, audio=hdmi),
        further=display.modes[1:],
    )


def look_at_display(build: Build, folder: Path, catalogue: Catalogue, world: World, _watch: Watch) -> World:
    if not build.picture.identification:
        said = said_by(catalogue.find(Display, build.part("display")))
        return replace(world, identification=said, identification_error="")
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
        inputs=("picture.identification", "parts:display"),
    ),
)
