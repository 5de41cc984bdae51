"""Which button for which input, for many systems at once, at the least cost that anybody can read.

Costs are in pitches: 1.0 is an input that lies one button away from where people look for it. A row of inputs that
belong together is a path, so one system is solved exactly by dynamic programming over (buttons taken, last button);
Held and Karp, J. SIAM 10 (1962) 196. Several systems share ideas ('jump'): each idea has a button that it should lie on
everywhere. That couples them, and a Lagrangian relaxation gives both good starts and a lower bound; Fisher, Management
Science 27 (1981) 1.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from kyklon.base.errors import WrongUse

NOWHERE = -1  # in an answer: an input without a button
MOST_BUTTONS = 13  # 2^13 sets of buttons, a few ms for a system
_CLOSE = 1e-9
_ROUNDS = 10  # of the relaxation
_POLISHES = 2  # moves of a single idea at the end
_CHUNK = 1 << 15  # sets of buttons that are looked at in one go, some MB
_MOST_WORK = 1 << 16  # sets of buttons that moving single ideas may look at, 50 ms
_ENOUGH = 0.001  # a gap that nobody would see


@dataclass(frozen=True)
class Problem:
    """One system on one seat's buttons.

    own: float array (inputs, buttons), cost of each pair in pitches, inf where it may not be. apart: float array
    (buttons, buttons), cost of two neighbours of a row on that pair of buttons. follows: for each input the index of
    the one that it stands beside, -1 for none; they make rows. empty: cost of an input that gets no button. ideas: of
    each input, an index, -1 for an input whose idea no other system has. weight: of each input, cost where its button
    is not its idea's.
    """

    own: NDArray[np.float64]
    apart: NDArray[np.float64]
    follows: tuple[int, ...]
    empty: NDArray[np.float64]
    ideas: tuple[int, ...]
    weight: NDArray[np.float64]

    def __post_init__(self) -> None:
        count, buttons = self.own.shape
        if buttons > MOST_BUTTONS:
            raise WrongUse(f"{buttons} buttons on a seat; at most {MOST_BUTTONS} are mapped.")
        if len(self.follows) != count or len(self.ideas) != count or self.apart.shape != (buttons, buttons):
            raise WrongUse("The problem's parts are of different sizes.")

    @cached_property
    def order(self) -> tuple[int, ...]:
        """The inputs, each right behind the one that it stands beside."""
        nexts = {before: own for own, before in enumerate(self.follows) if before >= 0}
        found: list[int] = []
        for start in (each for each, before in enumerate(self.follows) if before < 0):
            at: int | None = start
            while at is not None:
                found.append(at)
                at = nexts.get(at)
        return tuple(found)

    def cost(self, answer: Sequence[int]) -> float:
        """Cost of an answer without what its ideas cost."""
        total = 0.0
        for own, button in enumerate(answer):
            total += self.empty[own] if button == NOWHERE else self.own[own, button]
            before = self.follows[own]
            if before >= 0 and button != NOWHERE and answer[before] != NOWHERE:
                total += self.apart[answer[before], button]
        return float(total)

    def strayed(self, answer: Sequence[int], homes: NDArray[np.int64]) -> float:
        """What the ideas cost: inputs that are not on their idea's button."""
        return float(
            sum(
                self.weight[own]
                for own, button in enumerate(answer)
                if self.ideas[own] >= 0 and button != homes[self.ideas[own]]
            )
        )


@dataclass(frozen=True)
class Solved:
    """answers: for each problem the button of each input, NOWHERE for none. homes: of each idea its button. bound: no
    answer of all costs less. exact: the bound is the cost."""

    answers: tuple[tuple[int, ...], ...]
    homes: tuple[int, ...]
    cost: float
    bound: float

    @property
    def gap(self) -> float:
        """How much better an answer could be at the most, as a part of the cost."""
        return max(0.0, (self.cost - self.bound) / self.cost) if self.cost > _CLOSE else 0.0

    @property
    def exact(self) -> bool:
        return self.cost - self.bound <= 1e-6 * max(1.0, self.cost)


