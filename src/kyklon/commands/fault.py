"""The fault finder and its drills."""

from __future__ import annotations

from difflib import get_close_matches
from typing import TYPE_CHECKING, Annotated, Any

from kyklon.base.errors import WrongUse
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, Folder, Json, open_folder, out
from kyklon.commands.targets import written_card
from kyklon.model.world import World

if TYPE_CHECKING:
    from kyklon.faults.finder import Likely, Next

Saw = Annotated[list[str] | None, Option("--saw", help="Something that is so; again, or with commas, for more.")]
Not = Annotated[list[str] | None, Option("--not", help="Something that is not so.")]
Tried = Annotated[list[str] | None, Option("--tried", help="A cause that was put right without help.")]


def fault(
    folder: Folder,
    saw: Saw = None,
    not_: Not = None,
    tried: Tried = None,
    card: Annotated[str, Option("--card", help="A card to foretell from, too.")] = "",
    codes: Annotated[bool, Option("--codes", help="List what can be seen, with its code.")] = False,
    as_json: Json = False,
) -> int:
    """Say why a machine fails, and what to check next.

    Without --saw and --not: what the build's own case says. --codes lists what can be seen.
    """
    from kyklon.faults.acts import case_of
    from kyklon.faults.finder import likely, steps
    from kyklon.model.fault import FaultAnswer, FaultCase
    from kyklon.operations import inspection

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
    findings = inspection.inspect(build, parts, world)
    case = case_of(build, parts, findings, run, record)
    if codes:
        return _listed(case.setting.observations, as_json)
    _known(case, (*yes, *no), gone)
    belief = case.belief()
    ranked, ways = likely(case, belief), steps(case, belief)[:5]
    data = {"causes": [_cause(each) for each in ranked], "next": [_step(each) for each in ways], "error": belief.error}
    out(data, as_json, lambda: _lines(ranked, ways, belief.error))
    return OK


def _words(given: list[str] | None) -> tuple[str, ...]:
    """Codes, however they were strung together."""
    return tuple(word for each in given or () for word in each.replace(",", " ").split())


def _known(case: Any, seen: tuple[str, ...], causes: tuple[str, ...]) -> None:
    """Raise WrongUse for a code that this build cannot have."""
    observations = [each.id for each in case.setting.observations]
    for each in seen:
        if each not in observations:
            raise WrongUse(
                f"Nothing is called {each!r} here.{_near(each, observations)}", do="--codes lists what can be seen."
            )
    names = [each.id for each in case.setting.causes]
    for each in causes:
        if each not in names:
            raise WrongUse(f"No cause is called {each!r} here.{_near(each, names)}")


def _near(word: str, known: list[str]) -> str:
    found = get_close_matches(word, known, 1)
    return f" Did you mean {found[0]}?" if found else ""


def _listed(observations: tuple[Any, ...], as_json: bool) -> int:
    data = [{"code": each.id, "kind": each.kind, "ask": each.ask, "minutes": each.minutes} for each in observations]
    out(data, as_json, lambda: [f"{each.id:22} {each.kind:8} {each.ask}" for each in observations])
    return OK


def _cause(each: Likely) -> dict[str, Any]:
    cause = each.cause
    return {"code": cause.id, "name": cause.name, "chance": round(each.chance, 4), "try": cause.try_,
            "minutes": cause.minutes, "operation": cause.operation, "caution": cause.caution,
            "why": [{"times": round(reason.times, 3), "text": reason.text} for reason in each.reasons]}  # fmt: skip


def _step(each: Next) -> dict[str, Any]:
    own = each.observation or each.cause
    assert own is not None
    return {"kind": each.kind, "code": each.id, "minutes": each.minutes, "risk": each.risk, "bits": round(each.bits, 3),
            "yes": round(each.yes, 3), "ask": each.observation.ask if each.observation else "",
            "how": each.observation.how if each.observation else each.cause.try_ if each.cause else "",
            "needs": own.needs, "caution": own.caution}  # fmt: skip


def _lines(ranked: tuple[Likely, ...], ways: tuple[Next, ...], error: float) -> list[str]:
    told = ["Likely:"]
    for each in ranked:
        if each.chance >= 0.01:
            told.append(f"  {each.chance:4.0%}  {each.cause.name}")
            told += [f"          {reason.text}" for reason in each.reasons[:3] if reason.times != 1]
    told += [f"  Sampled: ± {error:.0%}."] if error else []
    told.append("Next:")
    for step in ways:
        own = step.observation.ask if step.observation else f"Try: {step.cause.try_}" if step.cause else ""
        told.append(f"  {step.minutes:4.1f} min  {own}  ({step.id})")
        if step.observation and step.observation.how:
            told.append(f"            {step.observation.how}")
        caution = (step.observation or step.cause).caution  # type: ignore[union-attr]
        told += [f"            Caution: {caution}"] if caution else []
    return told
