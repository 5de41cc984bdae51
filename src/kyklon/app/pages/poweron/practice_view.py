"""Exercises: a machine that fails, to be found by checks that cost minutes."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QWidget

from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row, scrolled, set_role
from kyklon.app.widgets.kept import emptied
from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.base.quantities import show_minutes
from kyklon.faults import drills
from kyklon.faults.drills import DrillFile, State

_WHAT_FOR = (
    "Choose an exercise. A fault is hidden in a copy of this build and its card; each check costs minutes. "
    "Use as few as you can."
)


class PracticeView(QWidget):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.theme = session, session.theme
        self._kept: DrillFile | None = None
        self._state: State | None = None
        self._ended = False
        self._list = QGridLayout()
        self._list.setContentsMargins(0, 0, 0, 0)
        self._list.setHorizontalSpacing(10)
        self._list.setVerticalSpacing(1)
        self._list.setColumnStretch(1, 1)
        held = QWidget()
        held.setLayout(column(self._list, 1))
        levels = Sheet("Exercises", "twenty machines that fail")
        levels.add(scrolled(held))
        levels.setFixedWidth(round(self.theme.px(290)))
        self._story = Sheet("The machine")
        self._told = label(_WHAT_FOR, wrap=True)
        self._seen = label("", wrap=True)
        self._seen.setAlignment(Qt.AlignmentFlag.AlignTop)
        self._story.add(self._told, scrolled(self._seen))
        self._act = Sheet("Your next step")
        self._check = Choice(self.theme, "A check", lambda _key: None)
        self._cause = Choice(self.theme, "A cause", lambda _key: None)
        self._check_button = button("Check", self._on_check_clicked, "primary")
        self._try_button = button("Fix it", self._on_try_clicked)
        checks, tries = row(self._check, self._check_button), row(self._cause, self._try_button)
        checks.setStretch(0, 1)
        tries.setStretch(0, 1)
        self._score = label("", "strong", wrap=True)
        self._act.add(checks, tries, self._score)
        right = column(self._story, self._act, spacing=14)
        right.setStretch(0, 1)
        whole = row(levels, right, spacing=14)
        whole.setStretch(1, 1)
        self.setLayout(whole)

    @property
    def state(self) -> State | None:
        return self._state

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the drills; what was reached is read once."""
        if self._kept is None:
            self._read()
        self._show_state()

    def _read(self) -> None:
        def read(_watch: Watch) -> DrillFile:
            self.session.catalogue.warm_late()
            return drills.read(drills.file())

        self.session.jobs.start("Reading the exercises", read, self._take, bad=self._failed, cancellable=False)

    def _take(self, kept: DrillFile) -> None:
        self._kept = kept
        self._show_list()

    def _failed(self, bad: KyklonError) -> None:
        self._kept = DrillFile()
        self.session.said.emit(str(bad))
        self._show_list()

    def _show_list(self) -> None:
        emptied(self._list)
        kept = self._kept or DrillFile()
        for line, drill in enumerate(drills.drills(self.session.catalogue)):
            best = kept.progress.get(drill.id, drills.Progress()).best
            number = label(str(drill.level), "muted")
            number.setFont(self.theme.mono("label"))
            begin = button(drill.name, lambda drill=drill: self.begin(drill.level), "quiet", tip=drill.told)
            figure = label(f"{best}\u202f%" if best else "", "muted")
            figure.setFont(self.theme.mono("label"))
            self._list.addWidget(number, line, 0, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self._list.addWidget(begin, line, 1, Qt.AlignmentFlag.AlignLeft)
            self._list.addWidget(figure, line, 2, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)

    def _show_state(self) -> None:
        state = self._state
        open_ = state is not None and not state.solved
        for widget in (self._check, self._cause, self._check_button, self._try_button):
            widget.setEnabled(open_)
        self._act.setVisible(state is not None)
        if state is None:
            return
        self._story.set_title(f"{state.drill.level}  {state.drill.name}")
        self._told.setText(f"“{state.drill.told}”")
        names = {observation.id: observation.name for observation in state.fault_model.observations}
        causes = {cause.id: cause.name for cause in state.fault_model.causes}
        seen = [f"•  {names[what]}" for what, yes in state.case.answers if yes and what not in state.kept.asked]
        asked = [
            f"{'Yes' if dict(state.case.answers)[what] else 'No'}: {names[what]}"
            for what in state.kept.asked
            if what in dict(state.case.answers)
        ]
        asked += [f"Fixed, still failing: {causes[each]}" for each in state.kept.named if each not in state.found]
        asked += [f"Fixed: {causes[each]}" for each in state.found]
        self._seen.setText("\n".join([*seen, "", *asked]))
        ways = drills.offered(state)
        self._check.set_choices(
            tuple(
                (step.id, f"{show_minutes(step.minutes + step.risk)}  {step.observation.ask}")
                for step in ways
                if step.observation
            ),
            "",
        )
        self._cause.set_choices(
            tuple((step.id, f"{show_minutes(step.minutes)}  {step.cause.name}") for step in ways if step.cause), ""
        )
        self._show_score(state)

    def _show_score(self, state: State) -> None:
        spent = f"{show_minutes(state.minutes)} spent."
        if state.solved:
            best = f"The best possible is {show_minutes(state.best)}: {state.score}\u202f%."
            words = f"Found in {show_minutes(state.minutes)}. {best}"
        elif state.found:
            words = f"That was one fault, but it still fails. {spent}"
        elif state.kept.named:
            words = f"It still fails. {spent}"
        else:
            words = spent
        self._score.setText(words)
        set_role(self._score, "good" if state.solved else "strong")

    # --- acting --------------------------------------------------------------------------------------------------

    def begin(self, level: int, seed: str = "") -> None:
        """Begin a drill; the machine is made in the background. seed: a certain one, by chance without it."""
        session = self.session
        build, folder, catalogue = session.build, session.folder, session.catalogue

        def work(watch: Watch) -> State:
            kept = drills.begin(drills.by_level(catalogue, level), seed)
            return drills.state_of(kept, build, folder, catalogue, watch)

        def done(state: State) -> None:
            self._state, self._ended = state, False
            self._show_state()

        session.jobs.start(f"Hiding a fault, level {level}", work, done)

    def check(self, what: str) -> None:
        """Make a check."""
        if self._state is not None:
            self._go_on(drills.checked(self._state, what))

    def _on_check_clicked(self) -> None:
        if self._state is not None and self._check.value:
            self._go_on(drills.checked(self._state, self._check.value))

    def _on_try_clicked(self) -> None:
        if self._state is not None and self._cause.value:
            self._go_on(drills.tried(self._state, self._cause.value))

    def _go_on(self, state: State) -> None:
        self._state = state
        self._show_state()
        if not state.solved or self._ended:
            return
        self._ended = True

        def keep(_watch: Watch) -> DrillFile:
            drills.ended(drills.file(), state)
            return drills.read(drills.file())

        told = f"{show_minutes(state.minutes)}; the best possible is {show_minutes(state.best)}."
        self.session.log(90, f"Exercise {state.drill.level} solved: {state.score} %", told)
        self.session.jobs.start("Saving the score", keep, self._take, bad=self._failed, cancellable=False)
