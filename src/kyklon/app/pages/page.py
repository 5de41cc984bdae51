"""The base of the operation pages: heading, sign-off, and a body."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Elided, button, column, label, row, set_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.operations.inspection import State, state
from kyklon.operations.registry import operation


class OperationPage(QWidget):
    """Subclasses build their body once and show the build in refresh()."""

    number = 0
    cautions: tuple[str, ...] = ()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.theme = session.theme
        self.operation = operation(self.number)
        self._subject = Elided("muted")
        self._sign = button("Sign off", self._on_sign_clicked, "quiet")
        heading = row(
            label(str(self.number), "number"),
            label(self.operation.name, "title"),
            self._subject,
            self._sign,
            spacing=12,
        )
        heading.setStretch(2, 1)
        self.body = column(spacing=14)
        self.setLayout(column(heading, self.body, spacing=8, margins=(18, 8, 16, 12)))
        self.layout().setStretch(1, 1)

    def set_subject(self, text: str) -> None:
        self._subject.set_full(text)

    def refresh(self) -> None:
        """Show the build and the world as they are now."""
        set_tip(self._sign, "Log that this operation is done as it stands now")
        lamp = state(self.session.build, self.operation, self.session.findings)
        signed = any(off.operation == self.number for off in self.session.build.sign_offs)
        words = {State.CLEAR: "Signed off", State.STALE: "Sign off again"}
        self._sign.setText(words.get(lamp, "Signed off" if signed and lamp is State.CAUTION else "Sign off"))
        self._sign.setEnabled(lamp not in (State.STOP, State.CLEAR))

    def instrument(self) -> Instrument | None:
        """The drawing that Print and Export write."""
        return None

    def _on_sign_clicked(self) -> None:
        self.session.sign_off(self.operation)
