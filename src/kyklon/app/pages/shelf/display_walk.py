"""Learning a display: from a connected one, a file, a pasted dump; or a tube, by its rating plate and a ruler."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from kyklon.app.pages.shelf.walk import Walk
from kyklon.app.widgets.basic import Sheet, TextBox, button, column, label, row
from kyklon.app.widgets.ranges_plot import Point, RangesPlot
from kyklon.base.errors import KyklonError
from kyklon.catalogue.records import Range
from kyklon.devices import choose
from kyklon.devices.ports import ConnectedDisplay
from kyklon.model.timing import Timing
from kyklon.parts import display
from kyklon.parts.draft import Draft

_MOST_POINTS = 7  # names that find room beside the plot


class DisplayWalk(Walk):
    kind = "displays"
    title = "Learn a display"
    first = "Choose a connected display, open an EDID file, or paste a dump. For a tube without EDID, choose its type."

    def make_side(self) -> QWidget:
        """Override."""
        self._plot = RangesPlot(self.theme)
        self._dump = TextBox()
        self._dump.setPlaceholderText("Paste here what a tool printed: 00 ff ff ff ff ff ff 00 …")
        self._dump.setAccessibleName("Hex dump")
        self._dump.setFont(self.theme.mono("small"))
        self._dump.setMaximumHeight(round(self.theme.px(92)))
        self._dump.textChanged.connect(self._on_pasted)
        self._connected = row(spacing=6)
        tubes = row(label("A tube without EDID:", "small"), spacing=6)
        for each in display.CLASSES:
            tubes.addWidget(button(each.words.partition(":")[0], lambda each=each: self.take_tube(each)))
        tubes.addStretch(1)
        source = Sheet("Source")
        source.add(row(button("Open a file…", self._ask, "outline"), self._connected, 1), self._dump, tubes)
        drawing = Sheet("Contents", "its rates as boxes, its modes as points")
        drawing.add(self._plot)
        drawing.body.setStretch(0, 1)
        facts = Sheet("Also read")
        facts.add(self.about)
        side = QWidget()
        layout = column(source, drawing, facts, spacing=12)
        layout.setStretch(1, 1)
        side.setLayout(layout)
        self._look()
        return side

    def _look(self) -> None:
        """List the connected displays, in the background."""
        folder = self.session.folder

        def done(found: tuple[ConnectedDisplay, ...]) -> None:
            for each in found:
                made = button(each.socket, lambda each=each: self.take_connected(each))
                self._connected.addWidget(made)
            if not found:
                self._connected.addWidget(label("no display is connected here", "small"))

        self.session.ask_logbook(lambda _book: choose.displays_of(folder).list(), done)

    def _ask(self) -> None:
        self.ask_file(
            "EDID",
            "EDID files (*.edid *.bin *.txt *.hex);;All files (*)",
            lambda path: self.learn_from("display", path),
        )

    def _on_pasted(self) -> None:
        text = self._dump.toPlainText()
        if not text.strip():
            return
        self._take_bytes(text.encode("utf-8", "replace"), "the pasted dump")

    def take_connected(self, found: ConnectedDisplay) -> None:
        """Learn what is plugged into a socket."""
        if not found.data:
            self._say(f"{found.socket} gives no EDID. Is it a tube? Then choose its kind below.")
            return
        self._name.setModified(False)
        self._take_bytes(found.data, f"the display at {found.socket}")

    def _take_bytes(self, data: bytes, source: str) -> None:
        try:
            self.take(display.learn(data, source))
        except KyklonError as bad:
            self._say(str(bad))

    def take_tube(self, of: display.TubeClass) -> None:
        self.take(display.tube(of))

    def show_draft(self, draft: Draft | None) -> None:
        """Override."""
        bands = (draft.row.get("ranges") or draft.suggested.get("ranges") or ()) if draft else ()
        ranges = tuple(band if isinstance(band, Range) else Range(**band) for band in bands)
        points: list[Point] = []
        for each in (draft.row.get("modes", ()) if draft else ())[:_MOST_POINTS]:
            timing = Timing.model_validate(each)
            line, rate = float(timing.horizontal_hz) / 1000, float(timing.vertical_hz)
            points.append(Point(f"{timing.size[0]} × {timing.size[1]}", line, rate, "", not points, line))
        self._plot.show_values(ranges, tuple(points), "")
