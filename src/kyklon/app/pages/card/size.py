"""The bench for size: which card to buy, what its class buys, and a disk in place of a card."""

from __future__ import annotations

from kyklon.app.pages.card.bench import Bench
from kyklon.app.pages.card.drive_book import DriveBook
from kyklon.app.pages.card.size_bars import SizeBars
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, FigureRows, Sheet, column, label, row, scrolled
from kyklon.app.widgets.instrument import Instrument
from kyklon.base.quantities import show_bytes, show_duration
from kyklon.catalogue.records import Bridge, Disk
from kyklon.model.build import Build
from kyklon.model.fields import describe
from kyklon.operations.card import disk
from kyklon.operations.card.sizing import Sizing, size_of


def reading_words(row: disk.Reading) -> str:
    """How long something is read from the card and from the disk."""
    about = f" (about {show_bytes(row.size)})" if row.guessed else ""
    return f"{show_duration(row.disk_s)} instead of {show_duration(row.card_s)}{about}"


class SizeBench(Bench):
    def __init__(self, session: Session, drives: DriveBook) -> None:
        super().__init__(session, drives)
        self._bars = SizeBars(self.theme)
        self._advice = label("", "section", wrap=True)
        self._working = FigureRows(self.theme)
        self.sizing: Sizing | None = None
        self._asked: tuple[object, ...] = ()
        buy = Sheet("Which card to buy", "all to one scale; the dashed line is what you need")
        buy.add(self._bars, self._advice)
        work = Sheet("Space needed")
        work.add(self._working, 1)
        self._medium = Choice(self.theme, "Starts from", lambda value: self.session.edit("medium", value))
        self._disk = Choice(self.theme, "Disk", lambda value: self._on_part("disk", "Disk", value))
        self._bridge = Choice(self.theme, "Bridge", lambda value: self._on_part("bridge", "Bridge", value))
        self._figures = FigureRows(self.theme)
        self._changes = label("", wrap=True)
        other = Sheet("A disk instead of a card")
        other.add(
            row(label("The machine starts", "muted"), self._medium, 1),
            row(label("Disk", "muted"), self._disk, label("on bridge", "muted"), self._bridge, 1),
            scrolled(column(self._figures, self._changes, 1, spacing=8)),
        )
        lower = row(work, other, spacing=14)
        lower.setStretch(0, 1)
        lower.setStretch(1, 1)
        layout = column(spacing=14)
        layout.addWidget(buy, 11)
        layout.addLayout(lower, 9)
        self.setLayout(layout)

    def instrument(self) -> Instrument | None:
        """Override."""
        return self._bars

    def refresh(self) -> None:
        """Override."""
        session = self.session
        asked = (session.build, session.world.scan, session.world.source)
        known = session.world.scan is not None or not session.build.library.folder
        if known and asked != self._asked:
            self._asked = asked
            self._look()
        self._show_sizing()
        self._show_disk()

    def _look(self) -> None:
        """Add it all up, in the background: every file of the library is asked for its size."""
        session = self.session
        build, folder, catalogue, world = session.build, session.folder, session.catalogue, session.world

        def done(found: Sizing) -> None:
            self.sizing = found
            self._show_sizing()

        session.jobs.start(
            "Adding up sizes", lambda _watch: size_of(build, folder, catalogue, world), done, cancellable=False
        )

    def _show_sizing(self) -> None:
        self._bars.show_sizing(self.sizing)
        if self.sizing is not None:
            self._advice.setText(self.sizing.sentence)
            self._working.set_rows(tuple((item.name, item.how) for item in self.sizing.items))

    def _show_disk(self) -> None:
        session, build = self.session, self.session.build
        self._medium.set_choices(describe(Build, "medium").choices, build.medium)
        disks = tuple((each.id, each.name) for each in session.catalogue.all(Disk))
        bridges = tuple((each.id, each.name) for each in session.catalogue.all(Bridge))
        self._disk.set_choices((("", "none"), *disks), build.part("disk") or "")
        self._bridge.set_choices((("", "none"), *bridges), build.part("bridge") or "")
        found = disk.outlook(build, session.catalogue)
        if found is None:
            self._figures.set_rows(())
            self._changes.setText("Choose a disk and a bridge to see speed, current, and what changes at start-up.")
            return
        faster = f"{found.times:.1f} × the card" if found.card_mb_s else ""
        origin = "measured" if found.measured else "as printed"
        read = disk.readings(found, build, session.world)
        self._figures.set_rows(
            (
                ("Reads", f"{found.disk_mb_s:.0f} MB/s, {faster}"),
                ("Card reads", f"{found.card_mb_s:.0f} MB/s, {origin}"),
                ("Draws up to", f"{found.draws_a:.2f} A at 5 V"),
                *((row.what, reading_words(row)) for row in read),
            )
        )
        slower = "Only the reading gets faster; firmware, kernel and services take as long as before."
        self._changes.setText("\n".join((*found.changes, slower)))

    def _on_part(self, role: str, name: str, value: str) -> None:
        build = self.session.build
        if value:
            self.session.put(name, build.with_part(role, value))
            return
        rest = [part.model_dump() for part in build.parts if part.role != role]
        self.session.edit("parts", rest, name)
