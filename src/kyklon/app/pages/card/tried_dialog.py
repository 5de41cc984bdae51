"""What was seen of a system of a multi-boot card on the machine."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QDialog, QLineEdit, QWidget

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import button, column, label, row, unmarked
from kyklon.model.build import TriedSystem
from kyklon.operations.card.sets.tried import bits_of
from kyklon.parts.store import today


class TriedDialog(QDialog):
    """known: what is kept of it already."""

    def __init__(self, name: str, known: TriedSystem | None, theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Tried on the machine")
        self.setMinimumWidth(round(theme.px(460)))
        self.started, self.returned = QCheckBox("It started"), QCheckBox("It returned to the list")
        self.started.setChecked(known is not None and known.started)
        self.returned.setChecked(known is not None and known.returned)
        self.returned.setEnabled(self.started.isChecked())
        self.started.toggled.connect(self._on_started)
        self.kernel = QLineEdit(known.kernel if known else "")
        self.kernel.setMaxLength(200)
        self.kernel.setAccessibleName("Kernel")
        self.kernel.setPlaceholderText("Linux 6.6.31 aarch64")
        self._bits = label("", "small")
        self.kernel.textChanged.connect(self._show_bits)
        self._show_bits(self.kernel.text())
        self.setLayout(
            column(
                label(unmarked(name), "section"),
                label("Pick it in the list, wait for it, then leave it again.", wrap=True),
                self.started,
                self.returned,
                label("What “uname -srm” says in it, where it has a command line", "small", wrap=True),
                self.kernel,
                self._bits,
                row(button("Cancel", self.reject), 1, button("Keep", self.accept, "primary")),
                spacing=10,
                margins=(20, 18, 20, 16),
            )
        )

    def seen(self, bundle: str, released: str) -> TriedSystem:
        """What was answered, of the bundle in this folder."""
        started = self.started.isChecked()
        return TriedSystem(
            bundle=bundle,
            started=started,
            kernel=self.kernel.text().strip(),
            returned=started and self.returned.isChecked(),
            released=released[:40],
            at=today(),
        )

    def _on_started(self, on: bool) -> None:
        self.returned.setEnabled(on)
        if not on:
            self.returned.setChecked(False)

    def _show_bits(self, text: str) -> None:
        bits = bits_of(text)
        self._bits.setText(f"A {bits}-bit system" if bits else "")
