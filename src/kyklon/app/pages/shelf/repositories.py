"""Parts that others share: the repositories that were added, and what they have that the shelf has not."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QFileDialog, QLineEdit, QListWidget, QListWidgetItem, QWidget

from kyklon.app.pages.shelf.bring_in import BringInDialog
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Sheet, button, column, label, row
from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.base.quantities import counted
from kyklon.base.shown import visible
from kyklon.parts import exchange, repository
from kyklon.parts.fields import one
from kyklon.parts.repository import News, Repository

_STATES = {"new": "new", "other": "different", "withdrawn": "withdrawn"}


class RepositoriesDialog(QDialog):
    """Adds by folder and fingerprint, takes one part at a time; nothing comes by itself."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Shared parts")
        self._session, self._news = session, tuple[News, ...]()
        theme = session.theme
        self._known = label("", wrap=True)
        self.folder = QLineEdit()
        self.folder.setPlaceholderText("/media/club")
        self.folder.setAccessibleName("Folder of the repository")
        self.key = QLineEdit()
        self.key.setPlaceholderText("SHA256:… as its owner tells you; empty for an unsigned one")
        self.key.setAccessibleName("Fingerprint of its key")
        self._said = label("", "stop", wrap=True)
        self._said.setVisible(False)
        add = Sheet("Repositories", "folders of parts that many share, on a disk, a stick or a share")
        add.add(
            self._known,
            row(label("Folder", "muted"), self.folder, button("Choose…", self._ask_folder, "quiet")),
            row(label("Key", "muted"), self.key, button("Add", self.add, "outline"), button("Forget", self.forget)),
            self._said,
        )
        self.list = QListWidget()
        self.list.setAccessibleName("What they have that your shelf has not")
        self.list.setWordWrap(True)
        self.list.currentRowChanged.connect(self._show)
        self._told = label("", wrap=True)
        self._take = button("Review and take…", self.take, "primary")
        found = Sheet("New for your shelf")
        found.add(self.list, self._told)
        found.body.setStretch(0, 1)
        foot = row(button("Look again", self.look, "quiet"), 1, button("Close", self.accept, "outline"), self._take)
        whole = column(add, found, foot, spacing=12, margins=(20, 16, 20, 16))
        whole.setStretch(1, 1)
        self.setLayout(whole)
        self.resize(round(theme.px(720)), round(theme.px(620)))
        self.look()

    def look(self) -> None:
        """Read the repositories again, off the window's thread."""
        shelf = self._session.parts.shelf

        def work(_watch: Watch) -> tuple[tuple[Repository, ...], tuple[str, ...], tuple[News, ...]]:
            found, wrong = repository.every()
            repository.look()
            return found, wrong, tuple(repository.news(found, shelf))

        self._session.jobs.start("Reading repositories", work, self._show_all, cancellable=False, bad=self._bad)

    def _show_all(self, told: tuple[tuple[Repository, ...], tuple[str, ...], tuple[News, ...]]) -> None:
        found, wrong, self._news = told
        rows = [
            f"{visible(each.index.name)}: {counted(len(each.index.parts), 'part')}, "
            f"{each.path}, {each.key or 'not signed'}"
            for each in found
        ]
        self._known.setText("\n".join(rows) or "None was added yet.")
        self._say("\n".join(wrong))
        self.list.clear()
        for each in self._news:
            words = (one(each.entry.kind), _STATES[each.state], visible(each.repository.index.name))
            name = f"{visible(each.entry.name)}  ·  {'  ·  '.join(words)}"
            self.list.addItem(QListWidgetItem(name))
        if not self._news and found:
            empty = QListWidgetItem("Your shelf has everything that they have.")
            empty.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(empty)
        self.list.setCurrentRow(0 if self._news else -1)
        self._show(self.list.currentRow())

    def _show(self, number: int) -> None:
        chosen = self._news[number] if 0 <= number < len(self._news) else None
        self._take.setEnabled(chosen is not None and chosen.state != "withdrawn")
        if chosen is None:
            self._told.setText("")
            return
        lines = [visible(line) for line in chosen.differences[:6]]
        lines += [f"{visible(name)} has it otherwise: compare both before you take one." for name in chosen.others]
        self._told.setText("\n".join(lines))

    def _ask_folder(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "A repository of parts", self.folder.text())
        if path:
            self.folder.setText(path)

    def add(self) -> None:
        """Add the folder that is named, if it is signed by the key that is named."""
        place, key = Path(self.folder.text().strip()).expanduser(), self.key.text().strip()
        if not place.is_absolute():
            self._say("Write the folder with its whole path, from / on.")
            return
        self._session.jobs.start(
            "Reading the repository",
            lambda _watch: repository.add(place, key),
            lambda _found: self.look(),
            cancellable=False,
            bad=self._bad,
        )

    def forget(self) -> None:
        place = Path(self.folder.text().strip()).expanduser()
        self._session.jobs.start(
            "Forgetting the repository",
            lambda _watch: repository.forget(place),
            lambda there: self.look() if there else self._say("Name the folder of one that was added."),
            cancellable=False,
            bad=self._bad,
        )

    def take(self) -> None:
        """Show what the chosen part brings, and put it onto the shelf when its user agrees."""
        chosen = self._news[self.list.currentRow()]
        session, key = self._session, chosen.entry.key

        def done(brought: tuple[exchange.Incoming, ...]) -> None:
            if BringInDialog(chosen.entry.file, brought, session.theme, self).exec():
                session.parts.act(
                    lambda store: exchange.bring_in(brought, store, replace=True),
                    f"{visible(chosen.entry.name)} is on the shelf.",
                    self.look,
                )

        session.jobs.start(
            f"Reading {visible(chosen.entry.name)}",
            lambda _watch: repository.brought(chosen.repository, key, session.parts.shelf),
            done,
            cancellable=False,
            bad=self._bad,
        )

    def _bad(self, error: KyklonError) -> None:
        self._say(str(error))

    def _say(self, words: str) -> None:
        self._said.setText(f"■ {words}" if words else "")
        self._said.setVisible(bool(words))
