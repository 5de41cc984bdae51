"""The guided proof of the wiring: which control to name next, and what the answers say.

The next control is the one whose answer is least certain (Lindley, Ann. Math. Stat. 27 (1956) 986); the causes are the
cheapest set of faults that gives every answer as it came.
"""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cached_property
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from kyklon.base.progress import UNWATCHED, Progress, Watch
from kyklon.model.controls import Proof
from kyklon.operations.controls.faulty import Fault, Pin, Plan, World, cost, single_faults, wide_faults
from kyklon.operations.controls.reports import Answer, Report

MOST_FAULTS = 5  # that are looked for at once
_WRONG = 0.02  # how much an answer that does not fit leaves of a single fault: several may be there
_TOUCHES = 7  # answers that one local fault changes at the most: a short on an axis that two players share
_MOST_WORLDS = 6_000  # hypotheses that are tried before it is given up, some seconds
_STEP = 100  # of them between two looks at whether it was cancelled

Act = tuple[str, ...]


@dataclass(frozen=True)
class Diagnosis:
    """faults: the cheapest set that explains all answers, None where none was found. others: sets that explain them as
    well, dearer ones last. told: acts whose answers no set explained."""

    faults: tuple[Fault, ...] | None
    others: tuple[tuple[Fault, ...], ...] = ()
    unexplained: tuple[str, ...] = ()

    @property
    def right(self) -> bool:
        return self.faults is not None and not self.faults


