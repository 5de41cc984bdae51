"""Small building blocks: labels by role, sheets, buttons, rows of figures."""

from __future__ import annotations

import html
import re
from collections.abc import Callable

from PyQt6.QtCore import QEvent, QPointF, QRect, QSize, Qt
from PyQt6.QtGui import QFont, QFontMetrics, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent, QShowEvent
from PyQt6.QtWidgets import (
    QBoxLayout,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayout,
    QMessageBox,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QStyle,
    QStyleOptionButton,
    QStyleOptionComboBox,
    QStylePainter,
    QVBoxLayout,
    QWidget,
)

from kyklon.app.theme.tokens import Theme
from kyklon.base.errors import KyklonError
from kyklon.base.shown import visible

_LONG = re.compile(r"\S{25,}")  # no column is too narrow for a word that is shorter
_BREAK = "\u200b"  # zero width space: a line may end here (UAX #14, ZW)


def _breakable(text: str) -> str:
    """The text with places to end a line within its longest words: paths, addresses, fingerprints."""

    def broken(word: re.Match[str]) -> str:
        pieces = re.findall(r"[^/._:=,\-]{1,16}[/._:=,\-]*|[/._:=,\-]+", word[0])
        return _BREAK.join(pieces)

    return _LONG.sub(broken, text)


class _Plain(QLabel):
    """A label that shows controls in a text as signs, and ends a line within a word that is too long for one."""

    def __init__(self, text: str) -> None:
        super().__init__(_breakable(visible(text, lines=True)))

    def setText(self, text: str | None) -> None:
        """Override."""
        super().setText(_breakable(visible(text or "", lines=True)))

    def text(self) -> str:
        """Override."""
        return super().text().replace(_BREAK, "")


