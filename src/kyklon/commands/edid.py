"""Identification data of displays."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from kyklon.base.reading import bytes_of
from kyklon.commands.line import Option
from kyklon.commands.shared import OK, Json, out
from kyklon.commands.timing import timing_data


def read(file: Path, as_json: Json = False) -> int:
    """Say what a display tells of itself."""
    from kyklon.operations.picture import edid
    from kyklon.operations.picture.exports import modeline

    data = edid.read(bytes_of(file, edid.LARGEST))
    told = {
        "vendor": data.vendor, "product": data.product, "serial": data.serial, "year": data.year, "name": data.name,
        "digital": data.digital, "size_mm": data.size_mm,
        "ranges": {"field_hz": data.ranges.field_hz, "line_khz": data.ranges.line_khz,
                   "clock_mhz": data.ranges.clock_mhz} if data.ranges else None,
        "timings": [timing_data(each) for each in data.timings],
        "codes": data.extension.codes if data.extension else [],
        "hdmi": bool(data.extension and data.extension.hdmi),
    }  # fmt: skip

    def lines() -> list[str]:
        size = f"{data.size_mm[0]} × {data.size_mm[1]} mm"
        text = [f"{data.name} ({data.vendor} {data.product:04x}), {data.year}, {size}"]
        if data.ranges:
            (low, high), (slow, fast) = data.ranges.line_khz, data.ranges.field_hz
            text.append(f"takes {low}-{high} kHz, {slow}-{fast} Hz")
        return text + [modeline(each, f"{each.size[0]}x{each.size[1]}") for each in data.timings]

    out(told, as_json, lines)
    return OK


def write(
    timing: Annotated[list[str], Option("--timing", help="As 'cvt 640 480 60'; the first is preferred.")],
    out_file: Annotated[Path, Option("--out", help="The file to make.")],
    name: Annotated[str, Option("--name", help="The display's name, up to 13 letters.")] = "Kyklon",
    width_mm: int = 400,
    height_mm: int = 300,
) -> int:
    """Make identification data for a display that has none."""
    from kyklon.base import durable
    from kyklon.model.display import Edid, RangeLimits
    from kyklon.operations.picture import edid
    from kyklon.operations.picture.names import parse_timing

    timings = tuple(parse_timing(each) for each in timing)
    rates = [float(each.vertical_hz) for each in timings]
    lines = [float(each.horizontal_hz) / 1000 for each in timings]
    clock = max(each.clock_hz for each in timings) / 1e6
    limits = RangeLimits((int(min(rates)), int(max(rates)) + 1), (int(min(lines)), int(max(lines)) + 1), int(clock) + 1)
    data = edid.write(Edid("KYK", 1, 1, 2026, name, timings, (width_mm, height_mm), limits))
    durable.keep(out_file, data)
    print(f"{out_file}: {len(data)} bytes")
    return OK
