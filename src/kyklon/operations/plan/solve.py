"""Which parts make the machine that is wished: a small constraint model over the shelf, solved exactly.

Binary variables choose one part a role and one kind of cable a connection (scipy.optimize.milp). What the model does
not hold is checked on the build that comes out; where that has a stop, the combination is ruled out and the model
solved again, so that what is returned has none. Every rule can be lifted: the fewest that must be are the reason why
not.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import combinations, product

from kyklon.base.late import late
from kyklon.catalogue.cables import joined, why_not_joined
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import (
    Adapter,
    Board,
    Cable,
    Card,
    CataloguePart,
    Display,
    Encoder,
    Image,
    Panel,
    Port,
    Supply,
)
from kyklon.model.build import Build
from kyklon.operations.assembly.electrics import awg_ohm_per_m
from kyklon.operations.assembly.power import CONTACT_OHM, RESERVE, contacts
from kyklon.operations.picture.chain import VIDEO_SIGNALS
from kyklon.operations.plan.connections import carries
from kyklon.operations.plan.wishes import (
    Prices,
    Wish,
    buttons_of,
    card_bytes,
    load_of,
    rule_words,
    terminals_of,
    unsuited,
)

ROLES: dict[str, tuple[str, type[CataloguePart]]] = {
    "board": ("boards", Board),
    "image": ("images", Image),
    "display": ("displays", Display),
    "adapter": ("adapters", Adapter),
    "supply": ("supplies", Supply),
    "card": ("cards", Card),
    "encoder": ("encoders", Encoder),
}
NEEDED = ("board", "image", "display", "supply", "card", "encoder")
_PART = 0.01  # of a currency unit: of two equal prices the plan with fewer new parts, with less delay comes first
_DELAY = 0.001  # a ms
_ASKS = 0.005  # an image that fetches and asks at its first start comes after one that is whole
_BIG = 1000.0  # what a rule that is lifted costs, in numbers of parts
MOST_TURNS = 150  # plans that are checked one by one before one gives up
WISHES = ("speed", "players", "place", "budget", "fixed", "screen", "card", "reach")  # rules that somebody wished

np, optimize, sparse = late("numpy"), late("scipy.optimize"), late("scipy.sparse")

Key = tuple[str, str]  # role and id


@dataclass(frozen=True)
class Plan:
    """picks: role and id. cables: role.port pairs with the pieces between. price: of what is not at hand; guessed: some
    of it is no known price. build: as it would be."""

    picks: tuple[Key, ...]
    price: float
    guessed: bool
    build: Build
    rules: tuple[str, ...] = ()  # that had to be lifted

    def part(self, role: str) -> str:
        return dict(self.picks).get(role, "")

    @property
    def kind(self) -> tuple[str, ...]:
        """What makes it a plan of its own kind beside others."""
        return self.part("board"), self.part("display")


@dataclass(frozen=True)
class Answer:
    """plans: the best that differ in kind, the best first. conflict: the smallest set of wishes that exclude each
    other, in words; empty where there is a plan. lacking: rules that no wish can help, in words.
    gave_up: the cheapest MOST_TURNS had stops, and there may be others."""

    plans: tuple[Plan, ...]
    conflict: tuple[str, ...] = ()
    lacking: tuple[str, ...] = ()
    gave_up: bool = False


@dataclass(frozen=True)
class _Link:
    """A kind of connection: what gives, what takes, and the cheapest pieces for it."""

    start: tuple[str, str]  # connector and signal family
    end: tuple[str, str]
    pieces: tuple[Cable, ...]
    price: float
    new: float

    @property
    def key(self) -> tuple[tuple[str, str], tuple[str, str], tuple[str, ...]]:
        return self.start, self.end, tuple(piece.id for piece in self.pieces)


@dataclass
class _Rows:
    """Constraint rows, each with the rule under which it falls; '' for what cannot be lifted."""

    rows: list[dict[int, float]] = field(default_factory=list)
    low: list[float] = field(default_factory=list)
    high: list[float] = field(default_factory=list)
    rules: list[str] = field(default_factory=list)

    def add(self, row: Mapping[int, float], low: float, high: float, rule: str = "") -> None:
        """low <= row <= high. Only the lower half of an equality can be lifted."""
        if rule and math.isfinite(low) and math.isfinite(high):
            self.add(row, -math.inf, high)
            high = math.inf
        self.rows.append(dict(row))
        self.low.append(low)
        self.high.append(high)
        self.rules.append(rule)


Stops = Sequence[tuple[str, tuple[str, ...]]]
Check = Callable[[Build], Stops]


class Planner:
    """The model of a wish over a shelf. make: a build of picks and cables. check: the stops of a build, each with its
    rule and the roles that are concerned."""

    def __init__(
        self,
        wish: Wish,
        catalogue: Catalogue,
        make: Callable[[Mapping[str, str], Mapping[str, tuple[str, ...]]], Build],
        check: Check,
        own_prices: Mapping[str, float] | None = None,
    ) -> None:
        self.wish, self.catalogue = wish, catalogue
        self._make, self._check = make, check
        self.prices = Prices(catalogue, wish, own_prices)
        self._columns: dict[object, int] = {}
        self._cost: list[float] = []  # of each column, what decides between equals included
        self._money: list[float] = []
        self._rows = _Rows()
        self.parts: dict[Key, CataloguePart] = {}
        self._kinds: dict[Key, str] = {}
        self._known: dict[tuple[Key, ...], tuple[Build, float, Stops]] = {}
        self.gave_up = False
        self._lay_out()

    # --- the model -----------------------------------------------------------------------------------------------

    def _column(self, name: object, money: float = 0.0, further: float = 0.0) -> int:
        if name not in self._columns:
            self._columns[name] = len(self._cost)
            self._cost.append(money + further)
            self._money.append(money)
        return self._columns[name]

    def _lay_out(self) -> None:
        for role, (kind, record) in ROLES.items():
            for part in self.catalogue.all(record):
                if role == "image" and isinstance(part, Image) and not part.has_system:
                    continue  # a bare-metal machine and a chooser play no systems of the library
                price = self.prices.of(kind, part) * self._count(part)
                new = 0.0 if self.wish.has(kind, part.id) else _PART
                delay = _DELAY * (part.delay_ms if isinstance(part, Adapter) else 0.0)
                delay += _DELAY * (part.processing_ms if isinstance(part, Display) else 0.0)
                delay += _ASKS if isinstance(part, Image) and part.installer_service else 0.0
                self.parts[role, part.id] = part
                self._column((role, part.id), price, new + delay)
        for role in NEEDED:
            self._rows.add(self._all(role), 1, 1)
        self._rows.add(self._all("adapter"), 0, 1)
        self._speeds()
        self._pairs()
        self._power()
        self._picture()
        self._controls()
        self._wished()

    def _count(self, part: CataloguePart) -> int:
        return -(-self.wish.players // part.players) if isinstance(part, Encoder) else 1

    def _all(self, role: str, holds: Callable[[CataloguePart], bool] = lambda _part: True) -> dict[int, float]:
        return {self._columns[key]: 1.0 for key, part in self.parts.items() if key[0] == role and holds(part)}

    def _each(self, role: str) -> list[tuple[int, CataloguePart]]:
        return [(self._columns[key], part) for key, part in self.parts.items() if key[0] == role]

    def _needs(self, column: int, partners: Mapping[int, float], rule: str) -> None:
        """A part only with one of its partners."""
        self._rows.add({column: 1.0, **dict.fromkeys(partners, -1.0)}, -math.inf, 0, rule)

    def _never(self, column: int, rule: str) -> None:
        self._rows.add({column: 1.0}, -math.inf, 0, rule)

    def _speeds(self) -> None:
        for column, board in self._each("board"):
            assert isinstance(board, Board)
            for system in self.wish.systems:
                if load_of(system, board, self.catalogue, self.wish) > 1:
                    self._never(column, f"speed:{system.id}")

    def _pairs(self) -> None:
        """Boards with the images that serve them, and with the cards that they start from and that are large enough."""
        for column, board in self._each("board"):
            assert isinstance(board, Board)
            self._needs(column, self._all("image", _serving(board)), "image")
            self._needs(column, self._all("card", _started_by(board)), "loader")
        for column, image in self._each("image"):
            assert isinstance(image, Image)
            self._needs(column, self._all("card", _holding(card_bytes(self.wish, image))), "card")

    def _links(self, starts: Iterable[Port], ends: Iterable[Port], reach_m: float = 0.0) -> list[_Link]:
        """The kinds of connection between sockets and plugs, each with the pieces that fit; all of them for power, the
        cheapest for others."""
        cables = [cable for cable in self.catalogue.all(Cable) if not cable.ties_sync]
        plain = [(cable,) for cable in cables if not cable.socket_end]
        further = (
            [(cable, piece) for cable in cables if not cable.socket_end for piece in cables if piece.socket_end]
            if reach_m
            else []
        )
        found = []
        kinds = {
            ((start.connector, _family(start)), (end.connector, _family(end))): (start, end)
            for start, end in product(starts, ends)
        }
        for (start_kind, end_kind), (start, end) in kinds.items():
            able = [
                pieces
                for pieces in (*plain, *further)
                if not why_not_joined(pieces, start.connector, end.connector)
                and carries(joined(pieces), start, end)
                and joined(pieces).length_m >= reach_m
            ]
            for pieces in able:
                price = sum(self.prices.of("cables", piece) for piece in pieces)
                new = _PART * sum(not self.wish.has("cables", piece.id) for piece in pieces)
                found.append(_Link(start_kind, end_kind, tuple(pieces), price, new))
        return found

    def _power(self) -> None:
        """One cable from supply to board; currents added up, and the volts that are left (power.budget)."""
        starts = [port for _c, part in self._each("supply") for port in part.ports if port.signal == "power"]
        ends = [port for _c, part in self._each("board") for port in part.ports if port.id == "power"]
        links = self._links(starts, ends)
        chosen: dict[int, float] = {}
        for link in links:
            column = self._column(("power", *link.key), link.price, link.new)
            chosen[column] = 1.0
            self._needs(column, self._all("supply", _gives(link.start)), "power")
            self._needs(column, self._all("board", _takes(link.end)), "power")
        self._rows.add(chosen, 1, 1, "power")
        draws: dict[int, float] = {}
        for (role, _id), part in self.parts.items():
            column = self._columns[role, part.id]
            if isinstance(part, Board):
                draws[column] = part.peak_a
            elif role not in ("supply", "image", "card"):
                draws[column] = sum(port.draws_a for port in part.ports) * self._count(part)
        supplies = [(column, part) for column, part in self._each("supply") if isinstance(part, Supply)]
        strong = {column: -part.amps * (1 - RESERVE) for column, part in supplies}
        self._rows.add({**draws, **strong}, -math.inf, 0, "current")
        volts = {column: part.volts for column, part in supplies}
        least = {column: -part.low_voltage_v for column, part in self._each("board") if isinstance(part, Board)}
        for link in links:
            column = self._columns["power", *link.key]
            ohms = _ohms(link.pieces)
            if ohms is None:
                continue
            row = {**volts, **least, column: -_FREE_V}
            for other, amps in draws.items():
                row[other] = row.get(other, 0.0) - ohms * amps
            self._rows.add(row, -_FREE_V, math.inf, "voltage")

    def _picture(self) -> None:
        """Straight to the display, or through one adapter."""
        boards = [port for _c, part in self._each("board") for port in part.ports if _is_video(port, "out")]
        displays = [port for _c, part in self._each("display") for port in part.ports if _is_video(port, "in")]
        into = [port for _c, part in self._each("adapter") for port in part.ports if _is_video(port, "in")]
        out_of = [port for _c, part in self._each("adapter") for port in part.ports if _is_video(port, "out")]
        adapters = self._all("adapter")
        reach = self.wish.reach_m
        for name, starts, ends, giver, taker, long in (
            ("direct", boards, displays, "board", "display", True),
            ("first", boards, into, "board", "adapter", False),
            ("second", out_of, displays, "adapter", "display", True),
        ):
            chosen: dict[int, float] = {}
            for rule, metres in (("reach", 0.0), ("", reach)) if long and reach else (("", 0.0),):
                for link in _cheapest(self._links(starts, ends, metres)):
                    column = self._column((name, *link.key), link.price, link.new)
                    chosen[column] = 1.0
                    self._needs(column, self._all(giver, _gives(link.start)), "picture")
                    self._needs(column, self._all(taker, _takes(link.end)), "picture")
                    if rule and joined(link.pieces).length_m < reach:
                        self._never(column, rule)
            through = dict.fromkeys(adapters, 1.0 if name == "direct" else -1.0)
            total = 1.0 if name == "direct" else 0.0
            self._rows.add({**chosen, **through}, total, total, "picture")

    def _controls(self) -> None:
        """Sockets of the board for the encoders, or its header, or no wire at all; and power for what needs it besides
        its picture. No socket is used twice."""
        boards = [port for _c, part in self._each("board") for port in part.ports if _family(port) == "USB"]
        plugs = [port for _c, part in self._each("encoder") for port in part.ports if _family(port) == "USB"]
        used: dict[tuple[str, str], dict[int, float]] = {}
        links = _cheapest(self._links(boards, plugs))
        if not any(panel.players >= self.wish.players for panel in self.catalogue.all(Panel)):
            self._rows.add(self._all("encoder"), -math.inf, 0, "players")
        for column, encoder in self._each("encoder"):
            assert isinstance(encoder, Encoder)
            count = self._count(encoder)
            for system in self.wish.systems:
                if terminals_of(encoder) < buttons_of(system):
                    self._never(column, f"buttons:{system.id}")
            plug = next((port for port in encoder.ports if _family(port) == "USB"), None)
            if encoder.link == "header":
                self._needs(column, self._all("board", _with_header) if count == 1 else {}, "controls")
            elif plug is not None:
                ways: dict[int, float] = {}
                for link in links:
                    if link.end != (plug.connector, "USB"):
                        continue
                    way = self._column(("controls", link.start, link.end, count), link.price * count, link.new * count)
                    ways[way] = 1.0
                    used.setdefault(link.start, {})[way] = float(count)
                self._needs(column, ways, "controls")
            elif encoder.link != "bluetooth":
                self._never(column, "controls")
        self._fed(boards, used)
        for kind, ways in used.items():
            sockets = {column: -float(_count_of(board, kind)) for column, board in self._each("board")}
            self._rows.add({**ways, **sockets}, -math.inf, 0, "controls")

    def _fed(self, boards: Sequence[Port], used: dict[tuple[str, str], dict[int, float]]) -> None:
        """A socket of the board for the power of a display or an adapter; current is looked at socket by socket."""
        for role in ("display", "adapter"):
            for column, part in self._each(role):
                port = next((port for port in part.ports if port.direction == "in" and port.signal == "power"), None)
                if port is None:
                    continue
                strong = [socket for socket in boards if socket.supplies_a >= port.draws_a]
                ways: dict[int, float] = {}
                for link in _cheapest(self._links(strong, [port])):
                    way = self._column(("feed", role, *link.key), link.price, link.new)
                    ways[way] = 1.0
                    used.setdefault(link.start, {})[way] = 1.0
                    able = self._all("board", _feeding(link.start, port.draws_a))
                    self._needs(way, able, "controls")
                self._needs(column, ways, "controls")

    def _wished(self) -> None:
        wish = self.wish
        for column, display in self._each("display"):
            assert isinstance(display, Display)
            if wish.screen and display.id != wish.screen:
                self._never(column, "screen")
            if unsuited(display, wish.place):
                self._never(column, "place")
        for role, part in wish.fixed:
            for column, other in self._each(role):
                if other.id != part:
                    self._never(column, f"fixed:{role}={part}")
        if wish.budget:
            prices = {column: money for column, money in enumerate(self._money) if money}
            self._rows.add(prices, -math.inf, wish.budget, "budget")

    # --- solving ---------------------------------------------------------------------------------------------------

    def _solve(
        self, *, lifted: frozenset[str] | None = None, forced: Key | None = None, extra: _Rows | None = None
    ) -> tuple[dict[str, str], dict[object, bool], float, tuple[str, ...]] | None:
        """The best of the model. lifted: rules that may be broken, None for none; each that is costs _BIG. forced: a
        part that must be in it. The picks, all columns, their cost, and the rules that were broken."""
        rows, extra = self._rows, extra or _Rows()
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
        extra = _Rows()
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
        missing = [role for role in NEEDED if not self._all(role)]
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
            rules = lifted.rules if lifted is not None else ()
            return WhyNot(key, rules, tuple(self.words(rule) for rule in rules))
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
_FREE_V = 60.0  # V: more than any supply gives


def _family(port: Port) -> str:
    return "USB" if port.signal.startswith("USB") else port.signal


def _is_video(port: Port, direction: str) -> bool:
    return port.direction == direction and port.signal in VIDEO_SIGNALS


def _offers(part: CataloguePart, direction: str, kind: tuple[str, str]) -> bool:
    return any(port.direction == direction and (port.connector, _family(port)) == kind for port in part.ports)


def _gives(kind: tuple[str, str]) -> Callable[[CataloguePart], bool]:
    return lambda part: _offers(part, "out", kind)


def _takes(kind: tuple[str, str]) -> Callable[[CataloguePart], bool]:
    return lambda part: _offers(part, "in", kind)


def _count_of(board: CataloguePart, kind: tuple[str, str]) -> int:
    """How many sockets of a kind a board has."""
    return sum(port.direction == "out" and (port.connector, _family(port)) == kind for port in board.ports)


def _feeding(kind: tuple[str, str], amps: float) -> Callable[[CataloguePart], bool]:
    """Boards with a socket of a kind that gives so much."""
    return lambda board: any(
        port.direction == "out" and (port.connector, _family(port)) == kind and port.supplies_a >= amps
        for port in board.ports
    )


def _with_header(board: CataloguePart) -> bool:
    return isinstance(board, Board) and "header" in board.honours


def _serving(board: Board) -> Callable[[CataloguePart], bool]:
    return lambda image: isinstance(image, Image) and board.id in image.boards


def _holding(size: int) -> Callable[[CataloguePart], bool]:
    return lambda card: isinstance(card, Card) and card.capacity_bytes >= size


def _started_by(board: Board) -> Callable[[CataloguePart], bool]:
    """Cards that go into a board's slot and that its loader starts from."""
    slot = next((port.connector for port in board.ports if port.signal == "SD"), "")
    most = board.most_card_bytes
    return lambda card: (
        isinstance(card, Card)
        and any(port.connector == slot for port in card.ports)
        and (not most or card.capacity_bytes <= most)
    )


def _cheapest(links: Iterable[_Link]) -> list[_Link]:
    """Of each kind of connection the cheapest."""
    best: dict[tuple[tuple[str, str], tuple[str, str]], _Link] = {}
    for link in links:
        key = (link.start, link.end)
        if key not in best or link.price + link.new < best[key].price + best[key].new:
            best[key] = link
    return list(best.values())


def _ohms(pieces: Sequence[Cable]) -> float | None:
    """Out and back, with the contacts; None without a known gauge."""
    total = contacts(pieces) * CONTACT_OHM
    for piece in pieces:
        if piece.awg is None:
            return None
        total += 2 * piece.length_m * awg_ohm_per_m(piece.awg)
    return total
