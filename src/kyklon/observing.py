"""Looks at the world for a build: each part of it alone, or all at once. Slow; off the GUI thread."""

from __future__ import annotations

import functools
from dataclasses import replace
from pathlib import Path

from kyklon.card import checksums, contents, sizing, source
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Card, Image, System
from kyklon.devices.linux import udisks
from kyklon.devices.linux.drives import LinuxDrives
from kyklon.devices.ports import DriveFacts, Drives
from kyklon.devices.simulated.drives import SimulatedDrives
from kyklon.errors import FormatError, KyklonError, WrongUse
from kyklon.library.scan import scan
from kyklon.library.transfer import look_at
from kyklon.model.build import Build
from kyklon.picture import edid
from kyklon.progress import CancelToken, Sink, no_sink
from kyklon.record import folder as store
from kyklon.world import World

DRIVES = "drives"  # sub-folder with simulated drives


def resolve(folder: Path, path: str) -> Path:
    """A path of the build: relative ones belong to its folder."""
    return folder / path  # an absolute path stays itself


def drives_of(folder: Path) -> Drives:
    """The drives to choose from: simulated ones where the build folder brings some, else this machine's."""
    if (folder / DRIVES / "drives.json").exists():
        return SimulatedDrives(folder / DRIVES)
    return real_drives()


def real_drives() -> LinuxDrives | udisks.UDisks:
    """This machine's drives: UDisks2 where it answers, else lsblk and sysfs."""
    return udisks.UDisks() if _udisks_answers() else LinuxDrives()


@functools.lru_cache(maxsize=1)
def _udisks_answers() -> bool:
    return udisks.reachable()


def card_drive(build: Build, folder: Path) -> tuple[Drives, DriveFacts] | None:
    """The drive that holds the build's card, when it is plugged in."""
    if not build.card.drive:
        return None
    drives = drives_of(folder)
    facts = next((facts for facts in drives.list() if facts.identity == build.card.drive), None)
    return (drives, facts) if facts else None


def systems_of(build: Build, catalogue: Catalogue) -> tuple[System, ...]:
    return tuple(catalogue.get(System, system) for system in build.systems)


def observe_source(build: Build, folder: Path, world: World) -> World:
    if not build.source.path:
        return replace(world, source=None, source_error="", source_stated=None, source_contents=None)
    try:
        facts = source.inspect(resolve(folder, build.source.path))
    except KyklonError as bad:
        return replace(world, source=None, source_error=str(bad), source_contents=None)
    inside = contents.observe_source(facts)
    return replace(
        world,
        source=facts,
        source_error=inside.table_error,
        source_stated=checksums.beside(facts),
        source_contents=inside,
    )


def observe_card(build: Build, folder: Path, world: World) -> World:
    found = card_drive(build, folder)
    if found is None:
        return replace(world, card=None)
    drives, facts = found
    return replace(world, card=contents.observe(drives.path(facts.identity)))


def observe_display(build: Build, folder: Path, world: World) -> World:
    if not build.picture.identification:
        return replace(world, identification=None, identification_error="")
    try:
        data = resolve(folder, build.picture.identification).read_bytes()
        return replace(world, identification=edid.read(data), identification_error="")
    except FormatError as bad:
        return replace(world, identification=None, identification_error=str(bad))
    except OSError as bad:
        return replace(world, identification=None, identification_error=f"It cannot be read: {bad.strerror}.")


def observe_library(
    build: Build,
    folder: Path,
    catalogue: Catalogue,
    world: World,
    sink: Sink = no_sink,
    cancel: CancelToken | None = None,
) -> World:
    if not build.library.folder:
        return replace(world, scan=None, scan_error="")
    systems = systems_of(build, catalogue)
    try:
        found = scan(resolve(folder, build.library.folder), systems, build.library, sink, cancel)
    except KyklonError as bad:
        return replace(world, scan=None, scan_error=str(bad))
    return replace(world, scan=found, scan_error="")


def observe_machine(build: Build, folder: Path, catalogue: Catalogue, world: World) -> World:
    image = catalogue.find(Image, build.part("image"))
    destination = resolve(folder, build.library.destination)
    if image is None or not build.library.destination or not destination.is_dir():
        return replace(world, on_machine=None)
    return replace(world, on_machine=look_at(destination, systems_of(build, catalogue), image))


def observe(build: Build, folder: Path, catalogue: Catalogue) -> World:
    """Everything."""
    world = observe_source(build, folder, World())
    world = observe_card(build, folder, world)
    world = observe_display(build, folder, world)
    world = observe_library(build, folder, catalogue, world)
    return observe_machine(build, folder, catalogue, world)


def boards_served(inside: contents.CardContents, catalogue: Catalogue) -> tuple[str, ...]:
    """Boards of the catalogue that a card's kernels and device trees serve."""
    sets = {kernel.instruction_set for kernel in inside.kernels}
    names = {name.lower().rsplit("/", 1)[-1] for name in inside.sizes}
    return tuple(
        board.id for board in catalogue.all(Board) if sets & set(board.runs) and board.device_tree.lower() in names
    )


def observe_size(folder: Path, catalogue: Catalogue) -> sizing.Sizing:
    """Which card a build needs, or a bare folder of games. Raises WrongUse for neither."""
    if not folder.is_dir():
        raise WrongUse(f"{folder} is not a folder.", do="Name a build folder or a folder of games.")
    cards = catalogue.all(Card)
    if not (folder / store.CURRENT).exists():
        files = tuple(each.stat().st_size for each in folder.rglob("*") if each.is_file())
        return sizing.size(0, "no image", files, len(files), max(files, default=0), cards)
    build = store.load(folder).build
    world = observe_library(build, folder, catalogue, observe_source(build, folder, World()))
    return size_of(build, folder, catalogue, world)


def size_of(build: Build, folder: Path, catalogue: Catalogue, world: World) -> sizing.Sizing:
    """The same from what was observed already."""
    image = catalogue.find(Image, build.part("image"))
    unpacked = (world.source.unpacked or 0) if world.source else 0
    least = image.least_card_bytes if image else 0
    why = f"{image.name} asks for {least / 1e9:.0f} GB at least" if image and least > unpacked else "as unpacked"
    games = world.scan.ready if world.scan else ()
    root = resolve(folder, build.library.folder)
    files = tuple(_size_there(root / name) for game in games for name in game.files)
    largest = max((game.size for game in games), default=0)
    return sizing.size(max(unpacked, least), why, files, len(games), largest, catalogue.all(Card))


def _size_there(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0
