"""What is done with games: copied onto the machine."""

from __future__ import annotations

import os
from pathlib import Path

from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.quantities import show_bytes
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Image
from kyklon.devices.places import is_block_device
from kyklon.model.build import Build, edited
from kyklon.model.world import World
from kyklon.operations.library import transfer
from kyklon.operations.library.observe import look_at_library
from kyklon.record.logbook import Logbook


def copy_games(
    folder: Path, build: Build, catalogue: Catalogue, destination: Path, watch: Watch = UNWATCHED
) -> tuple[Build, transfer.TransferReport]:
    """Scan, copy what is ready to a destination, and remember where. Raises KyklonError."""
    world = look_at_library(build, folder, catalogue, World(), watch)
    if world.scan is None:
        raise KyklonError(world.scan_error or "The build has no library folder.", do="Choose a library folder.")
    image = catalogue.get(Image, build.part("image"))
    if is_block_device(destination):
        raise WrongUse(f"{destination} is a drive.", do="Name a folder: the place where the stick is mounted.")
    library = Path(world.scan.folder).resolve()
    if destination.resolve().is_relative_to(library) or library.is_relative_to(destination.resolve()):
        raise WrongUse(
            f"{destination} and the library {library} lie in each other.", do="Choose the stick's own folder."
        )
    planned = transfer.plan(world.scan, systems_of(build, catalogue), image)
    report = transfer.carry_out(planned, Path(world.scan.folder), destination, watch)
    inside = os.path.relpath(destination.resolve(), folder.resolve())
    remembered = inside if not inside.startswith("..") else str(destination.resolve())
    build = edited(build, "library.destination", remembered)
    Logbook(folder).add(
        60,
        f"{report.games} games copied to {destination.name}",
        f"{report.files} files, {show_bytes(report.size)}, read back; {report.already_there} were already there.",
    )
    return build, report
