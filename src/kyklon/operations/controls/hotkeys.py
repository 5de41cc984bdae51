"""Hold and press: which two switches do what besides playing, and how often play would do it by accident."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations

from kyklon.catalogue.system_records import System
from kyklon.model.controls import DIRECTIONS, ControlSettings, Hotkey
from kyklon.operations.controls.hookup import Hookup, chosen
from kyklon.operations.controls.mapping import spoken

PRESSES = 2.0  # presses a second of an input that is down all the time in play, CP
HELD_S = 0.15  # s that a button is held in play, CP
LEVER_S = 0.5  # s that a lever is held one way, CP
ROLL = 0.25  # of the presses of one button its neighbour under the same finger is pressed too, CP
RARE = 0.2  # accidents an hour that nobody minds, CP
ACTIONS = ("leave", "reset", "save", "load")


@dataclass(frozen=True)
class Risk:
    """hotkey, control: switch names without the seat. hourly: accidents an hour in the system where it is worst.
    system: by name. why: in words."""

    hotkey: str
    control: str
    hourly: float
    system: str = ""
    why: str = ""

    @property
    def bad(self) -> bool:
        return self.hourly > RARE


def games_of(settings: ControlSettings, system: System) -> tuple[str, ...]:
    """'' for the system's own map, and every game that has one of its own."""
    return (
        "",
        *(system_map.game for system_map in settings.maps if system_map.system == system.id and system_map.game),
    )


@dataclass(frozen=True)
class Play:
    """How a system, or a game with a map of its own, uses the switches. down: presses a second and how long each is
    held, s; labels: what is on a switch; chords: switches that it holds together, with what they are."""

    name: str
    down: Mapping[str, tuple[float, float]]
    labels: Mapping[str, str]
    chords: Mapping[frozenset[str], str]


def plays_of(hookup: Hookup, systems: Sequence[System]) -> tuple[Play, ...]:
    """Every system's own map, and every game's."""
    found = []
    for system in systems:
        inputs = {each.id: each for each in system.inputs}
        for game in games_of(hookup.settings, system):
            uses: dict[str, float] = {}
            labels: dict[str, str] = {}
            places = chosen(hookup.settings, system, game)
            for own, place in places.items():
                if place:
                    uses[place] = max(uses.get(place, 0.0), inputs[own].use)
                    labels[place] = inputs[own].label
            down = {place: (PRESSES * use, LEVER_S if place in DIRECTIONS else HELD_S) for place, use in uses.items()}
            chords: dict[frozenset[str], str] = {}
            for chord in system.chords:
                names = " and ".join(inputs[each].label if each in inputs else each for each in chord)
                held = [places[each] for each in chord if places.get(each)]
                chords |= {frozenset(pair): names for pair in combinations(held, 2)}
            found.append(Play(f"{system.name}, {game}" if game else system.name, down, labels, chords))
    return tuple(found)


def risk(hookup: Hookup, systems: Sequence[System], hotkey: str, control: str, hold_s: float = 0.0) -> Risk:
    """About how often play holds both at once, whichever came first, the hotkey for so long: independent presses, how
    long they last and the pauses between drawn at random (exponential); more where games want the two together or one
    finger rolls over both. hold_s in s."""
    return _risk(hookup, plays_of(hookup, systems), hotkey, control, hold_s)


def _risk(hookup: Hookup, plays: Sequence[Play], hotkey: str, control: str, hold_s: float) -> Risk:
    worst = Risk(hotkey, control, 0.0)
    finger = _one_finger(hookup, hotkey, control)
    for play in plays:
        hourly, why = _hourly(play, hotkey, control, hold_s, finger=finger)
        if hourly > worst.hourly:
            worst = Risk(hotkey, control, hourly, play.name, why)
    return worst


def _hourly(play: Play, hotkey: str, control: str, hold_s: float, *, finger: bool) -> tuple[float, str]:
    if hotkey not in play.down or control not in play.down:
        return 0.0, ""
    (first_rate, first_s), (then_rate, then_s) = play.down[hotkey], play.down[control]
    long_enough = math.exp(-hold_s / first_s)
    # when the hotkey has been held long enough the other is down already, or it comes while the hotkey stays down
    down = then_rate * then_s / (1 + then_rate * then_s)
    comes = then_rate * first_s / (1 + then_rate * first_s)
    hourly = 3600 * first_rate * long_enough * (down + (1 - down) * comes)
    one, other = play.labels[hotkey], play.labels[control]
    together = play.chords.get(frozenset((hotkey, control)), "")
    if together:
        return hourly + 3600 * PRESSES * 0.5 * long_enough, f"games hold {together} together"
    if finger:
        rolled = 3600 * ROLL * min(first_rate, then_rate) * long_enough
        return hourly + rolled, f"one finger rolls over {one} and {other}"
    return hourly, f"play uses both: {one} and {other}"


def _one_finger(hookup: Hookup, one: str, other: str) -> bool:
    """Whether two buttons lie one behind the other under one finger, in any seat."""
    for seat in hookup.layout.seats:
        a, b = seat.control(one), seat.control(other)
        if a is not None and b is not None and abs(a.x - b.x) < a.bore * 0.8 and abs(a.y - b.y) < a.bore * 1.6:
            return True
    return False


