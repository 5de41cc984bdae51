"""The fault finder and its drills."""

from __future__ import annotations

from difflib import get_close_matches
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base.errors import WrongUse
from kyklon.base.quantities import show_minutes, show_probability, show_share
from kyklon.commands.line import Argument, Option
from kyklon.commands.shared import OK, Folder, Json, catalogue, open_folder, out
from kyklon.commands.targets import written_card
from kyklon.faults.finder import excluding, likely, steps
from kyklon.model.fault import FaultAnswer, FaultCase
from kyklon.model.world import World
from kyklon.parts.view import inspect

if TYPE_CHECKING:
    from kyklon.faults.drills import State
    from kyklon.faults.finder import Likely, Next

Saw = Annotated[list[str] | None, Option("--saw", help="Symptom you see; repeatable, or comma-separated.")]
Not = Annotated[list[str] | None, Option("--not", help="Symptom you do not see.")]
Tried = Annotated[list[str] | None, Option("--tried", help="A cause you fixed, with the fault still there.")]


def fault(
    folder: Folder,
    saw: Saw = None,
    not_: Not = None,
    tried: Tried = None,
    card: Annotated[str, Option("--card", help="Card to predict from as well.")] = "",
    codes: Annotated[bool, Option("--codes", help="List all symptoms with their codes.")] = False,
    as_json: Json = False,
) -> int:
    """Find out why a machine fails and what to check next.

    Without --saw and --not: what the build's own case says. --codes lists all symptoms.
    """
    from kyklon.faults.acts import case_of

    build, parts = open_folder(folder)
    world, run = World(), None
    if card:
        from kyklon.operations.poweron.acts import foretell

        world, run = foretell(build, folder, parts, written_card(card, folder).path)
    yes, no, gone = _words(saw), _words(not_), _words(tried)
    answers = (
        *(FaultAnswer(what=each, seen=True) for each in yes),
        *(FaultAnswer(what=each, seen=False) for each in no),
    )
    record = FaultCase(answers=answers, tried=gone) if answers or gone else None
    findings = inspect(build, parts, world)
    case = case_of(build, parts, findings, run, record)
    if codes:
        return _listed(case.fault_model.observations, as_json)
    _known(case, (*yes, *no), gone)
    if both := set(yes) & set(no):
        raise WrongUse(f"{min(both)} cannot be both true and false.", do="Give it to --saw or to --not.")
    belief = case.belief()
    ranked, ways = likely(case, belief), steps(case, belief)[:5]
    told = [excluding(pair) for pair in case.excluded]
    data = {
        "causes": [_cause(each) for each in ranked],
        "next": [_step(each) for each in ways],
        "error": belief.error,
        "told": told,
    }
    out(data, as_json, lambda: [*told, *_lines(ranked, ways, belief.error)])
    return OK


def _words(given: list[str] | None) -> tuple[str, ...]:
    """Codes, however they were strung together."""
    return tuple(word for each in given or () for word in each.replace(",", " ").split())


def _known(case: Any, seen: tuple[str, ...], causes: tuple[str, ...]) -> None:
    """Raise WrongUse for a code that this build cannot have."""
    observations = [observation.id for observation in case.fault_model.observations]
    for each in seen:
        if each not in observations:
            raise WrongUse(
                f"Unknown symptom or check: {each!r}.{_near(each, observations)}", do="--codes lists all symptoms."
            )
    names = [cause.id for cause in case.fault_model.causes]
    for cause in causes:
        if cause not in names:
            raise WrongUse(f"Unknown cause: {cause!r}.{_near(cause, names)}")


def _near(word: str, known: list[str]) -> str:
    found = get_close_matches(word, known, 1)
    return f" Did you mean {found[0]}?" if found else ""


def _listed(observations: tuple[Any, ...], as_json: bool) -> int:
    data = [
        {"code": observation.id, "kind": observation.kind, "ask": observation.ask, "minutes": observation.minutes}
        for observation in observations
    ]
    out(
        data,
        as_json,
        lambda: [f"{observation.id:22} {observation.kind:8} {observation.ask}" for observation in observations],
    )
    return OK


def _cause(each: Likely) -> dict[str, Any]:
    cause = each.cause
    return {
        "code": cause.id,
        "name": cause.name,
        "chance": round(each.chance, 4),
        "try": cause.try_,
        "minutes": cause.minutes,
        "operation": cause.operation,
        "caution": cause.caution,
        "why": [{"times": round(reason.times, 3), "text": reason.text} for reason in each.reasons],
    }


def _step(each: Next) -> dict[str, Any]:
    own = each.observation or each.cause
    assert own is not None
    return {
        "kind": each.kind,
        "code": each.id,
        "minutes": each.minutes,
        "risk": each.risk,
        "bits": round(each.bits, 3),
        "yes": round(each.yes, 3),
        "ask": each.observation.ask if each.observation else "",
        "how": each.observation.how if each.observation else each.cause.try_ if each.cause else "",
        "needs": own.needs,
        "caution": own.caution,
    }


