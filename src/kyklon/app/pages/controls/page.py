"""Operation 40: press a control and follow it to the game."""

from __future__ import annotations

from PyQt6.QtWidgets import QApplication, QGridLayout, QMenu

from kyklon.app.pages.controls.panel_view import Lit, PanelView
from kyklon.app.pages.page import OperationPage
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Elided, Sheet, button, label, row
from kyklon.app.widgets.instrument import Instrument
from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.records import Encoder, Panel, System
from kyklon.devices.ports import InputEvent
from kyklon.devices.simulated.encoders import SimulatedEncoder
from kyklon.model.build import Hotkey
from kyklon.model.kernel_line import word_values
from kyklon.operations.controls import exports
from kyklon.operations.controls.mapping import event_code, paths, wire_in_order
from kyklon.operations.controls.quirks import encoder_quirk


class ControlsPage(OperationPage):
    number = 40
    cautions = (
        "A lever pushed up closes the switch at the bottom; swapped directions are the most common wiring error.",
        "Plain switches have no polarity; lit buttons do.",
        "Pin 7 of a nine-pin port carries 5 V and must not meet a 3.3 V pin.",
    )

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._held: set[str] = set()
        self._view = PanelView(self.theme)
        self._view.pressed.connect(self._on_pressed)
        self._view.released.connect(self._on_released)
        self._system = Choice(self.theme, "System", lambda _value: self.refresh())
        self._panel_choice = Choice(self.theme, "Panel", lambda value: session.edit("controls.panel", value))
        self._export = button("Export…", self._on_export_clicked)
        self._wire = button("Wire in terminal order", self._on_wire_clicked)
        self._panel_choice.setMinimumContentsLength(24)
        self._system.setMinimumContentsLength(12)
        sheet = Sheet("The panel, to scale", "click a control, or use its key: W A S D, F G H and V B N for seat 1")
        bar = row(
            label("Panel", "small"),
            self._panel_choice,
            label("as in", "small"),
            self._system,
            1,
            self._wire,
            self._export,
        )
        sheet.add(bar, self._view)
        self._hotkey = Choice(self.theme, "Hotkey", lambda value: session.edit("controls.hotkey", value))
        self._actions: list[tuple[str, Choice]] = []
        hotkeys = Sheet("Hotkeys", "hold the first, press the second")
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(10)
        hotkeys.add(self._grid)
        self._sdl = Elided("mono")
        self._kernel = Elided("mono")
        out = Sheet("Issued as")
        lines = QGridLayout()
        lines.setHorizontalSpacing(10)
        for index, (name, widget) in enumerate((("SDL mapping", self._sdl), ("Kernel line", self._kernel))):
            lines.addWidget(label(name, "small"), index, 0)
            lines.addWidget(widget, index, 1)
        lines.setColumnStretch(1, 1)
        out.add(lines, 1)
        self.body.addWidget(sheet, 1)
        out.setFixedWidth(round(self.theme.px(300)))
        lower = row(hotkeys, out, spacing=14)
        self.body.addLayout(lower)

    def instrument(self) -> Instrument | None:
        """Override."""
        return self._view

    # --- showing -------------------------------------------------------------------------------------------------

    def _parts(self) -> tuple[Panel | None, Encoder | None, System | None]:
        build, catalogue = self.session.build, self.session.catalogue
        return (
            catalogue.find(Panel, build.controls.panel),
            catalogue.find(Encoder, build.part("encoder")),
            catalogue.find(System, self._system.value),
        )

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        build, catalogue = self.session.build, self.session.catalogue
        systems = tuple((each.id, each.name) for each in systems_of(build, catalogue))
        default = systems[0][0] if systems else ""
        self._system.set_choices(systems, self._system.value or default)
        self._panel_choice.set_choices(
            tuple((each.id, each.name) for each in catalogue.all(Panel)), build.controls.panel
        )
        panel, encoder, system = self._parts()
        if panel is None or encoder is None:
            self.set_subject("Choose an encoder in Plan first.")
            self._view.show_panel(panel, {}, {})
            return
        self.set_subject(f"{encoder.name} · {encoder.note}")
        tags = {
            path.control: " / ".join(path.inputs)
            for path in paths(panel, build.controls, encoder, system)
            if path.terminal is not None
        }
        wiring = {
            path.control: f"{path.terminal.printed} {path.terminal.event}"
            for path in paths(panel, build.controls, encoder, system)
            if path.terminal is not None
        }
        self._view.show_panel(panel, tags, wiring)
        self._show_hotkeys(panel)
        self._sdl.set_full(exports.sdl_mapping(panel, build.controls, encoder, 1) or "none: it acts as a keyboard")
        quirk = encoder_quirk(encoder)
        self._kernel.set_full(f"usbhid.quirks={quirk}" if quirk else "no quirk needed")

    def _show_hotkeys(self, panel: Panel) -> None:
        build = self.session.build
        names = tuple((control.id, control.label if control.kind != "button" else f"No. {control.label}")
                      for control in panel.controls if control.kind != "lever")  # fmt: skip
        if [action for action, _choice in self._actions] != [key.action for key in build.controls.hotkeys]:
            self._make_hotkeys()
        self._hotkey.set_choices(names, build.controls.hotkey)
        for (_action, choice), key in zip(self._actions, build.controls.hotkeys, strict=True):
            choice.set_choices(names, key.control)

    def _make_hotkeys(self) -> None:
        while self._grid.count():
            item = self._grid.takeAt(0)
            if item.widget() and item.widget() is not self._hotkey:
                item.widget().hide()
                item.widget().deleteLater()
        self._grid.addWidget(label("hold", "small"), 0, 0)
        self._grid.addWidget(self._hotkey, 1, 0)
        self._actions = []
        for index, key in enumerate(self.session.build.controls.hotkeys, 1):
            choice = Choice(
                self.theme, key.action, lambda value, action=key.action: self._on_hotkey_chosen(action, value)
            )
            self._grid.addWidget(label(key.action, "small"), 0, index)
            self._grid.addWidget(choice, 1, index)
            self._actions.append((key.action, choice))

    # --- pressing ------------------------------------------------------------------------------------------------

    def _on_pressed(self, switch: str) -> None:
        self._held.add(switch)
        self._view.light(self._follow(switch), self._held)

    def _on_released(self, switch: str) -> None:
        self._held.discard(switch)
        self._view.light(self._view.lit, self._held)

    def _follow(self, switch: str) -> Lit:
        """Close the switch of the simulated encoder and take what comes out of it to the game."""
        panel, encoder, system = self._parts()
        seat, _, name = switch.partition(".")
        words = f"seat {seat[1:]} · {name}"
        if panel is None or encoder is None:
            return Lit(switch, (words, "", "", ""))
        path = next(
            (each for each in paths(panel, self.session.build.controls, encoder, system) if each.control == switch),
            None,
        )
        if path is None or path.terminal is None:
            return Lit(switch, (words, "", "", ""))
        given = word_values(" ".join(self.session.build.boot.kernel_words), "usbhid.quirks")
        confused = bool(encoder_quirk(encoder)) and encoder_quirk(encoder) not in given
        device = SimulatedEncoder(encoder, confused=confused)
        device.press(path.terminal.id)
        event = next(device.events())
        code = f"{event.code} {event_code(event.code):#05x}"
        in_game = self._in_game(event, path.inputs, int(seat[1:]), system)
        return Lit(switch, (words, path.terminal.printed, code, in_game), wrong=event.player != int(seat[1:]))

    def _in_game(self, event: InputEvent, inputs: tuple[str, ...], player: int, system: System | None) -> str:
        if event.player != player:
            return f"player {event.player}, no quirk"
        return f"{' / '.join(inputs)}, player {player}" if inputs and system else ""

    # --- acting --------------------------------------------------------------------------------------------------

    def _on_hotkey_chosen(self, action: str, control: str) -> None:
        keys = [
            Hotkey(action=key.action, control=control if key.action == action else key.control)
            for key in self.session.build.controls.hotkeys
        ]
        self.session.edit("controls.hotkeys", keys)

    def _on_wire_clicked(self) -> None:
        panel, encoder, _system = self._parts()
        if panel is not None and encoder is not None:
            wires = wire_in_order(panel, encoder)
            self.session.edit("controls.wires", wires)
            self.session.said.emit(f"{len(wires)} switches wired in terminal order")

    def _on_export_clicked(self) -> None:
        panel, encoder, _system = self._parts()
        if panel is None or encoder is None:
            return
        controls = self.session.build.controls
        systems = systems_of(self.session.build, self.session.catalogue)
        menu = QMenu(self)
        for words, text in (
            ("Copy SDL mapping string", exports.sdl_mapping(panel, controls, encoder, 1)),
            ("Copy udev rule", exports.udev_rule(encoder)),
            ("Copy wiring list (CSV)", exports.wiring_csv(panel, controls, encoder, systems)),
        ):
            menu.addAction(words, lambda text=text: self._copy(text))
        menu.exec(self._export.mapToGlobal(self._export.rect().bottomLeft()))

    def _copy(self, text: str) -> None:
        QApplication.clipboard().setText(text)
        self.session.said.emit(f"Copied: {text.splitlines()[0] if text else 'nothing'}")
