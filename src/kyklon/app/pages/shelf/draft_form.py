"""The questions of a draft: each with its unit, its reason, and what is wrong with an answer at the field itself."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QLineEdit, QWidget

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Choice, column, label, set_role, set_tip
from kyklon.parts.draft import Draft
from kyklon.parts.field import PartField
from kyklon.parts.fields import fields_of

_YES_NO = (("", "choose"), ("yes", "yes"), ("no", "no"))


class _Row:
    """One field: its editor, what is said beside it, and what is wrong with what was typed."""

    def __init__(
        self, theme: Theme, field: PartField, choices: tuple[tuple[str, str], ...], typed: Callable[[_Row, str], object]
    ) -> None:
        self.field = field
        self.name = label(field.label, wrap=True)
        self.note = label("", "small", wrap=True)
        self.choices = choices or field.choices
        single = field.kind in ("choice", "switch") or bool(choices)
        self.editor: QWidget
        if single:
            made = Choice(theme, field.label, lambda value: typed(self, value))
            self._options = _YES_NO if field.kind == "switch" else (("", "choose"), *self.choices)
            made.set_choices(self._options, "")
            self.editor = made
        else:
            line = QLineEdit()
            line.setAccessibleName(field.label)
            line.setPlaceholderText(field.hint)
            line.editingFinished.connect(lambda: typed(self, line.text()))
            line.textEdited.connect(lambda _text: self.tell("", wrong=False))
            self.editor = line
        if self.choices and not single:
            set_tip(self.editor, "One or more of: " + ", ".join(value for value, _words in self.choices))
        self.wrong = False

    def show(self, text: str) -> None:
        if isinstance(self.editor, Choice):
            self.editor.set_choices(self._options, text)
        elif isinstance(self.editor, QLineEdit) and not self.wrong:
            self.editor.setText(text)
            self.editor.setCursorPosition(0)

    def tell(self, words: str, *, wrong: bool) -> None:
        if words or not wrong:
            self.note.setText(f"■ {words}" if wrong else words)
        set_role(self.note, "stop" if wrong else "small")
        self.wrong = wrong


class DraftForm(QWidget):
    """All fields of a draft, asked ones first. changed: with the new draft, after a right answer."""

    changed = pyqtSignal(object)  # Draft

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self.draft = Draft("displays")
        self._rows: dict[str, _Row] = {}
        self._layout = column(spacing=4)
        self.setLayout(self._layout)
        self._inner: QWidget | None = None
        self._shape: tuple[object, ...] = ()

    def show_draft(self, draft: Draft) -> None:
        """Show a draft; fields that are being typed into keep what was typed."""
        asked, read, usual = self._grouped(draft)
        shape = (
            draft.kind,
            tuple(each.name for each in (*asked, *read, *usual)),
            len(asked),
            len(read),
            str(draft.choices),
        )
        self.draft = draft
        if shape != self._shape:
            self._shape = shape
            self._build(asked, read, usual)
        for row in self._rows.values():
            self._fill(row)

    def _grouped(self, draft: Draft) -> tuple[list[PartField], list[PartField], list[PartField]]:
        """Fields that want an answer, fields that were read or measured, fields with a usual value."""
        asked, read, usual = [], [], []
        for field in fields_of(draft.kind):
            known = draft.known.get(field.name)
            if known is not None and known.how != "typed":
                read.append(field)
            elif field.name in draft.suggested or (
                field.name in draft.asked and field.default is None and not field.empty
            ):
                asked.append(field)
            elif field.name in draft.asked or field.name in draft.row:
                usual.append(field)
        return asked, read, usual

    def _build(self, asked: list[PartField], read: list[PartField], usual: list[PartField]) -> None:
        if self._inner is not None:
            self._inner.hide()  # it goes when the event that is under way has ended
            self._layout.removeWidget(self._inner)
            self._inner.deleteLater()
        self._inner = QWidget()
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(1)
        grid.setContentsMargins(0, 0, 6, 0)
        self._rows = {}
        at = 0
        for title, fields in (
            ("ASKED", asked),
            ("READ OR MEASURED", read),
            ("USUAL – CHANGE WHAT YOU KNOW BETTER", usual),
        ):
            if not fields:
                continue
            heading = label(title, "caption")
            heading.setContentsMargins(0, 6 if at else 0, 0, 0)
            grid.addWidget(heading, at, 0, 1, 2)
            at += 1
            for field in fields:
                row = self._rows[field.name] = _Row(
                    self._theme,
                    field,
                    self.draft.choices.get(field.name, ()) if field.kind != "words" or field.name == "dialects" else (),
                    self._on_typed,
                )
                grid.addWidget(row.name, at, 0)
                grid.addWidget(row.editor, at, 1)
                grid.addWidget(row.note, at + 1, 1)
                grid.setRowMinimumHeight(at + 2, 5)
                at += 3
        grid.setColumnStretch(1, 1)
        grid.setColumnMinimumWidth(0, round(self._theme.px(128)))
        self._inner.setLayout(column(grid, 1))
        self._layout.addWidget(self._inner)

    def _fill(self, row: _Row) -> None:
        draft, field = self.draft, row.field
        if row.wrong:
            return
        if field.name in draft.row:
            row.show(field.typed(draft.row[field.name]))
        elif field.name in draft.suggested:
            row.show(field.typed(draft.suggested[field.name]))
        else:
            row.show("" if field.default is None else field.typed(field.default))
        row.tell(self._said(field), wrong=False)

    def _said(self, field: PartField) -> str:
        draft = self.draft
        known = draft.known.get(field.name)
        if known is not None:
            return (
                f"{known.how} {'from' if known.how == 'read' else 'by'} {known.by}"
                if known.by and known.how != "typed"
                else "typed"
            )
        if field.name in draft.suggested and field.name in draft.because:
            return f"suggested: {draft.because[field.name]}"
        return f"in {field.unit}: {field.why}" if field.unit and field.why else field.why

    def _on_typed(self, row: _Row, text: str) -> None:
        shown = row.field.typed(
            self.draft.row.get(row.field.name, self.draft.suggested.get(row.field.name, row.field.default))
        )
        if text.strip() == shown.strip() and not row.wrong:
            return
        try:
            draft = self.draft.answered(row.field.name, text)
        except ValueError as bad:
            row.tell(str(bad), wrong=True)
            return
        row.wrong = False
        self.draft = draft
        row.tell(self._said(row.field), wrong=False)
        self.changed.emit(draft)

    @property
    def wrong(self) -> str:
        """What is wrong with the first answer that is, '' when none is."""
        return next(
            (f"{row.field.label}: {row.note.text().removeprefix('■ ')}" for row in self._rows.values() if row.wrong), ""
        )

    def editor(self, name: str) -> QWidget:
        """The editor of a field."""
        return self._rows[name].editor
