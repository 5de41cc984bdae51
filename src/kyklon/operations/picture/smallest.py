"""The fewest modes that serve a whole library, and what each further one would win.

Every game asks for a picture and a rate. A mode may serve it while speed, judder, crop and border stay within limits;
which modes are taken is a facility location problem, solved exactly by scipy.optimize.milp (HiGHS).
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from itertools import pairwise
from typing import TYPE_CHECKING, Any

from kyklon.base.late import late
from kyklon.catalogue.system_records import System
from kyklon.model.build import Build
from kyklon.model.library import Scan
from kyklon.model.timing import Mode
from kyklon.operations.picture.construct import SYSTEM_525, SYSTEM_625, Frame, standard_of
from kyklon.operations.picture.glass import FOLLOWS, on_glass
from kyklon.operations.picture.ranges import made_in, propose, raster
from kyklon.operations.picture.schools import flat_modes, wide_modes
from kyklon.operations.picture.signal_path import SignalPath, refused, stood

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray
else:
    np = late("numpy")

_SECONDS = 8.0  # a solver may take; what it has then is taken, with its gap
_NEVER = 1e6  # cost of a mode that a game may not have
_FURTHER = (0, 1, 2, 4, 8, 1000)  # modes more than the fewest: where the front of choices is computed
_EXACT = 2500  # pairs of asking and mode up to which the solver goes on until nothing is better
_GAP = 0.003  # of the cost, where there are more
_HEIGHTS = 8  # numbers of lines up to which each gets rates of its own; more take seconds
_MIDDLES = 16  # rates between two askings' that are tried


@dataclass(frozen=True)
class Limits:
    """What a game may suffer. speed: as a part, in following the display; its pitch goes with it (1 % is 17 cents).
    lost_per_min: frames dropped or doubled, in keeping its own speed. crop: part of the picture; border: of the glass;
    circle: how far off round, as a part."""

    speed: float = FOLLOWS
    lost_per_min: float = 6.0
    crop: float = 0.14
    border: float = 0.55
    circle: float = 0.13

    def eased(self, by: float) -> Limits:
        """All limits times a factor; by: 1 for these."""
        return Limits(*(each * by for each in (self.speed, self.lost_per_min, self.crop, self.border, self.circle)))


@dataclass(frozen=True)
class Asking:
    """A picture and a rate that some games ask for. weight: how many, or how much they are wished for."""

    name: str
    system: System
    weight: float = 1.0


@dataclass(frozen=True)
class Choice:
    """modes: taken. served: for each of the askings the place of its mode in them, -1 for none within the limits. cost:
    the weighted mean of what games suffer, in parts of the limits. gap: how far from the best it may be, as a part."""

    modes: tuple[Mode, ...]
    served: tuple[int, ...]
    cost: float
    gap: float = 0.0


@dataclass(frozen=True)
class Front:
    """choices: from the fewest modes to the most that still win something. askings: in the order of `served`."""

    askings: tuple[Asking, ...]
    choices: tuple[Choice, ...] = ()
    left_out: tuple[str, ...] = field(default=())  # askings that no mode serves

    def at_most(self, count: int) -> Choice | None:
        """The best choice of no more than so many modes; 0 for any number."""
        fitting = [choice for choice in self.choices if not count or len(choice.modes) <= count]
        return fitting[-1] if fitting else self.choices[0] if self.choices else None


def askings_of(build: Build, systems: Sequence[System], scan: Scan | None) -> tuple[Asking, ...]:
    """What the library's games ask for, by systems and by the games that have a picture of their own; every system asks
    once where the library was not looked at. Alike ones are one."""
    games = Counter(game.system for game in scan.games) if scan is not None else Counter()
    found: dict[tuple[str, int, int, Fraction], Asking] = {}
    own = Counter(each.game.partition("/")[0] for each in build.picture.games)
    for system in systems:
        wish = build.picture.wishes.get(system.id, 1.0)
        count = max(1, games[system.id] - own[system.id])
        asking = Asking(system.name, stood(system, build.picture), count * wish)
        found[system.id, system.width, system.height, system.refresh_hz] = asking
    by_id = {system.id: system for system in systems}
    for each in build.picture.games:
        of, _, title = each.game.partition("/")
        if of not in by_id:
            continue
        other = by_id[of].model_copy(update={"width": each.width, "height": each.height, "refresh": each.refresh})
        key = (of, each.width, each.height, Fraction(each.refresh))
        wish = build.picture.wishes.get(of, 1.0)
        old = found.get(key)
        found[key] = Asking(
            old.name if old else title or other.name, stood(other, build.picture), (old.weight if old else 0.0) + wish
        )
    return tuple(found.values())


def candidates(askings: Iterable[Asking], signal_path: SignalPath, limits: Limits | None = None) -> tuple[Mode, ...]:
    """Modes that may be worth having, each let through by the ground: every asking's own, one for all, the rates in
    between, and the fewest rates that are within the limits of all askings."""
    rows = list(askings)
    if not signal_path.display.tube:
        return tuple({mode.timing: mode for mode in flat_modes(signal_path)}.values())
    found: list[Mode] = []
    for row in rows:
        own = propose(row.system, signal_path.display, signal_path.link, signal_path.ranges)
        found += [Mode(name=row.name, timing=own.timing)] if own else []
    systems = [row.system for row in rows]
    found += wide_modes(signal_path, systems).values()
    rates = sorted({row.system.refresh_hz for row in rows})
    middles = [(one + other) / 2 for one, other in pairwise(rates)]
    middles = middles[:: max(1, len(middles) // _MIDDLES)]
    shared = _shared_rates(rows, signal_path, limits or Limits())
    for rate in dict.fromkeys((*shared, *middles, Fraction(60_000, 1001), Fraction(50))):
        near = [system for system in systems if abs(system.refresh_hz / rate - 1) < Fraction(3, 100)]
        if near:
            found += _between(near, rate, signal_path)
    kept = {mode.timing: mode for mode in found if not refused(mode.timing, signal_path)}
    return tuple(kept.values())


def _shared_rates(rows: Sequence[Asking], signal_path: SignalPath, limits: Limits) -> list[Fraction]:
    """The fewest rates that are within the limits of all, and of those of each number of lines. An asking is an
    interval; taken from the lowest upper end on, a rate within what is shared serves all intervals that hold that end
    (interval stabbing)."""
    low, high = (pick(band.field_hz[end] for band in signal_path.ranges) for end, pick in ((0, min), (1, max)))
    heights = {raster(row.system)[1] for row in rows}
    heights = heights if len(heights) <= _HEIGHTS else set()
    found: list[Fraction] = []
    for group in (rows, *([row for row in rows if raster(row.system)[1] == height] for height in sorted(heights))):
        ends = []
        for row in group:
            rate = float(row.system.refresh_hz)
            off = max(limits.speed * rate, limits.lost_per_min / 60)
            ends.append((max(low, rate - off), min(high, rate + off)))
        ends = sorted((each for each in ends if each[0] <= each[1]), key=lambda each: each[1])
        while ends:
            last = ends[0][1]
            together = [each for each in ends if each[0] <= last]
            first = max(each[0] for each in together)
            # not the middle alone: another raster may fit towards the ends
            found += [Fraction(first + (last - first) * part).limit_denominator(1000) for part in (0.5, 0.05, 0.95)]
            ends = [each for each in ends if each[0] > last]
    return found


def _between(systems: Sequence[System], rate: Fraction, signal_path: SignalPath) -> list[Mode]:
    """A wide mode for what is near a rate."""
    like = systems[0].model_copy(update={"refresh": f"{rate.numerator}/{rate.denominator}"})
    wide = list(
        wide_modes(signal_path, [system.model_copy(update={"refresh": like.refresh}) for system in systems]).values()
    )
    if wide:
        return wide
    standard = standard_of(rate)
    height = max(min(raster(system)[1], standard.active) for system in systems)
    made = (
        made_in(Frame(600, height, rate), signal_path.link, band)
        for band in signal_path.ranges
        if standard in (SYSTEM_525, SYSTEM_625)
    )
    return [Mode(name=f"{float(rate):.2f} Hz", timing=each) for each in made if each is not None][:1]


def costs(
    askings: Sequence[Asking], modes: Sequence[Mode], signal_path: SignalPath, limits: Limits
) -> NDArray[np.float64]:
    """What each asking suffers in each mode, in parts of the limits, the worse of it counted more; _NEVER where one is
    exceeded. Shape (askings, modes)."""
    shown = np.array([float(mode.timing.vertical_hz) for mode in modes])
    asked = np.array([float(asking.system.refresh_hz) for asking in askings])[:, None]
    times = np.maximum(1, np.round(shown / asked))
    speed = np.abs(shown / times / asked - 1) / limits.speed
    keep = np.abs(shown - times * asked) * 60 / limits.lost_per_min
    known: dict[tuple[Any, ...], tuple[float, float, float]] = {}
    lies = np.empty((3, len(askings), len(modes)))
    for row, asking in enumerate(askings):
        own = asking.system
        for column, mode in enumerate(modes):
            key = (own.width, own.height, own.vertical, own.aspect, mode.timing.size)
            if key not in known:
                glass = on_glass(own, mode.timing, signal_path.display)
                known[key] = (
                    glass.lost / limits.crop,
                    glass.border / limits.border,
                    abs(glass.circle - 1) / limits.circle,
                )
            lies[:, row, column] = known[key]
    parts = np.concatenate((np.minimum(speed, keep)[None], lies))
    return np.where(parts.max(axis=0) > 1, _NEVER, (parts**2).mean(axis=0))


def front(askings: Sequence[Asking], signal_path: SignalPath, limits: Limits | None = None) -> Front:
    """Every number of modes that is worth having, with what it costs the games."""
    rows = tuple(askings)
    modes = candidates(rows, signal_path, limits)
    if not rows or not modes:
        return Front(rows, left_out=tuple(row.name for row in rows))
    table = costs(rows, modes, signal_path, limits or Limits())
    picks = solve(table, np.array([row.weight for row in rows]))
    choices = []
    for pick in picks:
        taken = [modes[index] for index in pick.modes]
        choices.append(Choice(tuple(taken), pick.served, pick.cost, pick.gap))
    out = tuple(row.name for row, best in zip(rows, table.min(axis=1), strict=True) if best >= _NEVER)
    return Front(rows, tuple(choices), out)


@dataclass(frozen=True)
class Pick:
    """modes: columns taken. served: for each row the place in `modes`, -1 for none. As in Choice otherwise."""

    modes: tuple[int, ...]
    served: tuple[int, ...]
    cost: float
    gap: float


def solve(table: NDArray[np.float64], weights: NDArray[np.float64]) -> tuple[Pick, ...]:
    """From the fewest columns that serve every row that any column serves, up to as many as still win something.

    table: cost of each row in each column, _NEVER where it may not be; shape (rows, columns). weights: of the rows.
    """
    can = table < _NEVER
    rows = np.flatnonzero(can.any(axis=1))
    columns = np.flatnonzero(can.any(axis=0))
    if not len(rows):
        return ()
    small, heavy = table[np.ix_(rows, columns)], weights[rows]
    fewest = _least_cover(small < _NEVER)
    found: list[Pick] = []
    for count in dict.fromkeys(min(fewest + more, len(columns)) for more in _FURTHER):
        taken, gap = _median(small, heavy, count)
        served = np.argmin(small[:, taken], axis=1)
        cost = float((small[np.arange(len(rows)), taken[served]] * heavy).sum() / heavy.sum())
        if found and cost > found[-1].cost - 1e-9:
            break
        places = np.full(len(table), -1)
        places[rows] = served
        found.append(Pick(tuple(int(columns[each]) for each in taken), tuple(map(int, places)), cost, gap))
    return tuple(found)


def _least_cover(can: NDArray[np.bool_]) -> int:
    """The fewest columns that together serve every row."""
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import csr_array

    rows = np.unique(can, axis=0)
    columns = can.shape[1]
    done = milp(
        np.ones(columns),
        integrality=np.ones(columns),
        bounds=Bounds(0, 1),
        constraints=LinearConstraint(csr_array(rows.astype(float)), 1, np.inf),
        options={"time_limit": _SECONDS},
    )
    return round(done.fun) if done.x is not None else int(rows.shape[0])


def _median(table: NDArray[np.float64], weights: NDArray[np.float64], count: int) -> tuple[NDArray[np.intp], float]:
    """The columns, at most `count`, in which the rows suffer least; the gap to the best bound, 0 for exact."""
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import coo_array

    rows, columns = table.shape
    at_row, at_column = np.nonzero(table < _NEVER)
    pairs = len(at_row)
    size = columns + pairs
    place = np.arange(pairs) + columns
    goal = np.concatenate((np.full(columns, 1e-9), table[at_row, at_column] * weights[at_row]))
    once = coo_array((np.ones(pairs), (at_row, place)), shape=(rows, size))
    only_open = coo_array(
        (
            np.concatenate((np.ones(pairs), -np.ones(pairs))),
            (np.tile(np.arange(pairs), 2), np.concatenate((place, at_column))),
        ),
        shape=(pairs, size),
    )
    most = coo_array((np.ones(columns), (np.zeros(columns, int), np.arange(columns))), shape=(1, size))
    if count >= columns:
        return np.unique(np.argmin(table, axis=1)), 0.0
    done = milp(
        goal,
        integrality=np.concatenate((np.ones(columns), np.zeros(pairs))),
        bounds=Bounds(0, 1),
        constraints=[
            LinearConstraint(once.tocsr(), 1, 1),
            LinearConstraint(only_open.tocsr(), -np.inf, 0),
            LinearConstraint(most.tocsr(), 0, count),
        ],
        options={"time_limit": _SECONDS, "mip_rel_gap": 0.0 if pairs <= _EXACT else _GAP},
    )
    if done.x is None:
        return np.arange(min(columns, count)), 1.0
    gap = float(getattr(done, "mip_gap", 0.0) or 0.0)
    return np.flatnonzero(done.x[:columns] > 0.5), gap


def given_by(choice: Choice, askings: Sequence[Asking]) -> Mapping[str, Mode]:
    """The mode of each system; of several askings of one system the heaviest decides."""
    best: dict[str, tuple[float, Mode]] = {}
    for asking, place in zip(askings, choice.served, strict=True):
        if place >= 0 and asking.weight > best.get(asking.system.id, (0.0, None))[0]:
            best[asking.system.id] = (asking.weight, choice.modes[place])
    return {key: mode for key, (_weight, mode) in best.items()}
