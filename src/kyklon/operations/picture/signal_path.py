"""What a mode has to pass on its way to the glass, and the last word on whether it does.

`refused` knows nothing of how modes are made: everything that proposes, plans or sends one is held against it.
"""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.base.quantities import show
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Adapter, Board, Display, Range
from kyklon.catalogue.system_records import System
from kyklon.catalogue.text_records import Dialect
from kyklon.model.build import Build, PictureSettings
from kyklon.model.display import Edid
from kyklon.model.timing import Timing
from kyklon.model.world import World
from kyklon.operations.picture.ranges import Carried, adapters_of, carried, display_ranges, fit


@dataclass(frozen=True)
class SignalPath:
    """Display, board and adapters of a build, and what the display says of itself."""

    display: Display
    board: Board
    adapters: tuple[Adapter, ...] = ()
    data: Edid | None = None
    dialect: Dialect | None = None

    @property
    def ranges(self) -> tuple[Range, ...]:
        return display_ranges(self.display, self.data)

    @property
    def link(self) -> Carried:
        return carried(self.board, self.adapters, self.display)

    @property
    def shows_card(self) -> bool:
        """Whether the firmware shows a picture of the user's own while it starts."""
        dialect = self.dialect
        return "card picture" in self.board.honours and dialect is not None and dialect.carries("picture.test_card")


def signal_path_of(build: Build, catalogue: Catalogue, world: World) -> SignalPath | None:
    """None where no display or no board is chosen."""
    display, board = catalogue.find(Display, build.part("display")), catalogue.find(Board, build.part("board"))
    if display is None or board is None:
        return None
    return SignalPath(
        display, board, adapters_of(build, catalogue), world.identification, catalogue.find(Dialect, build.boot.dialect)
    )


def refused(timing: Timing, signal_path: SignalPath) -> str:
    """Why a timing must not be sent, '' when it may."""
    where, link, display = fit(timing, signal_path.ranges), signal_path.link, signal_path.display
    if where.off_khz:
        line = show(float(timing.horizontal_hz), "Hz", 3, prefix="k")
        low, high = where.range.line_khz
        return f"{line} is outside the {low:g} to {high:g} kHz of {display.name}"
    if where.off_hz:
        rate = show(float(timing.vertical_hz), "Hz", 3)
        return f"{rate} is outside the {where.range.field_hz[0]:g} to {where.range.field_hz[1]:g} Hz of {display.name}"
    if timing.horizontal.active < link.least_width:
        return f"{timing.horizontal.active} pixels across are less than the {link.least_width} that the adapter needs"
    if not link.holds(timing):
        least, most = (show(each, "Hz", 0, prefix="M") for each in (link.least_clock_hz, link.most_clock_hz))
        clock = show(timing.clock_hz, "Hz", 2, prefix="M")
        return f"a pixel clock of {clock} is outside the {least} to {most} that the link carries"
    return ""


def stood(system: System, picture: PictureSettings) -> System:
    """The system as the tube scans it where it stands: a vertical game lies on its side on a tube that is turned with
    it, and a horizontal one on a tube that stays on its side."""
    if picture.stand == "turned with the game":
        return system
    return system.model_copy(update={"vertical": picture.stand == "on its side"})


def scanned_aspect(system: System) -> float:
    """Width to height of the whole picture as it is scanned."""
    wide, high = system.aspect
    wide, high = max(wide, high), min(wide, high)
    tall = (system.height > system.width) != system.vertical
    return high / wide if tall else wide / high
