"""The running machine: where it is, whether it is the right one, what it says, its boot files changed."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QBoxLayout, QVBoxLayout, QWidget

from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.pages.upkeep import asking
from kyklon.app.pages.upkeep.settings_dialog import SettingsDialog
from kyklon.app.pages.upkeep.way_drawing import HERE, MACHINE, Station, WayDrawing
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import FigureRows, Sheet, button, column, label, row, scrolled
from kyklon.app.widgets.fields import FieldForm
from kyklon.app.widgets.kept import Kept, Make
from kyklon.base.progress import Watch
from kyklon.base.quantities import counted, show_bytes, show_duration
from kyklon.base.shown import visible
from kyklon.devices.choose import neighbourhood_of
from kyklon.devices.neighbours import ANSWER_S
from kyklon.devices.secure_copy import SecureCopy, fingerprint
from kyklon.operations.boot.acts import Put
from kyklon.operations.upkeep import change, keys, running
from kyklon.operations.upkeep import find as finding
from kyklon.operations.upkeep import settings as root
from kyklon.record.logbook import now

_FIELDS = (
    "library.host",
    "library.port",
    "library.account",
    "library.key_file",
    "upkeep.boot_folder",
    "upkeep.as_root",
    "upkeep.restart",
)


class MachineView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.found: tuple[finding.Sighting, ...] | None = None
        self.told: running.Running | None = None
        self.planned: Put | None = None
        self.back: change.Back | None = None
        self.instrument = self.drawing = WayDrawing(self.theme, "From its address to what came back")
        way = Sheet("Running machine")
        way.head.addWidget(button("Find", self.find, "primary", tip="Asks this network for its name; scans nothing"))
        way.head.addWidget(button("Check", self.look, "outline", tip="Logs in and reads; changes nothing"))
        way.add(scrolled(self.drawing))
        self._form = FieldForm(self.theme, _FIELDS, self.session.edit)
        self.password = asking.password_field()
        reach = Sheet("Connection")
        self.key_button = button(
            "Make a key…", self.make_key, "quiet", tip="A key pair of its own; its public half goes along"
        )
        reach.add(self._form, row(self.password, self.key_button))
        self._figures = FigureRows(self.theme)
        self._list = QVBoxLayout()
        self._kept = Kept[QWidget](self._list)
        holder = QWidget()
        holder.setLayout(self._list)
        says = Sheet("Status")
        says.add(self._figures, scrolled(holder))
        says.body.setStretch(1, 1)
        self.put_button = button("Change its boot files", self.put_files, "outline")
        self.undo_button = button("Undo change", self.take_back)
        self.restart_button = button("Restart", self.restart)
        self.settings_button = button(
            "Change settings…", self.change_settings, "quiet", tip="Network, keyboard and rights, from its next start"
        )
        way.add(row(self.put_button, self.undo_button, self.restart_button, 1))
        says.head.addWidget(self.settings_button)
        side = column(reach, says, spacing=12)
        side.setStretch(1, 1)
        if self.theme.scale > 1:
            way.setMinimumHeight(round(self.theme.px(420)))
            says.setMinimumHeight(round(self.theme.px(220)))
            layout: QBoxLayout = column(way, side, spacing=14)
        else:
            for sheet in (reach, says):
                sheet.setFixedWidth(side_px(self.theme, 40))
            layout = row(way, side, spacing=14)
        layout.setStretch(0, 1)
        self.setLayout(layout)

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Override."""
        build = self.build
        self._form.show_build(build, {})
        self.drawing.show_way(tuple(self._stations()))
        busy = bool(self.session.jobs.running)
        self.put_button.setEnabled(bool(self.planned and self.planned.files) and not busy)
        count = len(self.planned.files) if self.planned else 0
        self.put_button.setText(f"Change {counted(count, 'boot file')}" if count else "Change boot files")
        self.undo_button.setEnabled(bool(change.last_change(self.session.folder)) and not busy)
        for act in (self.restart_button, self.settings_button):
            act.setEnabled(bool(build.library.host) and not busy)
        self._show_says()

    def _stations(self) -> list[Station]:
        build, told = self.build, self.told
        asked = finding.name_of(build)
        named = [
            each for each in self.found or () if each.shell and asked in (each.neighbour.name, each.neighbour.address)
        ]
        ours = next((each for each in self.found or () if each.ours), named[0] if named else None)
        rows = [
            Station(
                f"Ask this network for {asked}", "done" if self.found is not None else "next", HERE, "scans nothing"
            )
        ]
        if self.found is not None and ours is None:
            rows.append(Station("It does not answer", "stop", MACHINE, "Is it on, and in this network?"))
        else:
            where = (
                f"{ours.neighbour.address}, {'share too' if ours.share else 'login only'}" if ours else "not asked yet"
            )
            rows.append(Station("It answers", "done" if ours else "open", MACHINE, where))
        kept = build.library.host_key
        wrong = ours is not None and ours.ours is False
        note = fingerprint(kept).partition(" ")[2][:24] + "…" if kept else "asked at the first login"
        state = "stop" if wrong else "done" if kept else "open"
        rows.append(Station("Another host key than before" if wrong else "Compare its host key", state, HERE, note))
        says = f"kernel {told.kernel}" if told else "Check logs in and reads"
        rows.append(
            Station("Read its status", "stop" if told and told.worn else "done" if told else "open", MACHINE, says)
        )
        if self.planned is None:
            differ, state = "not compared yet", "open"
        else:
            count = len(self.planned.files)
            differ, state = (f"{counted(count, 'file')} to change", "next") if count else ("same as this build", "done")
        rows.append(Station("Boot files against this build's", state, HERE, differ))
        waited = build.upkeep.waited_for
        if waited:
            rows.append(Station("It did not come back", "stop", MACHINE, f"changed: {', '.join(waited)}"))
        else:
            back = self.back
            note = back.words if back and back.seconds is not None else "after a change"
            rows.append(Station("Restart it and compare", "done" if back else "open", MACHINE, note))
        return rows

    def _show_says(self) -> None:
        told = self.told
        figures: list[tuple[str, str]] = []
        if told is not None:
            figures = [("Kernel", told.kernel or "unknown"), ("Up", show_duration(told.up_s))]
            figures += [("Processor", f"{told.celsius:.0f}\u202f°C")] if told.celsius else []
            figures += [("Free", show_bytes(told.free))] if told.free else []
        self._figures.set_rows(tuple(figures))
        rows: list[tuple[object, Make]] = []

        def say(words: str, role: str = "") -> None:
            rows.append(((words, role), lambda: label(words, role, wrap=True)))

        for line in told.worn[:4] if told else ():
            say(f"▲ {visible(line)}", "stop")
        for name in told.failed if told else ():
            say(f"▲ failed: {visible(name)}", "stop")
        for words in self.planned.differences.values() if self.planned else ():
            say(visible(words, lines=True), "mono")
        others = [each for each in self.found or () if each.ours is not True]
        for each in others[:6]:
            say(visible(f"{each.neighbour.name}, {each.neighbour.address}: {each.words}"))
            rows.append((each, lambda each=each: self._use_button(each)))
        if told is None and not others:
            say("Find it, then check it: neither changes anything.", "muted")
        self._kept.show(rows)
        self._list.addStretch(1)

    # --- acting --------------------------------------------------------------------------------------------------

    def find(self, *, seconds: float = ANSWER_S) -> None:
        """Ask the network for the machine, as a job."""
        build, folder = self.build, self.session.folder

        def done(found: tuple[finding.Sighting, ...]) -> None:
            self.found = found
            count = len(found)
            self.session.said.emit(
                f"{count} machine{'s answer' if count > 1 else ' answers'}."
                if count
                else "Nothing answers to that name."
            )
            self.refresh()

        asking.run(
            self.session,
            self,
            "Asking this network",
            lambda _watch: finding.find(build, neighbourhood_of(folder), seconds=seconds, neighbours=True),
            done,
            cancellable=False,
        )

    def _use_button(self, sighting: finding.Sighting) -> QWidget:
        use = button("Use this address", lambda: self.use(sighting), "quiet")
        use.setAccessibleName(visible(f"Use this address, {sighting.neighbour.name}, {sighting.neighbour.address}"))
        use.setEnabled(sighting.shell)
        return use

    def use(self, sighting: finding.Sighting) -> None:
        """Reach the machine at another address from now on."""
        self.session.put("Machine's address", finding.with_machine(self.build, sighting))

    def make_key(self) -> None:
        """A key pair in the user's own folder; the machine learns its public half at the first boot."""

        def done(made: keys.Made) -> None:
            self.session.put("SSH key", keys.with_key(self.build, made))
            self.session.said.emit(f"{made.path}: the machine knows it after its next first boot.")

        asking.run(self.session, self, "Making a key", lambda _watch: keys.make(keys.usual(self.build)), done)

    def look(self) -> None:
        """Log in, read what it says and its boot files; nothing is changed."""
        catalogue, password = self.session.catalogue, self.password.text()

        def work(_watch: Watch) -> tuple[running.Running, Put]:
            with running.boot_folder(self.build, password) as machine:
                return running.look(machine), change.planned(self.build, catalogue, machine)

        def done(found: tuple[running.Running, Put]) -> None:
            self.told, self.planned = found
            self.session.upkeep_happened(looked_at=now())
            self.refresh()

        asking.run(self.session, self, "Checking the machine", work, done)

    def put_files(self) -> None:
        """Change its boot files to this build's."""
        folder, catalogue, password = self.session.folder, self.session.catalogue, self.password.text()

        def work(watch: Watch) -> Put:
            with running.boot_folder(self.build, password) as machine:
                change.put(folder, self.build, catalogue, machine, watch)
                return change.planned(self.build, catalogue, machine)

        def done(found: Put) -> None:
            self.planned, self.back = found, None
            self.session.said.emit("Changed and verified; takes effect at the next boot.")
            self._after()

        asking.run(self.session, self, "Changing boot files", work, done)

    def take_back(self) -> None:
        """The boot files as they were before the last change."""
        folder, catalogue, password = self.session.folder, self.session.catalogue, self.password.text()

        def work(watch: Watch) -> tuple[Any, Put]:
            with running.boot_folder(self.build, password) as machine:
                undone = change.undo(folder, machine, watch)
                return undone, change.planned(self.build, catalogue, machine)

        def done(found: tuple[Any, Put]) -> None:
            undone, self.planned = found
            self.session.said.emit(f"{counted(undone.restored, 'file')} restored, {undone.removed} removed.")
            self._after()

        asking.run(self.session, self, "Undoing the change", work, done)

    def change_settings(self) -> None:
        """Compare its settings with this build's, and ask before any is changed."""
        build, password, catalogue = self.build, self.password.text(), self.session.catalogue

        def work(_watch: Watch) -> root.Planned:
            with running.root_folder(build, password) as machine:
                return root.planned(build, catalogue, machine)

        asking.run(self.session, self, "Comparing settings", work, self.ask_settings)

    def ask_settings(self, found: root.Planned) -> None:
        """Show what would change; it is changed when that is wanted."""
        dialog = SettingsDialog(self.session, found, self)
        if not dialog.exec():
            return
        folder, build, password, undo = self.session.folder, self.build, self.password.text(), dialog.undo
        catalogue = self.session.catalogue

        def work(watch: Watch) -> str:
            with running.root_folder(build, password) as machine:
                if undo:
                    done = root.undo(folder, machine, watch)
                    return f"{counted(done.restored, 'file')} restored, {done.removed} removed."
                root.put(folder, build, catalogue, machine, watch)
                return "Settings changed and verified; they take effect at the next boot."

        def done(words: str) -> None:
            self.session.said.emit(words)
            self._after()

        asking.run(self.session, self, "Changing settings", work, done)

    def restart(self) -> None:
        """Restart it and wait until it is back."""
        folder, build, password = self.session.folder, self.build, self.password.text()

        def work(watch: Watch) -> change.Back:
            return change.restart(folder, build, lambda: SecureCopy(running.login(build, password)), watch)

        def done(back: change.Back) -> None:
            self.back = back if back.seconds is not None else None
            self.told = back.running if back.seconds is not None else self.told
            waited = change.changed_files(folder) if back.seconds is None else ()
            self.session.upkeep_happened(waited_for=waited or (("nothing by Kyklon",) if back.seconds is None else ()))
            self.session.said.emit(back.words)
            self._after()

        asking.run(self.session, self, "Restarting the machine", work, done)

    def _after(self) -> None:
        self.session.acted()
        self.refresh()
