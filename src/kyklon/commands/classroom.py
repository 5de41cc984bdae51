"""The route as a lesson for a group."""

from __future__ import annotations

import os
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from kyklon.base import durable
from kyklon.base.errors import KyklonError, WrongUse
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, STOPS, Folder, Json, open_folder, out, watching

if TYPE_CHECKING:
    from kyklon.operations.book.lesson import Question


def _asked(folder: Path) -> tuple[Question, ...]:
    from kyklon.operations import inspection
    from kyklon.operations.book.lesson import questions
    from kyklon.operations.poweron.acts import foretell

    build, parts = open_folder(folder)
    with watching() as watch:
        world = inspection.observe(build, folder, parts, watch)
    try:
        run = foretell(build, folder, parts)[1]
    except KyklonError:
        run = None
    return questions(build, parts, world, run)


def ask(folder: Folder, as_json: Json = False) -> int:
    """List the lesson's questions along the route card; answers are not among them."""
    rows = _asked(folder)
    shown = ("key", "operation", "words", "unit", "choices")
    data = [{name: getattr(each, name) for name in shown} for each in rows]
    out(
        data,
        as_json,
        lambda: [
            f"{q.key:20} {q.operation:>2} {q.words}{f' ({q.unit})' if q.unit else ''} {' / '.join(q.choices)}".rstrip()
            for q in rows
        ],
    )
    return OK


def answer(
    folder: Folder,
    seat: Annotated[str, Argument(help="Who answers: a name or a number.", metavar="SEAT")],
    key: Annotated[str, Argument(help="The question, as `kyklon class ask` lists it.", metavar="QUESTION")],
    given: Annotated[str, Argument(help="The answer: a number with its unit, or a choice.", metavar="ANSWER")],
    as_json: Json = False,
) -> int:
    """Check a seat's answer and keep it; exit 1 when it is wrong."""
    from kyklon.operations.book.lesson import judge
    from kyklon.record import classroom

    question = next((each for each in _asked(folder) if each.key == key), None)
    if question is None:
        raise WrongUse(f"There is no question {key!r}.", do="`kyklon class ask FOLDER` lists them.")
    told = judge(question, given)
    if told.right is None:
        raise WrongUse(told.words, do="Nothing was kept.")
    classroom.put(folder, seat, key, given)
    out(asdict(told), as_json, lambda: [f"{'Right' if told.right else 'Wrong'}. {told.words}"])
    return OK if told.right else STOPS


def sheet(
    folder: Folder,
    to: Annotated[Path, Argument(help="The PDF.", metavar="TO")],
    seats: Annotated[int, Option("--seats", help="How many, where no names were kept yet.")] = 1,
) -> int:
    """Write a sheet for each seat, and one with the answers, as PDF."""
    from kyklon.operations.book.lesson import hand_outs
    from kyklon.record import classroom

    if to.suffix.lower() != ".pdf":
        raise WrongUse(f"Sheets cannot be written as {to.suffix or 'that'}.", do="Name a .pdf.")
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")  # no window is shown
    from kyklon.app.pages.logbook.book_of import finished

    build, _parts = open_folder(folder)
    count = max(1, min(seats, classroom.MOST_SEATS))
    names = list(classroom.read(folder).seats) or [str(number) for number in range(1, count + 1)]
    with watching() as watch:
        data = finished(hand_outs(build.name, _asked(folder), names), watch)
    durable.keep(to, data)
    print(f"{to}: {len(names)} seats")
    return OK


def tick(
    folder: Folder,
    seat: Annotated[str, Argument(help="Whose machine.", metavar="SEAT")],
    check: Annotated[list[str] | None, Option("--check", help="A check of the first power-on; repeatable.")] = None,
    level: Annotated[int, Option("--level", help="An exercise's level, with --percent.")] = 0,
    percent: Annotated[int, Option("--percent", help="What was reached in it.")] = 0,
    as_json: Json = False,
) -> int:
    """Note what a seat has seen at its first power-on, or reached in an exercise."""
    from kyklon.faults.drills import by_level
    from kyklon.operations.poweron.checklist import items
    from kyklon.record import classroom

    build, parts = open_folder(folder)
    known = {item.key: item.look for item in items(build, parts)}
    unknown = next((each for each in check or () if each not in known), "")
    if unknown or not (check or level):
        what = f"There is no check {unknown!r}." if unknown else "Nothing was named."
        raise WrongUse(what, do=f"Checks are: {', '.join(known)}.")
    room = classroom.read(folder)
    if level:
        by_level(parts, level)
        room = classroom.drilled(folder, seat, level, percent)
    for each in check or ():
        room = classroom.ticked(folder, seat, each)
    done, reached = room.ticks.get(seat, ()), room.drills.get(seat, {})
    out({"ticks": list(done), "drills": reached}, as_json, lambda: [f"{len(done)} of {len(known)} checks, {reached}"])
    return OK


def results(
    folder: Folder,
    to: Annotated[Path | None, Option("--to", help="Also write them as a PDF.")] = None,
    as_json: Json = False,
) -> int:
    """List how many each seat has right, its exercises and checks."""
    from kyklon.operations.book import lesson
    from kyklon.operations.poweron.checklist import items
    from kyklon.record import classroom

    build, parts = open_folder(folder)
    asked, room, checks = _asked(folder), classroom.read(folder), len(items(build, parts))
    rows = [
        lesson.SeatResult(seat, right, count, room.drills.get(seat, {}), len(room.ticks.get(seat, ())))
        for seat, right, count in lesson.results(asked, room.seats)
    ]
    if to is not None:
        if to.suffix.lower() != ".pdf":
            raise WrongUse(f"Results cannot be written as {to.suffix or 'that'}.", do="Name a .pdf.")
        os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")  # no window is shown
        from kyklon.app.pages.logbook.book_of import finished

        with watching() as watch:
            durable.keep(to, finished(lesson.report(build.name, asked, rows, checks), watch))

    def lines() -> list[str]:
        told = []
        for row in rows:
            drills = ", ".join(f"level {level} {percent} %" for level, percent in sorted(row.drills.items()))
            told.append(
                f"{row.seat:30} {row.right} of {len(asked)} right, {row.answered} answered, "
                f"{row.ticked} of {checks} checks{f', {drills}' if drills else ''}"
            )
        return told or ["Nobody has answered yet."]

    out([{**asdict(row), "of": len(asked)} for row in rows], as_json, lines)
    return OK
