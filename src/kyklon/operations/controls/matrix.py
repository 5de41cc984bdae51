"""An old keyboard's matrix, found out key by key: rows and columns, wrong readings, ghosts, diodes.

Pins of the ribbon are a graph's points, keys its edges; a matrix is a graph with two colours. Readings that
contradict one another are the fewest whose removal leaves one. Ghosts: a current through three closed crossings
closes the fourth, and through five and more where the crossings between have no key.
"""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Iterable, Mapping, Sequence, Set
from dataclasses import dataclass
from itertools import combinations
from pathlib import Path
from typing import TYPE_CHECKING

from kyklon.base.errors import KyklonError
from kyklon.base.late import late
from kyklon.base.reading import bytes_of, text_of
from kyklon.base.shown import visible
from kyklon.model.controls import KeyReading

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray
else:
    np = late("numpy")

MOST_PINS = 24  # of a ribbon
_EXACT_PINS = 17  # pins of which all colourings are tried: 2^16, a few hundredths of a second
AGREE = 2  # equal readings of a key that count as settled, where the graph does not contradict them

Pair = tuple[int, int]


@dataclass(frozen=True)
class Matrix:
    """keys: for each key its row and column pin. rows, columns: pins in order. doubtful: keys to be read again, with
    why. loose: pins that nothing ties to the rest, so which of them are rows is a guess."""

    keys: Mapping[str, Pair]
    rows: tuple[int, ...]
    columns: tuple[int, ...]
    doubtful: Mapping[str, str]
    loose: tuple[int, ...] = ()

    @property
    def whole(self) -> bool:
        return not self.doubtful


def settled(readings: Iterable[KeyReading]) -> tuple[dict[str, Pair], dict[str, str]]:
    """The pair that each key was read as most often, and the keys whose readings do not agree, with why.

    A key is settled by AGREE readings more of one pair than of any other.
    """
    by_key: dict[str, Counter[Pair]] = {}
    for reading in readings:
        one, other = sorted(reading.pins)
        by_key.setdefault(reading.key, Counter())[one, other] += 1
    found: dict[str, Pair] = {}
    doubtful: dict[str, str] = {}
    for key, counts in by_key.items():
        (pair, most), *others = counts.most_common()
        second = others[0][1] if others else 0
        if pair[0] == pair[1]:
            doubtful[key] = "both pins are the same"
            continue
        found[key] = pair
        if others and most - second < AGREE:
            told = ", ".join(f"{one} and {other}" for one, other in counts)
            doubtful[key] = f"read as {told}"
    return found, doubtful


def reconstruct(readings: Sequence[KeyReading]) -> Matrix:
    """Rows, columns and every key's crossing. Doubtful keys stand where most of their readings put them."""
    pairs, doubtful = settled(readings)
    places: dict[Pair, list[str]] = {}
    for key, pair in pairs.items():
        places.setdefault(pair, []).append(key)
    for pair, sharing in places.items():
        if len(sharing) > 1:
            for key in sharing:
                doubtful.setdefault(key, f"{' and '.join(sharing)} both join {pair[0]} and {pair[1]}")
    sure = Counter(pair for key, pair in pairs.items() for _each in range(1 if key in doubtful else 2))
    colours, loose = _coloured(sure)
    for key, (one, other) in pairs.items():
        if colours[one] == colours[other]:
            doubtful.setdefault(key, f"pins {one} and {other} are on one side")
    rows = tuple(sorted(pin for pin, colour in colours.items() if colour == 0))
    columns = tuple(sorted(pin for pin, colour in colours.items() if colour == 1))
    keys = {
        key: (pair if colours[pair[0]] == 0 else (pair[1], pair[0]))
        for key, pair in pairs.items()
        if colours[pair[0]] != colours[pair[1]]
    }
    return Matrix(keys, rows, columns, doubtful, loose)


