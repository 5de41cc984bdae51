"""What to do with a build that its folder does not take when its window closes."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QMessageBox, QWidget

from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import plain_box
from kyklon.base.errors import KyklonError
from kyklon.base.shown import visible
from kyklon.model.build import Build
from kyklon.record.folder import save as save_build


def keep_elsewhere(window: QWidget, session: Session, build: Build) -> bool:
    """What to do with a build that its folder does not take. False to be asked again."""
    box = QMessageBox(QMessageBox.Icon.NoIcon, "Not saved", f"{visible(build.name)} could not be saved.", parent=window)
    box.setTextFormat(Qt.TextFormat.PlainText)
    box.setInformativeText(visible(session.not_saved))
    elsewhere = box.addButton("Save it elsewhere…", QMessageBox.ButtonRole.AcceptRole)
    lose = box.addButton("Close without saving", QMessageBox.ButtonRole.DestructiveRole)
    window.setEnabled(True)
    box.exec()
    window.setEnabled(False)
    if box.clickedButton() is lose:
        return True
    if box.clickedButton() is not elsewhere:
        return False
    start = str(session.folder.parent)
    path = QFileDialog.getExistingDirectory(window, "A folder for the build", start)
    if not path:
        return False
    try:
        save_build(Path(path), build)
    except KyklonError as bad:
        plain_box(window, "Not saved", bad)
        return False
    return True
