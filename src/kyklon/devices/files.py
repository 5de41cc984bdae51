"""A handle on a file or a block device, with the operating system's errors told in our words."""

from __future__ import annotations

import contextlib
import errno
import os
from collections.abc import Iterator
from pathlib import Path

from kyklon.errors import TargetError, TargetFull, TargetLost

_MEANING: dict[int, tuple[type[TargetError], str, str]] = {
    errno.ENOSPC: (TargetFull, "is full", "Use a larger one."),
    errno.EFBIG: (TargetFull, "cannot hold a file of this size", "Use another file system."),
    errno.ENODEV: (TargetLost, "went away", "Plug it in again and start anew."),
    errno.ENXIO: (TargetLost, "went away", "Plug it in again and start anew."),
    errno.ENOENT: (TargetLost, "is not there", "Plug it in and choose it again."),
    errno.EIO: (TargetError, "reported a fault", "Try another reader; the card may be worn."),
    errno.EROFS: (TargetError, "is read-only", "Move the slider on the card or its adapter."),
    errno.EACCES: (TargetError, "may not be written by you", "Ask for the right to write drives."),
    errno.EPERM: (TargetError, "may not be written by you", "Ask for the right to write drives."),
    errno.EBUSY: (TargetError, "is in use", "Unmount it first."),
}


@contextlib.contextmanager
def told_of(path: Path, offset: int = 0) -> Iterator[None]:
    """Translate OSError into the error tree, once, at the border."""
    try:
        yield
    except OSError as bad:
        kind, words, remedy = _MEANING.get(bad.errno or 0, (TargetError, f"failed: {bad.strerror}", ""))
        raise kind(f"{path} {words} at byte {offset}.", do=remedy) from bad


class FileHandle:
    """Positioned reads and writes on a file descriptor; limit: the size in bytes it pretends to have."""

    def __init__(self, descriptor: int, path: Path, limit: int | None = None) -> None:
        self._descriptor, self._path, self._limit = descriptor, path, limit

    def write_at(self, data: bytes | memoryview, offset: int) -> None:
        if self._limit is not None and offset + len(data) > self._limit:
            raise TargetFull(f"{self._path} ends at byte {self._limit}.", do="Use a larger one.")
        view = memoryview(data)
        with told_of(self._path, offset):
            while view:
                done = os.pwrite(self._descriptor, view, offset)
                view, offset = view[done:], offset + done

    def read_at(self, length: int, offset: int) -> bytes:
        parts: list[bytes] = []
        with told_of(self._path, offset):
            while length:
                part = os.pread(self._descriptor, length, offset)
                if not part:
                    break
                parts.append(part)
                length, offset = length - len(part), offset + len(part)
        return parts[0] if len(parts) == 1 else b"".join(parts)

    def sync(self) -> None:
        with told_of(self._path):
            os.fsync(self._descriptor)

    def forget_cache(self) -> None:
        with told_of(self._path):
            os.posix_fadvise(self._descriptor, 0, 0, os.POSIX_FADV_DONTNEED)


@contextlib.contextmanager
def open_path(path: Path, *, write: bool, exclusive: bool = False, limit: int | None = None) -> Iterator[FileHandle]:
    """exclusive: O_EXCL, which on a block device refuses one that is mounted (open(2))."""
    flags = (os.O_RDWR if write else os.O_RDONLY) | os.O_CLOEXEC | (os.O_EXCL if exclusive else 0)
    with told_of(path):
        descriptor = os.open(path, flags)
    try:
        yield FileHandle(descriptor, path, limit)
    finally:
        os.close(descriptor)