def label(text: str = "", role: str = "", *, wrap: bool = False) -> QLabel:
    """A label in a role of the style sheet."""
    made = _Plain(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    if role:
        made.setProperty("role", role)
    made.setWordWrap(wrap)
    return made


def plain_box(parent: QWidget | None, title: str, error: KyklonError) -> None:
    """A message box with an expected error; names in it are never taken for markup."""
    box = QMessageBox(
        QMessageBox.Icon.Warning, title, visible(f"{error.what}\n\n{error.do}".strip(), lines=True), parent=parent
    )
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.exec()


def plain_tip(text: str) -> str:
    """A tip's text with nothing in it taken for markup."""
    return f"<p>{html.escape(visible(text, lines=True))}</p>".replace("\n", "<br>") if text else ""


def set_tip(widget: QWidget, text: str) -> None:
    """A tool tip that shows its words as they are: Qt takes what looks like markup for markup."""
    tip = plain_tip(text)
    if tip == widget.toolTip():
        return
    widget.setToolTip(tip)
    if widget.accessibleDescription() == (widget.property("told") or ""):  # else it has words of its own for a reader
        widget.setAccessibleDescription(visible(text, lines=True))
        widget.setProperty("told", visible(text, lines=True))


def set_role(widget: QWidget, role: str, of: str = "role") -> None:
    """Change a widget's role, or of a button its kind, and let the style sheet see it."""
    if widget.property(of) != role:
        widget.setProperty(of, role)
        style = widget.style()
        style.unpolish(widget)
        style.polish(widget)


_ROUNDING = 2  # pixels by which a style's own size may be under its text's width


class PlainButton(QPushButton):
    """A button that says its text: an & in a name is an &, not a key to press."""

    def setText(self, text: str | None) -> None:  # Qt's name
        """Override."""
        super().setText(unmarked(visible(text or "")))

    def text(self) -> str:
        """Override."""
        return super().text().replace("&&", "&")

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override: a text too long for its place ends in an ellipsis."""
        option = QStyleOptionButton()
        self.initStyleOption(option)
        style = self.style()
        room = style.subElementRect(QStyle.SubElement.SE_PushButtonContents, option, self).width() + _ROUNDING
        flag = int(Qt.TextFlag.TextShowMnemonic)
        option.text = self.fontMetrics().elidedText(option.text, Qt.TextElideMode.ElideRight, room, flag)
        QStylePainter(self).drawControl(QStyle.ControlElement.CE_PushButton, option)


def unmarked(text: str) -> str:
    """A text for a button, a tick, a tab or a menu, in which & stands for itself."""
    return text.replace("&", "&&")


def button(text: str, clicked: Callable[[], object], kind: str = "", *, tip: str = "") -> QPushButton:
    """A push button; kind: primary, outline, quiet, danger, or plain."""
    made = PlainButton()
    made.setText(text)
    made.setProperty("kind", kind)
    made.setCursor(Qt.CursorShape.PointingHandCursor)
    made.setAutoDefault(False)
    made.clicked.connect(lambda _checked=False: clicked())
    if tip:
        set_tip(made, tip)
    return made


def column(
    *items: QWidget | QLayout | int, spacing: int = 8, margins: tuple[int, int, int, int] = (0, 0, 0, 0)
) -> QVBoxLayout:
    """A vertical layout; a number is a stretch."""
    layout = QVBoxLayout()
    _fill(layout, items, spacing, margins)
    return layout


def row(
    *items: QWidget | QLayout | int, spacing: int = 8, margins: tuple[int, int, int, int] = (0, 0, 0, 0)
) -> QHBoxLayout:
    """A horizontal layout; a number is a stretch."""
    layout = QHBoxLayout()
    _fill(layout, items, spacing, margins)
    return layout


def _fill(
    layout: QBoxLayout, items: tuple[QWidget | QLayout | int, ...], spacing: int, margins: tuple[int, int, int, int]
) -> None:
    layout.setSpacing(spacing)
    layout.setContentsMargins(*margins)
    for item in items:
        if isinstance(item, int):
            layout.addStretch(item)
        elif isinstance(item, QLayout):
            layout.addLayout(item)
        else:
            layout.addWidget(item)


class TextBox(QPlainTextEdit):
    """Several lines of plain text. Tab goes on to what comes next: whoever has no mouse comes out again."""

    def __init__(self, text: str = "") -> None:
        super().__init__(text)
        self.setTabChangesFocus(True)


def line_pitch(widget: QWidget) -> int:
    """From one line of a wrapped text to the next, in pixels; the font's own height may be a pixel less."""
    metrics, room = widget.fontMetrics(), QRect(0, 0, 9999, 9999)
    return metrics.boundingRect(room, 0, "a\na").height() - metrics.boundingRect(room, 0, "a").height()


class _WholeRows(QScrollArea):
    """Ends with a whole row, where all rows have one height."""

    def __init__(self, pitch: Callable[[], float]) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # the rows take it, and come into view with it
        self._pitch = pitch

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Override."""
        pitch = max(1, round(self._pitch()))
        self.verticalScrollBar().setSingleStep(pitch)
        self.setViewportMargins(0, 0, 0, self.height() % pitch if self.height() > pitch else 0)
        super().resizeEvent(event)


class _Scrolled(QScrollArea):
    """Takes the focus so that keys scroll it, and is called by the heading above it."""

    def showEvent(self, event: QShowEvent | None) -> None:
        """Override."""
        super().showEvent(event)
        if not self.accessibleName():
            place = self.parentWidget()
            while place is not None and not (isinstance(place, Sheet) and place.title):
                place = place.parentWidget()
            self.setAccessibleName(f"{place.title}, can be scrolled" if isinstance(place, Sheet) else "Can be scrolled")


def scrolled(widget: QWidget | QLayout, pitch: Callable[[], float] | None = None) -> QScrollArea:
    """Something that may be higher than its place, with a bar at the right when it is.

    pitch: height of a row in pixels, for a list of equal rows.
    """
    if isinstance(widget, QLayout):
        inner = QWidget()
        inner.setLayout(widget)
        widget = inner
    area = _WholeRows(pitch) if pitch is not None else _Scrolled()
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setWidget(widget)
    return area


class Sheet(QFrame):
    """A paper sheet with a heading, an explanation beside it, and a body."""

    def __init__(self, title: str = "", note: str = "") -> None:
        super().__init__()
        self.setProperty("role", "sheet")
        self._title, self._note = label(title, "section"), Elided("muted")
        self._note.set_full(note)
        self.head = row(self._title, self._note, spacing=8)
        self.head.setStretch(1, 1)
        self.body = QVBoxLayout()
        self.body.setSpacing(8)
        self.setLayout(column(spacing=8, margins=(14, 10, 14, 12)))
        if title:
            self.layout().addLayout(self.head)
        self.layout().addLayout(self.body, 1)

    @property
    def title(self) -> str:
        return self._title.text()

    def set_note(self, text: str) -> None:
        self._note.set_full(text)

    def set_title(self, text: str) -> None:
        self._title.setText(text)

    def add(self, *items: QWidget | QLayout | int) -> None:
        for item in items:
            if isinstance(item, int):
                self.body.addStretch(item)
            elif isinstance(item, QLayout):
                self.body.addLayout(item)
            else:
                self.body.addWidget(item)


class FigureRows(QWidget):
    """Names at the left, figures at the right, hairlines between; painted, so that it stays aligned at any scale."""

    def __init__(self, theme: Theme, rows: tuple[tuple[str, str], ...] = ()) -> None:
        super().__init__()
        self._theme, self._rows = theme, rows
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        theme.tell(self, lambda own: own.updateGeometry())

    def set_rows(self, rows: tuple[tuple[str, str], ...]) -> None:
        rows = tuple((visible(name), visible(figure)) for name, figure in rows)
        if rows == self._rows:
            return
        self._rows = rows
        self.setAccessibleName("; ".join(f"{name} {figure}" for name, figure in rows))
        self.updateGeometry()
        self.update()

    @property
    def rows(self) -> tuple[tuple[str, str], ...]:
        return self._rows

    def _pitch(self) -> int:
        return round(self._theme.px(25))

    def _figures(self) -> QFont:
        """Of the figures: smaller where one takes nearly the whole line."""
        whole = self._theme.mono(weight=500)
        wide = QFontMetrics(whole)
        fits = all(wide.horizontalAdvance(figure) <= self.width() * 0.72 for _name, figure in self._rows)
        return whole if fits else self._theme.mono("small")

    def _lines(self) -> list[int]:
        """Of each row: 1, or 2 where name and figure do not fit side by side."""
        names, figures = QFontMetrics(self._theme.font("body")), QFontMetrics(self._figures())
        gap = self._theme.px(8)
        return [
            1 if names.horizontalAdvance(name) + gap + figures.horizontalAdvance(figure) <= self.width() else 2
            for name, figure in self._rows
        ]

    def sizeHint(self) -> QSize:
        """Override."""
        return QSize(180, self._pitch() * sum(self._lines()))

    def minimumSizeHint(self) -> QSize:
        """Override."""
        return self.sizeHint()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Override: narrower rows are higher."""
        super().resizeEvent(event)
        if self.height() != self.sizeHint().height():
            self.updateGeometry()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override."""
        painter = QPainter(self)
        pitch, figures, top = self._pitch(), self._figures(), 0
        for (name, figure), lines in zip(self._rows, self._lines(), strict=True):
            box = self.rect().adjusted(0, top, 0, 0)
            box.setHeight(pitch * lines)
            top += pitch * lines
            upper, lower = box.adjusted(0, 0, 0, -pitch * (lines - 1)), box.adjusted(0, pitch * (lines - 1), 0, 0)
            painter.setFont(self._theme.font("body"))
            painter.setPen(self._theme.color("muted"))
            painter.drawText(upper, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, name)
            painter.setFont(figures)
            painter.setPen(self._theme.color("ink"))
            painter.drawText(lower, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, figure)
            painter.setPen(QPen(self._theme.color("grid"), 1))
            painter.drawLine(box.bottomLeft(), box.bottomRight())
        painter.end()


# width of a combo box in letters as Qt counts them, wide ones: at least, at most, and for each letter of an entry
_LEAST_LETTERS, _MOST_LETTERS, _LETTER = 8, 17, 0.82


class Choice(QComboBox):
    """A combo box of (value, words) with a drawn arrow; `chosen` fires on the user's choice only."""

    def __init__(self, theme: Theme, name: str, chosen: Callable[[str], object]) -> None:
        super().__init__()
        self._theme = theme
        self.setAccessibleName(name)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.setMinimumContentsLength(8)
        self.activated.connect(lambda _index: chosen(self.value))

    def set_choices(self, choices: tuple[tuple[str, str], ...], value: str) -> None:
        self.clear()
        for key, words in choices:
            self.addItem(visible(words), key)
        longest = max((len(words) for _key, words in choices), default=0)
        self.setMinimumContentsLength(round(min(_MOST_LETTERS, max(_LEAST_LETTERS, longest * _LETTER))))
        if value and self.findData(value) < 0:  # what the build says, though it is none of the choices
            self.insertItem(0, f"{visible(value)} (not known)", value)
        self.setCurrentIndex(max(0, self.findData(value)))

    @property
    def value(self) -> str:
        return str(self.currentData() or "")

    def showPopup(self) -> None:
        """Override: the list is as wide as its longest choice."""
        view = self.view()
        if view is not None:
            view.setMinimumWidth(view.sizeHintForColumn(0) + 24)
        super().showPopup()

    def wheelEvent(self, event: object) -> None:
        """Override: scrolling a page must not change a decision."""
        event.ignore()  # type: ignore[attr-defined] # a QWheelEvent

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override: a choice too long for its place ends in an ellipsis."""
        option = QStyleOptionComboBox()
        self.initStyleOption(option)
        field = self.style().subControlRect(
            QStyle.ComplexControl.CC_ComboBox, option, QStyle.SubControl.SC_ComboBoxEditField, self
        )
        painter = QStylePainter(self)
        painter.drawComplexControl(QStyle.ComplexControl.CC_ComboBox, option)
        option.currentText = self.fontMetrics().elidedText(
            option.currentText, Qt.TextElideMode.ElideRight, field.width()
        )
        painter.drawControl(QStyle.ControlElement.CE_ComboBoxLabel, option)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(self._theme.color("muted"), 1.4))
        x, y = self.width() - 13.0, self.height() / 2
        painter.drawPolyline(QPolygonF([QPointF(x - 4, y - 2), QPointF(x, y + 2), QPointF(x + 4, y - 2)]))
        painter.end()


class Elided(QLabel):
    """A one-line label that shortens itself with an ellipsis and shows all of it as a tip."""

    def __init__(self, role: str = "", mode: Qt.TextElideMode = Qt.TextElideMode.ElideRight) -> None:
        super().__init__()
        self.setTextFormat(Qt.TextFormat.PlainText)
        self._full, self._mode = "", mode
        if role:
            self.setProperty("role", role)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    def set_full(self, text: str) -> None:
        text = visible(text)
        if text == self._full:
            return
        self._full = text
        set_tip(self, text)
        self.setAccessibleName(text)
        self._elide()

    @property
    def full(self) -> str:
        return self._full

    def _elide(self) -> None:
        self.setText(self.fontMetrics().elidedText(self._full, self._mode, self.width()))

    def resizeEvent(self, event: object) -> None:
        """Override."""
        self._elide()

    def changeEvent(self, event: QEvent | None) -> None:
        """Override."""
        super().changeEvent(event)
        if event is not None and event.type() == QEvent.Type.FontChange:
            self._elide()
