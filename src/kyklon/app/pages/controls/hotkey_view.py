"""Hotkeys: which button is held, which is pressed, and how often play would do that by accident."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDoubleSpinBox, QGridLayout, QWidget

from kyklon.app.pages.controls.bench import BenchView
from kyklon.app.pages.controls.hotkey_grid import HotkeyGrid, Pairs
from kyklon.app.pages.tab_view import side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row, scrolled
from kyklon.model.controls import Hotkey
from kyklon.operations.controls import hotkeys
from kyklon.operations.controls.hookup import Hookup

_ACTIONS = {"leave": "Quit the game", "reset": "Reset it", "save": "Save its state", "load": "Load its state"}


class HotkeyView(BenchView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.grid = HotkeyGrid(self.theme)
        self.instrument = self.grid
        self.grid.chosen.connect(self._on_pair)
        sheet = Sheet("Accidental triggers per hour", "all systems and game mappings")
        sheet.add(self.grid)
        keys = Sheet("Hold and press")
        self._hotkey = Choice(self.theme, "Hotkey", lambda value: self.put("Hotkey", hotkey=value))
        self._hotkey.setMinimumContentsLength(12)
        self._hold = QDoubleSpinBox()
        self._hold.setRange(0, 5)
        self._hold.setSingleStep(0.5)
        self._hold.setDecimals(1)
        self._hold.setSuffix("\u202fs")
        self._hold.setSpecialValueText("at once")
        self._hold.setKeyboardTracking(False)
        self._hold.setAccessibleName("Hotkey hold time, in seconds")
        self._hold.valueChanged.connect(lambda value: self.put("Time to hold", hold_s=round(value, 1)))
        rows = QGridLayout()
        rows.setHorizontalSpacing(10)
        rows.addWidget(label("hold", "small"), 0, 0)
        rows.addWidget(self._hotkey, 0, 1)
        rows.addWidget(label("for", "small"), 1, 0)
        rows.addWidget(self._hold, 1, 1)
        self._actions: dict[str, Choice] = {}
        for line, (action, words) in enumerate(_ACTIONS.items(), 2):
            choice = Choice(self.theme, words, lambda value, action=action: self._on_action(action, value))
            choice.setMinimumContentsLength(12)
            self._actions[action] = choice
            rows.addWidget(label(words.lower(), "small"), line, 0)
            rows.addWidget(choice, line, 1)
        rows.setColumnStretch(1, 1)
        self.propose = button("Use the safest hotkeys", self._on_propose, "outline")
        keys.add(rows, row(self.propose, 1))
        self._troubles = Sheet("What is wrong with them")
        self._words = label("", "", wrap=True)
        self._words.setAlignment(Qt.AlignmentFlag.AlignTop)
        self._troubles.add(scrolled(self._words))
        side = QWidget()
        side.setLayout(column(keys, self._troubles, spacing=12))
        side.layout().setStretch(1, 1)
        side.setFixedWidth(side_px(self.theme))
        self.setLayout(row(sheet, side, spacing=14))
        self.layout().setStretch(0, 1)

    def refresh(self) -> None:
        """Override."""
        hookup, settings = self.hookup, self.settings
        names = self._names(hookup)
        own = settings.hotkey
        self._hotkey.set_choices((("", "none"), *names), own)
        self._hold.blockSignals(True)
        self._hold.setValue(settings.hold_s)
        self._hold.blockSignals(False)
        on = {hotkey.action: hotkey.control for hotkey in settings.hotkeys}
        for action, choice in self._actions.items():
            choice.set_choices((("", "none"), *names), on.get(action, ""))
        if hookup is None:
            self.grid.show_pairs(Pairs())
            self._words.setText("Choose a panel and an encoder first.")
            return
        risks = {
            (candidate.hotkey, candidate.control): candidate
            for candidate in hotkeys.candidates(hookup, self.systems, settings.hold_s)
        }
        actions = {(own, control): action for action, control in on.items()}
        self.grid.show_pairs(Pairs(names, risks, actions))
        found = list(hotkeys.troubles(hookup, self.systems))
        self._troubles.set_note("" if found else "nothing")
        told = "\n\n".join(f"{each.words} {each.why}" for each in found)
        self._words.setText(told or "Every game can be quit, and no game triggers the pair by accident.")

    @staticmethod
    def _names(hookup: Hookup | None) -> tuple[tuple[str, str], ...]:
        seat = hookup.layout.seat(1) if hookup else None
        if hookup is None or seat is None:
            return ()
        found = []
        for name in hotkeys.reachable(hookup):
            control = seat.owner(name)
            if control is not None:
                found.append((name, f"Button {control.label}" if control.kind == "button" else control.label))
        return tuple(found)

    def _on_action(self, action: str, control: str) -> None:
        kept = [hotkey for hotkey in self.settings.hotkeys if hotkey.action != action]
        if control:
            kept.append(Hotkey(action=action, control=control))
        order = list(_ACTIONS)
        kept.sort(key=lambda each: order.index(each.action) if each.action in order else len(order))
        self.put(f"Hotkey: {action}", hotkeys=tuple(kept))

    def _on_pair(self, hold: str, press: str) -> None:
        """A pair was picked in the drawing: it leaves the game; the other actions stay where they can."""
        kept = tuple(
            hotkey
            for hotkey in self.settings.hotkeys
            if hotkey.action != "leave" and hotkey.control not in (hold, press)
        )
        self.put("Hotkey to leave", hotkey=hold, hotkeys=(Hotkey(action="leave", control=press), *kept))

    def _on_propose(self) -> None:
        hookup = self.hookup
        if hookup is None:
            return
        key, found, hold_s = hotkeys.safest(hookup, self.systems)
        if not key:
            self.session.said.emit("A hotkey needs two wired buttons at seat 1.")
            return
        self.put("Safest hotkeys", hotkey=key, hotkeys=found, hold_s=hold_s)
        words = f"hold {key}{f' for {hold_s:g} s' if hold_s else ''}, press {found[0].control} to leave"
        self.session.said.emit(words[:1].upper() + words[1:])
        self.session.log(40, "Hotkeys chosen", words)
