"""The findings of an operation as cards, and the preview of a remedy."""

from __future__ import annotations

from math import ceil

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetrics, QPainter, QPaintEvent, QStaticText, QTextOption, QTransform
from PyQt6.QtWidgets import QDialog, QFrame, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import TextBox, button, column, label, row, set_tip
from kyklon.base.shown import visible
from kyklon.help.topics import of_code
from kyklon.model.findings import Change, Finding, Severity

GAP = 5  # px between two sentences of a finding


class FindingText(QWidget):
    """A finding's words, painted: severity and subject on one line, then the sentences, each as high as it needs.

    One widget instead of a label for each: laying out labels under a style sheet is the dearest part of a page.
    """

    def __init__(self, finding: Finding, theme: Theme) -> None:
        super().__init__()
        self._theme, self._finding = theme, finding
        self._fonts = (theme.font("body", weight=600), theme.font(), theme.font(), theme.font("label"))
        self._texts = tuple(
            QStaticText(visible(words))
            for words in (finding.title, finding.message, finding.why, f"Source: {finding.source}")
        )
        wrapped = QTextOption()
        wrapped.setWrapMode(QTextOption.WrapMode.WrapAtWordBoundaryOrAnywhere)
        for text in self._texts:
            text.setTextFormat(Qt.TextFormat.PlainText)
            text.setTextOption(wrapped)
        self._head_height = QFontMetrics(self._fonts[0]).height()
        self._width = -1
        self._heights: dict[int, int] = {}  # by width: a layout asks for several, again and again
        policy = QSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Minimum)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)

    def heightForWidth(self, width: int) -> int:
        """Override."""
        if width not in self._heights:
            self._lay_out(width)
            self._heights[width] = self._head_height + sum(ceil(text.size().height()) + GAP for text in self._texts)
        return self._heights[width]

    def _lay_out(self, width: int) -> None:
        if width != self._width:
            self._width = width
            for text, font in zip(self._texts, self._fonts, strict=True):
                text.setTextWidth(width)
                text.prepare(QTransform(), font)

    def sizeHint(self) -> QSize:
        """Override."""
        width = round(self._theme.px(252))
        return QSize(width, self.heightForWidth(width))

    def minimumSizeHint(self) -> QSize:
        """Override."""
        return QSize(120, self._head_height)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override."""
        self._lay_out(self.width())
        painter, color, side = QPainter(self), self._theme.color, self._theme.px(10)
        severity = self._finding.severity
        line = QRectF(0, 0, self.width(), self._head_height)
        paint_lamp(painter, QRectF(1, (line.height() - side) / 2, side, side), severity, self._theme)
        painter.setFont(self._fonts[0] if severity is not Severity.NOTE else self._fonts[1])
        painter.setPen(color({Severity.STOP: "red", Severity.CAUTION: "amber"}.get(severity, "muted")))
        words = line.adjusted(side + 10, 0, 0, 0)
        used = painter.boundingRect(words, Qt.AlignmentFlag.AlignVCenter, severity.capitalize())
        painter.drawText(words, Qt.AlignmentFlag.AlignVCenter, severity.capitalize())
        painter.setFont(self._fonts[3])
        painter.setPen(color("muted"))
        room = line.adjusted(used.right() + 8, 0, 0, 0)
        subject = painter.fontMetrics().elidedText(
            visible(self._finding.subject), Qt.TextElideMode.ElideRight, int(room.width())
        )
        painter.drawText(room, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, subject)
        y = float(self._head_height + GAP)
        for text, font in zip(self._texts, self._fonts, strict=True):
            painter.setFont(font)
            painter.setPen(color("muted" if font is self._fonts[3] else "ink"))
            painter.drawStaticText(QPointF(0, y), text)
            y += ceil(text.size().height()) + GAP
        painter.end()


class FindingCard(QFrame):
    """One finding: severity, sentence with its numbers, why, source, remedy."""

    remedy_asked = pyqtSignal(object)  # Finding
    help_asked = pyqtSignal(str)  # its code

    def __init__(self, finding: Finding, theme: Theme) -> None:
        super().__init__()
        self._theme, self.finding = theme, finding
        self.setProperty("role", "sheet")
        self.setAccessibleName(f"{finding.severity}: {finding.title}")
        self.setAccessibleDescription(f"{finding.message} {finding.why} Source: {finding.source}")
        layout = column(FindingText(finding, theme), spacing=8, margins=(16, 10, 12, 10))
        if finding.remedy is not None:
            ask = button(f"Preview: {finding.remedy.label}", lambda: self.remedy_asked.emit(finding), "outline")
            set_tip(ask, finding.remedy.label)
            metrics = QFontMetrics(theme.font("body", weight=600))
            ask.setText(metrics.elidedText(ask.text(), Qt.TextElideMode.ElideRight, round(theme.px(234))))
            layout.addWidget(ask)
            layout.setContentsMargins(16, 10, 12, 12)
        if of_code(finding.code) is not None:
            about = button("About this finding", lambda: self.help_asked.emit(finding.code), "link")
            about.setAccessibleName(f"About this finding: {finding.title}")
            layout.addLayout(row(about, 1))
        self.setLayout(layout)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override: the sheet, and the severity's colour at its edge."""
        super().paintEvent(event)
        token = {"stop": "red", "caution": "amber"}.get(self.finding.severity, "hairline")
        painter = QPainter(self)
        painter.fillRect(QRectF(0, 0, 4, self.height()), self._theme.color(token))
        painter.end()


