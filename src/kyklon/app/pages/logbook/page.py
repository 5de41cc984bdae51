"""The logbook: what was done and when; own entries, search, export."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QFileDialog, QLineEdit, QScrollArea, QWidget

from kyklon.app.session.session import Session
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Sheet, button, column, label, row
from kyklon.app.widgets.instrument import Instrument
from kyklon.record.logbook import Entry


class BookView(Instrument):
    """Entries as ruled lines: time, operation, what, and its details indented."""

    least = QSize(400, 200)

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme, "Logbook")
        self._entries: tuple[Entry, ...] = ()
        self._empty = ""

    def show_entries(self, entries: tuple[Entry, ...], empty: str) -> None:
        if not self.shows(entries, empty):
            return
        self._entries, self._empty = entries, empty
        self.setAccessibleDescription("; ".join(f"{entry.at[11:16]} {entry.title}" for entry in entries[:20]))
        lines = (
            sum(1 + len(self._details(entry)) for entry in entries) + len({entry.at[:10] for entry in entries}) * 1.4
        )
        self.setMinimumHeight(round(lines * self.theme.px(21) + self.theme.px(20)))
        self.update()

    @staticmethod
    def _details(entry: Entry) -> list[str]:
        """The first lines; a long difference is for the export."""
        lines = entry.detail.splitlines()
        return [*lines[:6], f"… {len(lines) - 6} more lines"] if len(lines) > 7 else lines

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px = self.theme.px
        pitch, y, day = px(21), box.top() + px(4), ""
        if not self._entries:
            self.text(painter, QPointF(box.left(), y + pitch), self._empty, token="muted")
        for entry in self._entries:
            if entry.at[:10] != day:
                day = entry.at[:10]
                self.text(
                    painter, QPointF(box.left(), y + pitch / 2), day, font=self.theme.head("label"), token="muted"
                )
                y += pitch * 1.2
            self.line(painter, QPointF(box.left(), y), QPointF(box.right(), y), "grid")
            middle = y + pitch / 2
            self.text(
                painter, QPointF(box.left(), middle), entry.at[11:16], font=self.theme.mono("small"), token="muted"
            )
            if entry.operation:
                self.text(
                    painter,
                    QPointF(box.left() + px(50), middle),
                    str(entry.operation),
                    font=self.theme.head("section"),
                    token="teal",
                )
            title = QRectF(box.left() + px(80), y, box.width() - px(84), pitch)
            weight = 600 if entry.kind == "own" else 500
            words = f"“{entry.title}”" if entry.kind == "own" else entry.title
            self.text(painter, title, words, font=self.theme.font("body", weight=weight))
            y += pitch
            for line in self._details(entry):
                place = QRectF(box.left() + px(80), y, box.width() - px(84), pitch)
                mono = line[:1] in "+-@"
                font = self.theme.mono("small") if mono else self.theme.font("label")
                self.text(painter, place, line, font=font, token="muted")
                y += pitch


class LogbookPage(QWidget):
    cautions: tuple[str, ...] = ()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._view = BookView(session.theme)
        self._words, self._own = QLineEdit(), QLineEdit()
        self._asked: tuple[str, int] = ("", -1)
        self._words.setPlaceholderText("Search, for example: card written")
        self._words.setAccessibleName("Search the logbook")
        self._words.textChanged.connect(lambda _text: self.refresh())
        self._own.setPlaceholderText("Add an entry of your own")
        self._own.setAccessibleName("Your entry")
        self._own.returnPressed.connect(self._on_add_clicked)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self._view)
        self._sheet = Sheet("Entries")
        self._sheet.add(scroll)
        heading = row(label("Logbook", "title"), 1, button("Export as Markdown…", self.export), spacing=12)
        write = row(self._own, button("Add entry", self._on_add_clicked, "outline"), self._words)
        write.setStretch(0, 3)
        write.setStretch(2, 2)
        layout = column(heading, write, self._sheet, spacing=12, margins=(18, 8, 16, 12))
        layout.setStretch(2, 1)
        self.setLayout(layout)

    def instrument(self) -> Instrument | None:
        return self._view

    def refresh(self) -> None:
        """Show the entries that hold every word of the search."""
        words = self._words.text().strip()
        asked = (words, self.session.log_count)
        if asked == self._asked:
            return
        self._asked = asked

        def show(found: tuple[Entry, ...]) -> None:
            self._sheet.set_note(f"{len(found)} found" if words else f"{len(found)}, newest first")
            empty = "No entry contains all these words." if words else "What you do is logged here automatically."
            self._view.show_entries(found, empty)

        self.session.ask_logbook(lambda book: book.entries(words), show)

    def search(self) -> None:
        self._words.setFocus()
        self._words.selectAll()

    def _on_add_clicked(self) -> None:
        text = self._own.text().strip()
        if text:
            self.session.log(0, text, kind="own")
            self._own.clear()

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
