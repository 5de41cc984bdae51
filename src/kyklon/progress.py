"""How long work reports itself and is told to stop: a progress sink and a cancel token."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass

from kyklon.errors import Cancelled


@dataclass(frozen=True)
class Progress:
    """One report of a job under way.

    done and total count units of work (bytes or files); total is None while unknown.
    rate is in units per second, seconds_left in seconds; both None until they can be told.
    """

    phase: str
    done: int
    total: int | None = None
    rate: float | None = None
    seconds_left: float | None = None
    unit: str = "B"
    at_s: float | None = None  # seconds since the phase began
    rate_now: float | None = None  # units per second since the report before

    @property
    def fraction(self) -> float | None:
        """Share done, 0 to 1, or None while the total is unknown."""
        return None if not self.total else min(1.0, self.done / self.total)


Sink = Callable[[Progress], None]


def no_sink(_report: Progress) -> None:
    """The sink of somebody who does not care."""


class CancelToken:
    """Set from any thread; the work asks it between two steps."""

    def __init__(self) -> None:
        self._event = threading.Event()

    def cancel(self) -> None:
        self._event.set()

    @property
    def cancelled(self) -> bool:
        return self._event.is_set()

    def check(self) -> None:
        """Raise Cancelled once cancel() was called."""
        if self._event.is_set():
            raise Cancelled