def _coloured(edges: Mapping[Pair, int]) -> tuple[dict[int, int], tuple[int, ...]]:
    """A side for every pin, so that the least weight of edges lies within a side; the smaller side of the largest
    part is the rows. Pins of the other parts are loose."""
    pins = sorted({pin for pair in edges for pin in pair})
    colours: dict[int, int] = {}
    parts = sorted(_parts(pins, edges), key=lambda part: (-len(part), part))
    for part in parts:
        inner = {pair: weight for pair, weight in edges.items() if pair[0] in part}
        sides = _best_cut(part, inner)
        if 2 * sum(sides.values()) < len(part):
            sides = {pin: 1 - side for pin, side in sides.items()}
        colours |= sides
    return colours, tuple(pin for part in parts[1:] for pin in part)


def _parts(pins: Sequence[int], edges: Iterable[Pair]) -> list[tuple[int, ...]]:
    joined = {pin: {pin} for pin in pins}
    for one, other in edges:
        if joined[one] is not joined[other]:
            union = joined[one] | joined[other]
            for pin in union:
                joined[pin] = union
    return [tuple(sorted(each)) for each in {id(each): each for each in joined.values()}.values()]


def _best_cut(pins: Sequence[int], edges: Mapping[Pair, int]) -> dict[int, int]:
    """Sides with the least weight of edges within a side: all colourings are tried while that is quick."""
    index = {pin: place for place, pin in enumerate(pins)}
    ends = np.array([(index[one], index[other]) for one, other in edges], dtype=np.int64).reshape(-1, 2)
    weights = np.array(list(edges.values()), dtype=np.int64)
    if len(pins) <= _EXACT_PINS:
        every = np.arange(1 << max(0, len(pins) - 1), dtype=np.int64)
        inside = np.zeros(len(every), dtype=np.int64)
        for (one, other), weight in zip(ends, weights, strict=True):
            inside += weight * (1 - (((every >> one) ^ (every >> other)) & 1))
        best = int(every[int(inside.argmin())])
        return {pin: best >> place & 1 for place, pin in enumerate(pins)}
    return _cut_by_milp(pins, ends, weights)


def _cut_by_milp(pins: Sequence[int], ends: NDArray[np.int64], weights: NDArray[np.int64]) -> dict[int, int]:
    """The same for more pins, as a mixed-integer programme (HiGHS): a side for each pin, and for each edge whether its
    ends are on one side. Exact; ribbons of MOST_PINS take a fraction of a second."""
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import coo_array

    count, edges = len(pins), len(ends)
    at = np.arange(edges)
    rows = np.concatenate((at, at, at, at + edges, at + edges, at + edges))
    columns = np.concatenate((ends[:, 0], ends[:, 1], count + at, ends[:, 0], ends[:, 1], count + at))
    ones = np.ones(edges)
    # inside + one + other >= 1 (both on side 0), inside - one - other >= -1 (both on side 1)
    values = np.concatenate((ones, ones, ones, -ones, -ones, ones))
    table = coo_array((values, (rows, columns)), shape=(2 * edges, count + edges)).tocsr()
    least = np.concatenate((ones, -ones))
    first = np.zeros(count + edges)
    upper = np.ones(count + edges)
    upper[0] = 0  # which side is which is settled later
    done = milp(
        np.concatenate((np.zeros(count), weights.astype(float))),
        integrality=np.ones(count + edges),
        bounds=Bounds(first, upper),
        constraints=LinearConstraint(table, least, np.inf),
    )
    return {pin: round(float(done.x[place])) for place, pin in enumerate(pins)}


def read_readings(file: Path) -> tuple[KeyReading, ...]:
    """Readings from a text: key, pin, pin on each line, with commas, tabs or spaces; # begins a remark.

    Raises KyklonError that names the line.
    """
    found = []
    for number, line in enumerate(text_of(bytes_of(file), str(file)).splitlines(), 1):
        words = line.partition("#")[0].replace(",", " ").split()
        if not words:
            continue
        try:
            key, one, other = words
            found.append(KeyReading(key=key.lower(), pins=(int(one), int(other))))
        except ValueError as bad:
            raise KyklonError(
                f"{file}, line {number}: {visible(line.strip()[:60])!r} is not a reading.",
                do="Write key, pin, pin: e.g. a, 7, 13.",
            ) from bad
    if not found:
        raise KyklonError(f"{file} has no readings.", do="Write key, pin, pin on each line.")
    return tuple(found)


