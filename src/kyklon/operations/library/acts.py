"""What is done with games: copied onto the machine, taken back, hidden and shown; what their user says of titles."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path, PurePosixPath

from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.quantities import counted, show_bytes
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import System
from kyklon.devices.destination import Destination
from kyklon.devices.linux.folder import Folder
from kyklon.devices.places import is_block_device
from kyklon.devices.secure_copy import Login, SecureCopy
from kyklon.model.build import Build, edited
from kyklon.model.library import OnMachine, Scan
from kyklon.model.world import World
from kyklon.operations.library import carry, lists_made, transfer
from kyklon.operations.library.observe import keep_seen, look_at_library
from kyklon.record.folder import resolve
from kyklon.record.logbook import Logbook


def login_of(build: Build, password: str = "") -> Login:
    """How the build's machine is reached. Raises WrongUse."""
    told = build.library
    if not told.host:
        raise WrongUse("The machine has no address yet.", do="Enter its address under Transfer, or choose a stick.")
    return Login(told.host, told.port, told.account, told.remote_folder, told.host_key, told.key_file, password)


@contextlib.contextmanager
def opened(build: Build, folder: Path, password: str = "") -> Iterator[Destination]:
    """Where the build's games go. folder: of the build. Raises KyklonError."""
    if build.library.route == "secure copy":
        machine = SecureCopy(login_of(build, password))
        try:
            yield machine
        finally:
            machine.close()
        return
    if not build.library.destination:
        raise WrongUse("No destination is chosen.", do="Choose the folder of a stick, a share or a card.")
    yield Folder(checked(build, folder, resolve(folder, build.library.destination)))


def checked(build: Build, folder: Path, destination: Path) -> Path:
    """A folder that games may go to. Raises WrongUse for a drive, or one that lies in the library or around it."""
    if is_block_device(destination):
        raise WrongUse(f"{destination} is a drive.", do="Choose the folder where the stick is mounted.")
    if build.library.folder:
        library = resolve(folder, build.library.folder).resolve()
        if destination.resolve().is_relative_to(library) or library.is_relative_to(destination.resolve()):
            raise WrongUse(
                f"{destination} and the library {library} overlap: one is inside the other.",
                do="Choose the stick's own folder.",
            )
    return destination


def planned(
    build: Build, folder: Path, catalogue: Catalogue, destination: Destination, watch: Watch = UNWATCHED
) -> transfer.Transfer:
    """What would be copied there now. Raises KyklonError, Cancelled."""
    world = look_at_library(build, folder, catalogue, World(), watch)
    if world.scan is None:
        raise KyklonError(world.scan_error or "The build has no library folder.", do="Choose a library folder.")
    image, systems = catalogue.get(Image, build.part("image")), systems_of(build, catalogue)
    told = transfer.plan(world.scan, systems, image, destination.limits, extras_of(build, folder))
    drafts = lists_made.lists_of(build, catalogue, world.scan, told)
    return replace(told, texts={**told.texts, **lists_made.made(folder, drafts, destination)}, drafts=drafts)


def planned_for(build: Build, folder: Path, catalogue: Catalogue, scan: Scan) -> transfer.Transfer:
    """What would be copied to any stick, without looking at one."""
    image = catalogue.get(Image, build.part("image"))
    return transfer.plan(scan, systems_of(build, catalogue), image, transfer.PLAIN, extras_of(build, folder))


def extras_of(build: Build, folder: Path) -> transfer.Extras:
    """The folders whose files go along with their games."""
    own = build.library
    return transfer.Extras(
        resolve(folder, own.pictures) if own.pictures else None, resolve(folder, own.texts) if own.texts else None
    )


def facts_of_place(build: Build, folder: Path) -> tuple[tuple[str, str], ...]:
    """What can be told of a destination that is a folder, as names and figures; nothing of one that is not there."""
    own = build.library
    place = resolve(folder, own.destination)
    if own.route != "folder" or not own.destination or not place.is_dir():
        return ()
    there = Folder(place)
    limits, free = there.limits, there.free() or 0
    return (
        ("File system", limits.kind or "unknown"),
        ("Free", show_bytes(free)),
        ("Cluster", show_bytes(limits.cluster)),
        ("Largest file", show_bytes(limits.largest) if limits.largest else "no limit"),
        ("Case-sensitive names", "no" if limits.folds else "yes"),
    )


def remember_seen(folder: Path, build: Build, catalogue: Catalogue, destination: Destination) -> OnMachine:
    """Look at what is on the machine, and keep it for when it is not connected. Raises KyklonError."""
    image = catalogue.get(Image, build.part("image"))
    seen = transfer.look_at(destination, systems_of(build, catalogue), image)
    if build.library.route == "secure copy":
        keep_seen(folder, seen)
    return seen


def copy_games(
    folder: Path, build: Build, catalogue: Catalogue, destination: Path, watch: Watch = UNWATCHED
) -> tuple[Build, carry.TransferReport]:
    """Scan, copy what is ready into a folder, and remember where. Raises KyklonError, Cancelled."""
    place = Folder(checked(build, folder, destination))
    report = move_games(folder, build, catalogue, place, watch)
    inside = os.path.relpath(destination.resolve(), folder.resolve())
    remembered = inside if not inside.startswith("..") else str(destination.resolve())
    return edited(edited(build, "library.destination", remembered), "library.route", "folder"), report


def move_games(
    folder: Path, build: Build, catalogue: Catalogue, destination: Destination, watch: Watch = UNWATCHED
) -> carry.TransferReport:
    """Scan, and copy what is ready to a destination. folder: of the build. Raises KyklonError, Cancelled."""
    told = planned(build, folder, catalogue, destination, watch)
    report = carry.carry_out(told, resolve(folder, build.library.folder), destination, watch, folder)
    lists_made.keep(folder, destination.name, told.drafts)
    refused = f" {len(report.refused)} cannot be stored there." if report.refused else ""
    Logbook(folder).add(
        60,
        f"{report.games} games copied to {PurePosixPath(destination.name).name}",
        f"{report.files} files, {show_bytes(report.size)}, read back; {report.already_there} were already there."
        f"{refused}",
    )
    return report


def take_back(folder: Path, destination: Destination, watch: Watch = UNWATCHED) -> carry.Undone:
    """Take the last transfer back. folder: of the build. Raises KyklonError, Cancelled."""
    with carry.only_one(destination):
        done = carry.undo(folder, destination, watch)
    Logbook(folder).add(
        60,
        "Transfer undone",
        f"{counted(done.removed, 'file')} removed, {done.restored} restored, "
        f"{len(done.left)} kept because they changed there.",
    )
    return done


def hide_system(build: Build, catalogue: Catalogue, destination: Destination, system_id: str, *, hide: bool) -> None:
    """Set a system's folder on the machine aside, so that its menu does not list it, or put it back.

    Raises KyklonError."""
    system, image = catalogue.get(System, system_id), catalogue.get(Image, build.part("image"))
    shown = image.games_path.replace("{folder}", system.folder)
    aside = str(PurePosixPath(shown).parent / transfer.ASIDE / PurePosixPath(system.folder).name)
    old, new = (shown, aside) if hide else (aside, shown)
    if not any(True for _each in destination.files(old)):
        raise WrongUse(f"{destination.name} has no {old}.", do="It was already moved, or holds no games.")
    if any(True for _each in destination.files(new)):
        raise WrongUse(f"{destination.name} has {new} too.", do="Move one of them away first; nothing was changed.")
    destination.remove_folder(new)  # an empty one would be in the way
    destination.rename(old, new)
