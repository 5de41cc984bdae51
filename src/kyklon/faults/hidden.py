"""A machine with a fault hidden in it: a copy of the build and of its card, broken by real bytes where the fault is in
them, and what is then seen of it.

The copies lie in a working folder that is gone before the first answer is given.
"""

from __future__ import annotations

import subprocess
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from kyklon.base import scratch, tools
from kyklon.base.errors import KyklonError, ToolError
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.catalogue.records import Board, Cable
from kyklon.catalogue.text_records import Dialect
from kyklon.faults.fault_model import FaultModel
from kyklon.model.build import Build, edited, remedied
from kyklon.model.timing import Mode
from kyklon.model.world import World
from kyklon.operations import inspection
from kyklon.operations.boot.acts import plan_boot_files
from kyklon.operations.card.observe import started_by
from kyklon.operations.card.sources import source
from kyklon.operations.card.volumes import contents
from kyklon.operations.picture.observe import look_at_display
from kyklon.operations.poweron.bench import lay_out
from kyklon.operations.poweron.bringup import bring_up
from kyklon.operations.poweron.events import BringUp
from kyklon.record.folder import resolve

_EARLY = ("supply", "card", "partition table", "boot partition", "boot file", "kernel", "files", "machine")
_MENDED = (30, 40, 50)  # operations whose remedies make the build start
_MOST_ROUNDS = 12  # remedies that are put in one after the other
_LIKELY = 0.5  # what is seen at least that often with a cause is seen in a drill


@dataclass(frozen=True)
class Broken:
    """A build and its card, which lies in a working folder."""

    build: Build
    card: Path


@dataclass(frozen=True)
class Machine:
    """What is seen of a machine with these causes: every observation of the fault model, by its id."""

    causes: tuple[str, ...]
    truth: dict[str, bool]


def good_build(build: Build, catalogue: Catalogue, world: World) -> Build:
    """The build with everything put right that a remedy can."""
    for _ in range(_MOST_ROUNDS):
        all_ = inspection.inspect(build, catalogue, world)
        mended = (each for each in all_ if each.remedy is not None and each.operation in _MENDED)
        found = next((each for each in mended if each.remedy and each.remedy.changes), None)
        if found is None or found.remedy is None:
            return build
        fresh = remedied(build, found.remedy)
        if fresh == build:
            return build
        build = fresh
    return build


def machines(
    causes: Sequence[tuple[str, ...]],
    build: Build,
    folder: Path,
    catalogue: Catalogue,
    fault_model: FaultModel,
    watch: Watch = UNWATCHED,
) -> tuple[Machine, ...]:
    """What is seen with each of these sets of causes hidden in a copy of the build on a fresh card.

    Raises KyklonError when the build's image is not there or a tool is missing.
    """
    with scratch.folder("drill") as held:
        world = look_at_display(build, folder, catalogue, World(), watch)
        good = good_build(build, catalogue, world)
        whole = held / "whole.img"
        _unpack(good, folder, whole, watch)
        _put(whole, good, catalogue)
        return tuple(_machine(cause, good, whole, held, catalogue, fault_model, world) for cause in causes)


def _machine(
    causes: tuple[str, ...],
    good: Build,
    whole: Path,
    held: Path,
    catalogue: Catalogue,
    fault_model: FaultModel,
    world: World,
) -> Machine:
    card = held / "broken.img"
    subprocess.run([tools.find("cp"), "--sparse=always", whole, card], check=True)
    broken = Broken(good, card)
    done = []
    for name in sorted(causes, key=lambda name: BREAKS.get(name) in _BY_HAND):  # putting files would mend those again
        if name in BREAKS:
            try:
                broken = BREAKS[name](broken, catalogue)
                done.append(name)
            except (ToolError, StopIteration, KeyError):
                continue  # this build's card has no such place; the fault is taken as told by the data
    run = _run(broken, catalogue, world)
    told = {
        cause.id
        for cause in fault_model.causes
        if cause.id in done
        and run.failure
        and any(failure.code.split(":")[0] in cause.codes for failure in run.failures)
    }
    block = next((failure.code.split(":")[0] for failure in run.failures if failure.blocks), "")
    # a fault in bytes that the start does not come to yet shows nothing
    behind = {cause.id for cause in fault_model.causes if block and cause.id in told and block not in cause.codes}
    seen = tuple(name for name in causes if name not in behind)
    return Machine(causes, _truth(seen, fault_model, run if told else None))


