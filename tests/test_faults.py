"""The fault finder: its numbers by full enumeration, its data, its steps; and the drills."""

from __future__ import annotations

import itertools
import json
from dataclasses import replace
from decimal import Decimal, localcontext
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kyklon.base.errors import KyklonError, WrongUse
from kyklon.catalogue.fault_records import Cause, Drill, LogPattern, Observation
from kyklon.catalogue.loader import load
from kyklon.catalogue.records import Lamps
from kyklon.demo import camper, lighthouse, school_fair
from kyklon.faults import drills
from kyklon.faults.acts import answered, case_of, path_of, put_aside, tried, without_last
from kyklon.faults.drills import checked, hidden_in, offered, solved_by_finder
from kyklon.faults.drills import tried as tried_in_drill
from kyklon.faults.fault_model import fault_model_of, words_of
from kyklon.faults.finder import Case, likely, next_step, steps
from kyklon.faults.hidden import BREAKS, machines
from kyklon.faults.network import MOST_EXACT, Network, _sampled, believe, gains
from kyklon.model.fault import FaultCase
from kyklon.model.world import World
from kyklon.operations import inspection
from kyklon.record import cures
from support import Demo

PARTS = load()
CAUSES, OBSERVATIONS = PARTS.all(Cause), PARTS.all(Observation)


def lighthouse_setting(**more):
    return fault_model_of(lighthouse.build(PARTS, "0" * 64), PARTS, **more)


def small(seed: int, causes: int = 5, observations: int = 7) -> Network:
    draw = np.random.default_rng(seed)
    weight = draw.random((causes, observations)) * (draw.random((causes, observations)) < 0.6)
    return Network(draw.uniform(0.01, 0.4, causes), weight, draw.uniform(0.01, 0.2, observations))


def enumerated(network: Network, answers: dict[int, bool]) -> tuple[np.ndarray, float]:
    """Every set of causes, one by one."""
    total, marginal = 0.0, np.zeros(len(network.prior))
    for there in itertools.product((0, 1), repeat=len(network.prior)):
        own = np.array(there)
        chance = np.prod(np.where(own, network.prior, 1 - network.prior))
        absent = (1 - network.leak) * np.prod(np.where(own[:, None], 1 - network.weight, 1), axis=0)
        for index, seen in answers.items():
            chance *= 1 - absent[index] if seen else absent[index]
        total += chance
        marginal += chance * own
    return marginal / total, total


@given(st.integers(0, 10_000), st.dictionaries(st.integers(0, 6), st.booleans(), max_size=6))
def test_chances_are_those_of_full_enumeration(seed: int, answers: dict[int, bool]) -> None:
    network = small(seed)
    found = believe(network, answers)
    assert found.exact
    assert np.abs(found.chance - enumerated(network, answers)[0]).max() < 1e-9


@settings(max_examples=20)
@given(st.integers(0, 10_000), st.dictionaries(st.integers(0, 6), st.booleans(), max_size=4))
def test_what_a_further_answer_would_tell_is_that_of_full_enumeration(seed: int, answers: dict[int, bool]) -> None:
    network = small(seed)
    told = gains(believe(network, answers))
    whole = enumerated(network, answers)[1]
    for index in set(range(7)) - set(answers):
        for seen, expected in ((False, told.no_chance[index]), (True, told.yes_chance[index])):
            chance, evidence = enumerated(network, {**answers, index: seen})
            assert np.abs(expected - chance).max() < 1e-7
            assert abs((told.yes[index] if seen else 1 - told.yes[index]) - evidence / whole) < 1e-9
        assert told.asking[index] >= 0


def test_sampling_is_as_near_as_it_says() -> None:
    within = 0
    for seed in range(20):
        network = small(seed)
        answers = {0: True, 1: True, 3: False}
        found = _sampled(network, [0, 1], [3], np.zeros(7, dtype=bool))
        within += bool(np.abs(found.chance - enumerated(network, answers)[0]).max() < found.error)
    assert within >= 19


