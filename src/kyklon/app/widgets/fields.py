"""Editors for fields of the build, made from what model.fields tells of each."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import Any

from PyQt6.QtWidgets import QCheckBox, QDoubleSpinBox, QGridLayout, QLineEdit, QWidget

from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Choice, label
from kyklon.model.build import Build
from kyklon.model.fields import Field, describe

Edit = Callable[[str, Any], object]  # path and value


class FieldEditor:
    """One field: a widget, and how it shows a value. choices: for one whose choices come from elsewhere."""

    def __init__(self, theme: Theme, path: str, edit: Edit) -> None:
        self.field = describe(Build, path)
        self._edit, self._shown = edit, ""
        self.widget = self._make(theme)
        self.widget.setAccessibleName(self.field.label)

    def _make(self, theme: Theme) -> QWidget:
        field = self.field
        if field.kind == "switch":
            box = QCheckBox()
            box.clicked.connect(lambda on: self._edit(field.path, bool(on)))
            return box
        if field.kind == "number" and not field.choices:
            return _spin(field, self._edit)
        if field.kind in ("choice", "number") or field.path in CHOSEN:
            return Choice(theme, field.label, self._on_chosen)
        line = QLineEdit()
        line.setPlaceholderText(field.hint)
        line.editingFinished.connect(lambda: self._on_text(line))
        return line

    def _on_chosen(self, value: str) -> None:
        self._edit(self.field.path, int(value) if self.field.kind == "number" else value)

    def _on_text(self, line: QLineEdit) -> None:
        if line.text() == self._shown:  # nobody typed anything
            return
        self._edit(self.field.path, self.field.parse(line.text()))

    def show(self, value: Any, choices: tuple[tuple[str, str], ...] = ()) -> None:
        """Show a value without taking it for the user's."""
        widget = self.widget
        if isinstance(widget, QCheckBox):
            widget.setChecked(bool(value))
            widget.setText(self.field.words(bool(value)))
        elif isinstance(widget, QDoubleSpinBox):
            widget.blockSignals(True)
            widget.setValue(float(value))
            widget.blockSignals(False)
        elif isinstance(widget, Choice):
            widget.set_choices(choices or self.field.choices, str(value))
        elif isinstance(widget, QLineEdit):
            self._shown = self.field.words(value)
            widget.setText(self._shown)
            widget.setCursorPosition(0)


# fields whose choices come from the catalogue or from a card: the page hands them over
CHOSEN = ("boot.dialect", "boot.kernel", "boot.device_tree", "controls.panel", "controls.hotkey")


def _spin(field: Field, edit: Edit) -> QDoubleSpinBox:
    made = QDoubleSpinBox()
    made.setRange(field.low or 0.0, field.high if field.high is not None else 1e9)
    made.setDecimals(field.decimals)
    made.setSuffix(f"\u202f{field.unit}" if field.unit else "")
    made.setSpecialValueText(field.hint)
    made.setKeyboardTracking(False)
    made.valueChanged.connect(lambda value: edit(field.path, value))
    return made


class FieldForm(QWidget):
    """Fields one below the other, each with its name."""

    def __init__(self, theme: Theme, paths: tuple[str, ...], edit: Edit) -> None:
        super().__init__()
        self.editors = {path: FieldEditor(theme, path, edit) for path in paths}
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(5)
        grid.setContentsMargins(0, 0, 0, 0)
        self._names: dict[str, QWidget] = {}
        for index, (path, editor) in enumerate(self.editors.items()):
            self._names[path] = label(editor.field.label, "small")
            grid.addWidget(self._names[path], index, 0)
            grid.addWidget(editor.widget, index, 1)
        grid.setColumnStretch(1, 1)
        self.setLayout(grid)

    def show_only(self, paths: Collection[str]) -> None:
        """Hide the fields that mean nothing here."""
        for path, editor in self.editors.items():
            self._names[path].setVisible(path in paths)
            editor.widget.setVisible(path in paths)

    def show_build(self, build: Build, choices: dict[str, tuple[tuple[str, str], ...]]) -> None:
        """choices: by path, for fields that do not bring their own."""
        for path, editor in self.editors.items():
            value: Any = build
            for name in path.split("."):
                value = getattr(value, name)
            editor.show(value, choices.get(path, ()))
