"""Operation 30: the boot settings, the files they become, and the way onto the card."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QFileDialog, QTabBar

from kyklon.app.pages.boot.file_view import FileView, shown_lines
from kyklon.app.pages.boot.line_budget import LineBudget, LineUse
from kyklon.app.pages.boot.service_track import ServiceTrack
from kyklon.app.pages.page import OperationPage
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Sheet, button, column, plain_tip, row, scrolled, unmarked
from kyklon.app.widgets.fields import FieldForm
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.errors import KyklonError, TargetError
from kyklon.base.progress import Watch
from kyklon.base.quantities import counted
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.records import Board, Display
from kyklon.catalogue.text_records import Dialect
from kyklon.model.build import edited
from kyklon.model.card import SETUP_SCRIPT, CardContents
from kyklon.model.kernel_line import words
from kyklon.operations.boot.add_ons import of_build
from kyklon.operations.boot.compile import IssuedFile, compiled
from kyklon.operations.boot.findings import kernel_sets
from kyklon.operations.boot.firmware import differing
from kyklon.operations.boot.first_boot import by_hand
from kyklon.operations.boot.hardware import kernel_line_of, offered_settings
from kyklon.operations.boot.services import track
from kyklon.operations.card.observe import card_target
from kyklon.record.logbook import now

if TYPE_CHECKING:
    from kyklon.operations.boot.acts import Put

GROUPS = {  # what is decided here, under the tab it is shown on
    "Start": ("boot.dialect", "boot.kernel", "boot.device_tree", "boot.safe_start", "boot.kernel_words"),
    "Picture": (
        "boot.force_output",
        "picture.issue_identification",
        "boot.mode_as",
        "boot.link",
        "boot.ignore_identification",
        "boot.signal_strength",
        "boot.turn",
        "boot.frame_size",
        "boot.overscan_percent",
        "boot.inset_left",
        "boot.inset_right",
        "boot.inset_top",
        "boot.inset_bottom",
    ),
    "Board": ("boot.sound", "boot.machine_sound", "boot.video_memory_mb", "boot.processor_mhz", "boot.overlays"),
    "System": (
        "boot.user",
        "system.password_hash",
        "boot.hostname",
        "system.time_zone",
        "system.keyboard",
        "system.may_shut_down",
        "system.add_ons",
        "system.start_command",
        "system.library_links",
    ),
    "Network": (
        "boot.country",
        "system.wireless_name",
        "system.wireless_key",
        "system.wired",
        "system.remote_key",
        "system.remote_boot",
        "system.own_share",
        "system.shares",
    ),
}
DECISIONS = tuple(path for paths in GROUPS.values() for path in paths)


class BootPage(OperationPage):
    number = 30
    cautions = (
        "Do not pull the plug on a running system: use the button or the menu.",
        "You never need to log in as root over SSH: edit the files on the card's boot partition.",
    )

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._issued: tuple[IssuedFile, ...] = ()
        self._shown: tuple[IssuedFile, ...] = ()  # without what starts the script of the root
        self._taken: frozenset[str] = frozenset(DECISIONS)
        self._tabs = QTabBar()
        self._tabs.setDrawBase(False)
        self._tabs.setExpanding(False)
        self._tabs.currentChanged.connect(lambda _index: self._show_file())
        self._budget = LineBudget(self.theme)
        self._view, self._track = FileView(self.theme), ServiceTrack(self.theme)
        self._track.moved.connect(self._on_service_moved)
        scroll = scrolled(self._view, self._view.pitch)
        self._put = button("Copy to the card", self.put_on_card, "primary")
        files = Sheet("Boot files to be written", "+ added, − removed")
        self._files_sheet = files
        self._setup = button("Setup script…", self._on_setup_clicked, tip="Run it on the machine, as root")
        files.add(self._tabs, scroll, self._budget, row(self._setup, 1, self._put))
        settings = self._settings_sheet = Sheet("Boot settings")
        self._form = FieldForm(self.theme, DECISIONS, self._edit)
        self._groups = QTabBar()
        self._groups.setDrawBase(False)
        self._groups.setExpanding(False)
        for name in GROUPS:
            self._groups.addTab(name)
        self._groups.currentChanged.connect(lambda _index: self._show_group())
        settings.add(self._groups, self._form, 1)
        settings.setFixedWidth(round(self.theme.px(316)))
        services = self._services = Sheet("Service order", "from left to right; click one, then move it")
        earlier = button("Earlier", lambda: self._track.move_chosen(-1))
        later = button("Later", lambda: self._track.move_chosen(1))
        buttons = column(earlier, later, spacing=4)
        services.add(row(self._track, buttons))
        self.body.addLayout(row(settings, files, spacing=14), 1)
        self.body.addWidget(services)

    def _setup_text(self, image: Image | None) -> str:
        """The script for an image that runs none of ours."""
        build, catalogue = self.session.build, self.session.catalogue
        return by_hand(build, image, catalogue.find(Display, build.part("display")), of_build(build, catalogue))

    def _on_setup_clicked(self) -> None:
        start = str(self.session.folder / "issued" / "setup.sh")
        path, _kind = QFileDialog.getSaveFileName(self, "Save the setup script", start, "Scripts (*.sh)")
        if path:
            self.save_setup(Path(path))

    def save_setup(self, path: Path) -> None:
        """Write the script that sets the rest up on the running machine."""
        image = self.session.catalogue.find(Image, self.session.build.part("image"))
        words = f"Setup script saved: {path}. On the machine: sudo sh {path.name}"
        self.session.keep_file(path, self._setup_text(image).encode(), words)

    def instrument(self) -> Instrument | None:
        """Override."""
        return self._view

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        build, catalogue, world = self.session.build, self.session.catalogue, self.session.world
        board, image = catalogue.find(Board, build.part("board")), catalogue.find(Image, build.part("image"))
        if board is None or image is None:
            self.set_subject("Choose a board and an image in Plan first.")
            return
        self.set_subject(f"{board.name} · {catalogue.get(Dialect, build.boot.dialect).name}")
        boot = build.boot
        self._setup.setVisible(bool(self._setup_text(image)))
        has_system = image.has_system  # one program without a system: no services
        self._taken = offered_settings(build, catalogue)
        self._show_group()
        sets = kernel_sets(image, world.source_contents, world.card)
        self._form.show_build(
            build,
            {
                "boot.dialect": tuple((each.id, each.name) for each in catalogue.all(Dialect)),
                "boot.kernel": _with_current(tuple((name, name) for name in sets), boot.kernel),
                "boot.device_tree": _with_current(
                    tuple((each.device_tree, each.device_tree) for each in catalogue.all(Board)), boot.device_tree
                ),
            },
        )
        steps = track(boot.services, image.foreground_service)
        self._track.show_steps(steps)
        self._services.setVisible(has_system and bool(steps))  # without any where the image sorts its services itself
        if build.source.path and world.source is None and not world.source_error:
            self._files_sheet.set_note("the image is being read…")
            return
        self._issued = compiled(build, catalogue, self._on_card(), self._seen())
        self._shown = tuple(file for file in self._issued if file.path[0] != "/" or file.path == SETUP_SCRIPT)
        self._show_tabs()

    def _show_group(self) -> None:
        names = list(GROUPS)
        for index, name in enumerate(names):
            self._groups.setTabVisible(index, bool(self._taken & set(GROUPS[name])))
        shown = [path for path in GROUPS[names[max(0, self._groups.currentIndex())]] if path in self._taken]
        self._form.show_only(shown)

    def _seen(self) -> CardContents | None:
        """What is on the card; in the image before it is written."""
        world = self.session.world
        for contents in (world.card if self.session.build.card.bootable else None, world.source_contents):
            if contents is not None and contents.table is not None:
                return contents
        return None

    def _on_card(self) -> dict[str, str]:
        seen = self._seen()
        return dict(seen.texts) if seen is not None else {}

    def _show_tabs(self) -> None:
        names = [_tab_words(file.path) for file in self._shown]
        if [self._tabs.tabText(index) for index in range(self._tabs.count())] != [*map(unmarked, names)]:
            self._tabs.blockSignals(True)
            while self._tabs.count():
                self._tabs.removeTab(0)
            for name, file in zip(names, self._shown, strict=True):
                self._tabs.setTabToolTip(self._tabs.addTab(unmarked(name)), plain_tip(_tab_tip(file.path)))
            self._tabs.blockSignals(False)
        self._show_file()

    def _show_file(self) -> None:
        files, index = self._issued, self._tabs.currentIndex()
        if not 0 <= index < len(self._shown):
            return
        on_card = self._on_card()
        file = self._shown[index]
        self._view.show_file(shown_lines(file, on_card.get(file.path.lower(), "")), file.remark)
        self._budget.show_use(self._line_use(file))
        written = self.session.build.card.bootable and self.session.world.card is not None
        differ = [file.path for file in files if on_card.get(file.path.lower(), "") != file.text]
        differ += differing(self.session.build, self.session.catalogue, self.session.world.card) if written else []
        where = "the card" if written else "the image"
        self._files_sheet.set_note(f"against {where}: + added, − removed")
        self._put.setEnabled(written and bool(differ))
        words = "Already on the card" if written else "Write the card first"
        self._put.setText(f"Copy {counted(len(differ), 'file')} to the card" if written and differ else words)

    def _line_use(self, file: IssuedFile) -> LineUse | None:
        """Of the file's kernel line; None for a file without one."""
        build, catalogue = self.session.build, self.session.catalogue
        dialect = catalogue.get(Dialect, build.boot.dialect)
        kind = dialect.file_at(file.path)
        line = kernel_line_of(file.text, kind.kind) if kind else None
        if kind is None or line is None:
            return None
        own = set(build.boot.kernel_words)
        found = tuple(
            (len(word) + 1, word in own or "kyklon" in word or word.startswith("video=")) for word in words(line)
        )
        return LineUse(found, dialect.longest_of(kind))

    # --- acting --------------------------------------------------------------------------------------------------

    def _edit(self, path: str, value: Any) -> None:
        self.session.edit(path, value)
        self.refresh()  # a value that was refused goes back to what holds

    def _on_service_moved(self, index: int, step: int) -> None:
        services = list(self.session.build.boot.services)
        to = index + step
        if 0 <= to < len(services):
            services[index], services[to] = services[to], services[index]
            self._edit("boot.services", services)

    def put_on_card(self) -> None:
        """Put the boot files on the build's card, as a job; the card is read again afterwards."""
        session = self.session
        folder, build, catalogue = session.folder, session.build, session.catalogue

        def work(_watch: Watch) -> tuple[str, Put]:
            from kyklon.operations.boot.acts import put_boot_files

            session.flush()
            target = card_target(build, folder)
            if target is None:
                raise TargetError("No written card found. Insert the card, or write it first.", do="See Card.")
            return target.facts.name, put_boot_files(folder, build, catalogue, target)

        def done(result: tuple[str, Put]) -> None:
            name, put = result
            session.said.emit(f"Put on {name}: {', '.join(put.files) or 'nothing new'}")
            session.card_happened(edited(session.build, "card.boot_files_at", now()).card)
            session.look("card")
            session.acted()

        def bad(error: KyklonError) -> None:
            session.said.emit(str(error))
            session.look("card")

        session.jobs.start("Copying boot files to the card", work, done, bad=bad, cancellable=False)


def _tab_words(path: str) -> str:
    """A file of the root by its name, one of the boot partition by its path."""
    return f"root: {path.rpartition('/')[2]}" if path.startswith("/") else path


def _tab_tip(path: str) -> str:
    return f"On the root partition: {path}, with what starts it" if path.startswith("/") else path


def _with_current(choices: tuple[tuple[str, str], ...], value: str) -> tuple[tuple[str, str], ...]:
    """The choices, and the value in force where it is none of them: it must not look like another."""
    known = value in {key for key, _words in choices}
    return choices if known else ((value, f"{value}, missing"), *choices)
