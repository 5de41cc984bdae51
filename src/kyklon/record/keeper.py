"""Keeps a build folder in a thread of its own, so that a slow disk never holds the window up.

Saves, log entries and questions to the logbook are done in the order they were asked for; of several saves that wait,
only the newest build is written.
"""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kyklon.base.errors import KyklonError
from kyklon.model.build import Build
from kyklon.record import folder as store

Deliver = Callable[[Callable[[], object]], None]


@dataclass(frozen=True)
class Saved:
    """given: what was handed over, or known, before; build: what is on disk now, with what somebody else has saved.
    conflicts: dotted paths that both had changed. error: why nothing was saved."""

    given: Build
    build: Build
    conflicts: tuple[str, ...]
    error: KyklonError | None = None


class Keeper:
    """deliver: called from the thread with what is to be done where results are wanted. stamp: of the build as read."""

    def __init__(
        self,
        folder: Path,
        build: Build,
        deliver: Deliver,
        saved: Callable[[Saved], object],
        stamp: store.Stamp = None,
    ) -> None:
        self._folder, self._deliver, self._saved = folder, deliver, saved
        self._base = build  # as it was read or saved last
        self._stamp = stamp
        self._newest: Build | None = None
        self._waiting: deque[Callable[[], None]] = deque()
        self._busy = self._ended = False
        self._changed = threading.Condition()
        self._thread = threading.Thread(target=self._run, name="keep", daemon=True)
        self._thread.start()

    def save(self, build: Build) -> None:
        """Save this build soon; an older one that still waits is passed over."""
        with self._changed:
            if self._newest is None:
                self._waiting.append(self._save)
            self._newest = build
            self._changed.notify_all()

    def do(self, work: Callable[[], Any], done: Callable[[Any], object], bad: Callable[[KyklonError], object]) -> None:
        """Do something with the folder; its result goes to `done`, an expected error to `bad`."""

        def task() -> None:
            try:
                result = work()
            except KyklonError as error:
                self._deliver(lambda error=error: bad(error))  # type: ignore[misc] # the error of this task
                return
            self._deliver(lambda: done(result))

        with self._changed:
            self._waiting.append(task)
            self._changed.notify_all()

    def flush(self) -> None:
        """Wait until all that was asked for is done."""
        with self._changed:
            self._changed.wait_for(lambda: not self._waiting and not self._busy)

    def end_soon(self) -> None:
        """Let the thread end once all is done."""
        with self._changed:
            self._ended = True
            self._changed.notify_all()

    def end(self) -> None:
        """Do all that waits, and wait for the thread to end."""
        self.end_soon()
        self._thread.join()

    @property
    def alive(self) -> bool:
        return self._thread.is_alive()

    def _save(self) -> None:
        with self._changed:
            build, self._newest = self._newest, None
        if build is None:
            return
        try:
            merged = store.save_since(self._folder, self._base, build)
        except KyklonError as bad:
            told = Saved(self._base, build, (), bad)
        else:
            told = Saved(build, merged.build, merged.conflicts)
            self._base, self._stamp = merged.build, store.stamp(self._folder)
        self._deliver(lambda: self._saved(told))

    def look(self) -> None:
        """Look soon whether somebody else has saved; what is found comes as Saved."""

        def look() -> None:
            stamp = store.stamp(self._folder)
            self._stamp = store.after_own(self._stamp)
            if stamp == self._stamp:
                return
            self._stamp = stamp
            found = store.changed_since(self._folder, self._base)
            if found is not None:
                told = Saved(self._base, found, ())
                self._base = found
                self._deliver(lambda: self._saved(told))

        with self._changed:
            self._waiting.append(look)
            self._changed.notify_all()

    def _run(self) -> None:
        while True:
            with self._changed:
                self._changed.wait_for(lambda: bool(self._waiting) or self._ended)
                if not self._waiting:
                    return
                task, self._busy = self._waiting.popleft(), True
            try:
                task()
            finally:
                with self._changed:
                    self._busy = False
                    self._changed.notify_all()
