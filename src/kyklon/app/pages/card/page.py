"""Operation 20: cards. Benches for writing, looking after, bare metal, multi-boot, and which card to buy."""

from __future__ import annotations

import importlib

from PyQt6.QtWidgets import QStackedWidget

from kyklon.app.pages.card.bench import Bench
from kyklon.app.pages.card.dialogs import LossDialog
from kyklon.app.pages.card.drive_book import DriveBook, Rows
from kyklon.app.pages.card.drive_list import DriveList
from kyklon.app.pages.card.segments import Segments
from kyklon.app.pages.card.write import WriteBench
from kyklon.app.pages.page import OperationPage
from kyklon.app.session.session import Session
from kyklon.app.widgets.instrument import Instrument
from kyklon.devices.ports import Target

__all__ = ["CardPage", "LossDialog"]

# module and class of each bench; the others are imported when they are opened
BENCHES = (
    ("write", "WriteBench", "Write and prove"),
    ("keep", "KeepBench", "Check and back up"),
    ("bare_metal", "BareBench", "Bare metal"),
    ("multi_boot", "MultiBench", "Multi-boot"),
    ("size", "SizeBench", "Size and disk"),
)


class CardPage(OperationPage):
    number = 20
    cautions = (
        "What is overwritten is gone for good.",
        "If your desktop says that the card must be formatted, say no: it just cannot read the Linux partition.",
    )

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.drives = DriveBook(session)
        self.writing = WriteBench(session, self.drives)
        self._benches: dict[int, Bench] = {0: self.writing}
        self._index = 0
        self.segments = Segments(tuple(name for _module, _class, name in BENCHES))
        self.segments.chosen.connect(self.open_bench)
        self._stack = QStackedWidget()
        self._stack.addWidget(self.writing)
        self.body.addWidget(self.segments)
        self.body.addWidget(self._stack, 1)
        self.body.setSpacing(10)
        self.drives.changed.connect(self._on_drives_changed)
        self._looked = False

    def open_bench(self, index: int) -> Bench:
        """Show a bench; made when it is first opened."""
        if index not in self._benches:
            module, name, _title = BENCHES[index]
            made = getattr(importlib.import_module(f"kyklon.app.pages.card.{module}"), name)(self.session, self.drives)
            self._benches[index] = made
            self._stack.addWidget(made)
        self._index = index
        self.segments.show_current(index)
        bench = self._benches[index]
        self._stack.setCurrentWidget(bench)
        bench.refresh()
        return bench

    @property
    def bench(self) -> Bench:
        return self._benches[self._index]

    def instrument(self) -> Instrument | None:
        """Override."""
        return self.bench.instrument()

    def refresh(self) -> None:
        """Override."""
        super().refresh()
        if not self._looked:
            self._looked = True
            self.drives.look(then=self._choose_own)
        source = self.session.world.source
        self.set_subject(source.name if source else "")
        self.bench.refresh()

    def _choose_own(self) -> None:
        """Begin with the build's own card, where it is plugged in."""
        own = self.session.build.card.drive
        if self.drives.chosen is None and any(target.facts.identity == own for target in self.drives.targets):
            self.drives.choose(own)

    def _on_drives_changed(self) -> None:
        self.bench.refresh()

    # --- the writing bench, for whoever drives the page -----------------------------------------------------------

    @property
    def _drives(self) -> DriveList:
        return self.writing.drive_list

    @property
    def write_button(self):  # type: ignore[no-untyped-def]
        return self.writing.write_button

    def rows(self) -> Rows:
        return self.writing.rows()

    def choose_drive(self, identity: str) -> bool:
        return self.writing.choose_drive(identity)

    def write(self, target: Target, typed: str) -> None:
        self.writing.write(target, typed)

    def verified_bytes(self) -> int:
        return self.writing.verified_bytes()

    def strip_state(self) -> str:
        return self.writing.strip_state()
