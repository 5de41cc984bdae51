"""Which cause is likely and why, and which step is worth its minutes.

The next step is the one that tells most bits a minute, risk counted as minutes: a question, a check, or trying a cause
by putting it right.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from kyklon.catalogue.fault_records import Cause, Observation
from kyklon.faults.fault_model import FaultModel, Reason
from kyklon.faults.network import Belief, Floats, Gains, Network, believe, gains

_FEW, _FEW_SHARE = 5, 0.02  # causes that have at least that share of the chance
LEAST_MINUTES = 0.5  # that a question takes to read, think and answer, CP
_SURPRISE = (
    1e-6  # chance that an answer comes which no cause explains, or that a cause does not show what it always shows
)
_TRIED_LEFT = 1e-6  # chance of a cause that was put right and did not help


@dataclass(frozen=True)
class Case:
    """What is known of one fault. answers: observation ids with what was answered, in order. tried: causes that were
    put right without the fault going away. found: causes that were there and are put right."""

    fault_model: FaultModel
    answers: tuple[tuple[str, bool], ...] = ()
    tried: tuple[str, ...] = ()
    found: tuple[str, ...] = ()

    def answered(self, what: str, seen: bool) -> Case:
        rest = tuple(answer for answer in self.answers if answer[0] != what)
        return replace(self, answers=(*rest, (what, seen)))

    @property
    def network(self) -> Network:
        """The fault model's, without the causes that are out of question."""
        prior = self.fault_model.network.prior.copy()
        for cause in (*self.tried, *self.found):
            if (index := self.fault_model.cause_index(cause)) is not None:
                prior[index] = _TRIED_LEFT
        return replace(self.fault_model.network, prior=prior)

    @property
    def excluded(self) -> tuple[tuple[Observation, Observation], ...]:
        """Yeses of which only one can be so, the earlier first; the later one counts."""
        yes = [
            self.fault_model.observations[index]
            for what, seen in self.answers
            if seen and (index := self.fault_model.index_of(what)) is not None
        ]
        last = {each.group: each for each in yes if each.group}
        return tuple((each, last[each.group]) for each in yes if each.group and each is not last[each.group])

    @property
    def counted(self) -> tuple[tuple[str, bool], ...]:
        """The answers without those that a later one excludes."""
        gone = {earlier.id for earlier, _later in self.excluded}
        return tuple((what, seen) for what, seen in self.answers if what not in gone)

    @property
    def known(self) -> dict[int, bool]:
        """Answers by index; those that this build cannot have are passed over."""
        found = {self.fault_model.index_of(what): seen for what, seen in self.counted}
        failing = {len(self.fault_model.observations): True}
        return failing | {index: seen for index, seen in found.items() if index is not None}

    def belief(self) -> Belief:
        return believe(_allowing(self.network), self.known)


def _allowing(network: Network) -> Network:
    """Nothing in it is quite certain, so that any answers can come together."""
    return replace(network, weight=np.minimum(network.weight, 1 - _SURPRISE), leak=np.maximum(network.leak, _SURPRISE))


def excluding(pair: tuple[Observation, Observation]) -> str:
    """What is told of two answers of which only one can be so."""
    earlier, later = pair
    return f"“{earlier.name}” and “{later.name}” cannot both be true: the later answer counts."


@dataclass(frozen=True)
class Likely:
    """A cause with its chance and what speaks for and against it, strongest first."""

    cause: Cause
    chance: float
    reasons: tuple[Reason, ...]


@dataclass(frozen=True)
class Next:
    """What to do next. kind: ask (a symptom or a change), check, or try (put a cause right and see). minutes with the
    risk's; bits: what it is expected to tell. yes: the chance of a yes. score: as scores() has it."""

    kind: Literal["ask", "check", "try"]
    id: str
    minutes: float
    risk: float
    bits: float
    yes: float
    score: float
    observation: Observation | None = None
    cause: Cause | None = None


def likely(case: Case, belief: Belief, most: int = 8) -> tuple[Likely, ...]:
    """The likeliest causes, with their reasons."""
    order = np.argsort(-belief.chance)[:most]
    return tuple(
        Likely(case.fault_model.causes[index], float(belief.chance[index]), _reasons(case, int(index)))
        for index in order
    )


def _reasons(case: Case, index: int) -> tuple[Reason, ...]:
    """By how much each answer changed the odds of a cause against the others, strongest first."""
    fault_model, network = case.fault_model, case.fault_model.network
    cause = fault_model.causes[index]
    first = believe(network, {len(fault_model.observations): True}).chance
    usual = 1 - (1 - network.leak) * np.prod(1 - first[:, None] * network.weight, axis=0)
    found = list(fault_model.reasons.get(cause.id, ()))
    for what, seen in case.counted:
        at = fault_model.index_of(what)
        if at is None:
            continue
        alone = 1 - (1 - network.leak[at]) * (1 - network.weight[index, at])
        times = alone / usual[at] if seen else (1 - alone) / (1 - usual[at])
        observation = fault_model.observations[at]
        remark = fault_model.remarks.get((cause.id, what), "")
        word = observation.name if seen else f"Not: {observation.name}"
        found.append(Reason(float(times), f"{word}{f' ({remark})' if remark else ''}."))
    return tuple(sorted(found, key=lambda each: -abs(np.log(max(each.times, 1e-9)))))


