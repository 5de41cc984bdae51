"""An image file in place of a drive."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from pathlib import Path

from kyklon.devices.files import FileHandle, open_path
from kyklon.devices.ports import DriveFacts


class ImageFile:
    """One image file, or one to be made, treated as a drive of its own size; size 0: as large as it gets."""

    called = "as a file"

    def __init__(self, path: Path, size: int) -> None:
        self._path, self._size = path, size

    def list(self) -> tuple[DriveFacts, ...]:
        there = self._path.exists()
        return (
            DriveFacts(
                identity=f"file:{self._path.resolve()}",
                name=str(self._path),
                size=self._size,
                bus="file",
                removable=True,
                read_only=there and not os.access(self._path, os.W_OK),
                why_read_only="The file's rights forbid it." if there and not os.access(self._path, os.W_OK) else "",
                labels=(self._path.name,) if there and self._path.stat().st_size else (),
                holds="a file with contents" if there and self._path.stat().st_size else "",
                files=1 if there else 0,
                is_file=True,
            ),
        )

    def part(self, path: Path) -> DriveFacts | None:
        """Override: none here."""
        return None

    def path(self, identity: str) -> Path:
        return self._path

    def unmount(self, identity: str) -> str:
        """Override: a file is never mounted by its own name."""
        return f"{self._path} is not mounted."

    def remove(self, identity: str) -> str:
        """Override."""
        return f"{self._path} is closed."

    def now_holds(self, identity: str, holds: str, label: str = "") -> None:
        """Override: the file shows it."""

    @contextlib.contextmanager
    def open(self, identity: str, *, write: bool) -> Iterator[FileHandle]:
        if write and not self._path.exists():
            self._path.touch()
        with open_path(self._path, write=write, limit=self._size or None) as handle:
            yield handle
