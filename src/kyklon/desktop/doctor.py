"""What this computer has of what Kyklon needs: libraries, programs, rights, places and a screen, each with the line to
type where something is missing. It only looks; nothing is changed and nothing goes over the network.
"""

from __future__ import annotations

import ctypes
import getpass
import os
import platform
import shutil
import sqlite3
import sys
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from importlib import metadata
from pathlib import Path
from typing import Literal

from kyklon import __version__
from kyklon.base import places, program_log, tools
from kyklon.base.packages import family, install_line
from kyklon.base.quantities import counted, show_bytes
from kyklon.devices.choose import drive_service_answers
from kyklon.devices.linux.inputs import LinuxInputs

INSTALL_AGAIN = "Install Kyklon again as its README says; that brings its packages."
State = Literal["ok", "limited", "missing"]  # limited: something of Kyklon cannot be used; missing: it cannot run
LEAST_PYTHON = (3, 11)  # pyproject.toml
_ROOM = 2 << 30  # bytes: an image, its journal and a demo; a choice


@dataclass(frozen=True)
class Check:
    """area: heading. what: its name. said: what was found. do: a line to type or a sentence, '' for nothing to do."""

    area: str
    what: str
    state: State
    said: str
    do: str = ""


# programs, what each is for, and whether the demo can do without
_PROGRAMS = (
    ("lsblk", "lists drives", "missing"),
    ("sfdisk", "makes partition tables", "missing"),
    ("mkfs.fat", "makes FAT file systems", "missing"),
    ("mcopy", "puts files into FAT file systems", "missing"),
    ("mke2fs", "makes ext4 file systems", "missing"),
    ("debugfs", "puts files into ext4 file systems", "missing"),
    ("e2image", "copies what is to be changed of them", "limited"),
    ("e2fsck", "checks ext4 file systems", "missing"),
    ("mkfs.exfat", "makes exFAT file systems for sticks", "limited"),
    ("bwrap", "shuts in whatever a card brings", "limited"),
    ("prlimit", "limits what such programs take", "limited"),
    ("busybox", "rehearses the start of a root", "limited"),
    ("linux.uml", "rehearses the start with a kernel", "limited"),
    ("qemu-system-aarch64", "rehearses the boot loader on a virtual board", "limited"),
)
# system libraries that the window is loaded with; the last five by its X11 back end alone
_LIBRARIES = (
    "libEGL.so.1",
    "libGL.so.1",
    "libdbus-1.so.3",
    "libfontconfig.so.1",
    "libglib-2.0.so.0",
    "libxkbcommon.so.0",
    "libxkbcommon-x11.so.0",
    "libxcb-cursor.so.0",
    "libxcb-icccm.so.4",
    "libxcb-image.so.0",
    "libxcb-keysyms.so.1",
    "libxcb-render-util.so.0",
)


def examine(of_window: Callable[[], Iterator[Check]] | None = None) -> tuple[Check, ...]:
    """Every check, in the order to read them. Never raises: a check that fails says so. of_window: what is asked of
    the window's own library, by whoever may load it."""
    found: list[Check] = []
    further = (("Screen", of_window),) if of_window is not None else ()
    for area, look in (*_AREAS, *further):
        try:
            found += look()
        except Exception as bad:  # whatever this computer holds: the other checks go on
            found.append(Check(area, "This check", "limited", f"It failed: {type(bad).__name__}: {bad}"))
    areas = list(dict.fromkeys(check.area for check in found))
    return tuple(sorted(found, key=lambda check: areas.index(check.area)))


def lines_to_type(checks: tuple[Check, ...]) -> tuple[str, ...]:
    """One line for all missing packages, then the others, each once."""
    place = family()
    packages: list[str] = []
    others: list[str] = []
    for check in checks:
        if place is not None and check.do.startswith(place.line):
            packages += check.do.removeprefix(place.line).split()
        elif check.do.startswith("sudo "):
            others.append(check.do)
    first = [f"{place.line} {' '.join(dict.fromkeys(packages))}"] if place is not None and packages else []
    return (*first, *dict.fromkeys(others))


def verdict(checks: tuple[Check, ...]) -> State:
    """The worst of all."""
    states = {check.state for check in checks}
    return "missing" if "missing" in states else "limited" if "limited" in states else "ok"


def _system() -> Iterator[Check]:
    try:
        told = platform.freedesktop_os_release().get("PRETTY_NAME", "Linux")
    except OSError:
        told = platform.system()
    right: State = "ok" if sys.platform.startswith("linux") else "missing"
    yield Check("System", "Operating system", right, f"{told}, kernel {platform.release()}, {platform.machine()}")
    own = sys.version_info[:2]
    new = own >= LEAST_PYTHON
    do = "" if new else f"Install Python {'.'.join(map(str, LEAST_PYTHON))} or later."
    yield Check("System", "Python", "ok" if new else "missing", platform.python_version(), do)
    yield Check("System", "Kyklon", "ok", f"{__version__}, in {Path(__file__).parents[1]}")


