"""The route as a lesson, seats, and what was tried on the bench."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kyklon.base.errors import KyklonError, WrongUse
from kyklon.catalogue.loader import Catalogue
from kyklon.commands import classroom as by_command
from kyklon.commands.plan import trial
from kyklon.model.build import Build, edited
from kyklon.model.plan import Trial
from kyklon.model.world import World
from kyklon.operations import inspection
from kyklon.operations.assembly.budget import budget
from kyklon.operations.book.blocks import Table
from kyklon.operations.book.lesson import Question, hand_outs, judge, questions, results
from kyklon.operations.plan.findings import findings
from kyklon.record import classroom
from kyklon.record import folder as store
from support import Demo

NUMBER = Question("k", 50, "How much?", "15.73", "because", "kHz")
COUNT = Question("c", 60, "How many?", "66", "because")
CHOICE = Question("h", 30, "Which?", "two", "because", choices=("one", "two", "three"))


@pytest.mark.parametrize(
    ("question", "given_", "right"),
    [
        (NUMBER, "15.73", True),
        (NUMBER, "15,7 kHz", True),
        (NUMBER, "15.7\u202fkhz", True),
        (NUMBER, "16.3", False),
        (NUMBER, "15.73 Hz", None),
        (NUMBER, "about 15", None),
        (COUNT, "66", True),
        (COUNT, "67", False),
        (COUNT, "-66", False),
        (CHOICE, "b", True),
        (CHOICE, "B)", True),
        (CHOICE, "Two", True),
        (CHOICE, "c", False),
        (CHOICE, "d", None),
    ],
)
def test_an_answer_is_judged(question: Question, given_: str, right: bool | None) -> None:
    assert judge(question, given_).right is right


@given(st.text(max_size=40))
def test_any_words_are_judged(words: str) -> None:
    for question in (NUMBER, COUNT, CHOICE):
        assert judge(question, words).words


def test_questions_have_the_answers_that_the_pages_show(demo: Demo, catalogue: Catalogue) -> None:
    build = demo.build
    world = inspection.observe(build, demo.folder, catalogue)
    asked = questions(build, catalogue, world)
    by_key = {each.key: each for each in asked}
    assert len(by_key) == len(asked) >= 12
    assert {each.operation for each in asked} >= {10, 20, 30, 40, 50, 60, 70, 80, 95}
    told = budget(build, catalogue)
    assert told is not None
    assert judge(by_key["plan.peak"], f"{told.peak_a} A").right
    assert by_key["boot.kernel"].answer == "merrow-armv7.krn"  # the board runs ARMv7
    assert by_key["assembly.resistor"].answer == "130"  # (3.3 V - 2 V) / 10 mA = 130 ohm, in E24 (IEC 60063)
    assert by_key["picture.fits"].answer == "no"  # 31 kHz on a 15 kHz tube
    for each in asked:
        assert judge(each, each.answer).right
        assert not each.choices or (each.answer in each.choices and len(set(each.choices)) == len(each.choices))
    assert questions(edited(build, "parts", []), catalogue, World()) != ()
    sheets = hand_outs(build.name, asked, ["1", "2"])
    assert [section.title for section in sheets.sections] == ["Seat: 1", "Seat: 2", "Answers"]
    answers = sheets.sections[-1].blocks[0]
    assert isinstance(answers, Table)
    assert len(answers.rows) == len(asked)
    for section in sheets.sections[:-1]:
        assert not any(isinstance(block, Table) for block in section.blocks)  # no answers on a seat's sheet


def test_seats_by_commands(demo: Demo, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    folder = demo.folder
    assert by_command.ask(folder) == 0
    told = capsys.readouterr().out
    assert "assembly.resistor" in told
    assert "130" not in told
    assert by_command.answer(folder, "Bench 1", "assembly.resistor", "130 Ω") == 0
    assert by_command.answer(folder, "Bench 1", "boot.kernel", "merrow-armv8.krn") == 1
    with pytest.raises(WrongUse, match="number"):
        by_command.answer(folder, "Bench 2", "assembly.resistor", "many")
    with pytest.raises(WrongUse, match="no question"):
        by_command.answer(folder, "Bench 2", "nothing", "1")
    capsys.readouterr()
    assert by_command.results(folder) == 0
    assert "Bench 1" in (told := capsys.readouterr().out)
    assert "1 of" in told
    assert "2 answered" in told
    assert by_command.tick(folder, "Bench 1", check=["games", "sound", "games"]) == 0
    assert by_command.tick(folder, "Bench 1", level=1, percent=80) == 0
    assert by_command.tick(folder, "Bench 1", level=1, percent=60) == 0  # the best counts
    with pytest.raises(WrongUse, match="no check"):
        by_command.tick(folder, "Bench 1", check=["nothing-such"])
    with pytest.raises(WrongUse, match="no level"):
        by_command.tick(folder, "Bench 1", level=99, percent=1)
    with pytest.raises(WrongUse, match="0 to 100"):
        by_command.tick(folder, "Bench 1", level=1, percent=101)
    capsys.readouterr()
    assert by_command.results(folder, tmp_path / "results.pdf") == 0
    assert "2 of " in (told := capsys.readouterr().out)
    assert "level 1 80 %" in told
    assert (tmp_path / "results.pdf").read_bytes().startswith(b"%PDF")
    assert classroom.ticked(folder, "Bench 1", "games", on=False).ticks["Bench 1"] == ("sound",)
    assert by_command.sheet(folder, tmp_path / "class.pdf", seats=3) == 0
    assert (tmp_path / "class.pdf").read_bytes().startswith(b"%PDF")
    assert results((NUMBER,), {"a": {"k": "15.73", "gone": "1"}, "b": {}}) == (("a", 1, 1), ("b", 0, 0))


def test_a_class_file_that_is_none_is_told_and_left(tmp_path: Path) -> None:
    for number in range(classroom.MOST_SEATS):
        classroom.put(tmp_path, f"seat {number}")
    with pytest.raises(WrongUse, match="at most"):
        classroom.put(tmp_path, "one more")
    with pytest.raises(WrongUse, match="name"):
        classroom.put(tmp_path, " ")
    (tmp_path / classroom.FILE).write_text("{")
    with pytest.raises(KyklonError, match="not a valid class"):
        classroom.put(tmp_path, "seat 1")
    assert (tmp_path / classroom.FILE).read_text() == "{"


def with_trials(build: Build, *trials: Trial) -> Build:
    return edited(build, "plan.trials", list(trials))


def test_what_failed_on_the_bench_stops_a_build_that_has_it(
    demo: Demo, catalogue: Catalogue, capsys: pytest.CaptureFixture[str]
) -> None:
    build = demo.build
    board, display = str(build.part("board")), str(build.part("display"))
    failed = Trial(parts=(board, display), works=False, why="rolls", at="2026-05-01")
    worked = Trial(parts=(display, board), works=True, at="2026-06-01")

    def codes(made: Build) -> list[str]:
        return [each.code for each in findings(made, catalogue, World()) if each.code.startswith("plan.tried")]

    assert codes(build) == []
    assert len(codes(with_trials(build, failed))) == 1
    assert codes(with_trials(build, failed, worked)) == []
    assert codes(with_trials(build, worked.model_copy(update={"at": "2026-04-01"}), failed)) != []
    assert codes(with_trials(build.with_part("board", "sprat"), failed)) == []
    cable = build.links[0].cable
    assert codes(with_trials(build, Trial(parts=(board, cable), works=False))) != []
    assert trial(demo.folder, part=[board, display], why="rolls") == 0
    assert "does not: " in capsys.readouterr().out
    assert store.load(demo.folder).build.plan.trials[0].why == "rolls"
    with pytest.raises(WrongUse, match="no part"):
        trial(demo.folder, part=[board, "nothing-such"])