class Reasoner:
    """All that is worked out once for a plan: the single faults, what each would answer, and what each costs."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.acts = acts_of(plan)
        singles = single_faults(plan)
        places: dict[str, int] = {}
        for fault in singles:
            places[fault.kind] = places.get(fault.kind, 0) + 1
        self._places = places
        self.costs = {fault: cost(plan, fault, places) for fault in singles}
        self.wide = wide_faults(plan)
        self._wide = frozenset(self.wide)

    def price(self, fault: Fault) -> float:
        return self.costs.get(fault) or cost(self.plan, fault, self._places)

    @cached_property
    def _single(self) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """What each single fault, and none, answers to each act alone, as numbers; and how likely each is."""
        faults: list[tuple[Fault, ...]] = [(), *((cost,) for cost in self.costs)]
        table = np.zeros((len(faults), len(self.acts)), dtype=np.int64)
        self._numbers: list[dict[Answer, int]] = [{} for _act in self.acts]
        for row, each in enumerate(faults):
            world = World(self.plan, each)
            if row:
                table[row] = table[0]
            for column in self._changed(each[0]) if row else range(len(self.acts)):
                answer = world.answers((self.acts[column],))[0]
                table[row, column] = self._numbers[column].setdefault(answer, len(self._numbers[column]))
        weights = np.array([0.5, *(0.5 * np.exp(-price) for price in self.costs.values())])
        return table, weights

    def _changed(self, fault: Fault) -> Iterable[int]:
        """Places of the acts whose answers a fault can change: a local one those of its own switches, of whoever is on
        the same terminals, and of the other way of the same axes."""
        if fault in self._wide or fault.kind == "ghost":
            return range(len(self.acts))
        plan = self.plan
        pins = {plan.wires[control] for control in fault.controls if control in plan.wires}
        if fault.kind == "moved":
            role, _, terminal = fault.detail.partition("/")
            pins.add((role, terminal))
        near = set(fault.controls)
        for pin in pins:
            near |= self._axis_mates[pin]
        return [place for act_switch in near for place in self._places_of.get(act_switch, ())]

    @cached_property
    def _axis_mates(self) -> Mapping[Pin, frozenset[str]]:
        """For each terminal the switches that speak on it or on the same axis of its device, of any player."""
        owners: dict[tuple[str, str], set[str]] = {}
        for pin, report in self.plan.events.items():
            if pin in self.plan.owners:
                owners.setdefault((pin[0], report.event.rstrip("+-")), set()).add(self.plan.owners[pin])
        return {
            pin: frozenset(owners.get((pin[0], report.event.rstrip("+-")), ()))
            for pin, report in self.plan.events.items()
        }

    @cached_property
    def _places_of(self) -> Mapping[str, tuple[int, ...]]:
        found: dict[str, list[int]] = {}
        for place, act in enumerate(self.acts):
            for switch in act:
                found.setdefault(switch, []).append(place)
        return {switch: tuple(places) for switch, places in found.items()}

    def next_act(self, asked: Sequence[Act], answers: Sequence[Answer], skipped: Sequence[Act] = ()) -> Act | None:
        """The act whose answer is least certain, None when all were asked or skipped."""
        left = [act for act in self.acts if act not in asked and act not in skipped]
        left = [act for act in left if len(act) == 1] or left  # three at once tell nothing while one is in doubt
        if not left:
            return None
        table, weights = self._single
        weights = weights.copy()
        column_of = {act: column for column, act in enumerate(self.acts)}
        for act, answer in zip(asked, answers, strict=True):
            if act in column_of:
                number = self._numbers[column_of[act]].get(answer, -1)
                weights *= np.where(table[:, column_of[act]] == number, 1.0, _WRONG)
        weights /= weights.sum()
        entropies = []
        for act in left:
            chances = np.bincount(table[:, column_of[act]], weights=weights)
            chances = chances[chances > 0]
            entropies.append(-float((chances * np.log2(chances)).sum()))
        best = max(range(len(left)), key=lambda index: (round(entropies[index], 6), -index))
        return left[best]

    def explain(
        self, rest: frozenset[Report], acts: Sequence[Act], answers: Sequence[Answer], watch: Watch = UNWATCHED
    ) -> Diagnosis:
        """The cheapest set of faults that explains everything that was heard. Raises Cancelled."""
        told = _Told(rest, tuple(acts), tuple(answers))
        budget = _Budget(watch)
        for size in range(MOST_FAULTS + 1):
            found: dict[object, tuple[float, tuple[Fault, ...]]] = {}
            for wide in self._wides(size):
                for faults in self._local(wide, size - len(wide), told, budget):
                    priced = sum(map(self.price, faults)), faults
                    state = World(self.plan, faults).state
                    found[state] = min(found.get(state, priced), priced)
            if found:
                ordered = [faults for _price, faults in sorted(found.values())]
                return Diagnosis(ordered[0], tuple(ordered[1:6]))
            if budget.spent:
                break
        return Diagnosis(None, (), self._not_as_planned(told))

    def _wides(self, size: int) -> Iterator[tuple[Fault, ...]]:
        """Sets of faults that turn many switches, no two of one lever."""
        for count in range(min(size, 3) + 1):
            for chosen in combinations(self.wide, count):
                levers = [each.controls for each in chosen if each.kind in ("swapped", "rotated")]
                if len(levers) == len(set(levers)):
                    yield chosen

    def _local(self, faults: tuple[Fault, ...], more: int, told: _Told, budget: _Budget) -> Iterator[tuple[Fault, ...]]:
        """Sets that explain everything, with at most so many local faults more."""
        if not budget.take():
            return
        world = World(self.plan, faults)
        wrong = told.wrong(world)
        if not wrong:
            if more == 0:
                yield faults
            return
        if more <= 0 or len(wrong) > _TOUCHES * more:
            return
        seen: set[Fault] = set()
        single = [place for place in wrong if place < 0 or len(told.acts[place]) == 1]
        for fault in self._candidates(world, (single or wrong)[0], told):
            if fault not in faults and fault not in seen:
                seen.add(fault)
                yield from self._local((*faults, fault), more - 1, told, budget)

    def _candidates(self, world: World, place: int, told: _Told) -> Iterator[Fault]:
        """Local faults that could make the answer at a place what it was; place -1 is the rest."""
        plan = self.plan
        if place < 0:
            for report in sorted(told.rest ^ world.rest):
                for pin in plan.pins_of.get(report, ()):
                    if pin in plan.owners:
                        yield Fault("short", (plan.owners[pin],))
            return
        act, answer = told.acts[place], told.answers[place]
        expected = world.answers(told.acts[: place + 1])[place]
        if len(act) > 1:
            yield from (Fault("ghost", (), role) for role in sorted({plan.wires[each][0] for each in act}))
            return
        own = act[0]
        if answer.bounced and not expected.bounced:
            yield Fault("bounce", (own,))
        if answer.left and not expected.left:
            yield Fault("stuck", (own,))
        if answer.silent or not answer.down:
            yield Fault("open", (own,))
            for pin in sorted(world.dead):
                yield from self._on_pin(world, own, pin, told)
            end = world.wires.get(own)
            for pin in plan.pins_of.get(_opposite(plan.events[end]), ()) if end is not None else ():
                yield from self._bridge(world, own, pin)
        heard = (answer.down | answer.lost) - (expected.down | expected.lost)
        heard |= {_opposite(report) for report in answer.lost - expected.lost}  # it closed against what was held
        for pin in sorted({pin for report in heard for pin in plan.pins_of.get(report, ())}):
            yield from self._on_pin(world, own, pin, told)

    def _on_pin(self, world: World, own: str, pin: Pin, told: _Told) -> Iterator[Fault]:
        """How a switch comes to close a terminal that is not its own."""
        plan = self.plan
        now = {switch for switch, end in world.wires.items() if end == pin}
        holders = now | ({plan.owners[pin]} if pin in plan.owners else set())
        for other in sorted(holders - {own}):
            if not plan.same_side(own, other):
                yield Fault("crossed", tuple(sorted((own, other), key=plan.switches.index)))
            yield Fault("shared", (other, own))
        yield from self._bridge(world, own, pin)
        if not now:
            yield Fault("moved", (own,), "/".join(pin))

    def _bridge(self, world: World, own: str, pin: Pin) -> Iterator[Fault]:
        """A bridge from a switch's terminal to another: it joins two terminals, whoever is wired to them."""
        end, owners = world.wires.get(own), self.plan.owners
        if end is not None and end in owners and pin in owners and end != pin:
            yield Fault("bridged", tuple(sorted((owners[end], owners[pin]), key=self.plan.switches.index)))

    def _not_as_planned(self, told: _Told) -> tuple[str, ...]:
        wrong = told.wrong(World(self.plan))
        return tuple(" and ".join(told.acts[place]) for place in wrong if place >= 0)


