"""When each step is done: hands and resources one at a time, evenings filled, what runs by itself at their ends.

A serial schedule of a list of steps: each begins as soon as what it needs is done and free. The list is the best of
several orders, on small nets of all (Kolisch 1996, serial schedule generation). Times are minutes from the first
evening.
"""

from __future__ import annotations

import random
from bisect import bisect_right, insort
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from heapq import heapify, heappop, heappush
from itertools import permutations, product

from kyklon.model.plan import Evening
from kyklon.operations.plan.steps import Range, Step, expected

EXACT = 7  # steps of which every order is tried
_TRIES = 60  # orders drawn beside the usual ones
_FEW = 80  # steps up to which orders are drawn
_MOVES = 1000  # steps decoded in all in orders drawn at random, and as many while single steps are moved
_BEST = 3  # orders that are improved
SAMPLES = 200  # of a simulated finish
FAR = 1e9  # minutes: beyond every evening


@dataclass(frozen=True)
class Slot:
    """A step in time. pieces: when hands are on it; end: when it is done with what runs by itself."""

    step: Step
    pieces: tuple[tuple[float, float], ...]
    end: float

    @property
    def start(self) -> float:
        return self.pieces[0][0] if self.pieces else self.end

    @property
    def hands_end(self) -> float:
        return self.pieces[-1][1] if self.pieces else self.start


@dataclass(frozen=True)
class Schedule:
    """slots: in order of their start. critical: ids of the longest chain. left: steps that no evening holds. finish:
    when the last one is done; likely: minutes by which half and nine of ten simulated runs are done."""

    begin: datetime
    windows: tuple[tuple[float, float], ...]
    slots: tuple[Slot, ...]
    critical: tuple[str, ...]
    left: tuple[Step, ...] = ()
    likely: tuple[float, float] = (0.0, 0.0)

    @property
    def finish(self) -> float:
        return max((slot.end for slot in self.slots), default=0.0)

    def at(self, minutes: float) -> datetime:
        return self.begin + timedelta(minutes=minutes)

    @property
    def hands(self) -> float:
        """Minutes of handwork in all."""
        return sum(end - start for slot in self.slots for start, end in slot.pieces)


# --- the net --------------------------------------------------------------------------------------------------------


def _followers(steps: Sequence[Step]) -> dict[str, list[str]]:
    """What waits for each step."""
    known = {step.id for step in steps}
    found: dict[str, list[str]] = {step.id: [] for step in steps}
    for step in steps:
        for name, _why in step.after:
            if name in known:
                found[name].append(step.id)
    return found


def by_rank(steps: Sequence[Step], rank: Mapping[str, float]) -> list[Step]:
    """Steps so that each comes after what it needs, of those that are ready the highest rank first. Raises ValueError
    for a circle."""
    known, followers = {step.id: step for step in steps}, _followers(steps)
    open_ = {step.id: sum(name in known for name, _why in step.after) for step in steps}
    place = {step.id: number for number, step in enumerate(steps)}
    ready = [(-rank[name], place[name], name) for name, count in open_.items() if not count]
    heapify(ready)
    found = []
    while ready:
        *_rank, name = heappop(ready)
        found.append(known[name])
        for other in followers[name]:
            open_[other] -= 1
            if not open_[other]:
                heappush(ready, (-rank[other], place[other], other))
    if len(found) < len(steps):
        waiting = ", ".join(step.title for step in steps if open_[step.id])
        raise ValueError(f"These steps wait for each other: {waiting}")
    return found


def ordered(steps: Sequence[Step]) -> list[Step]:
    """Steps so that each comes after what it needs, else as they are given. Raises ValueError for a circle."""
    return by_rank(steps, {step.id: 0.0 for step in steps})


def tails(steps: Sequence[Step]) -> dict[str, float]:
    """Minutes of the longest chain that begins with a step, itself included."""
    followers = _followers(steps)
    found: dict[str, float] = {}
    for step in reversed(ordered(steps)):
        found[step.id] = step.minutes + max((found[name] for name in followers[step.id]), default=0.0)
    return found


def critical_path(steps: Sequence[Step]) -> tuple[str, ...]:
    """Ids of the longest chain by expected minutes."""
    long, known, followers = tails(steps), {step.id for step in steps}, _followers(steps)
    path: list[str] = []
    ready = [step.id for step in steps if not any(name in known for name, _why in step.after)]
    while ready:
        path.append(max(ready, key=lambda name: (long[name], name)))
        ready = followers[path[-1]]
    return tuple(path)


# --- time -----------------------------------------------------------------------------------------------------------


