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


class _Paper:
    """Lines of text down a page. y: mm from the top of the next line's base."""

    def __init__(self) -> None:
        self.body: list[str] = []
        self.y = 14.0

    def put(self, words: str, size: float = 3.4, x: float = 10.0, *, bold: bool = False) -> None:
        weight = " font-weight='600'" if bold else ""
        at = f"x='{x:g}' y='{self.y:g}' font-size='{size:g}'"
        self.body.append(f"<text {at} {_FONT}{weight}>{escape(visible(words))}</text>")

    def line(self, words: str, size: float = 3.4, *, bold: bool = False, lines: float = 1.0) -> None:
        """A whole line, and on to the next."""
        self.put(words, size, bold=bold)
        self.y += _LINE * lines

    def svg(self) -> str:
        wide, high = PAPER
        head = (
            f"<svg xmlns='http://www.w3.org/2000/svg' width='{wide:g}mm' height='{high:g}mm' "
            f"viewBox='0 0 {wide:g} {high:g}'>"
        )
        return (
            "\n".join([head, f"<rect width='{wide:g}' height='{high:g}' fill='white'/>", *self.body, "</svg>"]) + "\n"
        )


def sheet(build: Build, catalogue: Catalogue, world: World) -> str:
    """An SVG in mm; '' without display and board."""
    signal_path = signal_path_of(build, catalogue, world)
    if signal_path is None:
        return ""
    paper = _Paper()
    paper.line(build.name, 6.5, bold=True, lines=7 / _LINE)
    ranges = "; ".join(
        f"{band.line_khz[0]:g} to {band.line_khz[1]:g} kHz, {band.field_hz[0]:g} to {band.field_hz[1]:g} Hz"
        for band in signal_path.ranges
    )
    paper.line(f"{signal_path.display.name}: {ranges}", bold=True)
    paper.line(SCHOOL_WORDS[build.picture.school][0 if signal_path.display.tube else 1], lines=1.4)
    for place in chain_of(build, catalogue, world).places:
        sync = f", sync {place.sync}" if place.sync != "digital" else ""
        paper.line(f"{place.part.name}{sync}")
    paper.y += _LINE * 0.4
    paper.line("What is sent", 4.2, bold=True)
    for signal in signals(build, catalogue, world)[:3]:
        timing = signal.timing
        if timing is None:
            paper.line(f"{signal.title}: nothing")
            continue
        line, field = show(float(timing.horizontal_hz), "Hz", 3, prefix="k"), show(float(timing.vertical_hz), "Hz")
        paper.line(f"{signal.title}: {timing.size[0]} × {timing.size[1]}, {line}, {field}")
    paper.y += _LINE * 0.4
    _systems(paper, build, catalogue, world)
    paper.y = PAPER[1] - 16
    if signal_path.display.tube:
        paper.line("A picture that rolls or a tube that whines: switch off at once.", bold=True)
        paper.put("A tube keeps a lethal charge after the plug is out: its chassis is for someone qualified.")
    return paper.svg()


def _systems(paper: _Paper, build: Build, catalogue: Catalogue, world: World) -> None:
    paper.line("Systems", 4.2, bold=True)
    rows = rows_of(build, catalogue, world)
    for row in rows[:_MOST]:
        timing = row.mode.timing
        paper.put(f"{timing.size[0]} × {timing.size[1]}{' interlaced' if timing.interlaced else ''}", x=52)
        paper.put(show(float(timing.horizontal_hz), "Hz", 3, prefix="k"), x=86)
        paper.put(show(float(timing.vertical_hz), "Hz", 3), x=114)
        paper.line(row.system.name)
    if len(rows) > _MOST:
        paper.line(f"and {len(rows) - _MOST} more")
