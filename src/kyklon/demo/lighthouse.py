"""Scenario 1, the Lighthouse Café table: a cocktail cabinet with two facing players and a tube laid flat.

It starts with four faults that its owner does not know of: a kernel for the wrong instruction set, an encoder
without its quirk, a menu mode that the tube cannot show, and a system file with the wrong name.
"""

from __future__ import annotations

import hashlib
from pathlib import Path

from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.catalogue.records import Board, Display
from kyklon.catalogue.system_records import System
from kyklon.demo.card_image import NEXT, make_image
from kyklon.demo.drives import make_drives
from kyklon.demo.folders import PANE, Step, make_in_steps, make_pane
from kyklon.demo.library import make_library, make_list, make_pictures
from kyklon.demo.samples import make_samples
from kyklon.demo.sets import make_bare_metal, make_multi_boot
from kyklon.devices import choose
from kyklon.devices.simulated import glass, neighbours
from kyklon.model.build import (
    BootSettings,
    Build,
    FileSets,
    LibrarySettings,
    Link,
    Part,
    PictureSettings,
    Source,
    SystemMode,
    TuningLayers,
)
from kyklon.model.controls import ControlSettings
from kyklon.model.display import Edid, RangeLimits
from kyklon.model.library import ListFile, ListScheme
from kyklon.model.plan import Evening, PlanSettings
from kyklon.model.timing import Mode
from kyklon.operations.card.shelving import shelf_entry
from kyklon.operations.card.sources import source
from kyklon.operations.controls.acts import wired
from kyklon.operations.picture import edid
from kyklon.operations.picture.ranges import carried, propose
from kyklon.operations.plan.acts import HOTKEYS
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook
from kyklon.record.shelf import FILE as SHELF
from kyklon.record.shelf import Shelf

NAME = "lighthouse-cafe-table"
IMAGE = "attachments/quayside-4.2.img.xz"
NEIGHBOURS = (  # addresses for documents (RFC 5737); the keys are of nobody
    neighbours.StandIn(
        "lighthouse.local",
        "192.0.2.20",
        host_key="ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHRoZSBsaWdodGhvdXNlIGNhZmUgdGFibGUncyBrZXkh",
        share=True,
    ),
    neighbours.StandIn(
        "till.local",
        "192.0.2.7",
        host_key="ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHRoZSB0aWxsIG9mIHRoZSBsaWdodGhvdXNlIGNhZmUu",
    ),
)
NEXT_IMAGE = "attachments/quayside-4.3.img.xz"
TUBE = "attachments/casement-19.edid"
OWNED = ListScheme(
    id="what the café owns",
    kind="xml",
    game="entry",
    title="called",
    part="piece",
    part_name="file",
    size="bytes",
    sha1="sum",
)
SYSTEMS = ("alder-8", "birch-16", "cedar-disc", "elm-micro", "fir-board-v")


def make(folder: Path, catalogue: Catalogue, watch: Watch = UNWATCHED) -> Path:
    """The demo build afresh in `folder`; as make_in_steps."""
    drives = folder / choose.STAND_INS
    steps = (
        Step("Image with a FAT and an ext4 partition", 60, lambda: make_image(folder / IMAGE)),
        Step("The next version of the image", 60, lambda: make_image(folder / NEXT_IMAGE, NEXT)),
        Step("Drives", 8, lambda: make_drives(drives)),
        Step("Display", 1, lambda: glass.put(drives, glass.GlassStandIn(middle_us=36.1, middle_lines=140.5))),
        Step("Network", 1, lambda: neighbours.save(drives, NEIGHBOURS)),
        Step("Games", 6, lambda: _make_games(folder)),
        Step("Bare-metal set", 3, lambda: make_bare_metal(folder / "sets" / "tidepool-2.1")),
        Step("Multi-boot stick", 25, lambda: make_multi_boot(folder / "sets" / "slipway-stick")),
        Step("Source shelf", 1, lambda: _make_shelf(folder, catalogue)),
        Step("EDID", 1, lambda: _make_identification(folder, catalogue)),
        Step("Samples to learn from", 50, lambda: make_samples(folder)),
        Step("Build", 1, lambda: _save(folder, catalogue)),
    )
    return make_in_steps(folder, steps, watch)


def _make_games(folder: Path) -> None:
    make_library(folder / "library")
    make_list(folder / "library", folder / "lists")
    make_pictures(folder / "library", folder / "pictures")
    (folder / "stick").mkdir()


def _save(folder: Path, catalogue: Catalogue) -> None:
    with (folder / IMAGE).open("rb") as file:
        checksum = hashlib.file_digest(file, "sha256").hexdigest()
    store.save(folder, build(catalogue, checksum))
    Logbook(folder).add(0, "Build started", "Lighthouse Café table: the plan was taken from the owner's notes.")


