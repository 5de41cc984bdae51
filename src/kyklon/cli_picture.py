"""The timing and edid commands."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from kyklon.errors import KyklonError, WrongUse
from kyklon.model.timing import Axis, Timing
from kyklon.picture import edid
from kyklon.picture.exports import modeline
from kyklon.picture.formulas import cvt, gtf
from kyklon.picture.names import BLANKINGS, parse_timing, standard

Json = Annotated[bool, typer.Option("--json", help="One JSON document and nothing else.")]
Interlaced = Annotated[bool, typer.Option("--interlaced", help="RATE counts fields.")]


def register(timing_app: typer.Typer, edid_app: typer.Typer) -> None:
    timing_app.command("cvt")(cvt_command)
    timing_app.command("gtf")(gtf_command)
    timing_app.command("dmt")(dmt_command)
    timing_app.command("cta")(cta_command)
    edid_app.command("read")(edid_read)
    edid_app.command("write")(edid_write)


def timing_data(timing: Timing) -> dict[str, Any]:
    """A timing as the commands print it; rates rounded to 1 mHz."""

    def axis(each: Axis) -> dict[str, Any]:
        return each.model_dump()

    return {
        "clock_hz": timing.clock_hz,
        "horizontal": axis(timing.horizontal),
        "vertical": axis(timing.vertical),
        "interlaced": timing.interlaced,
        "horizontal_hz": round(float(timing.horizontal_hz), 3),
        "vertical_hz": round(float(timing.vertical_hz), 6),
    }


def _print(timing: Timing, name: str, as_json: bool) -> int:
    if as_json:
        print(json.dumps(timing_data(timing), indent=1))
    else:
        line, field = float(timing.horizontal_hz) / 1000, float(timing.vertical_hz)
        print(f"{line:.3f} kHz, {field:.3f} Hz\n{modeline(timing, name)}")
    return 0


def cvt_command(
    width: int,
    height: int,
    rate: float,
    blanking: Annotated[str, typer.Option(help="normal, reduced1 or reduced2")] = "normal",
    interlaced: Interlaced = False,
    as_json: Json = False,
) -> int:
    """VESA CVT 1.2."""
    kind = next((each for each in BLANKINGS if each == blanking), None)
    if kind is None:
        raise WrongUse(f"{blanking=} is not one of {', '.join(BLANKINGS)}.")
    return _print(cvt(width, height, rate, kind, interlaced=interlaced), f"{width}x{height} CVT", as_json)


def gtf_command(width: int, height: int, rate: float, interlaced: Interlaced = False, as_json: Json = False) -> int:
    """VESA GTF 1.1."""
    return _print(gtf(width, height, rate, interlaced=interlaced), f"{width}x{height} GTF", as_json)


def dmt_command(dmt_id: Annotated[str, typer.Argument(metavar="ID")], as_json: Json = False) -> int:
    """VESA DMT 1.13, by id (decimal, 0x12 or 12h)."""
    return _print(standard("dmt", dmt_id), f"DMT {dmt_id}", as_json)


def cta_command(code: str, as_json: Json = False) -> int:
    """CTA-861 video code."""
    return _print(standard("cta", code), f"CTA {code}", as_json)


def edid_read(file: Path, as_json: Json = False) -> int:
    """What a display says of itself."""
    try:
        data = edid.read(file.read_bytes())
    except OSError as bad:
        raise KyklonError(f"{file} cannot be read: {bad.strerror}.") from bad
    told = {
        "vendor": data.vendor, "product": data.product, "serial": data.serial, "year": data.year, "name": data.name,
        "digital": data.digital, "size_mm": data.size_mm,
        "ranges": {"field_hz": data.ranges.field_hz, "line_khz": data.ranges.line_khz,
                   "clock_mhz": data.ranges.clock_mhz} if data.ranges else None,
        "timings": [timing_data(each) for each in data.timings],
        "codes": data.extension.codes if data.extension else [],
        "hdmi": bool(data.extension and data.extension.hdmi),
    }  # fmt: skip
    if as_json:
        print(json.dumps(told, indent=1))
        return 0
    print(f"{data.name} ({data.vendor} {data.product:04x}), {data.year}, {data.size_mm[0]} × {data.size_mm[1]} mm")
    if data.ranges:
        low, high = data.ranges.line_khz
        print(f"holds {low}-{high} kHz, {data.ranges.field_hz[0]}-{data.ranges.field_hz[1]} Hz")
    for each in data.timings:
        print(modeline(each, f"{each.size[0]}x{each.size[1]}"))
    return 0


def edid_write(
    timing: Annotated[list[str], typer.Option("--timing", help="As 'cvt 640 480 60'; the first is preferred.")],
    out: Annotated[Path, typer.Option("--out", help="The file to make.")],
    name: Annotated[str, typer.Option(help="The display's name, up to 13 letters.")] = "Kyklon",
    width_mm: int = 400,
    height_mm: int = 300,
) -> int:
    """Make identification data for a display that has none."""
    timings = tuple(parse_timing(each) for each in timing)
    rates = [float(each.vertical_hz) for each in timings]
    lines = [float(each.horizontal_hz) / 1000 for each in timings]
    clock = max(each.clock_hz for each in timings) / 1e6
    limits = edid.RangeLimits(
        (int(min(rates)), int(max(rates)) + 1), (int(min(lines)), int(max(lines)) + 1), int(clock) + 1
    )
    data = edid.write(edid.Edid("KYK", 1, 1, 2026, name, timings, (width_mm, height_mm), limits))
    try:
        out.write_bytes(data)
    except OSError as bad:
        raise KyklonError(f"{out} cannot be written: {bad.strerror}.", do="Choose another place.") from bad
    print(f"{out}: {len(data)} bytes")
    return 0
