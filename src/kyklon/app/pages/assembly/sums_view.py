"""Small calculators: the resistor of an LED, the level of a sync, and the power budget formula by formula."""

from __future__ import annotations

from math import inf

from PyQt6.QtWidgets import QDoubleSpinBox, QGridLayout

from kyklon.app.pages.assembly.power_ladder import PowerLadder
from kyklon.app.pages.tab_view import TabView
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import FigureRows, Sheet, column, label, row, scrolled, set_tip
from kyklon.base.quantities import show
from kyklon.operations.assembly.budget import budget
from kyklon.operations.assembly.electrics import PIN_A, behind_trace, sync_level_v


def spin(name: str, low: float, high: float, value: float, unit: str, decimals: int = 1) -> QDoubleSpinBox:
    """A field for a quantity with its unit."""
    made = QDoubleSpinBox()
    made.setRange(low, high)
    made.setDecimals(decimals)
    made.setValue(value)
    made.setSuffix(f"\u202f{unit}")
    made.setAccessibleName(name)
    return made


class SumsView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.instrument = self._ladder = PowerLadder(self.theme)
        ladder = Sheet("Power path", "at the peak, everything drawing at once")
        ladder.add(self._ladder)
        ladder.setMaximumHeight(round(self.theme.px(250)))
        self._working = label("", "mono", wrap=True)
        working = Sheet("Calculation")
        working.add(scrolled(self._working))
        self._volts = spin("LED supply voltage", 1, 24, 5.0, "V")
        self._forward = spin("Forward voltage", 0.5, 5, 2.0, "V")
        self._amps = spin("LED current", 0.5, 100, 10.0, "mA")
        self._led = FigureRows(self.theme)
        self._series = spin("Series resistor", 0, 10_000, 470, "Ω", 0)
        self._level = FigureRows(self.theme)
        self._trace = spin("Resistor in the old trace", 0, 10_000, 0, "Ω", 0)
        self._across = spin("From the trace to ground", 0, 1_000_000, 0, "Ω", 0)
        self._across.setSpecialValueText("not connected")
        for field in (self._volts, self._forward, self._amps, self._series, self._trace, self._across):
            field.valueChanged.connect(lambda _value: self._calculate())
        grid = QGridLayout()
        grid.setVerticalSpacing(2)
        names = ("Supply", "LED drops", "Current", "In the old trace", "Trace to ground")
        rows = (self._volts, self._forward, self._amps, self._trace, self._across)
        for index, (name, field) in enumerate(zip(names, rows, strict=True)):
            grid.addWidget(label(name, "small"), index // 3 * 2, index % 3)
            grid.addWidget(field, index // 3 * 2 + 1, index % 3, 1, 2 if field is self._across else 1)
        set_tip(self._across, "With the meter, power off: what else of the old board hangs on the trace")
        led = Sheet("LED resistor", "also behind an old trace")
        self._lamp = label("", "muted", wrap=True)
        led.add(row(grid, self._led, spacing=14), self._lamp)
        sync = Sheet("Sync level", "into 75 Ω, 0.3 to 0.6 V")
        sync.add(row(label("Series", "small"), self._series, self._level, spacing=14), 1)
        side = column(led, sync, spacing=14)
        lower = row(working, side, spacing=14)
        lower.setStretch(0, 4)
        lower.setStretch(1, 5)
        layout = column(ladder, lower, spacing=14)
        layout.setStretch(0, 2)
        layout.setStretch(1, 3)
        self.setLayout(layout)

    def refresh(self) -> None:
        """Override."""
        power = budget(self.session.build, self.session.catalogue)
        self._ladder.show_budget(power)
        self._working.setText("\n\n".join(power.working) if power else "Choose a board and a power supply in Plan.")
        self._calculate()

    def _calculate(self) -> None:
        volts, forward, amps = self._volts.value(), self._forward.value(), self._amps.value() / 1000
        trace, across = self._trace.value(), self._across.value() or inf
        self._lamp.setText("")
        try:
            found = behind_trace(volts, forward, amps, trace, across, PIN_A)
        except ValueError:
            self._led.set_rows((("Resistor", "voltage too low"),))
        else:
            self._led.set_rows(
                (
                    ("Resistor, E24", show(found.added, "Ω", 0, prefix="") if found.added else "none is needed"),
                    ("Actual current", show(found.amps, "A", 1, prefix="m")),
                    ("Rated at least", show(2 * found.watts, "W", 0, prefix="m")),
                    ("Out of the pin", show(found.pin_a, "A", 1, prefix="m")),
                )
            )
            if found.shorted:
                self._lamp.setText(
                    f"▲ A pin gives {PIN_A * 1000:.0f}\u202fmA at most: use the 5\u202fV pin with a transistor, or "
                    "free the LED from its trace. Do not join the trace to anything else."
                )
        rows = []
        for source in (3.3, 5.0):
            level = sync_level_v(source, self._series.value())
            verdict = (
                "fits" if 0.3 <= level <= 0.6 else "too low" if level < 0.3 else "too high"
            )  # V, CP: the usual window of a sync input
            rows.append((f"From {source:.1f} V", f"{show(level, 'V', 3, prefix='')} {verdict}"))
        self._level.set_rows(tuple(rows))
