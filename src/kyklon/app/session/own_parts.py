"""The shelf of parts as a window has it: read again when it changes, with a build's own copies over it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QFileSystemWatcher, QObject, pyqtSignal, pyqtSlot

from kyklon.base.errors import KyklonError
from kyklon.base.places import catalogue_folder
from kyklon.catalogue import loader
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build, PartCopy
from kyklon.parts import trust
from kyklon.parts.store import Step, Store
from kyklon.parts.view import catalogue_for, waiting_for
from kyklon.record.keeper import Keeper

_WATCHED = 500  # files that are watched one by one; the folders are in any case


class OwnParts(QObject):
    """shelf: as it is on this machine. steps: what was changed there from this window, for undo. waiting: text that the
    build brings and that nobody here has looked at."""

    changed = pyqtSignal()  # the shelf, or what may be used of the build's own text
    said = pyqtSignal(str)

    def __init__(self, shelf: Catalogue, keeper: Keeper) -> None:
        super().__init__()
        self.shelf, self._keeper = shelf, keeper
        self.steps: list[Step] = []
        self.waiting: tuple[PartCopy, ...] = ()
        self._seen: tuple[Build, Catalogue, Catalogue] | None = None
        self._watcher = QFileSystemWatcher(self)
        self._watcher.directoryChanged.connect(self._on_changed)
        self._watcher.fileChanged.connect(self._on_changed)  # a text editor that writes in place
        self._watch()

    def catalogue(self, build: Build) -> Catalogue:
        """The shelf's parts, with those that the build brings itself over them."""
        known = self._seen
        if known is not None and known[1] is self.shelf and (known[0] is build or known[0].copies == build.copies):
            self._seen = (build, known[1], known[2])
            return known[2]
        self.waiting = waiting_for(build, self.shelf)
        made = catalogue_for(build, self.shelf)
        self._seen = (build, self.shelf, made)
        return made

    @property
    def store(self) -> Store:
        """The shelf's folder."""
        return Store(self.shelf.user_folder or catalogue_folder())

    @pyqtSlot()
    def _on_changed(self) -> None:
        self.read()

    def _watch(self) -> None:
        """Hear of every change in the user's catalogue folder, whoever makes it."""
        folder = self.store.folder
        places: list[Path] = [folder, *(folder / kind for kind in loader.KINDS)]
        known = {*self._watcher.directories(), *self._watcher.files()}
        fresh = [str(place) for place in places if place.is_dir() and str(place) not in known]
        own = dict.fromkeys((*self.shelf.own.values(), *(each.path for each in self.shelf.broken)))
        fresh += [str(each) for each in list(own)[:_WATCHED] if str(each) not in known and each.is_file()]
        if fresh:
            self._watcher.addPaths(fresh)

    def read(self, then: Callable[[], object] = lambda: None) -> None:
        """Read the user's parts again, in the background. then: called once they are here."""
        folder = self.store.folder

        def taken(shelf: Catalogue) -> None:
            self._watch()
            if (shelf.parts, shelf.own, shelf.broken) != (self.shelf.parts, self.shelf.own, self.shelf.broken):
                self.shelf = shelf
                self.changed.emit()
            then()

        self._keeper.do(lambda: loader.load(folder, strict=False), taken, self._told)

    def act(
        self,
        act: Callable[[Store], Step | tuple[Step, ...]],
        said: str = "",
        then: Callable[[], object] = lambda: None,
    ) -> None:
        """Change the shelf, in the background; what was done can be taken back there. then: called once it is read."""
        store = self.store

        def done(result: Step | tuple[Step, ...]) -> None:
            self.steps += result if isinstance(result, tuple) else (result,)
            if said:
                self.said.emit(said)
            self.read(then)

        self._keeper.do(lambda: act(store), done, self._told)

    def undo(self) -> None:
        """Take the last change of the shelf back."""
        if not self.steps:
            return
        step, store = self.steps.pop(), self.store

        def done(_step: Step) -> None:
            self.said.emit(f"Undone: {step.label}")
            self.read()

        self._keeper.do(lambda: store.undo(step), done, self._told)

    def agree(self) -> None:
        """The build's own text was shown, and may be used from now on."""
        rows = [(copy.kind, copy.row) for copy in self.waiting]

        def done(_none: object) -> None:
            self._seen = None
            self.changed.emit()

        self._keeper.do(lambda: trust.remember(rows), done, self._told)

    def _told(self, bad: KyklonError) -> None:
        self.said.emit(str(bad))
