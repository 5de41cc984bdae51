"""Starting up: application, fonts and style, then the session, then the window, then the looking around.

Order: QApplication, theme (settings), fonts, catalogue, jobs, session (reads the build, inspects it), window shown,
and only then the slow observations in the background.
"""

from __future__ import annotations

import sys
import traceback
from pathlib import Path
from types import TracebackType

from PyQt6.QtCore import QSettings, QTimer
from PyQt6.QtWidgets import QApplication, QMessageBox

from kyklon import __version__
from kyklon.app.shell.crash import CrashDialog
from kyklon.app.shell.jobs import Jobs
from kyklon.app.shell.session import Session
from kyklon.app.shell.window import Window
from kyklon.app.theme.style import load_fonts, style_sheet
from kyklon.app.theme.tokens import Theme
from kyklon.base.errors import KyklonError
from kyklon.base.places import catalogue_folder
from kyklon.catalogue.loader import load


def settings() -> QSettings:
    """The user's own view settings: theme and text scale."""
    return QSettings("kyklon", "kyklon")


def make_application() -> QApplication:
    made = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(made, QApplication)
    made.setApplicationName("Kyklon")
    made.setApplicationVersion(__version__)
    made.setStyle("Fusion")
    load_fonts()
    return made


def open_window(folder: Path, theme: Theme) -> Window:
    """The window on a build folder. Raises KyklonError when the folder cannot be opened."""
    application = make_application()
    theme.changed.connect(lambda: application.setStyleSheet(style_sheet(theme)))
    application.setStyleSheet(style_sheet(theme))
    session = Session(folder, load(catalogue_folder()), Jobs(), theme)
    return Window(session)


def run(folder: Path) -> int:
    """Show the window until it is closed; returns the exit code."""
    make_application()
    kept = settings()
    theme = Theme(dark=kept.value("dark", False, bool), scale=kept.value("scale", 1.0, float))
    windows: list[Window] = []

    def show(place: Path) -> None:
        try:
            window = open_window(place, theme)
        except KyklonError as bad:
            QMessageBox.warning(
                windows[0] if windows else None, "This build cannot be opened", f"{bad.what}\n\n{bad.do}"
            )
            return
        _show_crashes(window)
        window.another.connect(show)
        window.resize(1280, 800)
        window.show()
        QTimer.singleShot(0, window.session.look_at_everything)
        windows.append(window)

    show(folder)
    if not windows:
        return 3
    application = QApplication.instance()
    assert application is not None
    code = application.exec()
    kept.setValue("dark", theme.dark)
    kept.setValue("scale", theme.scale)
    return code


def _show_crashes(window: Window) -> None:
    """Whatever nobody expected goes to a dialog with a report to copy; the build on disk is whole."""

    def show(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        report = "".join(traceback.format_exception(kind, error, trace))
        print(report, file=sys.stderr)
        CrashDialog(report, window).exec()

    sys.excepthook = show
    window.session.jobs.crashed.connect(lambda error: show(type(error), error, error.__traceback__))
