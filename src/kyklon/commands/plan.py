"""The plan: which parts a build uses, and the cables between them."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from kyklon.base.errors import WrongUse
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, Folder, Json, catalogue, keep_copies, open_folder, out, tell
from kyklon.operations.plan.acts import with_part_used, without_part
from kyklon.operations.plan.connections import connections, sockets, unconnected, with_cable, without_cable
from kyklon.parts.view import catalogue_for
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook

if TYPE_CHECKING:
    from collections.abc import Callable

    from kyklon.catalogue.loader import Catalogue
    from kyklon.model.build import Build

Socket = Annotated[str, Argument(help="A socket, as `kyklon plan show` lists it: board.video.", metavar="SOCKET")]


def show(folder: Folder, as_json: Json = False) -> int:
    """List a build's parts, its cables and what is not connected."""
    build, parts = open_folder(folder)
    links = connections(build, parts)
    names = {part.id: part.name for rows in parts.parts.values() for part in rows.values()}
    rows = [{"role": part.role, "id": part.part, "name": names.get(part.part, part.part)} for part in build.parts]
    cables = [
        {
            "start": link.link.start,
            "end": link.link.end,
            "cable": link.link.cable,
            "pieces": list(link.link.pieces),
            "needs_m": link.link.needs_m,
            "length_m": link.cable.length_m if link.cable else None,
            "name": link.cable.name if link.cable else " + ".join(link.link.pieces),
            "faults": list(link.faults),
        }
        for link in links
    ]
    open_, all_ = unconnected(build, parts), sockets(build, parts)
    data = {
        "parts": rows,
        "systems": list(build.systems),
        "dialect": build.boot.dialect,
        "panel": build.controls.panel,
        "cables": cables,
        "unconnected": list(open_),
        "sockets": list(all_),
    }

    def lines() -> list[str]:
        found = [f"{row['role']:12} {row['id']:24} {row['name']}" for row in rows]
        found += [f"{'systems':12} {', '.join(build.systems) or 'none'}"]
        found += [f"{'panel':12} {build.controls.panel or 'none'}", f"{'boot file':12} {build.boot.dialect}", ""]
        for connection in links:
            link = connection.link
            name = connection.cable.name if connection.cable else "not on the shelf"
            found.append(f"{link.start:20} → {link.end:20} {name} ({' + '.join(link.pieces)})")
            found += [f"    {fault}" for fault in connection.faults]
        found += [f"{name:20}   not connected" for name in open_]
        return [*found, "", f"Sockets: {', '.join(all_)}"]

    out(data, as_json, lines)
    return OK


def use(
    folder: Folder,
    kind: Annotated[str, Argument(help="A kind of part: board, display, image, supply, …", metavar="KIND")],
    part_id: Annotated[str, Argument(help="Its short name, as `kyklon part list` gives it.", metavar="ID")],
    remove: Annotated[bool, Option("--remove", help="Take it out of the build instead.")] = False,
    role: Annotated[str, Option("--role", help="Where there are several: encoder-2, adapter-2, …")] = "",
) -> int:
    """Use a part in a build: it is connected, and what follows from it is set."""
    from kyklon.commands.part import kind_of

    of, parts = kind_of(kind), catalogue()
    part = parts.parts[of].get(part_id)
    if part is None and not remove:
        known = ", ".join(sorted(parts.parts[of])) or "none"
        raise WrongUse(f"The shelf has no {kind} {part_id!r}.", do=f"It has: {known}.")
    name = part.name if part else part_id
    if remove:
        return _changed(folder, f"Remove {name}", lambda build, seen: without_part(build, of, part_id, seen, role))
    return _changed(folder, f"Use {name}", lambda build, seen: with_part_used(build, of, part_id, seen, role))


def connect(
    folder: Folder,
    start: Socket,
    end: Socket,
    cable: Annotated[
        str,
        Option("--cable", help="A cable's short name; several pieces with commas; the shortest that fits otherwise."),
    ] = "",
    length: Annotated[float, Option("--length", help="How far apart they are along the cable, in metres.")] = -1.0,
) -> int:
    """Connect two sockets with a cable; what was plugged into either is pulled out first."""
    pieces = [piece.strip() for piece in cable.split(",")]
    needed = None if length < 0 else min(length, 100.0)
    done = _changed(
        folder, f"Connect {start} to {end}", lambda build, seen: with_cable(build, start, end, pieces, seen, needed)
    )
    build, parts = open_folder(folder)
    for connection in connections(build, parts):
        if {start, end} == {connection.link.start, connection.link.end}:
            for fault in connection.faults:
                tell(fault)
    return done


def disconnect(folder: Folder, socket: Socket) -> int:
    """Pull a cable out."""
    return _changed(folder, f"Disconnect {socket}", lambda build, _seen: without_cable(build, socket))


def _changed(folder: Path, label: str, change: Callable[[Build, Catalogue], Build]) -> int:
    """Change the build in the folder as one step, with its line in the logbook. Raises WrongUse."""
    shelf = catalogue()
    try:
        store.update(folder, lambda build: change(build, catalogue_for(build, shelf)))
    except ValueError as bad:
        raise WrongUse(f"{bad}.", do="Nothing was changed.") from bad
    keep_copies(folder)
    Logbook(folder).add(10, label)
    print(f"{label}: done.")
    return OK


def trial(
    folder: Folder,
    part: Annotated[list[str] | None, Option("--part", help="Id of a part or a cable; at least two.")] = None,
    works: Annotated[bool, Option("--works", help="They work together; without it they do not.")] = False,
    why: Annotated[str, Option("--why", help="What was seen.")] = "",
    as_json: Json = False,
) -> int:
    """Note that parts work together or do not, or list what was tried; findings and plans keep to it."""
    from kyklon.model.build import edited
    from kyklon.model.plan import Trial
    from kyklon.record.logbook import now

    build, parts = open_folder(folder)
    if part:
        unknown = next((each for each in part if parts.any(each) is None), "")
        if unknown or len(set(part)) < 2:
            what = f"There is no part {unknown!r}." if unknown else "A trial has two parts or more."
            raise WrongUse(what, do="Name them as `kyklon part list` does, each with --part.")
        made = Trial(parts=tuple(dict.fromkeys(part)), works=works, why=why[:300], at=now())
        build = store.update(folder, lambda kept: edited(kept, "plan.trials", [*kept.plan.trials, made]))
        said = "work together" if works else "do not work together"
        Logbook(folder).add(10, f"Tried: {' with '.join(part)} {said}", why)
    rows = [trial.model_dump() for trial in build.plan.trials]

    def lines() -> list[str]:
        told = []
        for row in rows:
            word = "works" if row["works"] else "does not"
            told.append(f"{row['at'][:10]} {word}: {' + '.join(row['parts'])}  {row['why']}".rstrip())
        return told or ["Nothing was tried yet."]

    out(rows, as_json, lines)
    return OK