@dataclass(frozen=True)
class Ghost:
    """Three keys or more, held together, read as a further one. cure: the key that wants a diode."""

    held: tuple[str, ...]
    seen: str
    cure: str


def ghosts(
    keys: Mapping[str, Pair], sets: Iterable[Iterable[str]] | None = None, diodes: Iterable[str] = ()
) -> tuple[Ghost, ...]:
    """Every three keys that make a fourth read as closed, and what more of them still do once those are cured. sets:
    only within these sets of keys, as a game's; None for the whole keyboard. diodes: keys that let current through one
    way only, from row to column.

    The current runs from the fourth's row through one key, backwards through the middle one, and on through the third:
    a diode at the middle one stops it. Where a crossing has no key, it may run on through two more, and so on.
    """
    own = set(diodes)
    at = {pair: key for key, pair in keys.items()}
    found: dict[tuple[str, str, str, str], Ghost] = {}
    groups = [sorted(keys)] if sets is None else [sorted(set(group) & set(keys)) for group in sets]
    for group in groups:
        by_row: dict[int, dict[int, str]] = {}
        for key in group:
            row, column = keys[key]
            by_row.setdefault(row, {})[column] = key
        for row, across in by_row.items():
            for first, second in combinations(sorted(across), 2):
                # the middle key lies in this row; the two others are this row's other key and one below it
                for corner, far in ((first, second), (second, first)):
                    middle, side = across[corner], across[far]
                    for other, below in by_row.items():
                        if other == row or corner not in below:
                            continue
                        seen = at.get((other, far))
                        if seen is None or middle in own:
                            continue
                        one, two, three = sorted((middle, side, below[corner]))
                        if seen not in (one, two, three):
                            found[one, two, three, seen] = Ghost((one, two, three), seen, middle)
    cured = own | {ghost.cure for ghost in found.values()}
    further = []
    for group in groups:
        while (ghost := _long_ghost(group, keys, at, cured)) is not None:
            further.append(ghost)
            cured.add(ghost.cure)
    return (*(found[each] for each in sorted(found)), *further)


def _long_ghost(
    group: Sequence[str], keys: Mapping[str, Pair], at: Mapping[Pair, str], diodes: Set[str]
) -> Ghost | None:
    """The ghost of the shortest way that current finds through keys of a group, None when it finds none."""
    across: dict[int, list[str]] = {}
    down: dict[int, list[str]] = {}
    for key in group:
        across.setdefault(keys[key][0], []).append(key)
        down.setdefault(keys[key][1], []).append(key)
    ways = ((_way(pair, across, down, keys, diodes), seen) for pair, seen in sorted(at.items()))
    through, seen = min(((way, seen) for way, seen in ways if way), key=lambda each: len(each[0]), default=((), ""))
    return Ghost(tuple(sorted(through)), seen, through[1]) if through else None


def _way(
    pair: Pair,
    across: Mapping[int, Sequence[str]],
    down: Mapping[int, Sequence[str]],
    keys: Mapping[str, Pair],
    diodes: Set[str],
) -> tuple[str, ...]:
    """The fewest keys through which current runs from a row to a column, around the crossing itself; () when it
    does not. across, down: closed keys by row and by column."""
    before: dict[tuple[int, int], tuple[str, ...]] = {(0, pair[0]): ()}  # by row (0) or column (1)
    waiting = deque(before)
    while waiting:
        side, pin = waiting.popleft()
        so_far = before[side, pin]
        if (side, pin) == (1, pair[1]):
            return so_far
        for key in (down if side else across).get(pin, ()):
            there = (1 - side, keys[key][1 - side])
            if keys[key] != pair and there not in before and not (side and key in diodes):
                before[there] = (*so_far, key)
                waiting.append(there)
    return ()


def cures(found: Iterable[Ghost]) -> tuple[str, ...]:
    """Keys that want a diode so that none of these ghosts is left, those that cure most first; a key alone can cure
    its own ghosts only, so all that are named are needed."""
    counts = Counter(ghost.cure for ghost in found)
    return tuple(key for key, _count in sorted(counts.items(), key=lambda each: (-each[1], each[0])))
