"""The open build: its history, what was observed of the world, and its findings. Pages listen to it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from kyklon.app.shell.jobs import Jobs
from kyklon.app.theme.tokens import Theme
from kyklon.base.errors import KyklonError
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build, CardEvent, CardRecord, CardState, SignOff, Tick, edited, remedied
from kyklon.model.card import (
    CardContents,
)
from kyklon.model.findings import Finding, Remedy
from kyklon.model.world import World
from kyklon.operations import inspection, observing, workshop
from kyklon.operations.poweron.bringup import bring_up, lay_out
from kyklon.operations.poweron.events import BringUp
from kyklon.record import folder as store
from kyklon.record.history import History
from kyklon.record.logbook import Logbook, now
from kyklon.record.saver import Saver

LOOKS: dict[str, tuple[str, Callable[..., World]]] = {
    "source": ("Looking into the image", observing.observe_source),
    "card": ("Reading the card", observing.observe_card),
    "display": ("Reading the identification data", observing.observe_display),
}


class Session(QObject):
    """One open build folder."""

    changed = pyqtSignal()  # the build, the world, the findings or the bring-up
    logged = pyqtSignal()
    said = pyqtSignal(str)  # one line for the bottom bar
    _saved = pyqtSignal(object)  # None, or the KyklonError of a save, from the saving thread

    def __init__(self, folder: Path, catalogue: Catalogue, jobs: Jobs, theme: Theme) -> None:
        super().__init__()
        opened = store.load(folder)
        if opened.warning:
            store.keep_damaged(folder)
        self.folder, self.catalogue, self.jobs, self.theme = folder, catalogue, jobs, theme
        self.warning = opened.warning
        self.history = History(opened.build)
        self.world = observing.observe_display(opened.build, folder, World())
        self.logbook = Logbook(folder)
        self.findings: tuple[Finding, ...] = ()
        self.bring_up: BringUp | None = None
        self.bring_up_current = False
        self.saved_at = ""
        self._saver = Saver(folder, self._saved.emit)
        self._saved.connect(self._on_saved)
        self._inspect()

    @property
    def build(self) -> Build:
        return self.history.build

    # --- edits ---------------------------------------------------------------------------------------------

    def edit(self, label: str, path: str, value: Any) -> None:
        """Replace one value of the build; an invalid one is told and changes nothing."""
        try:
            build = edited(self.build, path, value)
        except ValueError as bad:
            self.said.emit(f"{label}: {bad}")
            return
        self.put(label, build)

    def put(self, label: str, build: Build) -> None:
        """Make a whole new build the present one, as one step of undo."""
        if build == self.build:
            return
        before = self.build
        self.history.edit(label, build)
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
        self.said.emit(f"Done again: {label}")

    def _after_edit(self, before: Build) -> None:
        self.save()
        self.bring_up_current = False
        self._inspect()
        self.changed.emit()
        if before.source != self.build.source:
            self.look("source")
        if before.picture.identification != self.build.picture.identification:
            self.look("display")
        if (before.library, before.systems) != (self.build.library, self.build.systems):
            self.look_at_library()

    def save(self) -> None:
        """Save the present build soon, in the background."""
        self._saver.put(self.build)

    def flush(self) -> None:
        """Wait for the disk: before a job that reads the build there, and at the end."""
        self._saver.flush()

    def end(self) -> None:
        """Stop all work and have everything on disk."""
        self.jobs.stop_all()
        self._saver.end()

    def _on_saved(self, error: KyklonError | None) -> None:
        if error is not None:
            self.said.emit(str(error))
            return
        self.saved_at = now()[11:16]
        self.logged.emit()

    def apply_remedy(self, remedy: Remedy, title: str) -> None:
        """The build after a remedy, as one step of undo, saved and logged."""
        before = self.build
        self.history.edit(remedy.label, remedied(before, remedy))
        workshop.log_remedy(self.folder, remedy, title)
        self._after_edit(before)
        self.logged.emit()

    def sign_off(self, operation: inspection.Operation) -> None:
        """Sign an operation off as it is now; logged."""
        sign = SignOff(operation=operation.number, at=now(), inputs=inspection.fingerprint(self.build, operation))
        rest = tuple(each for each in self.build.sign_offs if each.operation != operation.number)
        self._happened("sign_offs", (*rest, sign))
        self.log(operation.number, f"{operation.name} signed off")

    def tick(self, item: str, text: str, *, on: bool) -> None:
        """Tick a first-boot check, or take it back; logged."""
        rest = tuple(tick for tick in self.build.ticks if tick.item != item)
        self._happened("ticks", (*rest, Tick(item=item, at=now())) if on else rest)
        self.log(90, f"{'Checked' if on else 'Check taken back'}: {text}")

    def card_happened(self, record: CardRecord) -> None:
        """What became of the card; a record of a write means that one is under way now."""
        self.world = replace(self.world, writing=record.state is CardState.WRITING)
        self._happened("card", record)

    def card_event(self, identity: str, size: int, event: CardEvent, *, emptied: bool = False) -> None:
        """Part of a card's history, written to disk already by the act itself. emptied: nothing is on it any more."""
        build = self.build.with_event(identity, size, event)
        if emptied and build.card.drive == identity:
            build = edited(build, "card", CardRecord())
            self.world = replace(self.world, card=None)
        self.history.replace(build)
        self.save()
        self._inspect()
        self.changed.emit()
        self.logged.emit()

    def _happened(self, path: str, value: Any) -> None:
        """Something that cannot be undone."""
        value = [each.model_dump() for each in value] if isinstance(value, tuple) else value
        self.history.replace(edited(self.build, path, value))
        self.save()
        self._inspect()
        self.changed.emit()

    def log(self, operation: int, title: str, detail: str = "", *, kind: str = "done") -> None:
        self.logbook.add(operation, title, detail, kind=kind)
        self.logged.emit()

    def _inspect(self) -> None:
        self.findings = inspection.inspect(self.build, self.catalogue, self.world)

    # --- the world -------------------------------------------------------------------------------------------

    def set_world(self, world: World) -> None:
        self.world = world
        self._inspect()
        self.changed.emit()

    def look(self, what: str) -> None:
        """Observe one part of the world again, in the background."""
        title, observer = LOOKS[what]
        build, folder = self.build, self.folder
        fields = {"source": ("source", "source_error", "source_stated", "source_contents"), "card": ("card",),
                  "display": ("identification", "identification_error")}[what]  # fmt: skip
        self.jobs.start(
            title,
            lambda _sink, _cancel: observer(build, folder, World()),
            lambda seen: self._merge(seen, fields),
            cancellable=False,
        )

    def look_at_library(self) -> None:
        build, folder, catalogue = self.build, self.folder, self.catalogue

        def work(sink: Any, cancel: Any) -> World:
            world = observing.observe_library(build, folder, catalogue, World(), sink, cancel)
            return observing.observe_machine(build, folder, catalogue, world)

        self.jobs.start(
            "Scanning the library", work, lambda seen: self._merge(seen, ("scan", "scan_error", "on_machine"))
        )

    def look_at_everything(self) -> None:
        self.look("source")
        if self.build.card.drive:
            self.look("card")
        self.look_at_library()

    def _merge(self, seen: World, fields: tuple[str, ...]) -> None:
        self.set_world(replace(self.world, **{name: getattr(seen, name) for name in fields}))

    # --- power-on --------------------------------------------------------------------------------------------

    def run_bring_up(self) -> None:
        """Read the card again, then predict; the result comes with `changed`."""
        build, folder, catalogue, world = self.build, self.folder, self.catalogue, self.world

        def work(_sink: Any, _cancel: Any) -> tuple[World, BringUp]:
            seen = observing.observe_card(build, folder, world)
            seen = observing.observe_library(build, folder, catalogue, seen)
            seen = observing.observe_machine(build, folder, catalogue, seen)
            card = seen.card or CardContents(table_error="no card is plugged in, or none was written")
            bench = lay_out(
                build, catalogue, card, identification=seen.identification, scan=seen.scan, on_machine=seen.on_machine
            )
            return seen, bring_up(bench)

        def done(result: tuple[World, BringUp]) -> None:
            self.bring_up, self.bring_up_current = result[1], True
            failure = result[1].failure
            self.logbook.add(90, f"Bring-up reached: {result[1].reached}", failure.cause if failure else "No failure.")
            self.set_world(replace(result[0], writing=self.world.writing))

        self.jobs.start("Bring-up", work, done, cancellable=False)
