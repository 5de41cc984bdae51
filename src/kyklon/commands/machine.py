"""A machine that runs: found, asked, changed, restarted."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.quantities import counted, show_bytes, show_duration
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, STOPS, Folder, Json, Yes, open_folder, out, watching
from kyklon.model.build import Build, edited
from kyklon.model.fields import describe
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook, now

if TYPE_CHECKING:
    from kyklon.catalogue.loader import Catalogue
    from kyklon.devices.secure_copy import SecureCopy


def password() -> str:
    """Of the machine's login, '' where none is given."""
    import os

    return os.environ.get("KYKLON_PASSWORD", "")


def find(
    folder: Folder,
    name: Annotated[str, Option("--name", help="Name or address to ask for; the build's own when not given.")] = "",
    seconds: Annotated[float, Option("--seconds", help="How long answers are waited for.")] = 3.0,
    neighbours: Annotated[
        bool, Option("--neighbours", help="Also ask whom this computer has talked to for a host key.")
    ] = False,
    use: Annotated[str, Option("--use", help="The address to reach the machine at from now on.")] = "",
    as_json: Json = False,
) -> int:
    """Find the machine in this network by its name or its key; exit 1 when it does not answer."""
    from kyklon.devices.choose import neighbourhood_of
    from kyklon.operations.upkeep import find as finding

    build, _parts = open_folder(folder)
    nearby = neighbourhood_of(folder)
    found = finding.find(build, nearby, name, max(0.2, min(seconds, 60.0)), neighbours=neighbours)
    if use:
        chosen = next((each for each in found if each.neighbour.address == use), None)
        if chosen is None:
            raise WrongUse(f"Nothing was found at {use}.", do="Run it without --use to see what there is.")
        store.update(folder, lambda kept: finding.with_machine(kept, chosen))
        Logbook(folder).add(95, "Machine found", f"{chosen.neighbour.name}, {use}: {chosen.words}")
    data = [
        {
            "name": each.neighbour.name,
            "address": each.neighbour.address,
            "port": each.neighbour.port,
            "how": each.neighbour.how,
            "shell": each.shell,
            "share": each.share,
            "ours": each.ours,
            "key": each.words,
        }
        for each in found
    ]

    def lines() -> list[str]:
        told = [
            f"{each.neighbour.name:28} {each.neighbour.address:20} "
            f"{'login' if each.shell else 'no login':9} {'share' if each.share else 'no share':9} {each.words}"
            for each in found
        ]
        asked = name or finding.name_of(build)
        return told or [f"Nothing answers as {asked or 'anything'} in {nearby.called}. Is the machine on?"]

    out(data, as_json, lines)
    return OK if any(each.ours is True or (each.shell and each.ours is None) for each in found) else STOPS


@contextlib.contextmanager
def _boot(folder: Path, accept: bool) -> Iterator[SecureCopy]:
    """The boot folder of the running machine; its key is kept where somebody accepts it."""
    from kyklon.devices.secure_copy import UnknownHost
    from kyklon.operations.upkeep.running import boot_folder

    build, _parts = open_folder(folder)
    try:
        with boot_folder(build, password()) as machine:
            yield machine
            return
    except UnknownHost as unknown:
        if not accept:
            raise WrongUse(unknown.what, do="Compare it, then run this again with --accept-key.") from unknown
        key = unknown.host_key
    build = store.update(folder, lambda kept: edited(kept, "library.host_key", key))
    with boot_folder(build, password()) as machine:
        yield machine


Accept = Annotated[bool, Option("--accept-key", help="Accept the host key that the machine shows now.")]


def look(folder: Folder, accept: Accept = False, as_json: Json = False) -> int:
    """Show the running machine's status and how its boot files differ; exit 1 when its card is failing."""
    from kyklon.operations.upkeep import change, running

    build, parts = open_folder(folder)
    with _boot(folder, accept) as machine:
        told = running.look(machine)
        planned = change.planned(build, parts, machine)
    store.update(folder, lambda kept: edited(kept, "upkeep.looked_at", now()))
    data = {**{k: v for k, v in asdict(told).items() if k != "log"}, "differs": planned.differences}

    def lines() -> list[str]:
        rows = [f"Kernel {told.kernel or 'unknown'}, up {show_duration(told.up_s)}"]
        rows += [f"Processor at {told.celsius:.0f} °C"] if told.celsius else []
        rows += [f"{show_bytes(told.free)} free"] if told.free else []
        rows += [f"Failed: {', '.join(told.failed)}"] if told.failed else []
        rows += [f"Failing card: {line}" for line in told.worn]
        rows += list(planned.differences.values()) or ["Its boot files are those of this build."]
        return rows

    out(data, as_json, lines)
    return STOPS if told.worn else OK


