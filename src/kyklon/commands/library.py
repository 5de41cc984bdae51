"""Games: scanned, named, chosen, moved onto the machine, listed."""

from __future__ import annotations

import getpass
import sys
from dataclasses import asdict, replace
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base import durable
from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.inside import inside
from kyklon.base.quantities import counted, show_bytes, show_share
from kyklon.base.units import measure
from kyklon.commands.build import finding_data
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, STOPS, Folder, Json, open_folder, out, watching
from kyklon.devices.secure_copy import UnknownHost
from kyklon.model.build import edited
from kyklon.model.world import World
from kyklon.operations.library import contents, lists_made
from kyklon.operations.library.findings import findings
from kyklon.operations.library.list_guess import guess
from kyklon.operations.library.lists import sample
from kyklon.operations.library.naming import chosen_more, with_list
from kyklon.operations.library.observe import look
from kyklon.operations.library.review import answered
from kyklon.record import folder as store
from kyklon.record.answers import Answers
from kyklon.record.folder import resolve

if TYPE_CHECKING:
    from kyklon.catalogue.loader import Catalogue
    from kyklon.model.build import Build
    from kyklon.model.library import Game, Scan

Said = Annotated[
    list[str] | None, Option("--say", help="File and its title, e.g. 'name.al8=Title'; saved; repeatable.")
]
Nothing = Annotated[
    list[str] | None, Option("--none", help="File that is none of the listed games; saved; repeatable.")
]
_SHOWN = 40  # lines of a long list that a terminal is given


def _look(folder: Path, build: Build, parts: Catalogue, library: Path | None = None) -> Scan:
    if library is None and not build.library.folder:
        raise WrongUse("The build has no library folder.", do="Set library.folder, or name one with --library.")
    with watching() as watch:
        return look(build, folder, parts, library or resolve(folder, build.library.folder), watch)


def _game_data(game: Game) -> dict[str, Any]:
    naming = game.naming
    return {
        "system": game.system,
        "title": game.called,
        "files": game.files,
        "bytes": game.size,
        "discs": game.discs,
        "ready": game.ready,
        "doubtful": game.doubtful,
        "reasons": [{"code": reason.code, "text": reason.text} for reason in game.reasons],
        "named_by": naming.how if naming else "",
        "confidence": round(naming.confidence, 4) if naming else 0.0,
    }


def scan(
    folder: Folder,
    library: Annotated[Path | None, Option("--library", help="Another library folder.")] = None,
    as_json: Json = False,
) -> int:
    """List which games are ready, and why the rest are not.

    Exit 1 when something stops a system.
    """
    build, parts = open_folder(folder)
    found = _look(folder, build, parts, library)
    told = findings(build, parts, replace(World(), scan=found))

    def lines() -> list[str]:
        waiting = [f"{g.system:12} {g.called}: {' '.join(r.text for r in g.reasons)}" for g in found.games if g.reasons]
        return [*waiting, f"{len(found.ready)} of {len(found.games)} games are ready."]

    out(
        {
            "games": [_game_data(game) for game in found.games],
            "ready": len(found.ready),
            "findings": [finding_data(each) for each in told],
        },
        as_json,
        lines,
    )
    return STOPS if any(each.severity == "stop" for each in told) else OK


def identify(
    folder: Folder,
    list_: Annotated[Path | None, Option("--list", help="A list to add: checksums, CSV, XML or JSON.")] = None,
    system: Annotated[str, Option("--system", help="The system that the list is for.")] = "",
    name: Annotated[
        list[str] | None, Option("--name", help="Field name in the list, e.g. title=caption or crc=sum; repeatable.")
    ] = None,
    try_: Annotated[bool, Option("--try", help="Only show how the list's first games are read.")] = False,
    as_json: Json = False,
) -> int:
    """Identify games by checksum with lists; add lists here."""
    build, parts = open_folder(folder)
    if list_ is not None:
        scheme = guess(list_)
        if name and scheme is not None:
            scheme = type(scheme).model_validate({**scheme.model_dump(), **dict(_pairs(name))})
        rows = sample(list_, scheme)
        if try_:
            data = {"scheme": scheme.model_dump() if scheme else None, "first": [asdict(row) for row in rows]}
            out(
                data,
                as_json,
                lambda: [
                    f"{row.title}: {', '.join(f'{p.name} {p.size if p.size >= 0 else chr(63)} B' for p in row.parts)}"
                    for row in rows
                ],
            )
            return OK
        if not rows:
            raise WrongUse(f"No games found in {list_} with these field names.", do="Try --try and --name.")
        build = store.update(folder, lambda kept: _with_list(kept, list_.resolve(), system, scheme))
    found = _look(folder, build, parts)
    return _say_named(found, as_json)


def _with_list(build: Build, path: Path, system: str, scheme: Any) -> Build:
    if system not in build.systems:
        raise WrongUse(f"The build has no system {system!r}.", do=f"Add --system, one of: {', '.join(build.systems)}.")
    return edited(build, "library", with_list(build.library, str(path), system, scheme))


