"""Identification data of displays."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from kyklon.base import durable
from kyklon.base.errors import FormatError, WrongUse
from kyklon.base.reading import bytes_of
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, STOPS, Json, out
from kyklon.commands.timing import timing_data
from kyklon.model.display import Edid, RangeLimits
from kyklon.operations.picture import edid
from kyklon.operations.picture.exports import modeline
from kyklon.operations.picture.names import parse_timing
from kyklon.operations.picture.repair import LOST, repaired, timings_of, with_hdmi, with_timings


def read(file: Path, as_json: Json = False) -> int:
    """Show what a display's EDID contains."""
    data = edid.read(bytes_of(file, edid.LARGEST))
    told = {
        "vendor": data.vendor,
        "product": data.product,
        "serial": data.serial,
        "year": data.year,
        "name": data.name,
        "digital": data.digital,
        "size_mm": data.size_mm,
        "ranges": {
            "field_hz": data.ranges.field_hz,
            "line_khz": data.ranges.line_khz,
            "clock_mhz": data.ranges.clock_mhz,
        }
        if data.ranges
        else None,
        "timings": [timing_data(timing) for timing in timings_of(data)],
        "codes": data.extension.codes if data.extension else [],
        "hdmi": bool(data.extension and data.extension.hdmi),
    }

    def lines() -> list[str]:
        size = f"{data.size_mm[0]} × {data.size_mm[1]} mm"
        text = [f"{data.name} ({data.vendor} {data.product:04x}), {data.year}, {size}"]
        if data.ranges:
            (low, high), (slow, fast) = data.ranges.line_khz, data.ranges.field_hz
            text.append(f"accepts {low}-{high} kHz, {slow}-{fast} Hz")
        return text + [modeline(timing, f"{timing.size[0]}x{timing.size[1]}") for timing in timings_of(data)]

    out(told, as_json, lines)
    return OK


def write(
    timing: Annotated[list[str], Option("--timing", help="E.g. 'cvt 640 480 60'; the first is preferred.")],
    out_file: Annotated[Path, Option("--out", help="File to write.")],
    name: Annotated[str, Option("--name", help="The display's name, up to 13 letters.")] = "Kyklon",
    width_mm: int = 400,
    height_mm: int = 300,
) -> int:
    """Make an EDID for a display that has none."""
    timings = tuple(parse_timing(each) for each in timing)
    rates = [float(each.vertical_hz) for each in timings]
    lines = [float(each.horizontal_hz) / 1000 for each in timings]
    clock = max(each.clock_hz for each in timings) / 1e6
    limits = RangeLimits((int(min(rates)), int(max(rates)) + 1), (int(min(lines)), int(max(lines)) + 1), int(clock) + 1)
    data = edid.write(Edid("KYK", 1, 1, 2026, name, timings, (width_mm, height_mm), limits))
    durable.keep(out_file, data)
    print(f"{out_file}: {len(data)} bytes")
    return OK


def check(
    file: Path,
    repair: Annotated[Path | None, Option("--repair", help="Write the repaired EDID into this file.")] = None,
    as_json: Json = False,
) -> int:
    """Check an EDID for errors and repair it."""
    data = bytes_of(file, edid.LARGEST)
    found = repaired(data)
    try:
        edid.read(found.data)
        whole = ""
    except FormatError as bad:
        whole = str(bad)
    if repair is not None and not whole:
        durable.keep(repair, found.data)
    told = {"troubles": list(found.done), "beyond_repair": whole}
    out(told, as_json, lambda: [*found.done, whole] if found.done or whole else ["No errors found."])
    return STOPS if found.done or whole else OK


def edit(
    file: Path,
    out_file: Annotated[Path, Option("--out", help="File to write.")],
    add: Annotated[list[str] | None, Option("--add", help="Timing to add, e.g. 'cta 8'; repeatable.")] = None,
    drop: Annotated[list[int] | None, Option("--drop", help="Timing to remove, counted from 1; repeatable.")] = None,
    name: Annotated[str, Option("--name", help="New name, up to 13 letters.")] = "",
    link: Annotated[str, Option("--link", help="hdmi or dvi: announced by the EDID; hdmi carries sound.")] = "",
) -> int:
    """Change an EDID: its timings, its name, HDMI or DVI."""
    from dataclasses import replace

    data = edid.read(bytes_of(file, edid.LARGEST))
    own = timings_of(data)
    gone = set(drop or ())
    if any(not 1 <= number <= len(own) for number in gone):
        raise WrongUse(f"It has {len(own)} timings.", do="Count from 1, as `kyklon edid read` lists them.")
    if link not in ("", "hdmi", "dvi"):
        raise WrongUse(f"{link!r} is no link.", do="Write hdmi or dvi.")
    kept = [each for number, each in enumerate(own, 1) if number not in gone]
    data = with_timings(data, (*kept, *(parse_timing(each) for each in add or ())))
    data = replace(data, name=name) if name else data
    data = with_hdmi(data, on=link == "hdmi", audio=link == "hdmi") if link else data
    made = edid.write(data)
    durable.keep(out_file, made)
    print(f"{out_file}: {len(made)} bytes, {len(timings_of(data))} timings. {LOST}")
    return OK
