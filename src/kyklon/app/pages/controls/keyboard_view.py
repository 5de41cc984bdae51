"""An old keyboard: its ribbon found out key by key, its ghosts, and where the machine's keys lie on it."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLineEdit, QSpinBox, QTabBar, QWidget

from kyklon.app.pages.controls.bench import BenchView
from kyklon.app.pages.controls.key_drawing import Caps, Crossings, KeyDrawing, MatrixDrawing
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, FigureRows, Sheet, button, column, label, row, scrolled, set_tip
from kyklon.base.errors import KyklonError
from kyklon.catalogue.control_records import Keyboard
from kyklon.devices import choose
from kyklon.devices.simulated import ribbon
from kyklon.devices.simulated.ribbon import SimulatedRibbon
from kyklon.model.controls import KeyboardSettings, KeyReading
from kyklon.operations.controls import keymaps
from kyklon.operations.controls.exports import held_together, lines_of, target_of
from kyklon.operations.controls.keymaps import KeyPair
from kyklon.operations.controls.matrix import Matrix, cures, ghosts, reconstruct

RIBBON, GHOSTS, KEYS = range(3)
TWICE = 2  # readings of a key: a slip to a crossing that no key has contradicts nothing, a second reading does
_HINTS = (
    "Press a key and enter the two pins that connect. Reading each key twice catches mistakes.",
    "Keys that games hold together are marked; click to add more. Three held keys can ghost a fourth.",
    "What each key of the machine is on this keyboard.",
)


class KeyboardView(BenchView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._key = ""
        self._ribbon: SimulatedRibbon | None = None
        self._looked = False
        self.keys = KeyDrawing(self.theme)
        self.keys.pressed.connect(self._on_key)
        self.instrument = self.keys
        self.matrix = MatrixDrawing(self.theme)
        self._mode = QTabBar()
        self._mode.setAccessibleName("What the keys show")
        self._mode.setDrawBase(False)
        self._mode.setExpanding(False)
        for name in ("Ribbon", "Ghosts", "Keys"):
            self._mode.addTab(name)
        self._mode.currentChanged.connect(lambda _index: self.refresh())
        self._hint = label(_HINTS[0], "muted", wrap=True)
        sheet = Sheet("The keyboard")
        sheet.add(self._make_bar(), self._hint, self.keys)
        sheet.body.setStretch(2, 1)
        self._matrix_sheet = Sheet("Its matrix", "rows and columns, found by two colours")
        self._matrix_sheet.add(self.matrix)
        lower = row(self._matrix_sheet, self._make_told(), spacing=14)
        lower.setStretch(0, 1)
        lower.setStretch(1, 1)
        self.setLayout(column(sheet, lower, spacing=12))
        self.layout().setStretch(0, 6)
        self.layout().setStretch(1, 5)

    def _make_bar(self) -> QWidget:
        self._layout = Choice(self.theme, "Keyboard", self._on_layout)
        self._layout.setMinimumContentsLength(11)
        self._one, self._other = QSpinBox(), QSpinBox()
        for spin, name in ((self._one, "One pin"), (self._other, "The other pin")):
            spin.setRange(1, 40)
            spin.setAccessibleName(name)
        self._other.setValue(2)
        self.note = button("Note", self._on_note, tip="These two pins connect while the key is pressed")
        self.forget = button("Forget", self._on_forget, "quiet", tip="All readings of this key")
        self._pins = QWidget()
        self._pins.setLayout(row(label("pins", "small"), self._one, self._other, self.note, self.forget, spacing=6))
        self.close_all = button(
            "Close every key",
            self._on_close_all,
            "outline",
            tip="Simulated keyboard: reads every key twice, then the uncertain ones",
        )
        self._school = Choice(self.theme, "Keys by", lambda value: self._set(school=value))
        self._school.set_choices((("position", "by position"), ("symbol", "by symbol")), "position")
        self._school.setMinimumContentsLength(10)
        self.usb = QLineEdit()
        self.usb.setAccessibleName("USB ID of the keyboard")
        self.usb.setPlaceholderText("USB ids, as 1209:0001")
        self.usb.setMaximumWidth(round(self.theme.px(150)))
        set_tip(self.usb, "Of a keyboard on USB, as lsusb lists it: its scan codes are written for it alone")
        self.usb.editingFinished.connect(self._on_usb)
        bar = QWidget()
        first, second = row(self._mode, 1, self._pins, self.close_all), row(self.usb, self._school, self._layout)
        if self.theme.scale > 1:  # large text: in two rows
            second.insertStretch(0, 1)
            bar.setLayout(column(first, second, spacing=6))
        else:
            bar.setLayout(row(first, second, spacing=8))
            bar.layout().setStretch(0, 1)
        return bar

    def _make_told(self) -> Sheet:
        self._told = Sheet("Result")
        self._figures = FigureRows(self.theme)
        self._words = label("", "", wrap=True)
        self._words.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.fit = button("Fit these diodes", self._on_fit)
        self._told.add(self._figures, scrolled(self._words), row(self.fit, 1))
        self._told.body.setStretch(1, 1)
        return self._told

    # --- showing -----------------------------------------------------------------------------------------------

    @property
    def own(self) -> Keyboard | None:
        return self.session.catalogue.find(Keyboard, self.settings.keyboard.layout)

    @property
    def target(self) -> Keyboard | None:
        """The keyboard that the build's system expects, else the own one."""
        return target_of(self.session.build, self.session.catalogue) or self.own

    @property
    def mode(self) -> int:
        return self._mode.currentIndex()

    def show_mode(self, mode: int) -> None:
        self._mode.setCurrentIndex(mode)

    @property
    def lines(self) -> Mapping[str, tuple[int, int]]:
        """Row and column of each key."""
        return lines_of(self.session.build, self.session.catalogue)

    def refresh(self) -> None:
        """Override."""
        own, settings = self.own, self.settings.keyboard
        boards = tuple((each.id, each.name) for each in self.session.catalogue.all(Keyboard))
        self._layout.set_choices((("", "no old keyboard"), *boards), settings.layout)
        self._school.setCurrentIndex(max(0, self._school.findData(settings.school)))
        self._look_for_ribbon()
        self._hint.setText(_HINTS[self.mode])
        self._matrix_sheet.setVisible(self.mode != KEYS)
        self._pins.setVisible(self.mode == RIBBON)
        self.close_all.setVisible(self.mode == RIBBON and self._ribbon is not None)
        self._school.setVisible(self.mode == KEYS)
        self.usb.setVisible(self.mode == KEYS and own is not None and not self.lines)
        self.usb.setText(settings.usb)
        self._layout.setVisible(self.mode != RIBBON or not settings.readings)
        self.fit.setVisible(False)
        if own is None:
            self.keys.show_caps(Caps())
            self.matrix.show_matrix(Crossings())
            self._figures.set_rows(())
            self._words.setText("")
            return
        found = reconstruct(settings.readings)
        (self._show_ribbon, self._show_ghosts, self._show_keys)[self.mode](own, found, settings)
        self._show_matrix(own, found)

    def _look_for_ribbon(self) -> None:
        if self._looked:
            return
        self._looked = True
        try:
            told = ribbon.load(self.session.folder / choose.STAND_INS)
        except KyklonError as bad:
            self.session.said.emit(str(bad))
            return
        self._ribbon = SimulatedRibbon(told) if told is not None else None

    def _show_matrix(self, own: Keyboard, found: Matrix) -> None:
        names = {key.id: key.label for key in own.keys}
        if self.settings.keyboard.readings:
            keys = {pair: names.get(key, key) for key, pair in found.keys.items()}
            doubtful = frozenset(names.get(key, key) for key in found.doubtful)
            self.matrix.show_matrix(Crossings(found.rows, found.columns, keys, doubtful, frozenset(found.loose)))
            return
        self.matrix.show_matrix(Crossings())

    def _show_ribbon(self, own: Keyboard, found: Matrix, settings: KeyboardSettings) -> None:
        read = {reading.key for reading in settings.readings}
        states = {
            key.id: "doubt" if key.id in found.doubtful else "known" if key.id in read else "" for key in own.keys
        }
        said = {key: f"{pair[0]}·{pair[1]}" for key, pair in found.keys.items()} | dict.fromkeys(found.doubtful, "?")
        self.keys.show_caps(Caps(own, {}, said, states, dict(found.doubtful)), self._key)
        self.note.setEnabled(bool(self._key))
        self.forget.setEnabled(self._key in read)
        wanted = [key for key in own.keys if key.id != own.restore]
        times = Counter(reading.key for reading in settings.readings)
        once = sum(1 for key in wanted if times[key.id] == 1)
        self._figures.set_rows(
            (
                ("Keys read", f"{len(read)} of {len(wanted)}"),
                ("Read once only", str(once)),
                ("Rows and columns", f"{len(found.rows)} × {len(found.columns)}"),
                ("Keys to read again", str(len(found.doubtful))),
            )
        )
        names = {key.id: key.label for key in own.keys}
        told = [f"{names.get(key, key)}: {why}." for key, why in list(found.doubtful.items())[:8]]
        if found.loose:
            told.append(f"{_pins(found.loose)} is not linked to the rest: read a key that connects them.")
        if own.restore:
            told.append(f"{names.get(own.restore, own.restore)} is wired on its own, outside the matrix.")
        told += [f"The {name} is on pin {pin}; it needs a resistor." for name, pin in own.lamps]
        self._words.setText("\n\n".join(told))

    def _show_ghosts(self, own: Keyboard, _found: Matrix, settings: KeyboardSettings) -> None:
        lines = self.lines
        every = ghosts(lines, None, settings.diodes)
        sets = held_together(self.session.build, self.session.catalogue)
        played = {key for _name, keys in sets for key in keys}
        mine = ghosts(lines, [keys for _name, keys in sets], settings.diodes)
        needed = cures(mine)
        states = dict.fromkeys(settings.diodes, "diode") | {
            key: "picked" for key in played if key not in settings.diodes
        }
        states |= {ghost.seen: "ghost" for ghost in mine}
        names = {key.id: key.label for key in own.keys}
        said = dict.fromkeys(needed, "diode") | {
            key: f"{pair[0]}·{pair[1]}" for key, pair in lines.items() if key not in needed
        }
        self.keys.show_caps(Caps(own, {}, said, states, {}), self._key)
        self._figures.set_rows(
            (
                ("Sets of keys held together", str(len(sets))),
                ("Combinations that ghost", str(len(mine))),
                ("Diodes needed", str(len(needed))),
                ("Ghosts on the whole keyboard", str(len(every))),
            )
        )
        told = [
            f"{' + '.join(names.get(key, key) for key in ghost.held)} ghosts {names.get(ghost.seen, ghost.seen)}: "
            f"add a diode at {names.get(ghost.cure, ghost.cure)}."
            for ghost in mine[:8]
        ]
        if len(mine) > 8:
            told.append(f"And {len(mine) - 8} more.")
        self._words.setText("\n\n".join(told) or ("None of them ghosts." if played else ""))
        self.fit.setVisible(bool(needed))

    def _show_keys(self, own: Keyboard, _found: Matrix, settings: KeyboardSettings) -> None:
        target = self.target or own
        pairs = keymaps.pairs_of(own, target, settings.school)
        by_own: dict[str, list[KeyPair]] = {}
        for pair in pairs:
            if pair.own is not None:
                by_own.setdefault(pair.own.id, []).append(pair)
        labels = {
            key: " ".join(("⇧" if pair.shift else "") + pair.target.label for pair in own_pairs)
            for key, own_pairs in by_own.items()
        }
        printed = {key.id: key.label for key in own.keys}
        said = {key: printed[key] for key, words in labels.items() if words != printed[key]}
        states = {
            key.id: "doubt" if any(pair.why for pair in by_own.get(key.id, ())) else "known" if key.id in by_own else ""
            for key in own.keys
        }
        self.keys.show_caps(Caps(own, labels, said, states, {}), self._key)
        other = sum(1 for pair in pairs if pair.own is not None and pair.why)
        unreached = [pair.target.label for pair in pairs if pair.own is None]
        lost = keymaps.signs_lost(own, target, pairs)
        self._figures.set_rows(
            (
                (f"Keys of {target.name}", str(len(pairs))),
                ("Reached", str(len(pairs) - len(unreached))),
                ("Moved to spare keys", str(other)),
                ("Symbols printed on other keys", str(len(lost))),
            )
        )
        told = [f"{pair.target.label}: {pair.why}." for pair in pairs if pair.why]
        if lost and settings.school == "position":
            told.append(f"Not on the key that shows them: {' '.join(dict.fromkeys(lost))}. Map by symbol to fix this.")
        shifted = [pair.target.label for pair in pairs if pair.shift]
        if shifted:
            told.append(f"With shift: {' '.join(shifted)}.")
        self._words.setText("\n\n".join(told) or "Every key has its own, and says what it types.")

    # --- acting ------------------------------------------------------------------------------------------------

    def _set(self, words: str = "Keyboard", **fields: object) -> None:
        try:
            made = KeyboardSettings.model_validate(self.settings.keyboard.model_dump() | fields)
        except ValueError as bad:
            self.session.said.emit(str(bad).splitlines()[0])
            return
        self.put(words, keyboard=made)

    def _on_layout(self, value: str) -> None:
        self._key = ""
        self._set("Keyboard", layout=value, usb="", readings=(), diodes=(), played=())

    def _on_usb(self) -> None:
        told = self.usb.text().strip().lower()
        if told == self.settings.keyboard.usb:
            return
        if told and not re.fullmatch(r"[0-9a-f]{4}:[0-9a-f]{4}", told):
            self.session.said.emit(f"{told} is not a USB ID; write it as lsusb does, e.g. 1209:0001")
            self.usb.setText(self.settings.keyboard.usb)
            return
        self._set("USB ids", usb=told)

    def _on_key(self, key: str) -> None:
        self._key = key
        if self.mode == GHOSTS:
            played = self.settings.keyboard.played
            kept = tuple(each for each in played if each != key)
            self._set("Keys held together", played=kept if key in played else (*played, key))
        elif self.mode == RIBBON and self._ribbon is not None:
            self._read(key)
        else:
            self.refresh()

    def _read(self, *keys: str) -> None:
        assert self._ribbon is not None
        fresh = []
        for key in keys:
            pins = self._ribbon.close(key)
            if pins is not None:
                fresh.append(KeyReading(key=key, pins=pins))
        if not fresh:
            self.session.said.emit("No two ribbon pins connect: this key is wired on its own.")
            self.refresh()
            return
        words = (
            f"{fresh[0].key}: pins {fresh[0].pins[0]} and {fresh[0].pins[1]}"
            if len(fresh) == 1
            else f"{len(fresh)} keys read"
        )
        self.session.said.emit(words)
        self._set("Ribbon read", readings=[each.model_dump() for each in (*self.settings.keyboard.readings, *fresh)])

    def _on_close_all(self) -> None:
        own = self.own
        if own is not None and self._ribbon is not None:
            times = Counter(reading.key for reading in self.settings.keyboard.readings)
            wanted = [key.id for key in own.keys if key.id != own.restore]
            least = min((times[key] for key in wanted), default=0)
            left = [key for key in wanted if times[key] == least]
            doubtful = list(reconstruct(self.settings.keyboard.readings).doubtful)
            self._read(*(left if least < TWICE else doubtful or wanted))

    def _on_note(self) -> None:
        if self._key:
            reading = KeyReading(key=self._key, pins=(self._one.value(), self._other.value()))
            readings = (*self.settings.keyboard.readings, reading)
            self._set("Ribbon read", readings=[each.model_dump() for each in readings])

    def _on_forget(self) -> None:
        kept = [reading.model_dump() for reading in self.settings.keyboard.readings if reading.key != self._key]
        self._set("Readings cleared", readings=kept)

    def _on_fit(self) -> None:
        own = self.own
        if own is not None:
            sets = held_together(self.session.build, self.session.catalogue)
            needed = cures(ghosts(self.lines, [keys for _name, keys in sets], self.settings.keyboard.diodes))
            self._set("Diodes fitted", diodes=(*self.settings.keyboard.diodes, *needed))


def _pins(numbers: tuple[int, ...]) -> str:
    return f"pin {numbers[0]}" if len(numbers) == 1 else f"pins {', '.join(map(str, numbers))}"
