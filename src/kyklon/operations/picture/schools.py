"""The three ways of giving a machine its picture, each complete: every system in a mode of its own, one mode for all
with whole pixels, one mode for all with scaling.

On a flat display the same three are: its native size at the rate nearest to each system's, whole pixels, and scaling.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from math import ceil
from typing import TYPE_CHECKING

from kyklon.base.errors import WrongUse
from kyklon.base.late import late
from kyklon.base.quantities import show, show_share
from kyklon.catalogue.chosen import known_systems
from kyklon.catalogue.loader import Catalogue, standard_timings
from kyklon.catalogue.system_records import System
from kyklon.model.build import Build, School, SystemMode
from kyklon.model.findings import Change, Remedy
from kyklon.model.timing import Mode, Timing
from kyklon.model.world import World
from kyklon.operations.picture.adjust import adjusted, squeeze_of
from kyklon.operations.picture.construct import SYSTEM_525, SYSTEM_625, Frame
from kyklon.operations.picture.findings import menu_mode
from kyklon.operations.picture.formulas import cvt
from kyklon.operations.picture.glass import OnGlass, Play, on_glass, play_of
from kyklon.operations.picture.ranges import WIDTHS, made_in, propose, raster, rate_in
from kyklon.operations.picture.signal_path import SignalPath, refused, signal_path_of, stood
from kyklon.operations.picture.video_word import modes_offered

if TYPE_CHECKING:
    import numpy as np
else:
    np = late("numpy")

SCHOOLS: tuple[School, ...] = ("own modes", "wide mode", "scaled")
SCHOOL_WORDS: Mapping[School, tuple[str, str]] = {  # on a tube, on a flat display
    "own modes": ("A mode for each system", "The nearest rate for each system"),
    "wide mode": ("One wide mode, whole pixels", "One mode, whole pixels"),
    "scaled": ("One mode, scaled", "One mode, scaled to fill"),
}
_WORTH_SAYING = 0.01  # of picture, glass or roundness
_HEARD = 0.003  # of speed: 5 cents, what trained ears tell apart, CP
_RATES = (60, 50)  # Hz that a flat display is given where nothing says which it takes
_INSIDE = 0.94  # of the width that pictures are to take: 3 % at each side, CP
_TRIED = 40  # widths, the best first
_WIDE_STEP = 8  # pixels between two widths that are tried: links take lines in such cells (VESA CVT, CELL GRAN)


@dataclass(frozen=True)
class Row:
    """A system in its mode."""

    system: System
    mode: Mode
    glass: OnGlass
    play: Play


@dataclass(frozen=True)
class Plan:
    """why: what keeps this school from a menu or a system from a picture, '' for nothing."""

    school: School
    menu: Mode | None
    rows: tuple[Row, ...] = ()
    why: str = ""

    @property
    def modes(self) -> tuple[Mode, ...]:
        """Every mode that the display is given, each once, the menu's first."""
        found = [self.menu] if self.menu else []
        for row in self.rows:
            if all(row.mode.timing != each.timing for each in found):
                found.append(row.mode)
        return tuple(found)

    @property
    def lost_per_min(self) -> float:
        """Frames a minute of the worst system, where none follows the display."""
        return max((row.play.lost_per_min for row in self.rows), default=0.0)

    @property
    def lost(self) -> float:
        return max((row.glass.lost for row in self.rows), default=0.0)

    @property
    def border(self) -> float:
        """Of the glass, on the average of the systems."""
        return sum(row.glass.border for row in self.rows) / len(self.rows) if self.rows else 0.0

    @property
    def off_round(self) -> float:
        """How far a circle is off, as a part, of the worst system."""
        return max((abs(row.glass.circle - 1) for row in self.rows), default=0.0)


def plans(build: Build, catalogue: Catalogue, world: World) -> tuple[Plan, ...]:
    """All three schools for a build; none without display and board."""
    signal_path = signal_path_of(build, catalogue, world)
    if signal_path is None:
        return ()
    systems = tuple(stood(system, build.picture) for system in known_systems(build, catalogue))
    return tuple(_adjusted(plan(school, signal_path, systems), build, signal_path) for school in SCHOOLS)


