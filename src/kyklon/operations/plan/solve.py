"""Which parts make the machine that is wished: a small constraint model over the shelf, solved exactly.

Binary variables choose one part a role and one kind of cable a connection (scipy.optimize.milp). What the model does
not hold is checked on the build that comes out; where that has a stop, the combination is ruled out and the model
solved again, so that what is returned has none. Every rule can be lifted: the fewest that must be are the reason why
not.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations

from kyklon.base.late import late
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.operations.plan.constraints import NEEDED, ROLES, Key, Model, Rows, by_keys
from kyklon.operations.plan.wishes import Wish, rule_words

_BIG = 1000.0  # what a rule that is lifted costs, in numbers of parts
MOST_TURNS = 150  # plans that are checked one by one before one gives up
# rules that somebody wished
WISHES = ("speed", "players", "place", "budget", "fixed", "screen", "card", "reach", "software", "plays")

np, optimize, sparse = late("numpy"), late("scipy.optimize"), late("scipy.sparse")


@dataclass(frozen=True)
class Plan:
    """picks: role and id. cables: role.port pairs with the pieces between. price: of what is not at hand; guessed: some
    of it is no known price. build: as it would be. bundle: the name of what is bought together; price holds it."""

    picks: tuple[Key, ...]
    price: float
    guessed: bool
    build: Build
    rules: tuple[str, ...] = ()  # that had to be lifted
    bundle: str = ""

    def part(self, role: str) -> str:
        return dict(self.picks).get(role, "")

    @property
    def kind(self) -> tuple[str, ...]:
        """What makes it a plan of its own kind beside others."""
        return self.part("board"), self.part("display")


@dataclass(frozen=True)
class Answer:
    """plans: the best that differ in kind, the best first; then one with each bundle that fits. conflict: the smallest
    set of wishes that exclude each other, in words; empty where there is a plan. lacking: rules that no wish can help.
    gave_up: the cheapest MOST_TURNS had stops, and there may be others. unused: bundles that no plan wants."""

    plans: tuple[Plan, ...]
    conflict: tuple[str, ...] = ()
    lacking: tuple[str, ...] = ()
    gave_up: bool = False
    unused: tuple[str, ...] = ()


Stops = Sequence[tuple[str, tuple[str, ...]]]
Check = Callable[[Build], Stops]


class Planner(Model):
    """The best plans of a wish over a shelf. make: a build of picks and cables. check: the stops of a build, each with
    its rule and the roles that are concerned."""

    def __init__(
        self,
        wish: Wish,
        catalogue: Catalogue,
        make: Callable[[Mapping[str, str], Mapping[str, tuple[str, ...]]], Build],
        check: Check,
        own_prices: Mapping[str, float] | None = None,
    ) -> None:
        super().__init__(wish, catalogue, own_prices)
        self._make, self._check = make, check
        self._kinds: dict[Key, str] = {}
        self._known: dict[tuple[Key, ...], tuple[Build, float, Stops]] = {}
        self.gave_up = False

    # --- solving ---------------------------------------------------------------------------------------------------

    def _solve(
        self, *, lifted: frozenset[str] | None = None, forced: Key | None = None, extra: Rows | None = None
    ) -> tuple[dict[str, str], dict[object, bool], float, tuple[str, ...]] | None:
        """The best of the model. lifted: rules that may be broken, None for none; each that is costs _BIG. forced: a
        part that must be in it. The picks, all columns, their cost, and the rules that were broken."""
        rows, extra = self._rows, extra or Rows()
        slack = {rule: len(self._cost) + n for n, rule in enumerate(sorted(lifted or ()))}
        size = len(self._cost) + len(slack)
        entries: list[tuple[int, int, float]] = []
        low, high = [*rows.low, *extra.low], [*rows.high, *extra.high]
        for number, (row, rule) in enumerate(zip((*rows.rows, *extra.rows), (*rows.rules, *extra.rules), strict=True)):
            entries += [(number, column, value) for column, value in row.items()]
            if rule not in slack:
                continue
            if math.isfinite(high[number]):  # enough to lift the row, whatever else is chosen
                over = sum(max(0.0, value) for value in row.values()) - high[number]
                entries.append((number, slack[rule], -max(0.0, over)))
            else:
                under = low[number] - sum(min(0.0, value) for value in row.values())
                entries.append((number, slack[rule], max(0.0, under)))
        if forced is not None:
            number = len(low)
            entries.append((number, self._columns[forced], 1.0))
            low.append(1)
            high.append(1)
        at = np.array([(row, column) for row, column, _value in entries]).T
        matrix = sparse.coo_array((np.array([value for _r, _c, value in entries]), at), shape=(len(low), size)).tocsr()
        done = optimize.milp(
            np.array([*self._cost, *([_BIG * 100] * len(slack))]),
            integrality=np.ones(size),
            bounds=optimize.Bounds(0, 1),
            constraints=optimize.LinearConstraint(matrix, low, high),
            options={"mip_rel_gap": 0.0},
        )
        if done.x is None:
            return None
        taken = {name: bool(done.x[column] > 0.5) for name, column in self._columns.items()}
        picks = {key[0]: key[1] for key in self.parts if taken[key]}
        broken = tuple(rule for rule, column in slack.items() if done.x[column] > 0.5)
        return picks, taken, float(done.fun), broken

    def _checked(self, picks: dict[str, str], taken: Mapping[object, bool]) -> tuple[Build, float, Stops]:
        key = tuple(sorted(picks.items()))
        cables = {
            str(name[0]): name[3]
            for name, is_taken in taken.items()
            if is_taken and isinstance(name, tuple) and name[0] in ("power", "direct", "first", "second")
        }
        whole = (*key, *sorted((name, "+".join(pieces)) for name, pieces in cables.items()))
        if whole not in self._known:
            build = self._make(picks, cables)
            self._known[whole] = build, self.price_of(build), self._check(build)
        return self._known[whole]

    def price_of(self, build: Build) -> float:
        """What a build costs beside what is at hand."""
        total = 0.0
        for part in build.parts:
            role = part.role.partition("-")[0]
            if role in ROLES:
                kind = ROLES[role][0]
                known = self.catalogue.parts[kind].get(part.part)
                total += self.prices.of(kind, known) if known else 0.0
        for link in build.links:
            for piece in link.pieces:
                known = self.catalogue.parts["cables"].get(piece)
                total += self.prices.of("cables", known) if known else 0.0
        return total

    def best(
        self,
        *,
        lifted: frozenset[str] | None = None,
        forced: Key | None = None,
        without: Sequence[Mapping[int, float]] = (),
    ) -> Plan | None:
        """The best plan without a stop, None where there is none. without: combinations that are not wanted, as columns
        of which not all may be taken."""
        extra = Rows()
        for row in without:
            extra.add(row, -math.inf, len(row) - 1)
        best: tuple[float, Plan] | None = None
        for _turn in range(MOST_TURNS):
            done = self._solve(lifted=lifted, forced=forced, extra=extra)
            if done is None or (best is not None and done[2] >= best[0] - 1e-6):
                break
            picks, taken, cost, broken = done
            build, price, stops = self._checked(picks, taken)
            if self.wish.budget and price > self.wish.budget + 1e-9:
                stops = (*stops, ("budget", ()))
            stops = [stop for stop in stops if stop[0] not in broken]
            as_taken = self._as_taken(picks, taken)
            if not stops:
                guessed = any(
                    not self.prices.known(ROLES[role][0], self.parts[role, part]) for role, part in picks.items()
                )
                # what only the build shows, such as a cable to the display's own power, comes on top
                worth = cost + price - sum(self._money[column] for column in as_taken)
                if best is None or worth < best[0]:
                    best = worth, Plan(tuple(picks.items()), price, guessed, build, broken)
                extra.add(as_taken, -math.inf, len(as_taken) - 1)
                continue
            for rule, roles in stops:
                concerned = [(role, picks[role]) for role in roles if role in picks]
                row = dict.fromkeys((column for key in concerned for column in self._alike(key)), 1.0) or as_taken
                absent = self._all("adapter") if "adapter" in roles and "adapter" not in picks else {}
                most = len(concerned or as_taken) - 1
                self._rows.add({**row, **dict.fromkeys(absent, -1.0)}, -math.inf, most, rule)
        else:
            self.gave_up = self.gave_up or best is None
        return best[1] if best is not None else None

    def _alike(self, key: Key) -> tuple[int, ...]:
        """The columns of all parts of a role that differ from one in name, price and size alone: what rules out one
        rules out all of them. A plan has one part a role."""
        kinds = self._kinds
        if not kinds:
            for other, part in self.parts.items():
                row = part.model_dump(exclude=_NOT_TOLD)
                kinds[other] = f"{other[0]} {row}"
        return tuple(self._columns[other] for other, kind in kinds.items() if kind == kinds[key])

    def _as_taken(self, picks: Mapping[str, str], taken: Mapping[object, bool]) -> dict[int, float]:
        row = {self._columns[key]: 1.0 for key in picks.items()}
        return row | {
            self._columns[name]: 1.0
            for name, is_taken in taken.items()
            if is_taken and isinstance(name, tuple) and name[0] in _WAYS
        }

    def answer(self, count: int = 3) -> Answer:
        """The best plans that differ in kind; or the wishes that exclude each other."""
        needed = NEEDED if by_keys(self.wish) else (*NEEDED, "encoder")
        missing = [role for role in needed if not self._all(role)]
        if missing:
            return Answer((), (), tuple(self.words(f"need:{role}") for role in missing))
        plans: list[Plan] = []
        barred: list[dict[int, float]] = []
        while len(plans) < count:
            # the third differs from the first in board and display both, where it can
            apart = [{self._columns[role, plans[0].part(role)]: 1.0} for role in ("board", "display")] if plans else []
            plan = self.best(without=[*barred, *apart]) if len(plans) == 2 else None
            plan = plan or self.best(without=barred)
            if plan is None:
                break
            plans.append(plan)
            barred.append({self._columns[role, plan.part(role)]: 1.0 for role in ("board", "display")})
        if plans:
            return Answer(tuple(plans))
        conflict, lacking = ((), ()) if self.gave_up else self._conflict()
        # what was given up is no proof that there is none
        return Answer((), gave_up=True) if self.gave_up else Answer((), conflict, lacking)

    def rules(self) -> frozenset[str]:
        return frozenset(rule for rule in self._rows.rules if rule)

    def _conflict(self) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """The smallest set of wishes that exclude each other; or what the shelf lacks whatever is wished."""
        wished = sorted(rule for rule in self.rules() if rule.partition(":")[0] in WISHES)
        if self.best(lifted=frozenset(wished)) is None:
            needed = self.best(lifted=self.rules())
            lacking = [rule for rule in (needed.rules if needed is not None else ()) if rule not in wished]
            return (), tuple(self.words(rule) for rule in lacking) or ("no such plan on this shelf",)
        for size in range(1, len(wished) + 1):
            for held in combinations(wished, size):
                if self.best(lifted=frozenset(wished) - set(held)) is None:
                    return tuple(self.words(rule) for rule in held), ()
        return (), ()

    def words(self, rule: str) -> str:
        return rule_words(rule, self.wish, self.catalogue)

    def why_not(self, key: Key, chosen: Plan | None = None) -> WhyNot:
        """Why a part is not in the plan: the rules that would have to be lifted for it, or what it costs more."""
        plan = self.best(forced=key)
        if plan is None:
            lifted = self.best(forced=key, lifted=self.rules())
            if lifted is not None and not lifted.rules:  # the search for it ended early, this one did not
                more = lifted.price - chosen.price if chosen is not None else lifted.price
                return WhyNot(key, (), (), more, lifted)
            if lifted is None:  # no rule that is known helps
                return WhyNot(key, (), (f"no stop among the {MOST_TURNS} cheapest",))
            return WhyNot(key, lifted.rules, tuple(self.words(rule) for rule in lifted.rules))
        more = plan.price - chosen.price if chosen is not None else plan.price
        return WhyNot(key, (), (), more, plan)


@dataclass(frozen=True)
class WhyNot:
    """rules: the fewest that would have to be lifted, and in words. more: what the best plan with it costs beyond the
    chosen one, where nothing stands against it."""

    key: Key
    rules: tuple[str, ...]
    words: tuple[str, ...]
    more: float = 0.0
    plan: Plan | None = None


_NOT_TOLD = {"id", "name", "note", "price", "known", "width_mm", "height_mm", "lamps", "firmware_s", "heat_k_per_w"}
_NOT_TOLD |= {"device_tree", "compatible", "typical_a", "processor_mhz", "memory_mb", "card_mb_s", "usb_mb_s"}
_WAYS = ("power", "direct", "first", "second", "controls", "feed")
