"""Can the display hold it, how will it look, which mode is proposed."""

from __future__ import annotations

from PyQt6.QtWidgets import QLineEdit

from kyklon.app.pages.picture.light import LightView
from kyklon.app.pages.picture.raster_view import Raster, RasterView
from kyklon.app.session.session import Session
from kyklon.app.widgets.basic import Choice, FigureRows, Sheet, button, column, row, set_tip
from kyklon.app.widgets.ranges_plot import Point, RangesPlot
from kyklon.base.errors import WrongUse
from kyklon.base.quantities import show, show_duration, show_share
from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.records import Board, Display
from kyklon.catalogue.system_records import System
from kyklon.model.build import SystemMode
from kyklon.model.timing import Mode
from kyklon.operations.picture.findings import MENU, menu_mode, modes_of
from kyklon.operations.picture.glass import Play, on_glass
from kyklon.operations.picture.names import parse_timing
from kyklon.operations.picture.ranges import Fit, adapters_of, carried, display_ranges, fit, propose
from kyklon.operations.picture.signal_path import stood


class RangesView(LightView):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._key = MENU
        self._plot = RangesPlot(self.theme)
        self._view = RasterView(self.theme)
        self._rows = FigureRows(self.theme)
        self._which = Choice(self.theme, "Mode shown", self._on_key_chosen)
        self._which.setMinimumContentsLength(14)
        self._use = button("Use this mode", self._on_use_clicked, "primary")
        self._other = QLineEdit()
        self._other.setPlaceholderText("other: cta 8, cvt 640 480 60")
        self._other.setAccessibleName("Another mode, as cta 8, dmt 12h, cvt 640 480 60 or gtf 800 600 72")
        set_tip(self._other, "cta 8, dmt 12h, cvt 640 480 60 reduced1, gtf 800 600 72; press Enter to use it")
        self._other.returnPressed.connect(self._on_other_entered)
        self._range_sheet = Sheet("Can the display show it?", "each mode against the ranges of the display")
        self._range_sheet.add(self._plot)
        self._look_sheet = Sheet("How it will look")
        self._look_sheet.add(self._view)
        self._mode_sheet = Sheet("Proposed mode")
        self._mode_sheet.add(self._which, self._rows, 1, self._other, self._use)
        self._mode_sheet.setFixedWidth(round(self.theme.px(272)))
        self.instrument = self._plot
        body = column(spacing=14)
        body.addWidget(self._range_sheet, 10)
        body.addLayout(row(self._look_sheet, self._mode_sheet, spacing=14), 11)
        self.setLayout(body)

    # --- showing -------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Override."""
        build, catalogue = self.session.build, self.session.catalogue
        display = catalogue.find(Display, build.part("display"))
        board = catalogue.find(Board, build.part("board"))
        if display is None or board is None:
            self._plot.show_values((), (), "")
            self._view.show_raster(None)
            return
        modes = modes_of(build, catalogue)
        self._which.set_choices(tuple((key, name) for key, name, _mode in modes), self._key)
        self._key = self._which.value
        ranges = display_ranges(display, self.session.world.identification)
        points = tuple(self._point(key, name, mode, fit(mode.timing, ranges)) for key, name, mode in modes)
        first = ranges[0]
        words = (
            f"{display.name} accepts {first.line_khz[0]:g} to {first.line_khz[1]:g} kHz, "
            f"{first.field_hz[0]:g} to {first.field_hz[1]:g} Hz"
        )
        self._plot.show_values(ranges, points, words)
        self._show_mode(display, board)

    def _point(self, key: str, name: str, mode: Mode, where: Fit) -> Point:
        line = float(mode.timing.horizontal_hz) / 1000
        fault = ""
        if where.off_khz:
            fault = f"{abs(where.off_khz):.2f}\u202fkHz too {'fast' if where.off_khz > 0 else 'slow'}"
        elif where.off_hz:
            fault = f"{abs(where.off_hz):.2f}\u202fHz too {'fast' if where.off_hz > 0 else 'slow'}"
        wide, high = mode.timing.size
        called = f"{name} in {wide} × {high}" if fault else name
        edge = where.range.line_khz[1] if where.off_khz > 0 else where.range.line_khz[0]
        return Point(called, line, float(mode.timing.vertical_hz), fault, key == self._key, edge)

    def _proposed(self, display: Display, board: Board) -> Mode | None:
        """The mode the program would choose for what is looked at."""
        catalogue = self.session.catalogue
        ranges = display_ranges(display, self.session.world.identification)
        system = catalogue.find(System, self._key)
        link = carried(board, adapters_of(self.session.build, catalogue), display)
        made = propose(stood(system, self.session.build.picture), display, link, ranges) if system else None
        return made or menu_mode(display, link, ranges)

    def _present(self) -> Mode:
        build = self.session.build
        return build.picture.menu if self._key == MENU else build.system_mode(self._key)

    def _show_mode(self, display: Display, board: Board) -> None:
        catalogue, build = self.session.catalogue, self.session.build
        present, proposed = self._present(), self._proposed(display, board)
        mode = proposed or present
        system = catalogue.find(System, self._key)
        sample = system or next(iter(known_systems(build, catalogue)), catalogue.all(System)[0])
        ranges = display_ranges(display, self.session.world.identification)
        holds = fit(present.timing, ranges).holds
        spot = on_glass(stood(sample, build.picture), present.timing, display, scaled=build.picture.school == "scaled")
        wide, high = present.timing.size
        pattern = f"{sample.name}, " if system else ""
        self._look_sheet.set_note(f"now: {pattern}{wide} × {high}; dashed: edge of the picture")
        left, top = (max(0.0, spot.box[0] / wide), max(0.0, spot.box[1] / high)) if system else (0.0, 0.0)
        self._view.show_raster(
            Raster(
                display.aspect[0] / display.aspect[1],
                left,
                top,
                display.overscan_percent / 100,
                display.tube,
                bool(system and stood(system, build.picture).vertical),
                high if high < 300 else high // 2,
                holds,
            )
        )
        same = mode.timing == present.timing
        self._mode_sheet.set_title("Mode in use" if same else "Proposed mode")
        self._rows.set_rows(self._figures(mode, system, display))
        name = system.name if system else "the menu"
        self._use.setText("In use" if same else f"Use this mode for {name}")
        self._use.setEnabled(not same)

    def _figures(self, mode: Mode, system: System | None, display: Display) -> tuple[tuple[str, str], ...]:
        timing = mode.timing
        rows = [
            ("Size", f"{timing.size[0]} × {timing.size[1]}"),
            ("Pixel clock", show(timing.clock_hz, "Hz", 3, prefix="M")),
            ("Line", show(float(timing.horizontal_hz), "Hz", 3, prefix="k")),
            ("Field" if timing.interlaced else "Frame", show(float(timing.vertical_hz), "Hz")),
        ]
        if system is None:
            return (*rows, ("From", mode.name))
        picture = self.session.build.picture
        spot = on_glass(stood(system, picture), timing, display, scaled=picture.school == "scaled")
        lost = Play(system.refresh_hz, timing.vertical_hz).lost_per_min
        rows += [
            ("Game", show(float(system.refresh_hz), "Hz")),
            ("One frame dropped", f"every {show_duration(60 / lost)}" if lost else "never"),
            ("Width", f"{spot.box[2]}, × {spot.scale[0]:.4g}"),
            ("Height", f"{spot.box[3]} of {timing.size[1]}, × {spot.scale[1]:.3g}"),
            ("Circle", "round" if abs(spot.circle - 1) < 0.005 else f"{spot.circle:.3f} wide to high"),
            ("Overscan", show_share(spot.lost, 1)),
        ]
        return tuple(rows)

    # --- acting --------------------------------------------------------------------------------------------------

    def _on_key_chosen(self, key: str) -> None:
        self._key = key
        self.refresh()

    def _on_use_clicked(self) -> None:
        build, catalogue = self.session.build, self.session.catalogue
        display, board = catalogue.find(Display, build.part("display")), catalogue.find(Board, build.part("board"))
        mode = self._proposed(display, board) if display and board else None
        if mode is not None:
            self.use_mode(mode)

    def _on_other_entered(self) -> None:
        name = self._other.text().strip()
        try:
            mode = Mode(name=name, timing=parse_timing(name))
        except WrongUse as bad:
            self.session.said.emit(str(bad))
            return
        self._other.clear()
        self.use_mode(mode)

    def use_mode(self, mode: Mode) -> None:
        """Give the menu or the system looked at another mode; the findings say whether the display holds it."""
        build = self.session.build
        if self._key == MENU:
            self.session.edit("picture.menu", mode)
            return
        rest = [each for each in build.picture.systems if each.system != self._key]
        rows = [*rest, SystemMode(system=self._key, mode=mode)]
        order = {system: index for index, system in enumerate(build.systems)}
        rows.sort(key=lambda each: order.get(each.system, 99))
        self.session.edit("picture.systems", rows)
