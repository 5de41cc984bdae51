"""The commands for multi-boot bundles, bare-metal sets and the size of a card."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

import typer

from kyklon import keeping, observing, workshop
from kyklon.card import baremetal, multiboot
from kyklon.card.problems import rename
from kyklon.catalogue.loader import Catalogue, load
from kyklon.catalogue.records import BareMetal, Board, Chooser, Image
from kyklon.cli_tools import OK, STOPS, InFolder, Json, Lose, Meter, TargetName, Yes, cancelling, out
from kyklon.errors import Cancelled, Refused, WrongUse
from kyklon.places import catalogue_folder
from kyklon.quantities import show_bytes
from kyklon.record import folder as store

Dir = Annotated[Path, typer.Argument(help="The folder.", metavar="DIR")]
BoardId = Annotated[str, typer.Option("--board", help="A board's id in the catalogue.")]


def register(app: typer.Typer, multiboot_app: typer.Typer, baremetal_app: typer.Typer) -> None:
    multiboot_app.command("check")(multiboot_check)
    multiboot_app.command("lay-out")(multiboot_lay_out)
    baremetal_app.command("plan")(baremetal_plan)
    baremetal_app.command("write")(baremetal_write)
    app.command("size")(size)


# --- multi-boot ----------------------------------------------------------------------------------------------


def _chooser(catalogue: Catalogue) -> Chooser:
    return catalogue.all(Chooser)[0]


def multiboot_check(
    folder: Dir,
    target_bytes: Annotated[int, typer.Option("--target-bytes", help="Size of the card the systems go on.")],
    board: BoardId = "",
    fix: Annotated[bool, typer.Option("--rename", help="Carry out the renamings first.")] = False,
    as_json: Json = False,
) -> int:
    """Check bundles against their manifests and the space of a target. Exit 1 while a stop stands."""
    chooser = _chooser(load(catalogue_folder()))
    with cancelling() as cancel:
        found = multiboot.check(folder, chooser, target_bytes, board=board, cancel=cancel)
        if fix:
            for problem in found.problems:
                if problem.rename:
                    rename(multiboot.top_of(folder, chooser), problem)
            found = multiboot.check(folder, chooser, target_bytes, board=board, cancel=cancel)

    def lines() -> list[str]:
        told = [
            f"{bundle.order}  {bundle.name}: {show_bytes(bundle.need)}" for bundle in found.bundles if bundle.readable
        ]
        told.append(f"{show_bytes(found.need)} of {show_bytes(found.usable)} usable; the stick wants {found.stick}.")
        told += [
            f"{p.severity.upper():8}{p.bundle or 'all'}: {p.sentence} {p.why}{_rename(p.rename)}"
            for p in found.problems
        ]
        return told

    data: dict[str, Any] = asdict(found) | {"fits": found.fits, "ready": found.ready}
    out(data, as_json, lines)
    return OK if found.ready else STOPS


def _rename(names: tuple[str, str] | None) -> str:
    return f" (rename {names[0]} to {names[1]})" if names else ""


def multiboot_lay_out(
    folder: Dir,
    to: Annotated[Path, typer.Option("--to", help="The stick's folder.")],
    target_bytes: Annotated[int, typer.Option("--target-bytes", help="Size of the card the systems go on.")],
    chosen: Annotated[list[str] | None, typer.Option("--bundle", help="A bundle's folder; may be given again.")] = None,
    board: BoardId = "",
) -> int:
    """Copy checked bundles into a stick's folder in the chooser's layout, and read them back."""
    chooser = _chooser(load(catalogue_folder()))
    found = multiboot.check(folder, chooser, target_bytes, board=board, chosen=tuple(chosen) if chosen else None)
    meter = Meter()
    with cancelling() as cancel:
        files, moved = keeping.lay_out_bundles(folder, chooser, found, to, sink=meter, cancel=cancel)
    meter.done()
    print(f"{len(found.chosen)} systems, {files} files, {show_bytes(moved)} in {to / chooser.bundles}, read back.")
    return OK


# --- bare metal ----------------------------------------------------------------------------------------------


def _planned(folder: Path, board: str) -> baremetal.Plan:
    catalogue = load(catalogue_folder())
    images = {image.id: image for image in catalogue.all(Image)}
    layout = baremetal.layout_of(folder, catalogue.all(BareMetal), images)
    return baremetal.plan(folder, layout, images[layout.image], catalogue.get(Board, board))


def baremetal_plan(
    folder: Dir,
    board: BoardId,
    fix: Annotated[bool, typer.Option("--rename", help="Carry out the renamings first.")] = False,
    as_json: Json = False,
) -> int:
    """What a card made of an unpacked set holds, and what is wrong with the set. Exit 1 while a stop stands."""
    found = _planned(folder, board)
    if fix:
        for problem in found.problems:
            if problem.rename:
                rename(folder, problem)
        found = _planned(folder, board)

    def lines() -> list[str]:
        told = [f"{each.target}  {show_bytes(each.size)}, {each.why}" for each in found.placed]
        told += [f"left out: {name}, {why}" for name, why in found.left_out]
        told += [f"{p.severity.upper():8}{p.sentence} {p.why}{_rename(p.rename)}" for p in found.problems]
        return [
            *told,
            f"{len(found.placed)} files, {show_bytes(found.size)}; ready: {', '.join(found.machines) or 'no machine'}",
        ]

    out(asdict(found) | {"size": found.size, "ready": found.ready}, as_json, lines)
    return OK if found.ready else STOPS


def baremetal_write(
    folder: Dir,
    target: TargetName,
    board: BoardId,
    label: Annotated[str, typer.Option("--label", help="Name of the volume.")] = "TIDEPOOL",
    yes: Yes = False,
    lose: Lose = "",
    build_folder: InFolder = None,
) -> int:
    """Make a plain FAT card of an unpacked set, read it back and compare."""
    planned = _planned(folder, board)
    place = workshop.find_target(target, build_folder)
    build = store.load(build_folder).build if build_folder else None
    verdict = keeping.whole_verdict(build, place)
    if verdict.refusals:
        raise Refused(verdict.refusals, do="Choose another drive.")
    if not planned.ready:
        raise WrongUse("The set is not ready for a card.", do="See `kyklon baremetal plan`, and put its stops right.")
    if not verdict.lose and not yes and not typer.confirm(f"Make a card of {place.facts.name}?", err=True):
        raise Cancelled
    meter = Meter()
    with cancelling() as cancel:
        found, _event = keeping.bare_metal_card(
            place, build, build_folder, folder, planned, label, typed=lose, sink=meter, cancel=cancel
        )
    meter.done()
    print(f"{found.same_files} files on {place.facts.name}, read back and the same.")
    return OK


# --- size ----------------------------------------------------------------------------------------------------


def size(
    folder: Annotated[Path, typer.Argument(help="A build folder, or a folder of games.", metavar="FOLDER")],
    as_json: Json = False,
) -> int:
    """Which card to buy. Exit 1 when no card of the catalogue is large enough."""
    found = observing.observe_size(folder, load(catalogue_folder()))

    def lines() -> list[str]:
        told = [f"{item.name:10} {show_bytes(item.size):>9}  {item.how}" for item in found.items]
        told.append(f"{'Needed':10} {show_bytes(found.need):>9}")
        for offer in found.offers:
            fits = "fits" if offer.fits else "too small"
            told.append(
                f"  {offer.name:16} {show_bytes(offer.capacity):>9}  {fits:9} {offer.speed_class:6} "
                f"{offer.minutes:.0f} min to fill, largest game in {offer.load_s:.1f} s"
            )
        return [*told, found.sentence]

    out(asdict(found), as_json, lines)
    return OK if found.advice else STOPS
