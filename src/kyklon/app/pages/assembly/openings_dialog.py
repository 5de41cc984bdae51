"""Openings of the case: old ones to be covered, new ones to be cut, and how its panel sockets are held."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QDialog, QDoubleSpinBox, QGridLayout, QLineEdit, QWidget

from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, button, column, label, row
from kyklon.app.widgets.fields import FieldForm
from kyklon.model.casework import PURPOSES, WALLS, Opening
from kyklon.operations.assembly.holding import sockets
from kyklon.operations.assembly.reach import changed_opening, with_opening, without_opening

_NEW = ""
_SIZES = (("wide", "Width"), ("high", "Height"), ("along", "Middle, along"), ("up", "Middle, up"))
_HELP = (
    "Along: from the left inner corner, for a side wall from the front. Up: from the inner floor, for lid and floor "
    "from the front. Cut in scrap first; an old case cannot be bought again."
)


class OpeningsDialog(QDialog):
    """Every change goes into the build at once, and can be undone there."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Openings")
        self.session = session
        theme = session.theme
        self.which = Choice(theme, "Opening", self._show)
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the opening")
        self.name.setPlaceholderText("old socket")
        self.wall = Choice(theme, "Wall", lambda _value: None)
        self.wall.set_choices(tuple((wall, wall) for wall in WALLS), "back")
        self.purpose = Choice(theme, "For", lambda _value: None)
        self.purpose.set_choices(tuple(PURPOSES.items()), "")
        self.round = QCheckBox("round")
        self.round.toggled.connect(lambda on: self.fields["high"].setEnabled(not on))
        self.fields: dict[str, QDoubleSpinBox] = {}
        grid = QGridLayout()
        grid.addWidget(label("Name", "small"), 0, 0)
        grid.addWidget(self.name, 0, 1, 1, 3)
        grid.addWidget(label("Wall", "small"), 1, 0)
        grid.addWidget(self.wall, 1, 1)
        grid.addWidget(label("For", "small"), 1, 2)
        grid.addWidget(self.purpose, 1, 3)
        for number, (name, words) in enumerate(_SIZES):
            field = QDoubleSpinBox()
            field.setRange(0.5 if name in ("wide", "high") else -100, 1000)
            field.setDecimals(1)
            field.setSuffix("\u202fmm")
            field.setAccessibleName(words)
            field.setValue(20)
            self.fields[name] = field
            grid.addWidget(label(words, "small"), 2 + number // 2, 2 * (number % 2))
            grid.addWidget(field, 2 + number // 2, 2 * (number % 2) + 1)
        grid.addWidget(self.round, 4, 1)
        self._drop = button("Remove it", self.drop, "quiet")
        self._said = label("", "stop", wrap=True)
        self._said.setVisible(False)
        self._held = FieldForm(theme, ("assembly.sockets_held", "assembly.plate"), self._edit)
        self._grip = label("", "muted", wrap=True)
        layout = column(
            row(self.which, 1, self._drop),
            grid,
            label(_HELP, "muted", wrap=True),
            self._said,
            row(1, button("Save opening", self.keep, "outline")),
            label("Panel sockets", "section"),
            self._held,
            self._grip,
            row(1, button("Done", self.accept, "primary")),
            spacing=12,
            margins=(20, 18, 20, 16),
        )
        self.setLayout(layout)
        self.setMinimumWidth(round(theme.px(500)))
        self._offer(session.build.assembly.openings[0].id if session.build.assembly.openings else _NEW)

    def _edit(self, path: str, value: object) -> None:
        self.session.edit(path, value)
        self._offer(self.which.value)

    def _offer(self, chosen: str) -> None:
        rows = tuple((opening.id, opening.name) for opening in self.session.build.assembly.openings)
        self.which.set_choices((*rows, (_NEW, "a new opening")), chosen)
        self._show(chosen)

    def _show(self, name: str) -> None:
        build = self.session.build
        known = next((opening for opening in build.assembly.openings if opening.id == name), None)
        self._drop.setEnabled(known is not None)
        if known is not None:
            self.name.setText(known.name)
            self.wall.set_choices(tuple((wall, wall) for wall in WALLS), known.wall)
            self.purpose.set_choices(tuple(PURPOSES.items()), known.purpose)
            self.round.setChecked(known.round)
            for field, value in (("wide", known.wide), ("high", known.high or known.wide)):
                self.fields[field].setValue(value)
            self.fields["along"].setValue(known.along)
            self.fields["up"].setValue(known.up)
        else:
            self.name.clear()
        self._held.show_build(build, {})
        held = sockets(build, self.session.catalogue)
        loose = [row for row in held if not row.grip.holds]
        least = min((row.grip.bears_n - row.grip.pull_n for row in held), default=0.0)
        self._grip.setText(
            f"▲ {', '.join(row.name for row in loose)}: leaning on the plug pulls with "
            f"{loose[0].grip.pull_n:.0f}\u202fN, it holds {loose[0].grip.bears_n:.0f}\u202fN. Put a brace behind."
            if loose
            else f"They hold; at least {least:.0f}\u202fN are left when somebody leans on a plug."
            if held
            else ""
        )

    def keep(self) -> None:
        """The opening as it is typed, a new one or the chosen one changed."""
        build, name = self.session.build, self.which.value
        number = next(n for n in range(1, 99) if all(row.id != f"opening-{n}" for row in build.assembly.openings))
        values = {
            "name": self.name.text().strip(),
            "wall": self.wall.value,
            "purpose": self.purpose.value,
            "round": self.round.isChecked(),
            **{field: box.value() for field, box in self.fields.items()},
        }
        if values["round"]:
            values["high"] = 0.0
        try:
            opening = Opening.model_validate({"id": name or f"opening-{number}", **values})
            made = changed_opening(build, opening) if name else with_opening(build, opening)
        except ValueError:
            self._said.setText("It needs a name, a wall and a size.")
            self._said.setVisible(True)
            return
        self._said.setVisible(False)
        self.session.put("Opening", made)
        self._offer(opening.id)

    def drop(self) -> None:
        """Without the opening that is shown."""
        if self.which.value:
            self.session.put("Opening removed", without_opening(self.session.build, self.which.value))
        self._offer(_NEW)
