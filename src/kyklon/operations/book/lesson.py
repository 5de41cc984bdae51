"""The route as a lesson: questions at each operation, answered by the same computations; hand-outs for a group."""

from __future__ import annotations

import random
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Display
from kyklon.catalogue.system_records import Emulator
from kyklon.model.build import Build
from kyklon.model.world import World
from kyklon.operations.assembly.budget import budget
from kyklon.operations.assembly.electrics import E24, led_resistor
from kyklon.operations.assembly.order import acts
from kyklon.operations.book.blocks import Block, Book, Head, Section, Table, Text
from kyklon.operations.boot.findings import kernel_sets
from kyklon.operations.controls.hookup import hookup_of
from kyklon.operations.controls.wiring import harness
from kyklon.operations.picture.ranges import display_ranges, fit
from kyklon.operations.poweron.events import BringUp
from kyklon.operations.poweron.sequence import stages_of

_TOLERANCE = 0.03  # of a number: what rounding on the way costs
_LED_V, _LED_A, _PIN_V = 2.0, 0.010, 3.3  # a red LED at a board's pin: common practice
_CARD_MB_S = 10.0  # what a card of speed class 10 writes at least (SD Physical Layer Simplified Specification)
_CHOICES = 4
_SPLIT = re.compile(r"^\s*([+-]?\d+(?:[.,]\d+)?)\s*(\S*)\s*$")


@dataclass(frozen=True)
class Question:
    """key is stable. answer: a number's figures, or one of the choices. unit: '' for a choice. why: how the answer
    comes about."""

    key: str
    operation: int
    words: str
    answer: str
    why: str
    unit: str = ""
    choices: tuple[str, ...] = ()


@dataclass(frozen=True)
class Judged:
    """right: None where the answer cannot be read."""

    right: bool | None
    words: str


def questions(build: Build, catalogue: Catalogue, world: World, run: BringUp | None = None) -> tuple[Question, ...]:
    """Those that this build has an answer to, along the route."""
    return (
        *_plan(build, catalogue),
        *_card(world),
        *_boot(build, catalogue, world),
        *_controls(build, catalogue),
        *_picture(build, catalogue),
        *_library(build, catalogue, world),
        *_assembly(build, catalogue),
        *_power_on(build, catalogue, run),
        *_upkeep(build, catalogue),
    )


def judge(question: Question, given: str) -> Judged:
    """Whether an answer is right, and why. A number may be a few percent off, with its unit or without."""
    if question.choices:
        chosen = given.strip().casefold()
        letters = {chr(97 + place): choice for place, choice in enumerate(question.choices)}
        meant = letters.get(chosen.rstrip(").")) or next(
            (choice for choice in question.choices if choice.casefold() == chosen), None
        )
        if meant is None:
            return Judged(None, f"Choose one of: {', '.join(question.choices)}.")
        right = meant == question.answer
        return Judged(right, question.why if right else f"It is {question.answer}. {question.why}")
    found = _SPLIT.match(given.replace("\u202f", " "))
    if found is None or found[2].casefold() not in ("", question.unit.casefold()):
        return Judged(None, f"Write a number in {question.unit}." if question.unit else "Write a number.")
    value, wanted = float(found[1].replace(",", ".")), float(question.answer)
    room = abs(wanted) * _TOLERANCE if question.unit else 0.0  # what is counted is exact
    right = abs(value - wanted) <= room + 1e-9
    told = f"{question.answer} {question.unit}".strip()
    return Judged(right, question.why if right else f"It is {told}. {question.why}")


def _shuffled(key: str, answer: str, others: Sequence[str]) -> tuple[str, ...]:
    """The answer among others; the order is always the same for one question."""
    rng = random.Random(key)
    chosen = [each for each in dict.fromkeys(others) if each != answer]
    rng.shuffle(chosen)
    rows = [answer, *chosen[: _CHOICES - 1]]
    rng.shuffle(rows)
    return tuple(rows)


def _plan(build: Build, catalogue: Catalogue) -> Iterator[Question]:
    told = budget(build, catalogue)
    if told is None:
        return
    parts = " + ".join(f"{draw.amps:.2f} A ({draw.name})" for draw in told.draws)
    words = f"How much current do all parts draw at their peak? {', '.join(draw.name for draw in told.draws)}."
    yield Question("plan.peak", 10, words, f"{told.peak_a:.2f}", f"Peaks add up: {parts} = {told.peak_a:.2f} A.", "A")
    names = [each.name for each in (catalogue.any(part.part) for part in build.parts) if each is not None]
    yield Question(
        key="plan.source",
        operation=10,
        words=f"What powers {told.board.name}?",
        answer=told.supply.name,
        why=f"The cable to its power socket comes from {told.supply.name}.",
        choices=_shuffled("plan.source", told.supply.name, names),
    )


