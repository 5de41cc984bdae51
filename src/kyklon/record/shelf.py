"""The source shelf: image files with what is worth knowing of each, kept across builds."""

from __future__ import annotations

import fnmatch
import json
import os
from pathlib import Path
from typing import Literal

from pydantic import Field, ValidationError

from kyklon.card import checksums
from kyklon.card.source import SourceFacts
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Image
from kyklon.errors import KyklonError
from kyklon.model.record import Record
from kyklon.record.logbook import now

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
            images = ShelfFile.model_validate(json.loads(self.path.read_text(encoding="utf-8"))).images
        except (OSError, ValueError, ValidationError) as bad:
            raise KyklonError(f"{self.path} is no shelf: {bad}", do="Move it away; a new one is begun.") from bad

        base = self.path.parent.resolve()
        return tuple(each.model_copy(update={"path": str(base / each.path)}) for each in images)

    def put(self, image: ShelfImage) -> None:
        """Add an image, or replace the one with the same path."""
        rest = tuple(each for each in self.images() if each.path != image.path)
        self._save((*rest, image))

    def remove(self, path: str) -> None:
        self._save(tuple(each for each in self.images() if each.path != path))

    def _save(self, images: tuple[ShelfImage, ...]) -> None:
        base = self.path.parent.resolve()
        # what lies below the shelf's own folder is kept relative, so that the folder can be moved
        kept = tuple(
            each.model_copy(update={"path": os.path.relpath(each.path, base)})
            if Path(each.path).is_relative_to(base)
            else each
            for each in images
        )
        text = json.dumps(ShelfFile(images=kept).model_dump(mode="json"), indent=1, ensure_ascii=False) + "\n"
        fresh = self.path.with_name(f"{FILE}.new")
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            fresh.write_text(text, encoding="utf-8")
            os.replace(fresh, self.path)
        except OSError as bad:
            raise KyklonError(f"{self.path} cannot be saved: {bad.strerror}.", do="Free some space.") from bad


def shelf_entry(facts: SourceFacts, catalogue: Catalogue, boards: tuple[str, ...] = ()) -> ShelfImage:
    """What is known of an image file: from the catalogue by its name, and from what lies beside it.

    boards: what the file itself tells, used where the catalogue does not know it.
    """
    known = image_of(facts.name, catalogue)
    stated = checksums.beside(facts)
    return ShelfImage(
        path=str(facts.path.resolve()),
        name=known.name if known else facts.name,
        checksum=f"{stated.algorithm} {stated.digest}" if stated else "",
        packed=facts.packed,
        unpacked=facts.unpacked or 0,
        released=known.released if known else "",
        boards=known.boards if known else boards,
        user=known.default_user if known else "",
        password=known.default_password if known else "",
        school=known.school if known else "",
        added=now(),
    )


def image_of(name: str, catalogue: Catalogue) -> Image | None:
    """The catalogue's image whose file names match."""
    for image in catalogue.all(Image):
        if any(fnmatch.fnmatch(name.lower(), pattern.lower()) for pattern in image.files):
            return image
    return None
