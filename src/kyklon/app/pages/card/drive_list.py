"""The drives as lines: what each is, what is on it, and the interlock's word. A refused drive cannot be chosen."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QAbstractButton, QScrollArea, QSizePolicy, QToolTip, QWidget

from kyklon.app.theme.lamps import paint_lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import column, set_tip
from kyklon.app.widgets.kept import Kept
from kyklon.base.quantities import show_bytes
from kyklon.base.shown import visible
from kyklon.devices.ports import DriveFacts
from kyklon.operations.card.drives.interlock import Verdict


class DriveLine(QAbstractButton):
    """One drive; a button, to a screen reader too."""

    chosen = pyqtSignal(str)

    def __init__(
        self, facts: DriveFacts, verdict: Verdict, theme: Theme, *, current: bool, choosable: bool = False
    ) -> None:
        super().__init__()
        self._facts, self._verdict, self._theme, self._current = facts, verdict, theme, current
        self._choosable = choosable or verdict.allowed
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)  # a refused one too: its reason can be read
        self.clicked.connect(lambda _checked=False: self._choose())
        self._show()

    def show_drive(self, facts: DriveFacts, verdict: Verdict, *, current: bool, choosable: bool = False) -> None:
        """The same drive as it is now."""
        self._facts, self._verdict, self._current = facts, verdict, current
        self._choosable = choosable or verdict.allowed
        self._show()

    def _show(self) -> None:
        self.setCursor(Qt.CursorShape.PointingHandCursor if self._choosable else Qt.CursorShape.ArrowCursor)
        self.setAccessibleName(f"{self._facts.name}, {show_bytes(self._facts.size)}, {self.words}")
        set_tip(self, self.words)
        self._short = self._in_short()
        self.update()

    @property
    def identity(self) -> str:
        return self._facts.identity

    @property
    def allowed(self) -> bool:
        return self._verdict.allowed

    @property
    def words(self) -> str:
        """The interlock's word in one sentence."""
        free = "This build's own card: nothing of yours is lost." if self._facts.holds else "Empty: nothing is lost."
        return " ".join(self._verdict.refusals) or self._verdict.loss or free

    def _in_short(self) -> str:
        """What fits on the line; the tip says it all."""
        if self._verdict.refusals:
            return self._verdict.refusals[0]
        if self._verdict.lose:
            return f"Holds {self._facts.holds or 'files'} on “{self._verdict.lose}”: all of it would be lost."
        return self.words

    def _lamp(self) -> str:
        if not self._verdict.allowed:
            return "stop"
        return "caution" if self._verdict.lose else "clear"

    def sizeHint(self) -> QSize:
        """Override."""
        return QSize(260, line_height(self._theme))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override."""
        theme, px = self._theme, self._theme.px
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect())
        if self._current:
            painter.fillRect(box, theme.color("teal_soft"))
            painter.fillRect(QRectF(0, 0, 3, box.height()), theme.color("teal"))
        side = px(11)
        paint_lamp(painter, QRectF(px(12), box.center().y() - side / 2, side, side), self._lamp(), theme)
        painter.setFont(theme.font("body", weight=600))
        painter.setPen(theme.color("ink" if self._verdict.allowed else "muted"))
        upper = QRectF(px(34), px(3), box.width() - px(120), px(18))
        model = f" · {self._facts.model}, {self._facts.bus_shown}" if self._facts.model else ""
        title = painter.fontMetrics().elidedText(
            self._facts.name + model, Qt.TextElideMode.ElideRight, int(upper.width())
        )
        painter.drawText(upper, Qt.AlignmentFlag.AlignVCenter, visible(title))
        painter.setFont(theme.mono("small"))
        right = QRectF(box.right() - px(86), px(3), px(80), px(18))
        painter.drawText(
            right, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, show_bytes(self._facts.size)
        )
        painter.setFont(theme.font("label"))
        painter.setPen(theme.color("muted"))
        lower = QRectF(px(34), px(20), box.width() - px(40), px(17))
        words = painter.fontMetrics().elidedText(self._short, Qt.TextElideMode.ElideRight, int(lower.width()))
        painter.drawText(lower, Qt.AlignmentFlag.AlignVCenter, visible(words))
        painter.setPen(theme.color("teal" if self.hasFocus() else "grid"))
        if self.hasFocus():
            painter.drawRect(box.adjusted(0.5, 0.5, -0.5, -0.5))
        else:
            painter.drawLine(box.bottomLeft(), box.bottomRight())
        painter.end()

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        """Override: all that the line says, also for who comes by the keyboard."""
        super().focusInEvent(event)
        if event is not None and event.reason() != Qt.FocusReason.MouseFocusReason:
            QToolTip.showText(self.mapToGlobal(self.rect().bottomLeft()), self.toolTip(), self)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Override."""
        if Qt.Key(event.key()) in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
        else:
            super().keyPressEvent(event)

    def _choose(self) -> None:
        if self._choosable:
            self.chosen.emit(self._facts.identity)


def line_height(theme: Theme) -> int:
    """Of one drive, in pixels."""
    return round(theme.px(40))


class DriveList(QWidget):
    chosen = pyqtSignal(str)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        layout = column(spacing=0)
        self.setLayout(layout)
        self._kept = Kept[DriveLine](layout)
        self.lines: list[DriveLine] = []
        self._shown = ""
        self._rows: tuple[object, ...] = ()

    def show_drives(
        self, rows: tuple[tuple[DriveFacts, Verdict], ...], current: str, *, all_choosable: bool = False
    ) -> None:
        """all_choosable: for acts that only read."""
        shown = (rows, current, all_choosable)
        if shown == self._rows:
            return
        self._rows = shown
        self.lines = self._kept.show(
            (facts.identity, lambda row=(facts, verdict): self._line(*row)) for facts, verdict in rows
        )
        for line, (facts, verdict) in zip(self.lines, rows, strict=True):
            line.show_drive(facts, verdict, current=facts.identity == current, choosable=all_choosable)
        if current:
            QTimer.singleShot(0, self._show_current)
        self._shown = current

    def _line(self, facts: DriveFacts, verdict: Verdict) -> DriveLine:
        line = DriveLine(facts, verdict, self._theme, current=False)
        line.chosen.connect(self.chosen)
        return line

    def _show_current(self) -> None:
        """Scroll to the chosen drive when it was just chosen."""
        line = next((each for each in self.lines if each.identity == self._shown), None)
        place = self.parentWidget()
        while place is not None and not isinstance(place, QScrollArea):
            place = place.parentWidget()
        if place is not None and line is not None:
            place.widget().layout().activate()
            place.ensureWidgetVisible(line, 0, 0)