def _lines(ranked: tuple[Likely, ...], ways: tuple[Next, ...], error: float) -> list[str]:
    told = ["Likely:"]
    for one in ranked:
        if one.chance >= 0.01:
            told.append(f"  {show_probability(one.chance):>9}  {one.cause.name}")
            told += [f"          {reason.text}" for reason in one.reasons[:3] if reason.times != 1]
    told += [f"  Sampled: ± {show_share(max(error, 0.01))}."] if error else []
    told.append("Next:")
    for step in ways:
        own = step.observation.ask if step.observation else f"Try: {step.cause.try_}" if step.cause else ""
        told.append(f"  {show_minutes(step.minutes):>6}  {own}  ({step.id})")
        if step.observation and step.observation.how:
            told.append(f"            {step.observation.how}")
        caution = (step.observation or step.cause).caution  # type: ignore[union-attr]
        told += [f"            Caution: {caution}"] if caution else []
    return told


def drill_list(as_json: Json = False) -> int:
    """List the exercises and your results."""
    from kyklon.faults import drills

    kept = drills.read(drills.file())
    under_way = kept.open.drill if kept.open else ""
    rows = [
        {
            "level": drill.level,
            "name": drill.name,
            "told": drill.told,
            "open": under_way == drill.id,
            "best": kept.progress.get(drill.id, drills.Progress()).best,
        }
        for drill in drills.drills(catalogue())
    ]

    def lines() -> list[str]:
        return [
            f"{row['level']:3}  {row['name']:26} {str(row['best']) + ' %' if row['best'] else '-':6} {row['told']}"
            for row in rows
        ]

    out(rows, as_json, lines)
    return OK


def drill_start(
    folder: Folder,
    level: Annotated[int, Argument(help="1 to 20.", metavar="LEVEL")],
    as_json: Json = False,
) -> int:
    """Start an exercise: a machine that fails.

    The fault is hidden in a copy of the build and its card; the build itself stays as it is.
    """
    from kyklon.faults import drills

    build, parts = open_folder(folder)
    drill = drills.by_level(parts, level)
    kept = drills.begin(drill)
    state = drills.state_of(kept, build, folder, parts)
    drills.save(drills.file(), drills.read(drills.file()).model_copy(update={"open": kept}))
    return _told(state, as_json)


def drill_answer(
    folder: Folder,
    what: Annotated[str, Argument(help="Check to make, or cause to fix.", metavar="CODE")],
    as_json: Json = False,
) -> int:
    """Check something in the exercise, or name its cause.

    Each costs its minutes. A cause that is named is put right; the machine then shows whether it was that.
    """
    from kyklon.faults import drills

    build, parts = open_folder(folder)
    path = drills.file()
    kept = drills.read(path)
    if kept.open is None:
        raise WrongUse("No exercise is open.", do="`kyklon drill start FOLDER LEVEL` starts one.")
    state = drills.state_of(kept.open, build, folder, parts)
    if state.fault_model.index_of(what) is not None:
        state = drills.checked(state, what)
    elif state.fault_model.cause_index(what) is not None:
        state = drills.tried(state, what)
    else:
        names = [each.id for each in (*state.fault_model.observations, *state.fault_model.causes)]
        raise WrongUse(f"Unknown symptom or check: {what!r}.{_near(what, names)}")
    if state.solved:
        drills.ended(path, state)
    else:
        drills.save(path, kept.model_copy(update={"open": state.kept}))
    return _told(state, as_json)


def _told(state: State, as_json: bool) -> int:
    """What is known in a drill, and what can be done."""
    from kyklon.faults import drills

    ways = drills.offered(state)
    names = {observation.id: observation.name for observation in state.fault_model.observations}
    seen = [names[what] for what, yes in state.case.answers if yes and what not in state.kept.asked]
    checks = [what for what, _yes in state.case.answers if what in state.kept.asked]
    data = {
        "level": state.drill.level,
        "told": state.drill.told,
        "minutes": state.minutes,
        "solved": state.solved,
        "score": state.score if state.solved else None,
        "best_minutes": state.best if state.solved else None,
        "seen": [what for what, yes in state.case.answers if yes],
        "found": list(state.found),
        "checked": {what: dict(state.case.answers)[what] for what in checks},
        "offered": [{"kind": step.kind, "code": step.id, "minutes": step.minutes + step.risk} for step in ways],
    }

    def lines() -> list[str]:
        told = [
            f"Level {state.drill.level}: {state.drill.name}. “{state.drill.told}”",
            f"{show_minutes(state.minutes)} spent.",
        ]
        told += [f"  {name}" for name in seen]
        told += [f"  {names[what]}: {'yes' if dict(state.case.answers)[what] else 'no'}" for what in checks]
        if state.solved:
            return [*told, f"Found. The best possible is {show_minutes(state.best)}: {state.score} %."]
        told += [f"Fixed: {', '.join(state.found)}; it still fails."] if state.found else []
        told.append("You can:")
        for step in ways:
            own = step.observation.ask if step.observation else f"Fixed: {step.cause.name}" if step.cause else ""
            told.append(f"  {show_minutes(step.minutes + step.risk):>6}  {step.id:22} {own}")
        return told

    out(data, as_json, lines)
    return OK
