"""Reads what a machine said while it started: how far it came, which line says why, how long its stages took.

What lines mean is data (log_patterns.toml). Lines may be those of a kernel log, of a journal, of a serial cable, or
typed from the screen; of several starts in one text the last is read.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

from kyklon.base.errors import WrongUse
from kyklon.base.shown import visible
from kyklon.catalogue.fault_records import LogPattern
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import StageSeconds
from kyklon.operations.poweron.events import BringUp
from kyklon.operations.poweron.sequence import stages_of

MOST_LOG = 8 << 20  # bytes of a log; a journal of one start has a tenth of that
MOST_LINES = 20_000  # of one start that are looked at; a kernel and its services say a tenth of that
_MOST_LETTERS = 600  # of a line that are looked at
_STAMP = re.compile(r"^(?:<\d{1,3}>)?\[ {0,8}(\d{1,8}\.\d{1,9})\](?:\[ *[TC]\d+\])? ?")
# journalctl's short form, and the same with the seconds since the start in brackets
_JOURNAL = re.compile(
    r"^(?:(?:[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d|\d{4}-\d\d-\d\dT[\d:.,+-]{8,30}) \S{1,64}"
    r" (?:kernel: |(?=[\w./@-]{1,64}(?:\[\d{1,8}\])?: ))"
    r"|\[ {0,8}(\d{1,8}\.\d{1,9})\] \S{1,64} (?:kernel: |(?=[\w./@-]{1,64}\[\d{1,8}\]: )))"
)
_STEERING = re.compile(r"\x1b(?:\[[0-9;?]{0,20}[A-Za-z]|[()][AB0]|[=>78Mc])")
# a kernel lists the partitions that it has when it finds no root (init/do_mounts.c: printk_all_partitions)
_LISTED = re.compile(r"^([0-9a-f]{4})\s+\d+ (\S+)")
_BLOCK = re.compile(r"unknown-block\((\d{1,4}),(\d{1,4})\)")


@dataclass(frozen=True)
class Line:
    """number: from 1, in the whole text. at_s: seconds since the kernel began, None without a time stamp."""

    number: int
    text: str
    at_s: float | None


@dataclass(frozen=True)
class Said:
    """A line that means something. text: what it means, in words."""

    line: Line
    pattern: LogPattern
    stage: str
    code: str
    text: str

    @property
    def means(self) -> str:
        return self.pattern.means


@dataclass(frozen=True)
class StageTime:
    """How long a stage took, seconds by the kernel's own clock. with_: stages before it that no line of the log ends,
    which are in the same time."""

    stage: str
    seconds: float
    with_: tuple[str, ...] = ()


@dataclass(frozen=True)
class LogReading:
    """reached: the last stage that lies behind it, '' for none. stop: the line that says why it went no further.
    starts: how many are in the text; the last was read. lines: of the text. quiet: nothing in it means anything."""

    reached: str
    stop: Said | None
    said: tuple[Said, ...]
    starts: int
    lines: int
    kernel_line: str = ""
    model: str = ""
    times: tuple[StageTime, ...] = ()

    @property
    def quiet(self) -> bool:
        return not self.said

    @property
    def hurts(self) -> tuple[Said, ...]:
        """Faults that it lived with, each kind once."""
        found = {each.pattern.id: each for each in self.said if each.means == "hurts"}
        return tuple(found.values())


def log_text(data: bytes) -> str:
    """A log's bytes as text, whatever else is in them. Raises WrongUse for one that is too long."""
    if len(data) > MOST_LOG:
        raise WrongUse(f"The log has more than {MOST_LOG >> 20} MB.", do="Give the last boot only.")
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace")
    return data.decode("utf-8", "replace")


def lines_of(text: str) -> tuple[Line, ...]:
    """The text's lines without time stamps, colours and what a journal puts before them."""
    found = []
    for number, raw in enumerate(text.replace("\r\n", "\n").replace("\r", "\n").split("\n"), 1):
        line, at = _STEERING.sub("", raw[: 2 * _MOST_LETTERS]), None
        if journal := _JOURNAL.match(line):
            line, at = line[journal.end() :], float(journal[1]) if journal[1] else None
        if stamp := _STAMP.match(line):
            line, at = line[stamp.end() :], float(stamp[1])
        line = line[:_MOST_LETTERS]
        if line.strip():
            found.append(Line(number, line, at))
    return tuple(found)


@lru_cache(maxsize=4)
def _compiled(patterns: tuple[LogPattern, ...]) -> tuple[tuple[LogPattern, re.Pattern[str]], ...]:
    return tuple((pattern, re.compile(pattern.pattern)) for pattern in patterns)


