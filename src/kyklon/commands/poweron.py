"""The first power-on."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base.errors import WrongUse
from kyklon.base.reading import bytes_of
from kyklon.catalogue.image_records import Image
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, STOPS, CardName, Folder, Json, open_folder, out, standard_input, watching
from kyklon.commands.targets import written_card
from kyklon.operations.poweron.boot_log import MOST_LOG, LogReading, log_text
from kyklon.operations.poweron.side_by_side import Column, StageRow

if TYPE_CHECKING:
    from kyklon.operations.poweron.events import BringUp


def bringup(folder: Folder, card: CardName, as_json: Json = False) -> int:
    """Predict the first power-on from the bytes on a card.

    Exit 1 when it fails.
    """
    from kyklon.operations.poweron.acts import foretell

    build, parts = open_folder(folder)
    _world, result = foretell(build, folder, parts, written_card(card, folder).path)
    out(_data(result), as_json, lambda: _lines(result))
    return STOPS if result.failure else OK


def diff(
    folder: Folder,
    first: Annotated[str, Argument(help="A simulated drive's name, a drive, or an image file.", metavar="A")],
    second: Annotated[str, Argument(help="The other one.", metavar="B")],
    as_json: Json = False,
) -> int:
    """Compare the bring-ups of two cards.

    The first difference is marked. Exit 1 when there is one.
    """
    from kyklon.operations.poweron.acts import foretell
    from kyklon.operations.poweron.comparison import compare, first_difference

    build, parts = open_folder(folder)
    runs = [foretell(build, folder, parts, written_card(name, folder).path)[1] for name in (first, second)]
    rows = compare(*runs)
    parted = first_difference(rows)

    def lines() -> list[str]:
        told = []
        for row in rows:
            if row.same:
                told.append(f"  {row.stage:16} {row.left.text if row.left else ''}")
                continue
            mark = ">" if row is parted else "*"
            told.append(f"{mark} {row.stage:16} A: {row.left.text if row.left else '-'}")
            told.append(f"  {'':16} B: {row.right.text if row.right else '-'}")
        ends = [f"{name}: reached {run.reached}" for name, run in zip((first, second), runs, strict=True)]
        return [*told, *ends, f"First difference: {parted.stage}." if parted else "No difference."]

    data = {
        "rows": [
            {
                "same": row.same,
                "stage": row.stage,
                "a": row.left.text if row.left else None,
                "b": row.right.text if row.right else None,
            }
            for row in rows
        ],
        "first_difference": parted.stage if parted else None,
        "reached": [run.reached for run in runs],
    }
    out(data, as_json, lines)
    return STOPS if parted else OK


def log(
    folder: Folder,
    file: Annotated[Path, Argument(help="Log file; - reads standard input.", metavar="FILE")],
    card: Annotated[str, Option("--card", help="The card to predict from; the build's own without it.")] = "",
    as_json: Json = False,
) -> int:
    """Compare a real machine's boot log with the forecast.

    A kernel log, a journal, or lines typed from the screen. Exit 1 when the start in it failed.
    """
    from kyklon.operations.poweron.acts import foretell
    from kyklon.operations.poweron.boot_log import read_log
    from kyklon.operations.poweron.side_by_side import lay, of_forecast, of_log, remedy_for, verdict

    build, parts = open_folder(folder)
    text = log_text(standard_input(MOST_LOG + 1) if str(file) == "-" else bytes_of(file, MOST_LOG))
    _world, run = foretell(build, folder, parts, written_card(card, folder).path if card else None)
    image = parts.find(Image, build.part("image"))
    school = image.school if image else ""
    reading = read_log(text, parts, school)
    sides = of_forecast(run, school), of_log(reading, school)
    rows = lay(*sides)
    said, remedy = verdict(*sides, rows), remedy_for(reading, run)
    data = {
        **_reading(reading),
        "rows": _rows(rows),
        "agree": said.agree,
        "verdict": said.text,
        "why": said.why,
        "forecast": run.reached,
        "remedy": remedy.label if remedy else None,
    }

    def lines() -> list[str]:
        ends = [f"{said.text} {said.why}".strip()]
        ends += [f"Remedy: {remedy.label}."] if remedy else []
        return [*_reading_lines(reading), *_row_lines(rows, *sides), *ends]

    out(data, as_json, lines)
    return STOPS if reading.stop else OK


def rehearse(
    folder: Folder,
    card: CardName,
    way: Annotated[str, Option("--way", help="loader, kernel or root; chosen to suit the card by default.")] = "",
    seconds: Annotated[float, Option("--limit", help="Seconds that each part may take.")] = 60.0,
    as_json: Json = False,
) -> int:
    """Boot a card on this computer, without a board.

    From a snapshot: the card is never written. Exit 1 when it does not come to its menu.
    """
    from kyklon.operations.poweron.acts import rehearse_card
    from kyklon.operations.poweron.rehearsal import WAYS, Terms
    from kyklon.operations.poweron.side_by_side import lay, of_forecast, of_rehearsal, verdict

    if way and way not in WAYS:
        raise WrongUse(f"Unknown kind of rehearsal: {way!r}.", do=f"There are {', '.join(WAYS)}.")
    if not 1 <= seconds <= 3600:
        raise WrongUse(f"A limit of {seconds:g} seconds is not possible.", do="Give 1 to 3600.")
    build, parts = open_folder(folder)
    path = written_card(card, folder).path
    chosen: tuple[Any, ...] = (way,) if way else ()
    with watching() as watch:
        run, done, school = rehearse_card(build, folder, parts, path, Terms(chosen, seconds), watch)
    sides = of_forecast(run, school, tried=done.tried), of_rehearsal(done, school)
    rows = lay(*sides)
    said = verdict(*sides, rows)
    data = {
        **_reading(done.reading),
        "rows": _rows(rows),
        "agree": said.agree,
        "verdict": said.text,
        "why": said.why,
        "forecast": run.reached,
        "unseen": done.unseen,
        "log": done.said,
        "phases": [{"way": p.way, "ended": p.ended, "seconds": p.seconds} for p in done.phases],
    }

    def lines() -> list[str]:
        phases = [
            f"{WAYS[p.way].title}: {p.seconds:.1f} s{' (time limit)' if p.ended == 'limit' else ''}"
            for p in done.phases
        ]
        return [
            *phases,
            done.verdict,
            *_row_lines(rows, *sides),
            f"{said.text} {said.why}".strip(),
            *(f"Not shown: {words}" for words in done.unseen),
        ]

    out(data, as_json, lines)
    return OK if done.reading.stop is None and done.reading.reached == "front end" else STOPS


def _reading(reading: LogReading) -> dict[str, Any]:
    stop = reading.stop
    return {
        "reached": reading.reached,
        "starts": reading.starts,
        "kernel_line": reading.kernel_line,
        "model": reading.model,
        "stop": {
            "stage": stop.stage,
            "code": stop.code,
            "text": stop.text,
            "line": stop.line.number,
            "said": stop.line.text,
        }
        if stop
        else None,
        "hurts": [
            {"stage": hurt.stage, "code": hurt.code, "text": hurt.text, "line": hurt.line.number}
            for hurt in reading.hurts
        ],
        "times": [asdict(time) for time in reading.times],
    }


def _reading_lines(reading: LogReading) -> list[str]:
    told = [f"{reading.starts} boots in the log; the last one is read."] if reading.starts > 1 else []
    told.append(f"Reached: {reading.reached or 'nothing the log mentions'}.")
    if reading.stop:
        told.append(f"Stopped at {reading.stop.stage}: {reading.stop.text} (line {reading.stop.line.number})")
    return [*told, *(f"Also: {hurt.text} (line {hurt.line.number})" for hurt in reading.hurts)]


def _rows(rows: tuple[StageRow, ...]) -> list[dict[str, Any]]:
    return [
        {"stage": row.stage, "differs": row.differs, "left": asdict(row.left), "right": asdict(row.right)}
        for row in rows
    ]


def _row_lines(rows: tuple[StageRow, ...], left: Column, right: Column) -> list[str]:
    told = [f"  {'':17} {left.title:12} {right.title}"]
    first = next((row for row in rows if row.differs), None)
    for row in rows:
        mark = ">" if row is first else "*" if row.differs else " "
        told.append(f"{mark} {row.stage:17} {row.left.came:12} {row.right.came}")
    return told


def _data(result: BringUp) -> dict[str, Any]:
    def failure(each: Any) -> dict[str, Any]:
        return {
            "stage": each.stage,
            "code": each.code,
            "cause": each.cause,
            "blocks": each.blocks,
            "lamp": each.lamp,
            "screen": asdict(each.screen),
            "remedy": each.remedy.label if each.remedy else None,
            "advice": each.advice,
            "operation": each.operation,
        }

    return {
        "reached": result.reached,
        "events": [asdict(event) for event in result.events],
        "failure": failure(result.failure) if result.failure else None,
        "later": [failure(each) for each in result.failures[1:]],
        "screen": asdict(result.screen),
        "games": result.games,
        "again_s": result.again_s,
        "assumed": result.assumed,
    }


def _lines(result: BringUp) -> list[str]:
    told = [f"{event.at_s:7.1f} s  {event.stage:16} {event.text}  [{event.lamp}]" for event in result.events]
    told.append(f"Reached: {result.reached}. Screen: {result.screen.title}")
    told += [f"  {line}" for line in result.screen.lines]
    told += [f"Later boots take about {result.again_s:.0f} s."] if result.again_s else []
    told += [f"Assumed: {words}" for words in result.assumed]
    for number, each in enumerate(result.failures):
        word = "Fails" if number == 0 else "Then"
        told.append(f"{word}: {each.cause} {each.advice}. ({each.stage}: {each.code})")
    return told
