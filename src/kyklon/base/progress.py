"""How long work reports itself and is told to stop: a sink for its reports and a token that cancels it."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field

from kyklon.base.errors import Cancelled


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
    """Set from any thread; the work asks it between two steps. While paused, the asking waits."""

    def __init__(self) -> None:
        self._event = threading.Event()
        self._going = threading.Event()
        self._going.set()

    def cancel(self) -> None:
        self._event.set()
        self._going.set()

    def pause(self) -> None:
        self._going.clear()

    def resume(self) -> None:
        self._going.set()

    @property
    def cancelled(self) -> bool:
        return self._event.is_set()

    @property
    def paused(self) -> bool:
        return not self._going.is_set()

    def check(self) -> float:
        """Raise Cancelled once cancel() was called. Seconds that were spent paused."""
        waited = 0.0
        if not self._going.is_set():
            begun = time.monotonic()
            self._going.wait()
            waited = time.monotonic() - begun
        if self._event.is_set():
            raise Cancelled
        return waited


@dataclass(frozen=True)
class Watch:
    """Who watches a piece of long work: where its reports go, and the token that stops it."""

    sink: Sink = no_sink
    cancel: CancelToken = field(default_factory=CancelToken)

    def check(self) -> float:
        """As CancelToken.check."""
        return self.cancel.check()


UNWATCHED = Watch()  # nobody looks, and nobody cancels
