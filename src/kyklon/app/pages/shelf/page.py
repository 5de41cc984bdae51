"""The shelf: every part that ships or is the user's own, what is known of it, and the walks that learn another."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from pathlib import Path

from PyQt6.QtWidgets import QCheckBox, QFileDialog, QInputDialog, QLineEdit, QMenu, QStackedWidget, QWidget

from kyklon.app.pages.shelf.bring_in import BringInDialog
from kyklon.app.pages.shelf.edit_dialog import EditDialog
from kyklon.app.pages.shelf.fact_sheet import FactSheet
from kyklon.app.pages.shelf.look_dialog import LookDialog
from kyklon.app.pages.shelf.part_list import Entry, PartList
from kyklon.app.pages.shelf.walk import Walk
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Elided, Sheet, button, column, label, row, scrolled, set_tip
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.catalogue.loader import Catalogue
from kyklon.operations.plan.acts import is_usable, with_part_used, without_part
from kyklon.parts import copies, exchange
from kyklon.parts.facts import facts
from kyklon.parts.fields import KIND_WORDS, one
from kyklon.parts.store import Store
from kyklon.parts.uses import Use, copied, delete, uses

# what can be learnt: the words of the menu, module below this package, class, and what it is handed
WALKS: tuple[tuple[str, str, str], ...] = (
    ("A display…", "display_walk", "DisplayWalk"),
    ("An encoder or controller…", "encoder_walk", "EncoderWalk"),
    ("A board…", "board_walk", "BoardWalk"),
    ("An image…", "file_walk", "ImageWalk"),
    ("A boot file format…", "dialect_walk", "DialectWalk"),
    ("A system, from its games…", "file_walk", "SystemWalk"),
    ("A panel, from its drawing…", "panel_walk", "PanelWalk"),
    ("An add-on, from its script…", "file_walk", "AddOnWalk"),
    ("A multi-boot chooser, from its bundles…", "set_walk", "ChooserWalk"),
    ("A bare-metal layout, from an unpacked set…", "set_walk", "SetWalk"),
    ("A power supply…", "print_walk", "SupplyWalk"),
    ("A cable…", "print_walk", "CableWalk"),
    ("A card…", "print_walk", "CardWalk"),
    ("An adapter…", "print_walk", "AdapterWalk"),
    ("A disk…", "print_walk", "DiskWalk"),
    ("A disk bridge…", "print_walk", "BridgeWalk"),
)


def _short(folder: Path) -> str:
    """A folder as people write it: ~ for one's own."""
    home = Path.home()
    return f"~/{folder.relative_to(home)}" if folder.is_relative_to(home) else str(folder)


