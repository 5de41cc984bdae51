"""The source shelf: image files with what is worth knowing of each, kept across builds."""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Literal

from pydantic import Field, ValidationError

from kyklon.base import durable
from kyklon.base.errors import KyklonError
from kyklon.base.reading import bytes_of, json_of
from kyklon.model.record import Record

FILE = "shelf.json"
School = Literal["complete image", "base and installer", "bare metal", "multi-boot", ""]


class ShelfImage(Record):
    """An image on the shelf. checksum: algorithm and digest as 'SHA-256 ab12…', '' while unknown. packed and unpacked
    in bytes, unpacked 0 while unknown. password: the one it comes with; it is to be changed at the first start."""

    path: str
    name: str = ""
    checksum: str = ""
    packed: int = 0
    unpacked: int = 0
    released: str = ""
    boards: tuple[str, ...] = ()
    user: str = ""
    password: str = ""
    school: School = ""
    added: str = ""


class ShelfFile(Record):
    images: tuple[ShelfImage, ...] = Field(default=())


class Shelf:
    """A shelf.json. Loaded anew for each act: two windows may share it."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def images(self) -> tuple[ShelfImage, ...]:
        """Raises KyklonError for a file that is no shelf; it is left as it is."""
        if not self.path.exists():
            return ()
        try:
            images = ShelfFile.model_validate(json_of(bytes_of(self.path), str(self.path))).images
        except (KyklonError, ValidationError) as bad:
            raise KyklonError(
                f"{self.path} is not a valid shelf file: {bad}", do="Move it away; a new one will be created."
            ) from bad

        base = self.path.parent.resolve()
        return tuple(image.model_copy(update={"path": str(base / image.path)}) for image in images)

    def put(self, image: ShelfImage) -> None:
        """Add an image, or replace the one with the same path."""
        with self._alone():
            rest = tuple(each for each in self.images() if each.path != image.path)
            self._save((*rest, image))

    def remove(self, *paths: str) -> None:
        with self._alone():
            self._save(tuple(image for image in self.images() if image.path not in paths))

    @contextlib.contextmanager
    def _alone(self) -> Iterator[None]:
        try:
            with durable.alone(self.path):
                yield
        except OSError as bad:
            raise KyklonError(f"{self.path} cannot be written: {bad.strerror}.", do="Free some space.") from bad

    def _save(self, images: tuple[ShelfImage, ...]) -> None:
        base = self.path.parent.resolve()
        # what lies below the shelf's own folder is kept relative, so that the folder can be moved
        kept = tuple(
            image.model_copy(update={"path": os.path.relpath(image.path, base)})
            if Path(image.path).is_relative_to(base)
            else image
            for image in images
        )
        text = json.dumps(ShelfFile(images=kept).model_dump(mode="json"), indent=1, ensure_ascii=False) + "\n"
        durable.keep(self.path, text.encode("utf-8", "backslashreplace"))