def quickscore(network: Network, yes: list[int], no: list[int]) -> np.ndarray:
    """Heckerman's sum in numbers of 60 digits, so that nothing cancels away."""
    with localcontext(prec=60):
        wide = np.vectorize(Decimal, otypes=[object])
        prior, absent, silent = wide(network.prior), 1 - wide(network.weight), 1 - wide(network.leak)
        terms, there = np.array([Decimal(1)]), (prior * np.prod(absent[:, no], axis=1))[None, :]
        for index in yes:
            terms = np.concatenate((terms, -terms * silent[index]))
            there = np.concatenate((there, there * absent[:, index]))
        whole = there + 1 - prior
        parts = terms * np.prod(whole, axis=1)
        return ((parts[:, None] * there / whole).sum(axis=0) / parts.sum()).astype(float)


@pytest.mark.parametrize("seed", range(6))
def test_beyond_the_exact_the_stated_error_holds(seed: int) -> None:
    """Twelve yeses, most of them of one machine and some of none."""
    network, draw = lighthouse_setting().network, np.random.default_rng(seed)
    causes = draw.choice(len(network.prior), size=3, replace=False)
    shown = 1 - (1 - network.leak) * np.prod(1 - network.weight[causes], axis=0)
    order = draw.permutation(len(shown) - 1)
    yes = [int(index) for index in sorted(order, key=lambda index: draw.random() > shown[index])][: MOST_EXACT + 1]
    no = [int(index) for index in order if index not in yes][:5]
    found = believe(network, dict.fromkeys(yes, True) | dict.fromkeys(no, False))
    assert not found.exact
    assert found.error < 0.3
    assert np.abs(found.chance - quickscore(network, yes, no)).max() < found.error


def test_answers_that_exclude_each_other_are_told_and_the_later_counts() -> None:
    case = Case(lighthouse_setting()).answered("lamp-dark", True).answered("screen-black", True)
    assert not case.excluded
    other = next(
        observation.id
        for observation in case.fault_model.observations
        if observation.group == "lamp" and observation.id != "lamp-dark"
    )
    both = case.answered(other, True)
    assert [(first.id, later.id) for first, later in both.excluded] == [("lamp-dark", other)]
    assert "lamp-dark" not in dict(both.counted)
    assert both.answered("lamp-dark", False).excluded == ()


def test_answers_that_no_cause_explains_still_rank_causes() -> None:
    fault_model = lighthouse_setting()
    sure = replace(fault_model.network, leak=np.zeros_like(fault_model.network.leak))
    case = Case(replace(fault_model, network=sure))
    for observation in fault_model.observations[:9]:
        case = case.answered(observation.id, observation.kind != "symptom")
    assert np.all(np.isfinite(case.belief().chance))


def test_many_yeses_are_sampled_and_say_so() -> None:
    fault_model = lighthouse_setting()
    found = believe(fault_model.network, dict.fromkeys(range(MOST_EXACT + 4), True))
    assert 0 < found.error < 1
    assert np.all((found.chance >= 0) & (found.chance <= 1))


def test_false_answers_are_allowed_for() -> None:
    """One answer against a cause does not rule it out."""
    network = Network(np.array([0.1, 0.1]), np.array([[1.0, 0.0], [0.0, 1.0]]), np.array([0.0, 0.0]))
    heard = network.heard(0.05)
    assert believe(heard, {0: False}).chance[0] == pytest.approx(0.1 * 0.05 / (0.1 * 0.05 + 0.9 * 0.95), rel=1e-9)
    with pytest.raises(ValueError, match="contradict"):
        _sampled(Network(np.array([0.5]), np.array([[0.0]]), np.array([0.0])), [0], [], np.zeros(1, dtype=bool))


@pytest.mark.parametrize("rate", [0.0, 0.05, 0.3, 0.5])
def test_a_false_answer_turns_each_chance_round(rate: float) -> None:
    """A share of all answers is the other one: with no cause, and with one at a time, exactly."""
    network = small(3)
    heard = network.heard(rate)

    def told(chance: np.ndarray) -> np.ndarray:
        return (1 - rate) * chance + rate * (1 - chance)

    assert heard.leak == pytest.approx(told(network.leak), abs=1e-12)
    for cause in range(5):
        alone = 1 - (1 - network.weight[cause]) * (1 - network.leak)
        silent = (1 - heard.weight[cause]) * (1 - heard.leak)
        assert 1 - silent == pytest.approx(told(alone), abs=1e-12)


