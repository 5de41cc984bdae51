"""Working folders that do not outlive their program for long: what a killed one left is swept at the next start."""

from __future__ import annotations

import contextlib
import fcntl
import os
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

PREFIX = "kyklon-"
_LOCK = ".held"


@contextlib.contextmanager
def folder(purpose: str) -> Iterator[Path]:
    """An empty folder, taken away at the end. purpose: a word in its name."""
    with tempfile.TemporaryDirectory(prefix=f"{PREFIX}{purpose}-") as name, _held(Path(name) / _LOCK):
        inner = Path(name) / "work"
        inner.mkdir()
        yield inner


@contextlib.contextmanager
def _held(path: Path) -> Iterator[None]:
    """A lock that ends with the process, however that ends."""
    descriptor = os.open(path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    try:
        with contextlib.suppress(OSError):
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        yield
    finally:
        os.close(descriptor)


def sweep(place: Path | None = None) -> int:
    """Take away working folders whose program has ended; how many. Anybody else's, and those in use, stay."""
    swept = 0
    for path in (place or Path(tempfile.gettempdir())).glob(f"{PREFIX}*"):
        with contextlib.suppress(OSError):
            lock = path / _LOCK
            if path.is_symlink() or path.lstat().st_uid != os.geteuid() or not lock.exists():
                continue
            descriptor = os.open(lock, os.O_RDWR | os.O_NOFOLLOW | os.O_CLOEXEC)
            try:
                fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)  # fails while its program lives
                shutil.rmtree(path, ignore_errors=True)
                swept += 1
            finally:
                os.close(descriptor)
    return swept
