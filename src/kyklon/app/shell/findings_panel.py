"""The findings of an operation as cards, and the preview of a remedy."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetrics, QPainter, QPaintEvent
from PyQt6.QtWidgets import QDialog, QFrame, QPlainTextEdit, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from kyklon.app.theme.lamps import Lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import button, column, label, row, set_tip
from kyklon.model.findings import Change, Finding


class FindingCard(QFrame):
    """One finding: severity, sentence with its numbers, why, source, remedy."""

    remedy_asked = pyqtSignal(object)  # Finding

    def __init__(self, finding: Finding, theme: Theme) -> None:
        super().__init__()
        self._theme, self._finding = theme, finding
        self.setProperty("role", "sheet")
        self.setAccessibleName(f"{finding.severity}: {finding.title}")
        word = label(finding.severity.capitalize(), finding.severity if finding.severity != "note" else "muted")
        layout = column(
            row(Lamp(theme, finding.severity, 10), word, 1, label(finding.subject, "small"), spacing=8),
            label(finding.title, "strong", wrap=True),
            label(finding.message, wrap=True),
            label(finding.why, wrap=True),
            label(f"Source: {finding.source}", "small", wrap=True),
            spacing=5,
            margins=(16, 10, 12, 12),
        )
        if finding.remedy is not None:
            ask = button(f"Preview: {finding.remedy.label}", lambda: self.remedy_asked.emit(finding), "outline")
            set_tip(ask, finding.remedy.label)
            metrics = QFontMetrics(theme.font("body", weight=600))
            ask.setText(metrics.elidedText(ask.text(), Qt.TextElideMode.ElideRight, round(theme.px(234))))
            layout.addSpacing(4)
            layout.addWidget(ask)
        self.setLayout(layout)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override: the sheet, and the severity's colour at its edge."""
        super().paintEvent(event)
        token = {"stop": "red", "caution": "amber"}.get(self._finding.severity, "hairline")
        painter = QPainter(self)
        painter.fillRect(QRectF(0, 0, 4, self.height()), self._theme.color(token))
        painter.end()


class FindingsPanel(QWidget):
    """The right column: this operation's findings, and its cautions."""

    remedy_asked = pyqtSignal(object)  # Finding

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("findings")
        self._theme = theme
        self._count = label("", "muted")
        self._cards = QVBoxLayout()
        self._cards.setSpacing(10)
        self._cards.setContentsMargins(0, 0, 8, 8)
        holder = QWidget()
        holder.setObjectName("findings")
        holder.setLayout(self._cards)
        self._scroll = QScrollArea()
        self._scroll.setWidget(holder)
        self._scroll.setWidgetResizable(True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setLayout(
            column(row(label("Findings", "section"), 1, self._count, margins=(0, 0, 16, 0)), self._scroll, spacing=10,
                   margins=(0, 16, 8, 0))
        )  # fmt: skip
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        """Override."""
        return QSize(round(self._theme.px(312)), 400)

    def show_findings(self, findings: tuple[Finding, ...], cautions: tuple[str, ...]) -> None:
        while self._cards.count():
            item = self._cards.takeAt(0)
            if item.widget():
                item.widget().hide()
                item.widget().deleteLater()
        for finding in findings:
            card = FindingCard(finding, self._theme)
            card.remedy_asked.connect(self.remedy_asked)
            self._cards.addWidget(card)
        if not findings:
            self._cards.addWidget(label("No findings here.", "muted", wrap=True))
        for caution in cautions:
            self._cards.addWidget(label(caution, "muted", wrap=True))
        self._cards.addStretch(1)
        self._count.setText(f"{len(findings)} here" if findings else "none here")


class RemedyDialog(QDialog):
    """Shows what a remedy changes in the build, and on the card, before anything is done.

    also_card: whether the user asked for the changed boot files to go on the card as well.
    """

    def __init__(
        self, title: str, changes: tuple[Change, ...], differences: dict[str, str], theme: Theme, parent: QWidget
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("What this changes")
        self.setMinimumWidth(round(theme.px(560)))
        self.also_card = False
        layout = column(label(title, "section", wrap=True), spacing=10, margins=(20, 18, 20, 16))
        for change in changes:
            layout.addWidget(label(change.label, "caption"))
            before, after = label(change.before, "mono", wrap=True), label(change.after, "mono", wrap=True)
            layout.addLayout(row(label("before", "small"), before, 1))
            layout.addLayout(row(label("after", "good"), after, 1))
        if differences:
            layout.addWidget(label("On the card", "caption"))
            view = QPlainTextEdit("\n".join(differences.values()))
            view.setReadOnly(True)
            view.setFont(theme.mono("small"))
            view.setStyleSheet(f"font-family: '{theme.mono().family()}'; font-size: {round(theme.px(12))}px;")
            view.setMinimumHeight(round(theme.px(190)))
            view.setAccessibleName("Difference on the card")
            layout.addWidget(view)
        leave = button("Cancel", self.reject)
        apply = button("Change the build", self.accept, "outline" if differences else "primary")
        buttons = row(leave, 1, apply)
        if differences:
            both = button("Change the build and the card", self._accept_both, "primary")
            both.setDefault(True)
            both.setFocus()
            buttons.addWidget(both)
        else:
            apply.setDefault(True)
        layout.addSpacing(6)
        layout.addLayout(buttons)
        self.setLayout(layout)

    def _accept_both(self) -> None:
        self.also_card = True
        self.accept()
