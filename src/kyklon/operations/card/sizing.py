"""Which card to buy: what the machine will hold, with room to grow, and the minutes that a speed class saves."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from kyklon.base.errors import WrongUse
from kyklon.base.quantities import counted, show_bytes, show_duration, show_money, show_share
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Card
from kyklon.model.build import Build
from kyklon.model.world import World
from kyklon.operations.card.drives.judgement import floor
from kyklon.record.folder import resolve

EXT4_CLUSTER = 4096  # bytes: mke2fs' default block
SAVE_BYTES = 512 * 1024  # CP: a save and a state of an average game
PICTURE_BYTES = 400 * 1024  # CP: a cover and a screen picture
SPARE_SHARE = 0.2  # CP: room for updates and wear levelling
SPARE_LEAST = 2_000_000_000  # bytes; CP: an update unpacks beside what it replaces
_COPY_FILES_S = 0.004  # seconds; CP: what each small file costs beside its bytes


@dataclass(frozen=True)
class Item:
    """One part of what the card must hold, in bytes. how: the working, in words."""

    name: str
    size: int
    how: str


@dataclass(frozen=True)
class Offer:
    """A card of the catalogue. minutes: writing the image and the library at its class's floor. load_s: seconds to
    read the largest game at its stated rate. fits: whether all goes on with its spare."""

    card: str
    name: str
    capacity: int
    speed_class: str
    floor_mb_s: float
    minutes: float
    load_s: float
    fits: bool
    price: float


@dataclass(frozen=True)
class Sizing:
    items: tuple[Item, ...]
    need: int
    offers: tuple[Offer, ...]
    advice: str
    sentence: str


def by_cluster(sizes: Iterable[int], cluster: int) -> int:
    """Bytes that files take: each rounded up to whole clusters."""
    return sum(-(-size // cluster) * cluster for size in sizes)


@dataclass(frozen=True)
class Library:
    """files: sizes of its files in bytes. games: how many make saves and have pictures. largest: bytes of the largest
    game."""

    files: tuple[int, ...]
    games: int
    largest: int


def size(
    image_bytes: int, image_why: str, games: Library, cards: tuple[Card, ...], *, cluster: int = EXT4_CLUSTER
) -> Sizing:
    """What a card must hold, and which one to buy.

    The advice is the smallest card that fits; the sentence says what the next one up would buy.
    """
    library = by_cluster(games.files, cluster)
    saves, pictures = games.games * SAVE_BYTES, games.games * PICTURE_BYTES
    held = image_bytes + library + saves + pictures
    spare = max(SPARE_LEAST, math.ceil(held * SPARE_SHARE))
    items = (
        Item("Image", image_bytes, image_why),
        Item("Library", library, f"{counted(len(games.files), 'file')} in clusters of {cluster} bytes"),
        Item("Saves", saves, f"{games.games} games, {SAVE_BYTES // 1024} KiB each"),
        Item("Pictures", pictures, f"{games.games} games, {PICTURE_BYTES // 1024} KiB each"),
        Item("Spare", spare, f"{show_share(SPARE_SHARE)} for updates and wear, at least 2 GB"),
    )
    need = held + spare
    offers = tuple(
        _offer(card, need, image_bytes + library, len(games.files), games.largest)
        for card in sorted(cards, key=lambda card: card.capacity_bytes)
    )
    fitting = [offer for offer in offers if offer.fits]
    if not fitting:
        return Sizing(
            items, need, offers, "", "No card in the catalogue is large enough: plan a disk, or leave some games out."
        )
    best = fitting[0]
    words = f"{best.name} is enough, with {show_bytes(best.capacity - need)} to spare."
    if len(fitting) > 1:
        words += f" {_next_up(best, fitting[1])}"
    return Sizing(items, need, offers, best.card, words)


def _next_up(best: Offer, other: Offer) -> str:
    """What the next card up would buy."""
    more = f"{other.name} costs {show_money(other.price - best.price)} more"
    if not (best.price and other.price):
        more = f"{other.name} is the next size"
    if other.minutes < best.minutes * 0.9:
        saved = show_duration((best.minutes - other.minutes) * 60)
        return f"{more} and saves {saved} at every full write."
    return f"{more} for {show_bytes(other.capacity - best.capacity)}, and its class is no faster."


def _offer(card: Card, need: int, moved: int, files: int, largest: int) -> Offer:
    promised = floor(card.speed_class) or card.write_mb_s
    seconds = moved / (promised * 1e6) + files * _COPY_FILES_S
    return Offer(
        card.id,
        card.name,
        card.capacity_bytes,
        card.speed_class,
        promised,
        seconds / 60,
        largest / (card.read_mb_s * 1e6),
        card.capacity_bytes >= need,
        card.price,
    )


# --- from a build ------------------------------------------------------------------------------------------------


def size_of(build: Build, folder: Path, catalogue: Catalogue, world: World) -> Sizing:
    """Which card a build needs, from what was observed."""
    image = catalogue.find(Image, build.part("image"))
    unpacked = (world.source.unpacked or 0) if world.source else 0
    least = image.least_card_bytes if image else 0
    why = f"{image.name} needs at least {least / 1e9:.0f} GB" if image and least > unpacked else "as unpacked"
    games = world.scan.ready if world.scan else ()
    root = resolve(folder, build.library.folder)
    files = tuple(_size_there(root / name) for game in games for name in game.files)
    largest = max((game.size for game in games), default=0)
    library = Library(files, len(games), largest)
    return size(max(unpacked, least), why, library, _offered(catalogue, build.part("card")))


def _offered(catalogue: Catalogue, own: str | None = None) -> tuple[Card, ...]:
    """The cards to choose from: those with a price, and the build's own; all where none has one."""
    priced = tuple(card for card in catalogue.all(Card) if card.price or card.id == own)
    return priced or catalogue.all(Card)


def size_of_folder(folder: Path, catalogue: Catalogue) -> Sizing:
    """Which card a bare folder of games needs. Raises WrongUse for what is not a folder."""
    if not folder.is_dir():
        raise WrongUse(f"{folder} is not a folder.", do="Name a build folder or a folder of games.")
    files = tuple(path.stat().st_size for path in folder.rglob("*") if path.is_file())
    return size(0, "no image", Library(files, len(files), max(files, default=0)), _offered(catalogue))


def _size_there(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0