def _truth(causes: tuple[str, ...], fault_model: FaultModel, run: BringUp | None) -> dict[str, bool]:
    """Answers: what the causes show by the data, and lamp, screen and forecast by the bytes where they tell."""
    silent = {observation.id: 1.0 for observation in fault_model.observations}
    for name in causes:
        index = fault_model.cause_index(name)
        if index is None:
            continue
        for at, each in enumerate(fault_model.observations):
            silent[each.id] *= 1 - fault_model.raw.weight[index, at]
    seen = {name: 1 - chance >= _LIKELY for name, chance in silent.items()}
    if run is not None:
        seen |= {name: value for name, value in _by_run(run).items() if name in seen}
    for group in {observation.group for observation in fault_model.observations if observation.group}:
        members = [observation.id for observation in fault_model.observations if observation.group == group]
        strongest = min(members, key=lambda name: silent[name])
        if sum(seen[name] for name in members) > 1:  # only one of them can be
            keep = next((name for name in members if run is not None and _by_run(run).get(name)), strongest)
            seen |= {name: name == keep for name in members}
    return seen


def _by_run(run: BringUp) -> dict[str, bool]:
    """What a forecast from the broken card says of lamp, screen and itself."""
    lamp = run.events[-1].lamp if run.events else "dark"
    block = next((failure for failure in run.failures if failure.blocks), None)
    kinds = {
        "black": "screen-black",
        "out of range": "screen-range",
        "front end": "screen-menu",
        "crash": "screen-again",
    }
    screen = kinds.get(run.screen.kind, "screen-login")
    if run.screen.kind == "text":
        screen = {"Kernel panic": "screen-panic", "Waiting for ever": "screen-waits"}.get(run.screen.title, screen)
    stage = block.stage if block else ""
    seen = {f"lamp-{each}": each == lamp for each in ("dark", "steady", "slow", "quick", "paired")}
    seen |= {name: name == screen for name in (*kinds.values(), "screen-panic", "screen-waits", "screen-login")}
    seen |= {"screen-no-signal": False, "screen-text-stops": False, "screen-loader": False}
    early, picture = stage in _EARLY, stage == "display"
    return seen | {
        "forecast-early": early,
        "forecast-picture": picture,
        "forecast-root": bool(stage) and not early and not picture,
    }


def _run(broken: Broken, catalogue: Catalogue, world: World) -> BringUp:
    seen = contents.observe(broken.card, started_by(broken.build, catalogue))
    return bring_up(lay_out(broken.build, catalogue, seen, replace(world, card=seen)))


def _unpack(build: Build, folder: Path, to: Path, watch: Watch) -> None:
    if not build.source.path:
        raise KyklonError("An exercise needs the build's image.", do="Choose an image in Card first.")
    with to.open("xb") as file:
        for data in source.chunks(source.inspect(resolve(folder, build.source.path))):
            watch.check()
            if data.strip(b"\0"):
                file.write(data)
            else:
                file.seek(len(data), 1)
        file.truncate()


def _put(card: Path, build: Build, catalogue: Catalogue) -> None:
    """The build's boot files onto the card's copy."""
    seen = contents.observe(card)
    for name, data in plan_boot_files(build, catalogue, seen).files.items():
        _write(card, name, data)


# --- how each fault is made ------------------------------------------------------------------------------------------


def _boot_start(card: Path) -> int:
    seen = contents.observe(card)
    return next(part.start for part in (seen.table.partitions if seen.table else ()) if part.number == seen.boot_number)


def _root_start(card: Path) -> int:
    seen = contents.observe(card)
    return next(part.start for part in (seen.table.partitions if seen.table else ()) if part.number == seen.root_number)


def _write(card: Path, name: str, data: bytes) -> None:
    file = card.with_suffix(".part")
    file.write_bytes(data)
    with tools.plain_name(card) as place:
        folder = name.rpartition("/")[0]
        if folder:
            tools.run(["mmd", "-D", "s", "-i", f"{place}@@{_boot_start(card)}", f"::/{folder}"], passes=(0, 1))
        tools.run(["mcopy", "-o", "-i", f"{place}@@{_boot_start(card)}", str(file), f"::/{name}"])


def _poke(card: Path, at: int, data: bytes) -> None:
    with card.open("r+b") as file:
        file.seek(at)
        file.write(data)


def _edit(path: str, value: Callable[[Broken, Catalogue], object]) -> Callable[[Broken, Catalogue], Broken]:
    """A setting changed, and its boot files put on the card."""

    def act(broken: Broken, catalogue: Catalogue) -> Broken:
        build = edited(broken.build, path, value(broken, catalogue))
        _put(broken.card, build, catalogue)
        return replace(broken, build=build)

    return act


def _line(change: Callable[[list[str]], list[str]]) -> Callable[[Broken, Catalogue], Broken]:
    """The words of the kernel line changed on the card."""

    def act(broken: Broken, catalogue: Catalogue) -> Broken:
        seen = contents.observe(broken.card)
        dialect = catalogue.get(Dialect, broken.build.boot.dialect)
        file = dialect.file("words") or dialect.files[0]
        name, text = seen.names[file.path.lower()], seen.texts[file.path.lower()]
        lines = text.split("\n")
        at = next(index for index, line in enumerate(lines) if "root=" in line)
        lines[at] = " ".join(change(lines[at].split(" ")))
        _write(broken.card, name, "\n".join(lines).encode("utf-8", "surrogateescape"))
        return broken

    return act