def _card(world: World) -> Iterator[Question]:
    source = world.source
    if source is None or source.unpacked is None or not source.exact:
        return
    mb = source.unpacked / 1e6
    yield Question(
        key="card.seconds",
        operation=20,
        words=f"The image unpacks to {mb:.1f} MB. How long does a card that writes {_CARD_MB_S:g} MB/s take for it?",
        answer=f"{mb / _CARD_MB_S:.1f}",
        why=f"{mb:.1f} MB / {_CARD_MB_S:g} MB/s = {mb / _CARD_MB_S:.1f} s; reading it back comes on top.",
        unit="s",
    )


def _boot(build: Build, catalogue: Catalogue, world: World) -> Iterator[Question]:
    board = catalogue.find(Board, build.part("board"))
    image = catalogue.find(Image, build.part("image"))
    if board is None or image is None:
        return
    sets = kernel_sets(image, world.source_contents, world.card)
    good = [name for name, kind in sets.items() if kind in board.runs]
    if good and len(good) < len(sets):
        best = next((name for name in good if sets[name] == board.native_set), good[0])
        others = [name for name in sets if name not in good]
        yield Question(
            key="boot.kernel",
            operation=30,
            words=f"{board.name} runs {' and '.join(board.runs)}. Which of these kernel files starts on it?",
            answer=best,
            why=f"{best} is built for {sets[best]}; the others stop at their first instruction, with a black screen.",
            choices=_shuffled("boot.kernel", best, others),
        )


def _controls(build: Build, catalogue: Catalogue) -> Iterator[Question]:
    hookup = hookup_of(build, catalogue)
    if hookup is None:
        return
    made = harness(hookup)
    if made.runs:
        yield Question(
            key="controls.switches",
            operation=40,
            words="How many wires go from a switch to a terminal of its own?",
            answer=str(len(made.runs)),
            why="Each switch has one wire to its terminal; the other contacts share the ground.",
        )
    for chain in made.chains[:1]:
        yield Question(
            key="controls.ground",
            operation=40,
            words=f"One ground wire visits {len(chain.controls)} switches. How many crimps does it need at them?",
            answer=str(len(chain.controls)),
            why="A chain comes in and goes on in one crimp at each switch; two wires share it.",
        )


def _picture(build: Build, catalogue: Catalogue) -> Iterator[Question]:
    timing = build.picture.menu.timing
    lines, rate = float(timing.horizontal_hz / timing.vertical_hz), float(timing.vertical_hz)
    khz = float(timing.horizontal_hz) / 1000
    yield Question(
        key="picture.line-rate",
        operation=50,
        words=f"The menu's mode has {lines:g} lines in all, at {rate:.2f} Hz. What is its line rate?",
        answer=f"{khz:.2f}",
        why=f"Lines times refresh rate: {lines:g} × {rate:.2f} Hz = {khz:.2f} kHz.",
        unit="kHz",
    )
    display = catalogue.find(Display, build.part("display"))
    if display is not None:
        ranges = display_ranges(display, None)
        spans = ", ".join(f"{each.line_khz[0]:g} to {each.line_khz[1]:g} kHz" for each in ranges)
        yield Question(
            key="picture.fits",
            operation=50,
            words=f"{display.name} takes {spans}. May it be sent {khz:.2f} kHz?",
            answer="yes" if fit(timing, ranges).holds else "no",
            why="A tube outside its range can be damaged." if display.tube else "A panel outside it shows nothing.",
            choices=("yes", "no"),
        )


def _library(build: Build, catalogue: Catalogue, world: World) -> Iterator[Question]:
    scan = world.scan
    systems = known_systems(build, catalogue)
    if scan is None or not systems:
        return
    counts = {system.name: sum(game.ready for game in scan.of(system.id)) for system in systems}
    most = max(counts, key=lambda name: counts[name])
    yield Question(
        key="library.ready",
        operation=60,
        words=f"How many games of {most} will the menu list?",
        answer=str(counts[most]),
        why="Those with the right ending, in the right folder, with their firmware there, one version each.",
    )
    rate = float(next(each for each in systems if each.name == most).refresh_hz)
    yield Question(
        key="tuning.frame",
        operation=70,
        words=f"{most} draws {rate:.3f} pictures a second. How long does one stay?",
        answer=f"{1000 / rate:.2f}",
        why=f"1000 ms / {rate:.3f} = {1000 / rate:.2f} ms.",
        unit="ms",
    )


