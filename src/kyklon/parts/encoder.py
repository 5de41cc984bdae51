"""An encoder or controller learnt by pressing: what it says of itself, how it bounces, which terminal sends what."""

from __future__ import annotations

import itertools
import math
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from kyklon.base.quantities import counted
from kyklon.devices.ports import InputEvent, InputFacts
from kyklon.operations.controls.mapping import event_code
from kyklon.parts.draft import Draft
from kyklon.parts.store import id_of

MULTI_INPUT = 0x40  # linux/hid.h: HID_QUIRK_MULTI_INPUT
PRESSES = 30  # how often a button is pressed for the histograms
SETTLED_S = 0.06  # s without an edge: CP, no contact bounces that long
_APART_S = 0.03  # s between two edges that are not one bounce: CP, bouncing contacts move every few milliseconds
_SAME_S = 0.05  # s: two reports further apart say nothing of the interval
_INTERVALS_MS = (0.125, 0.25, 0.5, 1, 2, 4, 5, 8, 10, 16, 20, 32)  # USB 2.0, 9.6.6: powers of two; full speed any ms
_COHERENT = 0.9  # of 1: times that lie so well on a grid are on it
_MOST_OF_ONE = 12  # buttons; CP: one player's side of a panel has no more
ASKED = ("socket", "tab_mm", "poll_ms", "debounce_ms")


# --- what it says of itself ----------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Players:
    """How many players a node seems to hold. why: in words."""

    count: int
    why: str


def players_in(facts: InputFacts) -> Players:
    """A guess from the counts of axes and buttons: a kernel that takes two pads for one gives the second's lever the
    next free axes, and numbers its buttons on (hid-input, hidinput_configure_usage)."""
    axes = [axis for axis in facts.axes if not axis.code.startswith("ABS_HAT")]
    digital = [axis for axis in axes if axis.high - axis.low <= 2]
    hats = sum(axis.code.startswith("ABS_HAT") for axis in facts.axes) // 2
    levers, count = len(axes) // 2 + hats, len(facts.buttons)
    if len(digital) >= 4 or (levers >= 2 and count > _MOST_OF_ONE):
        return Players(2, f"{levers} joysticks and {counted(count, 'button')} in one device: two players share it.")
    if facts.is_keyboard and count > 20:
        return Players(2, f"It reports as a keyboard with {count} keys: enough for two players.")
    if count > 2 * _MOST_OF_ONE:
        return Players(2, f"{counted(count, 'button')} are more than one player has: two may share it.")
    levers_said = f"{levers} joystick{'' if levers == 1 else 's'}"
    return Players(1, f"{levers_said} and {counted(count, 'button')}: one player.")


def from_facts(facts: InputFacts) -> Draft:
    """A draft from what the device says of itself."""
    by = "the device itself"
    draft = Draft("encoders", asked=ASKED).with_read(
        by,
        name=facts.name or "Encoder",
        device_name=facts.name,
        vendor=facts.vendor,
        product=facts.product,
        version=facts.version,
    )
    guess = players_in(facts)
    draft = draft.offer(guess.why, players=guess.count)
    if facts.interval_ms is not None:
        draft = draft.with_read("its descriptors", poll_ms=facts.interval_ms)
    rows = (
        ("Vendor and product", f"{facts.vendor:04x}:{facts.product:04x}, version {facts.version:x}"),
        ("Speaks as", "a keyboard" if facts.is_keyboard else "a game controller"),
        ("Buttons", str(len(facts.buttons))),
        ("Axes", ", ".join(axis.code.removeprefix("ABS_") for axis in facts.axes) or "none"),
        ("It seems", guess.why),
    )
    return replace(draft.offer("usual for encoders", socket="USB-B"), about=rows)


# --- how it bounces ------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Press:
    """One press of a button: when it began, in s; how long its contacts bounced when it closed, in ms; edges seen."""

    at: float
    bounce_ms: float
    edges: int


@dataclass(frozen=True)
class Measured:
    """bounces: of each press, in ms. gaps: between two reports that follow each other closely, in ms. interval_ms: of
    the grid that all reports lie on, None where there is none to be seen."""

    presses: tuple[Press, ...]
    gaps: tuple[float, ...]
    interval_ms: float | None

    @property
    def bounces(self) -> tuple[float, ...]:
        return tuple(press.bounce_ms for press in self.presses)

    @property
    def longest_ms(self) -> float:
        return max(self.bounces, default=0.0)

    @property
    def enough(self) -> bool:
        return len(self.presses) >= PRESSES


def measured(events: Sequence[InputEvent]) -> Measured:
    """What the presses of one button tell, in the order they came; events of other codes are left aside."""
    code = next((event.code for event in events if event.value), "")
    edges = sorted((event.at, bool(event.value)) for event in events if event.code == code)
    presses: list[Press] = []
    group: list[tuple[float, bool]] = []
    for at, closed in edges:
        if group and at - group[-1][0] > _APART_S:
            presses += _press(group)
            group = []
        group.append((at, closed))
    presses += _press(group)
    times = sorted({event.at for event in events})
    gaps = tuple(round((b - a) * 1000, 4) for a, b in itertools.pairwise(times) if b - a < _SAME_S)
    return Measured(tuple(presses), gaps, interval_of(times))


