"""Keeps a build folder in a thread of its own, so that a slow disk never holds the window up.

Saves, log entries and questions to the logbook are done in the order they were asked for; of several saves that wait,
only the newest build is written. Whatever goes wrong, expected or not, the thread goes on with what waits, and a build
that could not be saved is tried again until it is.
"""

from __future__ import annotations

import sys
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
AGAIN_S = 5.0  # until a save that failed is tried again by itself


@dataclass(frozen=True)
class Saved:
    """given: what was handed over, or known, before; build: what is on disk now, with what somebody else has saved.
    conflicts: dotted paths that both had changed. error: why nothing was saved."""

    given: Build
    build: Build
    conflicts: tuple[str, ...]
    error: KyklonError | None = None


class Keeper:
    """deliver: called from the thread with what is to be done where results are wanted; an unexpected error is
    raised there. build, stamp: as it was read.

    What somebody else has saved is joined with the caller's build from what both had in common. Only the caller knows
    what that is, for it takes what it is told later than it is told: so it hands that over with every save.
    """

    def __init__(
        self,
        folder: Path,
        build: Build,
        deliver: Deliver,
        saved: Callable[[Saved], object],
        stamp: store.Stamp = None,
    ) -> None:
        self._folder, self._deliver, self._saved = folder, deliver, saved
        self._there = build  # on the disk, as it was read or saved last
        self._stamp = stamp
        self._wanted: deque[tuple[Build, Build]] = deque()  # base and build of each save that waits, or has failed
        self._failed = self._reported = False
        self._waiting: deque[Callable[[], None]] = deque()
        self._busy = self._ended = False
        self._changed = threading.Condition()
        self._thread = threading.Thread(target=self._run, name="keep", daemon=True)
        self._thread.start()

    def save(self, base: Build, build: Build) -> None:
        """Save this build soon; an older one that still waits is passed over, unless something that was asked for
        between the two is to find it on the disk.

        base: the build that was handed over last, or the one that was read, each with what was taken since of others'.
        """
        with self._changed:
            if self._failed:
                self._waiting.append(self._save)
                self._wanted[-1] = (self._wanted[-1][0], build)
            elif self._waiting and self._waiting[-1] == self._save:
                self._wanted[-1] = (self._wanted[-1][0], build)
            else:
                self._waiting.append(self._save)
                self._wanted.append((base, build))
            self._failed = False
            self._changed.notify_all()

    @property
    def unsaved(self) -> Build | None:
        """The build that is not on the disk yet, or could not be saved."""
        with self._changed:
            return self._wanted[-1][1] if self._wanted else None

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
            wanted = self._wanted.popleft() if self._wanted else None
        if wanted is None:
            return
        base, build = wanted
        try:
            merged = store.save_since(self._folder, base, build)
        except BaseException as bad:
            with self._changed:
                if self._wanted:  # the next one saves what this one could not
                    self._wanted[0] = (base, self._wanted[0][1])
                else:
                    self._wanted.append((base, build))
                    self._failed = True
            told = Saved(base, build, (), bad if isinstance(bad, KyklonError) else _unexpected(self._folder, bad))
            self._deliver(lambda: self._saved(told))
            if not isinstance(bad, KyklonError) and not self._reported:
                self._reported = True  # once until it is saved: it is tried again and again
                raise
            return
        self._reported = False
        self._there, self._stamp = merged.build, store.stamp(self._folder)
        told = Saved(build, merged.build, merged.conflicts)
        self._deliver(lambda: self._saved(told))

    def look(self) -> None:
        """Look soon whether somebody else has saved; what is found comes as Saved."""

        def look() -> None:
            stamp = store.stamp(self._folder)
            self._stamp = store.after_own(self._stamp)
            if stamp == self._stamp:
                return
            self._stamp = stamp
            found = store.changed_since(self._folder, self._there)
            if found is not None:
                told = Saved(self._there, found, ())
                self._there = found
                self._deliver(lambda: self._saved(told))

        with self._changed:
            self._waiting.append(look)
            self._changed.notify_all()

    def _run(self) -> None:
        tried_last = False
        while True:
            with self._changed:
                again = AGAIN_S if self._failed else None
                self._changed.wait_for(lambda: bool(self._waiting) or self._ended, again)
                if not self._waiting and self._failed and not tried_last:
                    self._failed, tried_last = False, self._ended
                    self._waiting.append(self._save)
                if not self._waiting:
                    return
                task, self._busy = self._waiting.popleft(), True
            try:
                task()
            except BaseException as bad:
                self._tell(bad)
            finally:
                with self._changed:
                    self._busy = False
                    self._changed.notify_all()

    def _tell(self, bad: BaseException) -> None:
        """An error that nobody expected, where results are wanted; if that fails too, where every thread's ends."""

        def raised() -> None:
            raise bad

        try:
            self._deliver(raised)
        except BaseException:  # nobody is there any more
            threading.excepthook(threading.ExceptHookArgs((*sys.exc_info(), threading.current_thread())))


def _unexpected(folder: Path, bad: BaseException) -> KyklonError:
    return KyklonError(
        f"{folder} could not be saved ({type(bad).__name__}: {bad}).",
        do="Kyklon tries again every few seconds; see the report for details.",
    )
