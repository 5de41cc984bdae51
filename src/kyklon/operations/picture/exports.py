"""A timing in the words of others: X.Org modeline, fb.modes, kernel video=, the merrow boot file's line."""

from __future__ import annotations

from fractions import Fraction

from kyklon.base.errors import FormatError
from kyklon.model.timing import Axis, Timing
from kyklon.operations.picture.video_word import video_size


def _sums(axis: Axis, scale: int = 1, extra: int = 0) -> tuple[int, int, int, int]:
    """Active end, sync start, sync end and total, cumulatively."""
    start = axis.active + axis.front * scale
    end = start + axis.sync * scale
    return axis.active, start, end, end + axis.back * scale + extra


def modeline(timing: Timing, name: str) -> str:
    """An X.Org Modeline (xorg.conf(5)): clock in MHz, cumulative positions, polarities."""
    across = _sums(timing.horizontal)
    scale = 2 if timing.interlaced else 1
    extra = 1 if timing.interlaced and timing.half_line else 0
    down = _sums(timing.vertical, scale, extra)
    flags = [
        "+HSync" if timing.horizontal.positive else "-HSync",
        "+VSync" if timing.vertical.positive else "-VSync",
    ]
    if timing.interlaced:
        flags.append("Interlace")
    numbers = " ".join(f"{a} {b} {c} {d}" for a, b, c, d in (across, down))
    return f'Modeline "{name}" {timing.clock_hz / 1e6:.6f} {numbers} {" ".join(flags)}'


def fb_mode(timing: Timing, name: str) -> str:
    """An fb.modes(5) entry: clock in ps, porches as left right upper lower, sync lengths."""
    h, v = timing.horizontal, timing.vertical
    picoseconds = round(Fraction(10**12, timing.clock_hz))
    lines = [
        f'mode "{name}"',
        f"    geometry {h.active} {v.active} {h.active} {v.active} 32",
        f"    timings {picoseconds} {h.back} {h.front} {v.back} {v.front} {h.sync} {v.sync}",
    ]
    lines += ["    hsync high"] if h.positive else []
    lines += ["    vsync high"] if v.positive else []
    lines += ["    laced true"] if timing.interlaced else []
    return "\n".join([*lines, "endmode"])


def video_word(timing: Timing, output: str = "HDMI-A-1", *, force: bool = False) -> str:
    """The whole word; D forces a digital output on (kernel documentation, fb/modedb)."""
    return f"video={output}:{video_size(timing)}{'D' if force else ''}"


def timing_line(timing: Timing) -> str:
    """Clock in Hz, then h and v as active/front/sync/back with the sync's sign, as '25175000 640/16/96/48- ...'."""

    def axis(a: Axis) -> str:
        return f"{a.active}/{a.front}/{a.sync}/{a.back}{'+' if a.positive else '-'}"

    laced = " interlaced" if timing.interlaced else ""
    return f"{timing.clock_hz} {axis(timing.horizontal)} {axis(timing.vertical)}{laced}"


def parse_timing_line(text: str) -> Timing:
    """The inverse of timing_line. Raises FormatError with the offset of the word that is wrong."""
    words = text.split()
    laced = words[3:] == ["interlaced"]
    if len(words) != (4 if laced else 3):
        raise FormatError("picture timing", 0, expected="clock h v and perhaps 'interlaced'", got=f"{len(words)} words")
    try:
        return Timing(clock_hz=int(words[0]), horizontal=_axis(words[1]), vertical=_axis(words[2]), interlaced=laced)
    except (ValueError, TypeError) as bad:
        raise FormatError("picture timing", 0, expected="25175000 640/16/96/48- 480/10/2/33-", got=repr(text)) from bad


def _axis(word: str) -> Axis:
    active, front, sync, back = (int(number) for number in word[:-1].split("/"))
    if word[-1] not in "+-":
        raise ValueError(word)
    return Axis(active=active, front=front, sync=sync, back=back, positive=word[-1] == "+")
