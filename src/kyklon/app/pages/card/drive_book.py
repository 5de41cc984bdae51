"""The drives that the card's benches share: which there are, which is chosen, what is on it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from kyklon.app.session.session import Session
from kyklon.devices import choose
from kyklon.devices.ports import Target
from kyklon.operations.card.acts import CardJob
from kyklon.operations.card.drives.interlock import Consent, Purpose, Verdict
from kyklon.operations.card.drives.looking import targets
from kyklon.operations.card.volumes.survey import Survey, survey

Rows = tuple[tuple[Target, Verdict], ...]


@dataclass(frozen=True)
class Seen:
    """What a look for drives found. called: where they come from, in words. written: by identity, the paths of those
    whose bytes can be read."""

    targets: tuple[Target, ...]
    called: str
    written: dict[str, Path]


def look_for_drives(folder: Path) -> Seen:
    """Slow. Raises TargetError, KyklonError."""
    found = targets(folder)
    drives = found[0].drives if found else choose.first_that_lists(choose.drives_of(folder))
    paths = {target.facts.identity: target.path for target in found}
    return Seen(found, drives.called, {identity: path for identity, path in paths.items() if path.exists()})


class DriveBook(QObject):
    """Looks for drives on demand, in the background. A chosen drive that was exchanged is told apart."""

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._seen = Seen((), "", {})
        self._chosen: Target | None = None
        self.surveys: dict[str, Survey] = {}

    # --- looking -----------------------------------------------------------------------------------------------

    def look(self, *, forget: bool = False, then: Callable[[], object] | None = None) -> None:
        """Look for drives. forget: a chosen drive that is no longer the same is let go of. then: called afterwards."""
        folder = self._session.folder

        def done(seen: Seen) -> None:
            self._found(seen, forget=forget)
            if then is not None:
                then()

        self._session.jobs.start(
            "Looking for drives",
            lambda _watch: look_for_drives(folder),
            done,
            bad=lambda bad: self._session.said.emit(str(bad)),
            cancellable=False,
        )

    def _found(self, seen: Seen, *, forget: bool) -> None:
        self._seen = seen
        if self._chosen is not None:
            same = self._with_identity(self._chosen.facts.identity)
            if same is not None:
                self._chosen = same
            elif forget or self._with_name(self._chosen.facts.name) is None:
                self._chosen = None
        self.changed.emit()

    def _with_identity(self, identity: str) -> Target | None:
        return next((target for target in self.targets if target.facts.identity == identity), None)

    def _with_name(self, name: str) -> Target | None:
        return next((target for target in self.targets if target.facts.name == name), None)

    # --- verdicts ----------------------------------------------------------------------------------------------

    @property
    def targets(self) -> tuple[Target, ...]:
        return self._seen.targets

    @property
    def called(self) -> str:
        """Where the drives come from, in words."""
        return self._seen.called

    def written_path(self, target: Target) -> Path | None:
        """Where a drive's bytes can be read; None for one that was never written."""
        return self._seen.written.get(target.facts.identity)

    def job(self, target: Target, typed: str = "") -> CardJob:
        """An act on a drive, as the build is now."""
        consent = Consent(typed)
        if self._chosen is not None and self._chosen.facts.name == target.facts.name:
            consent = Consent(typed, self._chosen.facts.identity, self._chosen.facts.node)
        return CardJob(target, consent, self._session.build, self._session.folder)

    def rows(self) -> Rows:
        """Every drive with the interlock's verdict for the build's image; the write judges once more."""
        image = self._session.world.source
        return tuple((target, self.job(target).verdict(Purpose.WRITE, image)) for target in self.targets)

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

        def work(_watch: object) -> Survey | None:
            try:
                return survey(target.path)
            except OSError:
                return None

        def done(found: Survey | None) -> None:
            self.surveys.pop(target.facts.identity, None)
            if found is not None:
                self.surveys[target.facts.identity] = found
            self.changed.emit()

        self._session.jobs.start("Looking at the drive", work, done, cancellable=False)

    @property
    def contents(self) -> Survey | None:
        target = self.chosen
        return self.surveys.get(target.facts.identity) if target else None
