"""Small calculators: the resistor of an LED, the level of a sync, and the power budget formula by formula."""

from __future__ import annotations

from PyQt6.QtWidgets import QDoubleSpinBox, QGridLayout

from kyklon.app.pages.assembly.power_ladder import PowerLadder
from kyklon.app.pages.tab_view import TabView
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import FigureRows, Sheet, column, label, row
from kyklon.base.quantities import show
from kyklon.operations.assembly.budget import budget
from kyklon.operations.assembly.electrics import E24, led_resistor, sync_level_v


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
        self._working = label("", "mono", wrap=True)
        working = Sheet("Calculation")
        working.add(self._working, 1)
        self._volts = spin("LED supply voltage", 1, 24, 5.0, "V")
        self._forward = spin("Forward voltage", 0.5, 5, 2.0, "V")
        self._amps = spin("LED current", 0.5, 100, 10.0, "mA")
        self._led = FigureRows(self.theme)
        self._series = spin("Series resistor", 0, 10_000, 470, "Ω", 0)
        self._level = FigureRows(self.theme)
        for field in (self._volts, self._forward, self._amps, self._series):
            field.valueChanged.connect(lambda _value: self._calculate())
        grid = QGridLayout()
        for index, (name, field) in enumerate(
            (("Supply", self._volts), ("LED drops", self._forward), ("Current", self._amps))
        ):
            grid.addWidget(label(name, "small"), 0, index)
            grid.addWidget(field, 1, index)
        led = Sheet("LED resistor")
        led.add(grid, self._led, 1)
        sync = Sheet("Sync level", "into 75 Ω, 0.3 to 0.6 V")
        sync.add(row(label("Series", "small"), self._series), self._level, 1)
        side = column(led, sync, spacing=14)
        lower = row(working, side, spacing=14)
        lower.setStretch(0, 3)
        lower.setStretch(1, 2)
        layout = column(ladder, lower, spacing=14)
        layout.setStretch(0, 3)
        layout.setStretch(1, 4)
        self.setLayout(layout)

    def refresh(self) -> None:
        """Override."""
        power = budget(self.session.build, self.session.catalogue)
        self._ladder.show_budget(power)
        self._working.setText("\n\n".join(power.working) if power else "Choose a board and a power supply in Plan.")
        self._calculate()

    def _calculate(self) -> None:
        volts, forward, amps = self._volts.value(), self._forward.value(), self._amps.value() / 1000
        try:
            ohms, watts = led_resistor(volts, forward, amps, E24)
        except ValueError:
            self._led.set_rows((("Resistor", "voltage too low"),))
        else:
            current = (volts - forward) / ohms
            self._led.set_rows(
                (
                    ("Resistor, E24", show(ohms, "Ω", 0, prefix="")),
                    ("Actual current", show(current, "A", 1, prefix="m")),
                    ("Rated at least", show(watts, "W", 0, prefix="m")),
                )
            )
        rows = []
        for source in (3.3, 5.0):
            level = sync_level_v(source, self._series.value())
            verdict = (
                "fits" if 0.3 <= level <= 0.6 else "too low" if level < 0.3 else "too high"
            )  # V, CP: the usual window of a sync input
            rows.append((f"From {source:.1f} V", f"{show(level, 'V', 3, prefix='')} {verdict}"))
        self._level.set_rows(tuple(rows))
