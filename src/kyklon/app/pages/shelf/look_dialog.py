"""Text that a build brings from elsewhere, shown before its first use."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QDialog, QPlainTextEdit, QWidget

from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import button, column, label, row
from kyklon.base.shown import visible
from kyklon.parts.trust import shown


class LookDialog(QDialog):
    """What the build's own dialects and templates write; they write nothing until it is agreed to."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        theme = session.theme
        self.setWindowTitle("This build brings text of its own")
        text = "\n\n".join(
            f"{copy.row.get('name', copy.id)}\n{shown(copy.kind, copy.row)}" for copy in session.parts.waiting
        )
        view = QPlainTextEdit(visible(text, lines=True))
        view.setReadOnly(True)
        view.setFont(theme.mono("small"))
        view.setAccessibleName("What it writes")
        seen = QCheckBox("I have looked at it, and it may be used")
        use = button("Use it", self.accept, "primary")
        use.setEnabled(False)
        seen.toggled.connect(use.setEnabled)
        words = (
            "Somebody else's build can carry templates for boot files and emulators' settings. They run in a "
            "sandbox and write only where you tell the program to. Until you agree they write nothing."
        )
        head, foot = label("Look at this first", "section"), row(1, button("Not now", self.reject), use)
        self.setLayout(column(head, label(words, wrap=True), view, seen, foot, spacing=10, margins=(20, 18, 20, 16)))
        self.resize(round(theme.px(620)), round(theme.px(440)))
        self.accepted.connect(session.parts.agree)
