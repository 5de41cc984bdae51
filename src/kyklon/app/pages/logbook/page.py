"""The logbook: what was done and when; own entries with photos and values, differences, going back."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import Qt, QTimer, QUrl, pyqtSlot
from PyQt6.QtGui import QDesktopServices, QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QDialog, QFileDialog, QLineEdit, QVBoxLayout, QWidget

from kyklon.app.pages.logbook.book_drawings import drawings
from kyklon.app.pages.logbook.book_pdf import pdf_of_book
from kyklon.app.pages.logbook.class_dialog import ClassDialog
from kyklon.app.pages.logbook.entry_list import PIECE, EntryList, EntryModel
from kyklon.app.pages.logbook.measured_plot import MeasuredPlot, Row
from kyklon.app.pages.tab_view import side_px
from kyklon.app.session.session import Session
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Choice, Sheet, TextBox, button, column, label, row, scrolled
from kyklon.app.widgets.instrument import Instrument
from kyklon.app.widgets.kept import emptied
from kyklon.base import durable
from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.base.quantities import counted, show_bytes, show_duration
from kyklon.base.shown import visible
from kyklon.operations.book.blocks import Picture
from kyklon.operations.book.compose import Material, compose
from kyklon.operations.book.compose import card as one_page
from kyklon.record import archive, outcomes, photos
from kyklon.record.changes import Differences, between_states
from kyklon.record.entered import noted_of
from kyklon.record.logbook import Entry, Logbook, Verified, noted_words

_NOTHING = "What you do is logged here automatically."
_MOST_LINES = 400  # of differences that are shown
Summary = tuple[tuple[Entry, ...], dict[str, tuple[Row, ...]], tuple[float, float], outcomes.Score]


class LogbookPage(QWidget):
    cautions: tuple[str, ...] = ()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setAcceptDrops(True)
        self.model = EntryModel(self._more)
        self.list = EntryList(session.theme, self.model)
        selection = self.list.selectionModel()
        assert selection is not None
        selection.selectionChanged.connect(lambda _on, _off: self._on_chosen())
        self._words, self._own, self._value, self._spent = QLineEdit(), QLineEdit(), QLineEdit(), QLineEdit()
        for line, hint, name in (
            (self._words, "Search, for example: card written", "Search the logbook"),
            (self._own, "Add an entry of your own", "Your entry"),
            (self._value, "Measured: 5 V rail=4.71 V", "Measured value"),
            (self._spent, "Spent: 12.50 or 40min", "Money or time spent"),
        ):
            line.setPlaceholderText(hint)
            line.setAccessibleName(name)
        self._words.textChanged.connect(lambda _text: self.refresh())
        for line in (self._own, self._value, self._spent):
            line.returnPressed.connect(self._on_add_clicked)
        self._files: list[Path] = []
        self._attach = button("Photo or file…", self._on_attach_clicked, tip="Or drop it on this page")
        self._asked: tuple[str, int] = ("", -1)
        self.summary: Summary = ((), {}, (0.0, 0.0), outcomes.Score(0, 0))
        self._build()
        session.logged.connect(self._on_logged)

    @pyqtSlot()
    def _on_logged(self) -> None:
        if self.isVisible():
            self.refresh()

    def _build(self) -> None:
        theme = self.session.theme
        self._sheet = Sheet("Entries")
        self._empty = label(_NOTHING, "muted")
        self._sheet.add(self._empty, self.list)
        self._sheet.body.setStretch(1, 1)
        heading = row(
            label("Logbook", "title"),
            1,
            self._words,
            button("Verify", self.verify, "quiet", tip="Whether an entry was changed or is missing"),
            button("Archive…", self.ask_archive, "quiet", tip="The whole build as one file"),
            button("Class…", self.open_class, "quiet", tip="The route as a lesson for a group"),
            button("Cabinet card…", lambda: self.ask_book(card=True), "quiet", tip="One page: how to use the machine"),
            button("Book…", self.ask_book, tip="Everything as one PDF, with drawings and photos"),
            spacing=12,
        )
        heading.setStretch(2, 2)
        write = row(
            self._own, self._value, self._spent, self._attach, button("Add entry", self._on_add_clicked, "outline")
        )
        for place, stretch in ((0, 5), (1, 3), (2, 2)):
            write.setStretch(place, stretch)
        self._title = label("", "section", wrap=True)
        self._about = label("", "muted", wrap=True)
        self._lines = TextBox()
        self._lines.setReadOnly(True)
        self._lines.setAccessibleName("Differences")
        self._restore = button("Restore this entry…", self.ask_restore, "outline")
        self._opened = QVBoxLayout()
        self._chosen = Sheet("What changed since")
        self._chosen.add(self._title, self._about, self._opened, self._lines, row(1, self._restore))
        self._chosen.body.setStretch(3, 1)
        self._quantity = Choice(theme, "Measured quantity", lambda _value: self._show_plot())
        self.plot = MeasuredPlot(theme)
        self._figures = label("", "muted", wrap=True)
        self._measured = Sheet("Measured and spent")
        self._measured.add(self._quantity, self.plot, self._figures)
        side = column(self._chosen, self._measured, spacing=12)
        side.setStretch(0, 3)
        side.setStretch(1, 2)
        for sheet in (self._chosen, self._measured):
            sheet.setFixedWidth(side_px(theme, 60))
        both = row(self._sheet, side, spacing=14)
        both.setStretch(0, 1)
        layout = column(heading, write, both, spacing=12, margins=(18, 8, 16, 12))
        layout.setStretch(2, 1)
        self.setLayout(layout)

    def instrument(self) -> Instrument | None:
        return self.plot

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the entries that hold every word of the search."""
        words = self._words.text().strip()
        asked = (words, self.session.log_count)
        if asked == self._asked:
            return
        self._asked = asked

        def read(book: Logbook) -> Summary:
            return book.entries(words, most=PIECE), book.measured(), book.totals(), outcomes.score_of(book)

        self.session.ask_logbook(read, self._show)

    def _show(self, found: Summary) -> None:
        self.summary = found
        rows, measured, (cost, minutes), score = found
        chosen = {entry.id for entry in self.chosen()}
        self.model.show(rows)
        self.list.choose([place for place, entry in enumerate(rows) if entry.id in chosen])
        words = self._words.text().strip()
        count = len(rows) if len(rows) < PIECE else f"{PIECE} and more"
        self._sheet.set_note(f"{count} found" if words else f"{self.session.log_count}, newest first")
        self._empty.setText(
            "No entry contains all these words." if words else "What you do is logged here automatically."
        )
        self._empty.setVisible(not rows)
        self._quantity.set_choices(
            tuple((name, name) for name in measured) or (("", "nothing yet"),), self._quantity.value
        )
        self._show_plot()
        sums = [f"Spent: {cost:.2f}"] if cost else []
        sums += [f"At the bench: {show_duration(minutes * 60)}"] if minutes else []
        self._figures.setText("\n".join([*sums, score.words]))
        self._on_chosen()

    def _more(self, before: int, there: object) -> None:
        words = self._words.text().strip()
        self.session.ask_logbook(lambda book: book.entries(words, before=before, most=PIECE), there)  # type: ignore[arg-type]

    def _show_plot(self) -> None:
        name = self._quantity.value
        self.plot.show_values(name, self.summary[1].get(name, ()))

    def chosen(self) -> list[Entry]:
        """The entries that are chosen, newest first; two at most."""
        return [self.model.rows[place] for place in self.list.chosen()][:2]

    def _on_chosen(self) -> None:
        entries = self.chosen()
        emptied(self._opened)
        self._restore.setEnabled(len(entries) == 1 and bool(entries[0].revision))
        if not entries:
            self._title.setText("Choose an entry, or two to compare them.")
            self._about.setText("")
            self._lines.setPlainText("")
            return
        self._chosen.set_title("What changed since" if len(entries) == 1 else "What changed between the two")
        entry = entries[0]
        self._title.setText(visible(entry.title))
        about = [entry.at[:16].replace("T", " ") + noted_words(entry.noted)]
        if len(entries) == 2:
            about = [f"{entries[1].at[:16].replace('T', ' ')} to {entry.at[:16].replace('T', ' ')}"]
        self._about.setText(visible("\n".join(about)))
        for each in entry.files if len(entries) == 1 else ():
            self._opened.addWidget(
                button(visible(each.name)[:40], lambda each=each: self._show_file(each.path), "quiet")
            )
        self._ask_differences(entries)

    def _ask_differences(self, entries: list[Entry]) -> None:
        old = entries[-1]
        if not all(each.revision for each in entries):
            self._lines.setPlainText("From before states of the build were kept.")
            return
        asked = [each.id for each in entries]

        def read(book: Logbook) -> Differences:
            new = entries[0] if len(entries) == 2 else book.entries(most=1)[0]
            found: Differences = book.reading(lambda database: between_states(database, old.revision, new.revision))
            return found

        def show(found: Differences) -> None:
            if [each.id for each in self.chosen()] == asked:
                lines = found.lines[:_MOST_LINES]
                self._lines.setPlainText("\n".join(lines) or "Nothing in the build.")

        self.session.ask_logbook(read, show)

    def _show_file(self, path: str) -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(self.session.folder / path)))

    # --- acting --------------------------------------------------------------------------------------------------

    def search(self) -> None:
        self._words.setFocus()
        self._words.selectAll()

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Override."""
        mime = event.mimeData() if event is not None else None
        if event is not None and mime is not None and mime.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Override."""
        mime = event.mimeData() if event is not None else None
        if mime is not None:
            self.attach([Path(url.toLocalFile()) for url in mime.urls() if url.isLocalFile()])

    def _on_attach_clicked(self) -> None:
        paths, _kind = QFileDialog.getOpenFileNames(self, "Photos or files for the entry", str(Path.home()))
        self.attach([Path(path) for path in paths])

    def attach(self, paths: list[Path]) -> None:
        """Files that the next entry takes along."""
        self._files += [path for path in paths if path.is_file()]
        self._say_files()

    def _say_files(self) -> None:
        count = len(self._files)
        self._attach.setText(counted(count, "file") if count else "Photo or file…")

    def _on_add_clicked(self) -> None:
        files, folder = tuple(self._files), self.session.folder
        text = self._own.text().strip() or self._value.text().strip() or ", ".join(path.name for path in files)
        try:
            noted = noted_of(self._value.text(), [self._spent.text()])
        except KyklonError as bad:
            self.session.said.emit(str(bad))
            return
        if not text:
            return

        def write(book: Logbook) -> Entry:
            kept = tuple(photos.keep(folder, path) for path in files)
            return book.add(0, text, kind="own", noted=noted, files=kept)

        def done(_entry: Entry) -> None:
            for line in (self._own, self._value, self._spent):
                line.clear()
            self._files = []
            self._say_files()
            self.session.acted()

        self.session.note_edits()
        self.session.ask_logbook(write, done)

    def verify(self) -> None:
        """Follow the chain of entries and say what is wrong."""

        def show(found: Verified) -> None:
            good = f"All {found.entries} entries are as they were written."
            self.session.said.emit(f"{found.wrong[0]} ({len(found.wrong)} in all)" if found.wrong else good)

        self.session.ask_logbook(lambda book: book.verify(), show)

    def ask_restore(self) -> None:
        """Show what going back would change, and ask."""
        entries = self.chosen()
        if len(entries) != 1:
            return
        entry = entries[0]

        def read(book: Logbook) -> Differences:
            now = book.entries(most=1)[0]
            found: Differences = book.reading(lambda database: between_states(database, now.revision, entry.revision))
            return found

        def ask(found: Differences) -> None:
            if RestoreDialog(entry, found, self).exec():
                self.session.restore(entry)

        self.session.note_edits()
        self.session.ask_logbook(read, ask)

    def open_class(self) -> None:
        """The lesson, beside the window."""
        ClassDialog(self.session, self).show()

    def ask_archive(self) -> None:
        """Write the build as one archive."""
        start = str(self.session.folder.parent / f"{self.session.folder.name}.kyklon.tar")
        path, _kind = QFileDialog.getSaveFileName(self, "Archive of the build", start, "Archive (*.tar)")
        if path:
            self.write_archive(Path(path))

    def write_archive(self, path: Path) -> None:
        """In the background."""
        session = self.session
        session.note_edits()

        def work(watch: Watch) -> archive.Packed:
            session.flush()
            return archive.make(session.folder, path, watch=watch)

        def done(made: archive.Packed) -> None:
            left = f"; {len(made.images)} images named by checksum" if made.images else ""
            warn = " It holds this build's keys and addresses: publish the book instead." if made.private else ""
            session.said.emit(f"Wrote {path}: {made.files} files, {show_bytes(made.size)}{left}.{warn}")

        session.jobs.start("Writing the archive", work, done)

    def ask_book(self, *, card: bool = False) -> None:
        """Write the book, or the page for the cabinet, as PDF."""
        start = str(self.session.folder / ("card.pdf" if card else "book.pdf"))
        path, _kind = QFileDialog.getSaveFileName(self, "Cabinet card" if card else "Book", start, "PDF (*.pdf)")
        if path:
            self.write_book(Path(path), card=card)

    def write_book(self, path: Path, *, card: bool = False) -> None:
        """Draw what it needs piece by piece, then write it in the background."""
        self.session.note_edits()
        steps = iter(()) if card else drawings(self.session)
        found: dict[int, tuple[Picture, ...]] = {}

        def go_on() -> None:
            if self.session.ended:
                return
            for number, picture in steps:
                found[number] = (*found.get(number, ()), picture)
                self.session.said.emit(f"Drawing: {picture.caption}")
                QTimer.singleShot(0, go_on)
                return
            self._write_book(path, found, card=card)

        go_on()

    def _write_book(self, path: Path, found: dict[int, tuple[Picture, ...]], *, card: bool) -> None:
        session = self.session
        told = Material(
            *(session.build, session.catalogue, session.world, session.folder, session.findings),
            drawings=found,
            run=session.bring_up,
        )

        def work(watch: Watch) -> None:
            session.flush()
            whole = replace(told, entries=Logbook(told.folder).entries())
            durable.keep(path, pdf_of_book(one_page(whole) if card else compose(whole), Theme(), watch))

        session.jobs.start("Writing the book", work, lambda _none: session.said.emit(f"Wrote {path}"))

    def export(self) -> None:
        """Write the whole book as Markdown."""
        start = str(self.session.folder / "issued" / "logbook.md")
        path, _kind = QFileDialog.getSaveFileName(self, "Export the logbook", start, "Markdown (*.md)")
        if path:
            name = self.session.build.name
            self.session.ask_logbook(
                lambda book: book.markdown(name).encode(),
                lambda data: self.session.keep_file(Path(path), data, f"Exported {path}"),
            )


class RestoreDialog(QDialog):
    """What going back to an entry changes, before it is done."""

    def __init__(self, entry: Entry, found: Differences, parent: LogbookPage) -> None:
        super().__init__(parent)
        self.setWindowTitle("Restore an entry")
        lines = found.lines
        words = label("\n".join(lines[:_MOST_LINES]) or "Nothing differs.", wrap=True)
        words.setAlignment(Qt.AlignmentFlag.AlignTop)
        words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        restore = button("Restore", self.accept, "primary")
        restore.setEnabled(bool(lines))
        shown = scrolled(words)
        shown.setMinimumHeight(200)
        note = (
            "The present state stays an entry: you can go forward again. A card, a stick or a machine is not changed: "
            "it holds what was written last."
        )
        self.setLayout(
            column(
                label(f"Entry {entry.id}: {visible(entry.title)}", "section", wrap=True),
                shown,
                label(note, "muted", wrap=True),
                row(1, button("Cancel", self.reject, "quiet"), restore),
                spacing=10,
                margins=(20, 18, 20, 16),
            )
        )
        self.setMinimumWidth(560)
