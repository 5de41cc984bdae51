"""Scenario 2, the Camper console: a small board behind a 7-inch panel, on a base system whose installer does the rest.

Its owner forgot one thing: the installer needs the network, and no wireless country is set.
"""

from __future__ import annotations

import hashlib
from pathlib import Path

from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.loader import Catalogue
from kyklon.demo.card_image import HARBOUR, make_image
from kyklon.demo.drives import make_drives
from kyklon.demo.folders import Step, make_in_steps
from kyklon.demo.library import make_library
from kyklon.devices import choose
from kyklon.model.build import (
    BootSettings,
    Build,
    LibrarySettings,
    Link,
    Part,
    PictureSettings,
    Source,
)
from kyklon.model.controls import ControlSettings
from kyklon.model.display import Edid, Extension, RangeLimits
from kyklon.model.plan import PlanSettings
from kyklon.model.timing import Mode
from kyklon.operations.controls.acts import wired
from kyklon.operations.picture import edid
from kyklon.operations.picture.formulas import cvt
from kyklon.operations.plan.acts import HOTKEYS
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook

NAME = "camper-console"
IMAGE = "attachments/harbour-lite-2026-03.img.xz"
PANE_7 = "attachments/pane-7.edid"


def make(folder: Path, catalogue: Catalogue, watch: Watch = UNWATCHED) -> Path:
    """The demo build afresh in `folder`; as make_in_steps."""
    steps = (
        Step("Image with a FAT and an ext4 partition", 60, lambda: make_image(folder / IMAGE, HARBOUR)),
        Step("Drives", 8, lambda: make_drives(folder / choose.STAND_INS)),
        Step("Games", 6, lambda: make_library(folder / "library")),
        Step("EDID", 1, lambda: _make_identification(folder / PANE_7)),
        Step("Build", 1, lambda: _save(folder, catalogue)),
    )
    return make_in_steps(folder, steps, watch)


def _make_identification(path: Path) -> None:
    timing = cvt(1280, 800, 60)
    limits, extension = RangeLimits((50, 62), (30, 70), 100), Extension((1,), audio=True, hdmi=True)
    path.write_bytes(
        edid.write(Edid("KYK", 0x0701, 701, 2026, "Pane 7", (timing,), (151, 94), limits, extension=extension))
    )


def _save(folder: Path, catalogue: Catalogue) -> None:
    (folder / "stick").mkdir()
    with (folder / IMAGE).open("rb") as file:
        checksum = hashlib.file_digest(file, "sha256").hexdigest()
    (folder / f"{IMAGE}.sha256").write_text(f"{checksum}  {Path(IMAGE).name}\n", encoding="utf-8")
    store.save(folder, build(catalogue, checksum))
    Logbook(folder).add(0, "Build started", "Camper console: 12 V from the leisure battery, and rain every evening.")


def build(catalogue: Catalogue, checksum: str) -> Build:
    """The build as its owner left it, the missing country included."""
    parts = (
        ("board", "cod"),
        ("supply", "ballast-3a"),
        ("card", "cockle-32"),
        ("display", "pane-7"),
        ("encoder", "tackle-12"),
        ("image", "harbour-lite"),
    )
    made = Build(
        name="Camper console",
        kind="Console in a case · 7-inch panel · 12 V battery",
        systems=("alder-8", "birch-16"),
        plan=PlanSettings(
            place="camper",
            games={"alder-8": 60, "birch-16": 80},
            at_hand=("boards/cod", "displays/pane-7", "encoders/tackle-12", "supplies/ballast-3a"),
        ),
        parts=tuple(Part(role=role, part=part) for role, part in parts),
        links=(
            Link(start="supply.out", end="board.power", cable="power-a-micro-1m5"),
            Link(start="board.video", end="display.video", cable="hdmi-a-a-1m"),
            Link(start="board.usb1", end="encoder.usb", cable="usb-a-b-1m"),
            Link(start="board.usb2", end="display.power", cable="power-a-micro-1m5"),
            Link(start="card.plug", end="board.card", cable="socket"),
        ),
        source=Source(path=IMAGE, sha256=checksum),
        boot=BootSettings(
            dialect="merrow",
            kernel="merrow-armv8.krn",
            device_tree="cod.dtb",
            sound="digital",
            hostname="camper",
            services=("network", "shutdown-watcher", "sound", "installer", "gangway"),
        ),
        picture=PictureSettings(
            school="scaled", menu=Mode(name="CVT 1280 × 800", timing=cvt(1280, 800, 60)), identification=PANE_7
        ),
        controls=ControlSettings(panel="single-eight", hotkeys=HOTKEYS),
        library=LibrarySettings(folder="library", destination="stick"),
    )
    return wired(made, catalogue)
