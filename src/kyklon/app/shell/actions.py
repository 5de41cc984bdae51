"""Menu entries and keys, as data; the help page is made from the same table."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from PyQt6.QtWidgets import QDialog, QGridLayout, QWidget

from kyklon.app.session.session import Session
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import button, column, label, row
from kyklon.operations.registry import OPERATIONS


class Helpful(Protocol):
    """What a menu entry may ask of the window's guide."""

    def show_help(self) -> None: ...

    def show_keys(self) -> None: ...

    def show_doctor(self) -> None: ...

    def show_preferences(self) -> None: ...

    def show_walk(self) -> None: ...


class Frame(Protocol):
    """What a menu entry may ask of the window."""

    session: Session

    @property
    def guide(self) -> Helpful: ...

    def export_instrument(self) -> None: ...

    def export_logbook(self) -> None: ...

    def search_logbook(self) -> None: ...

    def open_shelf(self) -> None: ...

    def learn_part(self) -> None: ...

    def undo(self) -> None: ...

    def ask_new(self) -> None: ...

    def ask_open(self) -> None: ...

    def toggle_findings(self) -> None: ...

    def change_paper(self) -> None: ...

    def change_contrast(self) -> None: ...

    def run_bring_up(self) -> None: ...

    def go_next(self) -> None: ...

    def show_menu(self) -> None: ...

    def cancel_job(self) -> None: ...


@dataclass(frozen=True)
class Action:
    """title '' keeps it out of the menu. what: for the help page."""

    title: str
    keys: str
    what: str
    act: Callable[[Frame], object]
    ends_group: bool = False


def _scale(step: float) -> Callable[[Frame], object]:
    return lambda window: window.session.theme.set_scale(window.session.theme.scale + step)


ACTIONS: tuple[Action, ...] = (
    Action("Export the drawing…", "Ctrl+P", "Print or export the open drawing", lambda w: w.export_instrument()),
    Action("Export the logbook…", "Ctrl+Shift+E", "Write the logbook as Markdown", lambda w: w.export_logbook()),
    Action("Search the logbook", "Ctrl+F", "Search the logbook", lambda w: w.search_logbook()),
    Action("Shelf of parts", "F3", "Open the shelf of parts", lambda w: w.open_shelf()),
    Action("Learn a part…", "Ctrl+L", "Learn one of your own parts", lambda w: w.learn_part(), ends_group=True),
    Action("New build…", "Ctrl+N", "Start a new build in an empty folder", lambda w: w.ask_new()),
    Action("Open a build…", "Ctrl+O", "Open another build folder", lambda w: w.ask_open()),
    Action("Save", "Ctrl+S", "Save now (every edit is saved anyway)", lambda w: w.session.save()),
    Action("Undo", "Ctrl+Z", "Undo the last edit", lambda w: w.undo()),
    Action("Redo", "Ctrl+Shift+Z", "Redo the edit", lambda w: w.session.redo(), ends_group=True),
    Action("Preferences…", "Ctrl+,", "Colours, text size, currency, places", lambda w: w.guide.show_preferences()),
    Action("Findings", "F8", "Show or hide the findings", lambda w: w.toggle_findings()),
    Action("Light or dark", "F7", "Switch between light and dark", lambda w: w.change_paper()),
    Action("More or less contrast", "Shift+F7", "Black and white, strong colours", lambda w: w.change_contrast()),
    Action("Larger text", "Ctrl++", "Larger text, up to 200 %", _scale(0.25)),
    Action("Smaller text", "Ctrl+-", "Smaller text", _scale(-0.25), ends_group=True),
    Action("Run bring-up", "F9", "Predict the first power-on", lambda w: w.run_bring_up()),
    Action("Next thing to do", "F6", "Go to the next thing to do", lambda w: w.go_next()),
    Action("", "F10", "Open the menu", lambda w: w.show_menu()),
    Action("", "Esc", "Cancel the running job", lambda w: w.cancel_job()),
    Action("First walk", "Ctrl+F1", "Six steps through a demo, begun or taken up again", lambda w: w.guide.show_walk()),
    Action("This computer…", "F2", "Show what this computer lacks for Kyklon", lambda w: w.guide.show_doctor()),
    Action("Keyboard shortcuts", "Shift+F1", "List all keyboard shortcuts", lambda w: w.guide.show_keys()),
    Action("Help", "F1", "Explain the open page", lambda w: w.guide.show_help()),
)


def all_keys() -> list[tuple[str, str]]:
    """Keys, and what each does."""
    operations = [
        (f"Alt+{operation.number // 10}", f"Operation {operation.number}, {operation.name}") for operation in OPERATIONS
    ]
    return [*((action.keys, action.what) for action in ACTIONS), *operations]


class HelpDialog(QDialog):
    """All keys in one list."""

    def __init__(self, theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Keyboard shortcuts")
        grid = QGridLayout()
        grid.setHorizontalSpacing(18)
        lines = [(action.keys, action.what) for action in ACTIONS]
        lines += [
            (f"Alt+{operation.number // 10}", f"Operation {operation.number}, {operation.name}")
            for operation in OPERATIONS
        ]
        for index, (keys, what) in enumerate(lines):
            half = (len(lines) + 1) // 2
            grid.addWidget(label(keys, "mono"), index % half, index // half * 2)
            grid.addWidget(label(what), index % half, index // half * 2 + 1)
        close = button("Close", self.accept, "primary")
        self.setLayout(
            column(label("Keyboard shortcuts", "section"), grid, row(1, close), spacing=12, margins=(20, 18, 20, 16))
        )
