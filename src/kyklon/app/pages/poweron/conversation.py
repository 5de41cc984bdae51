"""The fault finder as a conversation: the next step, what you saw, what is likely and why. It shows a case; what is
answered goes out as signals."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QSizePolicy, QVBoxLayout, QWidget

from kyklon.app.pages.poweron.cause_bars import CauseBars
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, line_pitch, row, scrolled, set_tip
from kyklon.app.widgets.kept import emptied
from kyklon.base.quantities import show_minutes, show_share
from kyklon.catalogue.fault_records import Observation
from kyklon.faults.finder import Case, Likely, Next
from kyklon.model.findings import Remedy

_MOST_REASONS = 7
_OTHERS = 4  # next best steps that are offered


class Conversation(QWidget):
    """Left: the next step and what was said; right: what is likely."""

    answered = pyqtSignal(str, object)  # an observation's id; True, False, or None for 'cannot tell'
    tried = pyqtSignal(str, bool)  # a cause's id, and whether it was that
    taken_back = pyqtSignal()
    seen = pyqtSignal(str)  # a symptom that the user adds
    remedy_asked = pyqtSignal(object, str)  # Remedy, title
    preferred = pyqtSignal()  # another step than the best is wanted

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self._chosen = self._wanted = self._picked = ""  # picked: a cause that the user clicked
        self._likely: tuple[Likely, ...] = ()
        self._remedies: Mapping[str, Remedy] = {}
        self._step: Next | None = None
        self._next = Sheet("Next")
        self._ask, self._how = label("", "strong", wrap=True), label("", wrap=True)
        self._cost, self._caution = label("", "muted", wrap=True), label("", "warning", wrap=True)
        self._yes = button("Yes", lambda: self._answer(True), "primary")
        self._no = button("No", lambda: self._answer(False))
        self._cannot = button("Cannot tell", lambda: self._answer(None), "quiet")
        self._next.add(
            scrolled(column(self._ask, self._how, self._cost, self._caution, 1, spacing=5)),
            row(self._yes, self._no, self._cannot, 1),
        )
        self._others = QVBoxLayout()
        self._others.setSpacing(0)
        self._others.setContentsMargins(0, 4, 0, 0)
        self._next.add(label("Or instead", "small"), self._others)
        self._said = Sheet("What you saw")
        self._add = Choice(theme, "A symptom you see", self._on_symptom_chosen)
        self._list = QVBoxLayout()
        self._list.setSpacing(2)
        self._list.setContentsMargins(0, 0, 0, 0)
        self._back = button("Undo answer", self.taken_back.emit, "quiet", tip="Undo the last answer")
        held = QWidget()
        held.setLayout(column(self._list, 1))
        add = row(self._add, self._back)
        add.setStretch(0, 1)
        self._said.add(add, scrolled(held))
        self._bars = CauseBars(theme)
        self._bars.chosen.connect(self._on_cause_chosen)
        self._causes = Sheet("Likely causes")
        self._causes.add(scrolled(self._bars))
        self._why = Sheet("Why")
        self._reasons = QGridLayout()
        self._reasons.setContentsMargins(0, 0, 0, 0)
        self._reasons.setHorizontalSpacing(8)
        self._reasons.setVerticalSpacing(3)
        self._reasons.setColumnStretch(1, 1)
        reasons = QWidget()
        reasons.setLayout(column(self._reasons, 1))
        self._cure = label("", wrap=True)
        self._found = button("This was the cause", lambda: self.tried.emit(self._chosen, True))
        self._not_this = button("Fixed, still failing", lambda: self.tried.emit(self._chosen, False), "quiet")
        self._remedy = button("", self._on_remedy_clicked, "outline")
        self._why.add(scrolled(reasons), self._cure, self._remedy, row(self._found, self._not_this, 1))
        left = column(self._next, self._said, spacing=14)
        left.setStretch(0, 5)
        left.setStretch(1, 3)
        right = column(self._causes, self._why, spacing=14)
        right.setStretch(0, 5)
        right.setStretch(1, 5)
        whole = row(left, right, spacing=14)
        whole.setStretch(0, 1)
        whole.setStretch(1, 1)
        self.setLayout(whole)

    @property
    def step(self) -> Next | None:
        """What is asked for now."""
        return self._step

    # --- showing -------------------------------------------------------------------------------------------------

    def show_case(
        self, case: Case, ranked: tuple[Likely, ...], ways: tuple[Next, ...], remedies: Mapping[str, Remedy]
    ) -> None:
        """Show a case. ways: the steps that can be taken, the best first. remedies: what one click does, by cause."""
        self._remedies = remedies
        step = next((each for each in ways if each.id == self._wanted), ways[0] if ways else None)
        self._likely, self._step = ranked, step
        ids = [likely.cause.id for likely in ranked]
        self._chosen = self._picked if self._picked in ids else ids[0] if ids else ""
        self._bars.show_causes(ranked, self._chosen)
        self._show_step(step)
        self._show_others([each for each in ways if each is not step][:_OTHERS])
        self._show_said(case)
        self._show_reasons()
        self._back.setEnabled(bool(case.answers))

    def _show_step(self, step: Next | None) -> None:
        for widget in (self._yes, self._no, self._cannot):
            widget.setVisible(step is not None)
        if step is None:
            self._ask.setText("No more checks to ask for.")
            self._how.setText("Enter what you see, or start a new case.")
            self._cost.setText("")
            self._caution.setVisible(False)
            return
        own = step.observation or step.cause
        assert own is not None
        trying = step.cause is not None
        self._ask.setText(f"{step.cause.try_}." if step.cause else step.observation.ask if step.observation else "")
        how = "Then switch on: does it run now?" if trying else step.observation.how if step.observation else ""
        self._how.setText(how)
        self._how.setVisible(bool(how))
        cost = [
            show_minutes(step.minutes),
            f"needs {own.needs}" if own.needs else "",
            "some risk" if step.risk >= 1 else "",
        ]
        cost.append(f"yes in {show_share(step.yes)} of such cases")
        self._cost.setText(" · ".join(each for each in cost if each))
        self._caution.setText(own.caution)
        self._caution.setVisible(bool(own.caution))
        self._yes.setText("It runs" if trying else "Yes")
        self._no.setText("Still fails" if trying else "No")
        self._cannot.setText("Skip" if trying else "Cannot tell")

    def _show_others(self, ways: Sequence[Next]) -> None:
        """The next best steps, to choose one of them instead."""
        emptied(self._others)
        for each in ways:
            words = each.cause.try_ if each.cause else each.observation.name if each.observation else ""
            kind = "Try" if each.cause else "Check" if each.kind == "check" else "Look"
            instead = button(
                f"{kind}: {words}",
                lambda each=each: self._prefer(each),
                "link",
                tip=f"{words}: {show_minutes(each.minutes)}",
            )
            instead.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
            self._others.addWidget(instead)

    def _prefer(self, step: Next) -> None:
        """Ask for this one instead of the best."""
        self._wanted = step.id
        self.preferred.emit()

    def _show_said(self, case: Case) -> None:
        emptied(self._list)
        names = {observation.id: observation for observation in case.fault_model.observations}
        causes = {cause.id: cause.name for cause in case.fault_model.causes}
        gone = {earlier.id for earlier, _later in case.excluded}
        rows = [
            ("Left out" if what in gone else "Yes" if seen else "No", names[what].name)
            for what, seen in reversed(case.answers)
            if what in names
        ]
        rows += [("Fixed", causes.get(each, each)) for each in case.found]
        rows += [("Still failing", causes.get(each, each)) for each in case.tried]
        for word, text in rows:
            line = row(label(word, "muted"), label(text, wrap=True), spacing=8)
            line.itemAt(0).widget().setFixedWidth(round(self.theme.px(50)))
            line.setStretch(1, 1)
            self._list.addLayout(line)
        if not rows:
            self._list.addWidget(
                label("Describe the lamp, screen and sound: choose above, or answer the questions.", "muted", wrap=True)
            )
        answered = {what for what, _seen in case.answers}
        self._show_symptoms(
            [observation for observation in case.fault_model.observations if observation.id not in answered]
        )

    def _show_symptoms(self, left: Sequence[Observation]) -> None:
        choices = [("", "I see that …")]
        choices += [
            (observation.id, observation.name) for observation in left if observation.kind in ("symptom", "change")
        ]
        choices += [
            (observation.id, f"Checked: {observation.name}") for observation in left if observation.kind == "check"
        ]
        self._add.set_choices(tuple(choices), "")

    def _show_reasons(self) -> None:
        emptied(self._reasons)
        found = next((each for each in self._likely if each.cause.id == self._chosen), None)
        for widget in (self._found, self._not_this, self._cure):
            widget.setVisible(found is not None)
        remedy = self._remedies.get(self._chosen)
        self._remedy.setVisible(remedy is not None)
        if remedy is not None:
            self._remedy.setText(f"Preview: {remedy.label}" if remedy.changes else remedy.label)
        if found is None:
            return
        self._why.set_title("Why")
        self._why.set_note(found.cause.name)
        for index, reason in enumerate(found.reasons[:_MOST_REASONS]):
            figure = "" if abs(reason.times - 1) < 0.05 else f"× {reason.times:.1f}" if reason.times < 100 else "× 100+"
            if reason.times < 0.1:
                figure = f"÷ {1 / max(reason.times, 1e-4):.0f}"
            mark = label(figure, "muted")
            mark.setFont(self.theme.mono("label"))
            mark.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop)
            self._reasons.addWidget(mark, index, 0)
            self._reasons.addWidget(label(reason.text, wrap=True), index, 1)
        cause = found.cause
        self._cure.setText(
            f"{cause.try_}. {show_minutes(cause.minutes)}." + (f" {cause.caution}" if cause.caution else "")
        )
        set_tip(self._found, "Fixed, and the machine runs now")
        self._cure.setMinimumHeight(line_pitch(self._cure))

    # --- acting --------------------------------------------------------------------------------------------------

    def _answer(self, seen: bool | None) -> None:
        if self._step is None:
            return
        if self._step.cause is not None and seen is not None:
            self.tried.emit(self._step.id, seen)
        else:
            self.answered.emit(self._step.id, seen)

    def _on_remedy_clicked(self) -> None:
        found = next((each for each in self._likely if each.cause.id == self._chosen), None)
        if found is not None and self._chosen in self._remedies:
            self.remedy_asked.emit(self._remedies[self._chosen], found.cause.name)

    def _on_symptom_chosen(self, what: str) -> None:
        if what:
            self.seen.emit(what)

    def _on_cause_chosen(self, cause: str) -> None:
        self._chosen = self._picked = cause
        self._bars.show_causes(self._likely, cause)
        self._show_reasons()
