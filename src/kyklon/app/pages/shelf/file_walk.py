"""Learning an image from its file, and a system from a folder of its games."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, QSize
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QFileDialog, QLayout, QWidget

from kyklon.app.pages.shelf.walk import Walk
from kyklon.app.theme.tokens import Theme
from kyklon.app.widgets.basic import Sheet, button, column, label, row
from kyklon.app.widgets.instrument import Instrument
from kyklon.parts import system
from kyklon.parts.draft import Draft
from kyklon.parts.fields import value_words


class FoundTree(Instrument):
    """What was found, as a tree of short lines under their headings."""

    least = QSize(320, 200)

    def __init__(self, theme: Theme, name: str, empty: str) -> None:
        super().__init__(theme, name)
        self._rows: tuple[tuple[str, str], ...] = ()
        self._empty = empty

    def show_rows(self, rows: tuple[tuple[str, str], ...]) -> None:
        if not self.shows(rows):
            return
        self._rows = rows
        self.setAccessibleDescription("; ".join(f"{name}: {words}" for name, words in rows))
        self.setMinimumHeight(round(self._height()))
        self.update()

    def _lines(self) -> list[tuple[str, list[str]]]:
        found: list[tuple[str, list[str]]] = []
        for name, words in self._rows:
            items = [word.strip() for word in words.split(", ") if word.strip()]
            if found and found[-1][0] == name:
                found[-1][1].extend(items)
            else:
                found.append((name, items))
        return found

    def _height(self) -> float:
        return sum(self.theme.px(20 * (min(6, len(items)) + 0.35)) for _name, items in self._lines()) + self.theme.px(
            12
        )

    def draw(self, painter: QPainter, box: QRectF) -> None:
        """Override."""
        px, y = self.theme.px, box.top() + self.theme.px(10)
        if not self._rows:
            self.say(painter, box, self._empty)
            return
        left = box.left() + px(132)
        for name, items in self._lines():
            self.text(painter, QRectF(box.left(), y - px(8), px(118), px(18)), name, token="muted")
            shown = items[:5] + ([f"and {len(items) - 5} more"] if len(items) > 6 else items[5:6])
            bottom = y + px(20) * (len(shown) - 1)
            self.line(painter, QPointF(left - px(10), y - px(6)), QPointF(left - px(10), bottom + px(6)), "teal", 1.5)
            for each in shown:
                self.line(painter, QPointF(left - px(10), y), QPointF(left - px(4), y), "teal", 1.5)
                self.text(
                    painter,
                    QRectF(left, y - px(9), box.right() - left, px(18)),
                    each,
                    font=self.theme.font("body", weight=500),
                )
                y += px(20)
            y += px(7)


class ImageWalk(Walk):
    kind = "images"
    title = "Learn an image"
    first = (
        "Open an image file, packed or not. It is read in memory; nothing is unpacked to disk and nothing is written."
    )
    empty = "Its partitions, kernels, boards, boot files and services appear here."
    findings = "Findings in the file"

    def make_side(self) -> QWidget:
        """Override."""
        self.found = FoundTree(self.theme, self.findings, self.empty)
        source = Sheet("Source")
        source.add(row(*self.sources(), 1), *self.hints())
        drawing = Sheet(self.findings)
        drawing.add(self.found, 1)
        side = QWidget()
        layout = column(source, drawing, spacing=12)
        layout.setStretch(1, 1)
        side.setLayout(layout)
        return side

    def sources(self) -> tuple[QWidget, ...]:
        """The buttons that open what is learnt."""
        build = self.session.build
        made: list[QWidget] = [button("Open an image…", self._ask, "outline")]
        if self.kind == "images":
            words = "A bare-metal set that is unpacked already"
            made.append(button("An unpacked set…", self._ask_set, tip=words))
        if build.source.path:
            own = self.session.folder / build.source.path
            made.append(button(f"This build's: {own.name}", lambda: self.learn_from("image", own)))
        return tuple(made)

    def hints(self) -> tuple[QLayout, ...]:
        """A further row of them."""
        return ()

    def _ask(self) -> None:
        self.ask_file(
            "An image file",
            "Images (*.img *.iso *.bin *.xz *.gz *.bz2 *.zst *.zip *.7z);;All files (*)",
            lambda path: self.learn_from("image", path),
        )

    def _ask_set(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "The folder of an unpacked set", str(self.session.folder))
        if path:
            self.learn_from("image", Path(path))

    def show_draft(self, draft: Draft | None) -> None:
        """Override."""
        rows = list(draft.about) if draft else []
        for name, words in (("kernels", ""), ("boards", "Boards it boots"), ("services", "Services")):
            value = draft.row.get(name) if draft else None
            if value and words:
                rows.append((words, value_words("images", name, value)))
        self.found.show_rows(tuple(rows))


class SystemWalk(ImageWalk):
    kind = "systems"
    title = "Learn a system"
    first = (
        "Choose the folder with one system's games. File extensions and archives are read; you are asked for "
        "its picture format."
    )
    empty = "File extensions, archives and sizes of its games appear here."

    def sources(self) -> tuple[QWidget, ...]:
        """Override."""
        firmware = button(
            "Add a firmware file…",
            self._ask_firmware,
            "quiet",
            tip="A good one: its name, size and checksum are what is asked for",
        )
        return (button("Choose a folder…", self._ask_folder, "outline"), firmware)

    def hints(self) -> tuple[QLayout, ...]:
        """Override: what sets of a kind draw, where nobody knows better."""
        made = row(label("Picture format as on", "small"), spacing=4)
        for each in system.HINTS:
            words = f"{each.height} lines, {each.refresh}\u202fHz"
            made.addWidget(button(words, lambda each=each: self._on_hint(each), "quiet", tip=each.name))
        made.addStretch(1)
        return (made,)

    def _ask_folder(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "A folder of games", str(self.session.folder))
        if path:
            self.learn_from("system", Path(path))

    def _ask_firmware(self) -> None:
        if self.draft is None:
            self._say("Choose the folder of games first.")
            return
        draft = self.draft
        self.ask_file(
            "A firmware file that is known to be good",
            "All files (*)",
            lambda path: self.learn(
                f"Reading {path.name}", lambda _watch: system.draft_with_firmware(draft, path), self.take
            ),
        )

    def _on_hint(self, hint: system.Lines) -> None:
        if self.draft is not None:
            self.take(system.hinted(self.draft, hint))


class AddOnWalk(ImageWalk):
    kind = "add_ons"
    title = "Learn an add-on"
    first = (
        "Open a script, or a folder as it would lie on the machine (usr/…, etc/…). Its text is read for what it calls; "
        "nothing of it is run here."
    )
    empty = "Its files and what they call appear here."

    def sources(self) -> tuple[QWidget, ...]:
        """Override."""
        return (
            button("Open a script…", self._ask, "outline"),
            button("Choose a folder…", self._ask_folder, "outline"),
        )

    def _ask(self) -> None:
        self.ask_file("A script", "All files (*)", lambda path: self.learn_from("add-on", path))

    def _ask_folder(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "A folder with an add-on", str(self.session.folder))
        if path:
            self.learn_from("add-on", Path(path))

    def show_draft(self, draft: Draft | None) -> None:
        """Override."""
        rows = list(draft.about) if draft else []
        for name, words in (("programs", "Calls"), ("modules", "Imports")):
            value = (draft.row.get(name) or draft.suggested.get(name)) if draft else None
            if value:
                rows.append((words, value_words("add_ons", name, value)))
        self.found.show_rows(tuple(rows))
