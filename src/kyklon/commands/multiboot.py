"""Multi-boot bundles."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

from kyklon.base.errors import WrongUse
from kyklon.base.quantities import counted, show_bytes, show_minutes
from kyklon.catalogue.image_records import Chooser
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, STOPS, BoardId, Dir, Folder, Json, catalogue, open_folder, out, watching
from kyklon.model.build import TriedSystem
from kyklon.operations.card.disk import unpacking_speeds
from kyklon.operations.card.sets import lay_out as laying
from kyklon.operations.card.sets import multiboot
from kyklon.operations.card.sets.problems import rename, rename_words
from kyklon.operations.card.sets.tried import in_words, problems_of, with_tried
from kyklon.operations.card.sets.unpacking import seconds
from kyklon.parts.store import today
from kyklon.record import folder as store
from kyklon.record.folder import resolve
from kyklon.record.logbook import Logbook

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
    systems = counted(len(found.chosen), "system")
    print(f"{systems}, {files} files, {show_bytes(moved)} in {to / chooser.bundles}, read back.")
    return OK


def tried(
    folder: Folder,
    bundle: Annotated[str, Option("--bundle", help="A bundle's folder: what was seen of it is kept.")] = "",
    started: Annotated[bool, Option("--started", help="It started.")] = False,
    returned: Annotated[bool, Option("--returned", help="It returned to the list.")] = False,
    kernel: Annotated[str, Option("--kernel", help="What `uname -srm` says there.")] = "",
    as_json: Json = False,
) -> int:
    """List what was seen of each system on the machine, or add to it; exit 1 while one asks for attention.

    Without --bundle nothing is changed.
    """
    build, parts = open_folder(folder)
    if not build.sets.multi_boot:
        raise WrongUse("This build has no bundles.", do="Set sets.multi_boot to their folder.")
    top = resolve(folder, build.sets.multi_boot)
    chooser = multiboot.chooser_for(parts.all(Chooser), build.part("image") or "", top)
    with watching() as watch:
        found = multiboot.check_quickly(top, chooser, 1 << 62, watch=watch)
    if bundle:
        seen = next((each for each in found.bundles if each.folder == bundle), None)
        if seen is None:
            raise WrongUse(
                f"There is no bundle {bundle!r}.", do=f"There are: {', '.join(each.folder for each in found.bundles)}."
            )
        row = TriedSystem(
            bundle=bundle, started=started, kernel=kernel[:200], returned=returned, released=seen.released, at=today()
        )
        build = store.update(folder, lambda now: with_tried(now, row))
        Logbook(folder).add(20, f"{seen.name} tried on the machine", in_words(row))
    speeds = unpacking_speeds(build, parts)
    words = {each.bundle: in_words(each) for each in build.sets.tried}
    rows: list[dict[str, Any]] = [
        {
            "bundle": each.folder,
            "name": each.name,
            "unpack_s": round(seconds(each, speeds)),
            "tried": words.get(each.folder, ""),
        }
        for each in found.bundles
        if each.readable
    ]
    problems = problems_of(found.bundles, build.sets.tried)

    def lines() -> list[str]:
        told = [
            f"{row['name']}: unpacks in about {show_minutes(row['unpack_s'] / 60)}; {row['tried'] or 'not tried yet'}"
            for row in rows
        ]
        return told + [f"{p.severity.upper():8}{p.bundle}: {p.sentence} {p.why}" for p in problems]

    out({"systems": rows, "problems": [asdict(each) for each in problems]}, as_json, lines)
    return STOPS if problems else OK