def _assembly(build: Build, catalogue: Catalogue) -> Iterator[Question]:
    ohm, _watts = led_resistor(_PIN_V, _LED_V, _LED_A, E24)
    exact = (_PIN_V - _LED_V) / _LED_A
    yield Question(
        key="assembly.resistor",
        operation=80,
        words=f"An LED of {_LED_V:g} V gets {_LED_A * 1000:g} mA from a pin of {_PIN_V:g} V. Which resistor of E24?",
        answer=f"{ohm:g}",
        why=f"({_PIN_V:g} V − {_LED_V:g} V) / {_LED_A * 1000:g} mA = {exact:.0f} Ω, and the next value up.",
        unit="Ω",
    )
    rows = [step.title for step in acts(build, catalogue)]
    if len(rows) > _CHOICES:
        yield Question(
            key="assembly.first",
            operation=80,
            words="Which of these comes first?",
            answer=rows[0],
            why="What can be tried on the open bench is tried before anything is screwed in.",
            choices=_shuffled("assembly.first", rows[0], rows[2:]),
        )


def _power_on(build: Build, catalogue: Catalogue, run: BringUp | None) -> Iterator[Question]:
    if run is None:
        return
    image = catalogue.find(Image, build.part("image"))
    names = [stage.name for stage in stages_of(image.school if image else "")]
    yield Question(
        key="poweron.reached",
        operation=90,
        words="Which stage will the first power-on reach?",
        answer=run.reached,
        why="It reaches the menu." if run.failure is None else run.failure.cause,
        choices=_shuffled("poweron.reached", run.reached, names),
    )


def _upkeep(build: Build, catalogue: Catalogue) -> Iterator[Question]:
    for system in known_systems(build, catalogue):
        emulator = catalogue.find(Emulator, system.emulator)
        if emulator is None or not emulator.states or not emulator.saves:
            continue
        state = f"game.{emulator.states[0].replace('*', '1')}"
        others = [f"game.{ending}" for ending in (emulator.saves[0], *system.extensions[:1], "txt")]
        yield Question(
            key="upkeep.state",
            operation=95,
            words=f"{emulator.name} is exchanged for another emulator. Which of these files will not load any more?",
            answer=state,
            why="A save state is one program's memory; what a game saves by itself usually goes over.",
            choices=_shuffled("upkeep.state", state, others),
        )
        return


# --- on paper ------------------------------------------------------------------------------------------------------


def hand_outs(name: str, asked: Sequence[Question], seats: Sequence[str]) -> Book:
    """A sheet for each seat, and one with the answers for whoever teaches."""
    sections = [Section(0, f"Seat: {seat}", tuple(_sheet(asked))) for seat in seats]
    rows = tuple((str(n), _told(each), each.why) for n, each in enumerate(asked, 1))
    answers = Section(0, "Answers", (Table(("", "Answer", "Why"), rows),))
    notes = (f"{len(asked)} questions, {len(seats)} seats.", "The last pages hold the answers.")
    return Book(name, "Lesson along the route card", (*sections, answers), notes=notes)


def _told(question: Question) -> str:
    return f"{question.answer} {question.unit}".strip()


def _sheet(asked: Sequence[Question]) -> Iterator[Block]:
    yield Text("Name: ______________________________     Date: ______________", "muted")
    for number, each in enumerate(asked, 1):
        yield Head(f"{number}. Operation {each.operation}")
        yield Text(each.words)
        choices = [f"{chr(97 + place)}) {choice}" for place, choice in enumerate(each.choices)]
        yield Text("     ".join(choices) if choices else f"Answer: ______________ {each.unit}")


def results(asked: Sequence[Question], answers: dict[str, dict[str, str]]) -> tuple[tuple[str, int, int], ...]:
    """Of each seat: its name, how many are right, how many are answered. answers: given, by seat and key."""
    known = {each.key: each for each in asked}
    rows = []
    for seat, given in answers.items():
        judged = [judge(known[key], words).right for key, words in given.items() if key in known]
        rows.append((seat, sum(right is True for right in judged), len(judged)))
    return tuple(rows)


@dataclass(frozen=True)
class SeatResult:
    """right of answered questions; drills: best percent by level; ticked: checks of the first power-on."""

    seat: str
    right: int
    answered: int
    drills: dict[str, int]
    ticked: int


def report(name: str, asked: Sequence[Question], rows: Sequence[SeatResult], checks: int) -> Book:
    """The results of a class on paper. checks: how many a first power-on has."""
    table = Table(
        ("Seat", "Right", "Answered", "Exercises", "First power-on"),
        tuple(
            (
                row.seat,
                f"{row.right} of {len(asked)}",
                str(row.answered),
                ", ".join(f"level {level}: {percent} %" for level, percent in sorted(row.drills.items())) or "none",
                f"{row.ticked} of {checks} checked",
            )
            for row in rows
        ),
    )
    return Book(name, "Results of a class", (Section(0, "Results", (table,)),), notes=(f"{len(rows)} seats.",))