def test_answers_are_exact_up_to_the_bound_and_sampled_beyond() -> None:
    network = small(7, causes=4, observations=MOST_EXACT + 1)
    network = Network(network.prior, network.weight, np.full(MOST_EXACT + 1, 0.3))
    assert believe(network, dict.fromkeys(range(MOST_EXACT), True)).exact
    assert not believe(network, dict.fromkeys(range(MOST_EXACT + 1), True)).exact


def test_what_cancels_away_is_sampled_and_its_error_is_that_of_equal_samples() -> None:
    """Eleven yeses that nothing explains but a leak of a hundredth: their sum loses all digits. No cause has to do with
    them, so samples weigh the same: three standard errors of a mean, or 1/sqrt(n) where that is more."""
    prior = np.array([2e-4, 3e-4])
    network = Network(prior, np.zeros((2, MOST_EXACT)), np.full(MOST_EXACT, 0.01))
    found = believe(network, dict.fromkeys(range(MOST_EXACT), True))
    assert not found.exact
    assert found.error == pytest.approx(1 / np.sqrt(len(found.terms)), rel=0.01)
    assert np.abs(found.chance - prior).max() < found.error


def test_gains_after_sampling_are_near_those_of_the_exact() -> None:
    network, answers = small(11), {0: True, 3: False}
    exact = gains(believe(network, answers))
    taken = np.zeros(7, dtype=bool)
    taken[[0, 3]] = True
    near = gains(_sampled(network, [0], [3], taken))
    assert near.yes == pytest.approx(exact.yes, abs=0.03)
    assert near.asking == pytest.approx(exact.asking, abs=0.05)
    assert near.trying == pytest.approx(exact.trying, abs=0.08)
    assert near.no_chance[1] == pytest.approx(exact.no_chance[1], abs=0.05)
    assert near.yes_chance[1] == pytest.approx(exact.yes_chance[1], abs=0.08)


# --- the data --------------------------------------------------------------------------------------------------------


def test_the_network_is_as_large_as_it_says_and_whole() -> None:
    assert len(CAUSES) >= 80
    assert len(OBSERVATIONS) >= 60
    known, states = {observation.id for observation in OBSERVATIONS}, set(Lamps.model_fields)
    for cause in CAUSES:
        names = [what for what, _chance, _why in cause.shows]
        assert len(set(names)) == len(names), cause.id
        for what, _chance, why in cause.shows:
            assert what in known or (what.startswith("lamp:") and what[5:] in states), (cause.id, what)
            assert why, (cause.id, what)
    shown = {what for cause in CAUSES for what, _chance, _why in cause.shows}
    assert {observation.id for observation in OBSERVATIONS if not observation.id.startswith("lamp-")} <= shown
    assert all(observation.how for observation in OBSERVATIONS if observation.kind == "check")


def test_the_codes_of_causes_are_spoken_by_findings_failures_or_logs() -> None:
    source = Path(__file__).parent.parent / "src" / "kyklon" / "operations"
    text = "".join(path.read_text(encoding="utf-8") for path in source.rglob("*.py"))
    logs = {each.code for each in PARTS.all(LogPattern)}
    for cause in CAUSES:
        for code in cause.codes:
            assert code in logs or f'"{code}' in text, (cause.id, code)


@pytest.mark.parametrize("make", [lighthouse, camper, school_fair], ids=["table", "console", "micro"])
def test_a_build_meets_only_what_it_can_have(make) -> None:
    build = make.build() if make is school_fair else make.build(PARTS, "0" * 64)
    fault_model, words = fault_model_of(build, PARTS), words_of(build, PARTS)
    assert len(fault_model.causes) > 30
    assert all(words >= set(each.when) for each in (*fault_model.causes, *fault_model.observations))


# --- the finder ------------------------------------------------------------------------------------------------------