def _packages() -> Iterator[Check]:
    """Python's own: what the wheel asks for is there, and new enough."""
    from packaging.requirements import Requirement

    try:
        wanted = metadata.requires("kyklon") or []
    except metadata.PackageNotFoundError:
        yield Check("Python packages", "kyklon", "limited", "It runs from a folder and is not installed.")
        return
    rows = [row for text in wanted if (row := Requirement(text)).marker is None or row.marker.evaluate({"extra": ""})]
    right = []
    for row in rows:
        try:
            version = metadata.version(row.name)
        except metadata.PackageNotFoundError:
            yield Check("Python packages", row.name, "missing", "It is not installed.", INSTALL_AGAIN)
            continue
        if row.specifier.contains(version, prereleases=True):
            right.append(f"{row.name} {version}")
        else:
            yield Check("Python packages", row.name, "missing", f"{version}; {row.specifier} is needed.", INSTALL_AGAIN)
    if right:
        yield Check("Python packages", counted(len(right), "package"), "ok", ", ".join(right))


def _libraries() -> Iterator[Check]:
    there = []
    for name in _LIBRARIES:
        try:
            ctypes.CDLL(name)
        except OSError:
            state: State = "limited" if "xcb" in name or "x11" in name else "missing"
            lost = "X11 desktops need it." if state == "limited" else "The window needs it."
            yield Check("Screen", name, state, f"This system library is not there. {lost}", install_line(name))
        else:
            there.append(name)
    if there:
        yield Check("Screen", f"{len(there)} system libraries", "ok", ", ".join(there))


def _screen() -> Iterator[Check]:
    yield from _libraries()
    kinds = [kind for kind, name in (("Wayland", "WAYLAND_DISPLAY"), ("X11", "DISPLAY")) if os.environ.get(name)]
    if kinds:
        yield Check("Screen", "Desktop", "ok", f"{' and '.join(kinds)} of this session")
    else:
        said = "No desktop session is running here: commands work, the window does not open."
        yield Check("Screen", "Desktop", "limited", said)


def _programs() -> Iterator[Check]:
    there = []
    for name, purpose, without in _PROGRAMS:
        if tools.where(name) is None:
            line = install_line(name)
            state: State = "missing" if without == "missing" else "limited"
            yield Check("Programs", name, state, f"Not installed. It {purpose}.", line or _no_package(name))
        else:
            there.append(name)
    if there:
        yield Check("Programs", f"{len(there)} programs", "ok", ", ".join(there))


def _no_package(name: str) -> str:
    place = family()
    return f"{place.name.capitalize()} has no package of {name} that is known here." if place is not None else ""


def _rights() -> Iterator[Check]:
    user = getpass.getuser()
    if os.geteuid() == 0:
        yield Check(
            "Rights", "Drives", "ok", "This is root, which may write to every drive. An ordinary user is safer."
        )
    elif drive_service_answers():
        yield Check("Rights", "Drives", "ok", "Through UDisks2, which asks for your password when a card is written.")
    else:
        said = "UDisks2 does not answer, and only root may write to drives without it. Image files can be written."
        yield Check("Rights", "Drives", "limited", said, install_line("udisks2"))
    barred = LinuxInputs().barred()
    if barred:
        said = f"{len(barred)} of the devices in /dev/input may not be read by {user}, so buttons cannot be tested."
        yield Check("Rights", "Buttons and pads", "limited", said, f"sudo usermod -aG input {user}")
    else:
        yield Check("Rights", "Buttons and pads", "ok", "All input devices that are connected may be read.")


def _places() -> Iterator[Check]:
    rows = (
        ("Builds and demos", places.data_folder()),
        ("Own parts", places.catalogue_folder()),
        ("What can be made again", places.cache_folder()),
        ("Scratch files", Path(tempfile.gettempdir())),
    )
    for what, folder in rows:
        there = folder
        while not there.exists() and there != there.parent:
            there = there.parent
        if not there.is_dir() or not os.access(there, os.W_OK | os.X_OK):
            do = "Make it yours, or set XDG_DATA_HOME, XDG_CONFIG_HOME or XDG_CACHE_HOME to a folder that is."
            yield Check("Places", what, "missing", f"{folder} cannot be written.", do)
            continue
        free = shutil.disk_usage(there).free
        said = f"{folder}, {show_bytes(free)} free"
        tight = free < _ROOM
        do = f"Make room: an image and a backup need {show_bytes(_ROOM)} and more." if tight else ""
        yield Check("Places", what, "limited" if tight else "ok", said, do)
    yield Check("Places", "Log of the program", "ok", f"{program_log.place()}: what went wrong, without names and keys")
    yield Check("Places", "Logbook", "ok", f"SQLite {sqlite3.sqlite_version}")


_AREAS: tuple[tuple[str, Callable[[], Iterator[Check]]], ...] = (
    ("System", _system),
    ("Python packages", _packages),
    ("Programs", _programs),
    ("Screen", _screen),
    ("Rights", _rights),
    ("Places", _places),
)


def report(checks: tuple[Check, ...]) -> tuple[str, ...]:
    """The lines to print. Raises nothing."""
    words = {"ok": "ok", "limited": "LIMITED", "missing": "MISSING"}
    lines: list[str] = []
    area = ""
    for check in checks:
        if check.area != area:
            area = check.area
            lines += ["", area] if lines else [area]
        lines.append(f"  {words[check.state]:8} {check.what}: {check.said}")
        if check.do:
            lines.append(f"           {check.do}")
    lines.append("")
    lines.append(CONCLUSION[verdict(checks)])
    todo = lines_to_type(checks)
    if todo:
        lines += ["Type this:", *(f"  {line}" for line in todo)]
    return tuple(lines)


CONCLUSION = {
    "ok": "Everything that Kyklon needs is here.",
    "limited": "Kyklon runs here; what is marked LIMITED cannot be used yet.",
    "missing": "Kyklon cannot do its work here yet: something it needs is missing.",
}