def _say_named(found: Scan, as_json: bool) -> int:
    counts: dict[str, int] = {}
    for game in found.games:
        how = "" if game.naming is None else "doubtful" if game.doubtful else game.naming.how
        counts[how] = counts.get(how, 0) + 1
    words = {
        "list": "known by checksum",
        "title": "known by title",
        "yours": "named by you",
        "doubtful": "to review",
        "": "in no list",
    }
    out(
        {
            "counts": counts,
            "threshold": found.threshold,
            "errors": found.list_errors,
            "games": [_game_data(game) for game in found.games],
        },
        as_json,
        lambda: [*(f"{counts[key]:6} {told}" for key, told in words.items() if key in counts), *found.list_errors],
    )
    return OK


def _pairs(texts: list[str]) -> list[tuple[str, str]]:
    pairs = []
    for text in texts:
        key, mark, value = text.partition("=")
        if not mark:
            raise WrongUse(f"{text!r} has no =.", do="Write it as name=value.")
        pairs.append((key, value))
    return pairs


def match_(folder: Folder, say: Said = None, none: Nothing = None, as_json: Json = False) -> int:
    """List uncertain matches, likeliest first; answer with --say or --none."""
    build, parts = open_folder(folder)
    found = _look(folder, build, parts)
    told = [*_pairs(say or []), *((each, "") for each in none or [])]
    if told:
        by_name = {name: game for game in found.games for name in (game.key, PurePosixPath(game.key).name)}
        missing = next((name for name, _title in told if name not in by_name), "")
        if missing:
            raise WrongUse(f"The library has no game {missing!r}.", do="Name its file as `kyklon scan` lists it.")
        Answers(folder).put(*(answered(by_name[name], title) for name, title in told))
        found = _look(folder, build, parts)
    rows = [
        {
            "file": game.key,
            "proposed": game.naming.title,
            "confidence": round(game.naming.confidence, 4),
            "others": [title for title, _share in game.naming.others],
        }
        for game in found.doubtful
        if game.naming is not None
    ]
    rows.sort(key=lambda row: -float(str(row["confidence"])))

    def lines() -> list[str]:
        shown = [f"{row['confidence']:.3f} {row['file']}: {row['proposed']}?" for row in rows[:_SHOWN]]
        rest = [f"and {len(rows) - _SHOWN} more"] if len(rows) > _SHOWN else []
        return [*shown, *rest, f"{counted(len(rows), 'title')} to review; accepted at {found.threshold:.3f} or more."]

    out({"waiting": rows, "threshold": found.threshold}, as_json, lines)
    return OK


def choose(
    folder: Folder,
    room: Annotated[str, Option("--room", help="Space for games, e.g. 28GB; 0 for no limit.")] = "",
    must: Annotated[list[str] | None, Option("--must", help="Game file to always include; saved; repeatable.")] = None,
    never: Annotated[list[str] | None, Option("--never", help="Game file to never include; saved; repeatable.")] = None,
    favourite: Annotated[list[str] | None, Option("--favourite", help="Game file; saved; repeatable.")] = None,
    as_json: Json = False,
) -> int:
    """Choose the games that fit, best value first."""
    build, parts = open_folder(folder)
    if room or must or never or favourite:
        marks = {"must": must or [], "never": never or [], "favourites": favourite or []}
        build = store.update(folder, lambda kept: _marked(kept, room, marks))
    found = _look(folder, build, parts)
    told, more = found.choice, chosen_more(found, build, folder)
    left = [game for game in found.games if any(reason.code == "left-out" for reason in game.reasons)]

    def lines() -> list[str]:
        if told is None:
            return [f"All ready games are included: {len(found.ready)}; you left {len(left)} out."]
        said = [
            f"{len(told.kept)} games fit, {len(told.left)} do not: {show_bytes(told.used)} of "
            f"{show_bytes(told.room)}; at most {show_share(told.gap, 2)} short of the optimum."
        ]
        if more is not None:
            said.append(f"A {more[0] // 10**9} GB card would hold {len(more[1].kept) - len(told.kept)} more.")
        return [*found.list_errors, *said]

    out(
        {
            "kept": sorted(told.kept) if told else [game.key for game in found.ready],
            "left": [game.key for game in left],
            "gap": told.gap if told else 0.0,
            "next_card": {"bytes": more[0], "games": len(more[1].kept)} if more else None,
        },
        as_json,
        lines,
    )
    return OK


def _marked(build: Build, room: str, marks: dict[str, list[str]]) -> Build:
    library = build.library
    update: dict[str, Any] = {
        name: tuple(dict.fromkeys((*getattr(library, name), *keys))) for name, keys in marks.items()
    }
    for one, other in (("must", "never"), ("never", "must")):
        update[one] = tuple(key for key in update[one] if key not in marks[other])
    if room:
        try:
            update["room_bytes"] = round(measure(room, "B"))
        except ValueError as bad:
            raise WrongUse(f"{room!r} is not a size: {bad}.", do="Write it as e.g. 28GB.") from bad
    return edited(build, "library", {**library.model_dump(), **update})


