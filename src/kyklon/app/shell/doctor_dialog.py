"""This computer: what it has of what Kyklon needs, and the lines to type for what it lacks."""

from __future__ import annotations

from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QDialog, QWidget

from kyklon.app.session.jobs import Jobs
from kyklon.app.shell.qt_loaded import qt_checks
from kyklon.app.theme.lamps import Lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Sheet, TextBox, button, column, label, row, scrolled
from kyklon.base.progress import Watch
from kyklon.desktop.doctor import CONCLUSION, Check, examine, lines_to_type, report, verdict

_LAMPS = {"ok": "clear", "limited": "caution", "missing": "stop"}
_WORDS = {"ok": "OK", "limited": "LIMITED", "missing": "MISSING"}


class DoctorDialog(QDialog):
    """Looks when it is opened, and again when asked; nothing is changed."""

    def __init__(self, theme: Theme, jobs: Jobs, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("This computer")
        self._theme, self._jobs = theme, jobs
        self._checks: tuple[Check, ...] = ()
        self._conclusion = label("Looking…", "section", wrap=True)
        self._type = TextBox()
        self._type.setReadOnly(True)
        self._type.setFont(theme.mono("label"))
        self._type.setAccessibleName("Lines to type")
        self._copy = button("Copy the lines", self._copy_lines, "outline")
        self._todo = QWidget()
        self._todo.setLayout(
            column(label("Type this in a terminal, then look again", "caption"), self._type, row(1, self._copy))
        )
        self._todo.setVisible(False)
        self._areas = column(spacing=10)
        self._holder = scrolled(self._areas)
        foot = row(
            button("Copy the report", self._copy_report, "quiet"),
            1,
            button("Look again", self.look, "outline"),
            button("Close", self.accept, "primary"),
        )
        whole = column(self._conclusion, self._todo, self._holder, foot, spacing=10, margins=(20, 18, 20, 16))
        whole.setStretch(2, 1)
        self.setLayout(whole)
        self.resize(round(theme.px(720)), round(theme.px(600)))
        self.look()

    def look(self) -> None:
        """Examine this computer off the window's thread."""
        self._conclusion.setText("Looking…")

        def work(_watch: Watch) -> tuple[Check, ...]:
            return examine(qt_checks)

        self._jobs.start("Looking at this computer", work, self.show_checks, cancellable=False)

    def show_checks(self, checks: tuple[Check, ...]) -> None:
        self._checks = checks
        self._conclusion.setText(CONCLUSION[verdict(checks)])
        lines = lines_to_type(checks)
        self._todo.setVisible(bool(lines))
        self._type.setPlainText("\n".join(lines))
        self._type.setFixedHeight(round(self._theme.px(18 + 20 * min(4, len(lines)))))
        while (item := self._areas.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.deleteLater()
        lacking = {check.area for check in checks if check.state != "ok"}
        for area in sorted(dict.fromkeys(check.area for check in checks), key=lambda area: area not in lacking):
            sheet = Sheet(area)
            for check in sorted((c for c in checks if c.area == area), key=lambda c: c.state == "ok"):
                sheet.add(self._row(check))
            self._areas.addWidget(sheet)
        self._areas.addStretch(1)

    def _row(self, check: Check) -> QWidget:
        lamp = Lamp(self._theme, _LAMPS[check.state], 11)
        state = label(_WORDS[check.state], "caption")
        state.setFixedWidth(round(self._theme.px(62)))
        name = label(check.what, "strong", wrap=True)
        name.setFixedWidth(round(self._theme.px(150)))
        texts = [label(check.said, wrap=True), *([label(check.do, "mono", wrap=True)] if check.do else [])]
        holder = QWidget()
        layout = row(lamp, state, name, column(*texts, spacing=2), spacing=8, margins=(0, 2, 0, 2))
        layout.setStretch(3, 1)
        holder.setLayout(layout)
        holder.setAccessibleName(f"{_WORDS[check.state]}: {check.what}. {check.said} {check.do}".strip())
        return holder

    def _copy_lines(self) -> None:
        self._put("\n".join(lines_to_type(self._checks)))

    def _copy_report(self) -> None:
        self._put("\n".join(report(self._checks)))

    @staticmethod
    def _put(text: str) -> None:
        board = QGuiApplication.clipboard()
        if board is not None:
            board.setText(text)
