"""Writing that survives a crash: a file is replaced whole or not at all, a copy counts once it was read back.

Everything the program keeps goes through here: builds, the shelf, stand-in drives, issued files, games, bundles.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import hashlib
import os
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO

from kyklon.base import reading
from kyklon.base.errors import KyklonError, VerifyError
from kyklon.base.inside import refuse_link_on_the_way, refuse_systems_own

_BLOCK = 1 << 20  # bytes copied at a time
UNFINISHED = ".unfinished"  # ending of a file that is not whole yet
LOCK = ".lock"  # ending of an empty file that is held while its neighbour is changed
_LONGEST_STEM = 200  # bytes; with the ending below the 255 that common file systems allow a name


def _nothing(_count: int) -> None:
    """For who does not care how far a copy is."""


@contextlib.contextmanager
def _fresh(path: Path) -> Iterator[tuple[Path, IO[bytes]]]:
    """A file beside `path` for the new contents, and its name; whatever goes wrong, nothing is left under it.

    The name is always the same, so that what a crash left behind is used up by the next attempt; the lock makes a
    second writer wait its turn.
    """
    refuse_systems_own(path)
    stem = os.fsencode(path.name)[:_LONGEST_STEM].decode(errors="ignore")
    with _locked(path.with_name(f".{stem}{UNFINISHED}")) as (fresh, file):
        try:
            yield fresh, file
        except BaseException:  # not after a success: the name may be the next writer's by then
            fresh.unlink(missing_ok=True)
            raise


@contextlib.contextmanager
def _locked(path: Path) -> Iterator[tuple[Path, IO[bytes]]]:
    """A file, empty and locked, that still has this name. Raises OSError; a link of that name is not followed.

    On a file system without locks it is one that nobody else has the name of.
    """
    flags = os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC
    while True:
        file = os.fdopen(os.open(path, flags, 0o666), "wb")
        with file:
            try:
                fcntl.flock(file.fileno(), fcntl.LOCK_EX)
            except OSError:
                break
            if _still_named(file.fileno(), path):
                file.truncate(0)
                yield path, file
                return
        # the writer before us has given it its name
    own = path.with_name(f"{path.name}-{os.getpid()}-{threading.get_ident()}")
    with os.fdopen(os.open(own, flags | os.O_EXCL, 0o666), "wb") as file:
        yield own, file


def _still_named(descriptor: int, path: Path) -> bool:
    try:
        return os.path.samestat(os.fstat(descriptor), path.lstat())
    except FileNotFoundError:
        return False


def _sync_folder(folder: Path) -> None:
    """Make a renaming last: the folder's own entry goes to the disk too."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        os.fsync(descriptor)
    except OSError:  # some file systems cannot sync a folder; the file itself is safe
        return
    finally:
        os.close(descriptor)


_turns: dict[Path, threading.RLock] = {}
_held = threading.local()


@contextlib.contextmanager
def alone(path: Path, *, wait: bool = True) -> Iterator[None]:
    """Read, change and write `path` with nobody else of this or another program at it: who asks second waits.

    wait: False to raise BlockingIOError instead. The lock is a file beside it; it is of the kernel's keeping, so none
    is left of a program that was killed. May be nested. Raises OSError where the folder cannot be written.
    """
    path = path.resolve()
    turn = _turns.setdefault(path, threading.RLock())
    if not turn.acquire(blocking=wait):
        raise BlockingIOError(errno.EWOULDBLOCK, os.strerror(errno.EWOULDBLOCK), str(path))
    try:
        depth: dict[Path, int] = _held.__dict__.setdefault("depth", {})
        if depth.get(path):
            yield
            return
        path.parent.mkdir(parents=True, exist_ok=True)
        flags = os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC
        descriptor = os.open(path.with_name(f".{path.name}{LOCK}"), flags, 0o666)
        try:
            try:
                fcntl.flock(descriptor, fcntl.LOCK_EX | (0 if wait else fcntl.LOCK_NB))
            except BlockingIOError:
                raise
            except OSError:  # a file system without locks
                pass
            depth[path] = 1
            yield
        finally:
            depth.pop(path, None)
            os.close(descriptor)
    finally:
        turn.release()


def replace(path: Path, data: bytes) -> None:
    """Put `data` in place of a file, in one step: at every moment the old or the new contents are whole.

    Folders on the way are made. Raises OSError; the old file is then untouched.
    """
    refuse_link_on_the_way(path)
    path.parent.mkdir(parents=True, exist_ok=True)
    with _fresh(path) as (fresh, file):
        file.write(data)
        file.flush()
        os.fsync(file.fileno())
        os.replace(fresh, path)
    _sync_folder(path.parent)


def replace_text(path: Path, text: str) -> None:
    """The same for text, as UTF-8; bytes of file names that are no text (PEP 383) as escapes, which JSON reads back."""
    replace(path, text.encode("utf-8", "backslashreplace"))


def keep(path: Path, data: bytes) -> None:
    """As replace(), for a file that somebody asked for by name. Raises KyklonError in words."""
    try:
        replace(path, data)
    except OSError as bad:
        raise KyklonError(f"{path} cannot be written: {bad.strerror}.", do="Choose another place.") from bad


def copy(source: Path, target: Path, moved: Callable[[int], object] = _nothing) -> bool:
    """Copy a file, read the copy back from the medium, and only then give it its name. False when it was there.

    moved: called with the bytes just copied, between two blocks; what it raises stops the copy. Raises OSError,
    VerifyError. Nothing half-done is left under the target's name.
    """
    wanted = hashlib.sha256()
    if target.is_file() and target.stat().st_size == source.stat().st_size and _digest(target) == _digest(source):
        moved(source.stat().st_size)
        return False
    refuse_link_on_the_way(target)
    target.parent.mkdir(parents=True, exist_ok=True)
    with _fresh(target) as (fresh, writer):
        with reading.opened(source) as reader:
            while block := reader.read(_BLOCK):
                moved(len(block))
                wanted.update(block)
                writer.write(block)
        writer.flush()
        os.fsync(writer.fileno())
        os.posix_fadvise(writer.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
        if _digest(fresh) != wanted.digest():
            raise VerifyError(f"{target} reads back differently.", do="The stick or card is worn. Use another one.")
        os.replace(fresh, target)
    _sync_folder(target.parent)
    return True


def sweep(folder: Path) -> None:
    """Take away unfinished files that nobody holds any more. Never raises: a folder that cannot be swept stays."""
    with contextlib.suppress(OSError):
        for path in folder.iterdir():
            if UNFINISHED in path.name and path.name.startswith(".") and path.is_file() and not path.is_symlink():
                with contextlib.suppress(OSError), path.open("rb+") as file:
                    fcntl.flock(file.fileno(), fcntl.LOCK_EX | fcntl.LOCK_NB)
                    path.unlink()


def _digest(path: Path) -> bytes:
    with reading.opened(path) as file:
        return hashlib.file_digest(file, "sha256").digest()
