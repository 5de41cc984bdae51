"""The picture: which mode is sent, and whether the display can show it."""

from __future__ import annotations

import re

from kyklon.base.quantities import show
from kyklon.catalogue.loader import standard_timings
from kyklon.model.timing import Timing
from kyklon.operations.picture.findings import mode_remedy
from kyklon.operations.picture.formulas import cvt
from kyklon.operations.picture.ranges import display_ranges, fit
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import Failure, Moment, Screen, Step
from kyklon.operations.poweron.stages.fail import dark_screen, fail, or_put

_VIDEO = re.compile(r"(?:[\w-]+:)?(\d{1,5})x(\d{1,5})(?:@(\d{1,4}))?(i?)")


def output_timing(bench: Bench) -> tuple[Timing | None, str]:
    """The timing the board will send, and where it comes from; None when the output stays off."""
    settings = bench.settings
    if settings and settings.timing and "boot file" in bench.board.honours:
        return settings.timing, settings.boot_file
    if "video=" in bench.board.honours:
        for value in bench.word_values("video"):
            if (match := _VIDEO.match(value)) and (timing := _made_of(match, bench)) is not None:
                return timing, "the kernel line"
    if bench.identification is not None and bench.identification.timings:
        return bench.identification.timings[0], "the display's identification data"
    return None, ""


def _made_of(match: re.Match[str], bench: Bench) -> Timing | None:
    """The timing the kernel makes of a size: one of the display's own where it has that, else by CVT; None for a size
    that no timing has (drivers/gpu/drm/drm_client_modeset.c: pick_cmdline_mode)."""
    known = bench.identification.timings if bench.identification else _without_identification()
    for timing in known:
        rate = round(float(timing.vertical_hz))
        same = timing.size == (int(match[1]), int(match[2])) and timing.interlaced == bool(match[4])
        if same and match[3] in (None, str(rate)):
            return timing
    try:
        return cvt(int(match[1]), int(match[2]), int(match[3] or 60), interlaced=bool(match[4]))
    except (ValueError, ArithmeticError):
        return None


def _without_identification() -> tuple[Timing, ...]:
    """What the kernel offers where a display does not identify itself: VESA's up to 1024 by 768
    (drm_add_modes_noedid)."""
    rows = standard_timings("dmt").values()
    return tuple(row.timing for row in rows if row.timing.size[0] <= 1024 and row.timing.size[1] <= 768)


def display(bench: Bench) -> Step:
    lamps = bench.board.lamps
    if bench.display is None:
        return Step((Moment("No display is planned.", lamps.reading, 0.0),))
    timing, origin = output_timing(bench)
    if timing is None:
        cause = "The display does not identify itself and no mode is set, so the board switches its output off."
        return fail(dark_screen("display", "picture.no-output", cause, None, lamps.reading))
    ranges = display_ranges(bench.display, bench.identification)
    where = fit(timing, ranges)
    wide, high = timing.size
    line, rate = show(float(timing.horizontal_hz), "Hz", prefix="k"), show(float(timing.vertical_hz), "Hz")
    link = bench.board
    if not link.least_clock_hz <= timing.clock_hz <= link.most_clock_hz:
        clock = show(timing.clock_hz, "Hz", prefix="M")
        cause = f"{wide} × {high} from {origin} has a pixel clock of {clock}, which {link.name} cannot send."
        remedy = mode_remedy(bench.build, bench.catalogue, "menu", bench.display, bench.board, ranges)
        right = link.least_clock_hz <= bench.build.picture.menu.timing.clock_hz <= link.most_clock_hz
        return fail(dark_screen("display", "picture.clock:menu", cause, or_put(remedy, right), lamps.reading))
    if not where.holds:
        low, top = where.range.line_khz
        cause = f"{wide} × {high} from {origin}: {line}, {rate}. {bench.display.name} takes {low:g} to {top:g} kHz."
        remedy = mode_remedy(bench.build, bench.catalogue, "menu", bench.display, bench.board, ranges)
        right = fit(bench.build.picture.menu.timing, ranges).holds
        if "boot file" not in bench.board.honours:  # putting the same word back changes nothing
            remedy, right = None, False
        what = "Rolling, torn picture; switch off at once" if bench.display.tube else "Signal out of range"
        screen = Screen("out of range", what, (line, rate))
        return fail(
            Failure("display", "picture.out-of-range:menu", cause, or_put(remedy, right), screen, lamps.reading)
        )
    sound = ""
    if (bench.settings.sound if bench.settings else "") == "digital" and not _announces_hdmi(bench):
        sound = " No sound on this link: the display does not announce HDMI."
    return Step((Moment(f"{wide} × {high}, {line}, {rate} ({origin}).{sound}", lamps.reading, 0.3),))


def _announces_hdmi(bench: Bench) -> bool:
    data = bench.identification
    return bool(data and data.extension and data.extension.hdmi)
