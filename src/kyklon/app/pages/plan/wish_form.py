"""The wishes of a plan as one column of answers: what shall be played, where, on what, by how many, for how much."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QDialog, QGridLayout, QLineEdit, QSpinBox, QWidget

from kyklon.app.pages.plan.bundle_dialog import BundleDialog
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Choice, button, column, label, row, scrolled, unmarked
from kyklon.app.widgets.tick import Tick
from kyklon.base.quantities import counted, show_money
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Display
from kyklon.catalogue.system_records import System
from kyklon.model.plan import PLACES, SOFTWARE, PlanSettings
from kyklon.operations.plan.constraints import ROLES
from kyklon.operations.plan.wishes import GAMES
from kyklon.parts.fields import KIND_WORDS

_HAND_KINDS = (*(kind for role, (kind, _record) in ROLES.items() if role != "image"), "cables")


class WishForm(QWidget):
    """changed: after an answer. settings and systems: what was answered."""

    changed = pyqtSignal()

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._catalogue: Catalogue | None = None
        self.settings, self.systems = PlanSettings(), tuple[str, ...]()
        self._rows: dict[str, tuple[QCheckBox, QSpinBox]] = {}
        self._list = column(spacing=2)
        self._inner = QWidget()
        self._inner.setLayout(self._list)
        self._place = Choice(theme, "Where", lambda value: self._set(place=value))
        self._players = Choice(theme, "Players at once", lambda value: self._set(players=int(value)))
        self._software = Choice(theme, "System software", lambda value: self._set(software=value))
        self._software.set_choices(tuple((kind, kind or "any kind") for kind in SOFTWARE), "")
        self._screen = Choice(theme, "Screen", lambda value: self._set(screen=value))
        self._place.set_choices(tuple((place, place) for place in PLACES), "table")
        self._players.set_choices(tuple((str(n), counted(n, "player")) for n in range(1, 9)), "1")
        self._reach = self._line("Machine to screen", "any length, or 2 m", "reach_m")
        self._budget = self._line("Budget", f"no limit, or {show_money(120)}", "budget")
        self._by = self._line("Finished by", "any day, or 2027-03-01", "by")
        self._hardest = self._line("Most demanding game", "its title", "hardest")
        self._hand = button("", self.ask_hand, "outline")
        self._bundles = button("", self.ask_bundles, "outline")
        self._wrong = label("", "stop", wrap=True)
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(6)
        answers: tuple[tuple[str, QWidget], ...] = (
            ("Where", self._place),
            ("By how many", self._players),
            ("On which screen", self._screen),
            ("Machine to screen", self._reach),
            ("System software", self._software),
            ("For how much", self._budget),
            ("By when", self._by),
            ("Hardest game", self._hardest),
            ("At hand", self._hand),
            ("Sold together", self._bundles),
        )
        for number, (words, widget) in enumerate(answers):
            grid.addWidget(label(words, "muted"), number, 0)
            grid.addWidget(widget, number, 1)
        grid.setColumnStretch(1, 1)
        area = scrolled(self._inner)
        area.setMinimumHeight(round(theme.px(120)))
        layout = column(
            label("What shall be played, and how many games of each", "muted", wrap=True), area, grid, self._wrong
        )
        layout.setStretch(1, 1)
        self.setLayout(layout)

    def _line(self, name: str, hint: str, field: str) -> QLineEdit:
        line = QLineEdit()
        line.setAccessibleName(name)
        line.setPlaceholderText(hint)
        line.editingFinished.connect(lambda: self._typed(field, line))
        return line

    def show_wishes(self, settings: PlanSettings, systems: tuple[str, ...], catalogue: Catalogue) -> None:
        """Show answers without taking them for the user's."""
        known = self._catalogue is catalogue
        self._catalogue, self.settings, self.systems = catalogue, settings, systems
        if not known:
            self._make_rows(catalogue)
            screens = tuple((display.id, display.name) for display in catalogue.all(Display))
            self._screen.set_choices((("", "any on the shelf"), *screens), settings.screen)
        for name, (box, count) in self._rows.items():
            box.setChecked(name in systems)
            count.blockSignals(True)
            count.setValue(settings.games.get(name, GAMES))
            count.blockSignals(False)
            count.setEnabled(name in systems)
        for choice, value in ((self._place, settings.place), (self._players, str(settings.players))):
            choice.setCurrentIndex(max(0, choice.findData(value)))
        self._screen.setCurrentIndex(max(0, self._screen.findData(settings.screen)))
        self._software.setCurrentIndex(max(0, self._software.findData(settings.software)))
        for line, text in (
            (self._reach, f"{settings.reach_m:g} m" if settings.reach_m else ""),
            (self._budget, show_money(settings.budget) if settings.budget else ""),
            (self._by, settings.by),
            (self._hardest, settings.hardest),
        ):
            if not line.hasFocus():
                line.setText(text)
        count_ = len(settings.at_hand)
        self._hand.setText(f"{counted(count_, 'part')}…" if count_ else "Tick what you have…")
        sold = len(settings.bundles)
        self._bundles.setText(f"{counted(sold, 'bundle')}…" if sold else "Compare a bundle…")

    def _make_rows(self, catalogue: Catalogue) -> None:
        while (item := self._list.takeAt(0)) is not None:
            if (inner := item.layout()) is not None:
                while (piece := inner.takeAt(0)) is not None:
                    if (old := piece.widget()) is not None:
                        old.deleteLater()
        self._rows = {}
        for system in catalogue.all(System):
            box, count = Tick(unmarked(system.name)), QSpinBox()
            count.setRange(1, 100_000)
            count.setSuffix(" games")
            count.setAccessibleName(f"Games of {system.name}")
            count.setFixedWidth(round(self._theme.px(92)))
            box.clicked.connect(lambda on, name=system.id: self._on_ticked(name, on))
            count.editingFinished.connect(lambda name=system.id, count=count: self._on_counted(name, count.value()))
            self._rows[system.id] = box, count
            self._list.addLayout(row(box, 1, count))
        self._list.addStretch(1)

    def _on_ticked(self, name: str, on: bool) -> None:
        kept = [system for system in self.systems if system != name]
        self.systems = (*kept, name) if on else tuple(kept)
        self._rows[name][1].setEnabled(on)
        self.changed.emit()

    def _on_counted(self, name: str, count: int) -> None:
        if self.settings.games.get(name, GAMES) != count:
            self._set(games={**self.settings.games, name: count})

    def _typed(self, field: str, line: QLineEdit) -> None:
        text = line.text().strip()
        value: object = text
        if field in ("reach_m", "budget"):
            plain = "".join(letter for letter in text if letter.isdigit() or letter in ".,").replace(",", ".")
            try:
                value = float(plain) if plain else 0.0
            except ValueError:
                self._say(f"{line.accessibleName()}: “{text}” is no number.")
                return
        if getattr(self.settings, field) != value:
            self._set(**{field: value})

    def _set(self, **values: object) -> None:
        try:
            made = PlanSettings.model_validate({**self.settings.model_dump(), **values})
        except ValueError:
            name = next(iter(values))
            title = PlanSettings.model_fields[name].title or name
            self._say(f"{title} cannot be “{values[name]}”.")
            return
        self._say("")
        self.settings = made
        self.changed.emit()

    def _say(self, words: str) -> None:
        self._wrong.setText(f"■ {words}" if words else "")
        self._wrong.setVisible(bool(words))

    def ask_hand(self) -> None:
        """Tick the parts of the shelf that are there."""
        if self._catalogue is None:
            return
        dialog = HandDialog(self._catalogue, self.settings.at_hand, self)
        if dialog.exec():
            self._set(at_hand=dialog.ticked)

    def ask_bundles(self) -> None:
        """Say what a shop sells together."""
        if self._catalogue is None:
            return
        dialog = BundleDialog(self._theme, self._catalogue, _HAND_KINDS, self.settings.bundles, self)
        if dialog.exec():
            self._set(bundles=dialog.bundles)


class HandDialog(QDialog):
    """The parts of the shelf, to tick those that are at hand."""

    def __init__(self, catalogue: Catalogue, at_hand: tuple[str, ...], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("At hand")
        self._boxes: dict[str, QCheckBox] = {}
        inner = column(spacing=4)
        for kind in _HAND_KINDS:
            inner.addWidget(label(KIND_WORDS[kind], "section"))
            for part in catalogue.parts[kind].values():
                box = Tick(unmarked(part.name))
                box.setChecked(f"{kind}/{part.id}" in at_hand)
                self._boxes[f"{kind}/{part.id}"] = box
                inner.addWidget(box)
        inner.addStretch(1)
        self.setLayout(
            column(
                label("What you tick costs nothing. What is not here is learnt on the shelf.", "muted", wrap=True),
                scrolled(inner),
                row(1, button("Cancel", self.reject, "quiet"), button("Take these", self.accept, "primary")),
                spacing=12,
                margins=(20, 18, 20, 16),
            )
        )
        self.resize(460, 560)

    @property
    def ticked(self) -> tuple[str, ...]:
        return tuple(key for key, box in self._boxes.items() if box.isChecked())
