"""Forecast, rehearsal and the real machine's own words, side by side stage by stage; where they first part, and why
that may be."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from kyklon.model.findings import Remedy
from kyklon.operations.poweron.boot_log import LogReading
from kyklon.operations.poweron.events import PUT_ON_CARD, BringUp, Failure
from kyklon.operations.poweron.rehearsal import Rehearsal
from kyklon.operations.poweron.sequence import stages_of

Came = Literal["passed", "stopped", "unseen", "not reached", "not tried"]


@dataclass(frozen=True)
class Cell:
    """What became of a stage. unseen: it was passed, for what comes later was, but no line tells of it. not tried: a
    rehearsal cannot. text: in words."""

    came: Came
    text: str = ""


@dataclass(frozen=True)
class Column:
    """title: what this side is. stopped_at, code: where it ends and why, '' where it does not. log: it is told in
    words of its own, so that only what became of the stages counts."""

    title: str
    cells: dict[str, Cell]
    stopped_at: str
    code: str
    log: bool = False


@dataclass(frozen=True)
class StageRow:
    """differs: one passed it and the other did not, or two forecasts tell other things of it."""

    stage: str
    left: Cell
    right: Cell
    differs: bool


def stage_names(school: str) -> tuple[str, ...]:
    return tuple(stage.name for stage in stages_of(school))


def of_forecast(run: BringUp, school: str, title: str = "Forecast", tried: Collection[str] = ()) -> Column:
    """A bring-up as a column. tried: the stages that a rehearsal tries; what fails before them is taken as put right,
    as it is there, and the forecast's later failures count."""
    blocks = [failure for failure in run.failures if failure.blocks]
    block = next((failure for failure in blocks if not tried or failure.stage in tried), None)
    untried = {failure.stage: failure.cause for failure in blocks if tried and failure.stage not in tried}
    texts: dict[str, list[str]] = {}
    for event in run.events:
        texts.setdefault(event.stage, []).append(event.text)
    for failure in run.failures:
        if not failure.blocks and (block is None or _before(failure, block, school)):
            texts.setdefault(failure.stage, []).append(failure.cause)
    cells, over = {}, False
    for name in stage_names(school):
        words = " ".join(texts.get(name, ()))
        if over:
            cells[name] = Cell("not reached")
        elif block is not None and block.stage == name:
            cells[name], over = Cell("stopped", block.cause), True
        elif name in untried:
            cells[name] = Cell("stopped", untried[name])
        else:
            cells[name] = Cell("passed", words)
    return Column(title, cells, block.stage if block else "", block.code if block else "")


def _before(failure: Failure, block: Failure, school: str) -> bool:
    names = stage_names(school)
    return names.index(failure.stage) < names.index(block.stage)


def of_log(reading: LogReading, school: str, title: str = "Real machine") -> Column:
    """A boot log as a column."""
    names = stage_names(school)
    last = names.index(reading.reached) if reading.reached in names else -1
    cells = {}
    for index, name in enumerate(names):
        words = [each.text for each in reading.said if each.stage == name and each.means != "stops"]
        text = " ".join(dict.fromkeys(words))[:300]
        if reading.stop is not None and reading.stop.stage == name:
            cells[name] = Cell("stopped", reading.stop.text)
        elif index <= last:
            seen = any(each.stage == name and each.means == "passed" for each in reading.said)
            cells[name] = Cell("passed" if seen else "unseen", text)
        else:
            cells[name] = Cell("not reached", text)
    stop = reading.stop
    return Column(title, cells, stop.stage if stop else "", stop.code if stop else "", log=True)


def of_rehearsal(rehearsal: Rehearsal, school: str) -> Column:
    """A rehearsal as a column; stages that its ways cannot show are not tried."""
    side, tried = of_log(rehearsal.reading, school, "Rehearsal"), rehearsal.tried
    return replace(
        side, cells={name: cell if name in tried else Cell("not tried") for name, cell in side.cells.items()}
    )


