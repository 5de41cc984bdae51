"""The top bar and the bottom bar."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QFrame, QSizePolicy, QWidget

from kyklon.app.theme.icons import icon
from kyklon.app.theme.lamps import Lamp
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Elided, button, column, label, row, set_role, set_tip
from kyklon.base.progress import Progress
from kyklon.base.quantities import counted, show_bytes, show_duration, show_share

_ROOMY_PX = 700  # of a window at the usual text size, below which the top bar leaves undo and redo to the menu


class TopBar(QWidget):
    """Name, next step, verdict, undo and redo, bring-up."""

    next_asked = pyqtSignal()
    undo_asked = pyqtSignal()
    redo_asked = pyqtSignal()
    bring_up_asked = pyqtSignal()
    menu_asked = pyqtSignal()
    findings_asked = pyqtSignal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("topbar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._theme = theme
        self._name, self._kind = Elided("title"), Elided("muted")
        self._next = Elided("section")
        go = button("NEXT", self.next_asked.emit, "heading", tip="Go there (F6)")
        divider = QFrame()
        divider.setObjectName("divider")
        divider.setFixedWidth(2)
        self._stop_lamp, self._caution_lamp = Lamp(theme, "stop", 11), Lamp(theme, "caution", 11)
        self._stops, self._cautions = label("", "stop"), label("", "caution")
        self.undo = button("Undo", self.undo_asked.emit, "quiet")
        self.redo = button("Redo", self.redo_asked.emit, "quiet")
        self.menu = button("", self.menu_asked.emit, "quiet", tip="Menu (F10)")
        self.menu.setAccessibleName("Menu")
        self._show_icon()
        theme.tell(self, lambda own: own._show_icon())
        self.findings = button("Findings", self.findings_asked.emit, "outline", tip="Show or hide the findings")
        self.findings.setVisible(False)
        bring_up = button("Run bring-up", self.bring_up_asked.emit, "primary", tip="Predict the first power-on (F9)")
        layout = row(
            column(self._name, self._kind, spacing=0),
            divider,
            column(go, self._next, spacing=0),
            self._stop_lamp,
            self._stops,
            self._caution_lamp,
            self._cautions,
            self.findings,
            self.undo,
            self.redo,
            self.menu,
            bring_up,
            spacing=8,
            margins=(20, 8, 16, 9),
        )
        layout.setStretch(0, 5)
        layout.setStretch(2, 6)
        self.setLayout(layout)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Override: with large text the names come first; undo and redo are in the menu and on their keys."""
        super().resizeEvent(event)
        roomy = self.width() / self._theme.scale > _ROOMY_PX
        self.undo.setVisible(roomy)
        self.redo.setVisible(roomy)

    def _show_icon(self) -> None:
        self.menu.setIcon(icon("menu", self._theme))

    def show_build(self, name: str, kind: str, next_sentence: str) -> None:
        self._name.set_full(name)
        self._kind.set_full(kind)
        self._next.set_full(next_sentence)

    @property
    def next_sentence(self) -> str:
        return self._next.full

    def show_verdict(self, stops: int, cautions: int) -> None:
        self._stop_lamp.set_state("stop" if stops else "clear")
        self._stops.setText(counted(stops, "stop") if stops else "No stops")
        set_role(self._stops, "stop" if stops else "good")
        self._cautions.setText(counted(cautions, "caution"))
        self._cautions.setVisible(bool(cautions))
        self._caution_lamp.setVisible(bool(cautions))

    def show_history(self, undo_label: str, redo_label: str) -> None:
        self.undo.setEnabled(bool(undo_label))
        set_tip(self.undo, f"Undo: {undo_label} (Ctrl+Z)" if undo_label else "Nothing to undo")
        self.redo.setEnabled(bool(redo_label))
        set_tip(self.redo, f"Redo: {redo_label} (Ctrl+Shift+Z)" if redo_label else "Nothing to redo")


class ProgressLine(QWidget):
    """A thin bar; busy without a fraction."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._fraction: float | None = None
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        """Override."""
        return QSize(round(self._theme.px(220)), round(self._theme.px(8)))

    def set_fraction(self, fraction: float | None) -> None:
        self._fraction = fraction
        self.setAccessibleName("busy" if fraction is None else show_share(fraction))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Override."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        box = QRectF(self.rect())
        painter.setBrush(self._theme.color("grid"))
        painter.drawRoundedRect(box, box.height() / 2, box.height() / 2)
        painter.setBrush(self._theme.color("teal"))
        filled = QRectF(box)
        filled.setWidth(box.width() * (0.3 if self._fraction is None else self._fraction))
        painter.drawRoundedRect(filled, box.height() / 2, box.height() / 2)
        painter.end()


class BottomBar(QWidget):
    """The running job with progress, rate, time left and Cancel; the last message; when it was saved."""

    cancel_asked = pyqtSignal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("bottombar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._title = label("", "strong")
        self._bar = ProgressLine(theme)
        self._figures = label("", "mono")
        self._cancel = button("Cancel", self.cancel_asked.emit, "quiet", tip="Stop the job (Esc)")
        self._message = Elided("muted")
        self._saved = label("", "small")
        self._unsaved = Lamp(theme, "stop", 11)
        self._unsaved.setVisible(False)
        layout = row(
            self._title,
            self._bar,
            self._figures,
            self._cancel,
            self._message,
            self._unsaved,
            self._saved,
            spacing=12,
            margins=(20, 2, 16, 2),
        )
        layout.setStretch(4, 1)
        self.setLayout(layout)
        theme.tell(self, lambda own: own.setFixedHeight(round(theme.px(32))))
        self.setFixedHeight(round(theme.px(32)))
        self.show_job("", None, cancellable=False)

    def show_job(self, title: str, report: Progress | None, *, cancellable: bool) -> None:
        running = bool(title)
        for widget in (self._title, self._bar, self._figures):
            widget.setVisible(running)
        self._cancel.setVisible(running and cancellable)
        if not running:
            return
        self._title.setText(report.phase if report else title)
        self._bar.set_fraction(report.fraction if report else None)
        parts = []
        if report and report.fraction is not None:
            parts.append(f"{show_share(report.fraction):>5}")
        if report and report.rate and report.unit == "B":
            parts.append(f"{show_bytes(report.rate)}/s")
        if report and report.seconds_left is not None:
            parts.append(f"{show_duration(report.seconds_left)} left")
        self._figures.setText("   ".join(parts))

    def say(self, text: str) -> None:
        self._message.set_full(text)

    @property
    def message(self) -> str:
        return self._message.full

    def show_saved(self, at: str, not_saved: str = "") -> None:
        """at: of the last save. not_saved: why the build is not on the disk, '' where it is."""
        self._unsaved.setVisible(bool(not_saved))
        set_role(self._saved, "stop" if not_saved else "small")
        self._saved.setText("Not saved" if not_saved else f"Saved {at}" if at else "")
        set_tip(self._saved, not_saved)
