"""Bare-metal sets."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from kyklon.base.errors import WrongUse
from kyklon.base.quantities import counted, show_bytes
from kyklon.catalogue.image_records import BareMetal, Image
from kyklon.catalogue.records import Board
from kyklon.commands.line import Option
from kyklon.commands.shared import (
    OK,
    STOPS,
    BoardId,
    Dir,
    InFolder,
    Json,
    Lose,
    TargetName,
    Yes,
    agree,
    catalogue,
    out,
    watching,
)
from kyklon.commands.targets import card_job
from kyklon.operations.card.sets import baremetal
from kyklon.operations.card.sets.problems import rename, rename_words

if TYPE_CHECKING:
    from kyklon.operations.card.sets.baremetal import Plan


def _planned(folder: Path, board: str) -> Plan:
    parts = catalogue()
    images = {image.id: image for image in parts.all(Image)}
    layout = baremetal.layout_of(folder, parts.all(BareMetal), images)
    return baremetal.plan(folder, layout, images[layout.image], parts.get(Board, board))


def plan(
    folder: Dir,
    board: BoardId,
    fix: Annotated[bool, Option("--rename", help="First rename the files with a wrong name.")] = False,
    as_json: Json = False,
) -> int:
    """List what a card made from an unpacked set will hold.

    What is wrong with the set is told, too. Exit 1 while a stop stands.
    """
    found = _planned(folder, board)
    if fix:
        for problem in found.problems:
            if problem.rename:
                rename(folder, problem)
        found = _planned(folder, board)

    def lines() -> list[str]:
        told = [f"{each.target}  {show_bytes(each.size)}, {each.why}" for each in found.placed]
        told += [f"skipped: {name}, {why}" for name, why in found.left_out]
        told += [f"{p.severity.upper():8}{p.sentence} {p.why}{rename_words(p)}" for p in found.problems]
        ready = ", ".join(found.machines) or "no machine"
        return [*told, f"{counted(len(found.placed), 'file')}, {show_bytes(found.size)}; ready: {ready}"]

    out(asdict(found) | {"size": found.size, "ready": found.ready}, as_json, lines)
    return OK if found.ready else STOPS


def write(
    folder: Dir,
    target: TargetName,
    board: BoardId,
    label: Annotated[str, Option("--label", help="Name of the volume.")] = "TIDEPOOL",
    yes: Yes = False,
    lose: Lose = "",
    build_folder: InFolder = None,
) -> int:
    """Make a plain FAT card from an unpacked set.

    Every file is read back and compared.
    """
    from kyklon.operations.card.acts import bare_metal_card
    from kyklon.operations.card.drives.interlock import Purpose

    planned = _planned(folder, board)
    job = card_job(target, build_folder, lose)
    verdict = job.verdict(Purpose.PREPARE)
    if verdict.allowed and not planned.ready:
        raise WrongUse("The set is not ready for a card.", do="See `kyklon baremetal plan` and fix its stops.")
    agree(verdict, f"Make a card of {job.target.facts.name}?", yes=yes)
    with watching() as watch:
        image = catalogue().find(Image, job.build.part("image")) if job.build else None
        own = image is not None and image.school == "bare metal"
        found, _event = bare_metal_card(job, folder, planned, label, watch, own=own)
    print(f"{found.same_files} files on {job.target.facts.name}, read back and the same.")
    return OK
