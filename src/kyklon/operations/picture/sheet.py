"""The sheet for the inside of the cabinet: what this machine sends its display, on one A5 page."""

from __future__ import annotations

from html import escape

from kyklon.base.quantities import show
from kyklon.base.shown import visible
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.world import World
from kyklon.operations.picture.chain import chain_of
from kyklon.operations.picture.schools import SCHOOL_WORDS, rows_of
from kyklon.operations.picture.signal_path import signal_path_of
from kyklon.operations.picture.signals import signals

PAPER = (148.0, 210.0)  # mm: A5 (ISO 216)
_LINE = 5.2  # mm
_MOST = 24  # systems on a sheet; the rest are counted
_FONT = "font-family='Barlow, sans-serif'"


def sheet(build: Build, catalogue: Catalogue, world: World) -> str:
    """An SVG in mm; '' without display and board."""
    signal_path = signal_path_of(build, catalogue, world)
    if signal_path is None:
        return ""
    body: list[str] = []
    y = 14.0

    def put(words: str, size: float = 3.4, x: float = 10.0, *, bold: bool = False) -> None:
        weight = " font-weight='600'" if bold else ""
        body.append(f"<text x='{x:g}' y='{y:g}' font-size='{size:g}' {_FONT}{weight}>{escape(visible(words))}</text>")

    put(build.name, 6.5, bold=True)
    y += 7
    put(
        f"{signal_path.display.name}: "
        + "; ".join(
            f"{band.line_khz[0]:g} to {band.line_khz[1]:g} kHz, {band.field_hz[0]:g} to {band.field_hz[1]:g} Hz"
            for band in signal_path.ranges
        ),
        bold=True,
    )
    y += _LINE
    put(SCHOOL_WORDS[build.picture.school][0 if signal_path.display.tube else 1])
    y += _LINE * 1.4
    for place in chain_of(build, catalogue, world).places:
        sync = f", sync {place.sync}" if place.sync != "digital" else ""
        put(f"{place.part.name}{sync}")
        y += _LINE
    y += _LINE * 0.4
    put("What is sent", 4.2, bold=True)
    y += _LINE
    for signal in signals(build, catalogue, world)[:3]:
        timing = signal.timing
        if timing is None:
            put(f"{signal.title}: nothing")
        else:
            line, field = show(float(timing.horizontal_hz), "Hz", 3, prefix="k"), show(float(timing.vertical_hz), "Hz")
            put(f"{signal.title}: {timing.size[0]} × {timing.size[1]}, {line}, {field}")
        y += _LINE
    y += _LINE * 0.4
    put("Systems", 4.2, bold=True)
    y += _LINE
    rows = rows_of(build, catalogue, world)
    for row in rows[:_MOST]:
        timing = row.mode.timing
        put(row.system.name)
        put(f"{timing.size[0]} × {timing.size[1]}{' interlaced' if timing.interlaced else ''}", x=52)
        put(show(float(timing.horizontal_hz), "Hz", 3, prefix="k"), x=86)
        put(show(float(timing.vertical_hz), "Hz", 3), x=114)
        y += _LINE
    if len(rows) > _MOST:
        put(f"and {len(rows) - _MOST} more")
        y += _LINE
    y = PAPER[1] - 16
    if signal_path.display.tube:
        put("A picture that rolls or a tube that whines: switch off at once.", bold=True)
        y += _LINE
        put("A tube keeps a lethal charge after the plug is out: its chassis is for someone qualified.")
    wide, high = PAPER
    head = (
        f"<svg xmlns='http://www.w3.org/2000/svg' width='{wide:g}mm' height='{high:g}mm' "
        f"viewBox='0 0 {wide:g} {high:g}'>"
    )
    return "\n".join([head, f"<rect width='{wide:g}' height='{high:g}' fill='white'/>", *body, "</svg>"]) + "\n"
