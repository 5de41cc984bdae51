"""The first window while a demo is made: what is done, how far it is, and a way to stop."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QDialog, QSizePolicy

from kyklon.app.shell.bars import ProgressLine
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import button, column, label, row
from kyklon.base.progress import Progress
from kyklon.base.quantities import show_duration


class MakingWindow(QDialog):
    """Shown until the build it waits for is there."""

    cancelled = pyqtSignal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setWindowTitle("Kyklon")
        self._bar = ProgressLine(theme)
        self._bar.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._phase, self._left = label("", "strong"), label("", "muted")
        self._cancel = button("Cancel", self.reject, "quiet", tip="Stop; the next start makes the demo again")
        self.setLayout(
            column(
                label("Making the demo build", "title"),
                label(
                    "Everything in it is invented. It is made once and kept; the next start opens it at once.",
                    "muted",
                    wrap=True,
                ),
                self._bar,
                row(self._phase, self._left, 1, self._cancel),
                spacing=14,
                margins=(32, 28, 32, 24),
            )
        )
        self.resize(round(theme.px(560)), round(theme.px(210)))

    def show_progress(self, report: Progress) -> None:
        self._phase.setText(report.phase)
        self._bar.set_fraction(report.fraction)
        left = report.seconds_left
        self._left.setText("" if left is None else f"about {show_duration(round(left))} left")

    def reject(self) -> None:
        """Cancel, Esc and the window's own cross."""
        self._cancel.setEnabled(False)
        self._left.setText("stopping after this step")
        self.cancelled.emit()
