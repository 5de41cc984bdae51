"""Learning how a boot file is written: open a sample, say which line carries which decision, see it tried."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QWidget

from kyklon.app.pages.shelf.sample_view import SampleView
from kyklon.app.pages.shelf.walk import Walk
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row, scrolled, set_role
from kyklon.base.errors import KyklonError
from kyklon.base.quantities import counted
from kyklon.base.reading import bytes_of
from kyklon.parts import dialect
from kyklon.parts.dialect import Sample
from kyklon.parts.draft import Draft
from kyklon.parts.trees import TextFile, texts_in


class DialectWalk(Walk):
    kind = "dialects"
    title = "Learn a boot file format"
    first = (
        "Open a boot file of the board, on its own or inside an image of its card. Click a line and choose "
        "the setting it holds."
    )

    def make_side(self) -> QWidget:
        """Override."""
        self.sample: Sample | None = None
        self._line = 0
        self._names = dict(dialect.offered())
        self.view = SampleView(self.theme)
        self.view.chosen.connect(self._on_line)
        self._carries = Choice(self.theme, "Setting", self.carry)
        self._carries.setMinimumContentsLength(20)
        self._where = label("Click a line first", "small")
        self._path = QLineEdit()
        self._path.setAccessibleName("Path on the boot partition")
        self._path.editingFinished.connect(self._on_path)
        self._spelt = QHBoxLayout()
        self._trial = label("", "small", wrap=True)
        self._grammar = label("", "small", wrap=True)
        self._found: tuple[TextFile, ...] = ()
        self._texts = Choice(self.theme, "Boot file in the image", self._on_text)
        self._texts.setVisible(False)
        source = Sheet("Source")
        opening = row(
            button("Open a boot file…", self._ask, "outline"), button("From a card's image…", self._ask_image), 1
        )
        source.add(opening, self._texts, row(label("path on the boot partition", "small"), self._path))
        lines = Sheet("The sample", "the whole file, as it is understood now")
        lines.add(scrolled(self.view), row(self._where, self._carries, 1), self._spelt, self._grammar, self._trial)
        lines.body.setStretch(0, 1)
        side = QWidget()
        layout = column(source, lines, spacing=12)
        layout.setStretch(1, 1)
        side.setLayout(layout)
        return side

    def _ask(self) -> None:
        self.ask_file("A boot file", "All files (*)", self.open_sample)

    def _ask_image(self) -> None:
        kinds = "Images (*.img *.iso *.bin *.xz *.gz *.bz2 *.zst *.zip *.7z);;All files (*)"
        self.ask_file("An image with the boot file", kinds, self.look_into)

    def look_into(self, path: Path) -> None:
        """List the texts on an image's boot partition."""
        self.learn(f"Reading {path.name}", lambda watch: texts_in(path, watch), self._on_found)

    def _on_found(self, found: tuple[TextFile, ...]) -> None:
        self._found = found
        rows = tuple((text_file.path, text_file.path) for text_file in found)
        self._texts.set_choices((("", f"{len(found)} text files: choose the boot file"), *rows), "")
        self._texts.setVisible(True)

    def _on_text(self, path: str) -> None:
        found = next((each for each in self._found if each.path == path), None)
        if found is None:
            return
        try:
            sample = dialect.sample_of(found.data, found.path)
        except KyklonError as bad:
            self._say(str(bad))
            return
        self._line = 0
        self._take(sample)

    def open_sample(self, path: Path) -> None:
        """Read a sample in the background."""

        def taken(sample: Sample) -> None:
            self._line = 0
            self._take(sample)

        self.learn(
            f"Reading {path.name}",
            lambda _watch: dialect.sample_of(bytes_of(path, dialect.LARGEST + 1), path.name),
            taken,
        )

    def _on_path(self) -> None:
        path = self._path.text().strip().lstrip("/")
        if self.sample is not None and path:
            self._take(
                Sample(
                    path=path,
                    text=self.sample.text,
                    marks=self.sample.marks,
                    words=self.sample.words,
                    grammar=self.sample.grammar,
                )
            )

    def _on_line(self, number: int) -> None:
        self._line = number
        self._show()

    def carry(self, setting: str) -> None:
        """The chosen line carries this decision; '' for none."""
        if self.sample is None or not self._line:
            return
        try:
            self._take(self.sample.marked(self._line, setting))
        except ValueError as bad:
            self._say(f"{bad}.")

    def _spell(self, setting: str, value: str, word: str) -> None:
        if self.sample is not None and self.sample.words.get(setting, {}).get(value, "") != word.strip():
            self._take(self.sample.spelt(setting, value, word))

    def _take(self, sample: Sample) -> None:
        self.sample = sample
        self._path.setText(sample.path)
        if sample.marks:
            self.take(dialect.draft_of(sample))
        else:
            self.draft = None
            self._show()

    def ready(self) -> Draft:
        """Override. Raises ValueError for a sample that does not come back as it was."""
        assert self.sample is not None
        trial = dialect.tried(self.sample)
        if not trial.good:
            raise ValueError(trial.why or "The sample does not read back unchanged")
        return super().ready()

    def show_draft(self, draft: Draft | None) -> None:
        """Override."""
        sample = self.sample
        lines = sample.lines if sample else ()
        self.view.show_lines(lines, self._names, self._line)
        line = lines[self._line - 1] if 0 < self._line <= len(lines) else None
        self._where.setText(f"Line {line.number} holds" if line else "Click a line first")
        self._carries.setEnabled(line is not None)
        self._carries.set_choices((("", "no setting of this build"), *dialect.offered()), line.setting if line else "")
        self._show_spelling(line.setting if line else "")
        self._show_trial(sample)

    def _show_spelling(self, setting: str) -> None:
        while (item := self._spelt.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        values = dialect.values_of(setting) if setting and self.sample else ()
        if values:
            self._spelt.addWidget(label("is written as:", "small"))
        for value, words in values:
            edit = QLineEdit(self.sample.words.get(setting, {}).get(value, value) if self.sample else "")
            edit.setAccessibleName(f"{words} is written as")
            edit.setMaximumWidth(round(self.theme.px(90)))
            edit.editingFinished.connect(lambda edit=edit, value=value: self._spell(setting, value, edit.text()))
            self._spelt.addWidget(label(words, "small"))
            self._spelt.addWidget(edit)
        if values:
            self._spelt.addStretch(1)

    def _show_trial(self, sample: Sample | None) -> None:
        if sample is None:
            self._trial.setText("")
            self._grammar.setText("")
            return
        grammar = sample.grammar
        said = [
            f"separator “{grammar.separator}”" if grammar.separator.strip() else "spaces between key and value",
            f"comments start with “{grammar.remark}”",
        ]
        for value, words in (
            (grammar.prefix, "every key is prefixed with"),
            (grammar.ending, "every value ends with"),
            (grammar.quote, "values are enclosed in"),
            (grammar.section, "sections as"),
            (grammar.kernel_line, "kernel line in"),
        ):
            if value:
                said.append(f"{words} “{value.replace('{section}', 'name')}”")
        self._grammar.setText("Grammar: " + "; ".join(said) + ".")
        trial = dialect.tried(sample)
        odd = f" {counted(len(trial.odd), 'line')} not understood; left unchanged." if trial.odd else ""
        if trial.good:
            words = (
                "Tested: read, written and read again, byte for byte; every change reads back."
                if sample.marks
                else "Tested: the sample reads back byte for byte."
            )
        else:
            words = f"■ Test failed: {trial.why}"
        set_role(self._trial, "good" if trial.good else "stop")
        self._trial.setText(words + odd)
