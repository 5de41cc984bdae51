"""The way from an empty card to the first game: its steps, their minutes, and what they ask, as the school has it."""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.catalogue.add_on_records import AddOn
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Bridge, Card, Disk
from kyklon.model.build import Build
from kyklon.model.world import World
from kyklon.operations.card.disk import unpacking_speeds

GROW_B_S = 2e9  # bytes of card a first start enlarges the root by per second, CP
START_MIN = 0.5  # minutes of a first start that has nothing else to do, CP
_UNPACKS_WITHIN = (0.7, 1.6)  # of the computed time, CP: archives differ in how well they unpack
_SET_MB = 200.0  # MB of a set that was not looked at, CP: they are small
CARD_MB_S = 20.0  # MB/s where no card is planned, CP


@dataclass(frozen=True)
class Step:
    """operation: where it is done. minutes: least and most; None where nobody can tell yet. asks: what is still open.
    alone: it runs unattended. key: of a step that not every build of its school has, '' for the others. done: it was
    seen to be."""

    operation: int
    what: str
    minutes: tuple[float, float] | None
    asks: tuple[str, ...] = ()
    alone: bool = False
    key: str = ""
    done: bool = False


def way(build: Build, catalogue: Catalogue, world: World) -> tuple[Step, ...]:
    """The steps of the image's school; nothing without an image."""
    image = catalogue.find(Image, build.part("image"))
    if image is None:
        return ()
    card = catalogue.find(Card, build.part("card"))
    if image.school == "bare metal":
        return _bare_metal(build, card, world)
    steps = [_write(build, image, _mb_s(build, catalogue, card), world)]
    if image.school == "multi-boot":
        return (*steps, *_multi_boot(build, catalogue, world))
    return (*steps, *_with_system(build, image, card, world, _mb_s(build, catalogue, card)[0]))


def _mb_s(build: Build, catalogue: Catalogue, card: Card | None) -> tuple[float, float]:
    """MB/s of writing and reading back at this computer: of the disk where the build starts from one."""
    disk = catalogue.find(Disk, build.part("disk")) if build.medium == "disk" else None
    bridge = catalogue.find(Bridge, build.part("bridge")) if disk is not None else None
    if disk is not None:
        most = bridge.mb_s if bridge is not None else disk.read_mb_s
        return min(disk.write_mb_s, most), min(disk.read_mb_s, most)
    return (card.write_mb_s, card.read_mb_s) if card else (CARD_MB_S, CARD_MB_S)


def _write(build: Build, image: Image, mb_s: tuple[float, float], world: World) -> Step:
    """Written, and read back."""
    size = world.source.unpacked if world.source else 0
    asks = () if build.source.path else (f"the image file of {image.name}",)
    minutes = None
    if size:
        write, read = mb_s
        least = (size / write + size / read) / 1e6 / 60
        minutes = (least, least)
    return Step(20, "Write the image", minutes, asks)


def _with_system(build: Build, image: Image, card: Card | None, world: World, write: float) -> tuple[Step, ...]:
    asks = []
    if image.network_service in build.boot.services and not build.boot.country:
        asks.append("the Wi-Fi country")
    if image.installer_service and not build.system.wireless_name and not build.system.wired:
        asks.append("a network")
    steps = [Step(30, "Copy the boot files", (0.1, 0.1), tuple(asks))]
    grows = card.capacity_bytes / GROW_B_S / 60 if card and image.grows else 0.0
    first = START_MIN + grows
    if image.installer_service:
        low, high = image.unattended_min
        steps.append(Step(90, f"Start: fetches {image.front_end}", (first + low, first + high), alone=True))
    else:
        steps.append(Step(90, "First boot: the card grows" if grows else "Start it", (first, first), alone=True))
    size = sum(game.size for game in world.scan.ready) if world.scan else 0
    minutes = (size / write / 1e6 / 60,) * 2 if size else None
    asks_library = () if build.library.folder else ("the folder of your games",)
    steps.append(Step(60, "Copy the games", minutes, asks_library))
    return tuple(steps)


def _bare_metal(build: Build, card: Card | None, world: World) -> tuple[Step, ...]:
    asks = () if build.sets.bare_metal else ("the folder of the unpacked set",)
    write = card.write_mb_s if card else CARD_MB_S
    minutes = (world.sets.size / 1e6 if world.sets else _SET_MB) / write / 60
    return (
        Step(20, "Make the card", (minutes, minutes), asks),
        Step(30, "Copy the boot files", (0.1, 0.1)),
        Step(90, "It boots in seconds", (0.1, 0.2)),
    )


def _multi_boot(build: Build, catalogue: Catalogue, world: World) -> tuple[Step, ...]:
    """Each system that goes on is a step, with what was seen of it on the machine; a later release is one more."""
    asks = () if build.sets.multi_boot else ("the folder of the bundles",)
    if build.sets.multi_boot and not build.sets.chosen:
        asks = ("the systems to include",)
    seen, speeds = world.sets, unpacking_speeds(build, catalogue)
    copied = (seen.size / speeds.writes / 60,) * 2 if seen is not None else None
    found = [Step(20, "Copy the bundles", copied, asks), Step(30, "Copy the boot files", (0.1, 0.1))]
    if seen is None or not seen.systems:
        return (*found, Step(90, "It unpacks what you pick", (1, 30), ("which system starts",), alone=True))
    tried = {row.bundle: row for row in build.sets.tried}
    add_ons = [each for each in catalogue.all(AddOn) if each.id in build.system.add_ons]
    for system in seen.systems:
        row, key = tried.get(system.folder), f"unpack-{system.folder}"
        minutes = tuple(system.unpack_s / 60 * factor for factor in _UNPACKS_WITHIN)
        newer = row is not None and bool(row.released) and system.released > row.released
        if newer:
            what = f"Update {system.name}: keep its saves, copy its bundle, unpack it again"
            found.append(Step(95, what, minutes, alone=True, key=f"update-{system.folder}-{system.released[:10]}"))  # type: ignore[arg-type]
        else:
            started = row is not None and row.started
            found.append(Step(90, f"Unpack {system.name}", minutes, alone=True, key=key, done=started))  # type: ignore[arg-type]
        for add_on in add_ons:
            what, name = f"Install {add_on.name} in {system.name}", f"add-on-{system.folder}-{add_on.id}"
            found.append(Step(30, what, add_on.minutes, alone=True, key=name))
    return tuple(found)


def in_words(minutes: tuple[float, float] | None) -> str:
    """Minutes as the screen says them."""
    if minutes is None:
        return "time not known yet"
    low, high = (max(1, round(minute)) for minute in minutes)
    if high <= 1:
        return "a minute" if minutes[1] >= 0.5 else "seconds"
    return f"{low} to {high}\u202fmin" if low != high else f"{low}\u202fmin"