def test_the_boards_own_lamp_tells_its_rhythms_apart() -> None:
    case = Case(lighthouse_setting()).answered("lamp-paired", True).answered("screen-black", True)
    first = likely(case, case.belief())[0]
    assert first.cause.id in ("card-missing", "table-damaged", "card-dirty")
    assert any("pairs" in reason.text and reason.times > 1 for reason in first.reasons)


def test_what_is_foretold_outweighs_all_else(demo: Demo) -> None:
    findings = inspection.inspect(demo.build, PARTS, World())
    case = Case(fault_model_of(demo.build, PARTS, findings)).answered("screen-black", True)
    assert likely(case, case.belief())[0].cause.id == "kernel-missing"


def test_thirty_answers_leave_a_belief_that_adds_up() -> None:
    case = Case(lighthouse_setting())
    for index, each in enumerate(case.fault_model.observations[:30]):
        case = case.answered(each.id, index % 5 == 0)
        assert all(step.minutes > 0 for step in steps(case, case.belief()))
        chance = case.belief().chance
        assert np.all((chance >= 0) & (chance <= 1))
        assert chance.sum() > 1 - 1e-3  # it fails, so one cause at least is there


def test_a_tried_cause_is_out_and_the_finder_comes_to_an_end() -> None:
    case = Case(lighthouse_setting())
    for _ in range(len(case.fault_model.causes) + len(case.fault_model.observations)):
        step = next_step(case)
        if step is None:
            break
        assert step.minutes > 0
        case = (
            case.answered(step.id, False)
            if step.kind != "try"
            else Case(case.fault_model, case.answers, (*case.tried, step.id), case.found)
        )
    assert next_step(case) is None


def test_what_the_user_cannot_do_is_not_asked_again() -> None:
    case = Case(lighthouse_setting())
    first = next_step(case)
    assert next_step(case, without=frozenset({first.id})).id != first.id


def test_the_case_is_kept_in_the_build_and_told_in_words(demo: Demo) -> None:
    record = answered(answered(FaultCase(), "screen-black", True), "lamp-dark", False)
    assert [answer.what for answer in answered(record, "screen-black", False).answers] == ["lamp-dark", "screen-black"]
    assert len(without_last(record).answers) == 1
    assert put_aside(record, "volts-low").cannot == ("volts-low",)
    record = tried(tried(record, "supply-dead", helped=False), "card-missing", helped=True)
    told = path_of(record, PARTS)
    assert "Yes: The screen stays black" in told
    assert told.endswith("Found: No card inserted, or not fully inserted")
    case = case_of(demo.build, PARTS, (), None, record)
    assert case.belief().chance[case.fault_model.cause_index("supply-dead")] < 1e-3


def test_what_was_found_before_counts_the_next_time(tmp_path: Path) -> None:
    path = tmp_path / "cures.json"
    assert cures.cured(path) == {}
    for _ in range(3):
        cures.remember(path, "card-worn")
    assert cures.cured(path) == {"card-worn": 3}
    before, after = (Case(lighthouse_setting(cured=each)) for each in ({}, cures.cured(path)))
    index = before.fault_model.cause_index("card-worn")
    assert after.belief().chance[index] > 2 * before.belief().chance[index]
    path.write_text('{"found": {"card-worn": "many"}}', encoding="utf-8")
    assert cures.cured(path) == {}


# --- drills ----------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def every_machine(demo_master: Path):
    """Each set of causes of each drill, hidden in a copy of the demo; and what is left of it."""
    from kyklon.record import folder as store

    build = store.load(demo_master).build
    fault_model = fault_model_of(build, PARTS)
    sets = [
        fault
        for drill in PARTS.all(Drill)
        for fault in drill.faults
        if all(fault_model.cause_index(c) is not None for c in fault)
    ]
    wanted = list(dict.fromkeys([*sets, *((name,) for each in sets for name in each)]))
    return (
        build,
        fault_model,
        {machine.causes: machine for machine in machines(wanted, build, demo_master, PARTS, fault_model)},
    )


def made_of(every, faults: tuple[str, ...]):
    return tuple(every[each] for each in (faults, *(((name,) for name in faults) if len(faults) > 1 else ())))