def plan(school: School, signal_path: SignalPath, systems: Sequence[System]) -> Plan:
    """One school's plan. systems: as the tube stands to them (ground.stood). Every mode in it is one that the ground
    does not refuse."""
    menu = menu_mode(signal_path.display, signal_path.link, signal_path.ranges) or flat_mode(signal_path, Fraction(60))
    if menu is None or refused(menu.timing, signal_path):
        return Plan(school, None, why=f"No mode for the menu reaches {signal_path.display.name}.")
    if school == "own modes":
        pairs = [(system, _own(system, signal_path) or menu) for system in systems]
    elif school == "wide mode" and signal_path.display.tube:
        wide = wide_modes(signal_path, systems)
        menu = next(iter(wide.values()), menu)
        pairs = [(system, wide.get(_group(system), menu)) for system in systems]
    else:
        pairs = [(system, menu) for system in systems]
    rows = tuple(row_of(system, mode, signal_path, scaled=school == "scaled") for system, mode in pairs)
    bad = next((row for row in rows if refused(row.mode.timing, signal_path)), None)
    return Plan(school, menu, rows, f"{bad.system.name}: {refused(bad.mode.timing, signal_path)}." if bad else "")


def row_of(system: System, mode: Mode, signal_path: SignalPath, *, scaled: bool, squeeze: float = 1.0) -> Row:
    glass = on_glass(system, mode.timing, signal_path.display, scaled=scaled, squeeze=squeeze)
    return Row(system, mode, glass, play_of(system, mode))


def row_in(build: Build, system: System, mode: Mode, signal_path: SignalPath) -> Row:
    """A system of a build in a mode, as the display stands, and as a circle was measured there."""
    scaled = build.picture.school == "scaled"
    squeeze = squeeze_of(build, signal_path.display.id, mode.timing)
    return row_of(stood(system, build.picture), mode, signal_path, scaled=scaled, squeeze=squeeze)


def in_words(row: Row) -> str:
    """How a system will lie on the glass and play, in a line."""
    wide, high = row.mode.timing.size
    _left, _top, across, down = row.glass.box
    told = [f"{wide} × {high} at {show(float(row.mode.timing.vertical_hz), 'Hz')}", f"its picture {across} × {down}"]
    if row.glass.lost >= _WORTH_SAYING:
        told.append(f"{show_share(row.glass.lost)} of it cut off")
    if row.glass.border >= _WORTH_SAYING:
        told.append(f"borders on {show_share(row.glass.border)} of the screen")
    if abs(row.glass.circle - 1) >= _WORTH_SAYING:
        told.append(
            f"circles {show_share(abs(row.glass.circle - 1))} too {'wide' if row.glass.circle > 1 else 'narrow'}"
        )
    if abs(row.play.speed - 1) > _HEARD:
        told.append(f"{row.play.lost_per_min:.0f} frames per minute {'repeated' if row.play.doubled else 'dropped'}")
    return ", ".join(told)


def rows_of(build: Build, catalogue: Catalogue, world: World) -> tuple[Row, ...]:
    """The systems of a build in the modes that it has now."""
    signal_path = signal_path_of(build, catalogue, world)
    if signal_path is None:
        return ()
    return tuple(
        row_in(build, system, build.system_mode(system.id), signal_path) for system in known_systems(build, catalogue)
    )


def _own(system: System, signal_path: SignalPath) -> Mode | None:
    if signal_path.display.tube:
        made = propose(system, signal_path.display, signal_path.link, signal_path.ranges)
    else:
        made = flat_mode(signal_path, system.refresh_hz)
    return made if made is not None and not refused(made.timing, signal_path) else None


def flat_modes(signal_path: SignalPath) -> tuple[Mode, ...]:
    """What a flat display is known to take in its own size: what its data offer, else the standards' and CVT's."""
    native = signal_path.display.native
    if native is None:
        return ()
    offered = [*(modes_offered(signal_path.data) if signal_path.data else ()), *signal_path.display.modes]
    found = [Mode(name="offered by the display", timing=each) for each in offered if each.size == native]
    if not found:
        codes = ((f"CTA {code}", row.timing) for code, row in standard_timings("cta").items())
        found = [Mode(name=name, timing=each) for name, each in codes if each.size == native]
        for rate in _RATES:
            try:
                found.append(Mode(name=f"CVT reduced, {rate} Hz", timing=cvt(*native, rate, "reduced1")))
            except WrongUse:
                continue
    return tuple(each for each in found if not each.timing.interlaced and not refused(each.timing, signal_path))


