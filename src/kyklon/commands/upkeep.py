"""The machine after its first game, without a window."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.quantities import show_bytes, show_duration
from kyklon.base.shown import visible
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, STOPS, Folder, Json, Yes, open_folder, out, watching
from kyklon.model.build import Build, edited
from kyklon.model.fields import describe
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook, now

if TYPE_CHECKING:
    from kyklon.catalogue.loader import Catalogue
    from kyklon.devices.destination import Destination
    from kyklon.devices.secure_copy import SecureCopy

_TO = Annotated[Path | None, Option("--to", help="Folder of a stick or a mounted card, in place of the machine.")]


def _password() -> str:
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
        with boot_folder(build, _password()) as machine:
            yield machine
            return
    except UnknownHost as unknown:
        if not accept:
            raise WrongUse(unknown.what, do="Compare it, then run this again with --accept-key.") from unknown
        key = unknown.host_key
    build = store.update(folder, lambda kept: edited(kept, "library.host_key", key))
    with boot_folder(build, _password()) as machine:
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
        planned = change.planned(build, parts, machine)
        if planned.files and not yes:
            raise WrongUse(
                "Nothing was changed yet: " + "\n".join(planned.differences.values()), do="Add --yes to change it."
            )
        done = change.put(folder, build, parts, machine, watch)
        name = machine.name
    data = {"files": sorted(done.files), "differences": done.differences}

    def lines() -> list[str]:
        if not done.files:
            return [f"The boot files in {name} are those of this build already."]
        return [
            *done.differences.values(),
            f"{len(done.files)} files changed in {name}; `kyklon machine restart` next.",
        ]

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
            f"{done.restored} files restored, {done.removed} removed, {len(done.left)} changed since and left alone."
        ],
    )
    return OK


def restart(folder: Folder, as_json: Json = False) -> int:
    """Restart the machine and compare what comes back with the build; exit 1 when it stays away."""
    from kyklon.devices.secure_copy import SecureCopy
    from kyklon.operations.upkeep import change, running

    build, _parts = open_folder(folder)
    with watching() as watch:
        back = change.restart(folder, build, lambda: SecureCopy(running.login(build, _password())), watch)
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
            turns = tuple(several.carry_out(folders, edit, catalogue_of, _password(), watch))
    else:
        turns = several.preview(folders, edit, catalogue_of, _password())
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


# --- saves -----------------------------------------------------------------------------------------------------------


@contextlib.contextmanager
def _games(folder: Path, build: Build, to: Path | None) -> Iterator[Destination]:
    from kyklon.devices.linux.folder import Folder as Place
    from kyklon.devices.secure_copy import SecureCopy
    from kyklon.operations.library import acts
    from kyklon.operations.upkeep.running import login

    if to is not None:
        yield Place(acts.checked(build, folder, to.absolute()))
    elif build.library.route == "secure copy":
        machine = SecureCopy(login(build, _password(), build.upkeep.saves_folder))
        try:
            yield machine
        finally:
            machine.close()
    else:
        with acts.opened(build, folder, _password()) as place:
            yield place


def saves_show(folder: Folder, to: _TO = None, as_json: Json = False) -> int:
    """List saves and states with their games, against the latest archive."""
    from kyklon.operations.upkeep import saves

    build, parts = open_folder(folder)
    with _games(folder, build, to) as place:
        found = saves.find(build, parts, place)
    kept = saves.archives(folder)
    data = {"saves": [asdict(each) for each in found], "archives": [each.name for each in kept]}

    def lines() -> list[str]:
        rows = [
            f"{each.system[:20]:20} {each.kind:8} {(each.game or 'no game of that name')[:36]:36} "
            f"{show_bytes(each.size):>10}  {each.path}"
            for each in found
        ]
        last = f"latest archive {kept[-1].when}" if kept else "no backup yet"
        return [*rows, f"{len(found)} saves and states; {len(kept)} archives, {last}."]

    out(data, as_json, lines)
    return OK


def saves_keep(folder: Folder, to: _TO = None, as_json: Json = False) -> int:
    """Back up all saves in a dated archive with checksums."""
    from kyklon.operations.upkeep import saves

    build, parts = open_folder(folder)
    with _games(folder, build, to) as place, watching() as watch:
        done = saves.keep(folder, build, parts, place, watch)

    def lines() -> list[str]:
        rows = [f"Skipped, {why}: {visible(path)}" for path, why in done.left_out.items()]
        rows += [f"Gone since the last archive: {path}" for path in done.gone]
        words = f"{len(done.new)} new, {len(done.changed)} changed, {done.same} unchanged"
        return [*rows, f"{words}: {done.archive}." if done.archive else f"{words}: nothing new to back up."]

    out(asdict(done), as_json, lines)
    return OK


def saves_restore(
    folder: Folder,
    name: Annotated[str, Argument(help="The archive; the latest one when not given.", metavar="ARCHIVE")] = "",
    to: _TO = None,
    replace: Annotated[
        list[str] | None, Option("--replace", help="Path of a newer save to overwrite anyway; * for all.")
    ] = None,
    undo: Annotated[bool, Option("--undo", help="Undo the last restore.")] = False,
    as_json: Json = False,
) -> int:
    """Restore saves; newer ones on the machine are not replaced. Exit 1 when there are any."""
    from kyklon.operations.upkeep import saves

    build, parts = open_folder(folder)
    with _games(folder, build, to) as place, watching() as watch:
        if undo:
            back = saves.take_back(folder, place, watch)
            out(asdict(back), as_json, lambda: [f"{back.restored} restored, {back.removed} removed."])
            return OK
        done = saves.restore(folder, build, parts, place, saves.Wanted(name, tuple(replace or ())), watch)

    def lines() -> list[str]:
        rows = [f"Newer on the machine, not replaced: {row.path} (--replace '{row.path}')" for row in done.left]
        return [
            *rows,
            f"{len(done.put)} saves restored" + (f"; the ones before are in {done.kept}." if done.kept else "."),
        ]

    out(asdict(done), as_json, lines)
    return STOPS if done.left else OK


# --- stick -----------------------------------------------------------------------------------------------------------

_Stick = Annotated[Path, Option("--to", help="The folder where the stick is mounted.")]


def stick_plan(
    folder: Folder,
    to: _Stick,
    measure: Annotated[bool, Option("--measure", help="Write and remove 8 MB to tell its speed.")] = False,
    copy: Annotated[bool, Option("--copy", help="Copy what the stick lacks.")] = False,
    as_json: Json = False,
) -> int:
    """Judge a stick without erasing it, and show both halves of the way; exit 1 when the machine cannot read it."""
    from kyklon.operations.upkeep import stick

    build, parts = open_folder(folder)
    with watching() as watch:
        if copy:
            stick.copy(build, folder, parts, to.absolute(), watch)
        found = stick.way(build, folder, parts, to.absolute(), watch, measure=measure)
    data: dict[str, Any] = {
        "kind": found.stick.kind,
        "free": found.stick.free,
        "write_mb_s": found.stick.write_mb_s,
        "read_mb_s": found.stick.read_mb_s,
        "troubles": list(found.stick.troubles),
        "steps": [asdict(step) for step in found.steps],
        "foretold": found.foretold,
        "missing": found.missing,
    }

    def lines() -> list[str]:
        told = found.stick
        speed = f", writes {told.write_mb_s:.0f} MB/s" if told.write_mb_s else ""
        rows = [f"{told.kind or 'unknown file system'}, {show_bytes(told.free)} free{speed}"]
        rows += [f"! {trouble}" for trouble in told.troubles]
        for number, step in enumerate(found.steps, 1):
            time = f" ({_minutes(step.minutes)})" if step.minutes else ""
            lamp = f"; LED {step.lamp}" if step.lamp else ""
            rows.append(f"[{'x' if step.done else ' '}] {number}. {step.title}{time}{lamp}")
        rows += [f"{system}: {len(titles)} in the menu" for system, titles in found.foretold.items()]
        return rows

    out(data, as_json, lines)
    return STOPS if found.stick.troubles else OK


def _minutes(minutes: tuple[float, float]) -> str:
    low, high = (show_duration(each * 60) for each in minutes)
    return low if low == high else f"{low} to {high}"


def stick_check(
    folder: Folder,
    to: Annotated[Path | None, Option("--to", help="The folder where the stick is mounted.")] = None,
    as_json: Json = False,
) -> int:
    """Compare the menu that was foretold with the stick and with the machine; exit 1 when a title is missing."""
    from kyklon.operations.library import acts
    from kyklon.operations.upkeep import stick

    build, parts = open_folder(folder)
    if to is None:
        raise WrongUse("Name the stick with --to.", do="See `kyklon stick check --help`.")
    with watching() as watch:
        found = stick.way(build, folder, parts, to.absolute(), watch)
        missing = found.missing
        besides: tuple[str, ...] = ()
        if build.library.route == "secure copy":
            with acts.opened(build, folder, _password()) as machine:
                lacks, besides = stick.check_menu(found, acts.remember_seen(folder, build, parts, machine))
            missing = {"on the machine": lacks} if lacks else {}
    data = {"missing": missing, "besides": list(besides)}

    def lines() -> list[str]:
        rows = [f"{system}: {title} is missing" for system, titles in missing.items() for title in titles]
        count = sum(map(len, found.foretold.values()))
        return rows or [f"All {count} titles are there."]

    out(data, as_json, lines)
    return STOPS if missing else OK


# --- update ----------------------------------------------------------------------------------------------------------


def update_compare(
    folder: Folder,
    image: Annotated[Path, Argument(help="The newer image file.", metavar="IMAGE")],
    as_json: Json = False,
) -> int:
    """Show what a newer image changes, and predict its first power-on; exit 1 when it will not start."""
    from kyklon.operations.upkeep import update

    build, parts = open_folder(folder)
    with watching() as watch:
        found = update.compare(build, folder, parts, image.absolute(), watch)
    data = {
        "old": found.old,
        "new": found.new,
        "rows": [asdict(row) for row in found.rows],
        "kept": dict(found.kept),
        "lost": list(found.lost),
        "reached": found.run.reached if found.run else None,
        "troubles": list(found.troubles),
    }

    def lines() -> list[str]:
        rows = [f"{found.old or 'This image'} → {found.new or image.name}"]
        rows += [f"  {row.change:8} {row.what:10} {row.name} {row.detail}".rstrip() for row in found.rows]
        rows += [f"  {name} of this build goes along" for name in found.kept]
        rows += [f"  ! {trouble}" for trouble in found.troubles]
        end = (
            "reaches the games"
            if found.run and not (found.run.failure and found.run.failure.blocks)
            else "does not reach the games"
        )
        return [*rows, f"Forecast: the first power-on {end}."]

    out(data, as_json, lines)
    return STOPS if found.troubles else OK


def update_plan(
    folder: Folder,
    image: Annotated[Path, Argument(help="The newer image file.", metavar="IMAGE")],
    take: Annotated[bool, Option("--take", help="Make it this build's image.")] = False,
    as_json: Json = False,
) -> int:
    """Show the way to a newer image and back; settings, games and saves stay."""
    from kyklon.operations.upkeep import update

    build, parts = open_folder(folder)
    with watching() as watch:
        found = update.compare(build, folder, parts, image.absolute(), watch)
    rows = update.steps(build, folder, found)
    if take:
        if found.troubles:
            raise WrongUse(
                " ".join(found.troubles), do="Keep the image that works, or choose parts that the new one has."
            )
        store.update(folder, lambda kept: update.with_image(kept, folder, image))
        Logbook(folder).add(95, f"Image is now {image.name}", f"{found.old} → {found.new}")
    data = {"steps": [asdict(row) for row in rows], "taken": take}
    out(
        data,
        as_json,
        lambda: [f"[{'x' if row.done else ' '}] {n}. {row.title}" for n, row in enumerate(rows, 1)],
    )
    return STOPS if found.troubles else OK
