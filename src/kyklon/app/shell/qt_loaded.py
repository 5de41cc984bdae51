"""Whether Qt can be loaded here, for the examination of this computer; it says so where it cannot."""

from __future__ import annotations

import re
from collections.abc import Iterator

from kyklon.base.packages import install_line
from kyklon.desktop.doctor import INSTALL_AGAIN, Check


def qt_checks() -> Iterator[Check]:
    """Qt's version and the back end of an open window, or the library that Qt lacks with the line to type."""
    try:
        from PyQt6.QtCore import PYQT_VERSION_STR, QT_VERSION_STR
        from PyQt6.QtWidgets import QApplication
    except ImportError as bad:
        named = re.match(r"(lib\S+?): cannot open", str(bad))
        line = install_line(named[1]) if named else ""
        yield Check("Screen", "Qt", "missing", f"It cannot be loaded: {bad}.", line or INSTALL_AGAIN)
        return
    yield Check("Screen", "Qt", "ok", f"Qt {QT_VERSION_STR}, PyQt {PYQT_VERSION_STR}")
    running = QApplication.instance()
    if isinstance(running, QApplication):
        yield Check("Screen", "Window", "ok", f"This window is shown through {running.platformName()}.")