def _press(group: list[tuple[float, bool]]) -> list[Press]:
    """The press that a run of edges is; none where it ends open: that is a release, with its own bouncing."""
    if not group or not group[0][1]:
        return []
    if not group[-1][1]:  # a tap: it closed and opened again before it had settled
        return [Press(group[0][0], 0.0, len(group))] if len(group) == 2 else []
    return [Press(group[0][0], (group[-1][0] - group[0][0]) * 1000, len(group))]


def interval_of(times: Iterable[float]) -> float | None:
    """The longest interval, in ms, of a grid that nearly all times lie on (Rayleigh's measure of their phases)."""
    seen = np.array(sorted(set(times)))
    if len(seen) < 8:
        return None
    best = None
    for interval in _INTERVALS_MS:
        phases = np.exp(2j * math.pi * (seen - seen[0]) * 1000 / interval)
        if abs(phases.mean()) >= _COHERENT:
            best = interval
    return best


# --- which terminal sends what -------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Stop:
    """A terminal of the walk. event: ABS_Y- and the like, '' while it is not known. skipped: nothing is wired there."""

    id: str
    printed: str
    player: int
    event: str = ""
    skipped: bool = False


@dataclass(frozen=True)
class Walk:
    """The guided walk: each terminal is closed once. resting: events that came before anything was asked, which a stuck
    switch sends. held: events that are on now. odd: what was strange, in words, the last last."""

    stops: tuple[Stop, ...]
    now: int = 0
    held: tuple[str, ...] = ()
    resting: tuple[str, ...] = ()
    odd: tuple[str, ...] = ()
    edges: tuple[tuple[str, float], ...] = ()  # of each code, when it changed last

    @property
    def current(self) -> Stop | None:
        """The terminal that is asked for; None when all are done."""
        return self.stops[self.now] if self.now < len(self.stops) else None

    @property
    def done(self) -> bool:
        return all(stop.event or stop.skipped for stop in self.stops)

    @property
    def ask(self) -> str:
        stop = self.current
        return f"Close terminal {stop.printed}" if stop else "Every terminal is known"

    def heard(self, event: InputEvent) -> Walk:
        """An event came in: what is closed now is the terminal that is asked for."""
        last = dict(self.edges)
        bounces = event.at > 0 and event.at - last.get(event.code, -1.0) <= SETTLED_S
        walk = replace(self, edges=tuple({**last, event.code: event.at}.items()))
        if event.value == 0:
            return replace(walk, held=tuple(each for each in self.held if _code(each) != event.code))
        name = name_of(event)
        if name in self.held or bounces:
            return walk
        walk = replace(walk, held=(*(each for each in self.held if _code(each) != event.code), name))
        stop = self.current
        if stop is None or name in self.resting:
            return walk
        others = [each for each in self.stops if each.event == name]
        fresh = tuple(replace(each, event=name, skipped=False) if each.id == stop.id else each for each in self.stops)
        odd = self.odd
        if others:
            odd = (*odd, f"{stop.printed} sends {name}, and so does {', '.join(each.printed for each in others)}")
        if self.held and set(self.held) - set(self.resting):
            together = ", ".join(sorted(set(self.held) - set(self.resting)))
            odd = (*odd, f"{stop.printed} closed while {together} was pressed: two terminals may be connected")
        walk = replace(walk, stops=fresh, odd=odd)
        return replace(walk, now=walk._next(self.now + 1))

    def listening(self, events: Iterable[InputEvent]) -> Walk:
        """What is on while nothing is asked: when the walk begins, that is a switch which sticks."""
        on: dict[str, str] = {_code(name): name for name in self.resting}
        for event in events:
            if event.value:
                on[event.code] = name_of(event)
            else:
                on.pop(event.code, None)
        return replace(self, resting=tuple(on.values()), held=tuple(on.values()))

    @property
    def stuck(self) -> tuple[str, ...]:
        """What is on though nothing is closed, in words."""
        return tuple(
            f"{name} is on although nothing is pressed: a switch is stuck, or two wires touch" for name in self.resting
        )

    def skip(self) -> Walk:
        """Nothing is to be heard from this terminal, or nothing is wired to it."""
        stop = self.current
        if stop is None:
            return self
        stops = tuple(replace(each, skipped=True, event="") if each.id == stop.id else each for each in self.stops)
        walk = replace(self, stops=stops)
        return replace(walk, now=walk._next(self.now + 1))

    def again(self, stop_id: str) -> Walk:
        """Ask for a terminal (again)."""
        stops = tuple(replace(stop, event="", skipped=False) if stop.id == stop_id else stop for stop in self.stops)
        at = next((index for index, each in enumerate(stops) if each.id == stop_id), self.now)
        return replace(self, stops=stops, now=at)

    def _next(self, start: int) -> int:
        """The next terminal that is not known yet, from `start` on and round; the end when there is none."""
        order = [*range(start, len(self.stops)), *range(min(start, len(self.stops)))]
        return next((at for at in order if not (self.stops[at].event or self.stops[at].skipped)), len(self.stops))