def transfer(
    folder: Folder,
    to: Annotated[Path | None, Option("--to", help="Folder of a stick, a share or a card.")] = None,
    host: Annotated[str, Option("--host", help="Machine by secure copy, e.g. player@games.local:22.")] = "",
    accept: Annotated[bool, Option("--accept-key", help="Accept the host key that the machine shows now.")] = False,
    undo: Annotated[bool, Option("--undo", help="Undo the last transfer.")] = False,
    hide: Annotated[str, Option("--hide", help="Hide a system on the machine.")] = "",
    show: Annotated[str, Option("--show", help="Show a hidden system again.")] = "",
    as_json: Json = False,
) -> int:
    """Copy the games that are ready, and read them back.

    Into the folder layout that the image looks for.
    """
    from kyklon.operations.library import acts

    build, parts = open_folder(folder)
    build = store.update(folder, lambda kept: _sent_to(kept, folder, to, host))
    with watching() as watch, _opened(folder, build, accept) as destination:
        if undo:
            done = acts.take_back(folder, destination, watch)
            out(
                asdict(done),
                as_json,
                lambda: [
                    f"{counted(done.removed, 'file')} removed, {done.restored} restored, "
                    f"{len(done.left)} kept: changed since."
                ],
            )
            return OK
        if hide or show:
            acts.hide_system(build, parts, destination, hide or show, hide=bool(hide))
            out(
                {"system": hide or show, "hidden": bool(hide)},
                as_json,
                lambda: [f"{hide or show} is {'set aside' if hide else 'back'}; restart the front end."],
            )
            return OK
        report = acts.move_games(folder, build, parts, destination, watch)
        acts.remember_seen(folder, build, parts, destination)
        name = destination.name
    out(
        asdict(report),
        as_json,
        lambda: [
            *report.refused,
            f"{report.games} games, {report.files} files, {show_bytes(report.size)} in {name}; "
            f"{report.already_there} were already there.",
        ],
    )
    return OK


def _sent_to(build: Build, folder: Path, to: Path | None, host: str) -> Build:
    import os

    if to is not None:
        inside = os.path.relpath(to.resolve(), folder.resolve())
        build = edited(build, "library.destination", inside if not inside.startswith("..") else str(to.resolve()))
        return edited(build, "library.route", "folder")
    if host:
        account, _, rest = host.rpartition("@")
        name, mark, port = rest.rpartition(":")
        if not mark or not port.isdecimal() or len(port) > 5:
            name, port = rest, str(build.library.port)
        update = {"host": name, "port": int(port), "route": "secure copy"} | ({"account": account} if account else {})
        return edited(build, "library", {**build.library.model_dump(), **update})
    return build


def _opened(folder: Path, build: Build, accept: bool) -> Any:
    """The destination, with the machine's key kept where somebody accepts it, and a password where it is asked for."""
    import os

    from kyklon.operations.library import acts

    password = os.environ.get("KYKLON_PASSWORD", "")
    if build.library.route == "secure copy" and not build.library.host_key:
        try:
            with acts.opened(build, folder, password):
                pass
        except UnknownHost as unknown:
            if not accept:
                raise UnknownHostTold(unknown) from unknown
            key = unknown.host_key
            build = store.update(folder, lambda kept: edited(kept, "library.host_key", key))
    if build.library.route == "secure copy" and not password and not build.library.key_file and sys.stdin.isatty():
        password = getpass.getpass(f"Password of {build.library.account} on {build.library.host}: ")
    return acts.opened(build, folder, password)


class UnknownHostTold(KyklonError):
    """The same in the words of the command line."""

    def __init__(self, unknown: KyklonError) -> None:
        super().__init__(unknown.what, do="Compare it with what the machine shows; then add --accept-key.")


def lists(
    folder: Folder,
    use: Annotated[list[str] | None, Option("--use", help="List template; saved; repeatable.")] = None,
    out_: Annotated[Path | None, Option("--out", help="Write the lists into a folder instead.")] = None,
    page: Annotated[Path | None, Option("--page", help="Write a contents page: .svg or .txt.")] = None,
    as_json: Json = False,
) -> int:
    """Make the front end's lists, or a contents page to print."""
    from kyklon.operations.library.acts import planned_for

    build, parts = open_folder(folder)
    if use:
        build = store.update(folder, lambda kept: edited(kept, "library.lists_made", tuple(use)))
    found = _look(folder, build, parts)
    told = planned_for(build, folder, parts, found)
    made = lists_made.lists_of(build, parts, found, told)
    for path, text in made.items() if out_ is not None else ():
        durable.keep(inside(out_, path), text.encode("utf-8", "surrogateescape"))  # type: ignore[arg-type] # not None
    if page is not None:
        drawn = (
            contents.page_svg(build, parts, found) if page.suffix == ".svg" else contents.page_text(build, parts, found)
        )
        durable.keep(page, drawn.encode("utf-8", "replace"))
    out(
        {"lists": made},
        as_json,
        lambda: (
            [f"{path}: {len(text.splitlines())} lines" for path, text in made.items()]
            or ["No list is chosen: --use list-lines, list-elements or list-favourites."]
        ),
    )
    return OK
