"""The demo's games: invented titles, invented bytes, and the usual mess."""

from __future__ import annotations

import random
import zipfile
from pathlib import Path

from kyklon.demo.noise import noise
from kyklon.operations.library.scan import SYSTEM_FILES

FIRST = (
    "Brass", "Tidal", "Copper", "Velvet", "Cinder", "Juniper", "Paper", "Marble", "Hollow", "Rusty",
    "Quartz", "Mossy", "Pewter", "Saffron", "Thistle", "Umber", "Gravel", "Linen", "Walnut", "Drizzle",
)  # fmt: skip
SECOND = (
    "Orchard", "Causeway", "Ferryman", "Almanac", "Parade", "Clockworks", "Regatta", "Menagerie", "Turnstile",
    "Bakery", "Semaphore", "Quarry", "Vineyard", "Locksmith", "Weathervane", "Signalman", "Allotment", "Boatyard",
)  # fmt: skip
COUNTS = {"alder8": 58, "birch16": 52, "cedar": 16, "elm": 38, "fir-v": 30}
ENDING = {"alder8": ".al8", "birch16": ".b16", "cedar": ".cdx", "elm": ".edk", "fir-v": ".zip"}
REGIONS = ("Europe", "America", "Japan", "World")


def make_library(folder: Path, seed: int = 1) -> None:
    """About 200 games for five systems. The same seed gives the same bytes."""
    chance = random.Random(seed)
    titles = [f"{first} {second}" for first in FIRST for second in SECOND]
    chance.shuffle(titles)
    for system, count in COUNTS.items():
        (folder / system).mkdir(parents=True, exist_ok=True)
        for _ in range(count):
            _make_game(folder / system, titles.pop(), ENDING[system], chance)
    _make_discs(folder / "cedar", titles.pop(), titles.pop(), titles.pop())
    _make_mess(folder, titles)
    shelf = folder / SYSTEM_FILES
    shelf.mkdir(exist_ok=True)
    (shelf / "Cedar_Boot_v1.0.rom").write_bytes(noise("cedar-boot.rom", 73728))


def _make_game(folder: Path, title: str, ending: str, chance: random.Random) -> None:
    name = f"{title} ({chance.choice(REGIONS)})"
    size = chance.randrange(8, 64) * 1024 + chance.randrange(512)
    if ending == ".zip":
        short = "".join(word[:4] for word in title.lower().split())
        _zip(folder / f"{short}.zip", {f"{short}.1a": noise(title, size)})
    else:
        (folder / f"{name}{ending}").write_bytes(noise(title, size))


def _zip(path: Path, members: dict[str, bytes]) -> None:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in members.items():
            archive.writestr(zipfile.ZipInfo(name, (2026, 6, 1, 0, 0, 0)), data)


def _make_discs(folder: Path, two: str, single: str, broken: str) -> None:
    """A two-disc set, a cue sheet with its track, and one whose track is lost."""
    for name in (f"{two} (Europe) (Disc 1)", f"{two} (Europe) (Disc 2)", f"{single} (Japan)", f"{broken} (World)"):
        text = f'FILE "{name}.bin" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\n'
        (folder / f"{name}.cue").write_text(text, encoding="utf-8")
        if not name.startswith(broken):
            (folder / f"{name}.bin").write_bytes(noise(name, 235_200))


def _make_mess(folder: Path, titles: list[str]) -> None:
    alder, birch = folder / "alder8", folder / "birch16"
    (alder / f"{titles.pop()} (Europe).b16").write_bytes(noise("stray cartridge", 30_000))
    _zip(folder / "cedar" / f"{titles.pop()} (Europe).zip", {"track.cdx": noise("packed disc", 40_000)})
    twin = sorted(birch.iterdir())[3]
    (birch / f"{twin.stem} (copy){twin.suffix}").write_bytes(twin.read_bytes())
    (folder / "elm" / "loading screen.scr").write_bytes(noise("screen", 7100))
    _zip(alder / f"{titles.pop()} (World).zip", {"../../etc/start.al8": noise("climber", 9_000)})
    (birch / f"{titles.pop()} (Japan).zip").write_bytes(b"PK\x03\x04" + noise("half an archive", 2_000))
    (folder / "read me.txt").write_text("Copied from the old machine in spring.\n", encoding="utf-8")
