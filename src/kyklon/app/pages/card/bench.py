"""The base of the card's benches: each shows one way of working on cards; the drives are shared."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtWidgets import QDialog, QWidget

from kyklon.app.pages.card.card_strip import Span
from kyklon.app.pages.card.dialogs import LossDialog
from kyklon.app.pages.card.drive_book import DriveBook
from kyklon.app.session.session import Session
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.devices.ports import Target
from kyklon.model.card import LINUX, CardContents, Volume
from kyklon.operations.card.drives.interlock import Verdict
from kyklon.operations.card.sets.problems import Problem


def _line(volume: Volume) -> str:
    number = f"{volume.number}: " if volume.number else ""
    newest = f", newest {volume.newest}" if volume.newest else ""
    return f"{number}{volume.words}{newest}"


def spans_of(inside: CardContents | None) -> tuple[Span, ...]:
    """An image's partitions for the strip, with what is in use of each."""
    if inside is None or inside.table is None:
        return ()
    used = {volume.number: volume.used for volume in inside.volumes}
    boot = inside.table.boot()
    found = []
    for part in inside.table.partitions:
        name, token = ("boot, ", "teal_soft") if part == boot else ("root, ", "amber_soft")
        if part.kind != LINUX and part != boot:
            name, token = "", "grid"
        taken = used.get(part.number)
        if part == boot and inside.boot_free:
            taken = part.size - inside.boot_free
        found.append(Span(part.start, part.end, f"{name}{part.word}", token, taken))
    return tuple(found)


class Bench(QWidget):
    """Subclasses lay themselves out once and show the build and the drives in refresh()."""

    def __init__(self, session: Session, drives: DriveBook) -> None:
        super().__init__()
        self.session, self.theme, self.drives = session, session.theme, drives
        self.busy = ""  # what runs now, '' for nothing

    def refresh(self) -> None:
        raise NotImplementedError

    def instrument(self) -> Instrument | None:
        """The drawing that Print and Export write."""
        return None

    def ask_loss(self, target: Target, verdict: Verdict, *, act: str = "", volume: str = "") -> LossDialog | None:
        """The dialog that says what is lost, once the user agreed; None when the drive stays as it is."""
        if not verdict.allowed:
            self.session.said.emit(f"{target.facts.name}: {' '.join(verdict.refusals)}")
            return None
        survey = self.drives.surveys.get(target.facts.identity)
        lines = tuple(_line(each) for each in survey.volumes) if survey else ()
        dialog = LossDialog(target.facts.name, verdict, self.theme, self, act=act, volume=volume, contents=lines)
        return dialog if dialog.exec() == QDialog.DialogCode.Accepted else None

    def rename(self, act: Callable[[], object], problem: Problem, place: str) -> None:
        """Carry a problem's renaming out, as a job; then look again."""
        if problem.rename is None:
            return
        start, end = problem.rename

        def done(_none: object) -> None:
            self.session.log(20, f"Renamed {start} to {end}", f"in {place}")
            self.look()
            self.session.look("sets")

        self.session.jobs.start(
            "Renaming", lambda _watch: act(), done, bad=lambda bad: self.session.said.emit(str(bad)), cancellable=False
        )

    def look(self) -> None:
        """Read what the bench shows again; for those that read something."""

    def run(
        self,
        title: str,
        work: Callable[[Watch], Any],
        done: Callable[[Any], None],
        bad: Callable[[KyklonError], None] | None = None,
    ) -> None:
        """One job at a time on a bench; its end is shown, whatever it is."""
        self.busy = title

        def ended(result: Any) -> None:
            self.busy = ""
            done(result)
            self.drives.look()
            self.refresh()

        def failed(error: KyklonError) -> None:
            self.busy = ""
            if bad is not None:
                bad(error)
            else:
                self.session.said.emit(f"{title}: {error}")
            self.drives.look()
            self.refresh()

        self.session.jobs.start(title, work, ended, bad=failed)
        self.refresh()