def put(folder: Folder, yes: Yes = False, accept: Accept = False, as_json: Json = False) -> int:
    """Copy this build's boot files to the running machine; the old ones are kept beside them."""
    from kyklon.operations.upkeep import change

    build, parts = open_folder(folder)
    with _boot(folder, accept) as machine, watching() as watch:
        done = change.put(folder, build, parts, machine, watch) if yes else change.planned(build, parts, machine)
        name = machine.name
    data = {"files": sorted(done.files), "differences": done.differences}

    def lines() -> list[str]:
        if not done.files:
            return [f"The boot files in {name} are those of this build already."]
        said = f"{counted(len(done.files), 'file')} changed in {name}; `kyklon machine restart` next."
        return [*done.differences.values(), said if yes else "Nothing was changed yet: add --yes to change it."]

    out(data, as_json, lines)
    return OK


def undo(folder: Folder, accept: Accept = False, as_json: Json = False) -> int:
    """Undo the last change on the running machine."""
    from kyklon.operations.upkeep import change

    with _boot(folder, accept) as machine, watching() as watch:
        done = change.undo(folder, machine, watch)
    out(
        asdict(done),
        as_json,
        lambda: [
            f"{counted(done.restored, 'file')} restored, {done.removed} removed, "
            f"{len(done.left)} changed since and left alone."
        ],
    )
    return OK


def settings(
    folder: Folder,
    yes: Yes = False,
    undo: Annotated[bool, Option("--undo", help="Undo the last change of settings.")] = False,
    accept: Accept = False,
    as_json: Json = False,
) -> int:
    """Show or change settings on the running machine: network, keyboard, rights; they count from its next start."""
    from kyklon.operations.upkeep import running
    from kyklon.operations.upkeep import settings as root

    with _boot(folder, accept):  # whose key is known after that
        build, parts = open_folder(folder)
    with running.root_folder(build, password()) as machine, watching() as watch:
        if undo:
            done = root.undo(folder, machine, watch)
            out(asdict(done), as_json, lambda: [f"{counted(done.restored, 'file')} restored, {done.removed} removed."])
            return OK
        found = root.put(folder, build, parts, machine, watch) if yes else root.planned(build, parts, machine)
    data = {"files": sorted(found.files), "differences": found.differences, "skipped": found.skipped}

    def lines() -> list[str]:
        rows = list(found.differences.values())
        rows += [f"{path}: the machine has no such folder; skipped." for path in found.skipped]
        if not found.files:
            return [*rows, "Its settings are those of this build."]
        rows += ["The network changes: have a screen and a keyboard at hand."] if found.cuts_off else []
        said = "Changed; `kyklon machine restart` next." if yes else "Nothing was changed yet: add --yes to change it."
        return [*rows, said]

    out(data, as_json, lines)
    return OK


def restart(folder: Folder, as_json: Json = False) -> int:
    """Restart the machine and compare what comes back with the build; exit 1 when it stays away."""
    from kyklon.devices.secure_copy import SecureCopy
    from kyklon.operations.upkeep import change, running

    build, _parts = open_folder(folder)
    with watching() as watch:
        back = change.restart(folder, build, lambda: SecureCopy(running.login(build, password())), watch)
    data = {"seconds": back.seconds, "kernel": back.running.kernel, "missing": list(back.missing)}
    out(data, as_json, lambda: [back.words])
    return STOPS if back.seconds is None or back.missing else OK


