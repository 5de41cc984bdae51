"""Starting up: application, fonts and style, then the session, then the window, then the looking around.

Order: the build folder and the catalogue are read in a thread while QApplication, theme and fonts are made; then jobs,
session (inspects the build), window shown; and only then the slow looks, and the pages' own modules, in the background.
"""

from __future__ import annotations

import gc
import hashlib
import sys
import threading
import traceback
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from types import TracebackType
from typing import Any

from PyQt6 import sip
from PyQt6.QtCore import QEventLoop, QObject, QSettings, Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import QApplication

from kyklon import __version__
from kyklon.app.session.jobs import Jobs
from kyklon.app.session.session import Loaded, Session, load
from kyklon.app.shell.making import MakingWindow
from kyklon.app.shell.window import Window
from kyklon.app.theme.style import load_fonts, style_sheet
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import plain_box
from kyklon.base import scratch
from kyklon.base.errors import Cancelled, KyklonError
from kyklon.base.places import catalogue_folder
from kyklon.base.progress import CancelToken, Watch
from kyklon.catalogue import loader
from kyklon.desktop.files import ID
from kyklon.devices.choose import has_stand_ins
from kyklon.devices.linux.desktop_bus import Wishes
from kyklon.devices.linux.desktop_bus import wishes as desktop_wishes
from kyklon.operations.registry import OPERATIONS

SWITCH_S = 0.0001  # how long a job may keep the interpreter while the window waits; Python's own 5 ms add up in a paint


def settings() -> QSettings:
    """The user's own view settings: theme, text scale, size and place of the window."""
    return QSettings("kyklon", "kyklon")


def theme_of(kept: QSettings) -> Theme:
    """Light or dark as chosen here, else as the desktop has it."""
    own = kept.value("paper", "", str)
    hints = QApplication.styleHints()
    dark = own == "dark" if own else hints is not None and hints.colorScheme() == Qt.ColorScheme.Dark
    theme = Theme(dark=dark, scale=kept.value("scale", 1.0, float), contrast=kept.value("contrast", False, bool))
    theme.own = bool(own)
    if hints is not None:
        hints.colorSchemeChanged.connect(
            lambda scheme: None if theme.own else theme.set_dark(scheme == Qt.ColorScheme.Dark)
        )
    return theme


class _Asker(QObject):
    """Asks the desktop how its programs should look, without waiting for it."""

    told = pyqtSignal(object)  # Wishes

    def start(self, theme: Theme, kept: QSettings) -> None:
        def take(wishes: Wishes) -> None:
            theme.still = wishes.still
            if not theme.own and wishes.dark is not None:
                theme.set_dark(wishes.dark)
            if wishes.contrast is not None and not kept.contains("contrast"):
                theme.set_contrast(wishes.contrast)

        self.told.connect(take)
        threading.Thread(target=lambda: self.told.emit(desktop_wishes()), name="desktop", daemon=True).start()


def make_application() -> QApplication:
    sys.setswitchinterval(SWITCH_S)
    made = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(made, QApplication)
    made.setApplicationName("Kyklon")
    made.setApplicationVersion(__version__)
    made.setDesktopFileName(ID)
    made.setLayoutDirection(Qt.LayoutDirection.LeftToRight)  # as its words go, whatever translation of Qt is about
    made.setStyle("Fusion")
    load_fonts()
    return made


def window_on(loaded: Loaded, theme: Theme) -> Window:
    """The window on a build that was read."""
    application = make_application()
    theme.changed.connect(lambda: application.setStyleSheet(style_sheet(theme)))
    application.setStyleSheet(style_sheet(theme))
    window = Window(Session(loaded, Jobs(), theme))
    gc.freeze()  # what is loaded stays: looking through it again would hold the window up for 20 ms
    return window


def open_window(folder: Path, theme: Theme) -> Window:
    """Read a build folder and show it. Raises KyklonError when it cannot be opened."""
    make_application()
    return window_on(load(folder, loader.load(catalogue_folder(), strict=False)), theme)


Make = Callable[[Watch], Path]  # makes a build folder; raises Cancelled


