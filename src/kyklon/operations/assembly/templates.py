"""Templates at 1:1: the back plate with its panel sockets, a trial piece, every seat's panel; SVG and DXF, in mm.

Panel sockets sit in a round hole with two screws, so where they lie is free and nobody has to know the board's own
sockets to a tenth of a millimetre.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from html import escape
from io import StringIO
from math import ceil

from kyklon.base.shown import visible
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Panel
from kyklon.model.build import Build
from kyklon.model.controls import Control, Layout
from kyklon.operations.assembly.space import inner_of
from kyklon.operations.controls.hookup import hookup_of
from kyklon.operations.controls.legends import PAPER

SOCKET_MM = 24.0  # hole of a panel socket in its usual round form, CP
SCREW_MM = 3.2  # through-hole of an M3 screw, ISO 273 medium is 3.4, fine 3.2
SCREWS_AT = (9.5, 12.0)  # mm of its two screws from the middle, to the right and up, and opposite; CP
_SPACING = 34.0  # mm between the middles of two sockets: a plug and fingers, CP
_EDGE = 20.0  # mm from the middle of one to the plate's edge, CP
_MARGIN = 12.0  # mm of a page that a printer may leave out
_INSET = 1.0  # mm beyond the margin where the drawing begins, so that its own edge is seen
_OVERLAP = 10.0  # mm that two pages share


@dataclass(frozen=True)
class Hole:
    """x, y: its middle in mm from the upper left corner. bit: what makes it."""

    x: float
    y: float
    diameter: float
    words: str = ""
    bit: str = ""


@dataclass(frozen=True)
class Plate:
    """A flat piece with holes, seen from outside."""

    name: str
    title: str
    wide: float
    high: float
    holes: tuple[Hole, ...]


def bit_for(diameter: float) -> str:
    """The bit that makes a hole: common practice in wood and plastic."""
    if diameter <= 10:
        return f"{diameter:g} mm twist bit"
    if diameter <= 13:
        return "step bit"
    return f"{diameter:g} mm spade or hole saw; step bit in metal"


def outside(build: Build) -> tuple[str, ...]:
    """What leaves the case through a panel socket."""
    found = ["Power"]
    if build.part("display"):
        found.append("Picture")
    if build.boot.sound == "analogue":
        found.append("Sound")
    found += ["USB", "Network"]
    return tuple(found)


def back_plate(build: Build, catalogue: Catalogue) -> Plate:
    """The plate with its sockets in rows, power apart at the left."""
    (wide, _deep, high), _measured = inner_of(build, catalogue)
    names = outside(build)
    across = max(1, int((wide - 2 * _EDGE) // _SPACING) + 1)
    rows = ceil(len(names) / across)
    tall = max(high, 2 * _EDGE + (rows - 1) * _SPACING)
    holes: list[Hole] = []
    for number, name in enumerate(names):
        row, place = divmod(number, across)
        x = _EDGE + place * _SPACING
        y = tall / 2 + (row - (rows - 1) / 2) * _SPACING
        holes.append(Hole(x, y, SOCKET_MM, name, bit_for(SOCKET_MM)))
        for sign in (1, -1):
            at = (x + sign * SCREWS_AT[0], y - sign * SCREWS_AT[1])
            holes.append(Hole(*at, SCREW_MM, "", bit_for(SCREW_MM)))
    return Plate("back-plate", "Back plate", wide, tall, tuple(holes))


def seat_plates(layout: Layout) -> tuple[Plate, ...]:
    """The panel of every seat."""
    found = []
    for player, seat in enumerate(layout.seats, 1):
        holes = tuple(_hole(control) for control in seat.controls)
        found.append(Plate(f"panel-{player}", f"Panel, seat {player}", seat.width_mm, seat.height_mm, holes))
    return tuple(found)


def _hole(control: Control) -> Hole:
    return Hole(control.x, control.y, control.bore, control.label, bit_for(control.bore))


def trial_piece(plates: Sequence[Plate]) -> Plate:
    """One hole of each diameter, to try the bits in scrap."""
    sizes = sorted({hole.diameter for plate in plates for hole in plate.holes})
    x, holes = 8.0, []
    for size in sizes:
        x += size / 2
        holes.append(Hole(x, 30.0, size, f"{size:g}", bit_for(size)))
        x += size / 2 + 8.0
    return Plate("trial-piece", "Trial piece", max(40.0, x), 60.0, tuple(holes))


def plates(build: Build, catalogue: Catalogue) -> tuple[Plate, ...]:
    """All plates of a build, the trial piece first."""
    hookup = hookup_of(build, catalogue)
    panel = catalogue.find(Panel, build.controls.panel)
    seats = seat_plates(hookup.layout) if hookup is not None and panel is not None and build.part("encoder") else ()
    made = (*seats, back_plate(build, catalogue))
    return (trial_piece(made), *made)


# --- files -----------------------------------------------------------------------------------------------------------


def as_svg(plate: Plate) -> str:
    """At 1:1 with a ruler of 50 mm below it."""
    body = [_rect(0, 0, plate.wide, plate.high), *(_drawn(hole) for hole in plate.holes), _ruler(2, plate.high + 8)]
    body.append(_words(62, plate.high + 8, f"{plate.title}, {plate.wide:g} × {plate.high:g} mm, seen from outside"))
    return _svg(max(plate.wide, 110.0), plate.high + 14, body)


def as_pages(plate: Plate) -> tuple[str, ...]:
    """The plate on A4 pages that overlap by 10 mm, each with its ruler, marks at the seams and its place."""
    wide, high = PAPER[0] - 2 * (_MARGIN + _INSET), PAPER[1] - 2 * (_MARGIN + _INSET) - 12
    across = max(1, ceil((plate.wide - _OVERLAP) / (wide - _OVERLAP)))
    down = max(1, ceil((plate.high - _OVERLAP) / (high - _OVERLAP)))
    found = []
    for row in range(down):
        for column in range(across):
            left, top = column * (wide - _OVERLAP), row * (high - _OVERLAP)
            inner = [_rect(0, 0, plate.wide, plate.high), *(_drawn(hole) for hole in plate.holes)]
            for number in range(1, across):
                inner.append(_seam(number * (wide - _OVERLAP) + _OVERLAP / 2, 0, 0, plate.high))
            for number in range(1, down):
                inner.append(_seam(0, number * (high - _OVERLAP) + _OVERLAP / 2, plate.wide, 0))
            body = [
                f"<g transform='translate({_MARGIN + _INSET - left:g} {_MARGIN + _INSET - top:g})'>",
                *inner,
                "</g>",
                *_margins(wide + 2 * _INSET, high + 2 * _INSET),
                _ruler(_MARGIN, PAPER[1] - _MARGIN - 3),
                _words(
                    _MARGIN + 60,
                    PAPER[1] - _MARGIN - 3,
                    f"{plate.title}: column {column + 1} of {across}, row {row + 1} of {down}; print at 100 %",
                ),
            ]
            found.append(_svg(*PAPER, body))
    return tuple(found)


def _margins(wide: float, high: float) -> Iterable[str]:
    """White around what a page shows; renderers of SVG Tiny know no clipping."""
    for x, y, across, down in (
        (0, 0, PAPER[0], _MARGIN),
        (0, 0, _MARGIN, PAPER[1]),
        (_MARGIN + wide, 0, PAPER[0] - _MARGIN - wide, PAPER[1]),
        (0, _MARGIN + high, PAPER[0], PAPER[1] - _MARGIN - high),
    ):
        yield f"<rect x='{x:g}' y='{y:g}' width='{across:g}' height='{down:g}' fill='white'/>"


def _svg(wide: float, high: float, body: Iterable[str]) -> str:
    head = (
        f"<svg xmlns='http://www.w3.org/2000/svg' width='{wide:g}mm' height='{high:g}mm' "
        f"viewBox='0 0 {wide:g} {high:g}'>"
    )
    return "\n".join([head, f"<rect width='{wide:g}' height='{high:g}' fill='white'/>", *body, "</svg>"]) + "\n"


_PEN = "fill='none' stroke='black' stroke-width='0.2'"


def _rect(x: float, y: float, wide: float, high: float) -> str:
    return f"<rect x='{x:g}' y='{y:g}' width='{wide:g}' height='{high:g}' {_PEN}/>"


def _drawn(hole: Hole) -> str:
    reach = hole.diameter / 2 + 2
    cross = f"M{hole.x - reach:.3f} {hole.y:.3f} h{2 * reach:.3f} M{hole.x:.3f} {hole.y - reach:.3f} v{2 * reach:.3f}"
    words = f"{visible(hole.words)} ⌀{hole.diameter:g}" if hole.words else ""
    text = _words(hole.x - hole.diameter / 2, hole.y + hole.diameter / 2 + 4, words) if words else ""
    circle = f"<circle cx='{hole.x:.3f}' cy='{hole.y:.3f}' r='{hole.diameter / 2:.3f}' {_PEN}/>"
    return f"{circle}<path d='{cross}' fill='none' stroke='black' stroke-width='0.1'/>{text}"


def _seam(x: float, y: float, wide: float, high: float) -> str:
    return (
        f"<path d='M{x:.3f} {y:.3f} l{wide:.3f} {high:.3f}' stroke='black' stroke-width='0.1' stroke-dasharray='2 2'/>"
    )


def _ruler(x: float, y: float) -> str:
    ticks = "".join(f" M{x + ten * 10:.3f} {y - 2:.3f} v4" for ten in range(6))
    return f"<path d='M{x:.3f} {y:.3f} h50{ticks}' fill='none' stroke='black' stroke-width='0.2'/>" + _words(
        x, y + 4.6, "50 mm: measure before you cut"
    )


def _words(x: float, y: float, words: str) -> str:
    return f"<text x='{x:.2f}' y='{y:.2f}' font-size='3' font-family='sans-serif'>{escape(words)}</text>"


def as_dxf(plate: Plate) -> str:
    """DXF R2010 in millimetres, y upwards: the outline, holes by their middle, texts on a layer of their own."""
    import ezdxf.filemanagement
    from ezdxf import units

    document = ezdxf.filemanagement.new("R2010")
    document.units = units.MM
    for layer in ("OUTLINE", "HOLES", "TEXT"):
        document.layers.add(layer)
    space = document.modelspace()
    corners = [(0, 0), (plate.wide, 0), (plate.wide, plate.high), (0, plate.high)]
    space.add_lwpolyline(corners, close=True, dxfattribs={"layer": "OUTLINE"})
    for hole in plate.holes:
        at = (hole.x, plate.high - hole.y)
        space.add_circle(at, hole.diameter / 2, dxfattribs={"layer": "HOLES"})
        if hole.words:
            place = (at[0], at[1] - hole.diameter / 2 - 5)
            space.add_text(hole.words, height=3, dxfattribs={"layer": "TEXT"}).set_placement(place)
    out = StringIO()
    document.write(out)
    return out.getvalue()


def steps_of(plate: Plate) -> tuple[str, ...]:
    """What is done for each hole, by bit, the small ones first."""
    found = []
    for bit in dict.fromkeys(hole.bit for hole in sorted(plate.holes, key=lambda hole: hole.diameter)):
        own = [hole for hole in plate.holes if hole.bit == bit]
        pilot = "pilot 3 mm, then " if own[0].diameter > 10 else ""
        found.append(f"{len(own)} × {own[0].diameter:g} mm: {pilot}{bit}")
    return tuple(found)
