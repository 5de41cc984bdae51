"""Service order: what starts, what never starts because something in the foreground never returns."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from kyklon.model.card import Unit


@dataclass(frozen=True)
class Step:
    """One service in order. starts: False for those behind a service that never returns."""

    name: str
    starts: bool
    foreground: bool


def track(services: tuple[str, ...], foreground: str) -> tuple[Step, ...]:
    """The services in their order with what becomes of each."""
    steps, blocked = [], False
    for name in services:
        steps.append(Step(name, not blocked, name == foreground))
        blocked = blocked or name == foreground
    return tuple(steps)


def repaired(services: tuple[str, ...], foreground: str) -> tuple[str, ...]:
    """The same services with the foreground one last."""
    return (*(name for name in services if name != foreground), foreground)


def told_dependencies(names: Sequence[str], units: Mapping[str, Unit]) -> tuple[tuple[str, str], ...]:
    """What a list of services does not keep of what their units ask for: service and words."""
    place = {name: index for index, name in enumerate(names)}
    found = []
    for name in names:
        unit = units.get(name)
        for need in unit.requires if unit else ():
            if need not in place:
                found.append((name, f"{name} needs {need}, which is not in the list"))
            elif place[need] > place[name]:
                found.append((name, f"{name} needs {need}, which starts after it"))
        for other in unit.after if unit else ():
            if place.get(other, -1) > place[name] and unit and other not in unit.requires:
                found.append((name, f"{name} should start after {other}, but comes before it"))
    return tuple(found)


@dataclass(frozen=True)
class Started:
    """A unit in the order of its start. why: it does not start, '' when it does."""

    name: str
    why: str = ""


def by_dependencies(
    units: Mapping[str, Unit], never_returns: str, runs: Callable[[Unit], str]
) -> tuple[tuple[Started, ...], tuple[tuple[str, ...], ...]]:
    """The units of a default target in the order of their start, and the circles they stand in.

    never_returns: the service in front; when it is waited for (Type=oneshot), what comes after it never starts. runs:
    why a service's program does not run, '' when it does. Of a circle, systemd leaves one unit out; which one is not
    foretold, so all are told. Source: systemd.unit(5), Requires=, After=, Before=.
    """
    order, circles = _sorted(units)
    after = _after(units)
    why: dict[str, str] = {}
    for name in order:
        unit = units[name]
        earlier = [other for other in after[name] if other in why]
        if unit.kind in ("missing", "masked"):
            why[name] = "it is masked" if unit.kind == "masked" else "no such unit"
            continue
        needed = next(
            (require for require in unit.requires if units.get(require, _NONE).kind in ("missing", "masked")), ""
        )
        failed = next((require for require in unit.requires if require in earlier and why.get(require)), "")
        waited_for = never_returns in earlier and units[never_returns].foreground and not why[never_returns]
        stuck = never_returns if waited_for else ""
        circle = next((each for each in circles if name in each), ())
        blocked = next((each for each in earlier if why.get(each, "").startswith(_WAITS)), "")
        if circle:
            why[name] = f"{' and '.join(circle)} wait for each other, so one of them is not started"
        elif needed:
            why[name] = f"it needs {needed}, which does not exist"
        elif failed and not why[failed].startswith(_WAITS):
            why[name] = f"it needs {failed}, which does not start"
        elif stuck or blocked:
            why[name] = f"{_WAITS} {never_returns}, which does not return"
        else:
            why[name] = runs(unit) if unit.program is not None else ""
    return tuple(Started(name, why[name]) for name in order), circles


_NONE = Unit("", None, kind="missing")
_WAITS = "it waits for"


def _after(units: Mapping[str, Unit]) -> dict[str, set[str]]:
    """The units that each one starts after, by its own After= and the others' Before=."""
    found = {name: {other for other in unit.after if other in units and other != name} for name, unit in units.items()}
    for name, unit in units.items():
        for other in unit.before:
            if other in found and other != name:
                found[other].add(name)
    return found


def _sorted(units: Mapping[str, Unit]) -> tuple[list[str], tuple[tuple[str, ...], ...]]:
    """By After= and Before=, else by name; and the circles, each of which is cut where it was come to."""
    left = _after(units)
    order: list[str] = []
    circles: list[tuple[str, ...]] = []
    while left:
        free = sorted(name for name, others in left.items() if not others & left.keys())
        if not free:
            circle = _circle(left)
            circles.append(tuple(sorted(circle)))
            left[min(circle)] -= set(circle)
            continue
        for name in free:
            order.append(name)
            del left[name]
    return order, tuple(dict.fromkeys(circles))


def _circle(left: Mapping[str, set[str]]) -> list[str]:
    """Some units that wait for one another, where every unit waits for another."""
    way = [min(left)]
    while True:
        following = min(left[way[-1]] & left.keys())
        if following in way:
            return way[way.index(following) :]
        way.append(following)
