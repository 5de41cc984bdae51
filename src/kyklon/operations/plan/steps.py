"""Every step of this build from an empty bench to the first game, with its minutes, its resources and what comes first.

Steps come from the operations, the wiring list and the parts list, never typed. Minutes of handwork are common practice
(CP) until they were measured: what was noted of steps done makes those of its kind longer or shorter.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from statistics import median

from kyklon.base.quantities import counted
from kyklon.catalogue.add_on_records import AddOn
from kyklon.catalogue.control_records import Keyboard
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.system_records import Panel
from kyklon.model.build import Build
from kyklon.model.plan import Done
from kyklon.model.world import World
from kyklon.operations.controls.hookup import hookup_of
from kyklon.operations.controls.wiring import harness
from kyklon.operations.plan import way as first_way
from kyklon.operations.plan.parts_list import parts_list

PARCEL_DAYS = (2.0, 4.0, 8.0)  # least, usual, most days of an ordered part, CP
GLUE_H = (2.0, 6.0, 12.0)  # hours until glue and paint are dry, CP
Range = tuple[float, float, float]  # least, usual, most
_PARCELS = (("parcels", "the parts must be there"),)
NONE: Range = (0.0, 0.0, 0.0)


@dataclass(frozen=True)
class Step:
    """hands: minutes of somebody's time; alone: minutes that it then runs by itself, both least, usual, most. uses:
    what nobody else may use meanwhile: computer, bench, machine; holds: those that it keeps while it runs by itself.
    after: ids of steps that come first, each with why. kind: what is learnt together."""

    id: str
    operation: int
    title: str
    kind: str
    hands: Range
    alone: Range = NONE
    uses: tuple[str, ...] = ("bench",)
    holds: tuple[str, ...] = ()
    after: tuple[tuple[str, str], ...] = ()
    done: bool = False
    learnt: bool = False

    @property
    def minutes(self) -> float:
        return expected(self.hands) + expected(self.alone)


def expected(values: Range) -> float:
    """Mean of a triangle."""
    return sum(values) / 3


def _about(usual: float, low: float = 0.7, high: float = 1.8) -> Range:
    return (usual * low, usual, usual * high)


def steps(build: Build, catalogue: Catalogue, world: World, elsewhere: Sequence[Done] = ()) -> tuple[Step, ...]:
    """All steps in an order that can be worked. elsewhere: what was noted in other builds."""
    found = [*_parcels(build, catalogue), *_software(build, catalogue, world), *_handwork(build, catalogue)]
    known = {step.id for step in found}
    found = [replace(step, after=tuple(row for row in step.after if row[0] in known)) for step in found]
    return tuple(_learnt(build, found, elsewhere))


def _parcels(build: Build, catalogue: Catalogue) -> Iterable[Step]:
    made = parts_list(build, catalogue)
    wanted = [line for line in made.missing if not line.key.startswith("extra/")]
    if wanted:
        days = tuple(day * 1440 for day in PARCEL_DAYS)
        ordered = all(line.state == "ordered" for line in wanted)
        yield Step(
            "parcels",
            10,
            f"Order {counted(len(wanted), 'part')}" if not ordered else f"Wait for {counted(len(wanted), 'part')}",
            "order",
            _about(20) if not ordered else NONE,
            days,  # type: ignore[arg-type]
            (),
        )


def _software(build: Build, catalogue: Catalogue, world: World) -> Iterable[Step]:
    """The card from image to first start."""
    before: tuple[tuple[str, str], ...] = _PARCELS
    number = -1
    for own in first_way.way(build, catalogue, world):
        number += not own.key
        low, high = own.minutes or (5.0, 30.0)
        alone = (low, (low + high) / 2, high)
        step_id = own.key or f"way-{number}"
        machine = own.operation in (90, 95) or bool(own.key)
        uses = ("machine",) if machine else ("computer",)
        hands, kind = _about(4 if own.operation != 60 else 8), f"way-{own.operation}"
        yield Step(step_id, own.operation, own.what, kind, hands, alone, uses, uses, before, own.done)
        why = "the card was written before" if own.operation == 20 else "what was written before is needed"
        if own.operation == 30 and not own.key:
            yield Step(
                "open-start",
                90,
                "First start on the open bench",
                "first start",
                _about(10),
                NONE,
                ("machine", "bench"),
                (),
                ((step_id, "it starts from this card"), *_PARCELS),
            )
            before = (("open-start", "software before hardware is blamed"),)
            continue
        before = ((step_id, why),)
    yield from _after_start(build, catalogue, world, before)


def _after_start(
    build: Build, catalogue: Catalogue, world: World, before: tuple[tuple[str, str], ...]
) -> Iterable[Step]:
    """What is set up once it has started. before: what came last."""
    image = catalogue.find(Image, build.part("image"))
    if image is not None and image.installer_service:
        yield Step(
            "controllers",
            40,
            "Set the controllers up twice, as the installer asks",
            "controllers",
            _about(12),
            NONE,
            ("machine",),
            (),
            (before[0], ("wire", "the controls must be wired")),
        )
    yield from _installing(build, catalogue, image, world)
    yield Step(
        "library",
        60,
        "Sort the games and fix names",
        "library",
        _about(40),
        NONE,
        ("computer",),
    )
    yield Step(
        "picture",
        50,
        "Set the picture and centre it",
        "picture",
        _about(25),
        NONE,
        ("machine",),
        (),
        (("open-start", "there must be a picture"),),
    )


def _handwork(build: Build, catalogue: Catalogue) -> Iterable[Step]:
    """Panel, wires, board and case."""
    panel = catalogue.find(Panel, build.controls.panel)
    hookup = hookup_of(build, catalogue)
    if panel is not None and hookup is not None and hookup.devices:
        yield from _drilling(len(panel.controls) * panel.players)
        yield from _wiring(len(harness(hookup).runs))
    yield from _ribbon(build, catalogue)
    yield from _casework()


def _drilling(bores: int) -> Iterable[Step]:
    yield Step("template", 40, "Print and tape the drill template", "template", _about(10), NONE, ("bench",))
    yield Step(
        "drill",
        40,
        f"Drill {bores} holes",
        "drill",
        _about(3.5 * bores),
        NONE,
        ("bench",),
        (),
        (*_PARCELS, ("template", "the template tells where")),
    )
    yield Step(
        "finish",
        80,
        "Paint or varnish the panel",
        "finish",
        _about(30),
        tuple(hours * 60 for hours in GLUE_H),  # type: ignore[arg-type]
        ("bench",),
        (),
        (("drill", "no drilling through paint"),),
    )
    yield Step(
        "controls",
        40,
        f"Screw in {bores} controls",
        "controls",
        _about(1.5 * bores),
        NONE,
        ("bench",),
        (),
        (("finish", "the paint must be dry"), *_PARCELS),
    )


def _wiring(runs: int) -> Iterable[Step]:
    if runs:
        yield Step(
            "wire",
            40,
            f"Crimp and wire {runs} switches",
            "wire",
            _about(2.5 * runs),
            NONE,
            ("bench",),
            (),
            (("controls", "the switches must sit"),),
        )
        yield Step(
            "prove",
            40,
            "Test the wiring",
            "prove",
            _about(0.4 * runs + 3),
            NONE,
            ("machine", "bench"),
            (),
            (("wire", "all wires first"), ("open-start", "the system must run")),
        )


def _ribbon(build: Build, catalogue: Catalogue) -> Iterable[Step]:
    keyboard = catalogue.find(Keyboard, build.controls.keyboard.layout)
    if keyboard is not None and keyboard.pins:
        keys = sum(key.line is not None for key in keyboard.keys) or len(keyboard.keys)
        read = {reading.key for reading in build.controls.keyboard.readings}
        yield Step(
            "ribbon",
            40,
            f"Read the ribbon of {keyboard.name}, {keys} keys",
            "ribbon",
            _about(0.5 * keys + 5),
            NONE,
            ("bench", "computer"),
            (),
            _PARCELS,
            done=len(read) >= keys,
        )


def _casework() -> Iterable[Step]:
    yield Step(
        "mount",
        80,
        "Mount board and sockets",
        "mount",
        _about(35),
        NONE,
        ("bench",),
        (),
        (("open-start", "try before it is closed"), *_PARCELS),
    )
    yield Step(
        "close",
        80,
        "Close the case",
        "close",
        _about(15),
        NONE,
        ("bench", "machine"),
        (),
        (
            ("mount", "all inside first"),
            ("prove", "a wire is hard to reach later"),
            ("ribbon", "the ribbon is hard to reach later"),
            ("picture", "the picture is right before it is closed"),
        ),
    )
    yield Step(
        "sign-off",
        90,
        "Play the first game and sign off",
        "sign-off",
        _about(20),
        NONE,
        ("machine",),
        (),
        (("close", "the machine as it will be"), ("library", "there must be games")),
    )


def _installing(build: Build, catalogue: Catalogue, image: Image | None, world: World) -> Iterable[Step]:
    """The add-ons that no script of the first boot installs, the image's own or one that its root starts."""
    contents = world.card if world.card is not None and world.card.root is not None else world.source_contents
    root = contents.root if contents is not None else None
    if image is None or image.first_boot_script or not image.has_system or (root is not None and root.can_be_set_up):
        return
    for add_on in (each for each in catalogue.all(AddOn) if each.id in build.system.add_ons):
        low, high = add_on.minutes
        yield Step(
            f"add-on-{add_on.id}",
            30,
            f"Install {add_on.name}",
            "add-on",
            _about(2),
            (low, (low + high) / 2, high),
            ("machine",),
            (),
            (("open-start", "it is installed on the running system"),),
        )


