"""Text that a build brings from elsewhere, shown before its first use."""

from __future__ import annotations

from PyQt6.QtWidgets import QDialog, QWidget

from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import TextBox, button, column, label, row
from kyklon.app.widgets.tick import Tick
from kyklon.base.shown import visible
from kyklon.parts.trust import shown


class LookDialog(QDialog):
    """What the build's own dialects and templates write; they write nothing until it is agreed to."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        theme = session.theme
        self.setWindowTitle("This build has its own templates")
        text = "\n\n".join(
            f"{copy.row.get('name', copy.id)}\n{shown(copy.kind, copy.row)}" for copy in session.parts.waiting
        )
        view = TextBox(visible(text, lines=True))
        view.setReadOnly(True)
        view.setFont(theme.mono("small"))
        view.setAccessibleName("What it writes")
        seen = Tick("I have reviewed it and allow it")
        use = button("Use it", self.accept, "primary")
        use.setEnabled(False)
        seen.toggled.connect(use.setEnabled)
        words = (
            "A build from someone else can contain templates for boot files and emulator settings. They run "
            "in a sandbox and write only where you tell Kyklon to. Until you agree they write nothing."
        )
        head, foot = label("Review these templates", "section"), row(1, button("Cancel", self.reject), use)
        self.setLayout(column(head, label(words, wrap=True), view, seen, foot, spacing=10, margins=(20, 18, 20, 16)))
        self.resize(round(theme.px(620)), round(theme.px(440)))
        self.accepted.connect(session.parts.agree)
