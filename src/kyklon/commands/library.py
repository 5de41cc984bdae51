"""Games."""

from __future__ import annotations

from dataclasses import asdict, replace
from pathlib import Path
from typing import Annotated

from kyklon.base.quantities import show_bytes
from kyklon.commands.build import finding_data
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, STOPS, Folder, Json, open_folder, out, watching


def scan(
    folder: Folder,
    library: Annotated[Path | None, Option("--library", help="Another library folder.")] = None,
    as_json: Json = False,
) -> int:
    """Say which games are ready, and why the rest are not.

    Exit 1 when something stops a system.
    """
    from kyklon.catalogue.chosen import systems_of
    from kyklon.model.world import World
    from kyklon.operations.library.findings import findings
    from kyklon.operations.library.scan import scan as scan_folder
    from kyklon.record.folder import resolve

    build, parts = open_folder(folder)
    place = library or resolve(folder, build.library.folder)
    found = scan_folder(place, systems_of(build, parts), build.library)
    rows = [
        {"system": g.system, "title": g.title, "files": g.files, "bytes": g.size, "discs": g.discs, "ready": g.ready,
         "reasons": [{"code": r.code, "text": r.text} for r in g.reasons]}
        for g in found.games
    ]  # fmt: skip
    told = findings(build, parts, replace(World(), scan=found))

    def lines() -> list[str]:
        waiting = [f"{g.system:12} {g.title}: {' '.join(r.text for r in g.reasons)}" for g in found.games if g.reasons]
        return [*waiting, f"{len(found.ready)} of {len(found.games)} games are ready."]

    out({"games": rows, "ready": len(found.ready), "findings": [finding_data(each) for each in told]}, as_json, lines)
    return STOPS if any(each.severity == "stop" for each in told) else OK


def transfer(
    folder: Folder, to: Annotated[Path, Option("--to", help="Where the games go.")], as_json: Json = False
) -> int:
    """Copy the games that are ready, and read them back.

    Into the folder layout that the image looks for.
    """
    from kyklon.model.build import edited
    from kyklon.operations.library.acts import copy_games
    from kyklon.record import folder as store

    build, parts = open_folder(folder)
    with watching() as watch:
        after, report = copy_games(folder, build, parts, to, watch)
    store.update(folder, lambda kept: edited(kept, "library.destination", after.library.destination))
    out(asdict(report), as_json, lambda: [
        f"{report.games} games, {report.files} files, {show_bytes(report.size)} in {to}; "
        f"{report.already_there} were already there."
    ])  # fmt: skip
    return OK
