"""Looks at the unpacked set or the bundles that the build's card is made from."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.progress import Watch
from kyklon.catalogue.image_records import BareMetal, Chooser, Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Card
from kyklon.model.build import Build
from kyklon.model.findings import Severity
from kyklon.model.sets import SeenSets, SeenSystem, SetStop
from kyklon.model.world import World
from kyklon.operations.card.disk import unpacking_speeds
from kyklon.operations.card.sets import baremetal, multiboot
from kyklon.operations.card.sets.problems import Problem
from kyklon.operations.card.sets.unpacking import seconds
from kyklon.operations.operation import Look
from kyklon.record.folder import resolve

_ANY_SIZE = 1 << 62  # bytes: no card is planned


def look_at_sets(build: Build, folder: Path, catalogue: Catalogue, world: World, watch: Watch) -> World:
    """With what is seen of the set that the build's image asks for; archives' checksums are left to the copying."""
    image = catalogue.find(Image, build.part("image"))
    school = image.school if image is not None else ""
    look = {"bare metal": _bare_metal, "multi-boot": _multi_boot}.get(school)
    path = {"bare metal": build.sets.bare_metal, "multi-boot": build.sets.multi_boot}.get(school, "")
    if look is None or not path:
        return replace(world, sets=None, sets_error="")
    try:
        return replace(world, sets=look(build, resolve(folder, path), catalogue, watch), sets_error="")
    except KyklonError as bad:
        return replace(world, sets=None, sets_error=str(bad))


def _bare_metal(build: Build, folder: Path, catalogue: Catalogue, _watch: Watch) -> SeenSets | None:
    board = catalogue.find(Board, build.part("board"))
    if board is None:
        return None
    images = {image.id: image for image in catalogue.all(Image)}
    layout = baremetal.layout_of(folder, catalogue.all(BareMetal), images)
    if layout.image != build.part("image"):
        other = images[layout.image].name
        raise WrongUse(f"{folder.name} is a set of {other}.", do="Choose another set, or this image for the build.")
    found = baremetal.plan(folder, layout, images[layout.image], board)
    return SeenSets(found.size, _stops(found.problems, folder.name))


def _multi_boot(build: Build, folder: Path, catalogue: Catalogue, watch: Watch) -> SeenSets:
    chooser = multiboot.chooser_for(catalogue.all(Chooser), build.part("image") or "", folder)
    card = catalogue.find(Card, build.part("card"))
    found = multiboot.check_quickly(
        folder,
        chooser,
        card.capacity_bytes if card is not None else _ANY_SIZE,
        board=build.part("board") or "",
        chosen=build.sets.chosen or None,
        watch=watch,
    )
    speeds = unpacking_speeds(build, catalogue)
    going = [bundle for bundle in found.bundles if bundle.folder in found.chosen]
    return SeenSets(
        sum(bundle.files for bundle in going),
        _stops(found.stops, folder.name),
        tuple(SeenSystem(each.folder, each.name, each.released, seconds(each, speeds)) for each in going),
    )


def _stops(problems: Iterable[Problem], name: str) -> tuple[SetStop, ...]:
    found = [each for each in problems if each.severity is Severity.STOP]
    return tuple(SetStop(each.bundle or name, each.sentence, each.why) for each in found)


LOOKS = (
    Look(
        "sets",
        "Reading the set",
        look_at_sets,
        ("sets", "sets_error"),
        inputs=("sets", "parts:image", "parts:board", "parts:card"),
    ),
)
