"""Games by stick, both halves: what the stick must be, what is copied onto it, what the machine does with it, and what
the menu lists in the end. Nothing on the stick is erased.
"""

from __future__ import annotations

import contextlib
import os
import secrets
import time
from dataclasses import dataclass, replace
from pathlib import Path

from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.base.quantities import show_bytes
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.image_records import Image, StickRule
from kyklon.catalogue.loader import Catalogue
from kyklon.devices.destination import Destination
from kyklon.devices.linux.folder import Folder
from kyklon.model.build import Build
from kyklon.model.library import OnMachine
from kyklon.model.world import World
from kyklon.operations.library import acts, carry, transfer
from kyklon.operations.library.observe import look_at_library
from kyklon.record.folder import resolve
from kyklon.record.logbook import Logbook

OPERATION = 95
JOURNAL = "stick"  # folder of the build that keeps the journal of what was copied
ASIDE = ".before-stick"
_TRY = 8 << 20  # bytes that are written, read and removed to tell the speed
_SLOW_MB_S = 2.0  # MB/s of writing below which a stick is worn or a toy, CP
_READS = {"FAT": "FAT32", "exfat": "exFAT", "ext4": "ext4"}  # what the kernel calls them


@dataclass(frozen=True)
class Stick:
    """kind: its file system in the image's words, '' where unknown. write_mb_s, read_mb_s: None where not tried."""

    path: Path
    kind: str
    free: int
    write_mb_s: float | None
    read_mb_s: float | None
    troubles: tuple[str, ...]


@dataclass(frozen=True)
class Step:
    """minutes: least and most, None where it is done by hand at once. lamp: the rhythm that the board shows."""

    title: str
    done: bool
    minutes: tuple[float, float] | None = None
    lamp: str = ""
    where: str = "here"


@dataclass(frozen=True)
class Way:
    """steps: in order. foretold: titles that the menu lists at the end, by system. listed: those on the stick now."""

    stick: Stick
    steps: tuple[Step, ...]
    foretold: dict[str, tuple[str, ...]]
    listed: dict[str, tuple[str, ...]]
    transfer: transfer.Transfer

    @property
    def missing(self) -> dict[str, tuple[str, ...]]:
        """Titles that are not on the stick yet, by system."""
        found = {
            system: tuple(title for title in titles if title not in self.listed.get(system, ()))
            for system, titles in self.foretold.items()
        }
        return {system: titles for system, titles in found.items() if titles}


def rule_of(build: Build, catalogue: Catalogue) -> tuple[Image, StickRule]:
    """The image and how it takes games in. Raises WrongUse for one that takes none from a stick."""
    image = catalogue.find(Image, build.part("image"))
    if image is None:
        raise WrongUse("The build has no image.", do="Choose one in Plan.")
    if image.stick is None:
        raise WrongUse(
            f"{image.name} takes no games from a stick.", do="Copy them by secure copy, by a share or onto the card."
        )
    return image, image.stick


def laid_out(image: Image, rule: StickRule) -> Image:
    """The image as its stick is laid out: everything below the intake's folder."""
    below = {
        name: f"{rule.folder}/{getattr(image, name).lstrip('/')}"
        for name in ("games_path", "system_files_path", "pictures_path", "texts_path")
    }
    return image.model_copy(update=below)


def judge(path: Path, rule: StickRule, *, measure: bool = False) -> Stick:
    """What a stick is, without erasing anything. path: where it is mounted. measure: write a small file, read it back
    and remove it. Raises KyklonError."""
    if not path.is_dir():
        raise WrongUse(f"{path} is not a folder.", do="Choose the folder where the stick is mounted.")
    there = Folder(path)
    limits = there.limits
    kind = _READS.get(limits.kind, "")
    troubles = []
    if limits.kind and limits.kind != "this stick" and kind not in rule.reads:  # a driver of its own tells no kind
        words = kind or limits.kind
        troubles.append(f"The machine does not read {words}; it reads {' and '.join(rule.reads)}.")
    free = there.free() or 0
    write = read = None
    if not os.access(path, os.W_OK):
        troubles.append("It cannot be written: its lock is on, or it was mounted read-only because it is damaged.")
    elif measure and free > 2 * _TRY:
        write, read = _speed(path)
        if write < _SLOW_MB_S:
            troubles.append(f"It writes only {write:.1f} MB/s: it may be worn out.")
    return Stick(path, kind or limits.kind, free, write, read, tuple(troubles))


