"""Menu entries and keys, as data; the help page is made from the same table."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QDialog, QGridLayout, QWidget

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import button, column, label, row
from kyklon.operations.inspection import OPERATIONS

if TYPE_CHECKING:
    from kyklon.app.shell.window import Window


@dataclass(frozen=True)
class Action:
    """title '' keeps it out of the menu. what: for the help page."""

    title: str
    keys: str
    what: str
    act: Callable[[Window], object]
    ends_group: bool = False


def _scale(step: float) -> Callable[[Window], object]:
    return lambda window: window.session.theme.set_scale(window.session.theme.scale + step)


ACTIONS: tuple[Action, ...] = (
    Action("Export the drawing…", "Ctrl+P", "Print or export the open drawing", lambda w: w.export_instrument()),
    Action("Export the logbook…", "Ctrl+Shift+E", "Write the logbook as Markdown", lambda w: w.export_logbook()),
    Action(
        "Search the logbook", "Ctrl+F", "Open the logbook and search it", lambda w: w.search_logbook(), ends_group=True
    ),
    Action("New build…", "Ctrl+N", "Start a new build in an empty folder", lambda w: w.ask_new()),
    Action("Open a build…", "Ctrl+O", "Open another build folder", lambda w: w.ask_open()),
    Action("Save", "Ctrl+S", "Save now (every edit is saved by itself)", lambda w: w.session.save()),
    Action("Undo", "Ctrl+Z", "Take the last edit back", lambda w: w.session.undo()),
    Action("Redo", "Ctrl+Shift+Z", "Do it again", lambda w: w.session.redo(), ends_group=True),
    Action("Findings", "F8", "Fold the findings away or show them", lambda w: w.toggle_findings()),
    Action("Light or dark", "F7", "Change between paper and night", lambda w: w.change_paper()),
    Action("Larger text", "Ctrl++", "Text a quarter larger, up to 200 %", _scale(0.25)),
    Action("Smaller text", "Ctrl+-", "Text a quarter smaller", _scale(-0.25), ends_group=True),
    Action("Run bring-up", "F9", "Predict the first power-on", lambda w: w.run_bring_up()),
    Action("Next thing to do", "F6", "Open the operation of the next step", lambda w: w.go_next()),
    Action("", "F10", "This menu", lambda w: w.show_menu()),
    Action("", "Esc", "Cancel the running job", lambda w: w.cancel_job()),
    Action("Keys", "F1", "All keys", lambda w: w.show_help()),
)


class HelpDialog(QDialog):
    """All keys in one list."""

    def __init__(self, theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Keys")
        grid = QGridLayout()
        grid.setHorizontalSpacing(18)
        lines = [(action.keys, action.what) for action in ACTIONS]
        lines += [(f"Alt+{each.number // 10}", f"Operation {each.number}, {each.name}") for each in OPERATIONS]
        for index, (keys, what) in enumerate(lines):
            half = (len(lines) + 1) // 2
            grid.addWidget(label(keys, "mono"), index % half, index // half * 2)
            grid.addWidget(label(what), index % half, index // half * 2 + 1)
        close = button("Close", self.accept, "primary")
        self.setLayout(column(label("Keys", "section"), grid, row(1, close), spacing=12, margins=(20, 18, 20, 16)))
