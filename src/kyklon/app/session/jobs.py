"""Long work off the GUI thread: a frozen request goes out, a response with an id comes back on the GUI thread."""

from __future__ import annotations

import itertools
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal, pyqtSlot

from kyklon.app.session.collecting import Collector
from kyklon.base.errors import Cancelled, KyklonError
from kyklon.base.progress import CancelToken, Progress, Watch

Work = Callable[[Watch], Any]
_LONG_S = 20.0  # seconds: after so long whoever waited may be elsewhere; a choice


@dataclass
class Job:
    """One piece of work. progress is None until its first report."""

    id: int
    title: str
    cancel: CancelToken = field(default_factory=CancelToken)
    progress: Progress | None = None
    cancellable: bool = True
    began: float = field(default_factory=time.monotonic)


def to_whom_is_there(tell: Callable[[], object]) -> None:
    """Hand a result over. Whoever asked may have gone meanwhile, as pages do when the text scale changes: then nobody
    wants it any more, and what Qt says of its widgets (PyQt's RuntimeError) is no fault."""
    try:
        tell()
    except RuntimeError as gone:
        if "C/C++ object" not in str(gone) or "has been deleted" not in str(gone):
            raise


class Jobs(QObject):
    """Runs jobs in threads of their own. Signals carry the job; `crashed` carries what nobody expected."""

    changed = pyqtSignal()
    failed = pyqtSignal(str, object)  # title, KyklonError
    crashed = pyqtSignal(object)  # BaseException
    ended_late = pyqtSignal(str, bool)  # title of work that took long, and whether it was done
    _reported = pyqtSignal(int, object)
    _ended = pyqtSignal(int, object, object)  # id, result, error

    def __init__(self) -> None:
        super().__init__()
        self._ids = itertools.count(1)
        self._running: dict[int, tuple[Job, Callable[[Any], None], Callable[[KyklonError], None] | None]] = {}
        self._threads: dict[int, threading.Thread] = {}
        self._collector = Collector()
        self._reported.connect(self._on_reported)
        self._ended.connect(self._on_ended)

    @property
    def running(self) -> tuple[Job, ...]:
        return tuple(job for job, _done, _bad in self._running.values())

    def start(
        self,
        title: str,
        work: Work,
        done: Callable[[Any], None],
        *,
        bad: Callable[[KyklonError], None] | None = None,
        cancellable: bool = True,
    ) -> Job:
        """Start work; `done` gets its result, `bad` its expected error (told to everybody by `failed` otherwise)."""
        job = Job(next(self._ids), title, cancellable=cancellable)
        self._running[job.id] = (job, done, bad)
        thread = threading.Thread(target=self._run, args=(job, work), name=title, daemon=True)
        self._threads[job.id] = thread
        thread.start()
        self.changed.emit()
        return job

    def _run(self, job: Job, work: Work) -> None:
        try:
            result = work(Watch(lambda report: self._reported.emit(job.id, report), job.cancel))
        except BaseException as error:  # sorted out on the GUI thread
            self._ended.emit(job.id, None, error)
        else:
            self._ended.emit(job.id, result, None)

    @pyqtSlot(int, object)
    def _on_reported(self, job_id: int, report: Progress) -> None:
        if job_id in self._running:
            self._running[job_id][0].progress = report
            self.changed.emit()

    @pyqtSlot(int, object, object)
    def _on_ended(self, job_id: int, result: Any, error: BaseException | None) -> None:
        job, done, bad = self._running.pop(job_id)
        if time.monotonic() - job.began > _LONG_S and not isinstance(error, Cancelled):
            self.ended_late.emit(job.title, error is None)
        self._threads = {each: thread for each, thread in self._threads.items() if thread.is_alive()}
        if error is None:
            to_whom_is_there(lambda: done(result))
        elif isinstance(error, KyklonError):
            if bad is not None:
                to_whom_is_there(lambda: bad(error))
            elif not isinstance(error, Cancelled):
                self.failed.emit(job.title, error)
        else:
            self.crashed.emit(error)
        self.changed.emit()

    def ask_all_to_stop(self) -> None:
        """Cancel every job; it ends at its next step."""
        for job, _done, _bad in self._running.values():
            job.cancel.cancel()

    @property
    def alive(self) -> bool:
        """Whether a thread still runs."""
        return any(thread.is_alive() for thread in self._threads.values())

    def stop_all(self) -> None:
        """Cancel every job and wait for its thread; not for the GUI thread of a window that is still used."""
        self.ask_all_to_stop()
        for thread in list(self._threads.values()):
            thread.join(timeout=20)
        self._collector.end()
