"""What all views of operation 40 ask of the session: the rig, its systems, one way to edit."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from kyklon.app.session.session import Session
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.errors import KyklonError
from kyklon.catalogue.system_records import System
from kyklon.model.build import edited
from kyklon.model.controls import ControlSettings, Layout
from kyklon.operations.controls.hookup import Hookup, hookup_of, layout_of


class BenchView(QWidget):
    """A view of the page. Subclasses show the build in refresh()."""

    instrument: Instrument | None = None

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.theme = session, session.theme

    @property
    def settings(self) -> ControlSettings:
        return self.session.build.controls

    @property
    def layout_now(self) -> Layout | None:
        return layout_of(self.settings, self.session.catalogue)

    @property
    def hookup(self) -> Hookup | None:
        return hookup_of(self.session.build, self.session.catalogue)

    @property
    def systems(self) -> tuple[System, ...]:
        catalogue = self.session.catalogue
        found = (catalogue.find(System, system) for system in self.session.build.systems)
        return tuple(each for each in found if each is not None)

    def put(self, words: str, **fields: object) -> None:
        """Edit fields of the controls as one step that can be undone; what cannot be is said in the bottom bar."""
        build = self.session.build
        try:
            for name, value in fields.items():
                build = edited(build, f"controls.{name}", value)
        except (ValueError, KyklonError) as bad:
            self.session.said.emit(str(bad))
            self.refresh()
            return
        self.session.put(words, build)

    def refresh(self) -> None:
        raise NotImplementedError

    def shown(self) -> None:
        """The view has come to the front."""

    def hidden(self) -> None:
        """Another view has."""