def read_log(text: str, catalogue: Catalogue, school: str = "complete image") -> LogReading:
    """What a boot log says. school: of the image, for the order of the stages."""
    lines = lines_of(text)
    begins = _starts(lines, catalogue)
    own = lines[begins[-1] if begins else 0 :]
    if len(own) > MOST_LINES:  # how it began, and how it ended
        own = own[: MOST_LINES // 4] + own[-(MOST_LINES - MOST_LINES // 4) :]
    order = {stage.name: index for index, stage in enumerate(stages_of(school))}
    said = tuple(found for line in own for found in _said(line, catalogue, order))
    said = _roots_judged(said, own)
    passed = [each for each in said if each.means == "passed"]
    reached = max((each.stage for each in passed), key=order.__getitem__, default="")
    stop = _stop(said, order, max(passed, key=lambda each: order[each.stage], default=None))
    models = [each for each in said if each.pattern.id == "kernel-model"]
    model = re.search(models[-1].pattern.pattern, models[-1].line.text) if models else None
    given = [each for each in said if each.pattern.kernel_line]
    line = re.search(given[-1].pattern.pattern, given[-1].line.text) if given else None
    if stop is not None:  # what failed had all before it behind it
        reached = next((name for name in order if order[name] == order[stop.stage] - 1), "")
    return LogReading(
        reached=reached,
        stop=stop,
        said=said,
        starts=max(1, len(begins)),
        lines=len(lines),
        kernel_line=visible(line[1]) if line else "",
        model=visible(model[1]) if model else "",
        times=_times(passed, order),
    )


def measured(times: Sequence[StageTime], run: BringUp, board: str) -> tuple[StageSeconds, ...]:
    """The log's times as those of a board's stages. A time of several stages is shared as the forecast has them."""
    usual = _usual(run)
    found = []
    for time in times:
        names = (*time.with_, time.stage)
        whole = sum(usual.get(name, 0.0) for name in names)
        for name in names:
            share = usual.get(name, 0.0) / whole if whole else float(name == time.stage)
            if share:
                found.append(StageSeconds(board=board, stage=name, seconds=round(min(3600.0, time.seconds * share), 3)))
    return tuple(found)


def _usual(run: BringUp) -> dict[str, float]:
    """How long the forecast has each stage, seconds."""
    found: dict[str, float] = {}
    for event, after in pairwise(run.events):
        found[event.stage] = found.get(event.stage, 0.0) + after.at_s - event.at_s
    return found


def _starts(lines: Sequence[Line], catalogue: Catalogue) -> list[int]:
    """Where starts begin: a loader's or a kernel's first line, or a clock that runs again from the beginning."""
    first = [compiled for each, compiled in _compiled(catalogue.all(LogPattern)) if each.start]
    loader = next(
        (compiled for each, compiled in _compiled(catalogue.all(LogPattern)) if each.id == "loader-begins"), None
    )
    found: list[int] = []
    last, after_loader = 0.0, False
    for index, line in enumerate(lines):
        begins_loader = loader is not None and loader.search(line.text) is not None
        begins = any(each.search(line.text) for each in first)
        back = line.at_s is not None and line.at_s + 1.0 < last and line.at_s < 1.0
        if begins_loader or back or (begins and not after_loader and not (found and index - found[-1] < 3)):
            found.append(index)
        after_loader = begins_loader or (after_loader and not begins)
        last = line.at_s if line.at_s is not None else last
    return found if not found or found[0] == 0 else [0, *found]


def _said(line: Line, catalogue: Catalogue, order: dict[str, int]) -> list[Said]:
    found = []
    for each, compiled in _compiled(catalogue.all(LogPattern)):
        if each.stage in order and (match := compiled.search(line.text)):
            groups = ("", *(group or "" for group in match.groups()))
            words = re.sub(r"\{(\d)\}", lambda at, groups=groups: _group(groups, int(at[1])), each.name)  # type: ignore[misc]
            found.append(Said(line, each, each.stage, each.code, visible(words.strip())))
    return found


def _group(groups: tuple[str, ...], number: int) -> str:
    return groups[number].strip() if number < len(groups) else ""


def _roots_judged(said: tuple[Said, ...], lines: Sequence[Line]) -> tuple[Said, ...]:
    """A device that the kernel lists is there, so it is what lies on it that cannot be mounted."""
    listed = {int(found[1], 16) for line in lines if (found := _LISTED.match(line.text.strip()))}
    judged = []
    for each in said:
        block = _BLOCK.search(each.line.text) if each.pattern.root_device else None
        if block and (int(block[1]) << 8 | int(block[2])) in listed and int(block[2]):
            fresh = "The root partition exists, but its file system cannot be mounted."
            each = Said(each.line, each.pattern, "root partition", "card.no-root-partition", fresh)
        elif block and (int(block[1]), int(block[2])) == (0, 0) and '""' in each.line.text.replace("(null)", ""):
            each = Said(each.line, each.pattern, each.stage, "boot.no-root", "The kernel command line names no root.")
        judged.append(each)
    return tuple(judged)


def _stop(said: tuple[Said, ...], order: dict[str, int], last: Said | None) -> Said | None:
    """The line that says most of why it went no further; what came before a stage that was passed did not stop it.

    last: the first line that tells of the last stage passed."""
    reached, line = (order[last.stage], last.line.number) if last else (-1, 0)
    stops = [each for each in said if each.means == "stops"]
    open_ = [stop for stop in stops if order[stop.stage] > reached]
    open_ = open_ or [stop for stop in stops if order[stop.stage] == reached and stop.line.number > line]
    if not open_:
        return None
    return max(open_, key=lambda each: (each.pattern.rank, -each.line.number))


def _times(passed: Sequence[Said], order: dict[str, int]) -> tuple[StageTime, ...]:
    """Seconds between the first lines that tell of stages passed."""
    names = list(order)
    first: dict[str, float] = {}
    for said in passed:
        if said.line.at_s is not None:
            first.setdefault(said.stage, said.line.at_s)
    found: list[StageTime] = []
    before, index = (first.get("kernel", 0.0), order.get("kernel", 0)) if first else (0.0, 0)
    for name in names[index + 1 :]:
        if name in first and first[name] >= before:
            between = tuple(names[index + 1 : order[name]])
            found.append(StageTime(name, round(first[name] - before, 3), between))
            before, index = first[name], order[name]
    return tuple(found)
