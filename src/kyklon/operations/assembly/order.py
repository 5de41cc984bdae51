"""What must come before what when a machine is put together, and why; how it comes apart again."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from kyklon.catalogue.control_records import Keyboard
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Display
from kyklon.catalogue.system_records import Panel
from kyklon.model.build import Build
from kyklon.operations.controls.hookup import hookup_of
from kyklon.operations.controls.wiring import harness


@dataclass(frozen=True)
class Act:
    """A step of the assembly. before: ids that come first, each with why. screws: kind and count. undo: what taking it
    apart again asks for, '' where nothing is lost. caution: at the place."""

    id: str
    title: str
    before: tuple[tuple[str, str], ...] = ()
    screws: tuple[tuple[str, int], ...] = ()
    undo: str = ""
    caution: str = ""


def acts(build: Build, catalogue: Catalogue) -> tuple[Act, ...]:
    """Every step in an order that can be worked, drawn out of the build."""
    waiting = list(_acts(build, catalogue))
    known = {act.id for act in waiting}
    done: dict[str, Act] = {}
    while waiting:
        ready = [act for act in waiting if all(name in done or name not in known for name, _why in act.before)]
        if not ready:
            raise ValueError(f"These steps wait for each other: {', '.join(act.title for act in waiting)}")
        done[ready[0].id] = replace(ready[0], before=tuple(row for row in ready[0].before if row[0] in known))
        waiting.remove(ready[0])
    return tuple(done.values())


def screws(build: Build, catalogue: Catalogue) -> dict[str, int]:
    """All screws by kind, to buy them before."""
    found: dict[str, int] = {}
    for act in acts(build, catalogue):
        for kind, count in act.screws:
            found[kind] = found.get(kind, 0) + count
    return found


_GOGGLES = "Goggles on when you drill or cut; try the cutter on scrap first."
_STATIC = "Touch bare metal before the board: static kills it silently."
_TUBE = "A tube keeps a lethal charge after the plug is out: leave its chassis to someone qualified."
_BATTERY = "A battery can start a fire through a thin wire: fuse it at its terminal, connect it last."
_IRON = "Solder in fresh air; the iron stays hot for minutes."


def _acts(build: Build, catalogue: Catalogue) -> Iterable[Act]:
    own = build.assembly
    image = catalogue.find(Image, build.part("image"))
    keyboard = catalogue.find(Keyboard, build.controls.keyboard.layout)
    board = catalogue.find(Board, build.part("board"))
    yield Act("card", f"Write {image.name} to the card and prove it" if image else "Write the card and prove it")
    yield Act(
        "open-start",
        "First boot on the open bench, with its own power supply and cables",
        (("card", "it starts from the card"),),
        caution=_STATIC,
    )
    yield from _panel_acts(build, catalogue)
    if keyboard is not None and keyboard.pins:
        yield Act("ribbon", f"Read the ribbon of {keyboard.name}", undo="a ribbon's film tears: no more than needed")
    if build.links:
        yield Act(
            "plate",
            "Cut the back plate for the panel sockets",
            (("trial", "a wrong bit shows in scrap"),),
            undo="a hole stays a hole",
            caution=_GOGGLES,
        )
    if own.sink != "none" and board is not None:
        yield Act(
            "sink",
            f"Attach the heat sink to the {board.name}",
            (("open-start", "a dead board goes back without a sink glued on"),),
            undo="glue takes the chip along: use a pad or clips",
        )
    yield Act(
        "board",
        "Mount the board on its standoffs",
        (
            ("open-start", "try before it is closed"),
            ("plate", "no filings over a board"),
            ("sink", "it is pressed on from above"),
        ),
        (("M2.5 × 6 with standoff", 4),),
        caution=_STATIC,
    )
    yield from _last_acts(build, catalogue)


def _panel_acts(build: Build, catalogue: Catalogue) -> Iterable[Act]:
    """The panel with its controls and wires; nothing without them."""
    panel, hookup = catalogue.find(Panel, build.controls.panel), hookup_of(build, catalogue)
    if panel is None or hookup is None or not hookup.devices:
        return
    bores = len(panel.controls) * panel.players
    yield Act("trial", "Drill the trial piece with each bit", caution=_GOGGLES)
    yield Act(
        "drill",
        f"Drill {bores} holes in the panel",
        (("trial", "a wrong bit shows in scrap"),),
        undo="a hole stays a hole",
        caution=_GOGGLES,
    )
    yield Act("paint", "Paint or varnish the panel", (("drill", "no drilling through paint"),), undo="sanding")
    levers = sum(control.kind == "lever" for control in panel.controls) * panel.players
    yield Act(
        "encoder",
        "Screw the encoder under the panel",
        (("drill", "the bits would hit it"),),
        (("wood screw 3 × 12", 4 * len(hookup.devices)),),
    )
    yield Act(
        "controls",
        f"Mount {bores} controls",
        (("paint", "it must be dry"), ("encoder", "the wires are measured to it")),
        (("M4 × 20 countersunk with nut", 4 * levers),) if levers else (),
    )
    runs = len(harness(hookup).runs)
    yield Act(
        "wire",
        f"Crimp and wire {runs} switches",
        (("controls", "the switches must sit"),),
        undo="tabs wear: pull at the crimp",
    )
    yield Act(
        "prove",
        "Test the wiring",
        (("wire", "all wires first"), ("open-start", "the system must run")),
    )


def _last_acts(build: Build, catalogue: Catalogue) -> Iterable[Act]:
    """From what cools and feeds it to the closed case."""
    own, display = build.assembly, catalogue.find(Display, build.part("display"))
    if own.fan == "in the case":
        yield Act(
            "fan",
            "Mount the fan at the upper opening, blowing out",
            (("plate", "its opening"),),
            (("M3 × 16 with nut", 4),),
        )
    if own.source == "battery":
        fuse = f"a {own.fuse_a:g} A" if own.fuse_a else "its"
        yield Act(
            "converter",
            f"Wire the converter and its lead with {fuse} fuse, battery disconnected",
            (("board", "measure 5 V before it is plugged in"),),
            caution=_BATTERY,
        )
    if display is not None and display.tube:
        yield Act(
            "tube",
            "Set and centre the picture on the tube",
            (("open-start", "there must be a picture"),),
            caution=_TUBE,
        )
    else:
        yield Act("picture", "Set the video mode", (("open-start", "there must be a picture"),))
    yield Act(
        "sockets",
        "Mount the panel sockets in the back plate",
        (("board", "the leads must reach with slack"), ("plate", "their holes"), ("controls", "hands need the room")),
        (("M3 × 10 with nut", 2 * max(1, _outside(build))),),
        undo="screwed, not glued: glue does not take the force of a plug",
    )
    if build.boot.overlays and own.sink == "none" and any("lamp" in overlay for overlay in build.boot.overlays):
        yield Act("lamp", "Power lamp with its resistor", (("board", "its pins"),), caution=_IRON)
    yield Act(
        "hour",
        "Play for an hour with the lid loose",
        (
            ("sockets", "as it will be"),
            ("prove", "a wire is hard to reach later"),
            ("ribbon", "a ribbon is hard to reach later"),
            ("picture", "right before it is closed"),
            ("tube", "right before it is closed"),
            ("converter", "from its own battery"),
            ("fan", "with the air it will have"),
        ),
    )
    yield Act(
        "close",
        "Close the case",
        (("hour", "what fails, fails in the first hour"),),
        (("lid screw 3 × 16", 4),),
        undo="card and sockets should be in reach without opening it",
    )


def _outside(build: Build) -> int:
    """Sockets that leave the case: power, picture, sound, and one for a stick."""
    return 2 + bool(build.boot.sound == "analogue") + 1
