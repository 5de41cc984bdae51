"""Games by stick: what the stick must be, both halves of the way, and what the menu must list in the end."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QBoxLayout, QFileDialog, QVBoxLayout, QWidget

from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.pages.upkeep import asking
from kyklon.app.pages.upkeep.way_drawing import HERE, MACHINE, Station, WayDrawing
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import FigureRows, Sheet, button, column, label, row, scrolled
from kyklon.app.widgets.kept import emptied
from kyklon.base.errors import KyklonError
from kyklon.base.progress import Watch
from kyklon.base.quantities import show_bytes, show_duration
from kyklon.base.shown import visible
from kyklon.catalogue.records import RHYTHM_WORDS
from kyklon.catalogue.system_records import System
from kyklon.operations.upkeep import stick


class StickView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.path: Path | None = None
        self.way: stick.Way | None = None
        self.instrument = self.drawing = WayDrawing(self.theme, "The way of the games by stick")
        way = Sheet("USB stick", "there and into the menu")
        way.head.addWidget(button("Choose the stick…", self.ask_stick, "outline"))
        way.add(scrolled(self.drawing))
        self._figures = FigureRows(self.theme)
        self._troubles = label("", "stop", wrap=True)
        self.measure_button = button("Measure speed", lambda: self.look(measure=True), tip="Writes and removes 8 MB")
        self.copy_button = button("Copy games", self.copy, "primary")
        judged = Sheet("The stick")
        judged.add(self._figures, self._troubles, row(self.measure_button, self.copy_button, 1))
        self._list = QVBoxLayout()
        holder = QWidget()
        holder.setLayout(self._list)
        menu = Sheet("Expected menu")
        menu.add(scrolled(holder))
        side = column(judged, menu, spacing=12)
        side.setStretch(1, 1)
        if self.theme.scale > 1:
            way.setMinimumHeight(round(self.theme.px(420)))
            menu.setMinimumHeight(round(self.theme.px(220)))
            layout: QBoxLayout = column(way, side, spacing=14)
        else:
            for sheet in (judged, menu):
                sheet.setFixedWidth(side_px(self.theme, 30))
            layout = row(way, side, spacing=14)
        layout.setStretch(0, 1)
        self.setLayout(layout)

    def refresh(self) -> None:
        """Override."""
        found = self.way
        try:
            _image, rule = stick.rule_of(self.build, self.session.catalogue)
        except KyklonError as bad:
            self._show(f"{bad}", ())
            return
        busy = bool(self.session.jobs.running)
        self.measure_button.setEnabled(self.path is not None and not busy)
        can = found is not None and not found.stick.troubles and any(found.missing.values())
        self.copy_button.setEnabled(can and not busy)
        if found is None:
            words = f"The machine reads {' and '.join(rule.reads)}, and takes games from the folder {rule.folder}."
            self._show(words, (Station("Choose the stick", "next", HERE, "nothing on it is erased"),))
            return
        waiting = next((number for number, step in enumerate(found.steps) if not step.done), len(found.steps))
        rows = []
        for number, step in enumerate(found.steps):
            low, high = step.minutes or (0.0, 0.0)
            time = f"{show_duration(low * 60)} to {show_duration(high * 60)}" if step.minutes else ""
            lamp = f"LED {RHYTHM_WORDS[step.lamp]}" if step.lamp in RHYTHM_WORDS else ""
            state = "done" if step.done else "next" if number == waiting else "open"
            state = "stop" if number == 0 and not step.done else state
            lane = MACHINE if step.where == "machine" else HERE
            rows.append(Station(step.title, state, lane, "; ".join(filter(None, (time, lamp)))))
        self._show("", tuple(rows))

    def _show(self, words: str, rows: tuple[Station, ...]) -> None:
        self.drawing.show_way(rows)
        found = self.way
        figures: list[tuple[str, str]] = []
        if found is not None:
            told = found.stick
            figures = [("File system", told.kind or "unknown"), ("Free", show_bytes(told.free))]
            if told.write_mb_s and told.read_mb_s:
                figures.append(("Writes, reads", f"{told.write_mb_s:.0f}, {told.read_mb_s:.0f}\u202fMB/s"))
            words = " ".join(told.troubles)
        self._figures.set_rows(tuple(figures))
        self._troubles.setText(words)
        self._troubles.setVisible(bool(words))
        emptied(self._list)
        for system, titles in found.foretold.items() if found else ():
            record = self.session.catalogue.find(System, system)
            missing = set(found.missing.get(system, ())) if found else set()
            name = record.name if record else system
            self._list.addWidget(label(f"{name}: {len(titles)}", "section"))
            for title in titles[:60]:
                mark = "·" if title in missing else "✓"
                self._list.addWidget(label(f"{mark} {visible(title)}", "muted" if title in missing else "", wrap=True))
            if len(titles) > 60:
                self._list.addWidget(label(f"and {len(titles) - 60} more", "muted"))
        self._list.addStretch(1)

    def ask_stick(self) -> None:
        """The folder where the stick is mounted."""
        path = QFileDialog.getExistingDirectory(self, "Where the stick is mounted", "/media")
        if path:
            self.use(Path(path))

    def use(self, path: Path) -> None:
        """Judge this stick."""
        self.path = path
        self.look()

    def look(self, *, measure: bool = False) -> None:
        """Judge the stick, and see what is on it."""
        build, folder, catalogue, path = self.build, self.session.folder, self.session.catalogue, self.path
        if path is None:
            return

        def work(watch: Watch) -> stick.Way:
            return stick.way(build, folder, catalogue, path, watch, measure=measure)

        def done(found: stick.Way) -> None:
            self.way = found
            self.refresh()

        asking.run(self.session, self, "Checking the stick", work, done)

    def copy(self) -> None:
        """Copy what it lacks, and read it back."""
        build, folder, catalogue, path = self.build, self.session.folder, self.session.catalogue, self.path
        if path is None:
            return

        def work(watch: Watch) -> stick.Way:
            stick.copy(build, folder, catalogue, path, watch)
            return stick.way(build, folder, catalogue, path, watch)

        def done(found: stick.Way) -> None:
            self.way = found
            self.session.said.emit("Copied and verified. Eject the stick before you pull it.")
            self.session.acted()
            self.refresh()

        asking.run(self.session, self, "Copying to the stick", work, done)