def key(
    folder: Folder,
    file: Annotated[Path | None, Option("--file", help="Where the private half goes; ~/.ssh/ by its hostname.")] = None,
    as_json: Json = False,
) -> int:
    """Make a key pair for the machine's login; its public half goes along at the first boot."""
    from kyklon.operations.upkeep import keys

    build, _parts = open_folder(folder)
    made = keys.make(file.absolute() if file is not None else keys.usual(build))
    store.update(folder, lambda kept: keys.with_key(kept, made))
    Logbook(folder).add(95, "SSH key used" if made.old else "SSH key made", str(made.path))
    words = "is there already and is used" if made.old else "made"
    out({"file": str(made.path), "public": made.public}, as_json, lambda: [f"{made.path} {words}.", made.public])
    return OK


def listed(
    asked: Annotated[bool, Option("--ask", help="Ask each machine whether it answers.")] = False, as_json: Json = False
) -> int:
    """List the machines of all builds: address, image, card, last seen."""
    from kyklon.devices.neighbours import all_answer
    from kyklon.record import builds

    rows = []
    for folder in builds.known():
        with contextlib.suppress(KyklonError):
            build = store.load(folder).build
            rows.append(
                {
                    "folder": str(folder),
                    "name": build.name,
                    "address": build.library.host,
                    "port": build.library.port,
                    "image": build.part("image") or "",
                    "card": build.card.at,
                    "saves": build.upkeep.saves_at,
                    "seen": build.upkeep.looked_at,
                    "away": bool(build.upkeep.waited_for),
                }
            )
    there = [(str(row["address"]), int(str(row["port"]))) for row in rows if row["address"]]
    answers = dict(zip(there, all_answer(there), strict=True)) if asked else {}
    for row in rows:
        row["answers"] = answers.get((str(row["address"]), int(str(row["port"]))))

    def lines() -> list[str]:
        told = []
        for row in rows:
            state = {True: "answers", False: "does not answer", None: ""}[row["answers"]]  # type: ignore[index]
            state = "did not come back" if row["away"] else state
            seen = f"seen {str(row['seen'])[:10]}" if row["seen"] else "never seen"
            kept = f"saves {str(row['saves'])[:10]}" if row["saves"] else "no saves kept"
            told.append(
                f"{str(row['name'])[:28]:28} {row['address'] or 'no address':22} {row['image']:14} "
                f"card {str(row['card'])[:10] or 'never written':13} {kept:18} {seen} {state}".rstrip()
            )
        return told or ["No build was opened here yet."]

    out(rows, as_json, lines)
    return OK


def each(
    folder: Folder,
    further: Annotated[list[Path] | None, Option("--and", help="Another build's folder; repeatable.")] = None,
    settings: Annotated[list[str] | None, Option("--set", help="PATH=VALUE, set in every build; repeatable.")] = None,
    yes: Yes = False,
    as_json: Json = False,
) -> int:
    """Make the same change on several machines, one by one; exit 1 at the first that does not come back."""
    from kyklon.operations.upkeep import each as several

    edits = [_edit(text) for text in settings or ()]
    folders = list(dict.fromkeys(path.resolve() for path in (folder, *(further or ()))))

    def edit(build: Build) -> Build:
        for path, value in edits:
            build = edited(build, path, value)
        return build

    def catalogue_of(path: Path) -> Catalogue:
        return open_folder(path)[1]

    if yes:
        with watching() as watch:
            turns = tuple(several.carry_out(folders, edit, catalogue_of, password(), watch))
    else:
        turns = several.preview(folders, edit, catalogue_of, password())
    data = [{**asdict(turn), "folder": str(turn.folder)} for turn in turns]

    def lines() -> list[str]:
        rows = [
            line for turn in turns for line in (f"{turn.name}: {turn.state}. {turn.why}".strip(), *turn.differences)
        ]
        untouched = len(folders) - len(turns)
        rows += [f"{untouched} more were left as they are."] if untouched else []
        return rows if yes else [*rows, "Nothing was changed yet: add --yes to change them, one by one."]

    out(data, as_json, lines)
    return STOPS if any(turn.stops for turn in turns) else OK


def _edit(text: str) -> tuple[str, Any]:
    path, equals, value = text.partition("=")
    try:
        if not equals:
            raise KeyError(path)
        return path, describe(Build, path).parse(value)
    except KeyError as bad:
        raise WrongUse(
            f"Unknown setting: {path!r}.", do="Write --set PATH=VALUE; `kyklon fields` lists paths."
        ) from bad
    except ValueError as bad:
        raise WrongUse(f"{bad}.", do="Nothing was changed.") from bad
