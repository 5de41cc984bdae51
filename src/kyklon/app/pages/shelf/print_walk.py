"""Parts that are known by their print: a supply, a cable, a card."""

from __future__ import annotations

from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QLineEdit, QWidget

from kyklon.app.pages.shelf.print_drawing import PrintDrawing
from kyklon.app.pages.shelf.walk import Walk
from kyklon.app.widgets.basic import Sheet, button, column, label, row
from kyklon.base.quantities import show_bytes
from kyklon.devices import choose
from kyklon.devices.ports import DriveFacts
from kyklon.parts import simple
from kyklon.parts.draft import Draft
from kyklon.parts.fields import value_words


class SupplyWalk(Walk):
    kind = "supplies"
    title = "Learn a power supply"
    first = "Type what is printed on it."
    print_says = "Its label says, e.g., OUTPUT: 5.1 V DC 3 A. The connector decides the cable."
    caution = ""

    def make_side(self) -> QWidget:
        """Override."""
        source = Sheet("Its label")
        source.add(label(self.print_says, wrap=True))
        for each in self.further():
            source.add(each)
        side = QWidget()
        caution = label(self.caution, "warning", wrap=True)
        caution.setVisible(bool(self.caution))
        self.drawing = PrintDrawing(self.theme, self.kind)
        drawn = Sheet("Known so far")
        drawn.add(self.drawing)
        layout = column(source, caution, drawn, spacing=12)
        layout.setStretch(2, 1)
        side.setLayout(layout)
        return side

    def further(self) -> tuple[QWidget, ...]:
        """What else can be done in place of typing."""
        meter = QLineEdit()
        meter.setAccessibleName("Measured voltage")
        meter.setPlaceholderText("5.08 V, with a meter, while it feeds the board")
        meter.editingFinished.connect(lambda: self._on_measured(meter.text()))
        return (label("A meter is more accurate than the label:", "small"), meter)

    def _on_measured(self, text: str) -> None:
        if not text.strip() or self.draft is None:
            return
        try:
            self.take(simple.supply_measured(self.draft, text))
        except ValueError as bad:
            self._say(f"{bad}.")

    def fresh(self) -> Draft:
        """The draft to begin with."""
        return simple.supply()

    def show_draft(self, draft: Draft | None) -> None:
        """Override."""
        values = {**draft.suggested, **draft.row} if draft else {}
        words = {name: value_words(self.kind, name, value) for name, value in values.items() if name != "name"}
        self.drawing.show_words(words)

    def showEvent(self, event: QShowEvent | None) -> None:
        """Override: there is nothing to open first."""
        super().showEvent(event)
        if self.draft is None:
            self.take(self.fresh())


class CableWalk(SupplyWalk):
    kind = "cables"
    title = "Learn a cable"
    print_says = (
        "The gauge is printed on the cable, e.g. 24 AWG/1P; measure the length. Plugs: two names, e.g. USB-A USB-C."
    )
    caution = "A cable with the same plug on both ends can connect two power supplies to each other."

    def further(self) -> tuple[QWidget, ...]:
        """Override."""
        return ()

    def fresh(self) -> Draft:
        """Override."""
        return simple.cable()


class CardWalk(SupplyWalk):
    kind = "cards"
    title = "Learn a card"
    print_says = (
        "Insert it into the reader and choose it here: its real size is read. The speed class is printed on "
        "it, e.g. U1 A1."
    )
    caution = ""

    def further(self) -> tuple[QWidget, ...]:
        """Override."""
        self._drives = QWidget()
        self._drives.setLayout(column(label("Looking for readers…", "small"), spacing=4))
        folder = self.session.folder

        def look(_book: object) -> tuple[DriveFacts, ...]:
            return tuple(each for each in choose.first_that_lists(choose.drives_of(folder)).list() if each.removable)

        self.session.ask_logbook(look, self._on_listed)
        return (self._drives,)

    def _on_listed(self, found: tuple[DriveFacts, ...]) -> None:
        layout = self._drives.layout()
        layout.itemAt(0).widget().setText(
            "In the reader:" if found else "No card in a reader: type what is printed on it."
        )
        for each in found:
            layout.addLayout(
                row(button(f"{each.name}, {show_bytes(each.size)}", lambda each=each: self.take_drive(each)), 1)
            )

    def take_drive(self, facts: DriveFacts) -> None:
        """A card in a reader: its size, and its speed where a write of this build has measured one."""
        known = self.session.build.known_card(facts.identity)
        rates = (known.last_read_rate, known.last_rate) if known else (0.0, 0.0)
        self.take(simple.card(facts.size, facts.name, rates))

    def fresh(self) -> Draft:
        """Override."""
        return simple.card()


class AdapterWalk(SupplyWalk):
    kind = "adapters"
    title = "Learn an adapter"
    print_says = "Its sockets are printed on it; the sync it gives, its limits and its delay are in its manual."
    caution = "5 V of sync into a display that takes television level can harm it: look the level up first."

    def further(self) -> tuple[QWidget, ...]:
        """Override."""
        return ()

    def fresh(self) -> Draft:
        """Override."""
        return simple.adapter()


class DiskWalk(AdapterWalk):
    kind = "disks"
    title = "Learn a disk"
    print_says = "Capacity and current are printed on it, e.g. 5 V 1.0 A; its speeds are in its data sheet."
    caution = ""

    def fresh(self) -> Draft:
        """Override."""
        return simple.disk()


class BridgeWalk(AdapterWalk):
    kind = "bridges"
    title = "Learn a disk bridge"
    print_says = "lsusb shows its two USB ids, e.g. 6b79:0c01. If it resets under load, choose “misbehaves”."
    caution = ""

    def fresh(self) -> Draft:
        """Override."""
        return simple.bridge()
