"""Operation 30: the boot settings, the files they become, and the way onto the card."""

from __future__ import annotations

from typing import Any

from PyQt6.QtWidgets import QCheckBox, QDoubleSpinBox, QGridLayout, QLineEdit, QScrollArea, QTabBar, QWidget

from kyklon.app.pages.boot.file_view import FileView, shown_lines
from kyklon.app.pages.boot.service_track import ServiceTrack
from kyklon.app.pages.page import OperationPage
from kyklon.app.shell.session import Session
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.errors import KyklonError
from kyklon.catalogue.records import Board, Dialect, Image
from kyklon.model.build import edited
from kyklon.model.kernel_line import (
    words,
)
from kyklon.operations import observing, workshop
from kyklon.operations.boot.findings import kernel_sets
from kyklon.operations.boot.issue import issue
from kyklon.operations.boot.services import track
from kyklon.record.logbook import now


class BootPage(OperationPage):
    number = 30
    cautions = (
        "Do not pull the plug on a running system: use the button or the menu.",
        "Remote root login is never needed: what must be changed is on the FAT partition of the card.",
    )

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._tabs = QTabBar()
        self._tabs.setDrawBase(False)
        self._tabs.setExpanding(False)
        self._tabs.currentChanged.connect(lambda _index: self._show_file())
        self._view, self._track = FileView(self.theme), ServiceTrack(self.theme)
        self._track.moved.connect(self._on_service_moved)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self._view)
        self._put = button("Put on the card", self.put_on_card, "primary")
        files = Sheet("Boot files as issued", "+ new, − goes")
        self._files_sheet = files
        files.add(self._tabs, scroll, row(1, self._put))
        settings = Sheet("Decisions")
        settings.add(self._make_settings(), 1)
        settings.setFixedWidth(round(self.theme.px(268)))
        services = Sheet("Service order", "from left to right; click one to move it")
        earlier = button("Earlier", lambda: self._track.move_chosen(-1))
        later = button("Later", lambda: self._track.move_chosen(1))
        buttons = column(earlier, later, spacing=4)
        services.add(row(self._track, buttons))
        self.body.addLayout(row(settings, files, spacing=14), 1)
        self.body.addWidget(services)

    def _make_settings(self) -> QWidget:
        theme = self.theme
        self._dialect = Choice(
            theme, "Kind of boot file", lambda value: self._edit("Kind of boot file", "boot.dialect", value)
        )
        self._kernel = Choice(theme, "Kernel", lambda value: self._edit("Kernel", "boot.kernel", value))
        self._tree = Choice(theme, "Device tree", lambda value: self._edit("Device tree", "boot.device_tree", value))
        self._sound = Choice(theme, "Sound route", lambda value: self._edit("Sound route", "boot.sound", value))
        self._memory = Choice(
            theme, "Memory for the picture", lambda v: self._edit("Memory split", "boot.video_memory_mb", int(v))
        )
        self._force = QCheckBox("Output always on")
        self._force.clicked.connect(lambda on: self._edit("Forced output", "boot.force_output", bool(on)))
        self._overscan = QDoubleSpinBox()
        self._overscan.setRange(0, 20)
        self._overscan.setDecimals(1)
        self._overscan.setSuffix("\u202f%")
        self._overscan.setAccessibleName("Overscan of each edge")
        self._overscan.setKeyboardTracking(False)
        self._overscan.valueChanged.connect(lambda value: self._edit("Overscan", "boot.overscan_percent", value))
        self._words, self._user, self._country, self._host = (QLineEdit() for _ in range(4))
        for name, edit, path in (
            ("Kernel line words", self._words, "boot.kernel_words"), ("User", self._user, "boot.user"),
            ("Network country", self._country, "boot.country"), ("Name on the network", self._host, "boot.hostname"),
        ):  # fmt: skip
            edit.setAccessibleName(name)
            edit.editingFinished.connect(lambda name=name, edit=edit, path=path: self._on_text_edited(name, edit, path))
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(5)
        grid.setContentsMargins(0, 0, 0, 0)
        rows: tuple[tuple[str, QWidget], ...] = (
            ("Written as", self._dialect),
            ("Kernel", self._kernel),
            ("Device tree", self._tree),
            ("Output", self._force),
            ("Overscan", self._overscan),
            ("Sound", self._sound),
            ("Picture memory", self._memory),
            ("Extra words", self._words),
            ("User", self._user),
            ("Country", self._country),
            ("Network name", self._host),
        )
        for index, (name, widget) in enumerate(rows):
            grid.addWidget(label(name, "small"), index, 0)
            grid.addWidget(widget, index, 1)
        grid.setColumnStretch(1, 1)
        holder = QWidget()
        holder.setLayout(grid)
        return holder

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
        self._dialect.set_choices(tuple((each.id, each.name) for each in catalogue.all(Dialect)), boot.dialect)
        sets = kernel_sets(image, world.source_contents, world.card)
        self._kernel.set_choices(
            tuple((name, f"{name}, {kind.removeprefix('ARM')}") for name, kind in sets.items()), boot.kernel
        )
        trees = tuple((each.device_tree, each.device_tree) for each in catalogue.all(Board))
        self._tree.set_choices(trees, boot.device_tree)
        self._sound.set_choices((("analogue", "analogue"), ("digital", "digital"), ("none", "none")), boot.sound)
        self._memory.set_choices(
            tuple((str(mb), f"{mb}\u202fMB") for mb in (64, 128, 256, 512)), str(boot.video_memory_mb)
        )
        self._force.setChecked(boot.force_output)
        self._overscan.blockSignals(True)
        self._overscan.setValue(boot.overscan_percent)
        self._overscan.blockSignals(False)
        for edit, text in (
            (self._words, " ".join(boot.kernel_words)), (self._user, boot.user), (self._country, boot.country),
            (self._host, boot.hostname),
        ):  # fmt: skip
            edit.setText(text)
            edit.setCursorPosition(0)
        self._track.show_steps(track(boot.services, image.foreground_service))
        self._show_tabs()

    def _issued(self) -> tuple[Any, ...]:
        build, catalogue, _world = self.session.build, self.session.catalogue, self.session.world
        return issue(build, catalogue, self._on_card())

    def _on_card(self) -> dict[str, str]:
        """The texts on the card; the image's own before it is written."""
        world = self.session.world
        for contents in (world.card if self.session.build.card.bootable else None, world.source_contents):
            if contents is not None and contents.table is not None:
                return dict(contents.texts)
        return {}

    def _show_tabs(self) -> None:
        names = [file.path for file in self._issued()]
        if [self._tabs.tabText(index) for index in range(self._tabs.count())] != names:
            self._tabs.blockSignals(True)
            while self._tabs.count():
                self._tabs.removeTab(0)
            for name in names:
                self._tabs.addTab(name)
            self._tabs.blockSignals(False)
        self._show_file()

    def _show_file(self) -> None:
        files = self._issued()
        index = self._tabs.currentIndex()
        if not 0 <= index < len(files):
            return
        on_card = self._on_card()
        self._view.show_file(shown_lines(files[index], on_card.get(files[index].path.lower(), "")))
        written = self.session.build.card.bootable and self.session.world.card is not None
        differ = [file.path for file in files if on_card.get(file.path.lower(), "") != file.text]
        where = "the card" if written else "the image"
        self._files_sheet.set_note(f"against {where}: + new, − goes")
        self._put.setEnabled(written and bool(differ))
        words = "On the card already" if written else "Write the card first"
        self._put.setText(
            f"Put {len(differ)} file{'s' if len(differ) != 1 else ''} on the card" if written and differ else words
        )

    # --- acting --------------------------------------------------------------------------------------------------

    def _edit(self, name: str, path: str, value: Any) -> None:
        self.session.edit(name, path, value)

    def _on_text_edited(self, name: str, edit: QLineEdit, path: str) -> None:
        text = edit.text().strip()
        value: Any = list(words(text)) if path == "boot.kernel_words" else text
        self.session.edit(name, path, value)
        self.refresh()

    def _on_service_moved(self, index: int, step: int) -> None:
        services = list(self.session.build.boot.services)
        to = index + step
        if 0 <= to < len(services):
            services[index], services[to] = services[to], services[index]
            self._edit("Service order", "boot.services", services)

    def put_on_card(self) -> None:
        """Put the boot files on the build's card, as a job; the card is read again afterwards."""
        session = self.session
        found = observing.card_drive(session.build, session.folder)
        if found is None:
            session.said.emit("The card is not plugged in, or was never written. See Card.")
            return
        target = workshop.Target(*found)
        folder, build, catalogue = session.folder, session.build, session.catalogue

        def done(put: workshop.Put) -> None:
            names = ", ".join(put.files) or "nothing: it was all there"
            session.said.emit(f"Put on {target.facts.name}: {names}")
            session.card_happened(edited(session.build, "card.boot_files_at", now()).card)
            session.look("card")
            session.logged.emit()

        def bad(error: KyklonError) -> None:
            session.said.emit(str(error))
            session.look("card")

        session.jobs.start(
            "Putting boot files on the card",
            lambda _sink, _cancel: workshop.put_boot_files(folder, build, catalogue, target),
            done,
            bad=bad,
            cancellable=False,
        )
