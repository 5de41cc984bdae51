"""Changing facts of a part of one's own: the same fields as in learning, checked at the field."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QDialog, QWidget

from kyklon.app.pages.shelf.draft_form import DraftForm
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import button, column, label, row, scrolled
from kyklon.catalogue.records import CataloguePart
from kyklon.parts.draft import Draft
from kyklon.parts.fields import fields_of
from kyklon.parts.store import plain_row, today


class EditDialog(QDialog):
    """changes: fields and values to put into the part, with where they come from."""

    def __init__(self, kind: str, part: CataloguePart, theme: Theme, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"Change {part.name}")
        self.changes: dict[str, Any] = {}
        flat: dict[str, Any] = {}
        for field in fields_of(kind):
            outer, _, inner = field.name.rpartition(".")
            holder = getattr(part, outer, None) if outer else part
            value = getattr(holder, inner or field.name, None) if holder is not None else None
            if value is not None:
                flat[field.name] = value
        self._before = flat
        self.form = DraftForm(theme)
        asked = tuple(
            each.name for each in fields_of(kind) if each.name in flat or (each.empty and each.name in plain_row(part))
        )
        self.form.show_draft(Draft(kind, row=flat, known=dict(part.known), asked=asked))
        keep = button("Change it", self._on_keep, "primary")
        self._wrong = label("", "stop", wrap=True)
        self.setLayout(
            column(
                label(f"Change {part.name}", "section"),
                scrolled(self.form),
                self._wrong,
                row(1, button("Cancel", self.reject), keep),
                spacing=10,
                margins=(20, 18, 20, 16),
            )
        )
        self.resize(round(theme.px(640)), round(theme.px(560)))

    def _on_keep(self) -> None:
        if self.form.wrong:
            self._wrong.setText(f"■ {self.form.wrong}")
            return
        row_now = self.form.draft.row
        changed = {name: value for name, value in row_now.items() if self._before.get(name) != value}
        if changed:
            known = {name: {"how": "typed", "at": today()} for name in changed}
            self.changes = {**changed, "known": known}
        self.accept()