class _Free:
    """What is free of a resource: whole time but for what was taken. Intervals are kept apart and in order."""

    def __init__(self, windows: Sequence[tuple[float, float]]) -> None:
        self.gaps = list(windows)

    def pieces(self, start: float, need: float) -> tuple[tuple[float, float], ...]:
        """The first pieces of free time from `start` on that come to `need`; () where there are none."""
        found: list[tuple[float, float]] = []
        index = max(0, bisect_right(self.gaps, (start, FAR)) - 1)
        for low, high in self.gaps[index:]:
            begin = max(low, start)
            if high <= begin:
                continue
            end = min(high, begin + need)
            found.append((begin, end))
            need -= end - begin
            if need <= 1e-9:
                return tuple(found)
        return ()

    def free_from(self, start: float, length: float) -> float:
        """The first moment from `start` on at which it is free for so long without a break."""
        index = max(0, bisect_right(self.gaps, (start, FAR)) - 1)
        for low, high in self.gaps[index:]:
            begin = max(low, start)
            if high - begin >= length - 1e-9:
                return begin
        return FAR

    def take(self, start: float, end: float) -> None:
        if end <= start:
            return
        index = max(0, bisect_right(self.gaps, (start, FAR)) - 1)
        touched = []
        while index < len(self.gaps) and self.gaps[index][0] < end:
            if self.gaps[index][1] > start:
                touched.append(index)
            index += 1
        rest = []
        for number in touched:
            low, high = self.gaps[number]
            rest += [(low, start)] if low < start else []
            rest += [(end, high)] if high > end else []
        for number in reversed(touched):
            del self.gaps[number]
        for gap in rest:
            insort(self.gaps, gap)


Minutes = Mapping[str, tuple[float, float]]  # of hands and alone, by step


def decoded(order: Sequence[Step], minutes: Minutes, windows: Sequence[tuple[float, float]]) -> list[Slot]:
    """Each step of a list as early as what it needs is done, hands are free and its resources are. A step that no
    window holds is left out, and all that needs it."""
    hands, resources = _Free(windows), dict[str, _Free]()
    ends: dict[str, float] = {}
    known = {step.id for step in order}
    slots = []
    for step in order:
        needed = [name for name, _why in step.after if name in known]
        if any(name not in ends for name in needed):
            continue
        need, alone = minutes[step.id]
        start = max((ends[name] for name in needed), default=0.0)
        own = [resources.setdefault(name, _Free([(0.0, FAR)])) for name in {*step.uses, *step.holds}]
        while True:
            pieces = hands.pieces(start, need) if need > 0 else ((start, start),)
            if not pieces:
                break
            begin, last = pieces[0][0], pieces[-1][1]
            free = max((resource.free_from(begin, last + alone - begin) for resource in own), default=begin)
            if free <= begin + 1e-9:
                break
            start = free
        if not pieces or pieces[-1][1] >= FAR / 2:
            continue
        end = pieces[-1][1] + alone
        for low, high in pieces:
            hands.take(low, high)
        for name in step.uses:
            resources[name].take(pieces[0][0], end if name in step.holds else pieces[-1][1])
        ends[step.id] = end
        slots.append(Slot(step, pieces if need > 0 else (), end))
    return slots


