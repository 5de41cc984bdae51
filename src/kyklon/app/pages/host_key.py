"""The question that a machine with an unknown host key asks."""

from __future__ import annotations

from PyQt6.QtWidgets import QMessageBox, QWidget

from kyklon.devices.secure_copy import UnknownHost


def accepts(unknown: UnknownHost, parent: QWidget) -> bool:
    """Whether somebody takes the key that a machine shows for its own."""
    box = QMessageBox(QMessageBox.Icon.Question, "Unknown host key", "", parent=parent)
    box.setText(unknown.what)
    box.setInformativeText("Compare it with what the machine shows on its own screen.")
    accept = box.addButton("Key matches", QMessageBox.ButtonRole.AcceptRole)
    box.addButton("Cancel", QMessageBox.ButtonRole.RejectRole)
    box.exec()
    return box.clickedButton() is accept
