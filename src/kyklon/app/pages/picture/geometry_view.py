"""Geometry: the test card on its glass, what the rulers say, and the picture moved by it."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QCheckBox, QDoubleSpinBox, QFileDialog, QGridLayout, QSpinBox, QWidget

from kyklon.app.pages.picture.card_window import CardWindow
from kyklon.app.pages.picture.geometry_drawing import GeometryDrawing, GlassDrawn
from kyklon.app.pages.picture.light import LightView
from kyklon.app.pages.picture.strip_drawing import StripDrawing, Thumb
from kyklon.app.pages.tab_view import side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, Sheet, button, column, label, row, set_tip
from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.quantities import show_share
from kyklon.catalogue.records import Display
from kyklon.catalogue.system_records import System
from kyklon.devices import choose
from kyklon.devices.simulated.glass import SimulatedGlass
from kyklon.model.build import Adjustment
from kyklon.model.timing import Timing
from kyklon.operations.picture import testcard
from kyklon.operations.picture.adjust import Moved, Readings, applied, centred, squeezed
from kyklon.operations.picture.findings import MENU, modes_of
from kyklon.operations.picture.schools import in_words, row_in, rows_of
from kyklon.operations.picture.signal_path import refused

EDGES = ("left", "right", "top", "bottom")


def image_of(picture: testcard.Picture) -> QImage:
    """A card's pixels as Qt draws them."""
    high, wide = picture.shape[:2]
    return QImage(picture.tobytes(), wide, high, 3 * wide, QImage.Format.Format_RGB888).copy()


