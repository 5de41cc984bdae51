"""The first power-on."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.commands.line import Argument
from kyklon.commands.shared import OK, STOPS, CardName, Folder, Json, open_folder, out
from kyklon.commands.targets import written_card

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
    first: Annotated[str, Argument(help="A stand-in's name, a drive, or an image file.", metavar="A")],
    second: Annotated[str, Argument(help="The other one.", metavar="B")],
    as_json: Json = False,
) -> int:
    """Lay the bring-ups of two cards side by side.

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
        "rows": [{"same": row.same, "stage": row.stage, "a": row.left.text if row.left else None,
                  "b": row.right.text if row.right else None} for row in rows],
        "first_difference": parted.stage if parted else None, "reached": [run.reached for run in runs],
    }  # fmt: skip
    out(data, as_json, lines)
    return STOPS if parted else OK


def _data(result: BringUp) -> dict[str, Any]:
    def failure(each: Any) -> dict[str, Any]:
        return {
            "stage": each.stage, "code": each.code, "cause": each.cause, "blocks": each.blocks,
            "lamp": each.lamp, "screen": asdict(each.screen),
            "remedy": each.remedy.label if each.remedy else None, "advice": each.advice, "operation": each.operation,
        }  # fmt: skip

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
    told += [f"Later starts take about {result.again_s:.0f} s."] if result.again_s else []
    told += [f"Assumed: {words}" for words in result.assumed]
    for number, each in enumerate(result.failures):
        word = "Fails" if number == 0 else "Then"
        told.append(f"{word}: {each.cause} {each.advice}. ({each.stage}: {each.code})")
    return told
