"""What helps in the window: the help, the list of keys, the first walk, a look at this computer."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QBoxLayout, QWidget

from kyklon.app.session.session import Session
from kyklon.app.shell.actions import HelpDialog, all_keys
from kyklon.app.shell.first_walk import FirstWalk
from kyklon.app.shell.route_card import LOGBOOK, SHELF
from kyklon.app.widgets.instrument import Instrument
from kyklon.devices.choose import has_stand_ins
from kyklon.help.topics import OF_OPERATION, Topic

if TYPE_CHECKING:
    from kyklon.app.shell.help_window import HelpWindow


class Drawn(Protocol):
    """What is asked of a page."""

    def instrument(self) -> Instrument | None: ...


class Framed(Protocol):
    """What the guide asks of the window. number: the open operation; rows: bars and middle, from top to bottom."""

    session: Session
    rows: QBoxLayout

    @property
    def number(self) -> int: ...

    def page(self, number: int) -> Drawn: ...

    def open_operation(self, number: int) -> None: ...

    def ask_new(self) -> object: ...

    def refresh(self) -> None: ...


class Guide(QObject):
    """left: the first walk was left."""

    left = pyqtSignal()

    def __init__(self, window: Framed, over: QWidget) -> None:
        """over: the window as a widget, which the dialogs belong to."""
        super().__init__(over)
        self._window, self._over = window, over
        self.help: HelpWindow | None = None
        self.walk: FirstWalk | None = None

    def close(self) -> None:
        """The help's window goes with the build's."""
        if self.help is not None:
            self.help.close()

    def show_keys(self) -> None:
        HelpDialog(self._window.session.theme, self._over).exec()

    def show_help(self, topic: str = "") -> None:
        """The help in a window of its own. topic: or a finding's code; the open page's when it is ''."""
        from kyklon.app.shell.help_window import HelpWindow

        if self.help is None:
            rows = "".join(f"| {keys} | {what} |\n" for keys, what in all_keys())
            keys = Topic("keys", "Keyboard shortcuts", f"# Keyboard shortcuts\n\n| Keys | |\n|---|---|\n{rows}")
            self.help = HelpWindow(self._window.session.theme, self.drawing_of, (keys,))
        found = next((each for each in self._window.session.findings if each.code == topic), None)
        here = f"{found.title}. {found.message} {found.why}" if found is not None else ""
        self.help.show_topic(topic or self._topic(), here)

    def _topic(self) -> str:
        """The help's topic of the open page."""
        own = {LOGBOOK: "logbook", SHELF: "shelf"}
        return own.get(self._window.number) or OF_OPERATION.get(self._window.number, "start")

    def drawing_of(self, topic: str) -> QImage | None:
        """A page's drawing as this build has it."""
        number = next((number for number, name in OF_OPERATION.items() if name == topic), None)
        drawing = self._window.page(number).instrument() if number is not None else None
        if drawing is None or drawing.width() < 50:
            return None
        image = QImage()
        image.loadFromData(drawing.rendered(".png"))
        return image

    def show_walk(self) -> None:
        """Begin the first walk, or take it up again where the build stands."""
        if not has_stand_ins(self._window.session.folder):
            self._window.session.said.emit("The first walk goes through a demo: open one from the first page (Ctrl+N).")
            return
        if self.walk is None:
            self.walk = walk = FirstWalk(self._window.session)
            walk.asked.connect(self._window.open_operation)
            walk.left.connect(self._leave_walk)
            walk.started.connect(self._window.ask_new)
            self._window.rows.insertWidget(1, walk)

    def _leave_walk(self) -> None:
        if self.walk is not None:
            self.walk.hide()
            self.walk.deleteLater()
            self.walk = None
            self.left.emit()

    def show_preferences(self) -> None:
        from kyklon.app.shell.preferences_dialog import PreferencesDialog

        PreferencesDialog(self._window.session.theme, self._window.refresh, self._over).exec()

    def show_doctor(self) -> None:
        from kyklon.app.shell.doctor_dialog import DoctorDialog

        DoctorDialog(self._window.session.theme, self._window.session.jobs, self._over).exec()
