"""Scenario 3, the School fair micro: a home computer reborn on a bare-metal set, with a keyboard and a flat display.

Its set is whole; what is left to do is to make the card, put the boot files on it, and switch on.
"""

from __future__ import annotations

from pathlib import Path

from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.control_records import Keyboard
from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.demo.drives import make_drives
from kyklon.demo.folders import PANE, Step, make_in_steps, make_pane
from kyklon.demo.sets import make_bare_metal
from kyklon.devices import choose
from kyklon.devices.simulated import ribbon
from kyklon.devices.simulated.ribbon import RibbonStandIn
from kyklon.model.build import (
    BootSettings,
    Build,
    FileSets,
    Link,
    Part,
    PictureSettings,
)
from kyklon.model.controls import ControlSettings, KeyboardSettings
from kyklon.model.plan import PlanSettings
from kyklon.model.timing import Mode
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook

NAME = "school-fair-micro"
KEYS = "fair-50"
SET = "sets/tidepool-2.1"


def make(folder: Path, catalogue: Catalogue, watch: Watch = UNWATCHED) -> Path:
    """The demo build afresh in `folder`; as make_in_steps."""
    steps = (
        Step("Drives", 8, lambda: make_drives(folder / choose.STAND_INS)),
        Step("Keyboard ribbon", 1, lambda: _make_ribbon(folder / choose.STAND_INS, catalogue)),
        Step("Bare-metal set", 3, lambda: make_bare_metal(folder / SET, mistakes=False)),
        Step("EDID", 1, lambda: make_pane(folder / PANE)),
        Step("Build", 1, lambda: _save(folder)),
    )
    return make_in_steps(folder, steps, watch)


def _save(folder: Path) -> None:
    store.save(folder, build())
    Logbook(folder).add(0, "Build started", "School fair micro: a set on a stick, a keyboard, and a fair on Saturday.")


def _make_ribbon(folder: Path, catalogue: Catalogue) -> None:
    """The ribbon of the old keyboard, on which a reading in ten slips to another pin."""
    keyboard = catalogue.get(Keyboard, KEYS)
    lines = {key.id: key.line for key in keyboard.keys if key.line is not None}
    ribbon.put(folder, RibbonStandIn(lines=lines, pins=keyboard.pins, wrong=0.1, seed=12))


def build() -> Build:
    """The build as its owner left it."""
    parts = (
        ("board", "herring"),
        ("supply", "ballast-3a"),
        ("card", "cockle-32"),
        ("display", "pane-24"),
        ("image", "tidepool"),
        ("keyboard", KEYS),
    )
    return Build(
        name="School fair micro",
        kind="Home computer reborn · keyboard with a matrix · flat display",
        systems=("elm-micro",),
        plan=PlanSettings(
            place="school",
            software="bare metal",
            games={"elm-micro": 100},
            screen="pane-24",
            at_hand=("displays/pane-24", f"keyboards/{KEYS}"),
        ),
        parts=tuple(Part(role=role, part=part) for role, part in parts),
        links=(
            Link(start="supply.out", end="board.power", cable="power-a-micro-1m5"),
            Link(start="board.video", end="display.video", cable="hdmi-a-a-1m"),
            Link(start="card.plug", end="board.card", cable="socket"),
        ),
        sets=FileSets(bare_metal=SET),
        boot=BootSettings(
            dialect="merrow", kernel="tidepool-armv7.krn", device_tree="herring.dtb", country="GB", hostname="fair"
        ),
        picture=PictureSettings(
            school="scaled",
            menu=Mode(name="CTA 16", timing=standard_timings("cta")[16].timing),
            identification=PANE,
        ),
        controls=ControlSettings(panel="single-eight", keyboard=KeyboardSettings(layout=KEYS)),
    )