def test_twenty_drills_and_each_is_solved_by_the_finder_alone(every_machine) -> None:
    """Within half of the minutes that trying by prior alone takes, over all that can be hidden."""
    _build, fault_model, every = every_machine
    order = np.argsort(-fault_model.network.prior)
    finder = prior = 0.0
    assert [each.level for each in drills.drills(PARTS)] == list(range(1, 21))
    for drill in drills.drills(PARTS):
        for faults in drill.faults:
            made = made_of(every, faults)
            minutes = solved_by_finder(fault_model, made)
            assert 0 < minutes < 90, (drill.level, faults)
            finder += minutes
            wanted = {fault_model.cause_index(name) for name in faults}
            for index in order:
                prior += fault_model.causes[index].minutes
                wanted.discard(int(index))
                if not wanted:
                    break
    assert finder <= prior / 2


def test_faults_in_bytes_show_what_a_forecast_of_those_bytes_shows(every_machine) -> None:
    _build, _setting, every = every_machine
    assert set(BREAKS) <= {name for causes in every for name in causes}
    for causes, screen in (
        ("root-not-named", "screen-panic"),
        ("root-nowhere", "screen-waits"),
        ("kernel-missing", "screen-black"),
        ("user-missing", "screen-login"),
        ("out-of-range", "screen-range"),
    ):
        truth = every[(causes,)].truth
        assert [name for name in truth if name.startswith("screen-") and truth[name]] == [screen], causes


def test_of_two_faults_the_second_shows_once_the_first_is_put_right(demo: Demo, every_machine) -> None:
    build, fault_model, every = every_machine
    drill = next(each for each in PARTS.all(Drill) if each.level == 18)
    kept = next(
        drills.Open(drill=drill.id, seed=str(seed))
        for seed in range(99)
        if hidden_in(drill, str(seed), fault_model) == ("root-nowhere", "front-end-unlisted")
    )
    state = drills.state_of(
        kept, build, demo.folder, PARTS, made=made_of(every, ("root-nowhere", "front-end-unlisted"))
    )
    seen = dict(state.case.answers)
    assert seen["screen-waits"]
    assert not seen["screen-login"]
    state = checked(state, "log-root")
    state = tried_in_drill(state, "root-not-named")
    assert not state.found
    state = tried_in_drill(state, "root-nowhere")
    assert state.found == ("root-nowhere",)
    assert dict(state.case.answers)["screen-login"]
    state = tried_in_drill(state, "front-end-unlisted")
    assert state.solved
    assert state.score < 100
    assert {step.kind for step in offered(state)} <= {"ask", "check", "try"}
    again = drills.state_of(state.kept, build, demo.folder, PARTS, made=state.machines)
    assert (again.minutes, again.found, again.solved) == (state.minutes, state.found, True)
    with pytest.raises(WrongUse, match=r"[Uu]nknown check"):
        checked(state, "nothing")


def test_a_drill_leaks_nothing_of_its_fault(demo: Demo, tmp_path: Path) -> None:
    """Neither in what is kept, nor in the build's folder, its findings, or its logbook."""
    before = sorted((path, path.read_bytes()) for path in demo.folder.rglob("*") if path.is_file())
    kept = drills.begin(drills.by_level(PARTS, 4))
    state = drills.state_of(kept, demo.build, demo.folder, PARTS)
    path = tmp_path / "drills.json"
    drills.save(path, drills.DrillFile(open=state.kept))
    assert not any(cause.id in path.read_text(encoding="utf-8") for cause in CAUSES)
    assert sorted((each, each.read_bytes()) for each in demo.folder.rglob("*") if each.is_file()) == before
    assert drills.ended(path, state).solved == 1
    assert drills.read(path).open is None
    path.write_text(json.dumps({"progress": 3}), encoding="utf-8")
    with pytest.raises(KyklonError, match="Move it away"):
        drills.read(path)


def test_a_level_that_this_build_cannot_have_says_so() -> None:
    micro = school_fair.build()
    drill = next(each for each in PARTS.all(Drill) if each.level == 18)
    with pytest.raises(WrongUse, match="needs parts"):
        hidden_in(drill, "0", fault_model_of(micro, PARTS))
    with pytest.raises(WrongUse, match="1 to 20"):
        drills.by_level(PARTS, 21)
