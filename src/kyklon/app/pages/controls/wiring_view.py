"""Encoders under the table and every wire: where it ends, how long, which colour and crimp; ticked off while wiring."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QGridLayout, QLineEdit, QWidget

from kyklon.app.pages.controls.bench import BenchView
from kyklon.app.pages.controls.table_drawing import Shown
from kyklon.app.pages.controls.table_view import TableView
from kyklon.app.pages.tab_view import side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import (
    Choice,
    Elided,
    FigureRows,
    Sheet,
    button,
    column,
    label,
    row,
    scrolled,
    set_tip,
    unmarked,
)
from kyklon.app.widgets.kept import emptied
from kyklon.base.shown import visible
from kyklon.catalogue.records import Encoder
from kyklon.model.build import Build, edited
from kyklon.model.controls import DevicePlace
from kyklon.model.fields import describe
from kyklon.operations.controls import wiring
from kyklon.operations.controls.acts import wired, without_encoder
from kyklon.operations.controls.hookup import Hookup
from kyklon.operations.plan.acts import with_another_encoder


class WiringView(BenchView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.view = TableView(
            self.theme,
            "The wires; drag an encoder to where it sits",
            label="Choose an encoder first: Add, at the right.",
        )
        self.instrument = self.view
        self.view.boxed.connect(self._on_boxed)
        self.view.pressed.connect(lambda switch: self.view.hold(frozenset({switch})))
        sheet = Sheet("The wires, to scale", "press a control; drag an encoder")
        self._school = Choice(self.theme, "Wiring method", lambda value: self._on_school(value))
        self._school.setMinimumContentsLength(10)
        self._naming = Choice(self.theme, "Identify players by", lambda value: self.put("Names", naming=value))
        self._naming.setMinimumContentsLength(8)
        self.wire = button("Wire all", self._on_wire, "outline", tip="Wires every switch to a terminal by this method")
        by = label("players by", "small")
        sheet.add(row(self._school, self.wire, 1, by, self._naming), self.view)
        sheet.body.setStretch(1, 1)
        self._devices = Sheet("Encoders")
        self._device_grid = QGridLayout()
        self._device_grid.setHorizontalSpacing(6)
        self._kinds = Choice(self.theme, "Encoder to add", lambda _value: None)
        self._kinds.setMinimumContentsLength(14)
        self.add = button("Add", self._on_add)
        holder = QWidget()
        holder.setLayout(column(self._device_grid, 1))
        self._device_scroll = scrolled(holder)
        self._devices.add(self._device_scroll, row(self._kinds, self.add, 1))
        self._runs_sheet = Sheet("Wires to cut")
        self._ticks: dict[str, QCheckBox] = {}
        self._runs = QGridLayout()
        self._runs.setVerticalSpacing(3)
        self._figures = FigureRows(self.theme)
        self._mixed = label("", "warning", wrap=True)
        self._runs_sheet.add(self._mixed, scrolled(self._runs), self._figures)
        self._runs_sheet.body.setStretch(1, 1)
        side = QWidget()
        side.setLayout(column(self._devices, self._runs_sheet, spacing=12))
        side.layout().setStretch(1, 1)
        side.setFixedWidth(side_px(self.theme, 40))
        self.setLayout(row(sheet, side, spacing=14))
        self.layout().setStretch(0, 1)
        self._made: tuple[object, ...] = ()

    def refresh(self) -> None:
        """Override."""
        hookup, settings = self.hookup, self.settings
        self._school.set_choices(describe(Build, "controls.wiring").choices, settings.wiring)
        self._naming.set_choices(describe(Build, "controls.naming").choices, settings.naming)
        if not self._kinds.count():
            names = tuple((each.id, each.name) for each in self.session.catalogue.all(Encoder))
            self._kinds.set_choices(names, "tackle-12")
        self._show_devices(hookup)
        if hookup is None:
            self.view.show_table(Shown())
            return
        made = wiring.harness(hookup)
        runs = tuple((run.control, hookup.at(run.role), run.colour) for run in made.runs)
        boxes = tuple((device.role, device.title, *hookup.at(device.role)) for device in hookup.devices)
        self.view.show_table(Shown(layout=hookup.layout, wired=frozenset(hookup.wired), runs=runs, boxes=boxes))
        self._show_runs(made)

    def _show_devices(self, hookup: Hookup | None) -> None:
        devices = hookup.devices if hookup else ()
        told = tuple((each.role, each.title, each.first, each.encoder.players) for each in devices)
        ports = {each.role: each.port for each in self.settings.places}
        if told == self._made:
            return
        self._made = told
        emptied(self._device_grid)
        for line, device in enumerate(devices):
            encoder = device.encoder
            last = device.first + encoder.players - 1
            seats = f"player {device.first}" if encoder.players == 1 else f"players {device.first} and {last}"
            port = QLineEdit(ports.get(device.role, ""))
            port.setPlaceholderText("USB port, e.g. pci-0000:01:00.0-usb-0:1.2:1.0")
            port.setAccessibleName(f"Socket of {device.title}")
            port.setToolTip("The USB port as udev's ID_PATH; needed for two encoders of the same model")
            port.editingFinished.connect(lambda box=port, role=device.role: self._on_port(role, box.text()))
            gone = button("Remove", lambda role=device.role: self._on_remove(role), "quiet")
            name = Elided("strong")
            name.set_full(device.title)
            for place, widget in enumerate((name, label(seats, "small"), gone)):
                self._device_grid.addWidget(widget, 2 * line, place)
            self._device_grid.addWidget(port, 2 * line + 1, 0, 1, 3)
            twins = sum(1 for each in devices if each.encoder.id == encoder.id) > 1
            port.setVisible(twins or bool(port.text()))
        self._device_grid.setColumnStretch(0, 1)
        lines = len(devices) + sum(
            1
            for each in devices
            if ports.get(each.role) or sum(1 for one in devices if one.encoder.id == each.encoder.id) > 1
        )
        self._device_scroll.setFixedHeight(round(self.theme.px(min(150, max(1, lines) * 36))))

    def _show_runs(self, made: wiring.Harness) -> None:
        if set(self._ticks) != {run.control for run in made.runs}:
            emptied(self._runs)
            self._ticks = {}
            for line, run in enumerate(made.runs):
                tick = QCheckBox()
                tick.toggled.connect(lambda on, control=run.control: self._on_done(control, on=on))
                self._ticks[run.control] = tick
                self._runs.addWidget(tick, line, 0)
            self._runs.setRowStretch(len(made.runs), 1)
        for run in made.runs:
            tick = self._ticks[run.control]
            tick.blockSignals(True)
            tick.setChecked(run.done)
            tick.blockSignals(False)
            ends = f"{run.tabs[0]:g}" if run.tabs[0] == run.tabs[1] else f"{run.tabs[0]:g} to {run.tabs[1]:g}"
            tick.setText(unmarked(visible(f"{run.control} → {run.printed} · {run.colour} · {run.length:.0f}\u202fmm")))
            set_tip(tick, f"quick-connects: {ends} mm, switch to encoder")
        mixed = sum(made.mixed.values())
        wide = " and ".join(
            f"{each:g}" for each in sorted({run.tabs[0] for run in made.runs if run.tabs[0] != run.tabs[1]})
        )
        self._mixed.setText(
            f"A ready harness of one width does not fit: {mixed} runs go from {wide}\u202fmm at the "
            "switch to another at the encoder."
            if mixed
            else ""
        )
        self._mixed.setVisible(bool(mixed))
        done = sum(run.done for run in made.runs)
        self._runs_sheet.set_note(f"{done} of {len(made.runs)} done")
        metres = made.metres
        rows = [
            ("Total wire", f"{sum(metres.values()):.1f}\u202fm in {len(metres)} colours"),
            ("Ground wire", f"{metres.get(wiring.GROUND, 0.0):.1f}\u202fm"),
        ]
        rows += [(f"Quick-connects {width:g} mm", str(count)) for width, count in made.crimps.items()]
        self._figures.set_rows(tuple(rows))

    # --- acting ------------------------------------------------------------------------------------------------

    def _on_school(self, value: str) -> None:
        self.put("Wiring method", wiring=value)

    def _on_wire(self) -> None:
        made = wired(self.session.build, self.session.catalogue)
        self.session.put("Wired", made)
        self.session.said.emit(f"{len(made.controls.wires)} switches wired")

    def _on_add(self) -> None:
        try:
            made = with_another_encoder(self.session.build, self._kinds.value, self.session.catalogue)
        except ValueError as bad:
            self.session.said.emit(str(bad))
            return
        self.session.put("Encoder added", made)

    def _on_remove(self, role: str) -> None:
        self.session.put("Encoder removed", without_encoder(self.session.build, role, self.session.catalogue))

    def _on_port(self, role: str, text: str) -> None:
        places = {place.role: place for place in self.settings.places}
        hookup = self.hookup
        if hookup is None or (places[role].port if role in places else "") == text.strip():
            return
        x, y = hookup.at(role)
        try:
            places[role] = DevicePlace(role=role, x=x, y=y, port=text.strip())
        except ValueError:
            self.session.said.emit(
                f"{text} is not a USB port path. Use udev's ID_PATH, e.g. pci-0000:01:00.0-usb-0:1.2:1.0"
            )
            return
        self.put("Socket", places=tuple(places.values()))

    def _on_boxed(self, role: str, x: float, y: float) -> None:
        places = {place.role: place for place in self.settings.places}
        port = places[role].port if role in places else ""
        places[role] = DevicePlace(role=role, x=x, y=y, port=port)
        self.put("Encoder placed", places=tuple(places.values()))

    def _on_done(self, control: str, *, on: bool) -> None:
        wires = tuple(
            wire.model_copy(update={"done": on}) if wire.control == control else wire for wire in self.settings.wires
        )
        build = edited(self.session.build, "controls.wires", wires)
        self.session.put(f"{control} {'wired' if on else 'not wired yet'}", build)