def _speed(path: Path) -> tuple[float, float]:
    """MB/s of writing and reading."""
    file = path / f".kyklon-{secrets.token_hex(4)}"
    data = os.urandom(_TRY)
    try:
        begun = time.monotonic()
        with file.open("xb") as out:
            out.write(data)
            out.flush()
            os.fsync(out.fileno())
            os.posix_fadvise(out.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
        wrote = time.monotonic() - begun
        begun = time.monotonic()
        with file.open("rb") as held:
            same = held.read() == data
        took = time.monotonic() - begun
    except OSError as bad:
        raise KyklonError(f"{path} cannot be tried: {bad.strerror}.", do="Plug the stick in again.") from bad
    finally:
        with contextlib.suppress(OSError):
            file.unlink(missing_ok=True)
    if not same:
        raise KyklonError(f"{path} reads back other bytes than were written.", do="The stick is worn. Use another one.")
    return _TRY / max(wrote, 1e-6) / 1e6, _TRY / max(took, 1e-6) / 1e6


def way(
    build: Build, folder: Path, catalogue: Catalogue, path: Path, watch: Watch = UNWATCHED, *, measure: bool = False
) -> Way:
    """Both halves, with what of them is done. folder: of the build. Raises KyklonError, Cancelled."""
    image, rule = rule_of(build, catalogue)
    stick = judge(path, rule, measure=measure)
    there = Folder(acts.checked(build, folder, path))
    plan, seen = _plan(build, folder, catalogue, there, watch), _seen(build, catalogue, there)
    foretold = plan.menu
    missing = {
        system: [t for t in titles if t not in seen.games.get(system, ())] for system, titles in foretold.items()
    }
    copied = not any(missing.values()) and bool(foretold)
    wrong_kind = any("does not read" in each for each in stick.troubles)
    made = not rule.makes_folders or (path / rule.folder).is_dir()
    rate = stick.write_mb_s or 10.0  # MB/s of a usual stick, CP
    copying = sum(copy.size for copy in plan.copies) / rate / 1e6 / 60
    low, high = rule.minutes
    steps = [
        Step(
            f"Format the stick as {' or '.join(rule.reads)} (Card, Format…): everything on it is lost",
            done=not wrong_kind,
        )
    ]
    if rule.makes_folders:
        steps.append(
            Step(
                f"Plug the stick into the running machine: it makes the folder {rule.folder}. Then shut it down",
                done=made,
                minutes=(0.2, 1.0),
                where="machine",
            )
        )
    steps += [
        Step(f"Copy {plan.games} games, {show_bytes(plan.size)}", done=copied, minutes=(copying, 2 * copying)),
        Step("Eject the stick, and wait until the desktop says so", done=False),
        Step(
            "Plug it into the running machine: it takes the games in; do not pull it while the LED shows that",
            done=False,
            minutes=(low, high),
            lamp=rule.lamp,
            where="machine",
        ),
        Step(f"Restart {image.front_end}, and compare its menu with the list of titles", done=False, where="machine"),
    ]
    return Way(stick, tuple(steps), foretold, seen.games, plan)


def _plan(build: Build, folder: Path, catalogue: Catalogue, there: Destination, watch: Watch) -> transfer.Transfer:
    image, rule = rule_of(build, catalogue)
    world = look_at_library(build, folder, catalogue, World(), watch)
    if world.scan is None:
        raise KyklonError(world.scan_error or "The build has no library folder.", do="Choose a library folder.")
    found = transfer.plan(
        world.scan, systems_of(build, catalogue), laid_out(image, rule), there.limits, acts.extras_of(build, folder)
    )
    return replace(found, drafts={})


def _seen(build: Build, catalogue: Catalogue, there: Destination) -> OnMachine:
    image, rule = rule_of(build, catalogue)
    return transfer.look_at(there, systems_of(build, catalogue), laid_out(image, rule))


def copy(
    build: Build, folder: Path, catalogue: Catalogue, path: Path, watch: Watch = UNWATCHED
) -> carry.TransferReport:
    """Copy what the stick lacks, read it back, and record it. Raises KyklonError, Cancelled."""
    _image, rule = rule_of(build, catalogue)
    stick = judge(path, rule)
    if stick.troubles:
        raise WrongUse(f"{path}: {' '.join(stick.troubles)}", do="Use another stick, or format it in Card.")
    if rule.makes_folders and not (path / rule.folder).is_dir():
        raise WrongUse(
            f"{path} has no folder {rule.folder} yet.",
            do="Plug the empty stick into the running machine first; it makes it.",
        )
    there = Folder(acts.checked(build, folder, path))
    plan = _plan(build, folder, catalogue, there, watch)
    (folder / JOURNAL).mkdir(exist_ok=True)
    report = carry.carry_out(plan, resolve(folder, build.library.folder), there, watch, folder / JOURNAL, ASIDE)
    Logbook(folder).add(OPERATION, f"{report.games} games copied to a stick", f"{path.name}: {show_bytes(report.size)}")
    return report


def check_menu(way_there: Way, there: OnMachine) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """What the machine's menu lacks and what it has besides, of what the stick was to bring."""
    wanted = {(system, title) for system, titles in way_there.foretold.items() for title in titles}
    has = {(system, title) for system, titles in there.games.items() for title in titles}
    return tuple(sorted(title for _s, title in wanted - has)), tuple(sorted(title for _s, title in has - wanted))
