"""The size of a card."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from kyklon.base.quantities import show_bytes, show_duration
from kyklon.commands.line import Argument
from kyklon.commands.shared import OK, STOPS, Json, catalogue, out
from kyklon.operations.inspection import observe
from kyklon.record import folder as store

if TYPE_CHECKING:
    from kyklon.operations.card.disk import Reading
    from kyklon.operations.card.sizing import Sizing


def size(
    folder: Annotated[Path, Argument(help="A build folder, or a folder of games.", metavar="FOLDER")],
    as_json: Json = False,
) -> int:
    """Show which card to buy.

    With a disk chosen, also what is read faster from it. Exit 1 when no card of the catalogue is large enough.
    """
    found, read = _sizing(folder)

    def lines() -> list[str]:
        told = [f"{item.name:10} {show_bytes(item.size):>9}  {item.how}" for item in found.items]
        told.append(f"{'Needed':10} {show_bytes(found.need):>9}")
        for offer in found.offers:
            fits = "fits" if offer.fits else "too small"
            told.append(
                f"  {offer.name:16} {show_bytes(offer.capacity):>9}  {fits:9} {offer.speed_class:6} "
                f"{offer.minutes:.0f} min to fill, largest game loads in {offer.load_s:.1f} s"
            )
        told.append(found.sentence)
        for row in read:
            guess = ", about" if row.guessed else ""
            told.append(
                f"{row.what} ({show_bytes(row.size)}{guess}): {show_duration(row.disk_s)} from the disk, "
                f"{show_duration(row.card_s)} from the card"
            )
        return told

    out(asdict(found) | {"disk": [asdict(row) for row in read]}, as_json, lines)
    return OK if found.advice else STOPS


def _sizing(folder: Path) -> tuple[Sizing, tuple[Reading, ...]]:
    from kyklon.operations.card.disk import outlook, readings
    from kyklon.operations.card.sizing import size_of, size_of_folder

    parts = catalogue()
    if not (folder / store.CURRENT).exists():
        return size_of_folder(folder, parts), ()
    build = store.load(folder).build
    world, other = observe(build, folder, parts), outlook(build, parts)
    return size_of(build, folder, parts, world), readings(other, build, world) if other else ()