def _learnt(build: Build, found: Sequence[Step], elsewhere: Sequence[Done]) -> Iterable[Step]:
    """With what was noted: done steps, and those of a kind as long as they were."""
    done = {row.step: row for row in build.plan.done}
    factors: dict[str, list[float]] = {}
    kinds = {step.id: step for step in found}
    for row in (*build.plan.done, *elsewhere):
        step = kinds.get(row.step)
        usual = expected(step.hands) if step else 0.0
        if step and row.minutes and usual:
            factors.setdefault(step.kind, []).append(row.minutes / usual)
    everything = [factor for rows in factors.values() for factor in rows]
    for step in found:
        own = factors.get(step.kind)
        # of a kind that was never done the bench's own pace is known half
        factor = median(own) if own else math.sqrt(median(everything)) if everything else 1.0
        hands = tuple(value * factor for value in step.hands)
        is_done = step.done or step.id in done or step.id in _seen_done(build)
        yield replace(step, hands=hands, done=is_done, learnt=own is not None)  # type: ignore[arg-type]


def _seen_done(build: Build) -> frozenset[str]:
    """Steps that the build itself shows as done: a card that was written, wires that were ticked."""
    found = {"parcels"} if build.card.bootable else set()
    if build.card.bootable:
        found.add("way-0")
    if build.card.boot_files_at:
        found.add("way-1")
    wires = build.controls.wires
    if wires and all(wire.done for wire in wires):
        found |= {"template", "drill", "finish", "controls", "wire"}
    if any(sign.operation == 90 for sign in build.sign_offs):
        found.add("open-start")
    return frozenset(found)