def _root_elsewhere(words: list[str]) -> list[str]:
    return ["root=/dev/mmcblk0p7" if word.startswith("root=") else word for word in words]


def _no_root(words: list[str]) -> list[str]:
    return [word for word in words if not word.startswith("root=")]


def _other_kind(words: list[str]) -> list[str]:
    return [*(word for word in words if not word.startswith("rootfstype=")), "rootfstype=ext3"]


def _no_quirk(words: list[str]) -> list[str]:
    return [word for word in words if not word.startswith("usbhid.quirks=")]


def _no_boot_file(broken: Broken, catalogue: Catalogue) -> Broken:
    seen = contents.observe(broken.card)
    path = catalogue.get(Dialect, broken.build.boot.dialect).files[0].path
    with tools.plain_name(broken.card) as place:
        tools.run(["mdel", "-i", f"{place}@@{_boot_start(broken.card)}", f"::/{seen.names[path.lower()]}"])
    return broken


def _wrong_kernel(broken: Broken, catalogue: Catalogue) -> object:
    board, image = catalogue.get(Board, broken.build.part("board")), catalogue.get(Image, broken.build.part("image"))
    return next(kernel.file for kernel in image.kernels if kernel.instruction_set not in board.runs)


def _other_tree(broken: Broken, _catalogue: Catalogue) -> object:
    seen = contents.observe(broken.card)
    return next(
        tree.name
        for tree in seen.trees
        if tree.name.endswith(".dtb") and tree.name.lower() != broken.build.boot.device_tree.lower()
    )


def _no_front_end(broken: Broken, catalogue: Catalogue) -> object:
    image = catalogue.get(Image, broken.build.part("image"))
    return tuple(name for name in broken.build.boot.services if name != image.foreground_service)


def _thin(broken: Broken, catalogue: Catalogue) -> Broken:
    """The cable to the board's power exchanged for the thinnest and longest of its kind."""
    links = list(broken.build.links)
    at = next(index for index, link in enumerate(links) if link.end == "board.power")
    own = catalogue.get(Cable, links[at].cable)
    others = [cable for cable in catalogue.all(Cable) if cable.ends == own.ends and cable.awg]
    worst = max(others, key=lambda cable: (cable.awg or 0) * cable.length_m)
    links[at] = links[at].model_copy(update={"cable": worst.id, "further": ()})
    return replace(broken, build=edited(broken.build, "links", tuple(links)))


def _root_damage(broken: Broken, _catalogue: Catalogue) -> Broken:
    _poke(broken.card, _root_start(broken.card) + 1024 + 56, b"\0\0")  # the mark EF53h of the superblock
    return broken


def _no_table(broken: Broken, _catalogue: Catalogue) -> Broken:
    _poke(broken.card, 510, b"\0\0")
    return broken


def _cut(broken: Broken, _catalogue: Catalogue) -> Broken:
    with broken.card.open("r+b") as file:
        file.truncate(_root_start(broken.card) + (1 << 20))
    return broken


def _out_of_range(_broken: Broken, _catalogue: Catalogue) -> object:
    return Mode(name="CTA 1", timing=standard_timings("cta")[1].timing)


def _no_front_end_file(broken: Broken, catalogue: Catalogue) -> Broken:
    image = catalogue.get(Image, broken.build.part("image"))
    with tools.plain_name(broken.card) as place:
        tools.run(
            ["debugfs", "-w", "-R", f"rm {image.front_end_program}", f"{place}?offset={_root_start(broken.card)}"]
        )
    return broken


BREAKS: dict[str, Callable[[Broken, Catalogue], Broken]] = {
    "kernel-missing": _edit("boot.kernel", _wrong_kernel),
    "tree-wrong": _edit("boot.device_tree", _other_tree),
    "boot-file-missing": _no_boot_file,
    "root-nowhere": _line(_root_elsewhere),
    "root-not-named": _line(_no_root),
    "root-words": _line(_other_kind),
    "encoder-quirk": _line(_no_quirk),
    "front-end-unlisted": _edit("boot.services", _no_front_end),
    "front-end-missing": _no_front_end_file,
    "user-missing": _edit("boot.user", lambda _broken, _catalogue: "stranger"),
    "cable-thin": _thin,
    "root-damaged": _root_damage,
    "table-damaged": _no_table,
    "image-cut": _cut,
    "out-of-range": _edit("picture.menu", _out_of_range),
    "clock-too-high": _edit("boot.processor_mhz", lambda _broken, _catalogue: 3600),
    "memory-split": _edit("boot.video_memory_mb", lambda _broken, _catalogue: 1024),
}


_BY_HAND = tuple(
    BREAKS[name] for name in ("root-nowhere", "root-not-named", "root-words", "encoder-quirk", "boot-file-missing")
)
