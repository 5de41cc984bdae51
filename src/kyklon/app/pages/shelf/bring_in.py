"""What a part's file brings: new parts, differences to what is there, and the text that it would write."""

from __future__ import annotations

from PyQt6.QtWidgets import QDialog, QWidget

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import TextBox, button, column, label, row, scrolled
from kyklon.app.widgets.tick import Tick
from kyklon.base.shown import visible
from kyklon.parts.exchange import Incoming
from kyklon.parts.fields import one

WORDS = {
    "new": "is new",
    "same": "is already on the shelf, identical",
    "other": "is already on the shelf, but different",
}


class BringInDialog(QDialog):
    """Accepted only once text of somebody else was looked at."""

    def __init__(self, name: str, found: tuple[Incoming, ...], theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Import a part")
        rows: list[QWidget] = []
        for incoming in found:
            rows.append(
                label(f"{one(incoming.kind).capitalize()} {incoming.part.name} {WORDS[incoming.state]}.", "strong")
            )
            for difference in incoming.differences:
                rows.append(
                    label(
                        f"{difference.label}: {difference.before} here, {difference.after} in the file",
                        "small",
                        wrap=True,
                    )
                )
        shipped = [incoming.part.name for incoming in found if incoming.shipped and incoming.state == "other"]
        self._texts = [incoming for incoming in found if incoming.text and incoming.state != "same"]
        self._seen = Tick("I have reviewed what it writes and allow it")
        self._seen.toggled.connect(lambda _on: self._refresh())
        self._take = button("Add to the shelf", self.accept, "primary")
        self._barred = bool(shipped) or all(incoming.state == "same" for incoming in found)
        body = column(*rows, 1, spacing=4)
        layout = column(label(visible(name), "section"), scrolled(body), spacing=10, margins=(20, 18, 20, 16))
        if shipped:
            layout.addWidget(
                label(
                    f"{', '.join(shipped)}: Kyklon ships a part with that ID. Change the ID in the file.",
                    "stop",
                    wrap=True,
                )
            )
        if self._texts:
            text = TextBox(visible("\n\n".join(each.text for each in self._texts), lines=True))
            text.setReadOnly(True)
            text.setFont(theme.mono("small"))
            text.setAccessibleName("What it writes")
            layout.addWidget(
                label(
                    "It contains templates. They run in a sandbox and write only inside the folder you choose:",
                    "small",
                    wrap=True,
                )
            )
            layout.addWidget(text, 1)
            layout.addWidget(self._seen)
        layout.addLayout(row(1, button("Cancel", self.reject), self._take))
        self.setLayout(layout)
        self.resize(round(theme.px(620)), round(theme.px(460 if self._texts else 320)))
        self._refresh()

    def _refresh(self) -> None:
        self._take.setEnabled(not self._barred and (not self._texts or self._seen.isChecked()))
