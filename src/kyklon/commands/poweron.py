"""The first power-on."""

from __future__ import annotations

from dataclasses import asdict
from typing import TYPE_CHECKING, Any

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