class FindingsPanel(QWidget):
    """The right column: this operation's findings, and its cautions."""

    remedy_asked = pyqtSignal(object)  # Finding
    help_asked = pyqtSignal(str)  # a finding's code

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("findings")
        self._theme = theme
        self._shown: tuple[tuple[Finding, ...], tuple[str, ...], float] | None = None
        self._count = label("", "muted")
        self._cards = QVBoxLayout()
        self._cards.setSpacing(10)
        self._cards.setContentsMargins(0, 0, 8, 8)
        holder = QWidget()
        holder.setObjectName("findings")
        holder.setLayout(self._cards)
        self._scroll = QScrollArea()
        self._scroll.setAccessibleName("Findings, can be scrolled")
        self._scroll.setWidget(holder)
        self._scroll.setWidgetResizable(True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setLayout(
            column(
                row(label("Findings", "section"), 1, self._count, margins=(0, 0, 16, 0)),
                self._scroll,
                spacing=10,
                margins=(0, 16, 8, 0),
            )
        )
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        """Override."""
        return QSize(round(self._theme.px(312)), 400)

    def show_findings(self, findings: tuple[Finding, ...], cautions: tuple[str, ...]) -> None:
        """Cards of findings that were there already stay: laying out wrapped text is the dear part."""
        shown = (findings, cautions, self._theme.scale)
        if shown == self._shown:
            return
        same_scale = self._shown is not None and self._shown[2] == self._theme.scale
        self._shown = shown
        kept: dict[str, FindingCard] = {}  # by code, which is unique
        while self._cards.count():
            widget = self._cards.takeAt(0).widget()
            if isinstance(widget, FindingCard) and same_scale and widget.finding in findings:
                kept[widget.finding.code] = widget
            elif widget is not None:
                widget.hide()
                widget.deleteLater()
        for finding in findings:
            card = kept.pop(finding.code, None) or self._card(finding)
            self._cards.addWidget(card)
        if not findings:
            self._cards.addWidget(label("No findings here.", "muted", wrap=True))
        for caution in cautions:
            self._cards.addWidget(label(caution, "muted", wrap=True))
        self._cards.addStretch(1)
        self._count.setText(f"{len(findings)} here" if findings else "none here")

    def _card(self, finding: Finding) -> FindingCard:
        card = FindingCard(finding, self._theme)
        card.remedy_asked.connect(self.remedy_asked)
        card.help_asked.connect(self.help_asked)
        return card


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
            view = TextBox(visible("\n".join(differences.values()), lines=True))
            view.setReadOnly(True)
            view.setFont(theme.mono("small"))
            view.setStyleSheet(f"font-family: '{theme.mono().family()}'; font-size: {round(theme.px(12))}px;")
            view.setMinimumHeight(round(theme.px(190)))
            view.setAccessibleName("Difference on the card")
            layout.addWidget(view)
        leave = button("Cancel", self.reject)
        apply = button("Change the build", self.accept, "outline" if differences else "primary")
        apply.setVisible(bool(changes) or not differences)
        buttons = row(leave, 1, apply)
        if differences:
            words = "Change the build and the card" if changes else "Copy them to the card"
            both = button(words, self._accept_both, "primary")
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
