"""The one place that picks a back end for drives: stand-ins, UDisks2, lsblk, or a single image file."""

from __future__ import annotations

import functools
from pathlib import Path
from typing import TYPE_CHECKING

from kyklon.base.errors import TargetError
from kyklon.devices.image_file import ImageFile
from kyklon.devices.ports import Displays, Drives, Inputs

if TYPE_CHECKING:
    from kyklon.devices.neighbours import Neighbourhood
    from kyklon.devices.simulated.glass import SimulatedGlass

DISPLAYS = "displays"  # below it: what is connected, as stand-ins
STAND_INS = "drives"  # the sub-folder of a build that brings stand-ins
_STAND_INS_FILE = "drives.json"  # as devices.simulated.drives writes it; importing that would bring its validation


def has_stand_ins(folder: Path) -> bool:
    return (folder / STAND_INS / _STAND_INS_FILE).exists()


def drives_of(folder: Path | None) -> tuple[Drives, ...]:
    """Back ends in the order to ask them: a build's stand-ins where it brings some, else this machine's own drives."""
    if folder is not None and has_stand_ins(folder):
        from kyklon.devices.simulated.drives import SimulatedDrives

        return (SimulatedDrives(folder / STAND_INS),)
    return real_drives()


def real_drives() -> tuple[Drives, ...]:
    """UDisks2 where it answers, then lsblk and sysfs, which also know what the service leaves out."""
    from kyklon.devices.linux.drives import LinuxDrives

    if drive_service_answers():
        from kyklon.devices.linux.udisks import UDisks

        return (UDisks(), LinuxDrives())
    return (LinuxDrives(),)


@functools.lru_cache(maxsize=1)
def drive_service_answers() -> bool:
    from kyklon.devices.linux import udisks

    return udisks.reachable()


def first_that_lists(backends: tuple[Drives, ...]) -> Drives:
    """The first back end that answers. Raises the last one's TargetError when none does."""
    for backend in backends[:-1]:
        try:
            backend.list()
        except TargetError:  # the service went away
            continue
        return backend
    return backends[-1]


def inputs_of(folder: Path | None) -> Inputs:
    """A build's stand-ins where it brings some, else what is plugged into this machine."""
    if folder is not None and (folder / STAND_INS / "inputs.json").exists():
        from kyklon.devices.simulated.inputs import SimulatedInputs

        return SimulatedInputs(folder / STAND_INS)
    from kyklon.devices.linux.inputs import LinuxInputs

    return LinuxInputs()


def displays_of(folder: Path | None) -> Displays:
    """The same for the displays that are connected."""
    if folder is not None and (folder / STAND_INS / DISPLAYS).is_dir():
        from kyklon.devices.simulated.displays import SimulatedDisplays

        return SimulatedDisplays(folder / STAND_INS / DISPLAYS)
    from kyklon.devices.linux.displays import LinuxDisplays

    return LinuxDisplays()


def neighbourhood_of(folder: Path | None) -> Neighbourhood:
    """The same for the machines nearby."""
    if folder is not None and (folder / STAND_INS / "neighbours.json").exists():
        from kyklon.devices.simulated import neighbours as stand_in

        return stand_in.load(folder / STAND_INS)
    from kyklon.devices.neighbours import LinuxNeighbourhood

    return LinuxNeighbourhood()


def glass_of(folder: Path | None) -> SimulatedGlass | None:
    """The stand-in for the glass that a build brings; None where a user's eye reads the rulers."""
    if folder is None or not (folder / STAND_INS / "glass.json").exists():
        return None
    from kyklon.devices.simulated import glass

    found = glass.load(folder / STAND_INS)
    return glass.SimulatedGlass(found) if found is not None else None


def image_file(path: Path, size: int) -> Drives:
    """A file in place of a drive; size: what it may hold when it is not there yet, 0 for as large as it gets."""
    there = path.stat().st_size if path.is_file() else 0
    return ImageFile(path, there or size)
