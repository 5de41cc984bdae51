"""How a board is given a picture mode: a whole timing in its boot file, a size in the kernel line, or identification
data handed to the kernel as firmware in place of the display's own.

Sources: the kernel's fb/modedb, admin-guide/kernel-parameters (drm.edid_firmware) and drivers/gpu/drm/drm_edid_load.c.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

from kyklon.base.errors import WrongUse
from kyklon.base.quantities import show
from kyklon.catalogue.loader import standard_timings
from kyklon.catalogue.records import Board, Display
from kyklon.catalogue.text_records import Dialect
from kyklon.model.build import Build, change_of
from kyklon.model.display import Edid, Extension, RangeLimits
from kyklon.model.findings import Remedy
from kyklon.model.timing import Timing
from kyklon.operations.picture import edid
from kyklon.operations.picture.ranges import fit
from kyklon.operations.picture.video_word import made_of, modes_offered, parsed, video_size

BY_FIRMWARE = "picture.issue_identification"
FIRMWARE = "edid/kyklon.bin"  # below lib/firmware
VENDOR = "KYK"  # three letters that no maker has registered
_YEAR = 2026
_IN_BASE = 2  # timings that the first block holds beside name and ranges
_IN_EXTENSION = 5  # and the second, with room for its data blocks


def takes_timings(board: Board, dialect: Dialect | None) -> bool:
    """Whether the board's firmware is given whole timings by its boot file."""
    return "boot file" in board.honours and dialect is not None and dialect.carries("picture.menu")


def takes_firmware(board: Board, dialect: Dialect | None) -> bool:
    """Whether identification data can be handed to the board's kernel."""
    return "edid firmware" in board.honours and dialect is not None and dialect.carries(BY_FIRMWARE)


def by_firmware(build: Build, board: Board, dialect: Dialect | None) -> bool:
    """Whether this build hands its modes over as identification data."""
    wanted = build.picture.issue_identification and not takes_timings(board, dialect)
    return wanted and takes_firmware(board, dialect)


def by_word(board: Board, dialect: Dialect | None) -> bool:
    """Whether the board takes no more than a size and a rate, by the kernel's video=."""
    return "video=" in board.honours and not takes_timings(board, dialect)


def sent_by_word(timing: Timing, data: Edid | None) -> Timing | None:
    """What the kernel makes of the size and rate of a mode; None where no timing can be made of them."""
    word = parsed(video_size(timing))
    return made_of(word, modes_offered(data)) if word else None


def identification(build: Build, display: Display | None) -> Edid:
    """Identification data that offers the menu's mode first, then those of the systems.

    A link with digital sound is announced as HDMI, another one as DVI. Raises WrongUse for a mode that it cannot hold,
    and for one that the display must not get.
    """
    timings = list(dict.fromkeys((build.picture.menu.timing, *(row.mode.timing for row in build.picture.systems))))
    for timing in timings:
        if display is not None and not fit(timing, display.ranges).holds:
            line = show(float(timing.horizontal_hz), "Hz", prefix="k")
            raise WrongUse(
                f"{timing.size[0]} × {timing.size[1]} at {line} is outside what {display.name} takes.",
                do="Give it another mode first.",
            )
    first, rest = timings[:_IN_BASE], timings[_IN_BASE:]
    sound = build.boot.sound == "digital"
    # CTA-861 asks every display with HDMI for 640 x 480; one that does not hold it is not offered it
    codes = (1,) if display is not None and fit(standard_timings("cta")[1].timing, display.ranges).holds else ()
    size = (round(display.width_mm), round(display.height_mm)) if display else (0, 0)
    name = "".join(letter for letter in (display.name if display else "") if letter.isascii())[:13].strip()
    return Edid(
        VENDOR,
        1,
        1,
        _YEAR,
        name or "Display",
        tuple(first),
        size,
        _limits(display, timings, hull=sound),
        extension=Extension(codes, audio=True, hdmi=True, timings=tuple(rest[:_IN_EXTENSION])) if sound else None,
        further=tuple(rest[_IN_EXTENSION:] if sound else rest),
    )


def _limits(display: Display | None, timings: Sequence[Timing], *, hull: bool) -> RangeLimits | None:
    """The display's range in whole kHz and Hz; none where it has several, or they do not fit a byte. hull: limits are
    wanted in any case, as by HDMI's old form of the data: several ranges as one, or else those of the modes alone."""
    own = display.ranges if display is not None and (hull or len(display.ranges) == 1) else ()
    lines = [round(edge) for band in own for edge in band.line_khz]
    fields = [round(edge) for band in own for edge in band.field_hz]
    found = _around(display, lines, fields) if own else None
    if found is None and hull:
        lines = [whole(timing.horizontal_hz / 1000) for timing in timings for whole in (math.floor, math.ceil)]
        fields = [whole(timing.vertical_hz) for timing in timings for whole in (math.floor, math.ceil)]
        found = _around(display, lines, fields)
    return found


def _around(display: Display | None, lines: Sequence[int], fields: Sequence[int]) -> RangeLimits | None:
    """Limits around rates in kHz and Hz, where the display holds every DMT mode that kernels take from such limits
    (drm_dmt_modes_for_range)."""
    line, rate = (max(1, min(lines)), max(lines)), (max(1, min(fields)), max(fields))
    inside = (
        row.timing
        for row in standard_timings("dmt").values()
        if line[0] <= float(row.timing.horizontal_hz) / 1000 <= line[1]
        and rate[0] <= float(row.timing.vertical_hz) <= rate[1]
    )
    if display is not None and not all(fit(timing, display.ranges).holds for timing in inside):
        return None
    return RangeLimits(rate, line, 300) if max(*line, *rate) <= 255 else None


def unfit(build: Build, display: Display | None) -> str:
    """Why the build's modes cannot be issued as identification data, '' when they can."""
    try:
        edid.write(identification(build, display))
    except WrongUse as bad:
        return str(bad)
    return ""


def firmware_remedy(build: Build, board: Board, dialect: Dialect | None) -> Remedy | None:
    """Hand the modes over as identification data; None where that is done already, or the board does not take it."""
    if build.picture.issue_identification or not takes_firmware(board, dialect):
        return None
    change = change_of(BY_FIRMWARE, True, "no", "yes")
    return Remedy(label="Issue an EDID file", changes=(change,))
