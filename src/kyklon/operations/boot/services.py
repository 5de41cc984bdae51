"""Service order: what starts, what never starts because something in the foreground never returns."""

from __future__ import annotations

from dataclasses import dataclass


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