def steps(case: Case, belief: Belief | None = None, without: frozenset[str] = frozenset()) -> tuple[Next, ...]:
    """Every step that can be taken, the best first. without: what the user does not have or cannot tell."""
    belief = belief or case.belief()
    told, fault_model = gains(belief), case.fault_model
    taken = {what for what, _seen in case.answers}
    groups = {
        observation.group
        for observation in fault_model.observations
        for what, seen in case.answers
        if observation.id == what and seen and observation.group
    }
    gone = {*case.tried, *case.found, *without}
    asked = [
        observation.id in taken or observation.id in without or (observation.group and observation.group in groups)
        for observation in fault_model.observations
    ]
    ask_minutes = np.array(
        [np.inf if out else cost_of(each) for out, each in zip(asked, fault_model.observations, strict=True)] + [np.inf]
    )
    try_minutes = np.array([np.inf if cause.id in gone else cause.minutes for cause in fault_model.causes])
    ask, attempt = scores(told, belief.chance, ask_minutes, try_minutes)
    found = []
    for index, each in enumerate(fault_model.observations):
        if asked[index]:
            continue
        kind: Literal["ask", "check"] = "check" if each.kind == "check" else "ask"
        found.append(
            Next(
                kind,
                each.id,
                each.minutes,
                each.risk,
                float(told.asking[index]),
                float(told.yes[index]),
                float(ask[index]),
                observation=each,
            )
        )
    for index, cause in enumerate(fault_model.causes):
        if cause.id in gone:
            continue
        found.append(
            Next(
                "try",
                cause.id,
                cause.minutes,
                0.0,
                float(told.trying[index]),
                float(belief.chance[index]),
                float(attempt[index]),
                cause=cause,
            )
        )
    return tuple(sorted(found, key=lambda step: (-step.score, step.minutes, step.id)))


def next_step(case: Case, belief: Belief | None = None, without: frozenset[str] = frozenset()) -> Next | None:
    """The best step, None when nothing is left to ask or to try."""
    found = steps(case, belief, without)
    return found[0] if found else None


def cost_of(observation: Observation) -> float:
    """Minutes of asking it, risk included."""
    return max(LEAST_MINUTES, observation.minutes) + observation.risk


def scores(told: Gains, chance: Floats, ask_minutes: Floats, try_minutes: Floats) -> tuple[Floats, Floats]:
    """How good each question and each try is, the larger the better; minutes of what is out of question: inf.

    While many causes are open, bits a minute. Among a few, minutes saved a minute against trying them one after the
    other, the best of which counts 1: that is what is really wanted, and within reach of one look ahead.
    """
    open_ = np.where(np.isfinite(try_minutes), chance, 0.0)
    if (open_ > _FEW_SHARE * max(open_.sum(), 1e-12)).sum() > _FEW:
        return _possible(told.asking / ask_minutes, ask_minutes), _possible(
            (told.trying + 1e-9 * chance) / try_minutes, try_minutes
        )
    after = (1 - told.yes) * _one_by_one(told.no_chance, try_minutes)
    after += told.yes * _one_by_one(told.yes_chance, try_minutes)
    saved = (float(_one_by_one(chance, try_minutes)) - after) / ask_minutes
    rate = open_ / try_minutes
    return _possible(saved, ask_minutes), _possible(rate / max(float(rate.max()), 1e-300), try_minutes)


def _possible(score: Floats, minutes: Floats) -> Floats:
    """What is out of question is never the best."""
    return np.where(np.isfinite(minutes), score, -np.inf)


def _one_by_one(chance: Floats, minutes: Floats) -> Floats:
    """Expected minutes when causes are tried in the best order, chance by minutes, one of them there. chance: (...,
    n)."""
    there = np.isfinite(minutes)
    own, cost = chance[..., there], minutes[there]
    own = own / np.maximum(own.sum(axis=-1, keepdims=True), 1e-12)
    order = np.argsort(-own / cost, axis=-1)
    return np.asarray((np.take_along_axis(own, order, -1) * np.cumsum(cost[order], axis=-1)).sum(axis=-1))


def choose(told: Gains, chance: Floats, ask_minutes: Floats, try_minutes: Floats) -> tuple[bool, int]:
    """The best step over plain numbers: whether to try, and the index."""
    ask, attempt = scores(told, chance, ask_minutes, try_minutes)
    best_ask, best_try = int(np.argmax(ask)), int(np.argmax(attempt))
    return (True, best_try) if attempt[best_try] >= ask[best_ask] else (False, best_ask)
