"""Saves in a thread of its own, so that a slow disk never holds the window up. Only the newest build is written."""

from __future__ import annotations

import threading
from collections.abc import Callable
from pathlib import Path

from kyklon.base.errors import KyklonError
from kyklon.model.build import Build
from kyklon.record import folder as store


class Saver:
    """told: called from the saving thread with None after a save, or with the error."""

    def __init__(self, folder: Path, told: Callable[[KyklonError | None], None]) -> None:
        self._folder, self._told = folder, told
        self._waiting: Build | None = None
        self._busy = self._ended = False
        self._changed = threading.Condition()
        self._thread = threading.Thread(target=self._run, name="save", daemon=True)
        self._thread.start()

    def put(self, build: Build) -> None:
        """Save this build soon; an older one that still waits is passed over."""
        with self._changed:
            self._waiting = build
            self._changed.notify_all()

    def flush(self) -> None:
        """Wait until all that was put is on disk (or was told as an error)."""
        with self._changed:
            self._changed.wait_for(lambda: self._waiting is None and not self._busy)

    def end(self) -> None:
        """Flush, and stop the thread."""
        self.flush()
        with self._changed:
            self._ended = True
            self._changed.notify_all()
        self._thread.join()

    def _run(self) -> None:
        while True:
            with self._changed:
                self._changed.wait_for(lambda: self._waiting is not None or self._ended)
                if self._waiting is None:
                    return
                build, self._waiting, self._busy = self._waiting, None, True
            error: KyklonError | None = None
            try:
                store.save(self._folder, build)
            except KyklonError as bad:
                error = bad
            self._told(error)
            with self._changed:
                self._busy = False
                self._changed.notify_all()