def flat_mode(signal_path: SignalPath, rate: Fraction) -> Mode | None:
    """The nearest rate; of equals the one that the display names first."""
    return min(flat_modes(signal_path), key=lambda mode: abs(mode.timing.vertical_hz - rate), default=None)


def _group(system: System) -> str:
    return "50" if system.refresh_hz < 55 else "60"


def wide_modes(signal_path: SignalPath, systems: Sequence[System]) -> dict[str, Mode]:
    """One mode for the systems near 60 Hz and one for those near 50 Hz: the rate in their middle, the width in which
    their pixels come out whole with the least left over."""
    found = {}
    for group, standard in (("60", SYSTEM_525), ("50", SYSTEM_625)):
        own = [system for system in systems if _group(system) == group]
        if not own:
            continue
        rates = sorted(each.refresh_hz for each in own)
        rate = rates[len(rates) // 2]
        height = max(min(raster(each)[1], standard.active) for each in own)
        timing = _wide(signal_path, own, rate, height)
        if timing is not None:
            found[group] = Mode(name=f"one for {len(own)} systems", timing=timing)
    return found


def _wide(signal_path: SignalPath, systems: Sequence[System], rate: Fraction, height: int) -> Timing | None:
    widths = np.array([raster(system)[0] for system in systems])[:, None]
    first = max(WIDTHS.start, signal_path.link.least_width)
    across = np.arange(ceil(first / _WIDE_STEP) * _WIDE_STEP, WIDTHS.stop, _WIDE_STEP)
    left_over = np.abs(_INSIDE - widths * np.round(_INSIDE * across / widths) / across)
    order = np.lexsort((left_over.sum(axis=0), left_over.max(axis=0)))
    sizes = [int(each) for each in across[order][:_TRIED]]
    for band in signal_path.ranges:
        held = rate_in(band, rate)
        if held is None:
            continue
        for size in sizes:
            made = made_in(Frame(size, height, held), signal_path.link, band, exactly=True)
            if made is not None and not refused(made, signal_path):
                return made
    return None


def _adjusted(plan_: Plan, build: Build, signal_path: SignalPath) -> Plan:
    """The plan with what was measured on this display before."""
    moves = build.picture.adjustments
    if plan_.menu is None or not moves:
        return plan_
    own = signal_path.display.id
    menu = plan_.menu.model_copy(update={"timing": adjusted(plan_.menu.timing, moves, own)})
    rows = []
    for row in plan_.rows:
        mode = row.mode.model_copy(update={"timing": adjusted(row.mode.timing, moves, own)})
        squeeze = squeeze_of(build, own, mode.timing)
        rows.append(row_of(row.system, mode, signal_path, scaled=plan_.school == "scaled", squeeze=squeeze))
    return Plan(plan_.school, menu, tuple(rows), plan_.why)


def taken(build: Build, plan_: Plan) -> Remedy | None:
    """The edit that gives a build the modes of a plan; None for a plan without a menu."""
    if plan_.menu is None:
        return None
    return given(build, plan_.school, plan_.menu, {row.system.id: row.mode for row in plan_.rows})


def given(build: Build, school: School, menu: Mode, modes: Mapping[str, Mode]) -> Remedy:
    """The edit that gives a build these modes."""
    own = [
        SystemMode(system=key, mode=modes[key]).model_dump()
        for key in build.systems
        if key in modes and modes[key].timing != menu.timing
    ]
    size = "{} × {}".format
    changes = (
        Change(path="picture.school", value=school, label="School", before=build.picture.school, after=school),
        Change(
            path="picture.menu",
            value=menu.model_dump(),
            label="Menu mode",
            before=size(*build.picture.menu.timing.size),
            after=size(*menu.timing.size),
        ),
        Change(
            path="picture.systems",
            value=own,
            label="System modes",
            before=f"{len(build.picture.systems)} modes",
            after=f"{len(own)} modes",
        ),
    )
    return Remedy(label="Use these modes", changes=changes)