class _Budget:
    """Hypotheses that may still be tried, told to whoever watches."""

    def __init__(self, watch: Watch) -> None:
        self._watch, self._used, self._begun = watch, 0, time.monotonic()

    @property
    def spent(self) -> bool:
        return self._used >= _MOST_WORLDS

    def take(self) -> bool:
        if self.spent:
            return False
        self._used += 1
        if self._used % _STEP == 0:
            self._watch.check()
            rate = self._used / max(1e-3, time.monotonic() - self._begun)
            left = (_MOST_WORLDS - self._used) / rate
            self._watch.sink(Progress("trying combinations", self._used, _MOST_WORLDS, rate, left, unit="sets"))
        return True


@dataclass(frozen=True)
class _Told:
    rest: frozenset[Report]
    acts: tuple[Act, ...]
    answers: tuple[Answer, ...]

    def wrong(self, world: World) -> list[int]:
        """Places of the answers that a world does not give; -1 for what is heard at rest."""
        found = [-1] if world.rest != self.rest else []
        for place, (said, expected) in enumerate(zip(self.answers, world.answers(self.acts), strict=True)):
            if said != expected:
                found.append(place)
        return found


def _opposite(report: Report) -> Report:
    """The other way of the same axis; a button is its own."""
    flipped = {"-": "+", "+": "-"}.get(report.event[-1])
    return report._replace(event=report.event[:-1] + flipped) if flipped else report


def acts_of(plan: Plan) -> tuple[Act, ...]:
    """Every wired switch alone, and for each device that is a matrix three switches that make three corners."""
    acts: list[Act] = [(switch,) for switch in plan.switches]
    for role in sorted({pin[0] for pin in plan.lines}):
        corners = _corners(plan, role)
        if corners:
            acts.append(corners)
    return tuple(acts)


def _corners(plan: Plan, role: str) -> Act | None:
    """Three wired switches of a matrix whose fourth corner is a terminal too."""
    own = {plan.lines[pin]: switch for switch, pin in plan.wires.items() if pin in plan.lines and pin[0] == role}
    every = {line for pin, line in plan.lines.items() if pin[0] == role}
    for row, column in sorted(own):
        for other_row, other_column in sorted(own):
            if (
                other_row != row
                and other_column != column
                and (row, other_column) in own
                and (other_row, column) in every
            ):
                return own[row, column], own[other_row, other_column], own[row, other_column]
    return None


@dataclass(frozen=True)
class Session:
    """A proof under way. rest: what was heard before the first question. asked and answers side by side."""

    reasoner: Reasoner
    rest: frozenset[Report] = frozenset()
    asked: tuple[Act, ...] = ()
    answers: tuple[Answer, ...] = ()
    skipped: tuple[Act, ...] = ()
    chosen: Act | None = field(default=None)

    @cached_property
    def current(self) -> Act | None:
        """The control that is asked for now."""
        if self.chosen is not None:
            return self.chosen
        return self.reasoner.next_act(self.asked, self.answers, self.skipped)

    def answered(self, answer: Answer) -> Session:
        """With the answer to the current question; an earlier one to it is forgotten."""
        act = self.current
        if act is None:
            return self
        kept = [(one, told) for one, told in zip(self.asked, self.answers, strict=True) if one != act]
        return replace(
            self,
            asked=(*(one for one, _told in kept), act),
            answers=(*(told for _one, told in kept), answer),
            skipped=tuple(each for each in self.skipped if each != act),
            chosen=None,
        )

    def skip(self) -> Session:
        act = self.current
        return replace(self, skipped=(*self.skipped, act), chosen=None) if act is not None else self

    def again(self, act: Act) -> Session:
        """Ask for one more time."""
        return replace(self, chosen=act)

    @property
    def done(self) -> bool:
        return self.current is None

    @cached_property
    def diagnosis(self) -> Diagnosis:
        return self.explained()

    def explained(self, watch: Watch = UNWATCHED) -> Diagnosis:
        """What the answers say. Raises Cancelled."""
        return self.reasoner.explain(self.rest, self.asked, self.answers, watch)


def kept(session: Session, titles: tuple[str, ...], wiring: str, *, clear: bool) -> Proof:
    """A proof that is over, as the build keeps it. titles: its faults in words; wiring: a fingerprint of the wires;
    clear: whether the answers fitted any set of faults."""
    silent = tuple(
        act[0] for act, answer in zip(session.asked, session.answers, strict=True) if len(act) == 1 and answer.silent
    )
    if not clear:
        titles = ("The readings match no combination of wiring faults",)
    now = datetime.now().astimezone().isoformat(timespec="seconds")
    return Proof(at=now, wiring=wiring, faults=titles, silent=silent, presses=sum(map(len, session.asked)))
