"""The open build: its history, what was observed of the world, and its findings. Pages listen to it.

Whatever touches a disk, a bus or a process is done by a job or by the keeper's thread, never here.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QFileSystemWatcher, QTimer, pyqtSignal, pyqtSlot

from kyklon.app.session.jobs import Jobs, to_whom_is_there
from kyklon.app.session.own_parts import OwnParts
from kyklon.app.session.power_on import PowerOnRuns
from kyklon.app.theme.tokens import Theme
from kyklon.base import durable
from kyklon.base.errors import Cancelled, KyklonError
from kyklon.base.progress import UNWATCHED, Watch
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build, CardEvent, CardRecord, CardState, SignOff, Tick, edited, remedied
from kyklon.model.fields import describe
from kyklon.model.findings import Finding, Remedy
from kyklon.model.merge import merge as merged_builds
from kyklon.model.world import World
from kyklon.operations import inspection
from kyklon.operations.operation import Operation
from kyklon.operations.registry import LOOKS
from kyklon.operations.remedies import words_of
from kyklon.parts import repository
from kyklon.parts.view import inspect, kept
from kyklon.record import builds, noting, restoring
from kyklon.record import folder as store
from kyklon.record.history import History
from kyklon.record.keeper import Keeper, Saved
from kyklon.record.logbook import Entry, Logbook, now

_IDLE_MS = 4000  # after the last edit before it is noted: a number being typed is one change


@dataclass(frozen=True)
class Loaded:
    """A build folder as it was read. warning: what its reader should know, '' for nothing."""

    folder: Path
    build: Build
    warning: str
    catalogue: Catalogue
    world: World
    stamp: store.Stamp = None


def load(folder: Path, catalogue: Catalogue) -> Loaded:
    """Read a build folder, with what the first findings need of the world. Raises KyklonError."""
    store.sweep(folder)
    repository.look()
    finished = restoring.finish(folder)
    opened = store.load(folder)
    world = LOOKS["display"].look(opened.build, folder, catalogue, World(), UNWATCHED)
    warning = " ".join(filter(None, (opened.warning, finished)))
    return Loaded(folder, opened.build, warning, catalogue, world, opened.stamp)


class Session(PowerOnRuns):
    """One open build folder."""

    logged = pyqtSignal()
    said = pyqtSignal(str)  # one line for the bottom bar
    _delivered = pyqtSignal(object)  # what to do on this thread, from the keeper's

    def __init__(self, loaded: Loaded, jobs: Jobs, theme: Theme) -> None:
        super().__init__()
        self.folder, self.jobs, self.theme = loaded.folder, jobs, theme
        self.warning = loaded.warning
        self.history = History(loaded.build)
        self.world = loaded.world
        self.findings: tuple[Finding, ...] = ()
        self.bring_up = self.bring_up_before = self.rehearsal = self.log_reading = self.other_bring_up = None
        self.bring_up_current = False
        self.saved_at = ""
        self.not_saved = ""  # why the build is not on the disk, '' where it is or will be at once
        self._base = loaded.build  # what this window and the disk have in common
        self.log_count = 0
        self._ending = False
        self._unnoted: Build | None = None  # the build before the first edit that the logbook does not have yet
        self._idle = QTimer(self)
        self._idle.setSingleShot(True)
        self._idle.setInterval(_IDLE_MS)
        self._idle.timeout.connect(self.note_edits)
        self._logbook = Logbook(self.folder)
        self._delivered.connect(to_whom_is_there)
        self._keeper = Keeper(self.folder, loaded.build, self._delivered.emit, self._on_saved, loaded.stamp)
        self._watcher = QFileSystemWatcher([str(self.folder)], self)
        self._watcher.directoryChanged.connect(self._on_folder_changed)
        self.parts = OwnParts(loaded.catalogue, self._keeper)
        self.parts.changed.connect(self._on_parts_changed)
        self.parts.said.connect(self.said)
        self._count_log()
        self._inspect()
        with_own = kept(self.build, self.catalogue)
        if with_own != self.build:  # made before it had copies
            self.history.replace(with_own)
            self.save()
        self._keeper.do(lambda: builds.remember(self.folder), lambda _none: None, self._told)

    # a slot of its own, as all that come by themselves: PyQt lets go of it with its owner, where a lambda may be called
    # while Python's collector, in whatever thread, takes it apart
    @pyqtSlot()
    def _on_folder_changed(self) -> None:
        self._keeper.look()

    @property
    def build(self) -> Build:
        return self.history.build

    @property
    def catalogue(self) -> Catalogue:
        """The shelf's parts, with those that the build brings itself over them."""
        return self.parts.catalogue(self.history.build)

    def _on_parts_changed(self) -> None:
        self._inspect()
        self.changed.emit()

    # --- edits ---------------------------------------------------------------------------------------------

    def edit(self, path: str, value: Any, label: str = "") -> None:
        """Replace one value of the build; an invalid one is told and changes nothing. label: for undo; the field's own
        name where it has one."""
        label = label or describe(Build, path).label
        try:
            build = kept(edited(self.build, path, value), self.catalogue)
        except ValueError as bad:
            self.said.emit(f"{label}: {_first_line(bad)}")
            return
        self.put(label, build)

    def put(self, label: str, build: Build) -> None:
        """Make a whole new build the present one, as one step of undo."""
        if build == self.build:
            return
        before = self.build
        self.history.edit(label, kept(build, self.catalogue))
        self._after_edit(before)

    def undo(self) -> None:
        before, label = self.build, self.history.undo_label
        self.history.undo()
        self._after_edit(before)
        self.said.emit(f"Undone: {label}")

    def redo(self) -> None:
        before, label = self.build, self.history.redo_label
        self.history.redo()
        self._after_edit(before)
        self.said.emit(f"Redone: {label}")

    def _after_edit(self, before: Build, *, noted: bool = False) -> None:
        """noted: it has an entry of its own in the logbook, or somebody else has written one."""
        self.save()
        if not noted:
            self._unnoted = before if self._unnoted is None else self._unnoted
            self._idle.start()
        # an answer of the fault finder changes no forecast, nor does what is done to the running machine
        if before.model_copy(update={"fault": self.build.fault, "upkeep": self.build.upkeep}) != self.build:
            self.bring_up_current = False
        self._inspect()
        self.changed.emit()
        if before.source != self.build.source:
            self.look("source")
        if _asked("sets", before) != _asked("sets", self.build):
            self.look("sets")
        if before.picture.identification != self.build.picture.identification:
            self.look("display")
        if (before.library, before.systems) != (self.build.library, self.build.systems):
            self.look("library")

    @pyqtSlot()
    def note_edits(self) -> None:
        """Put into the logbook what was edited since the last entry, in one entry."""
        self._idle.stop()
        before, self._unnoted = self._unnoted, None
        if before is not None and (words := noting.words_of(before, self.build))[0]:
            self.log(0, *words)

    def save(self) -> None:
        """Save the present build soon, in the background."""
        self._keeper.save(self._base, self.build)
        self._base = self.build

    def flush(self) -> None:
        """Wait for the disk: in a job that reads the build there, and at the end."""
        self._keeper.flush()

    def _on_saved(self, saved: Saved) -> None:
        if saved.error is not None:
            if str(saved.error) != self.not_saved:
                self.said.emit(str(saved.error))
            self.not_saved = str(saved.error)
            self.logged.emit()
            return
        self.saved_at, self.not_saved = now()[11:16], ""
        if saved.build != saved.given:
            self._base = merged_builds(saved.given, self._base, saved.build).build
            self._take(saved)
        self.logged.emit()

    def _take(self, saved: Saved) -> None:
        """Somebody else has changed the build, a command or another window: theirs and ours together."""
        merged = merged_builds(saved.given, self.build, saved.build)
        before, taken = self.build, merged.build
        if self.world.writing:  # an act of our own is at it, and tells when it has ended
            taken = taken.model_copy(update={"card": before.card})
        if taken == before:
            return
        self.note_edits()
        step = self.history.take(taken)
        self._after_edit(before, noted=True)
        if not step:  # an act of our own has recorded what happened to the card
            return
        conflicts = dict.fromkeys((*saved.conflicts, *merged.conflicts))
        self.said.emit("The build was changed elsewhere too; both changes are kept. Undo removes theirs.")
        if conflicts:
            names = ", ".join(_named(path) for path in conflicts)
            self.said.emit(f"Changed here and elsewhere at the same time: {names}. This window's value was kept.")
            self.log(0, f"Changed in two places at once: {names}", "The window's value was kept.")

    def apply_remedy(self, remedy: Remedy, title: str) -> None:
        """The build after a remedy, as one step of undo, saved and logged."""
        self.note_edits()
        before = self.build
        self.history.edit(remedy.label, kept(remedied(before, remedy), self.catalogue))
        self._after_edit(before, noted=True)
        self.log(0, *words_of(remedy, title))

    def sign_off(self, operation: Operation) -> None:
        """Sign an operation off as it is now; logged."""
        sign = SignOff(operation=operation.number, at=now(), inputs=inspection.fingerprint(self.build, operation))
        rest = tuple(off for off in self.build.sign_offs if off.operation != operation.number)
        self._happened("sign_offs", (*rest, sign))
        self.log(operation.number, f"{operation.name} signed off")

    def tick(self, item: str, text: str, *, on: bool) -> None:
        """Tick a first-boot check, or take it back; logged."""
        rest = tuple(tick for tick in self.build.ticks if tick.item != item)
        self._happened("ticks", (*rest, Tick(item=item, at=now())) if on else rest)
        self.log(90, f"{'Checked' if on else 'Unchecked'}: {text}")

    def upkeep_happened(self, **values: object) -> None:
        """What was done to the machine: fields of the build's upkeep, which undo does not take back."""
        self._happened("upkeep", self.build.upkeep.model_copy(update=values))

    def card_happened(self, record: CardRecord) -> None:
        """What became of the card; a record of a write means that one is under way now."""
        self.world = replace(self.world, writing=record.state is CardState.WRITING)
        self._happened("card", record)

    def card_written(self, record: CardRecord, size: int, event: CardEvent) -> None:
        """What a write left, written to disk already by the act itself."""
        self.world = replace(self.world, writing=False)
        self.history.replace(edited(self.build, "card", record).with_event(record.drive, size, event))
        self._recorded()

    def card_event(self, identity: str, size: int, event: CardEvent, *, emptied: bool = False) -> None:
        """Part of a card's history, written to disk already by the act itself. emptied: nothing is on it any more."""
        build = self.build.with_event(identity, size, event)
        if emptied and build.card.drive == identity:
            build = edited(build, "card", CardRecord())
            self.world = replace(self.world, card=None)
        self.history.replace(build)
        self._recorded()

    def _recorded(self) -> None:
        self.save()
        self._inspect()
        self.changed.emit()
        self.acted()

    def _happened(self, path: str, value: Any) -> None:
        """Something that cannot be undone."""
        self.history.replace(edited(self.build, path, value))
        self.save()
        self._inspect()
        self.changed.emit()

    def _inspect(self) -> None:
        catalogue = self.catalogue
        self.findings = inspect(self.build, catalogue, self.world, self.parts.waiting)

    # --- the logbook and other files ------------------------------------------------------------------------

    def log(self, operation: int, title: str, detail: str = "", *, kind: str = "done") -> None:
        """Write an entry, in the background; what was edited before it has one of its own."""
        if self._unnoted is not None:
            self.note_edits()
        self._keeper.do(
            lambda: self._logbook.add(operation, title, detail, kind=kind), lambda _entry: self._count_log(), self._told
        )

    def acted(self) -> None:
        """An act has written into the logbook by itself: count anew."""
        self._count_log()

    def _count_log(self) -> None:
        def counted(count: int) -> None:
            self.log_count = count
            self.logged.emit()

        self._keeper.do(self._logbook.count, counted, self._told)

    def ask_logbook(self, ask: Callable[[Logbook], Any], done: Callable[[Any], object]) -> None:
        """Read from the logbook in the background; the answer comes to `done`."""
        self._keeper.do(lambda: ask(self._logbook), done, self._told)

    def keep_file(self, path: Path, data: bytes, said: str, then: Callable[[], object] = lambda: None) -> None:
        """Write a file that the user named, in the background; `said` is told when it is there, then `then` called."""

        def there(_none: object) -> None:
            self.said.emit(said)
            then()

        self._keeper.do(lambda: durable.keep(path, data), there, self._told)

    def restore(self, entry: Entry) -> None:
        """Take the build folder to the state after an entry, as one step of undo; the present one is kept before."""
        self.note_edits()

        def restored() -> tuple[restoring.Restored, Build]:
            done = restoring.restore(self.folder, entry)
            return done, store.load(self.folder).build

        def done(found: tuple[restoring.Restored, Build]) -> None:
            before = self.build
            told, build = found
            self.history.edit(f"Restored entry {entry.id}", build)
            self._base = build
            self._after_edit(before, noted=True)
            self._count_log()
            self.said.emit(told.words)
            self.look_at_everything()

        self._keeper.do(restored, done, self._told)

    def aside(self, act: Callable[[], object], then: Callable[[], object] = lambda: None) -> None:
        """Do something small in the background, after what was asked for before it; what goes wrong is told. then:
        called once it is done."""
        self._keeper.do(act, lambda _none: then(), self._told)

    def _told(self, bad: KyklonError) -> None:
        self.said.emit(str(bad))

    # --- the world -------------------------------------------------------------------------------------------

    def set_world(self, world: World) -> None:
        self.world = world
        self._inspect()
        self.changed.emit()

    def look(self, key: str, then: Callable[[], object] = lambda: None) -> None:
        """Look at one part of the world again, in the background. then: called once it was seen."""
        look = LOOKS[key]
        build, folder, catalogue = self.build, self.folder, self.catalogue

        asked = _asked(key, build)

        def merge(seen: World) -> None:
            if _asked(key, self.build) != asked:
                self.look(key, then)  # the answer is one to a question that nobody asks any more
                return
            self.set_world(replace(self.world, **{name: getattr(seen, name) for name in look.fields}))
            then()

        def failed(error: KyklonError) -> None:
            if not isinstance(error, Cancelled):
                self.jobs.failed.emit(look.title, error)
            then()

        def work(watch: Watch) -> World:
            seen = look.look(build, folder, catalogue, World(), watch)
            catalogue.warm()  # what is shown next needs it; it would hold the window up
            catalogue.warm_late()
            return seen

        self.jobs.start(
            look.title,
            work,
            merge,
            bad=failed,
            cancellable=look.cancellable,
        )

    def look_at_everything(self) -> None:
        """One look after the other: side by side they would take turns with the window."""
        wanted = [key for key in LOOKS if key != "display" and (key != "card" or self.build.card.drive)]

        def go_on() -> None:
            if wanted and not self._ending:
                self.look(wanted.pop(0), go_on)

        go_on()

    # --- the end ---------------------------------------------------------------------------------------------

    def end_soon(self) -> None:
        """Ask all work to stop, and everything to reach the disk."""
        self.note_edits()
        self._ending = True
        self.jobs.ask_all_to_stop()
        self._keeper.end_soon()

    @property
    def unsaved(self) -> Build | None:
        """The build where it is not on the disk, or not yet."""
        return self._keeper.unsaved

    @property
    def ended(self) -> bool:
        """Whether nothing runs any more."""
        return not self.jobs.alive and not self._keeper.alive

    def end(self) -> None:
        """Stop all work and wait until everything is on disk."""
        if not self._ending:
            self.note_edits()
        self._ending = True
        if watched := self._watcher.directories():
            self._watcher.removePaths(watched)
        self.jobs.stop_all()
        self._keeper.end()


def _asked(key: str, build: Build) -> list[object]:
    """What a look at the world depends on, as the build has it."""
    return [inspection.input_of(build, path) for path in LOOKS[key].inputs]


def _named(path: str) -> str:
    try:
        return describe(Build, path).label
    except KeyError:
        return path


def _first_line(bad: ValueError) -> str:
    """What a validation error says, without the library's own frame."""
    told = getattr(bad, "errors", None)
    return str(told()[0]["msg"]) if told else str(bad)
