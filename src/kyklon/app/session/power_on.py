"""The first power-on of the open build: foretold, rehearsed, read from a real machine's log."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from kyklon.app.session.jobs import Jobs
from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.world import World
from kyklon.operations.registry import LOOKS
from kyklon.record import outcomes
from kyklon.record.keeper import Keeper
from kyklon.record.logbook import Entry, Logbook

if TYPE_CHECKING:
    from kyklon.operations.poweron.boot_log import LogReading
    from kyklon.operations.poweron.events import BringUp
    from kyklon.operations.poweron.rehearsal import Rehearsal, Terms


@dataclass(frozen=True)
class Rehearsed:
    """A rehearsal of a build's card, and what was foretold of the same."""

    build: Build
    run: BringUp
    rehearsal: Rehearsal
    school: str


class PowerOnRuns(QObject):
    """What a session knows of its power-on. bring_up_before: the run before this one; other_bring_up: of another card,
    by its name."""

    changed = pyqtSignal()  # the build, the world, the findings or the bring-up
    folder: Path
    jobs: Jobs
    world: World
    bring_up: BringUp | None
    bring_up_before: BringUp | None
    bring_up_current: bool
    rehearsal: Rehearsed | None
    log_reading: LogReading | None
    other_bring_up: tuple[str, BringUp] | None
    _keeper: Keeper
    _logbook: Logbook
    _count_log: Callable[[], None]
    _told: Callable[[KyklonError], None]
    set_world: Callable[[World], None]

    @property
    def build(self) -> Build:
        raise NotImplementedError

    @property
    def catalogue(self) -> Catalogue:
        raise NotImplementedError

    def log(self, operation: int, title: str, detail: str = "", *, kind: str = "done") -> None:
        raise NotImplementedError

    def run_bring_up(self) -> None:
        """Read the card again, then predict; the result comes with `changed`."""
        build, folder, catalogue = self.build, self.folder, self.catalogue

        def work(watch: Watch) -> tuple[World, BringUp]:
            from kyklon.operations.poweron.acts import foretell

            return foretell(build, folder, catalogue, watch=watch)

        def done(result: tuple[World, BringUp]) -> None:
            self.bring_up_before = self.bring_up
            seen, self.bring_up = result
            self.bring_up_current = self.build == build
            failure = self.bring_up.failure
            self.log(90, f"Bring-up reached: {self.bring_up.reached}", failure.cause if failure else "No failure.")
            fields = ("card", *LOOKS["library"].fields)
            self.set_world(replace(self.world, **{name: getattr(seen, name) for name in fields}))

        self.jobs.start("Running the bring-up", work, done, cancellable=False)

    @property
    def school(self) -> str:
        """Of the build's image, for the order of the stages."""
        image = self.catalogue.find(Image, self.build.part("image"))
        return image.school if image else ""

    def foretell_other(self, card: Path) -> None:
        """The bring-up from another card or image, to lay beside the build's own."""
        build, folder, catalogue = self.build, self.folder, self.catalogue

        def work(watch: Watch) -> BringUp:
            from kyklon.operations.poweron.acts import foretell

            return foretell(build, folder, catalogue, card, watch)[1]

        def done(run: BringUp) -> None:
            self.other_bring_up = (card.name, run)
            self.changed.emit()

        self.jobs.start(f"Reading {card.name}", work, done, cancellable=False)

    def rehearse(self, terms: Terms) -> None:
        """Start the build's card on the desk; the result comes with `changed`."""
        build, folder, catalogue = self.build, self.folder, self.catalogue

        def work(watch: Watch) -> Rehearsed:
            from kyklon.operations.poweron.acts import rehearse_own

            return Rehearsed(build, *rehearse_own(build, folder, catalogue, terms, watch))

        def done(result: Rehearsed) -> None:
            self.rehearsal = result
            self.log(90, f"Rehearsed: {result.rehearsal.verdict}", result.rehearsal.said[-2000:])
            self.changed.emit()

        self.jobs.start("Rehearsing", work, done)

    def read_boot_log(self, data: bytes) -> None:
        """Read a real machine's log; what it says comes with `changed`."""
        catalogue, school = self.catalogue, self.school

        def work(_watch: Watch) -> LogReading:
            from kyklon.operations.poweron.boot_log import log_text, read_log

            return read_log(log_text(data), catalogue, school)

        def done(reading: LogReading) -> None:
            self.log_reading = reading
            stop = f" Stopped at {reading.stop.stage}: {reading.stop.text}" if reading.stop else ""
            self.log(90, f"Boot log read: reached {reading.reached or 'nothing'}", stop.strip())
            self._note_outcome(reading)
            self.changed.emit()

        self.jobs.start("Reading the boot log", work, done, cancellable=False)

    def _note_outcome(self, reading: LogReading) -> None:
        """A real start against the forecast for the same build."""
        from kyklon.operations.poweron.side_by_side import lay, of_forecast, of_log, verdict

        run, school = self.bring_up, self.school
        if run is None or not self.bring_up_current:
            return
        sides = of_forecast(run, school), of_log(reading, school)
        said = verdict(*sides, lay(*sides))

        def noted() -> Entry:
            return outcomes.note(self._logbook, run.reached, reading.reached, right=said.agree, detail=said.text)

        self._keeper.do(noted, lambda _entry: self._count_log(), self._told)

    def remember_cure(self, cause: str) -> None:
        """Count a cause that was found, in the background."""
        from kyklon.faults.acts import cures_file
        from kyklon.record import cures

        self._keeper.do(lambda: cures.remember(cures_file(), cause), lambda _none: None, self._told)
