"""Scenario 2, the Camper console: a small board behind a 7-inch panel, on a base system whose installer does the rest.

Its owner forgot one thing: the installer needs the network, and no wireless country is set.
"""

from __future__ import annotations

import hashlib
from pathlib import Path

from kyklon.catalogue.loader import Catalogue
from kyklon.demo.card_image import HARBOUR, make_image
from kyklon.demo.drives import make_drives
from kyklon.demo.folders import cleared, marked
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


def make(folder: Path, catalogue: Catalogue) -> Path:
    """The demo build afresh in `folder`. Only a folder that is empty, missing or an earlier demo is replaced."""
    cleared(folder)
    (folder / "attachments").mkdir(parents=True)
    marked(folder)
    make_image(folder / IMAGE, HARBOUR)
    make_drives(folder / choose.STAND_INS)
    make_library(folder / "library")
    (folder / "stick").mkdir()
    timing = cvt(1280, 800, 60)
    data = Edid("KYK", 0x0701, 701, 2026, "Pane 7", (timing,), (151, 94), RangeLimits((50, 62), (30, 70), 100),
                extension=Extension((1,), audio=True, hdmi=True))  # fmt: skip
    (folder / PANE_7).write_bytes(edid.write(data))
    with (folder / IMAGE).open("rb") as file:
        checksum = hashlib.file_digest(file, "sha256").hexdigest()
    (folder / f"{IMAGE}.sha256").write_text(f"{checksum}  {Path(IMAGE).name}\n", encoding="utf-8")
    store.save(folder, build(catalogue, checksum))
    Logbook(folder).add(0, "Build started", "Camper console: 12 V from the leisure battery, and rain every evening.")
    return folder


def build(catalogue: Catalogue, checksum: str) -> Build:
    """The build as its owner left it, the missing country included."""
    parts = (
        ("board", "cod"), ("supply", "ballast-3a"), ("card", "cockle-32"), ("display", "pane-7"),
        ("encoder", "tackle-12"), ("image", "harbour-lite"),
    )  # fmt: skip
    made = Build(
        name="Camper console",
        kind="Console in a case · 7-inch panel · 12 V battery",
        systems=("alder-8", "birch-16"),
        parts=tuple(Part(role=role, part=part) for role, part in parts),
        links=(
            Link(start="supply.out", end="board.power", cable="power-a-micro-1m5"),
            Link(start="board.video", end="display.video", cable="hdmi-a-a-1m"),
            Link(start="board.usb1", end="encoder.usb", cable="usb-a-b-1m"),
            Link(start="card.plug", end="board.card", cable="socket"),
        ),
        source=Source(path=IMAGE, sha256=checksum),
        boot=BootSettings(
            dialect="merrow", kernel="merrow-armv8.krn", device_tree="cod.dtb", sound="digital", hostname="camper",
            services=("network", "shutdown-watcher", "sound", "installer", "gangway"),
        ),
        picture=PictureSettings(
            school="scaled", menu=Mode(name="CVT 1280 × 800", timing=cvt(1280, 800, 60)), identification=PANE_7
        ),
        controls=ControlSettings(panel="single-eight", hotkeys=HOTKEYS),
        library=LibrarySettings(folder="library", destination="stick"),
    )  # fmt: skip
    return wired(made, catalogue)
