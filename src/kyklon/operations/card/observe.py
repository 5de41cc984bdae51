"""Looks at the image, and at the card where it is plugged in."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.catalogue.add_on_records import AddOn
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Display
from kyklon.devices.ports import Target
from kyklon.model.build import Build
from kyklon.model.world import World
from kyklon.operations.operation import Look
from kyklon.operations.picture.waking import PROGRAMS
from kyklon.record.folder import resolve


def card_target(build: Build, folder: Path) -> Target | None:
    """The drive that holds the build's card, when it is plugged in."""
    if not build.card.drive:
        return None
    from kyklon.devices import choose

    drives = choose.first_that_lists(choose.drives_of(folder))
    facts = next((facts for facts in drives.list() if facts.identity == build.card.drive), None)
    return Target(drives, facts) if facts else None


def look_at_source(build: Build, folder: Path, _catalogue: Catalogue, world: World, _watch: Watch) -> World:
    nothing = replace(world, source=None, source_error="", source_stated=None, source_contents=None)
    if not build.source.path:
        return nothing
    from kyklon.operations import checksums
    from kyklon.operations.card.sources import source
    from kyklon.operations.card.volumes import contents

    try:
        facts = source.inspect(resolve(folder, build.source.path))
    except KyklonError as bad:
        return replace(nothing, source_error=str(bad))
    inside = contents.observe_source(facts)
    return replace(
        world,
        source=facts,
        source_error=inside.table_error,
        source_stated=checksums.beside(facts),
        source_contents=inside,
    )


def started_by(build: Build, catalogue: Catalogue) -> tuple[str, ...]:
    """What to look for on the root: the programs that the image's init calls by name, the one that wakes a display, the
    folders of its games."""
    image = catalogue.find(Image, build.part("image"))
    if image is None or not image.has_system:
        return ()
    folders = (image.system_files_path.strip("/"), image.games_path.partition("{")[0].strip("/"))
    display = catalogue.find(Display, build.part("display"))
    wakes = PROGRAMS if display is not None and display.waking is not None else ()
    add_ons = (catalogue.find(AddOn, each) for each in build.system.add_ons)
    asked = (each for add_on in add_ons if add_on is not None for each in add_on.questions)
    return (*image.start_programs, *wakes, *asked, *(f"/{folder}/" for folder in folders if folder))


def look_at_card(build: Build, folder: Path, catalogue: Catalogue, world: World, _watch: Watch) -> World:
    from kyklon.operations.card.volumes import contents

    target = card_target(build, folder)
    return replace(world, card=contents.observe(target.path, started_by(build, catalogue)) if target else None)


LOOKS = (
    Look(
        "source",
        "Looking into the image",
        look_at_source,
        ("source", "source_error", "source_stated", "source_contents"),
        inputs=("source",),
    ),
    Look("card", "Reading the card", look_at_card, ("card",), inputs=("card.drive",)),
)
