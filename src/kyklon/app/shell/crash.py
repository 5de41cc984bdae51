"""The dialog for what nobody expected."""

from __future__ import annotations

from typing import ClassVar

from PyQt6.QtWidgets import QApplication, QDialog, QWidget

from kyklon import __version__
from kyklon.app.widgets.basic import TextBox, button, column, label, row
from kyklon.base import program_log

_MOST = 200_000  # letters of a report: an error that comes again and again fills no memory


class CrashDialog(QDialog):
    """Says that it is the program's fault and that nothing is lost; the report can be copied."""

    _open: ClassVar[CrashDialog | None] = None

    @classmethod
    def tell(cls, report: str, parent: QWidget | None) -> None:
        """Show a report without what is private; one that comes while another is shown goes below it."""
        program_log.note(report)
        report = program_log.without_names(report)
        if cls._open is not None:
            cls._open.add(report)
            return
        cls._open = cls(report, parent)
        try:
            cls._open.exec()
        finally:
            cls._open = None

    def __init__(self, report: str, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Something went wrong in Kyklon")
        self._report = f"Kyklon {__version__}\n{report}"
        self._view = view = TextBox(self._report)
        view.setReadOnly(True)
        view.setMinimumSize(560, 260)
        words = (
            "This is a bug in Kyklon, not your mistake. Your build is saved as it was before the last action. "
            f"The report is in {program_log.place()}, too; names and keys were taken out of it."
        )
        self.setLayout(
            column(
                label("Something went wrong", "section"),
                label(words, wrap=True),
                view,
                row(button("Copy the report", self._copy, "outline"), 1, button("Resume", self.accept, "primary")),
                spacing=10,
                margins=(20, 18, 20, 16),
            )
        )

    def add(self, report: str) -> None:
        if len(self._report) < _MOST:
            self._report += f"\n{report}"
            self._view.setPlainText(self._report)

    def _copy(self) -> None:
        QApplication.clipboard().setText(self._report)
