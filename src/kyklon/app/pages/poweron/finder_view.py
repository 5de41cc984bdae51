"""The fault finder at the open build."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from kyklon.app.pages.poweron.conversation import Conversation
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import button, column, label, row
from kyklon.base.quantities import show_share
from kyklon.catalogue.fault_records import Cause, Observation
from kyklon.faults import acts
from kyklon.faults.finder import Case, excluding, likely, steps
from kyklon.model.fault import FaultCase


class FinderView(QWidget):
    remedy_asked = pyqtSignal(object, str)  # Remedy, title

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._talk = Conversation(session.theme)
        self._talk.answered.connect(self._on_answered)
        self._talk.tried.connect(self._on_tried)
        self._talk.seen.connect(lambda what: self._on_answered(what, True))
        self._talk.remedy_asked.connect(self.remedy_asked.emit)
        self._talk.preferred.connect(self.refresh)
        self._talk.taken_back.connect(self._on_taken_back)
        self._told = label("", "muted", wrap=True)
        self._new = button(
            "New case", self._on_new_clicked, "quiet", tip="Save this case to the logbook and start a new one"
        )
        head = row(self._told, self._new)
        head.setStretch(0, 1)
        whole = column(head, self._talk, spacing=8)
        whole.setStretch(1, 1)
        self.setLayout(whole)

    @property
    def conversation(self) -> Conversation:
        return self._talk

    def case(self) -> Case:
        """The case as it is now."""
        session = self.session
        run = session.bring_up if session.bring_up_current else None
        return acts.case_of(session.build, session.catalogue, session.findings, run)

    def refresh(self) -> None:
        """Show the case."""
        session, case = self.session, self.case()
        record = session.build.fault
        belief = case.belief()
        ways = steps(case, belief, frozenset(record.cannot))
        run = session.bring_up if session.bring_up_current else None
        remedies = acts.remedies_of(case, session.findings, run)
        self._talk.show_case(case, likely(case, belief), ways, remedies)
        told = [excluding(pair) for pair in case.excluded]
        told += [] if session.bring_up_current else ["Run the bring-up first: its forecast saves many checks."]
        if not belief.exact:
            told.append(f"Sampled, within {show_share(belief.error)}.")
        if record.found:
            told.append("Found. If it still fails, keep answering; otherwise start a new case next time.")
        self._told.setText(" ".join(told) or "Symptoms, likely causes and the check that saves most time.")
        self._new.setEnabled(record.begun)

    # --- acting --------------------------------------------------------------------------------------------------

    def _on_answered(self, what: str, seen: object) -> None:
        record = self.session.build.fault
        if seen is None:
            self._put("Cannot tell", acts.put_aside(record, what))
            return
        names = {each.id: each.name for each in self.session.catalogue.all(Observation)}
        word = "Yes" if seen else "No"
        self._put(f"{word}: {names.get(what, what)}", acts.answered(record, what, bool(seen)))
        self.session.log(90, f"Fault finder: {names.get(what, what)}", word)

    def _on_tried(self, cause: str, helped: bool) -> None:
        record = acts.tried(self.session.build.fault, cause, helped=helped)
        names = {each.id: each.name for each in self.session.catalogue.all(Cause)}
        self._put(f"Tried: {names[cause]}", record)
        if helped:
            self.session.log(90, f"Found: {names[cause]}", acts.path_of(record, self.session.catalogue))
            self.session.remember_cure(cause)
        else:
            self.session.log(90, f"Fixed, still failing: {names[cause]}")

    def _on_taken_back(self) -> None:
        self._put("Undo an answer", acts.without_last(self.session.build.fault))

    def _on_new_clicked(self) -> None:
        record = self.session.build.fault
        self.session.log(90, "Fault case closed", acts.path_of(record, self.session.catalogue))
        self._put("New case", FaultCase())

    def _put(self, what: str, record: FaultCase) -> None:
        self.session.edit("fault", record, what)
