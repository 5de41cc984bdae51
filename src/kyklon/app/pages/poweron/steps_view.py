"""The first power-on, step by step: what is to be seen and when; ticked with the time that it took."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QGridLayout, QWidget

from kyklon.app.pages.poweron.sim_screen import SimScreen
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Sheet, button, column, label, row, scrolled, set_tip, unmarked
from kyklon.app.widgets.kept import emptied
from kyklon.app.widgets.tick import Tick
from kyklon.catalogue.records import Display
from kyklon.operations.poweron.checklist import Item, items, measured_s


class StepsView(QWidget):
    finder_asked = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.theme = session, session.theme
        sheet = Sheet("First power-on", "tick what you see; the clock starts at power-on")
        self._grid = QGridLayout()
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(10)
        self._grid.setVerticalSpacing(7)
        self._grid.setColumnStretch(0, 1)
        held = QWidget()
        held.setLayout(column(self._grid, 1))
        sheet.add(scrolled(held))
        screen = Sheet("What to expect")
        self._screen = SimScreen(self.theme)
        screen.add(self._screen)
        aside = Sheet("Seeing something else?")
        self._not_so = label("", wrap=True)
        aside.add(self._not_so, button("To the fault finder", self.finder_asked.emit, "primary"), 1)
        side = column(screen, aside, spacing=14)
        side.setStretch(0, 1)
        side.setStretch(1, 1)
        for each in (screen, aside):
            each.setFixedWidth(round(self.theme.px(290)))
        self.setLayout(row(sheet, side, spacing=14))
        self._boxes: dict[str, tuple[QCheckBox, QWidget]] = {}

    def tick_of(self, key: str) -> QCheckBox:
        """The tick of a step."""
        return self._boxes[key][0]

    def refresh(self) -> None:
        """Show the steps with their ticks."""
        session = self.session
        run = session.bring_up
        wanted = items(session.build, session.catalogue, run)
        if list(self._boxes) != [item.key for item in wanted]:
            self._make(wanted)
        ticked = {tick.item: tick.at for tick in session.build.ticks}
        for item in wanted:
            tick, figure = self._boxes[item.key]
            tick.setChecked(item.key in ticked)
            tick.setText(unmarked(item.look))
            figure.setText(self._times(item, ticked))  # type: ignore[attr-defined] # a label
        open_ = next((item for item in wanted if item.key not in ticked), None)
        self._not_so.setText(
            f"{open_.look} If not: {open_.otherwise}" if open_ else "Everything is ticked: sign it off above."
        )
        display = session.catalogue.find(Display, session.build.part("display"))
        aspect = display.aspect[0] / display.aspect[1] if display else 4 / 3
        lamp = run.events[-1].lamp if run and run.events else None
        self._screen.show_screen(run.screen if run else None, lamp, aspect)

    def _times(self, item: Item, ticked: dict[str, str]) -> str:
        """Expected beside measured."""
        words = []
        if item.expected_s is not None and item.key != "power":
            words.append(f"at {_seconds(item.expected_s)}")
        seen = measured_s(self.session.build, item.key)
        if seen is not None and item.expected_s is not None:
            words.append(f"seen at {_seconds(seen)}")
        elif item.key in ticked:
            words.append(ticked[item.key][11:16])
        return ", ".join(words)

    def _make(self, wanted: tuple[Item, ...]) -> None:
        emptied(self._grid)
        self._boxes = {}
        line = 0
        for item in wanted:
            tick = Tick(unmarked(item.look))
            set_tip(tick, f"If not: {item.otherwise}")
            tick.clicked.connect(lambda on, item=item: self.session.tick(item.key, item.look, on=on))
            figure = label("", "muted")
            figure.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self._grid.addWidget(tick, line, 0)
            self._grid.addWidget(figure, line, 1)
            self._boxes[item.key] = (tick, figure)
            line += 1
            if item.caution:
                self._grid.addWidget(label(item.caution, "warning", wrap=True), line, 0, 1, 2)
                line += 1


def _seconds(seconds: float) -> str:
    return f"{seconds:.0f}\u202fs" if seconds < 120 else f"{seconds / 60:.0f}\u202fmin"
