"""The way of the current: every volt that is lost, what the battery lasts for, what a meter says."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QBoxLayout, QDoubleSpinBox

from kyklon.app.pages.assembly.volts_drawing import Drop, End, VoltsDrawing, Way
from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import FigureRows, Sheet, button, column, label, row, scrolled
from kyklon.app.widgets.fields import FieldForm
from kyklon.base.errors import WrongUse
from kyklon.base.quantities import show, show_duration
from kyklon.operations.assembly.findings import battery_findings, lead_remedy, short_a
from kyklon.operations.assembly.measured import with_volts
from kyklon.operations.assembly.tree import Feed, Flow, feed, run_time, stepped
from kyklon.operations.assembly.wire import ampacity_a

_ALWAYS = ("load", "source", "switch_mohm", "wire_c")
_OF_BATTERY: tuple[str, ...] = (
    "battery",
    "battery_ah",
    "battery_mohm",
    "charged",
    "lead_m",
    "lead_awg",
    "fuse_a",
    "fuse_slow",
)
_OF_BATTERY += ("converter_percent", "input_uf")


class PowerView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.instrument = self._drawing = VoltsDrawing(self.theme)
        way = Sheet("Voltage drop", "segment by segment, under the load")
        way.add(scrolled(self._drawing))
        paths = tuple(f"assembly.{name}" for name in (*_ALWAYS, *_OF_BATTERY))
        self._form = FieldForm(self.theme, paths, self._edit)
        settings = Sheet("Source and load")
        settings.add(scrolled(self._form))
        self._figures, self._more = FigureRows(self.theme), FigureRows(self.theme)
        self._propose = button("", self._take_lead, "outline")
        figures = Sheet("Figures")
        pair = row(self._figures, self._more, spacing=24)
        for figure in (self._figures, self._more):
            pair.setAlignment(figure, Qt.AlignmentFlag.AlignTop)
        figures.add(pair, self._propose)
        self._volts = QDoubleSpinBox()
        self._volts.setRange(0, 60)
        self._volts.setDecimals(2)
        self._volts.setSuffix("\u202fV")
        self._volts.setSpecialValueText("volts")
        self._volts.setAccessibleName("Volts at the board's socket")
        measured = Sheet("Measured", "at the board, running")
        self._told = label("", "muted", wrap=True)
        measured.add(
            row(self._volts, button("Save reading", self.note, "outline")),
            self._told,
        )
        if self.theme.scale > 1:
            settings.setMinimumHeight(round(self.theme.px(260)))
            way.setMinimumHeight(round(self.theme.px(360)))
            layout: QBoxLayout = column(way, figures, settings, measured, spacing=14)
        else:
            for sheet in (settings, measured):
                sheet.setFixedWidth(side_px(self.theme, 44))
            left = column(way, figures, spacing=14)
            side = column(settings, measured, spacing=12)
            for part in (left, side):
                part.setStretch(0, 1)
            layout = row(left, side, spacing=14)
        layout.setStretch(0, 1)
        self.setLayout(layout)

    def _edit(self, path: str, value: object) -> None:
        self.session.edit(path, value)

    def refresh(self) -> None:
        """Override."""
        build, catalogue = self.build, self.session.catalogue
        own = build.assembly
        self._form.show_build(build, {})
        battery = own.source == "battery"
        shown = {f"assembly.{name}" for name in (*_ALWAYS, *(_OF_BATTERY if battery else ()))}
        self._form.show_only(shown)
        found = feed(build, catalogue)
        self._drawing.show_ways(ways_of(found) if found else ())
        rows: list[tuple[str, str]] = []
        if found is not None:
            rows.append(("Current", f"{found.low.root_a:.2f} of {show(found.usable_a, 'A', prefix='')}"))
            rows.append(("At the board", show(found.board_v, "V", prefix="")))
            step = stepped(build, catalogue)
            if step is not None:
                rows.append(("Load step, lowest", show(step.least_v, "V", prefix="")))
            if found.hidden_ohm:
                rows.append(("Extra, measured", f"{found.hidden_ohm * 1000:.0f}\u202fmΩ"))
            runs = run_time(found)
            if runs is not None and found.high is not None:
                rows.append(("From the battery", show(found.high.root_a, "A", prefix="")))
                rows.append(("Run time, about", show_duration(round(runs.hours * 12) * 300)))
                rows.append(("Lead ampacity", show(ampacity_a(own.lead_awg, own.wire_c), "A", 1, prefix="")))
                rows.append(("Short circuit", show(short_a(own), "A", 0, prefix="")))
        half = -(-len(rows) // 2)
        self._figures.set_rows(tuple(rows[:half]))
        self._more.set_rows(tuple(rows[half:]))
        remedy = lead_remedy(build, catalogue) if battery and battery_findings(build, catalogue) else None
        self._propose.setVisible(battery)
        self._propose.setEnabled(remedy is not None)
        self._propose.setText(remedy.label if remedy else "Lead and fuse match")
        latest = next((reading for reading in reversed(own.measured) if reading.what == "volts"), None)
        self._told.setText(
            f"{latest.value:.2f} V under {latest.load}; expected {latest.model:.2f} V."
            if latest
            else "A meter reading at the socket shows resistance that no datasheet lists."
        )

    def _take_lead(self) -> None:
        remedy = lead_remedy(self.build, self.session.catalogue)
        if remedy is not None:
            self.take(remedy, "Lead and fuse")

    def note(self) -> None:
        """Keep what the meter says; the model takes it over."""
        try:
            made = with_volts(self.build, self.session.catalogue, self._volts.value(), self.build.assembly.load)
        except WrongUse as bad:
            self.session.said.emit(str(bad))
            return
        self.session.put("Measured volts", made)


def ways_of(found: Feed) -> tuple[Way, ...]:
    """The battery's side where there is one, and the five volts: the way to the board, and what hangs on it."""
    ways = []
    if found.high is not None:
        ways.append(_way(f"{found.settings.battery.capitalize()} battery", found.high, "converter"))
    ways.append(_way(found.supply.name, found.low, "board"))
    return tuple(ways)


def _way(source: str, flow: Flow, until: str) -> Way:
    """The drops on the way to a node; contacts of a plug are one step with their cable."""
    into = {segment.end: number for number, segment in enumerate(flow.tree.segments)}
    at, path = until, []
    while at in into:
        number = into[at]
        path.append(number)
        at = flow.tree.segments[number].start
    drops = []
    for number in reversed(path):
        segment = flow.tree.segments[number]
        drops.append(Drop(segment.name, flow.volts[segment.start], flow.volts[segment.end], flow.amps[number]))
    ends = tuple(End(sink.name, flow.volts[sink.node], sink.least_v) for sink in flow.tree.sinks)
    return Way(source, flow.tree.volts, flow.root_a, tuple(drops), ends)
