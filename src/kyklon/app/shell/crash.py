"""The dialog for what nobody expected."""

from __future__ import annotations

from PyQt6.QtWidgets import QApplication, QDialog, QPlainTextEdit, QWidget

from kyklon import __version__
from kyklon.app.widgets.basic import button, column, label, row


class CrashDialog(QDialog):
    """Says that it is the program's fault and that nothing is lost; the report can be copied."""

    def __init__(self, report: str, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Something went wrong in Kyklon")
        self._report = f"Kyklon {__version__}\n{report}"
        view = QPlainTextEdit(self._report)
        view.setReadOnly(True)
        view.setMinimumSize(560, 260)
        words = "This is a fault in Kyklon, not yours. The build is saved as it was before your last action."
        self.setLayout(
            column(label("Something went wrong", "section"), label(words, wrap=True), view,
                   row(button("Copy the report", self._copy, "outline"), 1, button("Resume", self.accept, "primary")),
                   spacing=10, margins=(20, 18, 20, 16))
        )  # fmt: skip

    def _copy(self) -> None:
        QApplication.clipboard().setText(self._report)
