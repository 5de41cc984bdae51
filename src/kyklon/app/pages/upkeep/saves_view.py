"""Saves: found, backed up in dated archives, restored without losing what is newer."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QBoxLayout, QCheckBox, QFileDialog, QVBoxLayout, QWidget

from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.pages.upkeep import asking
from kyklon.app.pages.upkeep.saves_drawing import Line, SavesDrawing
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row, scrolled, unmarked
from kyklon.app.widgets.kept import emptied
from kyklon.app.widgets.tick import Tick
from kyklon.base.progress import Watch
from kyklon.base.quantities import counted, show_bytes
from kyklon.base.shown import visible
from kyklon.devices.destination import Destination
from kyklon.devices.linux.folder import Folder
from kyklon.devices.secure_copy import SecureCopy
from kyklon.operations.library import acts
from kyklon.operations.upkeep import running, saves
from kyklon.record.logbook import now

_SHOWN = 8  # archives that are drawn, the latest


class SavesView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.found: tuple[saves.Save, ...] = ()
        self.sums: dict[str, str] = {}
        self.looked = False
        self.folder: Path | None = None
        self.left: tuple[saves.Row, ...] = ()
        self.instrument = self.drawing = SavesDrawing(self.theme)
        sheet = Sheet("Saves", "! is not backed up")
        sheet.head.addWidget(button("From a folder…", self.ask_folder, "quiet", tip="A stick, or a mounted card"))
        sheet.head.addWidget(button("Scan", self.look, "outline"))
        sheet.add(scrolled(self.drawing))
        self._where = label("", "muted", wrap=True)
        self.password = asking.password_field()
        self.keep_button = button("Back up saves", self.keep, "primary")
        keep = Sheet("Back up")
        keep.add(self._where, self.password, self.keep_button)
        self._which = Choice(self.theme, "Archive", lambda _value: None)
        self.restore_button = button("Restore", self.restore, "outline")
        self.undo_button = button("Undo restore", self.take_back)
        self._list = QVBoxLayout()
        self._boxes: dict[str, QCheckBox] = {}
        holder = QWidget()
        holder.setLayout(self._list)
        back = Sheet("Restore")
        back.add(self._which, row(self.restore_button, self.undo_button, 1), scrolled(holder))
        back.body.setStretch(2, 1)
        side = column(keep, back, spacing=12)
        side.setStretch(1, 1)
        if self.theme.scale > 1:
            sheet.setMinimumHeight(round(self.theme.px(360)))
            back.setMinimumHeight(round(self.theme.px(240)))
            layout: QBoxLayout = column(sheet, side, spacing=14)
        else:
            for each in (keep, back):
                each.setFixedWidth(side_px(self.theme, 30))
            layout = row(sheet, side, spacing=14)
        layout.setStretch(0, 1)
        self.setLayout(layout)

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Override."""
        build = self.build
        known = saves.archives(self.session.folder)
        if self.folder is not None:
            inside = self.folder.is_relative_to(self.session.folder)
            where = f"In {self.folder.relative_to(self.session.folder) if inside else self.folder}"
        elif build.library.route == "secure copy":
            where = f"On {build.library.host or 'the machine, which has no address yet'}"
        else:
            where = f"In {build.library.destination or 'no folder yet'}, where the games go"
        self._where.setText(where)
        busy = bool(self.session.jobs.running)
        for each in (self.keep_button, self.restore_button):
            each.setEnabled(not busy)
        self.restore_button.setEnabled(bool(known) and not busy)
        self.undo_button.setEnabled(bool(saves.can_take_back(self.session.folder)) and not busy)
        chosen = self._which.value if any(each.name == self._which.value for each in known) else ""
        choices = tuple(
            (each.name, f"{each.when[:10]} {each.when[11:16]}, {counted(len(each.sums), 'save')}")
            for each in known[::-1]
        )
        self._which.set_choices(choices or (("", "no backup yet"),), chosen or (choices[0][0] if choices else ""))
        shown = known[-_SHOWN:]
        self.drawing.show_saves(tuple(each.when[5:10] for each in shown), tuple(self._lines(known)), looked=self.looked)
        if set(self._boxes) != {each.path for each in self.left}:
            self._show_left()

    def _lines(self, known: tuple[saves.Archive, ...]) -> Iterator[Line]:
        about = {save.path: save for save in self.found}
        paths = dict.fromkeys([*about, *(path for each in known for path in each.sums)])
        for path in list(paths)[:400]:
            letters: dict[str, str] = {}
            for each in known:
                if path in each.sums:
                    letters.setdefault(each.sums[path], _letter(len(letters)))
            kept = self.sums.get(path, "") in letters
            now_there = self.sums.get(path)
            if now_there:
                letters.setdefault(now_there, _letter(len(letters)))
            versions = [letters.get(each.sums.get(path, ""), "") for each in known[-_SHOWN:]]
            save = about.get(path)
            second = f"{save.system}, {save.kind}, {show_bytes(save.size)}" if save else "missing now"
            name = (save.game if save else "") or path.rpartition("/")[2]
            yield Line(visible(name), second, (*versions, letters.get(now_there or "", "")), kept)

    def _show_left(self) -> None:
        emptied(self._list)
        self._boxes = {}
        if self.left:
            why = dict.fromkeys(each.why_left for each in self.left)
            words = f"{'; '.join(why)}: not restored. Tick what to restore anyway:"
            self._list.addWidget(label(words, "warning", wrap=True))
        for each in self.left:
            box = Tick(unmarked(visible(each.path.rpartition("/")[2])))
            box.setToolTip(visible(each.path))
            self._boxes[each.path] = box
            self._list.addWidget(box)
        self._list.addStretch(1)

    # --- acting --------------------------------------------------------------------------------------------------

    def ask_folder(self) -> None:
        """A stick or a mounted card in place of the machine."""
        path = QFileDialog.getExistingDirectory(self, "Where the saves are", str(self.session.folder))
        if path:
            self.use_folder(Path(path))

    def use_folder(self, path: Path) -> None:
        """Look for saves in a folder from now on."""
        self.folder = path
        self.look()

    @contextmanager
    def _place(self) -> Iterator[Destination]:
        build, folder, password = self.build, self.session.folder, self.password.text()
        if self.folder is not None:
            yield Folder(acts.checked(build, folder, self.folder))
        elif build.library.route == "secure copy":
            machine = SecureCopy(running.login(build, password, build.upkeep.saves_folder))
            try:
                yield machine
            finally:
                machine.close()
        else:
            with acts.opened(build, folder, password) as place:
                yield place

    def _with(self, title: str, work: Callable[[Destination, Watch], Any], done: Callable[[Any], None]) -> None:
        """Work at the place, then look at it again."""
        build, catalogue = self.build, self.session.catalogue

        def job(watch: Watch) -> tuple[Any, tuple[saves.Save, ...], dict[str, str]]:
            with self._place() as place:
                told = work(place, watch)
                found = saves.find(build, catalogue, place)
                return told, found, saves.sums_there(place, found, watch)

        def after(result: tuple[Any, tuple[saves.Save, ...], dict[str, str]]) -> None:
            told, self.found, self.sums = result
            self.looked = True
            done(told)
            self.session.acted()
            self.refresh()

        asking.run(self.session, self, title, job, after)
        self.refresh()

    def look(self) -> None:
        """See what saves there are."""
        self._with("Scanning for saves", lambda _place, _watch: None, lambda _none: None)

    def keep(self) -> None:
        """Keep them all in a dated archive."""
        build, folder, catalogue = self.build, self.session.folder, self.session.catalogue

        def done(kept: saves.Kept) -> None:
            self.session.upkeep_happened(saves_at=now())
            words = f"{len(kept.new)} new, {len(kept.changed)} changed, {kept.same} unchanged"
            words += f"; {len(kept.left_out)} skipped" if kept.left_out else ""
            self.session.said.emit(f"{words}: {kept.archive}." if kept.archive else f"{words}; nothing new to back up.")

        self._with("Backing up saves", lambda place, watch: saves.keep(folder, build, catalogue, place, watch), done)

    def restore(self) -> None:
        """Put the chosen archive back; what is newer stays unless it is ticked."""
        build, folder, catalogue = self.build, self.session.folder, self.session.catalogue
        name, wanted = self._which.value, tuple(path for path, box in self._boxes.items() if box.isChecked())

        def done(told: saves.Restored) -> None:
            self.left = told.left
            stayed = f"; {len(told.left)} were not" if told.left else ""
            self.session.upkeep_happened(saves_at=now())
            self.session.said.emit(f"{counted(len(told.put), 'save')} restored{stayed}.")

        def work(place: Destination, watch: Watch) -> saves.Restored:
            return saves.restore(folder, build, catalogue, place, saves.Wanted(name, wanted), watch)

        self._with("Restoring saves", work, done)

    def take_back(self) -> None:
        """The saves as they were before the last putting back."""
        folder = self.session.folder

        def done(told: Any) -> None:
            self.left = ()
            self.session.said.emit(f"{told.restored} restored, {told.removed} removed.")

        self._with("Undoing the restore", lambda place, watch: saves.take_back(folder, place, watch), done)


def _letter(number: int) -> str:
    """A to Z, then numbers."""
    return chr(ord("A") + number) if number < 26 else str(number + 1)