def _make_shelf(folder: Path, catalogue: Catalogue) -> None:
    """The build's own image, with its checksum beside it."""
    image = folder / IMAGE
    with image.open("rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    image.with_name(f"{image.name}.sha256").write_text(f"{digest}  {image.name}\n", encoding="utf-8")
    shelf = Shelf(folder / SHELF)
    shelf.put(shelf_entry(source.inspect(image), catalogue))


def _make_identification(folder: Path, catalogue: Catalogue) -> None:
    tube, board = catalogue.get(Display, "casement-19"), catalogue.get(Board, "herring")
    mode = propose(catalogue.get(System, "birch-16"), tube, carried(board), tube.ranges)
    assert mode is not None
    limits = RangeLimits((49, 63), (15, 17), 50)
    data = Edid("KYK", 0x1901, 1901, 2026, tube.name, (mode.timing,), (376, 282), limits)
    (folder / TUBE).write_bytes(edid.write(data))
    make_pane(folder / PANE)


AT_HAND = (
    "boards/herring",
    "supplies/ballast-3a",
    "cards/cockle-32",
    "displays/casement-19",
    "adapters/gantry-rgb",
    "encoders/tackle-pair",
    "cables/power-a-micro-1m5",
    "cables/hdmi-a-a-1m",
    "cables/rgb-21-1m5",
    "cables/usb-a-b-1m",
)


PARTS = (
    ("board", "herring"),
    ("supply", "ballast-3a"),
    ("card", "cockle-32"),
    ("display", "casement-19"),
    ("adapter", "gantry-rgb"),
    ("encoder", "tackle-pair"),
    ("image", "quayside"),
)
LINKS = (
    Link(start="supply.out", end="board.power", cable="power-a-micro-1m5"),
    Link(start="board.video", end="adapter.in", cable="hdmi-a-a-1m"),
    Link(start="adapter.out", end="display.rgb", cable="rgb-21-1m5"),
    Link(start="board.usb1", end="encoder.usb", cable="usb-a-b-1m"),
    Link(start="card.plug", end="board.card", cable="socket"),
)


def build(catalogue: Catalogue, checksum: str) -> Build:
    """The build as its owner left it, faults included."""
    tube, board = catalogue.get(Display, "casement-19"), catalogue.get(Board, "herring")
    modes = []
    for system_id in SYSTEMS:
        mode = propose(catalogue.get(System, system_id), tube, carried(board), tube.ranges)
        if mode is not None:
            modes.append(SystemMode(system=system_id, mode=mode))
    made = Build(
        name="Lighthouse Café table",
        kind="Cocktail cabinet · two facing players · tube laid flat",
        systems=SYSTEMS,
        plan=PlanSettings(
            games={"alder-8": 40, "birch-16": 60, "cedar-disc": 12, "fir-board-v": 20},
            players=2,
            screen="casement-19",
            at_hand=AT_HAND,
            evenings=tuple(Evening(day=f"2026-12-{day:02d}") for day in (4, 5, 11, 12)),
        ),
        parts=tuple(Part(role=role, part=part) for role, part in PARTS),
        links=LINKS,
        source=Source(path=IMAGE, sha256=checksum),
        sets=FileSets(bare_metal="sets/tidepool-2.1", multi_boot="sets/slipway-stick"),
        boot=BootSettings(
            dialect="merrow",
            kernel="merrow-armv8.krn",
            device_tree="herring.dtb",
            overscan_percent=5.0,
            country="GB",
            hostname="lighthouse",
            services=("network", "shutdown-watcher", "sound", "gangway"),
        ),
        picture=PictureSettings(
            menu=Mode(name="CTA 1", timing=standard_timings("cta")[1].timing),
            systems=tuple(modes),
            identification=TUBE,
        ),
        controls=ControlSettings(
            panel="cocktail-pair",
            hotkeys=HOTKEYS,
        ),
        library=LibrarySettings(
            folder="library",
            destination="stick",
            schemes=(OWNED,),
            pictures="pictures",
            lists=(
                ListFile(path="lists/alder8.xml", system="alder-8", scheme=OWNED.id),
                ListFile(path="lists/birch16.xml", system="birch-16", scheme=OWNED.id),
                ListFile(path="lists/elm.sha1", system="elm-micro"),
            ),
        ),
        tuning=TuningLayers(
            front_end={"render-queue-frames": 1, "audio-buffer-ms": 48},
            systems={"birch-16": {"frames-ahead": 1}, "fir-board-v": {"rotate-picture": "quarter left"}},
            games={"birch-16/Brass Parade": {"frames-ahead": 0}},
        ),
    )
    return wired(made, catalogue)
