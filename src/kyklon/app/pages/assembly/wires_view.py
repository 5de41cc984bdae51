"""Contact by contact: what each wire joins, what must not meet, and the list for the meter."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QBoxLayout, QCheckBox, QFileDialog, QVBoxLayout, QWidget

from kyklon.app.pages.assembly.wires_drawing import WiresDrawing
from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row, scrolled, unmarked
from kyklon.app.widgets.kept import emptied
from kyklon.app.widgets.tick import Tick
from kyklon.base.errors import KyklonError
from kyklon.base.shown import visible
from kyklon.model.casework import Connector
from kyklon.operations.assembly.connectors import (
    Check,
    as_table,
    checks,
    connectors,
    faults,
    key,
    read_table,
    with_connectors,
    with_tick,
    without_connector,
)

_CAUTION = "Meter on continuity, power off and disconnected, capacitors discharged."


class WiresView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.instrument = self.drawing = WiresDrawing(self.theme)
        self.which = Choice(self.theme, "Connector", lambda _value: self.refresh())
        sheet = Sheet("Wires", "contact by contact")
        sheet.head.addWidget(button("Import CSV…", self.ask_table, "quiet", tip="A line for each contact"))
        sheet.head.addWidget(button("Export CSV…", self.save_table, "quiet"))
        self._drop = button("Remove", self.drop, "quiet", tip="A connector of your own")
        self._wrong = QVBoxLayout()
        sheet.add(row(self.which, 1, self._drop), scrolled(self.drawing), self._wrong)
        sheet.body.setStretch(1, 1)
        self._list = QVBoxLayout()
        self._ticks: dict[str, QCheckBox] = {}
        holder = QWidget()
        holder.setLayout(self._list)
        meter = Sheet("Continuity test")
        self._count = label("", "muted", wrap=True)
        meter.add(label(_CAUTION, "warning", wrap=True), self._count, scrolled(holder))
        meter.body.setStretch(2, 1)
        if self.theme.scale > 1:
            sheet.setMinimumHeight(round(self.theme.px(360)))
            meter.setMinimumHeight(round(self.theme.px(300)))
            layout: QBoxLayout = column(sheet, meter, spacing=14)
        else:
            meter.setFixedWidth(side_px(self.theme, 60))
            layout = row(sheet, meter, spacing=14)
        layout.setStretch(0, 1)
        self.setLayout(layout)

    def refresh(self) -> None:
        """Override."""
        build, catalogue = self.build, self.session.catalogue
        found = connectors(build, catalogue)
        names = tuple((row.id, visible(row.name)) for row in found)
        chosen = (
            self.which.value if any(row.id == self.which.value for row in found) else (found[0].id if found else "")
        )
        self.which.set_choices(names or (("", "no connector"),), chosen)
        shown = next((row for row in found if row.id == chosen), None)
        wrong = tuple(fault for fault in faults(found) if fault.connector == chosen)
        tests = tuple(row for row in checks(build, catalogue) if row.id.startswith(f"{chosen}/"))
        ticked = {row.id for row in tests if row.done}
        done = (
            frozenset(key(row) for row in shown.contacts if f"{chosen}/{key(row)}/through" in ticked)
            if shown
            else frozenset()
        )
        self.drawing.show_connector(shown, wrong, done)
        self._drop.setEnabled(any(row.id == chosen for row in build.assembly.connectors))
        emptied(self._wrong)
        for fault in wrong[:4]:
            self._wrong.addWidget(
                label(
                    ("▲ " if fault.stop else "△ ") + visible(fault.words),
                    "stop" if fault.stop else "warning",
                    wrap=True,
                )
            )
        if len(wrong) > 4:
            self._wrong.addWidget(label(f"and {len(wrong) - 4} more", "muted"))
        if set(self._ticks) != {row.id for row in tests}:
            emptied(self._list)
            self._ticks = {}
            for test in tests:
                tick = Tick(unmarked(visible(_short(test, shown))))
                tick.setToolTip(visible(test.words))
                tick.clicked.connect(lambda on, name=test.id: self.tick(name, on=on))
                self._ticks[test.id] = tick
                self._list.addWidget(tick)
            self._list.addStretch(1)
        for test in tests:
            self._ticks[test.id].setChecked(test.done)
        pressed = " A switch beeps to ground only while it is pressed." if any(row.held for row in tests) else ""
        self._count.setText(f"{len(ticked)} of {len(tests)} tested.{pressed}" if tests else "Nothing to test yet.")

    def tick(self, name: str, *, on: bool) -> None:
        """A check that the meter passed, or has to pass again."""
        self.session.put("Tested with the meter", with_tick(self.build, name, done=on))

    def ask_table(self) -> None:
        """Connectors of one's own out of a table."""
        path, _kind = QFileDialog.getOpenFileName(self, "A table of connectors", "", "Tables (*.csv *.tsv *.txt)")
        if path:
            self.read(Path(path))

    def read(self, path: Path) -> None:
        """Take the connectors of a table into the build; what is wrong with it is said."""
        try:
            rows = read_table(path)
            made = with_connectors(self.build, rows)
        except (KyklonError, ValueError, OSError) as bad:
            self.session.said.emit(str(bad))
            return
        self.session.put("Connectors from a table", made)
        if made.assembly.connectors:
            self.which.set_choices(
                tuple((row.id, row.name) for row in made.assembly.connectors), made.assembly.connectors[-1].id
            )
            self.refresh()

    def save_table(self, path: Path | None = None) -> None:
        """All connectors as a table, to be changed elsewhere and read again."""
        if path is None:
            chosen, _kind = QFileDialog.getSaveFileName(self, "Table of connectors", "connectors.csv", "CSV (*.csv)")
            if not chosen:
                return
            path = Path(chosen)
        data = as_table(connectors(self.build, self.session.catalogue)).encode()
        self.session.keep_file(path, data, f"Connectors in {path.name}")

    def drop(self) -> None:
        """Without the connector that is shown."""
        try:
            made = without_connector(self.build, self.which.value)
        except ValueError as bad:
            self.session.said.emit(str(bad))
            return
        self.session.put("Connector removed", made)


def _short(test: Check, connector: Connector | None) -> str:
    """Without the names of the ends, which the drawing tells."""
    ends = (connector.one, connector.other) if connector is not None else ()
    one, other = test.one, test.other
    for end in ends:
        one, other = one.removeprefix(f"{end} "), other.removeprefix(f"{end} ")
    return f"{one}: {test.held}" if test.held else f"{one} – {other}: {'beeps' if test.beep else 'silent'}"
