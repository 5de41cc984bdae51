"""The kernel's video= word, read as the kernel reads it, and the timing it makes of one.

Sources (6.1): Documentation/fb/modedb.rst; drm_mode_parse_command_line_for_connector and
drm_mode_create_from_cmdline_mode in drm_modes.c; drm_connector_pick_cmdline_mode in drm_client_modeset.c;
fb_get_options in fbdev/core/fb_cmdline.c.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from kyklon.base.errors import WrongUse
from kyklon.catalogue.loader import standard_timings
from kyklon.model.display import Edid
from kyklon.model.timing import Timing
from kyklon.operations.picture.formulas import cvt, gtf

_WORD = re.compile(r"(\d{1,5})x(\d{1,5})(M?R?)(?:-(\d{1,3}))?(?:@(\d{1,4}))?([imMReDd]*)")
_FORCE: dict[str, Literal["on", "off"]] = {"e": "on", "D": "on", "d": "off"}


@dataclass(frozen=True)
class VideoWord:
    """size: pixels and lines, None where only the output is forced. rate: Hz, None for any. computed: by CVT, without
    by GTF. force: the output, '' to go by the plug."""

    size: tuple[int, int] | None = None
    rate: int | None = None
    interlaced: bool = False
    computed: bool = False
    reduced: bool = False
    margins: bool = False
    force: Literal["on", "off", ""] = ""


def video_size(timing: Timing) -> str:
    """The mode part of the kernel's video= word (kernel documentation, fb/modedb): 640x480@60, i if interlaced."""
    rate = round(timing.vertical_hz)
    return f"{timing.horizontal.active}x{timing.vertical.active}@{rate}{'i' if timing.interlaced else ''}"


def parsed(value: str) -> VideoWord | None:
    """What a value says, without the output it is for; None for what the kernel refuses."""
    mode, _, _options = value.partition(",")
    if mode in _FORCE:
        return VideoWord(force=_FORCE[mode])
    match = _WORD.fullmatch(mode)
    if match is None:
        return None
    flags = match[3] + match[6]
    forces = [letter for letter in match[6] if letter in _FORCE]
    if len(forces) > 1:
        return None
    return VideoWord(
        (int(match[1]), int(match[2])),
        int(match[5]) if match[5] else None,
        "i" in flags,
        "M" in flags,
        "R" in flags,
        "m" in flags,
        _FORCE[forces[0]] if forces else "",
    )


def value_for(values: Sequence[str], output: str) -> str:
    """Of all values of video=, the one that counts for an output: the last that names it, else the last that names
    none; '' for none."""
    own = [value.removeprefix(f"{output}:") for value in values if value.startswith(f"{output}:")]
    general = [value for value in values if ":" not in value and value != "ofonly"]
    return (own or general or [""])[-1]


def modes_offered(data: Edid | None) -> tuple[Timing, ...]:
    """Every mode that identification data offers, the preferred one first. Without any, what the kernel offers by
    itself: VESA's up to 1024 by 768 (drm_add_modes_noedid)."""
    if data is None:
        rows = standard_timings("dmt").values()
        return tuple(row.timing for row in rows if row.timing.size[0] <= 1024 and row.timing.size[1] <= 768)
    codes, extension = standard_timings("cta"), data.extension
    if extension is None:
        return (*data.timings, *data.further)
    coded = (codes[code].timing for code in extension.codes if code in codes)
    return (*data.timings, *extension.timings, *data.further, *coded)


def made_of(word: VideoWord, offered: Sequence[Timing]) -> Timing | None:
    """The timing that the kernel sends: one of those offered with this size and rate, else one it computes; None for a
    word without a size, or one of which no timing can be made."""
    if word.size is None:
        return None
    if not word.reduced and not word.margins:
        for laced in (True,) if word.interlaced else (False, True):
            for timing in offered:
                rate = round(float(timing.vertical_hz))
                if timing.size == word.size and timing.interlaced == laced and word.rate in (None, rate):
                    return timing
    wide, high = word.size
    try:
        if word.computed or word.reduced:
            return cvt(
                wide, high, word.rate or 60, "reduced1" if word.reduced else "normal", interlaced=word.interlaced
            )
        return gtf(wide, high, word.rate or 60, interlaced=word.interlaced)
    except (WrongUse, ValueError, ArithmeticError):
        return None
