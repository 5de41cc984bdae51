"""The frame: route card, bars, findings and the page of the open operation."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import TYPE_CHECKING, TypeAlias

from PyQt6.QtCore import QByteArray, QPoint, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QKeySequence, QResizeEvent, QShortcut
from PyQt6.QtWidgets import (
    QApplication,
    QBoxLayout,
    QDialog,
    QFileDialog,
    QMainWindow,
    QMenu,
    QScrollArea,
    QStackedWidget,
    QStyle,
    QWidget,
)

from kyklon.app.pages import page_class, shelf_page
from kyklon.app.pages.boot.page import BootPage
from kyklon.app.pages.logbook.page import LogbookPage
from kyklon.app.pages.page import OperationPage
from kyklon.app.session.session import Session
from kyklon.app.shell.actions import ACTIONS
from kyklon.app.shell.bars import BottomBar, TopBar
from kyklon.app.shell.findings_panel import FindingsPanel, RemedyDialog
from kyklon.app.shell.guide import Guide
from kyklon.app.shell.not_saved import keep_elsewhere
from kyklon.app.shell.route_card import LOGBOOK, SHELF, Line, RouteCard
from kyklon.app.widgets.basic import column, plain_box, row, scrolled
from kyklon.base import program_log
from kyklon.base.errors import KyklonError
from kyklon.base.shown import visible
from kyklon.devices.linux.desktop_bus import notify
from kyklon.model.build import remedied
from kyklon.model.findings import Finding, Remedy, Severity
from kyklon.operations import inspection
from kyklon.operations.next_step import NextStep, next_step
from kyklon.operations.operation import Operation
from kyklon.operations.registry import OPERATIONS

if TYPE_CHECKING:
    from kyklon.app.pages.shelf.page import ShelfPage
    from kyklon.app.shell.start_window import StartWindow

Page: TypeAlias = "OperationPage | LogbookPage | ShelfPage"
_DRAWER_PX = 1100  # px of a window at the usual text size below which the findings are a drawer
_SMALL_PX = 720  # the same, below which a page may scroll sideways
WANTED = QSize(1280, 800)  # what the frame is designed for


class Window(QMainWindow):
    """Everything the user sees of one build."""

    another = pyqtSignal(object)  # Path of a build folder to open as well
    demo = pyqtSignal(str)  # the name of a demo to make and open as well
    closed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session: Session = session
        self._number = 10
        self._scale = session.theme.scale
        self._drawer = self._drawer_open = False
        self.guide = Guide(self, self)
        self._build_frame()
        self._make_shortcuts()
        self._connect()
        self.open_operation(self._first_operation())
        session.said.emit(session.warning or f"Opened {session.folder}")
        if session.parts.waiting:
            QTimer.singleShot(0, self.show_own_text)

    def _build_frame(self) -> None:
        theme = self.session.theme
        self.top, self.bottom = TopBar(theme), BottomBar(theme)
        self.route, self.findings = RouteCard(theme), FindingsPanel(theme)
        self.stack = QStackedWidget()
        self.stack.setObjectName("pages")
        self.pages: dict[int, Page] = {}
        self._holders: dict[int, QWidget] = {}
        centre = QWidget()
        centre.setObjectName("centre")
        middle = row(self.route, self.stack, self.findings, spacing=0)
        middle.setStretch(1, 1)
        layout = column(self.top, middle, self.bottom, spacing=0)
        self.rows: QBoxLayout = layout
        layout.setStretch(1, 1)
        centre.setLayout(layout)
        self.setCentralWidget(centre)
        self.setMinimumSize(1000, 640)
        self.setWindowTitle(f"{visible(self.session.build.name)} – Kyklon")

    def _connect(self) -> None:
        session = self.session
        self.route.opened.connect(self.open_operation)
        self.findings.remedy_asked.connect(self.preview_finding)
        self.findings.help_asked.connect(self.guide.show_help)
        self.top.next_asked.connect(self.go_next)
        self.top.undo_asked.connect(self.undo)
        self.top.redo_asked.connect(session.redo)
        self.top.bring_up_asked.connect(self.run_bring_up)
        self.top.menu_asked.connect(self.show_menu)
        self.top.findings_asked.connect(self._on_findings_asked)
        self.bottom.cancel_asked.connect(self.cancel_job)
        session.changed.connect(self.refresh)
        session.logged.connect(self._refresh_frame)
        session.said.connect(self.bottom.say)
        session.theme.changed.connect(self._on_theme_changed)
        session.jobs.changed.connect(self._show_job)
        session.jobs.failed.connect(self._on_job_failed)
        session.jobs.ended_late.connect(self._tell_desktop)

    def _make_shortcuts(self) -> None:
        for action in ACTIONS:
            shortcut = QShortcut(QKeySequence(action.keys), self)
            shortcut.activated.connect(lambda action=action: action.act(self))
        for operation in OPERATIONS:
            digit = operation.number // 10 if operation.number % 10 == 0 else 0
            shortcut = QShortcut(QKeySequence(f"Alt+{digit}"), self)
            shortcut.activated.connect(lambda number=operation.number: self.open_operation(number))

    def _first_operation(self) -> int:
        return self._next().operation

    # --- pages -----------------------------------------------------------------------------------------------

    def page(self, number: int) -> Page:
        """The page of an operation, made when it is first opened."""
        if number not in self.pages:
            if number == LOGBOOK:
                made: Page = LogbookPage(self.session)
            else:
                made = shelf_page()(self.session) if number == SHELF else page_class(number)(self.session)
            asked = getattr(made, "remedy_asked", None)
            if asked is not None:
                asked.connect(self.preview)
            leads = getattr(made, "operation_asked", None)
            if leads is not None:
                leads.connect(self.open_operation)
            self.pages[number] = made
            # with large text a page may be higher than its place
            self._holders[number] = scrolled(made) if self.session.theme.scale > 1 else made
            self._let_scroll(self._holders[number])
            self.stack.addWidget(self._holders[number])
        return self.pages[number]

    def prepare_pages(self) -> None:
        """Make the pages that were not opened yet, one between two events, so that opening one does not wait."""
        number = next((operation.number for operation in OPERATIONS if operation.number not in self.pages), None)
        if number is not None and not self.session.ended:
            self.page(number)
            QTimer.singleShot(30, self.prepare_pages)

    def open_operation(self, number: int) -> None:
        self._number = number
        page = self.page(number)
        self._refresh_page(page)
        self.stack.setCurrentWidget(self._holders[number])
        self._refresh_frame()
        self.route.focus_line(number)
        if self.guide.walk is not None:
            self.guide.walk.on_opened(number)

    @property
    def number(self) -> int:
        """The open operation; 0 is the logbook, -1 the shelf."""
        return self._number

    def refresh(self) -> None:
        """The open page and the frame; other pages catch up when they are opened."""
        self._refresh_page(self.page(self._number))
        self._refresh_frame()

    def _refresh_page(self, page: Page) -> None:
        """What a page cannot show is told, not raised: a template of the user's own, for one."""
        try:
            page.refresh()
        except KyklonError as bad:
            self.session.said.emit(str(bad))

    def _next(self) -> NextStep:
        session = self.session
        passed = bool(session.bring_up and session.bring_up_current and session.bring_up.failure is None)
        return next_step(session.build, session.world, session.findings, bring_up_passed=passed)

    def _refresh_frame(self) -> None:
        session = self.session
        found = session.findings
        self.top.show_build(session.build.name, session.build.kind, self._next().sentence)
        stops = sum(each.severity is Severity.STOP for each in found)
        self.top.show_verdict(stops, sum(each.severity is Severity.CAUTION for each in found))
        self.top.show_history(session.history.undo_label, session.history.redo_label)
        self.bottom.show_saved(session.saved_at, session.not_saved)
        lines = [self._line(operation, found) for operation in OPERATIONS]
        entries = session.log_count
        lines.append(Line(LOGBOOK, "Logbook", f"{entries} entr{'ies' if entries != 1 else 'y'}", ""))
        own = len(session.parts.shelf.own)
        broken = len(session.parts.shelf.broken)
        words = f"{broken} cannot be used" if broken else f"{own} of yours" if own else "parts"
        lines.append(Line(SHELF, "Shelf", words, ""))
        self.route.show_lines(tuple(lines), self._number)
        told = tuple(each for each in found if each.operation == self._number)
        page = self.page(self._number)
        shown = self._drawer_open if self._drawer else not self._folded
        self.findings.setVisible(self._number not in (LOGBOOK, SHELF) and shown)
        self.findings.show_findings(told, page.cautions)

    _folded = False

    def toggle_findings(self) -> None:
        """Fold the findings away, or show them again."""
        self._folded = not self._folded
        self._refresh_frame()

    def _line(self, operation: Operation, found: tuple[Finding, ...]) -> Line:
        lamp = inspection.state(self.session.build, operation, found)
        own = [finding.severity for finding in found if finding.operation == operation.number]
        counts = [(own.count(severity), severity.value) for severity in (Severity.STOP, Severity.CAUTION)]
        words = ", ".join(f"{count} {word}{'s' if count != 1 else ''}" for count, word in counts if count)
        if not words:
            words = {"clear": "Signed off", "stale": "Inputs changed"}.get(lamp, "Not signed off")
            if lamp == inspection.State.NOT_STARTED and operation.number == 20 and self.session.build.card.bootable:
                words = f"Written {self.session.build.card.at[11:16]}"
        return Line(operation.number, operation.name, words, lamp)

    def _on_theme_changed(self) -> None:
        """Pages are laid out for one text scale: make them anew, unless one is in the middle of something."""
        for part in (self.route, self.findings, self.top):
            part.updateGeometry()
        self._fit()
        if self.session.theme.scale != self._scale and not self.session.jobs.running:
            self._scale = self.session.theme.scale
            for holder in self._holders.values():
                self.stack.removeWidget(holder)
                holder.deleteLater()
            self.pages, self._holders = {}, {}
            self.open_operation(self._number)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Override."""
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        """Where text is large for the window's width the findings are a drawer that opens at a button."""
        drawer = self.width() / self.session.theme.scale < _DRAWER_PX
        for holder in self._holders.values():
            self._let_scroll(holder)
        if drawer != self._drawer:
            self._drawer = drawer
            self.top.findings.setVisible(drawer)
            self._drawer_open = False
            self._refresh_frame()

    def _let_scroll(self, holder: QWidget) -> None:
        """Sideways too where the window is so small for its text that a page cannot be laid out in it."""
        if isinstance(holder, QScrollArea):
            small = self.width() / self.session.theme.scale < _SMALL_PX
            policy = Qt.ScrollBarPolicy
            holder.setHorizontalScrollBarPolicy(policy.ScrollBarAsNeeded if small else policy.ScrollBarAlwaysOff)

    def _on_findings_asked(self) -> None:
        self._drawer_open = not self._drawer_open
        self._refresh_frame()

    # --- acts --------------------------------------------------------------------------------------------------

    def undo(self) -> None:
        """The last edit of the build; on the shelf, the last change there."""
        if self._number == SHELF and self.session.parts.steps:
            self.session.parts.undo()
        else:
            self.session.undo()

    def open_shelf(self) -> None:
        self.open_operation(SHELF)
        self.shelf_page().search()

    def learn_part(self) -> None:
        self.open_operation(SHELF)
        self.shelf_page().show_learn_menu()

    def shelf_page(self) -> ShelfPage:
        page = self.page(SHELF)
        assert isinstance(page, shelf_page())
        return page

    def show_own_text(self) -> None:
        """What the build brings from elsewhere, to be looked at before it is used."""
        from kyklon.app.pages.shelf.look_dialog import LookDialog

        LookDialog(self.session, self).open()

    def search_logbook(self) -> None:
        self.open_operation(LOGBOOK)
        self.logbook_page().search()

    def export_logbook(self) -> None:
        self.logbook_page().export()

    def logbook_page(self) -> LogbookPage:
        page = self.page(LOGBOOK)
        assert isinstance(page, LogbookPage)
        return page

    def go_next(self) -> None:
        self.open_operation(self._next().operation)

    def run_bring_up(self) -> None:
        self.open_operation(90)
        self.session.run_bring_up()

    def preview_finding(self, finding: Finding) -> None:
        if finding.remedy is not None:
            self.preview(finding.remedy, finding.title)

    def preview(self, remedy: Remedy, title: str) -> None:
        """Show what a remedy changes, and do it when the user says so."""
        session = self.session
        after = remedied(session.build, remedy)
        differences: dict[str, str] = {}
        card = session.world.card
        if card is not None and card.table is not None and not card.boot_error and session.build.card.bootable:
            from kyklon.operations.boot.acts import plan_boot_files

            differences = plan_boot_files(after, session.catalogue, card).differences
        dialog = RemedyDialog(f"{remedy.label}. {title}", remedy.changes, differences, session.theme, self)
        if dialog.exec() != QDialog.DialogCode.Accepted:
            return
        if remedy.changes:
            session.apply_remedy(remedy, title)
        if dialog.also_card:
            self.put_on_card()

    def put_on_card(self) -> None:
        """The boot files of this build onto the card, as a job."""
        page = self.page(30)
        assert isinstance(page, BootPage)
        page.put_on_card()

    def show_menu(self) -> None:
        menu = QMenu(self)
        for action in ACTIONS:
            if action.title:
                made = menu.addAction(f"{action.title}\t{action.keys}")
                made.triggered.connect(lambda _checked=False, action=action: action.act(self))
            if action.ends_group:
                menu.addSeparator()
        corner: QPoint = self.top.menu.mapToGlobal(self.top.menu.rect().bottomLeft())
        menu.exec(corner)

    def change_paper(self) -> None:
        theme = self.session.theme
        theme.own = True
        theme.set_dark(not theme.dark)

    def change_contrast(self) -> None:
        theme = self.session.theme
        theme.set_contrast(not theme.contrast)

    def ask_new(self) -> StartWindow:
        """The first page: a new build from wishes, opened in a window of its own."""
        from kyklon.app.shell.start_window import StartWindow  # scipy's solver comes with it

        self._start = start = StartWindow(self.session.theme, self.session.parts.shelf, self.session.folder.parent)
        start.opened.connect(self.another)
        start.demo.connect(self.demo)
        start.show()
        return start

    def ask_open(self) -> None:
        """Open another build in a window of its own."""
        path = QFileDialog.getExistingDirectory(self, "Open a build folder", str(self.session.folder.parent))
        if path:
            self.another.emit(Path(path))

    def export_instrument(self) -> None:
        """Print or export the open operation's drawing as PDF, SVG or PNG."""
        page = self.page(self._number)
        drawing = page.instrument()
        if drawing is None:
            self.session.said.emit("There is no drawing to export on this page.")
            return
        start = self.session.folder / "issued" / f"operation-{self._number}.pdf"
        path, _kind = QFileDialog.getSaveFileName(
            self, "Export the drawing", str(start), "Drawings (*.pdf *.svg *.png)"
        )
        if path:
            try:
                data = drawing.rendered(Path(path).suffix)
            except KyklonError as bad:
                self.session.said.emit(str(bad))
                return
            self.session.keep_file(Path(path), data, f"Exported {path}")

    def cancel_job(self) -> None:
        for job in self.session.jobs.running:
            if job.cancellable:
                job.cancel.cancel()
                self.session.said.emit(f"Cancelling: {job.title}")
                return

    def _show_job(self) -> None:
        running = self.session.jobs.running
        job = next((each for each in running if each.cancellable), running[0] if running else None)
        if job is None:
            self.bottom.show_job("", None, cancellable=False)
        else:
            self.bottom.show_job(job.title, job.progress, cancellable=job.cancellable and not job.cancel.cancelled)

    def _tell_desktop(self, title: str, done: bool) -> None:
        """A note on the desktop for whoever went elsewhere while long work ran."""
        if QApplication.activeWindow() is None:
            text = f"{title}: {'done' if done else 'it did not work; the window says why'}"
            threading.Thread(target=lambda: notify(self.session.build.name, text), name="note", daemon=True).start()

    def _on_job_failed(self, title: str, error: KyklonError) -> None:
        self.session.said.emit(f"{title}: {error}")
        threading.Thread(target=lambda: program_log.note(f"{title}: {error}"), name="log", daemon=True).start()
        plain_box(self, title, error)

    # --- size, place, end ------------------------------------------------------------------------------------

    def fit_screen(self, geometry: object = None) -> None:
        """As it was left last time; else 1280 x 800, or what the screen has room for beside its bars and a frame."""
        if isinstance(geometry, QByteArray) and self.restoreGeometry(geometry):
            return
        screen = self.screen().availableGeometry()
        frame = QSize(2, round(self.title_px()))
        room = screen.size() - frame
        self.resize(WANTED.boundedTo(room))
        self.move(screen.topLeft() + QPoint((room.width() - self.width()) // 2, (room.height() - self.height()) // 2))

    @staticmethod
    def title_px() -> int:
        """Height of a window's title bar as the style tells it."""
        style = QApplication.style()
        return style.pixelMetric(QStyle.PixelMetric.PM_TitleBarHeight) if style else 0

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Override: running work is asked to stop, and the window goes once everything is on disk."""
        if self.session.ended:
            if self.session.unsaved is not None and not keep_elsewhere(self, self.session, self.session.unsaved):
                event.ignore()
                QTimer.singleShot(20, self.close)
                return
            self.guide.close()
            self.closed.emit()
            super().closeEvent(event)
            return
        event.ignore()
        self.setEnabled(False)
        self.session.end_soon()
        QTimer.singleShot(20, self.close)