def name_of(event: InputEvent) -> str:
    """The event's name with its sign: ABS_Y-."""
    if event.code.startswith("ABS_"):
        return f"{event.code}{'+' if event.value > 0 else '-'}"
    return event.code


def _code(name: str) -> str:
    return name.rstrip("+-")


def stops_for(players: int, buttons: int, names: Sequence[str] = ()) -> tuple[Stop, ...]:
    """The terminals to walk: each player's lever, then the buttons. names: as they are printed, where the user
    knows."""
    stops = []
    for player in range(1, players + 1):
        own = ["Up", "Down", "Left", "Right", *map(str, range(1, buttons + 1))]
        stops += [Stop(f"{player}-{each.lower()}", f"{player} {each}" if players > 1 else each, player) for each in own]
    if names:
        each_player = max(1, math.ceil(len(names) / players))
        stops = [Stop(f"t{index + 1}", name, index // each_player + 1) for index, name in enumerate(names)]
    return tuple(stops)


@dataclass(frozen=True)
class Proposal:
    """A quirk that the device seems to need. flags 0: none."""

    flags: int = 0
    why: str = ""
    doubles: tuple[tuple[str, str], ...] = field(default=())


def quirk_for(walk: Walk, facts: InputFacts) -> Proposal:
    """Whether the kernel must be told that two players share the node; with the reason, for the user to confirm."""
    first: dict[str, Stop] = {}
    doubles: list[tuple[str, str]] = []
    for stop in walk.stops:
        if not stop.event:
            continue
        other = first.setdefault(stop.event, stop)
        if other is not stop and other.player != stop.player:
            doubles.append((other.printed, stop.printed))
    players = {stop.player for stop in walk.stops if stop.event}
    if len(players) < 2 or facts.is_keyboard:
        return Proposal()
    if doubles:
        pairs = ", ".join(f"{one} and {other}" for one, other in doubles[:3])
        return Proposal(
            MULTI_INPUT,
            f"{pairs} send the same: the kernel merges two gamepads. With the multi-input quirk each "
            "player becomes a separate gamepad.",
            tuple(doubles),
        )
    return Proposal(
        MULTI_INPUT,
        "Two players' terminals report through one device: the kernel makes one gamepad of them. With "
        "the multi-input quirk each player becomes a separate gamepad.",
    )


def finished(draft: Draft, walk: Walk, quirk: Proposal, told: Measured | None = None) -> Draft:
    """The draft with what the walk and the pressing gave. quirk: as the user confirmed it."""
    rows: list[dict[str, Any]] = [
        {"id": stop.id, "printed": stop.printed, "player": stop.player, "event": stop.event}
        for stop in walk.stops
        if stop.event
    ]
    players = max((stop.player for stop in walk.stops if stop.event), default=1)
    made = draft.with_measured("closing each terminal", terminals=rows, players=players)
    if quirk.flags:
        made = made.with_value("quirk_flags", quirk.flags).with_value("quirk_why", quirk.why)
    return with_presses(made, told) if told is not None else made


def typed_terminals(draft: Draft, words: Iterable[str]) -> Draft:
    """The draft with terminals that somebody writes down: '1U=ABS_Y-', with the player before a dot where there are
    several, '2.2U=ABS_Y-'. Raises ValueError in words."""
    rows = []
    for word in words:
        match = re.fullmatch(r"(?:([1-8])\.)?([^=.]{1,12})=([A-Z][A-Z0-9_]{2,40}[+-]?)", word.strip())
        if match is None:
            raise ValueError(f"“{word[:40]}” is not a terminal; write it as 1U=ABS_Y- or 2.2U=ABS_Y-")
        player, printed, event = int(match[1] or 1), match[2].strip(), match[3]
        event_code(event)
        rows.append({"id": id_of(f"{player}-{printed}"), "printed": printed, "player": player, "event": event})
    ids = [row["id"] for row in rows]
    twice = next((each for each in ids if ids.count(each) > 1), "")
    if twice:
        raise ValueError(f"Terminal {twice} is given twice")
    players = max((int(row["player"]) for row in rows), default=1)
    return draft.with_value("terminals", rows).with_value("players", players) if rows else draft


def with_presses(draft: Draft, told: Measured) -> Draft:
    """The draft with what pressing one button gave."""
    if not told.presses:
        return draft
    count = f"{len(told.presses)} presses"
    longest = max(told.longest_ms, told.interval_ms or 0.1)  # what is shorter than the interval is not to be seen
    made = draft.with_measured(count, debounce_ms=round(longest, 2))
    return made.with_measured(count, poll_ms=told.interval_ms) if told.interval_ms is not None else made