class GeometryView(LightView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._key = MENU
        self._plate: testcard.Plate = "measure"
        self._drawn: tuple[Timing, str, testcard.Plate] | None = None
        self._image: QImage | None = None
        self._window: CardWindow | None = None
        self.drawing = GeometryDrawing(self.theme)
        self.instrument = self.drawing
        self._sheet = Sheet("On the screen", "to scale; figures: pixels and lines hidden")
        self.strip = StripDrawing(self.theme)
        self.strip.chosen.connect(self._on_key)
        self._sheet.add(self.drawing, self.strip)
        self._sheet.layout().setStretch(1, 7)
        self._sheet.layout().setStretch(2, 4)
        self.setLayout(row(self._sheet, self._side(), spacing=14))
        self.layout().setStretch(0, 1)

    def _side(self) -> QWidget:
        self._which = Choice(self.theme, "Mode", self._on_key)
        self._which.setMinimumContentsLength(14)
        self._plates = Choice(self.theme, "Pattern", self._on_plate)
        self._plates.set_choices(
            (("measure", "Rulers and circle"), ("tones", "Greys and colours"), ("lines", "Lines and convergence")),
            self._plate,
        )
        card = Sheet("Test pattern")
        self._show_card = button("Show it", self._on_show, tip="Full size, in a window for the display's own desktop")
        self._save_card = button("Save as PNG…", self._on_save)
        self._on_start = QCheckBox("show the test pattern during boot")
        self._on_start.toggled.connect(self._on_start_toggled)
        card.add(
            row(label("mode", "small"), self._which),
            row(label("pattern", "small"), self._plates),
            row(self._show_card, self._save_card),
            self._on_start,
        )
        read = Sheet("Ruler readings", "first number seen")
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(8)
        self.boxes: dict[str, QSpinBox] = {}
        for index, edge in enumerate(EDGES):
            box = QSpinBox()
            box.setRange(-500, 1500)
            box.setSuffix("\u202fpx" if index < 2 else "\u202flines")
            box.setAccessibleName(f"First number seen on the {edge} ruler")
            self.boxes[edge] = box
            grid.addWidget(label(edge, "small"), index // 2, index % 2 * 2)
            grid.addWidget(box, index // 2, index % 2 * 2 + 1)
        self._move = button("Centre the picture", self.centre, "primary")
        self._stand_in = button(
            "Read the simulated display", self.read_stand_in, tip="What the demo's tube shows at its edges"
        )
        self._told = label("", "small", wrap=True)
        read.add(grid, self._move, self._stand_in, self._told)
        ring = Sheet("Circle", "its size on the screen, in mm")
        self._wide, self._high = QDoubleSpinBox(), QDoubleSpinBox()
        for box_mm, words in ((self._wide, "Circle width"), (self._high, "Circle height")):
            box_mm.setRange(0, 2000)
            box_mm.setDecimals(0)
            box_mm.setSuffix("\u202fmm")
            box_mm.setAccessibleName(words)
        self._keep_ring = button("Keep", self.keep_ring)
        self._ring_told = label("", "small", wrap=True)
        self._ring_told.setMinimumHeight(round(self.theme.px(34)) if self.theme.scale > 1 else 0)  # two lines
        ring.add(row(self._wide, label("×", "small"), self._high, self._keep_ring), self._ring_told, 1)
        side = QWidget()
        side.setLayout(column(card, read, ring, 1, spacing=10))
        side.setFixedWidth(side_px(self.theme))
        return side

    # --- showing -------------------------------------------------------------------------------------------------

    @property
    def display(self) -> Display | None:
        return self.session.catalogue.find(Display, self.build.part("display"))

    @property
    def timing(self) -> Timing:
        """Of the mode that is looked at."""
        mode = self.build.picture.menu if self._key == MENU else self.build.system_mode(self._key)
        return mode.timing

    @property
    def readings(self) -> Readings:
        """What stands in the four boxes."""
        return Readings(*(self.boxes[edge].value() for edge in EDGES))

    def choose(self, key: str) -> None:
        """Look at the menu's mode, or a system's."""
        if key != self._key:
            self._clear()
        self._key = key
        self.refresh()

    def refresh(self) -> None:
        """Override."""
        display = self.display
        modes = modes_of(self.build, self.session.catalogue)
        self._which.set_choices(tuple((key, name) for key, name, _mode in modes), self._key)
        self._key = self._which.value
        glass = self._stand_in_glass()
        self._stand_in.setVisible(glass is not None)
        self._on_start.blockSignals(True)
        self._on_start.setChecked(self.build.picture.test_card)
        self._on_start.blockSignals(False)
        able = self.signal_path is not None and self.signal_path.shows_card
        self._on_start.setEnabled(able)
        set_tip(self._on_start, "" if able else "This board's firmware cannot show your picture")
        if display is None:
            self.drawing.show_glass(None, None)
            return
        timing, system = self.timing, self.session.catalogue.find(System, self._key)
        if self._drawn != (timing, display.id, self._plate):
            self._drawn = (timing, display.id, self._plate)
            try:
                self._image = image_of(testcard.card(timing, display, self._plate))
            except WrongUse:
                self._image = None
        hidden = self._hidden(timing, display)
        box, words, circle = None, "Test pattern", 1.0
        if system is not None and self._plate == "measure":
            signal_path, mode = self.signal_path, self.build.system_mode(system.id)
            if signal_path is not None:
                own = row_in(self.build, system, mode, signal_path)
                box, words, circle = own.glass.box, f"{system.name}: {in_words(own)}", own.glass.circle
        self._show_strip(display)
        kept = self._kept(timing, display)
        self.drawing.show_glass(
            GlassDrawn((display.width_mm, display.height_mm), display.tube, timing.size, hidden, box, words, circle),
            self._image,
        )
        self._tell(timing, kept)

    def _show_strip(self, display: Display) -> None:
        signal_path, thumbs = self.signal_path, []
        edge = display.overscan_percent / 100 if display.tube else 0.0
        for own in rows_of(self.build, self.session.catalogue, self.session.world):
            across, down = own.mode.timing.size
            left, top, wide, high = own.glass.box
            seen = 1 - 2 * edge
            box = ((left / across - edge) / seen, (top / down - edge) / seen, wide / across / seen, high / down / seen)
            bad = signal_path is not None and bool(refused(own.mode.timing, signal_path))
            told = [f"{show_share(own.glass.lost)} cut off"] if own.glass.lost >= 0.01 else []
            told += [f"{show_share(own.glass.border)} border"] if own.glass.border >= 0.01 else []
            words = "must not be sent" if bad else ", ".join(told)
            thumbs.append(Thumb(own.system.id, own.system.name, box, words, bad, own.system.vertical))
        self.strip.show_thumbs(tuple(thumbs), display.aspect[0] / display.aspect[1], self._key)

    def _hidden(self, timing: Timing, display: Display) -> tuple[float, float, float, float]:
        """Pixels and lines behind the bezel: what was read, else what the catalogue says of such tubes."""
        values = tuple(float(self.boxes[edge].value()) for edge in EDGES)
        if any(values):
            return values[0], values[1], values[2], values[3]
        part = display.overscan_percent / 100 if display.tube else 0.0
        across, down = timing.size
        return across * part, across * part, down * part, down * part

    def _kept(self, timing: Timing, display: Display) -> Adjustment | None:
        moves = self.build.picture.adjustments
        return next((move for move in moves if (move.display, move.size) == (display.id, timing.size)), None)

    def _tell(self, timing: Timing, kept: Adjustment | None) -> None:
        read = self.readings
        right, down = read.off
        if not any(self.boxes[edge].value() for edge in EDGES):
            words = "Show the test pattern on the tube, then type the first number you see at each edge."
        elif abs(right) <= 1 and abs(down) <= 1:
            words = "The picture is centred."
        else:
            where = [f"{abs(right):g} px {'left' if right > 0 else 'right'}"] if abs(right) > 0.5 else []
            where += [f"{abs(down):g} lines {'high' if down > 0 else 'low'}"] if abs(down) > 0.5 else []
            words = f"It is {' and '.join(where)} of centre."
        if kept:
            words += f" Kept for {timing.size[0]} × {timing.size[1]}: {kept.right:+d} px, {kept.down:+d} lines."
        self._told.setText(words)
        if kept and kept.squeeze != 1:
            off = kept.squeeze - 1
            self._ring_told.setText(
                f"Circle {show_share(abs(off), 1)} too {'wide' if off > 0 else 'narrow'} on this display: "
                "adjust its width, or correct it with scaling."
            )
        else:
            self._ring_told.setText("Measure the circle with a ruler on the screen.")

    # --- acting --------------------------------------------------------------------------------------------------

    def _stand_in_glass(self) -> SimulatedGlass | None:
        try:
            return choose.glass_of(self.session.folder)
        except KyklonError as bad:
            self.session.said.emit(str(bad))
            return None

    def read_stand_in(self) -> None:
        """Take the four numbers that the stand-in's glass shows."""
        glass = self._stand_in_glass()
        if glass is not None and not self._refused():
            for edge, value in zip(EDGES, glass.read(self.timing), strict=True):
                self.boxes[edge].setValue(value)
            self.refresh()

    def centre(self) -> None:
        """Move the picture by what the rulers say."""
        display = self.display
        if display is None or self._refused():
            return
        moved = centred(self.timing, self.readings)
        if (moved.right, moved.down) == (0, 0):
            self.session.said.emit(moved.short or "The picture is already centred.")
            return
        self.take(applied(self.build, self._key, display.id, moved), "Picture moved")
        self.session.log(50, "Picture moved", f"{moved.right:+d} pixels, {moved.down:+d} lines on {display.name}")
        self.session.said.emit(
            moved.short
            or "Moved. Copy the boot files to the card, show the test pattern again and read the rulers again."
        )
        self._clear()
        self.refresh()

    def keep_ring(self) -> None:
        """Keep how far the ring is off on this display in this mode."""
        display = self.display
        if display is None:
            return
        try:
            off = squeezed(self._wide.value(), self._high.value())
        except WrongUse as bad:
            self.session.said.emit(str(bad))
            return
        self.take(applied(self.build, self._key, display.id, Moved(self.timing, 0, 0), off), "Circle measured")

    def _on_key(self, key: str) -> None:
        self.choose(key)

    def _clear(self) -> None:
        for box in self.boxes.values():
            box.setValue(0)

    def _refused(self) -> bool:
        """Whether the mode must not be on the glass at all; says so."""
        signal_path = self.signal_path
        why = refused(self.timing, signal_path) if signal_path is not None else ""
        if why:
            self.session.said.emit(f"This mode must not be sent: {why}. Choose another one first, in Which modes.")
        return bool(why)

    def _on_plate(self, plate: str) -> None:
        self._plate = plate  # type: ignore[assignment] # one of PLATES
        self.refresh()

    def _on_show(self) -> None:
        if self._image is None:
            self.session.said.emit("This mode is too small or too large for a test pattern.")
            return
        self._window = CardWindow(self._image)
        self._window.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._window.showFullScreen()

    def _on_save(self) -> None:
        display = self.display
        if display is None:
            return
        wide, high = self.timing.size
        start = str(self.session.folder / f"card-{self._plate}-{wide}x{high}.png")
        chosen, _kind = QFileDialog.getSaveFileName(self, "Save the test pattern", start, "PNG (*.png)")
        if chosen:
            self.save_card(Path(chosen))

    def save_card(self, path: Path) -> None:
        """Write the plate in the mode's own size."""
        display = self.display
        if display is None:
            return
        try:
            data = testcard.png(testcard.card(self.timing, display, self._plate))
        except WrongUse as bad:
            self.session.said.emit(str(bad))
            return
        self.session.keep_file(path, data, f"Saved {path.name}")

    def _on_start_toggled(self, on: bool) -> None:
        if on != self.build.picture.test_card:
            self.session.edit("picture.test_card", on)
