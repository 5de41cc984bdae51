"""Byte counts to progress reports: rate over the last moments, time left, pauses left out."""

from __future__ import annotations

import time

from kyklon.base.progress import Progress, Watch

_REPORT_S = 0.1  # seconds between two progress reports


class Meter:
    """One phase of a job. total: bytes, None while unknown."""

    def __init__(self, phase: str, total: int | None, watch: Watch) -> None:
        self.phase, self.total = phase, total
        self._watch = watch
        self._start = self._last = time.monotonic()
        self._last_done = 0
        self.rates: list[tuple[float, float]] = []

    def wait(self) -> None:
        """Raise Cancelled when somebody cancelled; a pause does not count as time spent."""
        paused = self._watch.check()
        self._start += paused
        self._last += paused

    def report(self, done: int, *, force: bool = False) -> None:
        now = time.monotonic()
        if now - self._last < _REPORT_S and not force:
            return
        rate_now = None
        if done > self._last_done and now > self._last:
            rate_now = (done - self._last_done) / (now - self._last)
            self.rates.append((now - self._start, rate_now))
        rate = done / max(1e-6, now - self._start)
        left = max(0.0, (self.total - done) / rate) if self.total and rate else None
        self._last, self._last_done = now, done
        at = now - self._start
        self._watch.sink(Progress(self.phase, done, self.total, rate, left, at_s=at, rate_now=rate_now))