class ShelfPage(QWidget):
    cautions: tuple[str, ...] = ()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.theme = session, session.theme
        self._used: dict[str, tuple[Use, ...]] = {}
        self._beside: tuple[str, str] | None = None  # what is compared with the current part
        self._comparing = False
        self._known: Catalogue | None = None
        self.stack = QStackedWidget()
        self.stack.addWidget(self._make_main())
        self.walk: Walk | None = None
        layout = column(self.stack, spacing=0)
        self.setLayout(layout)

    # --- the frame -----------------------------------------------------------------------------------------------

    def _make_main(self) -> QWidget:
        theme = self.theme
        self._subject = Elided("muted")
        self._learn = button("Learn a part…", self.show_learn_menu, "primary")
        self._undo = button("Undo", self.session.parts.undo, "quiet")
        self._resume = button("Go on", self._go_on, "outline")
        self._look = button("Review this build's templates…", self._on_look, "outline")
        heading = row(
            label("Shelf", "title"),
            self._subject,
            self._undo,
            self._resume,
            self._look,
            button("Shared parts…", self.show_repositories, tip="Repositories that others keep"),
            button("Import…", self.ask_bring_in),
            self._learn,
            spacing=12,
        )
        heading.setStretch(1, 1)
        self._words = QLineEdit()
        self._words.setPlaceholderText("Search, for example: tube 15")
        self._words.setAccessibleName("Search the shelf")
        self._words.textChanged.connect(lambda _text: self._filter())
        self._kind = Choice(theme, "Kind of part", lambda _value: self._filter())
        self._kind.set_choices((("", "All kinds"), *((kind, words) for kind, words in KIND_WORDS.items())), "")
        self._own = QCheckBox("Only yours")
        self._own.toggled.connect(lambda _on: self._filter())
        search = row(self._words, self._kind, self._own)
        search.setStretch(0, 1)
        self.parts = PartList(theme)
        self.parts.chosen.connect(self._on_chosen)
        self._list = Sheet("Parts")
        self._list.add(search, self.parts)
        self._list.body.setStretch(1, 1)
        self._facts = FactSheet(theme)
        self._detail = Sheet("Choose a part", "its facts, and the source of each")
        self._use = button("Use it in this build", self._on_use, "outline")
        self._more = button("More…", self._show_more)
        self._compare = button("Compare…", self._on_compare)
        self._edit = button("Change a fact…", self._on_edit)
        self._acts = row(self._use, self._edit, self._compare, self._more, 1)
        self._users = label("", "small", wrap=True)
        self._detail.add(self._acts, scrolled(self._facts), self._users)
        self._detail.body.setStretch(1, 1)
        middle = row(self._list, self._detail, spacing=14)
        middle.setStretch(0, 5)
        middle.setStretch(1, 6)
        main = QWidget()
        layout = column(heading, middle, spacing=10, margins=(18, 8, 16, 12))
        layout.setStretch(1, 1)
        main.setLayout(layout)
        return main

    def instrument(self) -> Instrument | None:
        return self._facts

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show the shelf as it is now."""
        catalogue = self.session.catalogue
        if catalogue is not self._known:
            self._known = catalogue
            self._fill(catalogue)
            self._find_uses()
        steps = self.session.parts.steps
        self._undo.setText(f"Undo: {steps[-1].label}" if steps else "Undo")
        self._undo.setVisible(bool(steps))
        self._look.setVisible(bool(self.session.parts.waiting))
        self._resume.setVisible(self.walk is not None)
        if self.walk is not None:
            self._resume.setText(f"Resume: {self.walk.title[:1].lower()}{self.walk.title[1:]}")
        self._filter()
        self._show_part()
        if self.walk is not None:
            self.walk.refresh()

    def _fill(self, catalogue: Catalogue) -> None:
        used = copies.chosen_by(self.session.build, catalogue)
        entries = [
            Entry(
                kind,
                part.id,
                part.name,
                one(kind),
                part.note,
                (kind, part.id) in catalogue.own,
                (kind, part.id) in used,
            )
            for kind in KIND_WORDS
            for part in catalogue.parts.get(kind, {}).values()
        ]
        entries.sort(key=lambda each: (not each.own, list(KIND_WORDS).index(each.kind), each.name.lower()))
        broken = [
            Entry(
                each.path.parent.name if each.path.parent.name in KIND_WORDS else each.path.stem,
                each.path.stem,
                each.path.name,
                "a file of yours",
                own=True,
                broken=str(each.error),
            )
            for each in catalogue.broken
        ]
        self.parts.show_entries(broken + entries)
        own = len(catalogue.own)
        words = (
            f"{sum(len(rows) for rows in catalogue.parts.values())} "
            f"parts, {own} of them yours, in {_short(self.session.parts.store.folder)}"
        )
        self._subject.set_full(
            words
            if own
            else ("Only shipped parts so far. Show Kyklon one of your own: it reads what it can and asks for the rest.")
        )

    def _filter(self) -> None:
        count = self.parts.filter(self._words.text(), self._kind.value, own=self._own.isChecked())
        self._list.set_note(f"{count} shown" if count else "no match; remove a word")

    def _find_uses(self) -> None:
        def taken(found: dict[str, tuple[Use, ...]]) -> None:
            self._used = found
            self._show_part()

        self.session.ask_logbook(lambda _book: uses(), taken)

    def search(self) -> None:
        self._words.setFocus()
        self._words.selectAll()

    def show_part(self, kind: str, part_id: str) -> None:
        """Open the shelf at a part."""
        self._leave_walk()
        self._words.clear()
        self._kind.set_choices((("", "All kinds"), *KIND_WORDS.items()), "")
        self._own.setChecked(False)
        self.refresh()
        self.parts.choose(kind, part_id)
        self._show_part()

    def _on_chosen(self, entry: Entry) -> None:
        if self._comparing and self._beside is not None and entry.kind != self._beside[0]:
            self._comparing, self._beside = False, None
        self._show_part()

    def _show_part(self) -> None:
        entry, catalogue = self.parts.current, self.session.catalogue
        part = catalogue.parts.get(entry.kind, {}).get(entry.id) if entry and not entry.broken else None
        for each in (self._use, self._more, self._compare, self._edit):
            each.setVisible(part is not None)
        if entry is None or part is None:
            self._detail.set_title(entry.name if entry else "Choose a part")
            self._detail.set_note(
                "this file cannot be used; it is not changed" if entry else "its facts, and the source of each"
            )
            self._facts.show_facts(())
            self._users.setText(
                entry.broken
                if entry
                else "Or press “Learn a part…” with the part at hand: a display, an encoder, a board, an image file."
            )
            return
        self._detail.set_title(part.name)
        self._detail.set_note(f"{one(entry.kind)} · {part.note}" if part.note else one(entry.kind))
        own = facts(part, entry.kind, own=entry.own)
        other = catalogue.parts.get(entry.kind, {}).get(self._beside[1]) if self._comparing and self._beside else None
        if other is not None and self._beside is not None and self._beside[1] != entry.id:
            theirs = facts(other, entry.kind, own=(entry.kind, other.id) in catalogue.own)
            self._facts.show_facts(theirs, own, (other.name, part.name))
        else:
            self._facts.show_facts(own)
        self._compare.setText("Stop comparing" if self._comparing else "Compare…")
        self._edit.setEnabled(entry.own)
        set_tip(self._edit, "" if entry.own else "Shipped parts cannot be changed: copy it first")
        names = [use.name for use in self._used.get(entry.id, ())]
        if entry.place in copies.chosen_by(self.session.build, catalogue):
            names.insert(0, self.session.build.name)
        shelf = self.session.parts.shelf.parts.get(entry.kind, {}).get(entry.id)
        words = f"Used in: {', '.join(dict.fromkeys(names))}." if names else "Not used in any build of this machine."
        if shelf is None:
            words += " It is only in this build, not on your shelf."
        elif shelf != part:
            words += " This build has a copy that differs from the shelf's: see the findings of Plan."
        self._users.setText(words)
        can, why = self._usable(entry)
        self._use.setText("Remove from this build" if self._is_used_system(entry) else "Use it in this build")
        self._use.setEnabled(can)
        set_tip(self._use, why)

    # --- using it ------------------------------------------------------------------------------------------------

    def _usable(self, entry: Entry) -> tuple[bool, str]:
        """Whether the part can be put into the build from here, and why not."""
        if self._is_used_system(entry):
            more = entry.kind != "systems" or len(self.session.build.systems) > 1
            return more, "" if more else "A build needs at least one system"
        if entry.place in copies.chosen_by(self.session.build, self.session.catalogue):
            return False, "Already in this build"
        if is_usable(entry.kind):
            kind = entry.kind.replace("_", "-")
            several = kind in ("systems", "add-ons")
            return True, f"Add it to this build's {kind}" if several else f"Make it this build's {one(entry.kind)}"
        return False, "Chosen where it is needed"

    def _on_use(self) -> None:
        entry = self.parts.current
        if entry is None:
            return
        build, label, catalogue = self.session.build, f"Use {entry.name}", self.session.catalogue
        removed = self._is_used_system(entry)
        try:
            if removed:
                build = without_part(build, entry.kind, entry.id, catalogue)
                label = f"Remove {entry.name}"
            else:
                build = with_part_used(build, entry.kind, entry.id, catalogue)
        except ValueError as bad:
            self.session.said.emit(str(bad))
            return
        self.session.put(label, build)
        self.session.said.emit(f"{entry.name} {'was removed from' if removed else 'is in'} this build.")
        self._known = None
        self.refresh()

    def _is_used_system(self, entry: Entry) -> bool:
        build = self.session.build
        return (entry.kind == "systems" and entry.id in build.systems) or (
            entry.kind == "add_ons" and entry.id in build.system.add_ons
        )

    # --- acts ----------------------------------------------------------------------------------------------------

    def show_learn_menu(self) -> None:
        menu = QMenu(self)
        for words, module, name in WALKS:
            menu.addAction(words).triggered.connect(
                lambda _on=False, module=module, name=name: self.start(module, name)
            )
        menu.exec(self._learn.mapToGlobal(self._learn.rect().bottomLeft()))

    def start(self, module: str, name: str) -> Walk:
        """Begin a walk."""
        self._leave_walk()
        made: type[Walk] = getattr(import_module(f"kyklon.app.pages.shelf.{module}"), name)
        walk = self.walk = made(self.session)
        walk.left.connect(self._on_left)
        walk.saved.connect(self.show_part)
        self.stack.addWidget(walk)
        self.stack.setCurrentWidget(walk)
        return walk

    def _on_left(self) -> None:
        """Back to the shelf: a walk in which something was learnt stays, to be gone on with."""
        if self.walk is not None and self.walk.draft is None:
            self._leave_walk()
        self.stack.setCurrentIndex(0)
        self.refresh()

    def _go_on(self) -> None:
        if self.walk is not None:
            self.stack.setCurrentWidget(self.walk)

    def _leave_walk(self) -> None:
        if self.walk is not None:
            self.walk.end()
            self.stack.removeWidget(self.walk)
            self.walk.deleteLater()
            self.walk = None
        self.stack.setCurrentIndex(0)

    def _show_more(self) -> None:
        entry = self.parts.current
        if entry is None:
            return
        menu = QMenu(self)
        rows: tuple[tuple[str, Callable[[], object], bool], ...] = (
            ("Copy as my own…", self.ask_copy, True),
            ("Rename…", self.ask_rename, entry.own),
            ("Export…", self.ask_export, True),
            ("Delete", self.delete, entry.own),
        )
        for words, act, able in rows:
            made = menu.addAction(words)
            made.setEnabled(able)
            made.triggered.connect(lambda _on=False, act=act: act())
        menu.exec(self._more.mapToGlobal(self._more.rect().bottomLeft()))

    def _on_compare(self) -> None:
        entry = self.parts.current
        if self._comparing or entry is None:
            self._comparing, self._beside = False, None
        else:
            self._comparing, self._beside = True, entry.place
            self.session.said.emit(f"Now choose another {one(entry.kind)} to compare with {entry.name}.")
        self._show_part()

    def _on_look(self) -> None:
        LookDialog(self.session, self).open()

    def ask_copy(self) -> None:
        entry = self.parts.current
        if entry is None:
            return
        name, agreed = QInputDialog.getText(self, "Copy as my own", "Name of your copy", text=f"My {entry.name}")
        if agreed and name.strip():
            self.copy(name.strip())

    def copy(self, name: str) -> None:
        """The current part as a start for one's own."""
        entry, catalogue = self.parts.current, self.session.catalogue
        assert entry is not None
        store = self.session.parts.store

        def done(step: object) -> None:
            self.session.parts.steps.append(step)  # type: ignore[arg-type] # a Step
            self.session.parts.read(lambda: self.show_part(entry.kind, Path(step.path).stem))  # type: ignore[attr-defined]

        self.session.ask_logbook(lambda _book: copied(entry.kind, entry.id, name, catalogue, store), done)

    def ask_rename(self) -> None:
        entry = self.parts.current
        if entry is None:
            return
        name, agreed = QInputDialog.getText(self, "Rename", "Its name:", text=entry.name)
        if agreed and name.strip():
            self.rename(name.strip())

    def rename(self, name: str) -> None:
        entry = self.parts.current
        assert entry is not None
        self.session.parts.act(
            lambda store: store.change(entry.kind, entry.id, {"name": name}, f"Renamed {entry.name}"),
            f"{entry.name} renamed to {name}.",
        )

    def _on_edit(self) -> None:
        entry = self.parts.current
        if entry is None:
            return
        part = self.session.catalogue.parts[entry.kind][entry.id]
        dialog = EditDialog(entry.kind, part, self.theme, self)
        if dialog.exec() and dialog.changes:
            changes, kind, part_id = dialog.changes, entry.kind, entry.id
            self.session.parts.act(
                lambda store: store.change(kind, part_id, changes, f"Changed {entry.name}"),
                f"{entry.name} changed.",
            )

    def delete(self) -> None:
        """Take the current part off the shelf; refused while a build uses it."""
        entry, shelf = self.parts.current, self.session.parts.shelf
        assert entry is not None
        mine = {copy.id for copy in self.session.build.copies} | {
            part_id for _kind, part_id in copies.used_by(self.session.build, shelf)
        }

        def act(store: Store) -> object:
            used = dict(uses())
            if entry.id in mine:
                used[entry.id] = (*used.get(entry.id, ()), Use(self.session.folder, self.session.build.name))
            return delete(
                entry.kind, entry.id, shelf, store, {key: tuple(dict.fromkeys(value)) for key, value in used.items()}
            )

        self.session.parts.act(act, f"{entry.name} removed from the shelf.")  # type: ignore[arg-type] # gives a Step

    def ask_export(self) -> None:
        entry = self.parts.current
        if entry is None:
            return
        start = str(self.session.folder / "issued" / f"{entry.id}.kyklon.toml")
        path, _kind = QFileDialog.getSaveFileName(self, "Export the part", start, "Parts (*.toml)")
        if path:
            self.export(Path(path))

    def export(self, path: Path) -> None:
        """The current part, with what it needs, in one file."""
        entry = self.parts.current
        assert entry is not None
        try:
            data = exchange.exported(entry.kind, entry.id, self.session.catalogue).encode()
        except KyklonError as bad:
            self.session.said.emit(str(bad))
            return
        self.session.keep_file(path, data, f"Exported {path}")

    def show_repositories(self) -> None:
        """Parts that others share."""
        from kyklon.app.pages.shelf.repositories import RepositoriesDialog

        RepositoriesDialog(self.session, self).exec()

    def ask_bring_in(self) -> None:
        path, _kind = QFileDialog.getOpenFileName(
            self, "Import a part's file", str(self.session.folder), "Parts (*.toml)"
        )
        if path:
            self.bring_in(Path(path))

    def bring_in(self, path: Path) -> None:
        """Read a part's file, show what it brings and how it differs, and take it when its user agrees."""
        shelf = self.session.parts.shelf

        def work(_watch: Watch) -> tuple[exchange.Incoming, ...]:
            return exchange.incoming(path, shelf)

        def done(found: tuple[exchange.Incoming, ...]) -> None:
            dialog = BringInDialog(path.name, found, self.theme, self)
            if dialog.exec():
                self.session.parts.act(
                    lambda store: exchange.bring_in(found, store, replace=True),
                    f"{path.name} imported.",
                    lambda: self.show_part(found[0].kind, found[0].part.id),
                )

        self.session.jobs.start(f"Reading {path.name}", work, done, cancellable=False)
