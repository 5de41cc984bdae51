"""The logbook of a build: read, added to, compared, gone back to, checked."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

from kyklon.base.errors import WrongUse
from kyklon.base.quantities import counted, show_bytes
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, STOPS, Folder, Json, Yes, open_folder, out
from kyklon.record.entered import noted_of
from kyklon.record.logbook import Entry, Logbook, Noted


def _data(entry: Entry) -> dict[str, Any]:
    noted = entry.noted
    return {
        "id": entry.id,
        "at": entry.at,
        "operation": entry.operation,
        "kind": entry.kind,
        "title": entry.title,
        "detail": entry.detail,
        "state": entry.revision,
        "measured": {"quantity": noted.quantity, "value": noted.value, "unit": noted.unit} if noted.quantity else None,
        "cost": noted.cost,
        "minutes": noted.minutes,
        "files": [{"name": each.name, "path": each.path, "sha256": each.digest} for each in entry.files],
    }


def _line(entry: Entry) -> str:
    number = f"{entry.operation:>2} " if entry.operation else "   "
    files = f" [{counted(len(entry.files), 'file')}]" if entry.files else ""
    return f"{entry.id:6} {entry.at[:16].replace('T', ' ')}  {number}{entry.words}{files}"


def show(
    folder: Folder,
    words: Annotated[str, Option("--find", help="Only entries that contain all these words.")] = "",
    most: Annotated[int, Option("--most", help="How many; 0 for all.")] = 40,
    as_json: Json = False,
) -> int:
    """List the logbook's entries, newest first."""
    from kyklon.record.outcomes import score_of

    open_folder(folder)
    book = Logbook(folder)
    found, (cost, minutes), told = book.entries(words, most=max(0, most)), book.totals(), score_of(book)
    data = {
        "entries": [_data(entry) for entry in found],
        "count": book.count(),
        "cost": cost,
        "minutes": minutes,
        "forecast": {"right": told.right, "of": told.count, "low": told.low, "high": told.high},
    }

    def lines() -> list[str]:
        rows: list[str] = []
        for entry in found:
            rows += [_line(entry), *(f"{'':28}{row}" for row in entry.detail.split("\n"))]
        sums = [f"Cost {cost:.2f}"] if cost else []
        sums += [f"{minutes:.0f} min at the bench"] if minutes else []
        sums += [told.words] if told.count else []
        return [*(row for row in rows if row.strip()), *sums]

    out(data, as_json, lines)
    return OK


def add(
    folder: Folder,
    title: Annotated[str, Argument(help="What was done or seen.", metavar="TITLE")],
    detail: Annotated[str, Option("--detail", help="More about it.")] = "",
    file: Annotated[list[Path] | None, Option("--file", help="A photo or a file to keep with it; repeatable.")] = None,
    measured: Annotated[str, Option("--measured", help="A value with its unit, e.g. '5 V rail=4.71 V'.")] = "",
    spent: Annotated[list[str] | None, Option("--spent", help="Money as 12.50, or time as 40min; repeatable.")] = None,
    as_json: Json = False,
) -> int:
    """Add an entry: words, files, photos, a measured value, money, minutes."""
    from kyklon.record import photos

    open_folder(folder)
    if not title.strip():
        raise WrongUse("The entry has no words.", do="Write what was done or seen.")
    noted = noted_of(measured, spent or ())
    files = tuple(photos.keep(folder, path) for path in file or ())
    made = Logbook(folder).add(0, title.strip(), detail, kind="own", noted=noted, files=files)
    out(_data(made), as_json, lambda: [_line(made), *(f"{each.path}, {show_bytes(each.size)}" for each in files)])
    return OK


def diff(
    folder: Folder,
    first: Annotated[str, Argument(help="An entry's number, or a date such as 2027-03-02.", metavar="FROM")],
    second: Annotated[str, Argument(help="The other one.", metavar="TO")] = "",
    as_json: Json = False,
) -> int:
    """Show what differs between two entries or dates; exit 1 when something does."""
    from kyklon.record.changes import between_states

    open_folder(folder)
    book = Logbook(folder)
    a = book.at(first)
    b = book.at(second) if second else book.entries(most=1)[0]
    for each in (a, b):
        if not each.revision:
            raise WrongUse(f"Entry {each.id} has no state of the build.", do="Choose a later one.")
    found = book.reading(lambda database: between_states(database, a.revision, b.revision))
    data = {
        "from": _data(a),
        "to": _data(b),
        "changes": [asdict(each) for each in found.changes],
        "files": found.files,
    }
    out(data, as_json, lambda: found.lines or ["Nothing differs."])
    return STOPS if found.lines else OK