class _Reader(QObject):
    """Reads a build folder in a thread of its own."""

    read = pyqtSignal(object)  # Loaded, or the error
    reported = pyqtSignal(object)  # Progress

    def __init__(self) -> None:
        super().__init__()
        self.cancel = CancelToken()

    def start(self, folder: Path | Make) -> threading.Thread:
        def work() -> None:
            scratch.sweep()
            try:
                made = folder if isinstance(folder, Path) else folder(Watch(self.reported.emit, self.cancel))
                found: Any = load(made, loader.load(catalogue_folder(), strict=False))
            except BaseException as bad:  # told, or raised again, where it is waited for
                found = bad
            self.result = found
            self.read.emit(found)

        thread = threading.Thread(target=work, name="open", daemon=True)
        thread.start()
        return thread


def run(folder: Path | Make) -> int:
    """Show the window until it is closed; returns the exit code. folder: to open, or what makes one first."""
    return _Program().run(folder)


def run_start(parts: Path | None = None) -> int:
    """Show the first page; returns the exit code. parts: a file of parts to import."""
    return _Program().run_start(parts)


def run_help(topic: str) -> int:
    """Show the help alone, without a build; returns the exit code."""
    application = make_application()
    kept = settings()
    theme = theme_of(kept)
    application.setStyleSheet(style_sheet(theme))
    from kyklon.app.shell.help_window import HelpWindow

    window = HelpWindow(theme, lambda _topic: None)
    window.show_topic(topic)
    return application.exec()


def _place_key(folder: Path) -> str:
    return f"places/{hashlib.sha256(str(folder.resolve()).encode()).hexdigest()[:16]}"


class _Program:
    """The windows of one run."""

    def __init__(self) -> None:
        self._kept = settings()
        self._asker = _Asker()
        self._windows: list[Window] = []
        self._readers: list[_Reader] = []

    def run(self, folder: Path | Make) -> int:
        reader = _Reader()
        reading = reader.start(folder) if isinstance(folder, Path) else None
        application = make_application()
        self._theme = theme_of(self._kept)
        self._asker.start(self._theme, self._kept)
        if reading is not None:
            reading.join()  # there is no window yet
        else:
            self._wait(reader, folder, application)
        if isinstance(reader.result, Cancelled):
            return 3
        self._show(reader.result)
        if not self._windows:
            return 3
        preload = _Preload()
        preload.done.connect(self._prepare)
        QTimer.singleShot(0, preload.start)
        code = application.exec()
        self._keep()
        return code

    def _wait(self, reader: _Reader, folder: Path | Make, application: QApplication) -> None:
        """A window with the progress, until the build is made and read."""
        application.setStyleSheet(style_sheet(self._theme))
        waiting, loop = MakingWindow(self._theme), QEventLoop()
        reader.reported.connect(waiting.show_progress)
        reader.read.connect(loop.quit)
        waiting.cancelled.connect(reader.cancel.cancel)
        waiting.show()
        reader.start(folder)
        loop.exec()
        waiting.deleteLater()
        application.setQuitOnLastWindowClosed(False)
        waiting.hide()  # the next window is not there yet
        application.setQuitOnLastWindowClosed(True)

    def _prepare(self) -> None:
        for window in self._windows:
            window.prepare_pages()

    def _open(self, folder: Path) -> None:
        """Another build, in a window of its own."""
        reader = _Reader()
        reader.read.connect(self._show)
        self._readers.append(reader)
        reader.start(folder)

    def _show(self, found: Loaded | BaseException) -> None:
        if isinstance(found, KyklonError):
            plain_box(self._windows[0] if self._windows else None, "This build cannot be opened", found)
            return
        if isinstance(found, Cancelled):
            self._end_without_windows()
            return
        if isinstance(found, BaseException):
            raise found
        window = window_on(found, self._theme)
        _show_crashes(window)
        window.another.connect(self._open)
        window.demo.connect(self._make_demo)
        window.fit_screen(self._kept.value("window"))
        left = self._kept.value(_place_key(found.folder), 0, int)
        if left or not any(part.role == "board" for part in found.build.parts):
            window.open_operation(left or 10)  # where its owner left it; one without parts begins with the plan
        window.closed.connect(lambda: self._leave(window))
        window.guide.left.connect(lambda: self._kept.setValue("walk", "left"))
        if has_stand_ins(found.folder) and self._kept.value("walk", "", str) != "left":
            window.guide.show_walk()
        window.show()
        QTimer.singleShot(0, window.session.look_at_everything)
        self._windows.append(window)

    def run_start(self, parts: Path | None) -> int:
        """The first page, until a build was opened and closed, or the page was closed without one."""
        application = make_application()
        theme = self._theme = theme_of(self._kept)
        self._asker.start(theme, self._kept)
        application.setStyleSheet(style_sheet(theme))
        from kyklon.app.shell.start_window import StartWindow

        page = StartWindow(theme, loader.load(catalogue_folder(), strict=False))
        page.opened.connect(self._open)
        page.demo.connect(self._make_demo)
        application.setQuitOnLastWindowClosed(False)  # the next window is read while this one goes
        page.closed.connect(lambda: QTimer.singleShot(0, self._end_without_windows))
        page.show()
        if parts is not None:
            QTimer.singleShot(0, lambda: page.bring_in(parts))
        code = application.exec()
        self._keep()
        return code

    def _end_without_windows(self) -> None:
        application = QApplication.instance()
        if not self._windows and not self._readers and application is not None:
            application.quit()
        QApplication.setQuitOnLastWindowClosed(True)

    def _make_demo(self, name: str) -> None:
        """Make a demo that is not there yet, and open it."""
        from kyklon.demo.known import kept_demo

        reader = _Reader()
        waiting = MakingWindow(self._theme)
        reader.reported.connect(waiting.show_progress)
        waiting.cancelled.connect(reader.cancel.cancel)
        reader.read.connect(lambda _found: waiting.deleteLater())
        reader.read.connect(self._show)
        self._readers.append(reader)
        waiting.show()
        reader.start(lambda watch: kept_demo(name, loader.load(catalogue_folder()), watch))

    def _leave(self, window: Window) -> None:
        """What is kept of a window that closes: where its owner was."""
        self._kept.setValue(_place_key(window.session.folder), window.number)
        self._keep()

    def _keep(self) -> None:
        self._kept.setValue("paper", ("dark" if self._theme.dark else "light") if self._theme.own else "")
        if self._theme.contrast or self._kept.contains("contrast"):
            self._kept.setValue("contrast", self._theme.contrast)
        self._kept.setValue("scale", self._theme.scale)
        if self._windows:
            self._kept.setValue("window", self._windows[-1].saveGeometry())


