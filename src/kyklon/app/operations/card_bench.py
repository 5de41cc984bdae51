"""The base of the card's benches: each shows one way of working on cards; the drives are shared."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtWidgets import QDialog, QWidget

from kyklon.app.drive_book import DriveBook
from kyklon.app.operations.card_dialogs import LossDialog
from kyklon.app.session import Session
from kyklon.app.widgets.instrument import Instrument
from kyklon.card.interlock import Verdict
from kyklon.errors import KyklonError
from kyklon.progress import CancelToken, Sink
from kyklon.workshop import Target


class Bench(QWidget):
    """Subclasses lay themselves out once and show the build and the drives in refresh()."""

    name = ""

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
        dialog = LossDialog(target.facts.name, verdict, self.theme, self, act=act, volume=volume)
        return dialog if dialog.exec() == QDialog.DialogCode.Accepted else None

    def run(
        self,
        title: str,
        work: Callable[[Sink, CancelToken], Any],
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