def lay(left: Column, right: Column) -> tuple[StageRow, ...]:
    """Row by row, in the order of the stages. A log that ends without a word on why is no difference behind its end."""
    rows = []
    quiet = {id(side): side.log and not side.stopped_at for side in (left, right)}
    for name in left.cells:
        one, other = left.cells[name], right.cells[name]
        ends = [_end(cell) for cell in (one, other)]
        if quiet[id(left)] and one.came == "not reached":
            ends[0] = ends[1]
        if quiet[id(right)] and other.came == "not reached":
            ends[1] = ends[0]
        other_words = not (left.log or right.log) and one.text != other.text
        if "not tried" in ends:
            ends = ["not tried", "not tried"]
        rows.append(StageRow(name, one, other, ends[0] != ends[1] or other_words))
    return tuple(rows)


def _end(cell: Cell) -> str:
    return "passed" if cell.came in ("passed", "unseen") else cell.came


def parted(rows: Sequence[StageRow]) -> StageRow | None:
    """The first difference."""
    return next((row for row in rows if row.differs), None)


@dataclass(frozen=True)
class Verdict:
    """What the two sides come to together. agree: they end alike. why: what may be behind a difference."""

    agree: bool
    text: str
    why: str = ""


def _agreed(left: Column, right: Column, rows: Sequence[StageRow]) -> Verdict:
    """No stage tells them apart."""
    name = right.title.lower()
    if left.stopped_at:
        same = left.code.split(":")[0] == right.code.split(":")[0]
        also = "" if same or not right.code else f" The {name} puts it in other words."
        return Verdict(True, f"Both stop at {left.stopped_at}.{also}")
    reached = [row.stage for row in rows if row.right.came in ("passed", "unseen")]
    if reached and reached[-1] in ("front end", "games", "leaving", "machine", "space"):
        return Verdict(True, "Both come to the menu.")
    if not reached:
        return Verdict(False, "No line of the log tells of the start.", "Paste more of it: the last screen is enough.")
    return Verdict(True, f"They agree as far as the {name} goes: {reached[-1]}.")


_WHY_EARLIER = {  # stage where the log stopped, though the forecast passed it -> what the forecast cannot see
    "card": "The forecast reads the card where it is plugged in now; the board's socket it cannot see.",
    "controllers": "Cables and plugs are not on the card.",
    "root partition": "The card may have been changed by a start since it was read, or it reads badly in the board.",
}


def verdict(left: Column, right: Column, rows: Sequence[StageRow]) -> Verdict:
    """left: what was foretold. right: what a rehearsal or the real machine said."""
    first = parted(rows)
    name = right.title.lower()
    untried = [row.stage for row in rows if row.right.came == "not tried" and row.left.came == "stopped"]
    if first is None and untried:
        went = _agreed(left, right, rows)
        stages = ", ".join(untried)
        return Verdict(
            went.agree, f"{went.text} Predicted to stop earlier, at stages that are not rehearsed: {stages}.", went.why
        )
    if first is None:
        return _agreed(left, right, rows)
    if first.right.came == "stopped":
        why = _WHY_EARLIER.get(first.stage, "The card in the machine may be another one, or has changed since.")
        if right.title == "Rehearsal":
            why = "The board and this computer differ there, or the forecast is wrong: read the line that says why."
        return Verdict(False, f"Predicted to pass, but the {name} stopped at {first.stage}: {first.right.text}", why)
    if first.left.came == "stopped":
        why = "The card has been changed since, or another one is in the machine."
        if right.title == "Rehearsal":
            why = "This part of the start is not rehearsed as the board does it."
        return Verdict(False, f"Predicted to stop at {first.stage}, the {name} goes on.", why)
    return Verdict(False, f"They differ from {first.stage} on.", "")


def remedy_for(reading: LogReading, run: BringUp | None) -> Remedy | None:
    """What puts right what a log complains of: the forecast's own remedy for it, else, for what boot files say, that
    this build's are put on the card."""
    stop = reading.stop
    if stop is None:
        return None
    for failure in run.failures if run else ():
        if failure.code.split(":")[0] == stop.code.split(":")[0] and failure.remedy is not None:
            return failure.remedy
    for failure in run.failures if run else ():
        if failure.stage == stop.stage and failure.remedy is not None:
            return failure.remedy
    return PUT_ON_CARD if stop.code.startswith("boot.") else None
