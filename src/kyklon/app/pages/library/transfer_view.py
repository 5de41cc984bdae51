"""The way onto the machine: by a folder (stick, share, card) or by secure copy; looked at, copied, taken back."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtWidgets import QFileDialog, QLineEdit, QWidget

from kyklon.app.pages.host_key import accepts
from kyklon.app.pages.library.transfer_drawing import Line, TransferDrawing, Way
from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Elided, FigureRows, Sheet, button, column, label, row, scrolled, set_tip
from kyklon.app.widgets.fields import FieldEditor
from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.base.quantities import counted, show_bytes
from kyklon.catalogue.chosen import known_systems
from kyklon.devices.destination import Destination
from kyklon.devices.secure_copy import UnknownHost, fingerprint
from kyklon.operations.library import acts
from kyklon.operations.library.carry import last_transfer
from kyklon.operations.library.transfer import Transfer

COPYING = "Copying games"
_FIELDS = (
    ("library.host", "Address"),
    ("library.port", "Port"),
    ("library.account", "User"),
    ("library.remote_folder", "Folder on the machine"),
    ("library.key_file", "Key file"),
)


class TransferView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.planned: Transfer | None = None
        self._asked: object = None
        self.drawing = TransferDrawing(self.theme)
        self.instrument = self.drawing
        self._sheet = Sheet("Transfer", "menu titles: predicted, and found on the machine")
        self._refused = Elided("muted")
        self._sheet.add(self.drawing, self._refused)
        self._sheet.layout().setStretch(1, 1)
        self._route = FieldEditor(self.theme, "library.route", session.edit)
        self._place = Elided("small")
        self._figures = FigureRows(self.theme)
        self._folder = column(self._place, button("Choose folder…", self._on_folder_clicked), self._figures, spacing=6)
        self._editors = [FieldEditor(self.theme, path, session.edit) for path, _words in _FIELDS]
        self.password = QLineEdit()
        self.password.setEchoMode(QLineEdit.EchoMode.Password)
        self.password.setAccessibleName("Password, not stored")
        self.password.setPlaceholderText("not stored")
        self._host_key = Elided("small")
        rows = [
            item
            for editor, (_path, words) in zip(self._editors, _FIELDS, strict=True)
            for item in (label(words, "small"), editor.widget)
        ]
        self._machine = QWidget()
        self._machine.setLayout(
            column(
                *rows,
                label("Password", "small"),
                self.password,
                self._host_key,
                button("Forget its key", self._on_forget, "quiet"),
                spacing=3,
            )
        )
        self._stick = QWidget()
        self._stick.setLayout(self._folder)
        self.copy = button(COPYING, self.copy_games, "primary")
        self._look = button("Scan machine", self.look)
        self._undo = button("Undo transfer", self.take_back)
        self._hide = Choice(self.theme, "System to hide or show", lambda _value: None)
        self._hide.setMinimumContentsLength(12)
        self._hide_button = button("Hide", self._on_hide)
        set_tip(self._hide_button, "Moves the system's folder aside on the machine, or back")
        side = Sheet("Way")
        side.add(
            self._route.widget,
            scrolled(column(self._stick, self._machine, 1)),
            self.copy,
            row(self._look, self._undo),
            row(self._hide, self._hide_button),
        )
        side.body.setStretch(1, 1)
        side.setFixedWidth(side_px(self.theme))
        whole = row(self._sheet, side, spacing=14)
        whole.setStretch(0, 1)
        self.setLayout(whole)

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Override."""
        own = self.build.library
        self._route.show(own.route)
        by_net = own.route == "secure copy"
        self._stick.setVisible(not by_net)
        self._machine.setVisible(by_net)
        self._place.set_full(own.destination or "no folder is chosen")
        for editor, (path, _words) in zip(self._editors, _FIELDS, strict=True):
            editor.show(getattr(own, path.partition(".")[2]))
        self._host_key.set_full(fingerprint(own.host_key) if own.host_key else "its key is not known yet")
        self._show_way()
        self._plan()

    def _plan(self) -> None:
        """Foretell the menu, off the window's thread, where something of it changed."""
        scan, build = self.session.world.scan, self.build
        asked = (scan, build.library, build.part("image"), build.systems)
        if scan is None or asked == self._asked:
            return
        self._asked = asked
        folder, catalogue = self.session.folder, self.session.catalogue

        def work(_watch: Watch) -> tuple[Transfer, tuple[tuple[str, str], ...]]:
            return acts.planned_for(build, folder, catalogue, scan), acts.facts_of_place(build, folder)

        def done(found: tuple[Transfer, tuple[tuple[str, str], ...]]) -> None:
            if asked == self._asked:
                self.planned = found[0]
                self._figures.set_rows(found[1])
                self._show_way()

        def bad(error: KyklonError) -> None:
            self.session.said.emit(str(error))

        self.session.jobs.start("Predicting the menu", work, done, bad=bad)

    def _show_way(self) -> None:
        build, world = self.build, self.session.world
        own, told, there = build.library, self.planned, world.on_machine
        busy = any(job.title == COPYING for job in self.session.jobs.running)
        reachable = bool(own.host) if own.route == "secure copy" else bool(own.destination)
        ready = told.games if told else 0
        self.copy.setEnabled(bool(ready) and reachable and not busy)
        where = "Name the machine first" if own.route == "secure copy" else "Choose a folder first"
        self.copy.setText(f"Copy {ready} games" if reachable else where)
        self._look.setEnabled(reachable and not busy)
        self._undo.setEnabled(bool(last_transfer(self.session.folder)) and reachable and not busy)
        if told is None:
            self.drawing.show_way(None)
            return
        lines, hidden = [], there.hidden if there else ()
        for system in known_systems(build, self.session.catalogue):
            foretold, seen = told.menu.get(system.id, ()), (there.games.get(system.id, ()) if there else ())
            barred = there.unreadable.get(system.id, 0) if there else 0
            note = f"No read permission for {barred}" if barred else ""
            note = "set aside: the menu does not list it" if system.id in hidden else note
            missing = len(set(foretold) - set(seen))
            lines.append(Line(system.name, len(foretold), len(seen), missing, note))
        name = f"{own.account}@{own.host}" if own.route == "secure copy" else own.destination or "nowhere yet"
        end = (name.rstrip("/").rpartition("/")[2] or name, "scanned" if there else "not scanned yet")
        way = (
            "secure copy" if own.route == "secure copy" else "copied and read back",
            counted(len(told.copies), "file"),
        )
        self.drawing.show_way(
            Way(("Library", f"{ready}, {show_bytes(told.size)}"), way, end, tuple(lines), there is not None)
        )
        refused = "; ".join(f"{game.called}: {why}" for game, why in told.refused[:3])
        renamed = f"{told.renamed} renamed to suit the target's file system. " if told.renamed else ""
        self._refused.set_full(f"{renamed}{refused}")
        choices = [
            (system.id, f"{system.name}{', hidden' if system.id in hidden else ''}")
            for system in known_systems(build, self.session.catalogue)
        ]
        self._hide.set_choices(tuple(choices), self._hide.value)
        self._hide_button.setText("Show" if self._hide.value in hidden else "Hide")

    # --- acting --------------------------------------------------------------------------------------------------

    def _on_folder_clicked(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "Where the games go", str(self.session.folder))
        if path:
            self.session.edit("library.destination", path)

    def _on_forget(self) -> None:
        self.session.edit("library.host_key", "")

    def copy_games(self) -> None:
        """Copy what is ready, as a job; then look at the destination again."""
        build, folder, catalogue = self.build, self.session.folder, self.session.catalogue

        def work(destination: Destination, watch: Watch) -> Any:
            report = acts.move_games(folder, build, catalogue, destination, watch)
            acts.remember_seen(folder, build, catalogue, destination)
            return report

        def done(report: Any) -> None:
            self.session.said.emit(
                f"{report.games} games copied and read back; {report.already_there} files were already there."
                + (f" {len(report.refused)} cannot be stored there." if report.refused else "")
            )
            self._after()

        self._with(COPYING, work, done)

    def look(self) -> None:
        """See what is on the machine now."""
        build, folder, catalogue = self.build, self.session.folder, self.session.catalogue

        def work(place: Destination, _watch: Watch) -> Any:
            return acts.remember_seen(folder, build, catalogue, place)

        self._with("Scanning the machine", work, lambda _seen: self._after())

    def take_back(self) -> None:
        """Take the last transfer back."""
        folder = self.session.folder

        def done(told: Any) -> None:
            left = f"; {len(told.left)} changed on the machine since are kept" if told.left else ""
            self.session.said.emit(f"{counted(told.removed, 'file')} removed, {told.restored} restored{left}.")
            self._after()

        def work(place: Destination, watch: Watch) -> Any:
            told = acts.take_back(folder, place, watch)
            acts.remember_seen(folder, build, catalogue, place)
            return told

        build, catalogue = self.build, self.session.catalogue
        self._with("Undoing the transfer", work, done)

    def _on_hide(self) -> None:
        build, folder, catalogue, system = self.build, self.session.folder, self.session.catalogue, self._hide.value
        there = self.session.world.on_machine
        hide = there is None or system not in there.hidden

        def work(place: Destination, _watch: Watch) -> None:
            acts.hide_system(build, catalogue, place, system, hide=hide)
            acts.remember_seen(folder, build, catalogue, place)

        def done(_none: object) -> None:
            self.session.said.emit("Moved aside; restart the front end." if hide else "Back; restart the front end.")
            self._after()

        self._with("Moving a system", work, done)

    def _after(self) -> None:
        self.session.acted()
        self.session.look("library")

    def _with(self, title: str, work: Callable[[Destination, Watch], Any], done: Callable[[Any], None]) -> None:
        """Do something at the destination, as a job; a machine's key is asked about once."""
        build, folder, password = self.build, self.session.folder, self.password.text()

        def job(watch: Watch) -> Any:
            with acts.opened(build, folder, password) as place:
                return work(place, watch)

        def bad(error: KyklonError) -> None:
            self._show_way()
            if isinstance(error, UnknownHost):
                if accepts(error, self):
                    self.session.edit("library.host_key", error.host_key)
                    self._with(title, work, done)
            else:
                self.session.jobs.failed.emit(title, error)

        self.session.jobs.start(title, job, done, bad=bad)
        self._show_way()