class _Preload(QObject):
    """Imports what the pages need in a thread of its own."""

    done = pyqtSignal()

    def start(self) -> None:
        def work() -> None:
            preload_pages()
            self.done.emit()

        threading.Thread(target=work, name="preload", daemon=True).start()


def preload_pages() -> None:
    """Import what the pages need, so that opening one does not wait for the disk."""
    for operation in OPERATIONS:
        import_module(f"kyklon.app.pages.{operation.page[0]}")
    import_module("kyklon.app.pages.shelf.page")
    from kyklon.app.pages.card.page import BENCHES

    for package in ("plan", "card", "boot", "library", "poweron"):
        import_module(f"kyklon.operations.{package}.acts")
    import_module("evdev")  # brings asyncio
    for module, _name, _title in BENCHES:
        import_module(f"kyklon.app.pages.card.{module}")
    gc.freeze()


def _show_crashes(window: Window) -> None:
    """Whatever nobody expected goes to a dialog with a report to copy; the build on disk is whole."""
    from kyklon.app.shell.crash import CrashDialog

    def show(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        report = "".join(traceback.format_exception(kind, error, trace))
        if trace is None:  # Qt raised it while it called something: what led there is all there is to tell
            report += f"Raised without a traceback. What was going on:\n{''.join(traceback.format_stack())}"
        print(report, file=sys.stderr)
        CrashDialog.tell(report, window if not sip.isdeleted(window) else None)

    def in_thread(told: threading.ExceptHookArgs) -> None:
        """Whatever thread it was: its end is shown, and none only dies."""
        try:
            crashed.emit(told.exc_value)
        except RuntimeError:  # the window's objects are gone already
            threading.__excepthook__(told)

    sys.excepthook = show
    crashed = window.session.jobs.crashed
    crashed.connect(lambda error: show(type(error), error, error.__traceback__))
    threading.excepthook = in_thread