def reachable(hookup: Hookup, player: int = 1) -> tuple[str, ...]:
    """Switches of a seat that are wired and are no lever's."""
    seat = hookup.layout.seat(player)
    return tuple(
        name
        for control in (seat.controls if seat else ())
        if control.kind not in ("lever", "spinner", "trackball")
        for name in control.switches
        if f"p{player}.{name}" in hookup.wired
    )


def candidates(hookup: Hookup, systems: Sequence[System], hold_s: float = 0.0) -> tuple[Risk, ...]:
    """Every pair of buttons of the first seat, the safest first; of equals the one that play uses least, and small
    buttons before play buttons."""
    names = reachable(hookup)
    seat = hookup.layout.seat(1)
    small = {control.id for control in seat.controls if control.kind in ("select", "start", "coin")} if seat else set()
    plays = plays_of(hookup, systems)
    found = [_risk(hookup, plays, one, other, hold_s) for one in names for other in names if one != other]
    order = {name: index for index, name in enumerate(names)}

    def rank(each: Risk) -> tuple[float, int, int, int, int]:
        return (
            round(each.hourly, 3),
            each.hotkey not in small,
            each.hotkey != "select",
            order[each.hotkey],
            order[each.control],
        )

    return tuple(sorted(found, key=rank))


def proposed(hookup: Hookup, systems: Sequence[System], hold_s: float = 0.0) -> tuple[str, tuple[Hotkey, ...]]:
    """A hotkey and an action on each of the best four partners; leaving gets the safest. '' without two buttons."""
    ranked = candidates(hookup, systems, hold_s)
    if not ranked:
        return "", ()
    by_key: dict[str, list[Risk]] = {}
    for each in ranked:
        by_key.setdefault(each.hotkey, []).append(each)
    small = ("select", "coin", "start")

    def whole(key: str) -> tuple[float, int]:
        return round(sum(each.hourly for each in by_key[key][: len(ACTIONS)]), 3), small.index(
            key
        ) if key in small else 9

    key = min(by_key, key=whole)
    partners = sorted(by_key[key], key=lambda each: (round(each.hourly, 3), each.control != "start"))
    return key, tuple(
        Hotkey(action=action, control=each.control) for action, each in zip(ACTIONS, partners, strict=False)
    )


HOLDS_S = (0.0, 0.5, 1.0, 1.5, 2.0, 3.0)  # s that a hotkey may have to be held before it counts, CP


def safest(hookup: Hookup, systems: Sequence[System]) -> tuple[str, tuple[Hotkey, ...], float]:
    """The proposal with the shortest time to hold under which no action happens by accident; the longest where none
    is."""
    key, keys = "", tuple[Hotkey, ...]()
    for hold_s in HOLDS_S:
        key, keys = proposed(hookup, systems, hold_s)
        plays = plays_of(hookup, systems)
        if not any(_risk(hookup, plays, key, each.control, hold_s).bad for each in keys):
            return key, keys, hold_s
    return key, keys, HOLDS_S[-1]


@dataclass(frozen=True)
class Trouble:
    """Something wrong with the hotkeys. code: for the finding; stop: no game can be left."""

    code: str
    words: str
    why: str
    stop: bool = False


def troubles(hookup: Hookup, systems: Sequence[System]) -> Iterator[Trouble]:
    """Everything that is wrong with the build's hotkeys, over every system and every game's own map."""
    settings = hookup.settings
    counts: dict[str, list[str]] = {}
    for key in settings.hotkeys:
        counts.setdefault(key.control, []).append(key.action)
    doubled = [
        f"{spoken(control)} does both {' and '.join(actions)}"
        for control, actions in counts.items()
        if len(actions) > 1
    ]
    own = [f"“{key.action}” uses the hotkey itself" for key in settings.hotkeys if key.control == settings.hotkey]
    if doubled or own:
        yield Trouble(
            "clash", "; ".join([*doubled, *own]) + ".", "One of the two actions will never happen, or both at once."
        )
    names = reachable(hookup)
    leave = next((key for key in settings.hotkeys if key.action == "leave"), None)
    if not settings.hotkeys and not settings.hotkey:
        return
    if leave is None:
        yield Trouble(
            "no-exit", "No hotkey quits a game.", "You would have to pull the plug, which can damage the card."
        )
        return
    missing = [each for each in (settings.hotkey, leave.control) if each not in names]
    if missing:
        words = f"{' and '.join(map(spoken, missing))} cannot be pressed at seat 1: no wired button has that name."
        yield Trouble("exit-lost", words, "You cannot exit a game.", stop=True)
    told = [
        (key, risk(hookup, systems, settings.hotkey, key.control, settings.hold_s))
        for key in settings.hotkeys
        if key.control != settings.hotkey
    ]
    bad = [(key, found) for key, found in told if found.bad]
    if bad:
        accidents = [
            f"“{key.action}” ({spoken(settings.hotkey)} and {spoken(key.control)}) would be triggered by accident "
            f"about {_often(found.hourly)} in {found.system}."
            for key, found in bad
        ]
        why = max((found for _key, found in bad), key=lambda found: found.hourly).why
        yield Trouble("accident", " ".join(accidents), f"{why[:1].upper()}{why[1:]}.")


def _often(hourly: float) -> str:
    """A rate as people say it."""
    if hourly >= 90:
        return f"{hourly / 60:.0f} times a minute"
    if hourly >= 50:
        return "once a minute"
    if hourly >= 1.5:
        return f"{hourly:.0f} times an hour"
    return "once an hour" if hourly >= 0.7 else f"once every {1 / hourly:.0f} hours"
