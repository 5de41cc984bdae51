"""Settings of the build put on a machine that runs, where the script of its first boot no longer comes: whole files of
its root, each with what was there kept beside; what is joined with a file of the machine as a script of its next
start."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from kyklon.base.errors import KyklonError
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.reading import text_of
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Display
from kyklon.devices.secure_copy import SecureCopy
from kyklon.model.build import Build
from kyklon.operations.boot.acts import Put
from kyklon.operations.boot.add_ons import of_build
from kyklon.operations.boot.compile import difference
from kyklon.operations.boot.first_boot import RootFile, joined, mode_of, root_files
from kyklon.operations.card.volumes.openrc import RUNLEVELS
from kyklon.operations.library import carry
from kyklon.operations.library.transfer import Transfer
from kyklon.record.logbook import Logbook

OPERATION = 95
JOURNAL = "machine-settings"  # folder of the build that keeps the journal of changes
ASIDE = ".before-settings"  # folder of the machine's root that keeps what was replaced
_MOST = 1 << 20  # bytes of a file of settings
_NUMBERED = ("etc/rc2.d", "etc/rc3.d", "etc/rc5.d")  # run levels with a network
_NETWORK = ("/etc/wpa_supplicant/", "/etc/systemd/network/")


@dataclass(frozen=True)
class Planned(Put):
    """skipped: files whose folder the machine does not have, so that nothing there would read them."""

    skipped: tuple[str, ...] = ()

    @property
    def cuts_off(self) -> bool:
        """Whether it can end the connection that it comes by."""
        return any(f"/{name}".startswith(_NETWORK) for name in self.files)


def planned(build: Build, catalogue: Catalogue, machine: SecureCopy) -> Planned:
    """Those of the build's files that the machine has otherwise. Raises KyklonError."""
    files: dict[str, bytes] = {}
    differences: dict[str, str] = {}
    skipped = []
    for file in _wanted(build, catalogue, machine):
        path = file.path.lstrip("/")
        if mode_of(file.path) is None and machine.mode_of(path.rpartition("/")[0]) is None:
            skipped.append(file.path)
            continue
        old = _there(machine, path)
        if old == file.text and machine.mode_of(path) == file.mode:
            continue
        files[path] = file.text.encode("utf-8")
        differences[path] = (
            difference(old or "", file.text, file.path, "on the machine") or f"{file.path}: permissions {file.mode:o}"
        )
    return Planned(files, differences, tuple(skipped))


def _wanted(build: Build, catalogue: Catalogue, machine: SecureCopy) -> tuple[RootFile, ...]:
    image, display = catalogue.find(Image, build.part("image")), catalogue.find(Display, build.part("display"))
    return (*root_files(build), *joined(build, image, _manager(machine), display, of_build(build, catalogue)))


def _manager(machine: SecureCopy) -> str:
    """What starts services there, as RootFacts.set_up_by (sd_booted(3); openrc(8) keeps its state in
    /run/openrc; Linux Standard Base 5.0, chapter 22)."""
    if machine.mode_of("run/systemd/system") is not None:
        return "systemd"
    if machine.mode_of("run/openrc") is not None:
        return f"{RUNLEVELS}/default"
    return next((f"/{folder}" for folder in _NUMBERED if machine.mode_of(folder) is not None), "")


def _there(machine: SecureCopy, path: str) -> str | None:
    size = machine.size_of(path)
    if size is None:
        return None
    if size > _MOST:
        raise KyklonError(f"/{path} has {size} bytes and is no file of settings.", do="Look at it on the machine.")
    with machine.read(path) as file:
        return text_of(file.read(_MOST), path)


def put(folder: Path, build: Build, catalogue: Catalogue, machine: SecureCopy, watch: Watch = UNWATCHED) -> Planned:
    """Put them there, and record it; they count from its next start. Raises KyklonError, Cancelled; what was begun can
    be taken back."""
    found = planned(build, catalogue, machine)
    if not found.files:
        return found
    (folder / JOURNAL).mkdir(exist_ok=True)
    texts = {name: data.decode("utf-8") for name, data in found.files.items()}
    carry.carry_out(Transfer((), texts, 0), folder, machine, watch, folder / JOURNAL, ASIDE)
    wanted: dict[str, RootFile] = {file.path.lstrip("/"): file for file in _wanted(build, catalogue, machine)}
    for name in found.files:
        machine.set_mode(name, wanted[name].mode)
        if _there(machine, name) != wanted[name].text:
            raise KyklonError(
                f"/{name} reads back differently on {machine.name}.", do="Undo the change, and check its card."
            )
    names = ", ".join(f"/{name}" for name in found.files)
    Logbook(folder).add(
        OPERATION, "Settings changed on the running machine", "\n".join((names, *found.differences.values()))
    )
    return found


def last_change(folder: Path) -> str:
    """Which machine the last change went to that can still be taken back, '' for none."""
    return carry.last_transfer(folder / JOURNAL)


def undo(folder: Path, machine: SecureCopy, watch: Watch = UNWATCHED) -> carry.Undone:
    """Take the last change back, and record it. Raises KyklonError, Cancelled."""
    with carry.only_one(machine):
        done = carry.undo(folder / JOURNAL, machine, watch, ASIDE)
    Logbook(folder).add(
        OPERATION, "Settings of the running machine undone", f"{done.restored} restored, {done.removed} removed."
    )
    return done
