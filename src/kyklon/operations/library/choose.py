"""What fits: a knapsack over what games are worth and the clusters they take (domain: ceil(size / cluster))."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from kyklon.base.errors import KyklonError
from kyklon.base.late import late
from kyklon.base.quantities import show_bytes
from kyklon.model.library import Choice

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray
else:
    np = late("numpy")

FAVOURITE = 8.0  # games of no mark that a favourite outweighs, CP
SECONDS = 3.0  # that a choice may take
_NEAR = 1e-4  # of the bound, at which nothing more is looked for among many games
_SMALL = 3000  # games around the break that are settled to the last one
GAP = 0.001  # of the best there can be, at which it is good enough
SIZES = (8, 16, 32, 64, 128, 256, 512, 1024)  # GB of the cards that are sold
_LARGER = 1.05  # times as many bytes: cards of one print differ by a few hundredths, CP
_FORMAT_SHARE = 0.985  # of a card's bytes that its file system leaves for files, CP


@dataclass(frozen=True, slots=True)
class Item:
    """A game to choose of. files: sizes in bytes. worth: 1 for any game. must: goes along whatever it takes."""

    key: str
    files: tuple[int, ...]
    worth: float = 1.0
    must: bool = False


def takes(sizes: Iterable[int], cluster: int, extra: Sequence[int] = ()) -> int:
    """Bytes of a game on a file system with clusters of that size. extra: more files, such as saves and a picture."""
    return sum(-(-size // cluster) * cluster for size in (*sizes, *extra))


def choose(items: Sequence[Item], room: int, cluster: int, extra: Sequence[int] = ()) -> Choice:
    """The worthiest set that fits. room: bytes for games. Raises KyklonError when what must go along does not fit."""
    costs = np.array([takes(each.files, cluster, extra) for each in items], dtype=np.float64)
    worths = np.array([each.worth for each in items], dtype=np.float64)
    must = np.array([each.must for each in items], dtype=bool)
    needed = int(costs[must].sum())
    if needed > room:
        raise KyklonError(
            f"The games marked “always include” take {show_bytes(needed)}; there is room for {show_bytes(room)}.",
            do="Unmark some of them, or plan a larger card.",
        )
    if costs.sum() <= room:
        kept, gap = np.ones(len(items), dtype=bool), 0.0
    else:
        kept, gap = _knapsack(costs, worths, must, float(room))
    names = np.array([each.key for each in items], dtype=object)
    return Choice(
        frozenset(names[kept]),
        frozenset(names[~kept]),
        int(costs[kept].sum()),
        room,
        gap,
        float(worths[kept].sum()),
        float(worths.sum()),
    )


def _knapsack(
    costs: NDArray[np.float64], worths: NDArray[np.float64], must: NDArray[np.bool_], room: float
) -> tuple[NDArray[np.bool_], float]:
    """What to keep, and the gap to the bound that was proved.

    What stands so far from the break in worth by the byte that no better set can have it otherwise is settled first
    (Dembo and Hammer 1980, by reduced costs); the solver is left with the few around the break.
    """
    from scipy.optimize import Bounds, LinearConstraint, milp

    best = _greedy(costs, worths, must, room)
    bound, price = _bound(costs, worths, must, room)
    reduced = worths - price * costs
    slack = bound - float(worths[best].sum())
    surely, never = must | (reduced > slack + 1e-9), ~must & (reduced < -slack - 1e-9)
    core = ~(surely | never)
    left = room - float(costs[surely].sum())
    near = len(costs) > _SMALL and slack < _NEAR * bound  # what is left to win is less than a game in ten thousand
    if slack > 1e-9 and core.any() and left >= 0 and not near:
        scale = max(1.0, room / 1e6)  # HiGHS takes small differences of large numbers for none
        found = milp(
            -worths[core],
            constraints=LinearConstraint(costs[core][None, :] / scale, -np.inf, left / scale),
            bounds=Bounds(0, 1),
            integrality=np.ones(int(core.sum())),
            options={"time_limit": SECONDS, "mip_rel_gap": 0.0 if core.sum() < _SMALL else GAP},
        )
        if found.x is not None:
            kept = surely.copy()
            kept[core] = found.x > 0.5
            if costs[kept].sum() <= room:
                kept = _filled(kept, costs, worths, room)
                best = kept if worths[kept].sum() > worths[best].sum() else best
            proved = getattr(found, "mip_dual_bound", None)
            if proved is not None and math.isfinite(proved):
                bound = min(bound, float(worths[surely].sum()) - proved)
    return best, max(0.0, (bound - float(worths[best].sum())) / bound) if bound > 0 else 0.0


def _greedy(
    costs: NDArray[np.float64], worths: NDArray[np.float64], must: NDArray[np.bool_], room: float
) -> NDArray[np.bool_]:
    return _filled(must.copy(), costs, worths, room)


def _filled(
    kept: NDArray[np.bool_], costs: NDArray[np.float64], worths: NDArray[np.float64], room: float
) -> NDArray[np.bool_]:
    """With whatever still fits, the worthiest by the byte first."""
    left = room - float(costs[kept].sum())
    for index in np.argsort(-worths / np.maximum(costs, 1.0), kind="stable"):
        if not kept[index] and costs[index] <= left:
            kept[index] = True
            left -= float(costs[index])
    return kept


def _bound(
    costs: NDArray[np.float64], worths: NDArray[np.float64], must: NDArray[np.bool_], room: float
) -> tuple[float, float]:
    """The most worth there could be if games could be cut (Dantzig 1957), and the worth of a byte at the break."""
    left, worth, price = room - float(costs[must].sum()), float(worths[must].sum()), 0.0
    for index in np.argsort(-worths / np.maximum(costs, 1.0), kind="stable"):
        if must[index]:
            continue
        price = float(worths[index] / max(1.0, costs[index]))
        share = min(1.0, left / costs[index]) if costs[index] else 1.0
        worth += share * float(worths[index])
        left -= share * float(costs[index])
        if share < 1:
            return worth, price
    return worth, 0.0


def next_larger(
    items: Sequence[Item], room: int, card: int, cluster: int, extra: Sequence[int] = ()
) -> tuple[int, Choice] | None:
    """The next larger card, in bytes, and what it would hold; None when all fits already. card: bytes of today's."""
    if sum(takes(each.files, cluster, extra) for each in items) <= room:
        return None
    other = max(0, int(card * _FORMAT_SHARE) - room)  # what else lies on the card; formatting takes its share once
    larger = next((gb * 10**9 for gb in SIZES if gb * 10**9 > card * _LARGER), None)
    if larger is None:
        return None
    more = int(larger * _FORMAT_SHARE) - other
    return (larger, choose(items, more, cluster, extra)) if more > room else None


def worth_of(key: str, favourites: Iterable[str], plays: Mapping[str, int]) -> float:
    """1, more for a favourite, and for each doubling of how often it was played."""
    return 1.0 + (FAVOURITE if key in favourites else 0.0) + math.log2(1 + plays.get(key, 0))
