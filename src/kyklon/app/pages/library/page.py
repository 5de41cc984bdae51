"""Operation 60: every game named, chosen, and where it belongs, in six views."""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

from PyQt6.QtCore import QFileSystemWatcher, QTimer, pyqtSlot

from kyklon.app.pages.library.choice_view import ChoiceView
from kyklon.app.pages.library.lists_view import ListsView
from kyklon.app.pages.library.review_view import ReviewView
from kyklon.app.pages.library.shelves_view import ShelvesView
from kyklon.app.pages.library.system_files_view import SystemFilesView
from kyklon.app.pages.library.transfer_view import TransferView
from kyklon.app.pages.tab_view import TabView
from kyklon.app.pages.tabbed_page import TabbedPage
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import button
from kyklon.catalogue.chosen import known_systems
from kyklon.record.folder import resolve

SHELVES, REVIEW, FILES, CHOICE, TRANSFER, LISTS = range(6)
_VIEWS: tuple[tuple[str, Callable[[Session], TabView]], ...] = (
    ("Shelves", ShelvesView),
    ("Uncertain matches", ReviewView),
    ("Firmware files", SystemFilesView),
    ("What fits", ChoiceView),
    ("Transfer", TransferView),
    ("Lists", ListsView),
)
_MOST_WATCHED = 2000  # folders; the kernel allows a user some thousands (inotify(7))
_CHANGED_MS = 1500  # after the last change in the library's folders before they are looked at


class LibraryPage(TabbedPage):
    number = 60
    cautions = (
        "Use only games and firmware files that you have the right to use. Nothing is downloaded.",
        "A front end shows a system only when its folder holds a game, and only after a restart.",
    )

    def __init__(self, session: Session) -> None:
        super().__init__(session, _VIEWS, "Part of the library")
        self._watched: tuple[str, ...] = ()
        self._watcher = QFileSystemWatcher(self)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(_CHANGED_MS)
        self._soon.timeout.connect(self._look_again)
        self._watcher.directoryChanged.connect(self._on_changed)
        self._again = button("Rescan", lambda: session.look("library"), "quiet")
        self.lay_out(self._again)

    @pyqtSlot()
    def _look_again(self) -> None:
        self.session.look("library")

    @pyqtSlot()
    def _on_changed(self) -> None:
        self._soon.start()

    @property
    def shelves(self) -> ShelvesView:
        return cast(ShelvesView, self.view_at(SHELVES))

    @property
    def review(self) -> ReviewView:
        return cast(ReviewView, self.view_at(REVIEW))

    @property
    def system_files(self) -> SystemFilesView:
        return cast(SystemFilesView, self.view_at(FILES))

    @property
    def choice(self) -> ChoiceView:
        return cast(ChoiceView, self.view_at(CHOICE))

    @property
    def transfer(self) -> TransferView:
        return cast(TransferView, self.view_at(TRANSFER))

    @property
    def lists(self) -> ListsView:
        return cast(ListsView, self.view_at(LISTS))

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        scan = self.session.world.scan
        doubtful = len(scan.doubtful) if scan else 0
        self.set_subject(
            self.session.world.scan_error or "Reading the library…"
            if scan is None
            else f"{len(scan.ready)} of {len(scan.games)} games are ready"
            + (f", {doubtful} uncertain matches" if doubtful else "")
        )
        self._watch()
        self.view_at(self.view).refresh()

    def _watch(self) -> None:
        """Hear of changes in the systems' folders."""
        build = self.session.build
        if not build.library.folder:
            return
        top = resolve(self.session.folder, build.library.folder)
        wanted = (
            top,
            top / "system-files",
            *(top / system.folder for system in known_systems(build, self.session.catalogue)),
        )
        scan = self.session.world.scan
        inner = {str(top / game.key.rpartition("/")[0]) for game in scan.games} if scan else set()
        paths = tuple(dict.fromkeys((*(str(each) for each in wanted if each.is_dir()), *sorted(inner))))[:_MOST_WATCHED]
        if paths != self._watched:
            if self._watcher.directories():
                self._watcher.removePaths(self._watcher.directories())
            self._watched = paths
            if paths:
                self._watcher.addPaths(list(paths))

    def copy_games(self) -> None:
        """Copy what is ready, as its button does."""
        self.show_view(TRANSFER)
        self.transfer.copy_games()
