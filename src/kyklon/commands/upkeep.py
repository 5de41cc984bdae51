"""Saves, sticks and images of a machine after its first game."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base.errors import WrongUse
from kyklon.base.quantities import counted, show_bytes, show_duration
from kyklon.base.shown import visible
from kyklon.commands.line import Argument, Option
from kyklon.commands.machine import password
from kyklon.commands.shared import OK, STOPS, Folder, Json, open_folder, out, watching
from kyklon.model.build import Build, edited
from kyklon.record import folder as store
from kyklon.record.logbook import Logbook

if TYPE_CHECKING:
    from kyklon.devices.destination import Destination

_TO = Annotated[Path | None, Option("--to", help="Folder of a stick or a mounted card, in place of the machine.")]


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
        machine = SecureCopy(login(build, password(), build.upkeep.saves_folder))
        try:
            yield machine
        finally:
            machine.close()
    else:
        with acts.opened(build, folder, password()) as place:
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
        return [
            *rows,
            f"{counted(len(found), 'save or state', 'saves and states')}; {counted(len(kept), 'archive')}, {last}.",
        ]

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
        rows = [f"{row.why_left}, not restored: {row.path} (--replace '{row.path}')" for row in done.left]
        return [
            *rows,
            f"{counted(len(done.put), 'save')} restored"
            + (f"; the ones before are in {done.kept}." if done.kept else "."),
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
            with acts.opened(build, folder, password()) as machine:
                lacks, besides = stick.check_menu(found, acts.remember_seen(folder, build, parts, machine))
            missing = {"on the machine": lacks} if lacks else {}
    data = {"missing": missing, "besides": list(besides)}

    def lines() -> list[str]:
        rows = [f"{system}: {title} is missing" for system, titles in missing.items() for title in titles]
        count = sum(map(len, found.foretold.values()))
        return rows or [f"Nothing is missing: {counted(count, 'title')}."]

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


# --- exchange --------------------------------------------------------------------------------------------------------


def exchange(
    folder: Folder,
    begin: Annotated[str, Option("--begin", help="Begin: copy, fresh (written anew) or disk.")] = "",
    tick: Annotated[str, Option("--tick", help="A step that is done by hand, by its name.")] = "",
    end: Annotated[bool, Option("--end", help="End it; what was done stays.")] = False,
    as_json: Json = False,
) -> int:
    """Show the way to another card or to a disk, begin it, tick a step; exit 1 while steps are open."""
    from kyklon.operations.inspection import observe
    from kyklon.operations.upkeep import exchange as exchanging
    from kyklon.record.logbook import now

    build, parts = open_folder(folder)
    try:
        if begin:
            build = store.update(
                folder, lambda kept: exchanging.begun(edited(kept, "upkeep.exchange_by", begin), now())
            )
            Logbook(folder).add(95, "Card exchange begun", begin)
        if tick:
            build = store.update(folder, lambda kept: exchanging.with_tick(kept, tick, on=True))
    except ValueError as bad:
        raise WrongUse(f"{bad}.", do="Nothing was changed.") from bad
    if end:
        build = store.update(folder, exchanging.ended)
        Logbook(folder).add(95, "Card exchange ended")
    rows = exchanging.steps(build, parts, observe(build, folder, parts))
    under_way = bool(build.upkeep.exchange_since)

    def lines() -> list[str]:
        told = [
            f"[{'x' if row.done else ' '}] {n}. {row.title}" + (f"  (--tick {row.name})" if row.ticked else "")
            for n, row in enumerate(rows, 1)
        ]
        return told if under_way else [*told, "Not begun: --begin copy, fresh or disk."]

    out({"begun": build.upkeep.exchange_since, "steps": [asdict(row) for row in rows]}, as_json, lines)
    return STOPS if under_way and not all(row.done for row in rows) else OK
