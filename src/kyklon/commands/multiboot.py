"""Multi-boot bundles."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

from kyklon.base.quantities import show_bytes
from kyklon.catalogue.image_records import Chooser
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, STOPS, BoardId, Dir, Json, catalogue, out, watching
from kyklon.operations.card.sets import lay_out as laying
from kyklon.operations.card.sets import multiboot
from kyklon.operations.card.sets.problems import rename, rename_words

ChooserId = Annotated[str, Option("--chooser", help="The chooser, by id; found by the manifests when not given.")]
TargetBytes = Annotated[int, Option("--target-bytes", help="Size of the card for the systems.")]


def check(
    folder: Dir,
    target_bytes: TargetBytes,
    board: BoardId = "",
    chooser_id: ChooserId = "",
    fix: Annotated[bool, Option("--rename", help="First rename the files with a wrong name.")] = False,
    as_json: Json = False,
) -> int:
    """Check bundles against their manifests and a target.

    Exit 1 while a stop stands.
    """
    chooser = multiboot.chooser_for(catalogue().all(Chooser), folder=folder, wanted=chooser_id)
    with watching() as watch:
        found = multiboot.check(folder, chooser, target_bytes, board=board, watch=watch)
        if fix:
            for problem in found.problems:
                if problem.rename:
                    rename(multiboot.top_of(folder, chooser), problem)
            found = multiboot.check(folder, chooser, target_bytes, board=board, watch=watch)

    def lines() -> list[str]:
        told = [
            f"{bundle.order}  {bundle.name}: {show_bytes(bundle.need)}" for bundle in found.bundles if bundle.readable
        ]
        told.append(f"{show_bytes(found.need)} of {show_bytes(found.usable)} usable; the stick needs {found.stick}.")
        return told + [
            f"{p.severity.upper():8}{p.bundle or 'all'}: {p.sentence} {p.why}{rename_words(p)}" for p in found.problems
        ]

    data: dict[str, Any] = asdict(found) | {"fits": found.fits, "ready": found.ready}
    out(data, as_json, lines)
    return OK if found.ready else STOPS


def lay_out(
    folder: Dir,
    to: Annotated[Path, Option("--to", help="The stick's folder.")],
    target_bytes: TargetBytes,
    chosen: Annotated[list[str] | None, Option("--bundle", help="A bundle's folder; may be repeated.")] = None,
    board: BoardId = "",
    chooser_id: ChooserId = "",
) -> int:
    """Copy checked bundles to a stick, and read them back.

    In the layout that the chooser looks for.
    """
    chooser = multiboot.chooser_for(catalogue().all(Chooser), folder=folder, wanted=chooser_id)
    found = multiboot.check(folder, chooser, target_bytes, board=board, chosen=tuple(chosen) if chosen else None)
    with watching() as watch:
        files, moved = laying.lay_out(folder, chooser, found, to, watch)
    print(f"{len(found.chosen)} systems, {files} files, {show_bytes(moved)} in {to / chooser.bundles}, read back.")
    return OK
