"""The drives that the card's benches share: which there are, which is chosen, what is on it."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from kyklon.app.shell.session import Session
from kyklon.base.errors import KyklonError
from kyklon.devices.ports import (
    Target,
)
from kyklon.devices.simulated.drives import SimulatedDrives
from kyklon.operations import workshop
from kyklon.operations.card.drives.interlock import Verdict, judge
from kyklon.operations.card.volumes import survey as volumes
from kyklon.operations.card.volumes.survey import Survey
from kyklon.operations.observing import drives_of

Rows = tuple[tuple[Target, Verdict], ...]


class DriveBook(QObject):
    """Looks for drives on demand; real ones off the GUI thread. A chosen drive that was exchanged is told apart."""

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._targets: tuple[Target, ...] = ()
        self._chosen: Target | None = None
        self.surveys: dict[str, Survey] = {}
        self.backend = ""

    # --- looking -----------------------------------------------------------------------------------------------

    def look(self, *, forget: bool = False) -> None:
        """Look for drives. forget: a chosen drive that is no longer the same is let go of."""
        folder = self._session.folder
        if (folder / "drives" / "drives.json").exists():
            try:
                found = workshop.targets(folder)
            except KyklonError as bad:
                self._session.said.emit(str(bad))
                found = ()
            self._found(found, forget=forget)
            return
        self._session.jobs.start(
            "Looking for drives",
            lambda _sink, _cancel: workshop.targets(folder),
            lambda targets: self._found(targets, forget=forget),
            bad=lambda bad: self._session.said.emit(str(bad)),
            cancellable=False,
        )

    def _found(self, targets: tuple[Target, ...], *, forget: bool) -> None:
        self._targets = targets
        drives = targets[0].drives if targets else drives_of(self._session.folder)
        name = getattr(drives, "name", "")
        self.backend = "simulated" if isinstance(drives, SimulatedDrives) else f"through {name}"
        if self._chosen is not None:
            same = self._with_identity(self._chosen.facts.identity)
            if same is not None:
                self._chosen = same
            elif forget or self._with_name(self._chosen.facts.name) is None:
                self._chosen = None
        self.changed.emit()

    def _with_identity(self, identity: str) -> Target | None:
        return next((each for each in self._targets if each.facts.identity == identity), None)

    def _with_name(self, name: str) -> Target | None:
        return next((each for each in self._targets if each.facts.name == name), None)

    # --- verdicts ----------------------------------------------------------------------------------------------

    @property
    def targets(self) -> tuple[Target, ...]:
        return self._targets

    def chosen_before(self, target: Target) -> str:
        """The identity that was chosen under this drive's name, '' when it was not chosen."""
        if self._chosen is not None and self._chosen.facts.name == target.facts.name:
            return self._chosen.facts.identity
        return ""

    def rows(self) -> Rows:
        """Every drive with the interlock's verdict for the build's image; the write judges once more."""
        build, source = self._session.build, self._session.world.source
        return tuple(
            (each, judge(workshop.case_for(build, source, each, self.chosen_before(each)))) for each in self._targets
        )

    @property
    def chosen(self) -> Target | None:
        """The chosen drive as it is now; None when it was exchanged or taken out."""
        return self._with_identity(self._chosen.facts.identity) if self._chosen else None

    def choose(self, identity: str) -> None:
        self._chosen = self._with_identity(identity)
        self.changed.emit()
        self.survey()

    def let_go(self) -> None:
        self._chosen = None
        self.changed.emit()

    # --- contents ----------------------------------------------------------------------------------------------

    def survey(self) -> None:
        """Read what is on the chosen drive, in the background."""
        target = self.chosen
        if target is None:
            return
        identity, path = target.facts.identity, target.path

        def work(_sink: object, _cancel: object) -> Survey | None:
            try:
                return volumes.survey(path)
            except OSError:
                return None

        def done(found: Survey | None) -> None:
            self.surveys.pop(identity, None)
            if found is not None:
                self.surveys[identity] = found
            self.changed.emit()

        self._session.jobs.start("Looking at the drive", work, done, cancellable=False)

    @property
    def contents(self) -> Survey | None:
        target = self.chosen
        return self.surveys.get(target.facts.identity) if target else None
