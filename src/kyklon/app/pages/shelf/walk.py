"""What every learning walk has: a way back, a source, a drawing, the questions, and the shelf at the end."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QLineEdit, QWidget

from kyklon.app.pages.shelf.draft_form import DraftForm
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import FigureRows, Sheet, button, column, label, row, scrolled, set_role
from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.parts.draft import Draft
from kyklon.parts.fields import one
from kyklon.parts.learning import learn, with_choices
from kyklon.parts.store import id_of
from kyklon.parts.system import free_id


class Walk(QWidget):
    """Subclasses build their source and drawing, and hand drafts to take(). saved: kind and id of what is on the
    shelf."""

    saved = pyqtSignal(str, str)
    left = pyqtSignal()
    kind = "displays"
    title = "Learn a part"
    first = "Choose what to learn it from."

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.theme = session, session.theme
        self.draft: Draft | None = None
        self.form = DraftForm(self.theme)
        self.form.changed.connect(self._on_answered)
        self._name = QLineEdit()
        self._name.setAccessibleName("Name")
        self._name.setPlaceholderText("What you call it")
        self._save = button("Add to the shelf", self.save, "primary")
        self._wrong = label("", "small", wrap=True)
        self._told = label("", "warning", wrap=True)
        self._about = FigureRows(self.theme)
        self._questions = Sheet("Questions", "units as you like: mA, inch, AWG, MHz")
        self._hint = label(self.first, "muted", wrap=True)
        self._questions.add(
            self._hint,
            scrolled(self.form),
            self._told,
            row(label("Name", "small"), self._name),
            self._wrong,
            row(1, self._save),
        )
        self._questions.body.setStretch(1, 1)
        self._questions.setMinimumWidth(round(self.theme.px(372)))
        self.side = self.make_side()
        heading = row(button("Back to the shelf", self.left.emit, "quiet"), label(self.title, "title"), 1, spacing=12)
        beside = scrolled(self.side)
        beside.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)  # at twice the text size
        middle = row(beside, self._questions, spacing=14)
        middle.setStretch(0, 6)
        middle.setStretch(1, 5)
        layout = column(heading, middle, spacing=10, margins=(18, 8, 16, 12))
        layout.setStretch(1, 1)
        self.setLayout(layout)
        self._show()

    def make_side(self) -> QWidget:
        """The left half: where it is learnt from, and what is drawn of it."""
        raise NotImplementedError

    def refresh(self) -> None:
        """The shelf or the build has changed."""

    def end(self) -> None:
        """The walk is left: let go of what it holds."""

    # --- the draft -----------------------------------------------------------------------------------------------

    def take(self, draft: Draft) -> None:
        """A draft was learnt."""
        self.draft = with_choices(draft, self.session.catalogue)
        name = str(self.draft.row.get("name", ""))
        if name and not self._name.isModified():
            self._name.setText(name)
        self._show()

    def _on_answered(self, draft: Draft) -> None:
        self.draft = draft
        self._show()

    def _show(self) -> None:
        draft = self.draft
        self._hint.setVisible(draft is None)
        self.form.setVisible(draft is not None)
        self._save.setEnabled(draft is not None)
        told = draft.told if draft else ()
        self._told.setText("\n".join(told[:8]) + (f"\n… and {len(told) - 8} more" if len(told) > 8 else ""))
        self._told.setVisible(bool(told))
        self._say("")
        if draft is not None:
            self.form.show_draft(draft)
            self._about.set_rows(draft.about)
        if (sheet := self._about.parentWidget()) is not None and sheet is not self:
            sheet.setVisible(bool(draft and draft.about))
        self.show_draft(draft)

    def show_draft(self, draft: Draft | None) -> None:
        """Draw what is known."""

    def _say(self, words: str) -> None:
        self._wrong.setText(f"■ {words}" if words else "")
        set_role(self._wrong, "stop" if words else "small")
        self._wrong.setVisible(bool(words))

    def ready(self) -> Draft:
        """The draft as it goes on the shelf. Raises ValueError or KyklonError for what is missing."""
        assert self.draft is not None
        return self.draft.agreed()

    def save(self) -> None:
        """Put the part on the shelf, or say what is missing."""
        if self.draft is None:
            return
        if self.form.wrong:
            self._say(self.form.wrong)
            return
        name = self._name.text().strip()
        if not name:
            self._say("Give it a name.")
            return
        if name.lower() in {part.name.lower() for part in self.session.parts.shelf.parts[self.draft.kind].values()}:
            self._say(f"There is already a {one(self.draft.kind)} called {name}: choose another name.")
            return
        try:
            draft = self.ready()
            part_id = free_id(id_of(name), self.session.parts.shelf.parts[draft.kind])
            draft.part(name, part_id)
            table = draft.as_row(name, part_id)
        except KyklonError as bad:
            self._say(str(bad))
            return
        except ValueError as bad:
            self._say(f"{bad}.")
            return
        kind = draft.kind
        self.session.log(
            10,
            f"Learnt the {one(kind)} {name}",
            "\n".join(f"{key}: {known.how} {known.by}".strip() for key, known in draft.known.items()),
        )
        self.session.parts.act(
            lambda store: store.add(kind, table), f"{name} is on the shelf.", lambda: self.saved.emit(kind, part_id)
        )

    # --- sources -------------------------------------------------------------------------------------------------

    def ask_file(self, title: str, kinds: str, then: Callable[[Path], object]) -> None:
        path, _kind = QFileDialog.getOpenFileName(self, title, str(self.session.folder), kinds)
        if path:
            then(Path(path))

    def learn(self, title: str, work: Callable[[Watch], Any], then: Callable[[Any], None]) -> None:
        """Read the thing in the background; what is wrong with it is said here."""
        self.session.jobs.start(title, work, then, bad=lambda bad: self._failed(bad))

    def _failed(self, bad: KyklonError) -> None:
        self._say(str(bad))
        self.session.said.emit(str(bad))

    def learn_from(self, what: str, path: Path) -> None:
        """A draft from a file or folder."""
        catalogue = self.session.catalogue
        self._name.setModified(False)
        self.learn(f"Learning from {path.name}", lambda watch: learn(what, path, catalogue, watch), self.take)

    @property
    def about(self) -> FigureRows:
        """Further facts that were read."""
        return self._about
