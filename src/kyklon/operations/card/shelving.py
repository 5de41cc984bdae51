"""What goes on the source shelf with an image: what the catalogue, the image itself and the files beside it tell."""

from __future__ import annotations

import fnmatch

from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.model.card import CardContents
from kyklon.model.image_file import SourceFacts
from kyklon.operations import checksums
from kyklon.record.logbook import now
from kyklon.record.shelf import ShelfImage


def boards_served(inside: CardContents, catalogue: Catalogue) -> tuple[str, ...]:
    """Boards of the catalogue that a card's kernels and device trees serve."""
    sets = {kernel.instruction_set for kernel in inside.kernels}
    names = {name.lower().rsplit("/", 1)[-1] for name in inside.sizes}
    return tuple(
        board.id for board in catalogue.all(Board) if sets & set(board.runs) and board.device_tree.lower() in names
    )


def shelf_entry(facts: SourceFacts, catalogue: Catalogue, boards: tuple[str, ...] = ()) -> ShelfImage:
    """What is known of an image file: from the catalogue by its name, and from what lies beside it.

    boards: what the file itself tells, used where the catalogue does not know it.
    """
    known = image_of(facts.name, catalogue)
    stated = checksums.beside(facts)
    return ShelfImage(
        path=facts.place,
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
