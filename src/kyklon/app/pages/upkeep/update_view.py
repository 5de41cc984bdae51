"""A newer image: what it changes, what goes along, what the first power-on will be, and the way there and back."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QBoxLayout, QFileDialog, QVBoxLayout, QWidget

from kyklon.app.pages.tab_view import TabView, side_px
from kyklon.app.pages.upkeep import asking
from kyklon.app.pages.upkeep.way_drawing import HERE, MACHINE, Station, WayDrawing
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Sheet, button, column, label, row, scrolled
from kyklon.app.widgets.kept import emptied
from kyklon.base.progress import Watch
from kyklon.base.shown import visible
from kyklon.operations.upkeep import update

_MARKS = {"new": "+", "gone": "−", "changed": "≠"}


class UpdateView(TabView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.path: Path | None = None
        self.found: update.Update | None = None
        self.instrument = self.drawing = WayDrawing(self.theme, "The way to a newer image, and back")
        way = Sheet("Update")
        way.head.addWidget(button("Choose the newer image…", self.ask_image, "outline"))
        way.add(scrolled(self.drawing))
        self._verdict = label("", wrap=True)
        self.take_button = button("Use this image", self.take, "primary")
        verdict = Sheet("Forecast")
        verdict.add(self._verdict, self.take_button)
        self._list = QVBoxLayout()
        holder = QWidget()
        holder.setLayout(self._list)
        changes = Sheet("Changes")
        changes.add(scrolled(holder))
        side = column(verdict, changes, spacing=12)
        side.setStretch(1, 1)
        if self.theme.scale > 1:
            way.setMinimumHeight(round(self.theme.px(420)))
            changes.setMinimumHeight(round(self.theme.px(220)))
            layout: QBoxLayout = column(way, side, spacing=14)
        else:
            for sheet in (verdict, changes):
                sheet.setFixedWidth(side_px(self.theme, 40))
            layout = row(way, side, spacing=14)
        layout.setStretch(0, 1)
        self.setLayout(layout)

    def refresh(self) -> None:
        """Override."""
        found = self.found
        self.take_button.setEnabled(found is not None and not found.troubles and not self.session.jobs.running)
        emptied(self._list)
        if found is None:
            self.drawing.show_way((Station("Choose the newer image", "next", HERE, "it is only read"),))
            self._verdict.setText("The first power-on with the newer image is predicted from its bytes.")
            self._list.addStretch(1)
            return
        rows = update.steps(self.build, self.session.folder, found)
        waiting = next((number for number, step in enumerate(rows) if not step.done), len(rows))
        stations = []
        for number, step in enumerate(rows):
            state = "done" if step.done else "next" if number == waiting else "open"
            stations.append(
                Station(step.title, state, MACHINE if step.operation == 90 else HERE, f"operation {step.operation}")
            )
        self.drawing.show_way(tuple(stations))
        if found.troubles:
            self._verdict.setText("▲ " + " ".join(found.troubles))
        else:
            self._verdict.setText(
                f"{found.old or 'This image'} → {found.new or 'the newer one'}: it reaches the games."
            )
        for change in found.rows:
            words = f"{_MARKS[change.change]} {change.what} {change.name}" + (
                f": {change.detail}" if change.detail else ""
            )
            self._list.addWidget(label(visible(words), "mono", wrap=True))
        for name, words in found.kept.items():
            self._list.addWidget(label(f"Keeps your settings: {visible(name)}", "section"))
            self._list.addWidget(label(visible(words, lines=True), "mono", wrap=True))
        self._list.addStretch(1)

    def ask_image(self) -> None:
        """A newer image file; it is only read."""
        where = str(self.session.folder / "attachments")
        path, _kind = QFileDialog.getOpenFileName(self, "The newer image", where, "Images (*.img *.img.* *.zip *.7z)")
        if path:
            self.use(Path(path))

    def use(self, path: Path) -> None:
        """Compare with this image."""
        build, folder, catalogue, world = self.build, self.session.folder, self.session.catalogue, self.session.world
        self.path = path

        def done(found: update.Update) -> None:
            self.found = found
            self.refresh()

        def work(watch: Watch) -> update.Update:
            return update.compare(build, folder, catalogue, path, watch, world)

        asking.run(self.session, self, "Comparing the images", work, done)

    def take(self) -> None:
        """The newer image becomes this build's; its card is written in Card."""
        if self.path is None or self.found is None:
            return
        self.session.put("Newer image", update.with_image(self.build, self.session.folder, self.path))
        self.session.log(95, f"Image is now {self.path.name}", f"{self.found.old} → {self.found.new}")
        self.session.said.emit("It is this build's image now: write it in Card, then copy the boot files.")
