"""An image file in place of a drive."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from pathlib import Path

from kyklon.base.errors import TargetError
from kyklon.base.inside import open_file, refuse_systems_own
from kyklon.devices.files import FileHandle, open_path
from kyklon.devices.layers import held_node
from kyklon.devices.places import holds_anything
from kyklon.devices.ports import DriveFacts


class ImageFile:
    """One image file, or one to be made, treated as a drive of its own size; size 0: as large as it gets."""

    called = "as a file"

    def __init__(self, path: Path, size: int) -> None:
        refuse_systems_own(path)
        self._name, self._path, self._size = str(path), path.resolve(), size

    def list(self) -> tuple[DriveFacts, ...]:
        there = self._path.exists()
        locked = there and not os.access(self._path, os.W_OK)
        full = there and holds_anything(self._path)
        return (
            DriveFacts(
                identity=f"file:{self._path}",
                name=self._name,
                size=self._size,
                bus="file",
                removable=True,
                read_only=locked,
                why_read_only="The file's rights forbid it." if locked else "",
                labels=(self._path.name,) if full else (),
                holds="a file with contents" if full else "",
                files=1 if full else 0,
                is_file=True,
                node=held_node(self._path),
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
        made = write and self._made()
        try:
            with open_path(self._path, write=write, limit=self._size or None) as handle:
                yield handle
        finally:
            if made and self._path.is_file() and not self._path.stat().st_size:
                self._path.unlink()  # nothing came of it

    def _made(self) -> bool:
        """Make the file when it is not there."""
        refuse_systems_own(self._path)
        try:
            with open_file(self._path, os.O_RDWR | os.O_CREAT | os.O_EXCL):
                return True
        except FileExistsError:
            return False
        except OSError as bad:
            raise TargetError(f"{self._path} cannot be made: {bad.strerror}.", do="Choose another place.") from bad
