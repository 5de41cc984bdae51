"""What every view of a page with tabs has."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from kyklon.app.session.session import Session
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.errors import KyklonError
from kyklon.model.build import Build, remedied
from kyklon.model.findings import Remedy

SIDE = 268  # px: the column at the right of a drawing
_LARGE = 0.93  # of that where text is large: a page must not get wider than its place


def side_px(theme: Theme, further: float = 0) -> int:
    """Width of the column at the right of a drawing, in pixels. further: px at the usual text size that it is wider."""
    return round(theme.px(SIDE + further) * (_LARGE if theme.scale > 1 else 1))


class TabView(QWidget):
    """A view of the page. Subclasses show the build in refresh()."""

    instrument: Instrument | None = None

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.theme = session, session.theme

    @property
    def build(self) -> Build:
        return self.session.build

    def take(self, remedy: Remedy, words: str) -> None:
        """Edit the build as one step that can be undone; what cannot be is said in the bottom bar."""
        try:
            self.session.put(words, remedied(self.build, remedy))
        except (ValueError, KyklonError) as bad:
            self.session.said.emit(str(bad))
            self.refresh()

    def refresh(self) -> None:
        raise NotImplementedError

    def shown(self) -> None:
        """The view has come to the front."""

    def hidden(self) -> None:
        """Another view has."""


class SystemView(TabView):
    """A view of one system, which its page chooses."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.system_id = ""

    def show_system(self, system: str) -> None:
        """Show another system, by its id."""
        self.system_id = system
        self.refresh()