def restore(
    folder: Folder,
    entry: Annotated[str, Argument(help="An entry's number, or a date.", metavar="ENTRY")],
    yes: Yes = False,
    as_json: Json = False,
) -> int:
    """Take the build back to an entry, or forward again."""
    from kyklon.record import restoring
    from kyklon.record.changes import between_states

    open_folder(folder)
    book = Logbook(folder)
    wanted = book.at(entry)
    if not yes:
        last = book.entries(most=1)[0]
        if not wanted.revision:
            raise WrongUse(f"Entry {wanted.id} has no state of the build.", do="Choose a later one.")
        told = book.reading(lambda database: between_states(database, last.revision, wanted.revision))
        changes = {"changes": [asdict(each) for each in told.changes], "files": told.files}
        out(changes, as_json, lambda: [*told.lines, "Nothing was changed yet: add --yes to restore it."])
        return OK
    done = restoring.restore(folder, wanted)
    data = {"entry": wanted.id, "written": done.written, "removed": done.removed, "missing": done.missing}
    out(data, as_json, lambda: [done.words])
    return STOPS if done.missing else OK


def verify(folder: Folder, as_json: Json = False) -> int:
    """Check that no entry was changed or is missing; exit 1 when one was."""
    open_folder(folder)
    found = Logbook(folder).verify()
    data = {"entries": found.entries, "wrong": found.wrong}
    out(data, as_json, lambda: list(found.wrong) or [f"All {found.entries} entries are as they were written."])
    return STOPS if found.wrong else OK


def outcome(
    folder: Folder,
    reached: Annotated[str, Argument(help="The last stage it reached, as the forecast names it.", metavar="STAGE")],
    card: Annotated[str, Option("--card", help="The card to predict from; the build's own without it.")] = "",
    detail: Annotated[str, Option("--detail", help="What was seen.")] = "",
    as_json: Json = False,
) -> int:
    """Note how far a real power-on came, against the forecast."""
    from kyklon.catalogue.image_records import Image
    from kyklon.commands.targets import written_card
    from kyklon.operations.poweron.acts import foretell
    from kyklon.operations.poweron.sequence import stages_of
    from kyklon.record import outcomes

    build, parts = open_folder(folder)
    _world, run = foretell(build, folder, parts, written_card(card, folder).path if card else None)
    image = parts.find(Image, build.part("image"))
    known = dict.fromkeys([*(stage.name for stage in stages_of(image.school if image else "")), run.reached])
    if reached not in known:
        raise WrongUse(f"There is no stage {reached!r}.", do=f"Stages are: {', '.join(known)}.")
    book = Logbook(folder)
    made = outcomes.note(book, run.reached, reached, right=run.reached == reached, detail=detail)
    told = outcomes.score_of(book)
    data = {**_data(made), "right": run.reached == reached, "score": {"right": told.right, "of": told.count}}
    out(data, as_json, lambda: [made.title, told.words])
    return OK


def soak(
    folder: Folder,
    hours: Annotated[float, Argument(help="How long it played.", metavar="HOURS")],
    game: Annotated[list[str] | None, Option("--game", help="What was played; repeatable.")] = None,
    celsius: Annotated[float, Option("--celsius", help="The processor's temperature at the end.")] = 0.0,
    failed: Annotated[str, Option("--failed", help="Cause that was found, as `kyklon fault likely` lists it.")] = "",
    as_json: Json = False,
) -> int:
    """Note a soak test; the fault finder learns from what failed. Exit 1 when something did."""
    from kyklon.catalogue.fault_records import Cause
    from kyklon.faults.acts import cures_file
    from kyklon.record import cures

    _build, parts = open_folder(folder)
    if not 0 < hours <= 10_000 or not 0 <= celsius < 200:
        raise WrongUse("A soak test lasts more than no time, at up to 200 °C.", do="Write hours as 4 or 0.5.")
    cause = parts.find(Cause, failed) if failed else None
    if failed and cause is None:
        raise WrongUse(f"There is no cause {failed!r}.", do="`kyklon fault likely FOLDER` lists them.")
    noted = Noted("Soak test, processor", celsius, "°C", 0.0, 60 * hours) if celsius else Noted(minutes=60 * hours)
    title = f"Soak test, {hours:g} h: {f'failed, {cause.name}' if cause else 'nothing failed'}"
    made = Logbook(folder).add(90, title, ", ".join(game or ()), noted=noted)
    if cause is not None:
        cures.remember(cures_file(), cause.id)
    out(_data(made), as_json, lambda: [_line(made)])
    return STOPS if cause is not None else OK