class _Tables:
    """All systems of a search side by side, padded to the same number of inputs, ready for the dynamic program."""

    def __init__(self, problems: Sequence[Problem], buttons: int) -> None:
        self.problems, self.buttons = problems, buttons
        self.steps = max(len(problem.follows) for problem in problems)
        count = len(problems)
        self.order = np.full((count, self.steps), -1, dtype=np.int64)
        self.chained = np.zeros((count, self.steps), dtype=bool)
        self.apart = np.zeros((count, buttons + 1, buttons))
        for number, each in enumerate(problems):
            self.order[number, : len(each.order)] = each.order
            self.chained[number, : len(each.order)] = [each.follows[own] >= 0 for own in each.order]
            self.apart[number, :buttons] = each.apart

    def best(
        self, which: NDArray[np.int64], own: NDArray[np.float64], empty: NDArray[np.float64], *, answers: bool = True
    ) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """The cheapest answers, exactly, and their costs, of many variations at once.

        which: int array (variations,), the system of each; own: (variations, inputs, buttons) and empty: (variations,
        inputs) as in Problem, padded. answers: whether they are wanted, or only the costs. Time for each variation:
        2^buttons x buttons x inputs, times buttons for inputs within a row.
        """
        count, buttons, sets = len(which), self.buttons, 1 << self.buttons
        rows = np.arange(count)
        dp = np.full((buttons + 1, count, sets), np.inf)  # last row: the one before has no button, or a row begins
        dp[buttons, :, 0] = 0.0
        kept = [dp]
        for step in range(self.steps):
            at = self.order[which, step]
            real = at >= 0
            costs = np.where(real[:, None], own[rows, at], np.inf)
            flat = dp.min(0)
            new = np.full_like(dp, np.inf)
            joined = np.flatnonzero(self.chained[which, step])
            apart = self.apart[which[joined]]
            for button in range(buttons):
                free = _with(flat, button, 0)
                if len(joined):
                    free = free.copy()
                    near = dp if len(joined) == count else dp[:, joined]
                    free[joined] = self._nearest(near, apart, button)
                _with(new[button], button, 1)[...] = free + costs[:, button, None, None]
            new[buttons] = flat + np.where(real, empty[rows, at], 0.0)[:, None]
            dp = new
            kept.append(dp)
        ends = np.moveaxis(dp, 0, 2).reshape(count, -1)
        places = ends.argmin(1)
        found = np.full((count, self.steps), NOWHERE, dtype=np.int64)
        if answers:
            self._walk_back(which, kept, places, found)
        return found, ends[rows, places]

    @staticmethod
    def _nearest(dp: NDArray[np.float64], apart: NDArray[np.float64], button: int) -> NDArray[np.float64]:
        """The cheapest way to that button from whatever button the one before has."""
        reach = _with(dp[-1], button, 0).copy()
        for last in range(len(dp) - 1):
            if last != button:
                np.minimum(reach, _with(dp[last], button, 0) + apart[:, last, button, None, None], out=reach)
        return reach

    def _walk_back(
        self,
        which: NDArray[np.int64],
        kept: list[NDArray[np.float64]],
        places: NDArray[np.int64],
        found: NDArray[np.int64],
    ) -> None:
        """The choices that led to the ends, for all variations at once."""
        buttons, rows = self.buttons, np.arange(len(which))
        masks, lasts = np.divmod(places, buttons + 1)
        for step in range(self.steps - 1, -1, -1):
            at = self.order[which, step]
            taken = lasts < buttons
            chosen = np.minimum(lasts, buttons - 1)
            real = taken & (at >= 0)
            found[rows[real], at[real]] = lasts[real]
            masks = np.where(taken, masks & ~(1 << chosen), masks)
            came = kept[step][:, rows, masks].T
            joined = taken & self.chained[which, step]
            came = came + np.where(joined[:, None], self.apart[which, :, chosen], 0.0)
            lasts = came.argmin(1)

    def padded(self, which: Sequence[int]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """own and empty of these systems, for best()."""
        own = np.full((len(which), self.steps, self.buttons), np.inf)
        empty = np.zeros((len(which), self.steps))
        for row, number in enumerate(which):
            each = self.problems[number]
            own[row, : len(each.follows)] = each.own
            empty[row, : len(each.follows)] = each.empty
        return own, empty


def _with(sets: NDArray[np.float64], button: int, there: int) -> NDArray[np.float64]:
    """A view of (rows, sets of buttons): the sets that hold a button, or those that do not."""
    return sets.reshape(len(sets), -1, 2, 1 << button)[:, :, there]


def best(problem: Problem) -> tuple[tuple[int, ...], float]:
    """The cheapest answer of one system, exactly, and its cost; what its ideas cost does not count."""
    tables = _Tables((problem,), problem.own.shape[1])
    answers, costs = tables.best(np.zeros(1, dtype=np.int64), *tables.padded((0,)))
    return tuple(int(answer) for answer in answers[0, : len(problem.follows)]), float(costs[0])


def solve(problems: Sequence[Problem], ideas: int, *, rounds: int = _ROUNDS) -> Solved:
    """All systems together. One system is exact; several have a bound, which is the cost where the relaxation closes.

    problems share their buttons: index for index the same place. ideas: how many there are. rounds: of the relaxation
    at the most.
    """
    if not problems:
        return Solved((), (), 0.0, 0.0)
    buttons = problems[0].own.shape[1]
    if any(problem.own.shape[1] != buttons for problem in problems):
        raise WrongUse("The systems are on panels with different numbers of buttons.")
    search = _Search(tuple(problems), ideas, buttons)
    return search.run(rounds)


class _Search:
    """Lagrangian relaxation: each system has a copy of every idea's button; prices make the copies agree."""

    def __init__(self, problems: tuple[Problem, ...], ideas: int, buttons: int) -> None:
        self._problems, self._ideas, self._buttons = problems, ideas, buttons
        self._tables = _Tables(problems, buttons)
        self._every = np.arange(len(problems))
        self._own, self._empty = self._tables.padded(range(len(problems)))
        shape = (len(problems), self._tables.steps)
        self._idea, self._weight = np.full(shape, -1, dtype=np.int64), np.zeros(shape)
        for number, each in enumerate(problems):
            self._idea[number, : len(each.ideas)] = each.ideas
            self._weight[number, : len(each.ideas)] = each.weight
        self._has = self._idea >= 0
        self._weight[~self._has] = 0.0
        self._cost, self._bound = np.inf, -np.inf
        self._answers: NDArray[np.int64] = np.full(shape, NOWHERE, dtype=np.int64)
        self._homes = np.zeros(ideas, dtype=np.int64)
        self._costs: dict[tuple[int, ...], float] = {}  # a system and its ideas' homes: its least cost
        self._tried: set[tuple[int, ...]] = set()

    def run(self, rounds: int) -> Solved:
        price = np.zeros((*self._idea.shape, self._buttons))
        scale = 1.0
        for _round in range(rounds):
            bound, answers, copies, picked = self._relaxed(price)
            scale *= 1.0 if bound > self._bound + _CLOSE else 0.7
            self._bound = max(self._bound, bound)
            self._descend(self._majority(answers))
            if self._closed or not self._step(price, copies, picked, scale):
                break
        self._polish()
        bound = min(max(self._bound, 0.0), float(self._cost))
        told = tuple(
            tuple(int(button) for button in row[: len(each.follows)])
            for row, each in zip(self._answers, self._problems, strict=True)
        )
        return Solved(told, tuple(int(home) for home in self._homes), float(self._cost), bound)

    @property
    def _closed(self) -> bool:
        return bool(self._cost - self._bound <= _ENOUGH * max(float(self._cost), _CLOSE))

    def _relaxed(
        self, price: NDArray[np.float64]
    ) -> tuple[float, NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        """The bound at these prices, each system's answer, its copies of the ideas' buttons, and the ideas' own."""
        away = (-price).min(2)  # a copy sits wherever that pays most, and costs its weight where the button is not
        stays = np.minimum(-price, (self._weight + away)[:, :, None])
        has = self._has
        extra = np.where(has[:, :, None], stays, 0.0)
        spared = np.where(has, self._weight + away, 0.0)
        answers, costs = self._tables.best(self._every, self._own + extra, self._empty + spared)
        rows, columns = np.indices(answers.shape)
        here = -price[rows, columns, np.maximum(answers, 0)]
        stay = (answers != NOWHERE) & (here <= self._weight + away)
        copies = np.where(stay, answers, (-price).argmin(2))
        sums = np.zeros((self._ideas, self._buttons))
        np.add.at(sums, self._idea[has], price[has])
        picked = sums.argmin(1) if self._ideas else np.zeros(0, dtype=np.int64)
        total = float(costs.sum()) + (float(sums.min(1).sum()) if self._ideas else 0.0)
        return total, answers, copies, picked

    def _step(
        self, price: NDArray[np.float64], copies: NDArray[np.int64], picked: NDArray[np.int64], scale: float
    ) -> bool:
        """Move the prices along the subgradient, by Polyak's step; False where all copies agree already."""
        grad = np.zeros_like(price)
        rows, columns = np.nonzero(self._has)
        np.add.at(grad, (rows, columns, picked[self._idea[rows, columns]]), 1.0)
        np.add.at(grad, (rows, columns, copies[rows, columns]), -1.0)
        norm = float((grad**2).sum())
        if norm < _CLOSE:
            return False
        price += scale * max(float(self._cost) - self._bound, 0.0) / norm * grad
        return True

    def _majority(self, answers: NDArray[np.int64]) -> NDArray[np.int64]:
        """The button of each idea that costs these answers least."""
        votes = np.zeros((self._ideas, self._buttons))
        placed = self._has & (answers != NOWHERE)
        np.add.at(votes, (self._idea[placed], answers[placed]), self._weight[placed])
        return votes.argmax(1) if self._ideas else np.zeros(0, dtype=np.int64)

    def _priced(self, which: NDArray[np.int64], homes: NDArray[np.int64]) -> tuple[NDArray[np.float64], ...]:
        """own and empty of these systems when the ideas live there; homes: (variations, ideas)."""
        own, empty = self._own[which], self._empty[which].copy()
        ideas, has, weight = self._idea[which], self._has[which], self._weight[which]
        extra = np.where(has, weight, 0.0)
        own = own + extra[:, :, None]
        rows, columns = np.nonzero(has)
        own[rows, columns, homes[rows, ideas[rows, columns]]] -= weight[rows, columns]
        return own, empty + extra

    def _descend(self, homes: NDArray[np.int64]) -> None:
        """Alternate from these homes: the best answers to them, the best homes to those, until nothing changes."""
        for _turn in range(20):
            key = tuple(int(home) for home in homes)
            if key in self._tried:
                return
            self._tried.add(key)
            told = np.tile(homes, (len(self._every), 1))
            answers, _costs = self._tables.best(self._every, *self._priced(self._every, told))
            homes = self._majority(answers)
            total = self._total(answers, homes)
            if total < self._cost - _CLOSE:
                self._cost, self._homes, self._answers = total, homes, answers

    def _total(self, answers: NDArray[np.int64], homes: NDArray[np.int64]) -> float:
        return sum(
            each.cost(row[: len(each.follows)]) + each.strayed(row[: len(each.follows)], homes)
            for each, row in zip(self._problems, answers.tolist(), strict=True)
        )

    def _polish(self) -> None:
        """Move one idea to another button, or swap it with the one there, while that helps."""
        for _turn in range(_POLISHES):
            if self._closed:
                return
            moves = self._moves()
            totals = self._totals(moves)
            pick = int(totals.argmin()) if len(totals) else -1
            if pick < 0 or totals[pick] >= self._cost - _CLOSE:
                return
            self._tried.discard(tuple(int(move) for move in moves[pick]))
            self._descend(moves[pick])

    def _moves(self) -> NDArray[np.int64]:
        rows = []
        for idea in range(self._ideas):
            for button in range(self._buttons):
                if button != self._homes[idea]:
                    moved = self._homes.copy()
                    moved[idea] = button
                    rows.append(moved)
            for other in range(idea):
                if self._homes[other] != self._homes[idea]:
                    moved = self._homes.copy()
                    moved[idea], moved[other] = self._homes[other], self._homes[idea]
                    rows.append(moved)
        return np.array(rows, dtype=np.int64).reshape(len(rows), self._ideas)

    def _totals(self, moves: NDArray[np.int64]) -> NDArray[np.float64]:
        """The least cost of all systems for each row of homes; a system is solved once for the homes of its own
        ideas."""
        keys = [
            [
                (number, *(int(home[idea]) for idea in sorted({i for i in self._problems[number].ideas if i >= 0})))
                for number in range(len(self._problems))
            ]
            for home in moves
        ]
        wanted = {key: row for row, found in enumerate(keys) for key in found if key not in self._costs}
        if len(wanted) << self._buttons > _MOST_WORK:
            return np.zeros(0)
        if wanted:
            which = np.array([key[0] for key in wanted], dtype=np.int64)
            chunk = max(1, _CHUNK >> self._buttons)
            for start in range(0, len(which), chunk):
                part = slice(start, start + chunk)
                homes = moves[np.array(list(wanted.values()))[part]]
                _none, costs = self._tables.best(which[part], *self._priced(which[part], homes), answers=False)
                self._costs |= dict(zip(list(wanted)[part], costs.tolist(), strict=True))
        return np.array([sum(self._costs[key] for key in found) for found in keys])
