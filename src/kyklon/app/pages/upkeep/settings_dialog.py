"""Settings of the running machine against those of the build, before any is changed."""

from __future__ import annotations

from PyQt6.QtWidgets import QDialog, QWidget

from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import TextBox, button, column, label, row
from kyklon.base.shown import visible
from kyklon.operations.upkeep import settings as root


class SettingsDialog(QDialog):
    """Accepted: change them, or with `undo` the last change is undone."""

    def __init__(self, session: Session, found: root.Planned, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Settings on the running machine")
        self.undo = False
        count = len(found.files)
        title = f"{count} file{'s differ' if count != 1 else ' differs'}" if count else "Same as this build"
        shown = TextBox(visible("\n\n".join(found.differences.values()), lines=True))
        shown.setReadOnly(True)
        shown.setProperty("role", "mono")
        shown.setLineWrapMode(TextBox.LineWrapMode.NoWrap)
        shown.setAccessibleName("Differences")
        shown.setVisible(bool(count))
        notes = [f"{path}: the machine has no such folder; skipped." for path in found.skipped]
        notes += ["What is replaced stays on the machine, and can be restored."] if count else []
        change = button(f"Change {count}", self.accept, "primary")
        change.setEnabled(bool(count))
        back = button("Undo last change", self._on_undo_clicked)
        back.setEnabled(bool(root.last_change(session.folder)))
        words = label("\n".join(notes), "muted", wrap=True)
        words.setVisible(bool(notes))
        warning = label(
            "The network changes: have a screen and a keyboard for the machine at hand.", "warning", wrap=True
        )
        warning.setVisible(found.cuts_off)
        self.setLayout(
            column(
                label(title, "section"),
                shown,
                words,
                warning,
                row(back, 1, button("Cancel", self.reject, "quiet"), change),
                spacing=10,
                margins=(20, 18, 20, 16),
            )
        )
        self.setMinimumWidth(round(session.theme.px(560)))

    def _on_undo_clicked(self) -> None:
        self.undo = True
        self.accept()
