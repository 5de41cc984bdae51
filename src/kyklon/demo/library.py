"""The demo's games: invented titles, invented bytes, and the usual mess."""

from __future__ import annotations

import hashlib
import random
import zipfile
from pathlib import Path

from kyklon.demo.noise import noise
from kyklon.operations.library.scan import SYSTEM_FILES

FIRST = (
    "Brass",
    "Tidal",
    "Copper",
    "Velvet",
    "Cinder",
    "Juniper",
    "Paper",
    "Marble",
    "Hollow",
    "Rusty",
    "Quartz",
    "Mossy",
    "Pewter",
    "Saffron",
    "Thistle",
    "Umber",
    "Gravel",
    "Linen",
    "Walnut",
    "Drizzle",
)
SECOND = (
    "Orchard",
    "Causeway",
    "Ferryman",
    "Almanac",
    "Parade",
    "Clockworks",
    "Regatta",
    "Menagerie",
    "Turnstile",
    "Bakery",
    "Semaphore",
    "Quarry",
    "Vineyard",
    "Locksmith",
    "Weathervane",
    "Signalman",
    "Allotment",
    "Boatyard",
)
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


_ODD = (  # what people make of a title, as a format of it
    "{}",
    "{} (Europe) [b1]",
    "{} 2 (Japan)",
    "{} - The Long Winter",
    "{} II (Rev A)",
    "{} (Beta)",
    "{} and",
)


def make_list(folder: Path, lists: Path) -> None:
    """Lists of what the library holds, as their owner typed them: one in XML, one of checksums; and games whose names
    are odd and whose bytes no list knows. Rows name our own elements: they resemble nobody's."""
    lists.mkdir(parents=True, exist_ok=True)
    chance = random.Random(7)
    for system in ("alder8", "birch16"):
        files = [path for path in sorted((folder / system).iterdir()) if path.suffix == ENDING[system]]
        files = [path for path in files if "(copy)" not in path.name]
        listed = [_row(path) for path in files if path.stat().st_size]
        titles = [path.stem.partition(" (")[0] for path in files]
        _more(listed, titles, chance)
        text = f"<owned system='{system}'>\n" + "".join(listed) + "</owned>\n"
        (lists / f"{system}.xml").write_text(text, encoding="utf-8")
        for number, title in enumerate(chance.sample(titles, 14)):
            name = _ODD[number % len(_ODD)].format(title if number % 3 else title.lower().replace("e", "", 1))
            (folder / system / f"{name} (odd {number}){ENDING[system]}").write_bytes(noise(name, 9_000 + 37 * number))
    elm = [path for path in sorted((folder / "elm").iterdir()) if path.suffix == ENDING["elm"]]
    sums = "".join(f"{hashlib.sha1(path.read_bytes()).hexdigest()}  {path.name}\n" for path in elm)
    (lists / "elm.sha1").write_text(sums, encoding="utf-8")


def _row(path: Path) -> str:
    data = path.read_bytes()
    title = path.stem
    return (
        f"  <entry called='{title}'><piece file='{path.name}' bytes='{len(data)}' "
        f"sum='{hashlib.sha1(data).hexdigest()}'/></entry>\n"
    )


def _more(listed: list[str], titles: list[str], chance: random.Random) -> None:
    """Games that are listed and not in the library: sequels and others, so that a title may be one of several."""
    for title in chance.sample(titles, 12):
        for ending in (" 2 (Europe)", " II: High Water (World)", ": The Long Winter (Europe)"):
            name = f"{title}{ending}"
            digest = hashlib.sha1(name.encode()).hexdigest()
            listed.append(f"  <entry called='{name}'><piece file='{title}.bin' bytes='8192' sum='{digest}'/></entry>\n")


def make_pictures(folder: Path, pictures: Path) -> None:
    """Cover pictures of some games: a few stripes each, drawn from the title."""
    pictures.mkdir(parents=True, exist_ok=True)
    for path in sorted((folder / "alder8").glob("*.al8"))[:12]:
        (pictures / f"{path.stem}.png").write_bytes(_cover(path.stem))


def _cover(title: str) -> bytes:
    from io import BytesIO

    from PIL import Image, ImageDraw

    seed = noise(title, 24)
    image = Image.new("RGB", (72, 96), (seed[0] // 2 + 96, seed[1] // 2 + 96, seed[2] // 2 + 64))
    draw = ImageDraw.Draw(image)
    for index in range(5):
        top = 8 + index * 17
        draw.rectangle((8, top, 8 + seed[3 + index] % 56, top + 9), fill=(seed[8 + index], seed[13 + index], 60))
    told = BytesIO()
    image.save(told, "PNG")
    return told.getvalue()


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
