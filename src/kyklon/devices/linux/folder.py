"""A folder of this computer that games go to: a stick's, a share's, or that of a card's own file system."""

from __future__ import annotations

import contextlib
import ctypes
import errno
import os
import stat
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path
from typing import BinaryIO

from kyklon.base.errors import KyklonError, TargetError, TargetFull, TargetLocked, TargetLost
from kyklon.base.inside import files_below, inside, refuse_systems_own
from kyklon.devices.destination import Limits, limits_of

_MODE, _FOLDER_MODE = 0o644, 0o755  # readable by whoever plays, CP
_GONE = (errno.ENODEV, errno.ENXIO, errno.EIO, errno.ESTALE, errno.ENOTCONN, errno.EHOSTDOWN)


class Folder:
    """path: of the folder; made when it is first written to."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._ways: dict[str, Path] = {}

    @property
    def name(self) -> str:
        return str(self._path)

    @cached_property
    def limits(self) -> Limits:
        there = next(each for each in (self._path, *self._path.parents) if each.exists())
        with _told(self.name):
            return limits_of(kind_of(there), os.statvfs(there).f_frsize)

    def free(self) -> int | None:
        there = next(each for each in (self._path, *self._path.parents) if each.exists())
        with _told(self.name):
            told = os.statvfs(there)
        return told.f_bavail * told.f_frsize

    def size_of(self, path: str) -> int | None:
        with contextlib.suppress(OSError):
            status = self._at(path).stat()
            return status.st_size if stat.S_ISREG(status.st_mode) else None
        return None

    def stamp_of(self, path: str) -> str:
        with contextlib.suppress(OSError):
            status = self._at(path).stat()
            return f"{status.st_size}-{status.st_mtime_ns}"
        return ""

    def files(self, top: str) -> Iterator[tuple[str, int, int]]:
        folder = self._at(top) if top else self._path
        if folder.is_dir():
            with _told(self.name):
                for path, status in files_below(folder):
                    yield path, status.st_size, status.st_mode

    @contextlib.contextmanager
    def read(self, path: str) -> Iterator[BinaryIO]:
        with _told(path), self._at(path).open("rb") as file:
            with contextlib.suppress(OSError):
                os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
            yield file

    @contextlib.contextmanager
    def write(self, path: str, at: int) -> Iterator[BinaryIO]:
        whole = self._at(path)
        with _told(path):
            refuse_systems_own(whole)
            self._make_folders(whole.parent)
            flags = os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC
            with os.fdopen(os.open(whole, flags, _MODE), "r+b") as file:
                file.truncate(at)
                file.seek(at)
                self._own(file.fileno(), whole.parent, _MODE)
                yield file

    def _make_folders(self, folder: Path) -> None:
        missing = []
        while not folder.exists():
            missing.append(folder)
            folder = folder.parent
        for each in reversed(missing):
            each.mkdir(exist_ok=True)
            self._own(each, each.parent, _FOLDER_MODE)

    def _own(self, what: int | Path, like: Path, mode: int) -> None:
        """Owner and group as the folder above has them, where this user may give files away."""
        if not self.limits.owned:
            return
        status = like.stat()
        with contextlib.suppress(OSError):
            os.chmod(what, mode)
        if os.geteuid() == 0:
            with contextlib.suppress(OSError):
                os.chown(what, status.st_uid, status.st_gid)

    def rename(self, old: str, new: str) -> None:
        with _told(new):
            target = self._at(new)
            self._make_folders(target.parent)
            os.replace(self._at(old), target)

    def settle(self) -> None:
        if self._path.is_dir():
            with _told(self.name):
                _sync_all(self._path)

    def remove(self, path: str) -> None:
        with _told(path):
            self._at(path).unlink(missing_ok=True)

    def remove_folder(self, path: str) -> None:
        with contextlib.suppress(OSError):
            self._at(path).rmdir()

    def close(self) -> None:
        self.settle()

    def _at(self, path: str) -> Path:
        """A path below the folder; the way to it is looked at once, the last step each time."""
        above, _, name = path.rpartition("/")
        if name in ("", ".", "..") or "\\" in path or "\0" in path:
            return inside(self._path, path)
        if above not in self._ways:
            whole = inside(self._path, path)
            self._ways[above] = whole.parent
            return whole
        whole = self._ways[above] / name
        return inside(self._path, path) if whole.is_symlink() else whole


def _sync_all(folder: Path) -> None:
    """Put everything of a folder's file system on its medium: one wait for many files (syncfs(2)). Raises OSError."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        if ctypes.CDLL(None, use_errno=True).syncfs(descriptor):
            number = ctypes.get_errno()
            raise OSError(number, os.strerror(number), str(folder))
    finally:
        os.close(descriptor)


@contextlib.contextmanager
def _told(what: str) -> Iterator[None]:
    """What the system refuses, in words."""
    try:
        yield
    except KyklonError:
        raise
    except OSError as bad:
        where = bad.filename or what
        if bad.errno in (errno.ENOSPC, errno.EDQUOT):
            raise TargetFull(
                f"{where}: it is full.", do=("Choose fewer games or a larger one; what is already there stays.")
            ) from bad
        if bad.errno == errno.EROFS:
            raise TargetLocked(
                f"{where}: it can only be read.", do=("Check for a write-protect switch, or mount it for writing.")
            ) from bad
        if bad.errno in _GONE:
            raise TargetLost(
                f"{where} was disconnected: {bad.strerror}.", do="Plug it in again and go on: nothing is lost."
            ) from bad
        raise TargetError(
            f"{where} failed: {bad.strerror}.", do="Check that you have permission to write there."
        ) from bad


def kind_of(path: Path) -> str:
    """The kind of file system that a path lies on, as the kernel names it (proc_pid_mountinfo(5)); '' when it does not
    tell."""
    try:
        device = os.stat(path).st_dev
        wanted = f"{os.major(device)}:{os.minor(device)}"
        for line in Path("/proc/self/mountinfo").read_text(encoding="utf-8", errors="surrogateescape").splitlines():
            own, _, rest = line.partition(" - ")
            if own.split(" ")[2] == wanted:
                return rest.split(" ")[0]
    except (OSError, IndexError):
        return ""
    return ""
