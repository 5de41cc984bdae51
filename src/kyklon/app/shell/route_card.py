"""The left column: the route card with its numbered operations."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QEnterEvent, QFocusEvent, QKeyEvent, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QAbstractButton, QSizePolicy, QWidget

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import column, label, set_tip

LOGBOOK, SHELF = 0, -1


@dataclass(frozen=True)
class Line:
    """One line of the card. number 0 is the logbook, -1 the shelf. state '' shows no lamp."""

    number: int
    name: str
    note: str
    state: str


class RouteLine(QAbstractButton):
    """Painted line: big number, name, note, lamp. A button, to the mouse, the keyboard and a screen reader."""

    opened = pyqtSignal(int)

    def __init__(self, line: Line, theme: Theme) -> None:
        super().__init__()
        self._theme, self._line = theme, line
        self._current = self._hover = self._by_key = False
        self._shown: tuple[Line, bool] | None = None
        self._one_line = False
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.clicked.connect(lambda _checked=False: self.opened.emit(self._line.number))
        self.set_line(line, current=False)

    def set_line(self, line: Line, *, current: bool) -> None:
        if (line, current) == self._shown:
            return
        self._shown = (line, current)
        self._line, self._current = line, current
        number = f"{line.number} " if line.number > 0 else ""
        self.setAccessibleName(f"{number}{line.name}, {line.state or line.note}")
        if line.number > 0:
            set_tip(self, f"{line.name}: {line.state} (Alt+{line.number // 10})")
        self.update()

    def sizeHint(self) -> QSize:
        """Override."""
        high = 28 if self._line.number <= 0 else 34 if self._one_line else 51
        return QSize(180, round(self._theme.px(high)))

    def set_one_line(self, one_line: bool) -> None:
        """Without its note, where the window is too low for two lines of this size; the lamp and the tip still tell."""
        if one_line != self._one_line:
            self._one_line = one_line
            self.updateGeometry()
            self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override."""
        theme, px = self._theme, self._theme.px
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect())
        if self._current:
            painter.fillRect(box, theme.color("sheet"))
            painter.fillRect(QRectF(0, 0, 4, box.height()), theme.color("teal"))
        elif self._hover:
            painter.fillRect(box, theme.color("teal_soft", 120))
        if self._line.number > 0:
            self._paint_operation(painter, box)
        else:
            painter.setFont(theme.font("body", weight=600 if self._current else 500))
            painter.setPen(theme.color("ink"))
            painter.drawText(box.adjusted(px(20), 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, self._line.name)
            painter.setFont(theme.font("label"))
            painter.setPen(theme.color("muted"))
            inner = box.adjusted(0, 0, -px(18), 0)
            painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, self._line.note)
        if self.hasFocus() and self._by_key:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(theme.color("teal"))
            painter.drawRect(box.adjusted(5.5, 1.5, -2.5, -1.5))
        painter.end()

    def _paint_operation(self, painter: QPainter, box: QRectF) -> None:
        theme, px = self._theme, self._theme.px
        painter.setFont(theme.head("number"))
        if painter.fontMetrics().ascent() > box.height():  # the lines are lower than the number is high
            painter.setFont(theme.head("section"))
        painter.setPen(theme.color("teal" if self._current else "muted"))
        painter.drawText(box.adjusted(px(20), 0, 0, -px(2)), Qt.AlignmentFlag.AlignVCenter, str(self._line.number))
        self._paint_lamp(painter, box)
        painter.setPen(theme.color("ink"))
        painter.setFont(theme.font("body", weight=600 if self._current else 500))
        upper = QRectF(px(56), box.top() + px(7), box.width() - px(80), px(20))
        if self._one_line:
            painter.drawText(
                QRectF(px(56), box.top(), box.width() - px(80), box.height()),
                Qt.AlignmentFlag.AlignVCenter,
                self._line.name,
            )
            return
        painter.drawText(upper, Qt.AlignmentFlag.AlignVCenter, self._line.name)
        painter.setFont(theme.font("label"))
        painter.setPen(theme.color("muted"))
        lower = upper.translated(0, px(18))
        words = painter.fontMetrics().elidedText(self._line.note, Qt.TextElideMode.ElideRight, int(lower.width()))
        painter.drawText(lower, Qt.AlignmentFlag.AlignVCenter, words)

    def _paint_lamp(self, painter: QPainter, box: QRectF) -> None:
        theme, px = self._theme, self._theme.px
        side = px(12)
        lamp = QRectF(box.right() - px(18) - side, box.center().y() - side / 2, side, side)
        paint_lamp(painter, lamp, self._line.state, theme)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        key = Qt.Key(event.key())
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.focusNextPrevChild(key == Qt.Key.Key_Down)
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        """Override: the frame shows only when the keyboard brought it here."""
        self._by_key = event.reason() in (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason)
        super().focusInEvent(event)

    def enterEvent(self, event: QEnterEvent | None) -> None:
        """Override."""
        self._hover = True
        self.update()

    def leaveEvent(self, event: object) -> None:
        """Override."""
        self._hover = False
        self.update()


class RouteCard(QWidget):
    """All lines; emits the number of the one opened."""

    opened = pyqtSignal(int)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("routecard")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._theme = theme
        self._lines: dict[int, RouteLine] = {}
        self._narrow = False
        self._layout = column(spacing=0, margins=(0, 14, 2, 8))
        heading = label("ROUTE CARD", "caption")
        heading.setContentsMargins(round(theme.px(20)), 0, 0, round(theme.px(4)))
        self._layout.addWidget(heading)
        self.setLayout(self._layout)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        """Override."""
        return QSize(round(self._theme.px(156 if self._narrow else 198)), 400)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Override: two lines each, or one where they do not all fit."""
        if event is not None:
            super().resizeEvent(event)
        narrow = self.height() < self._theme.px(10 * 51 + 2 * 28 + 70)
        for line in self._lines.values():
            line.set_one_line(narrow)
        if narrow != self._narrow:
            self._narrow = narrow
            self.updateGeometry()

    def focus_line(self, number: int) -> None:
        """Give the keyboard to a line, without its frame: Tab goes on from there."""
        if number in self._lines:
            self._lines[number].setFocus(Qt.FocusReason.OtherFocusReason)

    def show_lines(self, lines: tuple[Line, ...], current: int) -> None:
        for line in lines:
            if line.number not in self._lines:
                made = RouteLine(line, self._theme)
                made.opened.connect(self.opened)
                self._lines[line.number] = made
                if line.number == LOGBOOK:
                    self._layout.addSpacing(round(self._theme.px(10)))
                self._layout.addWidget(made)
                if line.number == SHELF:
                    self._layout.addStretch(1)
            self._lines[line.number].set_line(line, current=line.number == current)
        self.resizeEvent(None)
