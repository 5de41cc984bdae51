"""Bundles: parts that a shop sells together, each with its price; every one is compared with buying one by one."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QDialog, QLineEdit, QWidget

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Choice, button, column, label, row, scrolled, unmarked
from kyklon.app.widgets.tick import Tick
from kyklon.base.quantities import show_money
from kyklon.catalogue.loader import Catalogue
from kyklon.model.plan import Bundle
from kyklon.parts.fields import KIND_WORDS

_NEW = ""


class BundleDialog(QDialog):
    """bundles: as they are after it was agreed to."""

    def __init__(
        self, theme: Theme, catalogue: Catalogue, kinds: tuple[str, ...], bundles: tuple[Bundle, ...], parent: QWidget
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Bundles")
        self.bundles = bundles
        self._which = Choice(theme, "Bundle", self._show)
        self._name, self._price = QLineEdit(), QLineEdit()
        self._name.setAccessibleName("Name of the bundle")
        self._name.setPlaceholderText("Starter kit")
        self._price.setAccessibleName("Price of the bundle")
        self._price.setPlaceholderText(show_money(79))
        self._boxes: dict[str, QCheckBox] = {}
        inner = column(spacing=4)
        for kind in kinds:
            inner.addWidget(label(KIND_WORDS[kind], "section"))
            for part in catalogue.parts[kind].values():
                box = Tick(unmarked(part.name))
                self._boxes[f"{kind}/{part.id}"] = box
                inner.addWidget(box)
        inner.addStretch(1)
        self._said = label("", "stop", wrap=True)
        self._said.setVisible(False)
        self._drop = button("Remove it", self.drop, "quiet")
        self.setLayout(
            column(
                label(
                    "What a shop sells together, at one price. The plans show whether it is cheaper than one by one.",
                    "muted",
                    wrap=True,
                ),
                row(self._which, self._drop),
                row(label("Name", "muted"), self._name, label("Price", "muted"), self._price),
                scrolled(inner),
                self._said,
                row(1, button("Cancel", self.reject, "quiet"), button("Keep it", self.keep, "primary")),
                spacing=12,
                margins=(20, 18, 20, 16),
            )
        )
        self._offer(bundles[0].name if bundles else _NEW)
        self.resize(480, 580)

    def _offer(self, chosen: str) -> None:
        names = tuple((bundle.name, bundle.name) for bundle in self.bundles)
        self._which.set_choices((*names, (_NEW, "a new bundle")), chosen)
        self._show(chosen)

    def _show(self, name: str) -> None:
        known = next((bundle for bundle in self.bundles if bundle.name == name), None)
        self._name.setText(known.name if known else "")
        self._price.setText(show_money(known.price, 2) if known else "")
        for key, box in self._boxes.items():
            box.setChecked(known is not None and key in known.parts)
        self._drop.setEnabled(known is not None)

    def drop(self) -> None:
        """Without the bundle that is shown."""
        self.bundles = tuple(bundle for bundle in self.bundles if bundle.name != self._which.value)
        self.accept()

    def keep(self) -> None:
        """Agree to the bundle as it stands; what is wrong is said."""
        text = self._price.text().replace(",", ".")
        plain = "".join(letter for letter in text if letter.isdigit() or letter == ".")
        parts = tuple(key for key, box in self._boxes.items() if box.isChecked())
        try:
            made = Bundle(name=self._name.text().strip(), price=round(float(plain), 2), parts=parts)
        except ValueError:
            self._said.setText("■ A bundle needs a name, a price such as 79, and at least one part.")
            self._said.setVisible(True)
            return
        shown = {self._which.value, made.name}
        self.bundles = (*(bundle for bundle in self.bundles if bundle.name not in shown), made)
        self.accept()
