"""Where the heat goes, when the chip throttles, and what would help."""

from __future__ import annotations

from PyQt6.QtWidgets import QBoxLayout, QDoubleSpinBox

from kyklon.app.pages.assembly.heat_drawing import HelpBars, Section, SectionDrawing, WarmingPlot
from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Sheet, button, column, label, row, scrolled
from kyklon.app.widgets.fields import FieldForm
from kyklon.base.errors import WrongUse
from kyklon.base.quantities import show_duration
from kyklon.catalogue.records import Board
from kyklon.model.assembly import LOADS
from kyklon.operations.assembly.heat import THROTTLE_C, Heat, correction, heat, helps, most_mhz, warming
from kyklon.operations.assembly.measured import with_celsius
from kyklon.operations.assembly.power import BOARD_V
from kyklon.operations.assembly.tree import board_a

_FIELDS: tuple[str, ...] = ("load", "case", "openings_cm2", "sink", "fan", "fan_l_s", "lying", "room_c")
_FIELDS += ("inner_wide", "inner_deep", "inner_high", "wall")
_MINUTES = (0.0, 0.5, 1, 2, 3, 4, 6, 8, 10, 12, 15, 18, 22, 26, 30, 35, 40, 45)
_OUT = {("wall", "room"): "by the wall", ("air", "room"): "with air"}


class HeatView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.instrument = self._section = SectionDrawing(self.theme)
        section = Sheet("Heat", "steady state, under the load")
        self._words = label("", wrap=True)
        section.add(self._section, self._words)
        section.body.setStretch(0, 1)
        self._warming = WarmingPlot(self.theme)
        curve = Sheet("From a cold start")
        curve.add(self._warming)
        self._bars = HelpBars(self.theme)
        ways = Sheet("Cooling options")
        ways.add(scrolled(self._bars))
        self._form = FieldForm(self.theme, tuple(f"assembly.{name}" for name in _FIELDS), self.session.edit)
        settings = Sheet("Case and load")
        settings.add(scrolled(self._form))
        self._celsius, self._room = QDoubleSpinBox(), QDoubleSpinBox()
        for field, name, value in ((self._celsius, "Chip, as the system tells it", 0.0), (self._room, "Room", 22.0)):
            field.setRange(0, 150)
            field.setDecimals(0)
            field.setSuffix("\u202f°C")
            field.setAccessibleName(name)
            field.setValue(value)
        self._told = label("", "muted", wrap=True)
        measured = Sheet("Measured")
        measured.add(
            row(label("Chip", "small"), self._celsius, label("Room", "small"), self._room),
            row(1, button("Save reading", self.note, "outline")),
            self._told,
        )
        lower = row(curve, ways, spacing=14)
        lower.setStretch(0, 3)
        lower.setStretch(1, 3)
        left = column(section, lower, spacing=14)
        left.setStretch(0, 5)
        left.setStretch(1, 5)
        side = column(settings, measured, spacing=12)
        side.setStretch(0, 1)
        if self.theme.scale > 1:
            for sheet, high in ((section, 320), (curve, 240), (ways, 260), (settings, 300)):
                sheet.setMinimumHeight(round(self.theme.px(high)))
            layout: QBoxLayout = column(section, curve, ways, settings, measured, spacing=14)
        else:
            for sheet in (settings, measured):
                sheet.setFixedWidth(side_px(self.theme, 20))
            layout = row(left, side, spacing=14)
            layout.setStretch(0, 1)
        self.setLayout(layout)

    def refresh(self) -> None:
        """Override."""
        build, catalogue = self.build, self.session.catalogue
        own = build.assembly
        self._form.show_build(build, {})
        shown = {f"assembly.{name}" for name in _FIELDS}
        shown -= set() if own.case == "vented" else {"assembly.openings_cm2"}
        shown -= set() if own.fan == "in the case" else {"assembly.fan_l_s"}
        if own.case == "open bench":
            shown -= {f"assembly.{name}" for name in ("inner_wide", "inner_deep", "inner_high", "wall")}
        self._form.show_only(shown)
        found, board = heat(build, catalogue), catalogue.find(Board, build.part("board"))
        if found is None or board is None:
            self._section.show_section(None)
            self._words.setText("")
            return
        out = tuple((words, found.flows[pair]) for pair, words in _OUT.items() if pair in found.flows)
        self._section.show_section(
            Section(tuple(found.celsius.items()), own.case, own.sink, own.fan, found.watts, out, own.lying, THROTTLE_C)
        )
        self._words.setText(in_words(found, most_mhz(build, catalogue), board.processor_mhz[1]))
        factor = correction(build, board)
        curves = []
        for load in LOADS:
            rows = warming(
                board_a(build, board, load) * BOARD_V, board, own, [minutes * 60 for minutes in _MINUTES], factor
            )
            curves.append((load, tuple((minutes, at["chip"]) for minutes, at in zip(_MINUTES, rows, strict=True))))
        self._warming.show_curves(tuple(curves), own.load, THROTTLE_C)
        ways = helps(build, catalogue)
        self._bars.show_helps(tuple((way.name, way.brings_k, way.chip_c, way.price) for way in ways), THROTTLE_C)
        latest = next((reading for reading in reversed(own.measured) if reading.what == "celsius"), None)
        self._told.setText(
            f"{latest.value:.0f} °C under {latest.load}; expected {latest.model:.0f} °C."
            if latest
            else "Read it after 15 minutes of play; it corrects the model."
        )

    def note(self) -> None:
        """Keep what the system tells; the model takes it over."""
        own = self.build.assembly
        try:
            made = with_celsius(self.build, self.session.catalogue, self._celsius.value(), own.load, self._room.value())
        except WrongUse as bad:
            self.session.said.emit(str(bad))
            return
        self.session.put("Measured temperature", made)


def in_words(found: Heat, fastest: int, most: int) -> str:
    """What it comes to, in a sentence or two."""
    if found.throttles_s is None:
        words = f"No fan is needed under {found.load}: {found.margin_k:.0f} K of headroom."
    else:
        words = f"Under {found.load} it starts throttling {show_duration(found.throttles_s)} after a cold start."
    if fastest:
        words += f" The clock may be set to {fastest} MHz" + (", its maximum." if fastest == most else ".")
    return f"{words} Assumed: {', '.join(found.assumed)}."