def _orders(steps: Sequence[Step], minutes: Minutes) -> list[list[Step]]:
    """Orders worth trying: the longest chain first, what runs long by itself first, and some drawn at random."""
    long = tails(steps)

    alone = {step.id: minutes[step.id][1] for step in steps}
    found = [by_rank(steps, long), by_rank(steps, {name: alone[name] + value / 1e6 for name, value in long.items()})]
    if len(steps) <= _FEW:
        chance = random.Random(len(steps))
        for _ in range(_TRIES):
            found.append(by_rank(steps, {name: value * chance.uniform(0.3, 1.7) for name, value in long.items()}))
        for _ in range(_MOVES // len(steps) if len(steps) > EXACT else 0):
            found.append(by_rank(steps, {step.id: chance.random() for step in steps}))
    return found


def _cost(slots: Sequence[Slot], count: int) -> tuple[int, float, float]:
    """What is better comes first: more steps, an earlier end, less time on which everything waits."""
    return count - len(slots), max((slot.end for slot in slots), default=0.0), sum(slot.end for slot in slots)


def arranged(steps: Sequence[Step], windows: Sequence[tuple[float, float]]) -> tuple[list[Slot], list[Step]]:
    """The best schedule found, and its order."""
    minutes = {step.id: (expected(step.hands), expected(step.alone)) for step in steps}
    orders = _orders(steps, minutes)
    if len(steps) <= EXACT:
        known = {step.id for step in steps}
        for order in permutations(steps):
            place = {step.id: index for index, step in enumerate(order)}
            if all(place[name] < place[step.id] for step in order for name, _why in step.after if name in known):
                orders.append(list(order))

    def cost(order: Sequence[Step]) -> tuple[int, float, float]:
        return _cost(decoded(order, minutes, windows), len(steps))

    if EXACT < len(steps) <= _FEW:
        orders = [_improved(order, minutes, windows) for order in sorted(orders, key=cost)[:_BEST]]
    best = min(orders, key=cost)
    return decoded(best, minutes, windows), best


def _improved(order: list[Step], minutes: Minutes, windows: Sequence[tuple[float, float]]) -> list[Step]:
    """An order in which no step moved by itself ends earlier, as far as the tries go."""
    count, left = len(order), _MOVES // len(order)
    known = {step.id for step in order}
    cost = _cost(decoded(order, minutes, windows), count)
    better = True
    while better:
        better = False
        for start, end in product(range(count), repeat=2):
            if start == end:
                continue
            moved = [*order[:start], *order[start + 1 :]]
            moved.insert(end, order[start])
            place = {step.id: index for index, step in enumerate(moved)}
            if any(name in known and place[name] > place[step.id] for step in moved for name, _why in step.after):
                continue
            if not left:
                return order
            left -= 1
            value = _cost(decoded(moved, minutes, windows), count)
            if value < cost:
                order, cost, better = moved, value, True
    return order


def windows_of(evenings: Sequence[Evening], begin: datetime) -> tuple[tuple[float, float], ...]:
    """The evenings in minutes from `begin`, in order, joined where they overlap; always where there are none."""
    if not evenings:
        return ((0.0, FAR),)
    rows = []
    for evening in evenings:
        start = datetime.fromisoformat(f"{evening.day}T{evening.start}")
        at = (start - begin).total_seconds() / 60
        rows.append((at, at + evening.minutes))
    joined: list[tuple[float, float]] = []
    for low, high in sorted(rows):
        if joined and low <= joined[-1][1]:
            joined[-1] = joined[-1][0], max(high, joined[-1][1])
        else:
            joined.append((low, high))
    return tuple(joined)


def schedule(steps: Sequence[Step], evenings: Sequence[Evening], now: datetime, samples: int = SAMPLES) -> Schedule:
    """A schedule of what is not done, from the first evening on, or from now where none is given."""
    open_steps = ordered([step for step in steps if not step.done])
    done = {step.id for step in steps if step.done}
    open_steps = [_without(step, done) for step in open_steps]
    begin = min((datetime.fromisoformat(f"{each.day}T{each.start}") for each in evenings), default=now)
    windows = windows_of(evenings, begin)
    slots, order = arranged(open_steps, windows)
    held = {slot.step.id for slot in slots}
    return Schedule(
        begin,
        windows,
        tuple(sorted(slots, key=lambda slot: (slot.start, slot.end))),
        critical_path(open_steps),
        tuple(step for step in open_steps if step.id not in held),
        simulated([step for step in order if step.id in held], samples),
    )


def _without(step: Step, done: set[str]) -> Step:
    return replace(step, after=tuple(row for row in step.after if row[0] not in done))


def simulated(order: Sequence[Step], samples: int = SAMPLES, seed: int = 1) -> tuple[float, float]:
    """Minutes of work and waiting by which half, and nine of ten, of the runs are done, hands always free: each step
    between its least and most (triangular)."""
    if not order or not samples:
        return 0.0, 0.0
    chance = random.Random(seed)
    ends = []
    for _ in range(samples):
        minutes = {step.id: (_drawn(step.hands, chance), _drawn(step.alone, chance)) for step in order}
        ends.append(max(slot.end for slot in decoded(order, minutes, ((0.0, FAR),))))
    ends.sort()
    return ends[len(ends) // 2], ends[min(len(ends) - 1, round(len(ends) * 0.9))]


def _drawn(values: Range, chance: random.Random) -> float:
    low, usual, high = values
    return chance.triangular(low, high, usual) if high > low else low


# --- iCalendar ------------------------------------------------------------------------------------------------------


def as_icalendar(made: Schedule, name: str, stamp: datetime) -> str:
    """The handwork as events, floating local time (RFC 5545)."""
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Kyklon//Schedule//EN", f"X-WR-CALNAME:{_text(name)}"]
    for slot in made.slots:
        for number, (low, high) in enumerate(slot.pieces):
            if high - low < 0.5:
                continue
            lines += [
                "BEGIN:VEVENT",
                f"UID:{_text(slot.step.id)}-{number}-{made.begin:%Y%m%dT%H%M}@kyklon.invalid",
                f"DTSTAMP:{stamp:%Y%m%dT%H%M%S}Z",
                f"DTSTART:{made.at(low):%Y%m%dT%H%M%S}",
                f"DTEND:{made.at(high):%Y%m%dT%H%M%S}",
                f"SUMMARY:{_text(slot.step.title)}",
                f"DESCRIPTION:{_text(_why(slot.step))}",
                "END:VEVENT",
            ]
    lines.append("END:VCALENDAR")
    return "".join(f"{folded}\r\n" for line in lines for folded in _folded(line))


def _why(step: Step) -> str:
    alone = expected(step.alone)
    after = "; ".join(why for _name, why in step.after)
    runs = f"Then it runs by itself for about {alone:.0f} min. " if alone >= 1 else ""
    return f"{runs}{after[:1].upper()}{after[1:]}" if after else runs.strip()


def _text(value: str) -> str:
    """TEXT of RFC 5545, 3.3.11."""
    out = value.replace("\\", "\\\\").replace(";", "\\;").replace(",", "\\,")
    return " ".join(out.split())


def _folded(line: str) -> list[str]:
    """Lines of at most 75 octets, a space before each further one (RFC 5545, 3.1)."""
    found, current = [], ""
    for letter in line:
        if len((current + letter).encode()) > 74:
            found.append(current)
            current = " "
        current += letter
    return [*found, current]
