"""Paths that must not lead elsewhere: opened without following links, joined without leaving their folder."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
from collections.abc import Iterator
from pathlib import Path, PurePosixPath

from kyklon.base.errors import WrongUse

_KERNELS_OWN = ("/dev", "/proc", "/sys", "/run")  # folders that hold devices and states, not files (hier(7))


def systems_own(path: Path) -> str:
    """'/dev' and the like when a file of this name would be made in the system's own folder, '' else.

    A stick mounted below /run, or the memory disk /dev/shm, is a place like any other.
    """
    folder = path.parent.resolve()
    for own in _KERNELS_OWN:
        if own in (str(folder), *map(str, folder.parents)):
            with contextlib.suppress(OSError):
                if own in ("/dev", "/run") and folder.stat().st_dev != Path(own).stat().st_dev:
                    return ""
            return own
    return ""


def refuse_systems_own(path: Path) -> None:
    """Raise WrongUse for a place that is the system's own."""
    own = systems_own(path)
    if own:
        what = (
            f"There is no drive {path}." if own == "/dev" and not path.exists() else f"{path} is no place for a file."
        )
        raise WrongUse(what, do=f"{own} belongs to the system. `kyklon drives` lists the drives.")


BUILD_FILE = "build.json"  # what makes a folder a build's


def refuse_link_on_the_way(path: Path) -> None:
    """Raise WrongUse where a folder between a build and its file is a link: it would lead what is written elsewhere."""
    passed: list[Path] = []
    for above in path.absolute().parents:
        if (above / BUILD_FILE).exists():
            for folder in passed:
                if folder.is_symlink():
                    raise WrongUse(
                        f"{folder} is a link to another folder; nothing is written through it.",
                        do="Move it aside and try again.",
                    )
            return
        passed.append(above)


@contextlib.contextmanager
def open_file(path: Path, flags: int, *, exclusive_device: bool = False, mode: int = 0o666) -> Iterator[int]:
    """A descriptor of `path`, with no link followed in any of its folders. Raises OSError (ELOOP for a link).

    exclusive_device: O_EXCL where it turns out to be a block device.
    """
    with _folder(path.parent) as folder:
        if exclusive_device and stat.S_ISBLK(os.stat(path.name, dir_fd=folder, follow_symlinks=False).st_mode):
            flags |= os.O_EXCL
        descriptor = os.open(path.name, flags | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK, mode, dir_fd=folder)
    try:
        yield descriptor
    finally:
        os.close(descriptor)


@contextlib.contextmanager
def _folder(path: Path) -> Iterator[int]:
    """A folder, entered step by step from the top."""
    held = os.open("/" if path.is_absolute() else ".", os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        for step in path.parts[1:] if path.is_absolute() else path.parts:
            inner = os.open(step, os.O_PATH | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=held)
            os.close(held)
            held = inner
        yield held
    except OSError as bad:
        if bad.errno == errno.ENOTDIR:  # O_PATH says so of a link, too
            raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), str(path)) from bad
        raise
    finally:
        os.close(held)


def inside(folder: Path, name: str) -> Path:
    """folder/name for a name that comes from data: a manifest, an archive, a card. Raises WrongUse.

    The result stays in the folder: no absolute path, no '..', no link on the way that leads out, nothing that a file
    system cannot keep.
    """
    pure = PurePosixPath(name.replace("\\", "/"))
    if not name or pure.is_absolute() or ".." in pure.parts or "\0" in name or not pure.parts:
        raise WrongUse(f"{name!r} leads outside {folder}.", do="Leave it out: it cannot be used here.")
    whole = folder.joinpath(*pure.parts)
    try:
        leads = whole.resolve()
    except (OSError, RuntimeError) as bad:  # a link that leads to itself
        raise WrongUse(f"{name!r} leads nowhere.", do="Leave it out.") from bad
    if not leads.is_relative_to(folder.resolve()):
        raise WrongUse(f"{name!r} leads out of {folder} by a link.", do="Leave it out, or remove the link.")
    return whole


MOST_FILES = 500_000  # of one folder with all below it
DEEPEST = 64  # folders within folders


def files_below(folder: Path) -> Iterator[tuple[str, os.stat_result]]:
    """Every file below a folder: its path with forward slashes, and what stat tells; in order.

    A link is followed to a file that lies below the folder too, and to nothing else. Raises OSError for the folder
    itself, WrongUse for one that is deeper or fuller than anybody's.
    """
    top = folder.resolve()
    waiting = [("", 0)]
    count = 0
    while waiting:
        below, depth = waiting.pop()
        try:
            with os.scandir(folder / below) as entries:
                found = sorted(entries, key=lambda entry: entry.name)
        except OSError:
            if not below:
                raise
            continue  # a folder that may not be read
        folders = []
        for entry in found:
            count += 1
            if count > MOST_FILES or depth > DEEPEST:
                raise WrongUse(
                    f"{folder} holds more than {MOST_FILES} files, or folders {DEEPEST} deep.",
                    do="Choose the folder that is meant, not one far above it.",
                )
            path = f"{below}{entry.name}"
            with contextlib.suppress(OSError):  # a link that leads nowhere, or was just removed
                if entry.is_dir(follow_symlinks=False):
                    folders.append((f"{path}/", depth + 1))
                elif entry.is_file() and (not entry.is_symlink() or Path(entry.path).resolve().is_relative_to(top)):
                    yield path, entry.stat()
        waiting += reversed(folders)
