"""Identification data: the display's own and the EDID this build issues, block by block; repaired, edited, issued."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QLineEdit, QWidget

from kyklon.app.pages.picture.blocks_drawing import BlockDrawn, BlocksDrawing
from kyklon.app.pages.picture.light import LightView
from kyklon.app.pages.tab_view import side_px
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import FigureRows, Sheet, button, column, label, row, scrolled
from kyklon.app.widgets.tick import Tick
from kyklon.base.errors import KyklonError, WrongUse
from kyklon.base.reading import bytes_of
from kyklon.base.shown import visible
from kyklon.catalogue.records import Display
from kyklon.model.build import edited
from kyklon.model.display import Edid
from kyklon.model.timing import Timing
from kyklon.operations.picture import edid, repair
from kyklon.operations.picture.names import parse_timing
from kyklon.operations.picture.sending import identification, takes_firmware, takes_timings, unfit
from kyklon.record.folder import resolve

OWN, ISSUED = "display's own", "issued by this build"
_REPAIRED = "attachments/display-repaired.edid"


class IdentificationView(LightView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._shown = OWN
        self.drawing = BlocksDrawing(self.theme)
        self.instrument = self.drawing
        self._sheet = Sheet("EDID the kernel will use", "128 bytes a block")
        self._own_box, self._issued_box = Tick("the display's own"), Tick("the EDID this build issues")
        for box, which in ((self._own_box, OWN), (self._issued_box, ISSUED)):
            box.setAutoExclusive(True)
            box.toggled.connect(lambda on, which=which: self._on_which(which) if on else None)
        self._own_box.setChecked(True)
        self._sheet.add(row(self._own_box, self._issued_box, 1), self.drawing)
        self._sheet.layout().setStretch(2, 1)
        self._modes = Sheet("Timings in it", "the first is preferred")
        self._rows = FigureRows(self.theme)
        self._modes.add(scrolled(self._rows))
        self._words = label("", "small", wrap=True)
        self._words.setAlignment(Qt.AlignmentFlag.AlignTop)
        below = row(self._modes, self._side_below(), spacing=12)
        below.setStretch(0, 1)
        left = column(self._sheet, below, spacing=12)
        left.setStretch(0, 4)
        left.setStretch(1, 6)
        self.setLayout(left)

    def _side_below(self) -> QWidget:
        own = Sheet("EDID of the display")
        self._choose = button("Choose…", self._on_choose)
        self._repair = button("Repair", self.repair)
        self._save = button("Save…", self._on_save)
        self._other = QLineEdit()
        self._other.setPlaceholderText("add a timing: cta 8, cvt 640 480 60")
        self._other.setAccessibleName("Add a timing to the display's EDID")
        self._other.returnPressed.connect(self._on_add)
        own.add(row(self._choose, self._repair, self._save), self._other, self._words)
        issued = Sheet("On the card")
        self.issue_box = Tick("load this build's modes as an EDID file")
        self.issue_box.toggled.connect(lambda on: self._put("picture.issue_identification", on))
        self.ignore_box = Tick("ignore the display's EDID")
        self.ignore_box.toggled.connect(lambda on: self._put("boot.ignore_identification", on))
        self.force_box = Tick("force output on (ignore hot plug)")
        self.force_box.toggled.connect(lambda on: self._put("boot.force_output", on))
        self._route = label("", "small", wrap=True)
        issued.add(self.issue_box, self.ignore_box, self.force_box, self._route, 1)
        side = QWidget()
        side.setLayout(column(own, issued, spacing=12))
        side.layout().setStretch(1, 1)
        side.setFixedWidth(side_px(self.theme, 24))
        return side

    # --- showing -------------------------------------------------------------------------------------------------

    @property
    def data(self) -> Edid | None:
        """The data that is looked at."""
        if self._shown == OWN:
            return self.session.world.identification
        display = self.session.catalogue.find(Display, self.build.part("display"))
        if unfit(self.build, display):
            return None
        return identification(self.build, display)

    def refresh(self) -> None:
        """Override."""
        signal_path, build, world = self.signal_path, self.build, self.session.world
        display = self.session.catalogue.find(Display, build.part("display"))
        found = self.data
        self.drawing.show_blocks(tuple(self._blocks(found)) if found else (), self._missing(display))
        self._rows.set_rows(
            tuple((f"{index}", self._timing_words(each)) for index, each in enumerate(repair.timings_of(found), 1))
            if found
            else ()
        )
        self._repair.setEnabled(bool(world.identification_error))
        self._words.setText(world.identification_error or (self._about(found) if found and self._shown == OWN else ""))
        board, dialect = (signal_path.board, signal_path.dialect) if signal_path else (None, None)
        can = board is not None and takes_firmware(board, dialect) and not takes_timings(board, dialect)
        for box, value, able in (
            (self.issue_box, build.picture.issue_identification, can),
            (
                self.ignore_box,
                build.boot.ignore_identification,
                board is not None and "ignore identification" in board.honours,
            ),
            (self.force_box, build.boot.force_output, board is not None),
        ):
            box.blockSignals(True)
            box.setChecked(value)
            box.setEnabled(able)
            box.blockSignals(False)
        self._route.setText(self._route_words(can, display))

    def _missing(self, display: Display | None) -> str:
        if self._shown == ISSUED:
            return unfit(self.build, display)
        return (
            self.session.world.identification_error
            or "No EDID was read from the display. Choose a file, or continue without."
        )

    def _route_words(self, can: bool, display: Display | None) -> str:
        if self.signal_path is None:
            return "Choose a board in Plan."
        name = self.signal_path.board.name
        if takes_timings(self.signal_path.board, self.signal_path.dialect):
            return f"{name} takes full timings from its boot file; it needs no EDID file."
        if not can:
            return f"{name} takes no EDID file as firmware."
        why = unfit(self.build, display)
        if why:
            return f"Cannot be written as an EDID: {why}"
        sound = "HDMI, with sound" if self.build.boot.sound == "digital" else "DVI; the sound uses another output"
        return f"Goes into an initramfs on the boot partition, for drm.edid_firmware=. The link is {sound}."

    @staticmethod
    def _about(data: Edid) -> str:
        link = (
            "announces HDMI"
            if data.extension and data.extension.hdmi
            else "does not announce HDMI: driven as DVI, no sound"
        )
        rates = ""
        if data.ranges:
            (low, high), (slow, fast) = data.ranges.line_khz, data.ranges.field_hz
            rates = f" Accepts {low} to {high} kHz, {slow} to {fast} Hz."
        return f"{visible(data.name)}, made {data.year}; {link}.{rates}"

    @staticmethod
    def _timing_words(timing: Timing) -> str:
        wide, high = timing.size
        line = float(timing.horizontal_hz) / 1000
        return (
            f"{wide} × {high}{'i' if timing.interlaced else ''}  {line:.3f}\u202fkHz  "
            f"{float(timing.vertical_hz):.3f}\u202fHz"
        )

    @staticmethod
    def _blocks(data: Edid) -> list[BlockDrawn]:
        try:
            raw = edid.write(data)
        except WrongUse:
            return []
        names = {0: "base block", 2: "CTA-861", 0x10: "more timings", 0xF0: "map of blocks"}
        found = []
        for start in range(0, len(raw), edid.BLOCK):
            block = raw[start : start + edid.BLOCK]
            found.append(BlockDrawn(names.get(block[0] if start else 0, "other"), block))
        return found

    # --- acting --------------------------------------------------------------------------------------------------

    def show_data(self, which: str) -> None:
        """Look at the display's own data, or at the EDID this build issues."""
        (self._own_box if which == OWN else self._issued_box).setChecked(True)

    def _on_which(self, which: str) -> None:
        self._shown = which
        if hasattr(self, "issue_box"):
            self.refresh()

    def _put(self, path: str, value: bool) -> None:
        self.session.edit(path, value)

    def _on_choose(self) -> None:
        start = str(self.session.folder)
        path, _kind = QFileDialog.getOpenFileName(self, "EDID of the display", start, "Identification (*.edid *.bin *)")
        if path:
            self.session.edit("picture.identification", path)

    def repair(self) -> None:
        """Put damaged data right, into a file of the build's own; the damaged file stays."""
        name = self.build.picture.identification
        try:
            found = repair.repaired(bytes_of(resolve(self.session.folder, name), edid.LARGEST))
            edid.read(found.data)
        except KyklonError as bad:
            self.session.said.emit(f"It cannot be repaired: {bad}")
            return
        self._keep(found.data, " ".join(found.done))

    def _keep(self, data: bytes, words: str) -> None:
        """A new file of the display's data, for this build to use from now on."""

        def there() -> None:
            self.session.put("EDID", edited(self.build, "picture.identification", _REPAIRED))
            self.session.look("display")
            self.session.log(50, "EDID", words)

        self.session.keep_file(self.session.folder / _REPAIRED, data, words, there)

    def _on_add(self) -> None:
        self.add_timing(self._other.text().strip())

    def add_timing(self, name: str) -> None:
        """Add a timing to the display's EDID, into a file of the build's own."""
        own = self.session.world.identification
        try:
            timing = parse_timing(name)
            if own is None:
                raise WrongUse("There is no display EDID to add to.", do="Choose its EDID first.")
            data = edid.write(repair.with_timings(own, (*repair.timings_of(own), timing)))
        except KyklonError as bad:
            self.session.said.emit(str(bad))
            return
        self._other.clear()
        self._keep(data, f"Added {name}. {repair.LOST}")

    def _on_save(self) -> None:
        found = self.data
        if found is None:
            self.session.said.emit("No EDID to save.")
            return
        path, _kind = QFileDialog.getSaveFileName(
            self, "Save", str(self.session.folder / "display.edid"), "EDID (*.edid)"
        )
        if path:
            self.session.keep_file(Path(path), edid.write(found), f"Saved {Path(path).name}")
