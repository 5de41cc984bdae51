"""Templates at 1:1: the back plate with its panel sockets, a trial piece, every seat's panel; SVG and DXF, in mm.

Panel sockets sit in a round hole with two screws, so where they lie is free and nobody has to know the board's own
sockets to a tenth of a millimetre.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from html import escape
from io import StringIO
from math import ceil, hypot

from kyklon.base.shown import visible
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.catalogue.system_records import Panel
from kyklon.model.build import Build
from kyklon.model.casework import Opening
from kyklon.model.controls import Control, Layout
from kyklon.operations.assembly.outline import outline_of
from kyklon.operations.assembly.space import inner_of, shape_of
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
    """x, y: its middle in mm from the upper left corner. bit: what makes it. sink: diameter of its countersink, 0 for
    none."""

    x: float
    y: float
    diameter: float
    words: str = ""
    bit: str = ""
    sink: float = 0.0


@dataclass(frozen=True)
class Cut:
    """A rectangle that is sawn or filed out, x and y its upper left corner; one that touches the edge is a notch."""

    x: float
    y: float
    wide: float
    high: float
    words: str = ""


@dataclass(frozen=True)
class Plate:
    """A flat piece with holes. seen: from where."""

    name: str
    title: str
    wide: float
    high: float
    holes: tuple[Hole, ...]
    cuts: tuple[Cut, ...] = ()
    seen: str = "from outside"


def bit_for(diameter: float) -> str:
    """The bit that makes a hole: common practice in wood and plastic."""
    if diameter <= 10:
        return f"{diameter:g} mm twist bit"
    if diameter <= 13:
        return "step bit"
    return f"{diameter:g} mm spade or hole saw; step bit in metal"


def outside(build: Build) -> tuple[str, ...]:
    """What leaves the case through a panel socket that has no opening of its own yet."""
    own = {opening.name.lower() for opening in build.assembly.openings if opening.purpose == "socket"}
    return tuple(name for name in _sockets(build) if name.lower() not in own)


def _sockets(build: Build) -> tuple[str, ...]:
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
        holes += _socket(x, y, name)
    return Plate("back-plate", "Back plate", wide, tall, tuple(holes))


def _socket(x: float, y: float, name: str) -> list[Hole]:
    """A panel socket's hole with its two screws."""
    found = [Hole(x, y, SOCKET_MM, name, bit_for(SOCKET_MM))]
    for sign in (1, -1):
        at = (x + sign * SCREWS_AT[0], y - sign * SCREWS_AT[1])
        found.append(Hole(*at, SCREW_MM, "", bit_for(SCREW_MM)))
    return found


# --- the case's own walls, openings and floor ------------------------------------------------------------------------

LIP_MM = 8.0  # that a plate laps over an opening's edge on each side, CP
SINK_MM = 6.3  # countersink of an M3 screw's head: ISO 2009 and ISO 7046, largest theoretical diameter (mem)
_IN_LIP = LIP_MM / 2
_NOTCH_MM = 8.0  # mm that a cable's notch is wide and deep, with a grommet, CP


def opening_plates(build: Build) -> tuple[Plate, ...]:
    """A plate for every old opening that is to be covered, or takes a panel socket or a cable instead."""
    return tuple(_cover(opening) for opening in build.assembly.openings if opening.purpose in ("", "socket", "cable"))


def _cover(opening: Opening) -> Plate:
    wide, high = opening.wide + 2 * LIP_MM, opening.tall + 2 * LIP_MM
    corners = (
        (_IN_LIP, _IN_LIP),
        (wide - _IN_LIP, _IN_LIP),
        (_IN_LIP, high - _IN_LIP),
        (wide - _IN_LIP, high - _IN_LIP),
    )
    holes = [Hole(x, y, SCREW_MM, "", bit_for(SCREW_MM), SINK_MM) for x, y in corners]
    cuts: tuple[Cut, ...] = ()
    if opening.purpose == "socket":
        holes += _socket(wide / 2, high / 2, opening.name)
    elif opening.purpose == "cable":
        cuts = (Cut(wide / 2 - _NOTCH_MM / 2, high - LIP_MM - _NOTCH_MM, _NOTCH_MM, _NOTCH_MM + LIP_MM, "cable"),)
    return Plate(f"cover-{opening.id}", f"Plate over {opening.name}", wide, high, tuple(holes), cuts)


def too_small(opening: Opening) -> bool:
    """Whether a panel socket with its screws does not go through an old opening."""
    return opening.purpose == "socket" and min(opening.wide, opening.tall) < SOCKET_MM


def walls(build: Build) -> tuple[Plate, ...]:
    """Each measured wall with the openings that are cut into it, as it is seen from outside."""
    own = build.assembly
    wide, deep, high = own.inner_wide, own.inner_deep, own.inner_high
    if not (wide and deep and high):
        return ()
    found = []
    for wall, across, tall in (
        ("front", wide, high),
        ("back", wide, high),
        ("left", deep, high),
        ("right", deep, high),
        ("lid", wide, deep),
        ("floor", wide, deep),
    ):
        cut = [
            opening for opening in own.openings if opening.wall == wall and opening.purpose in ("plug", "card", "air")
        ]
        if not cut:
            continue
        mirrored = wall in ("back", "left", "floor")  # the case's own left is at the right there
        holes, cuts = [], []
        for opening in cut:
            x = across - opening.along if mirrored else opening.along
            y = tall - opening.up
            if opening.round:
                holes.append(Hole(x, y, opening.wide, opening.name, bit_for(opening.wide)))
            else:
                cuts.append(Cut(x - opening.wide / 2, y - opening.high / 2, opening.wide, opening.high, opening.name))
        found.append(Plate(f"wall-{wall}", f"Wall, {wall}", across, tall, tuple(holes), tuple(cuts)))
    return tuple(found)


def standoffs(build: Build, catalogue: Catalogue) -> tuple[Plate, ...]:
    """Holes for the board's standoffs: in the floor of a measured case, else a plate of the board's own size."""
    body = next((body for body in build.assembly.bodies if body.id == "board"), None)
    board = catalogue.find(Board, build.part("board"))
    shape = outline_of(board) if board is not None else None
    if board is None or shape is None or not shape.holes:
        return ()
    own = build.assembly
    wide, deep, at = shape.size[0], shape.size[1], (0.0, 0.0)
    if own.inner_wide and own.inner_deep and body is not None:
        turned = shape_of(build, catalogue, body)
        if turned is None:
            return ()  # its body was typed with another size than the board's own
        shape, wide, deep, at = turned, own.inner_wide, own.inner_deep, (body.x, body.y)
    bit = bit_for(shape.hole_mm)
    holes = [Hole(at[0] + x, deep - at[1] - y, shape.hole_mm, "", bit) for x, y in shape.holes]
    title = f"Standoffs of {board.name}"
    return (Plate("standoffs", title, wide, deep, tuple(holes), seen="from above"),)


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
    sizes = sorted({(hole.diameter, hole.sink) for plate in plates for hole in plate.holes})
    x, holes = 8.0, []
    for size, sink in sizes:
        x += max(size, sink) / 2
        holes.append(Hole(x, 30.0, size, f"{size:g}", bit_for(size), sink))
        size = max(size, sink)
        x += size / 2 + 8.0
    return Plate("trial-piece", "Trial piece", max(40.0, x), 60.0, tuple(holes))


def plates(build: Build, catalogue: Catalogue) -> tuple[Plate, ...]:
    """All plates of a build, the trial piece first."""
    hookup = hookup_of(build, catalogue)
    panel = catalogue.find(Panel, build.controls.panel)
    seats = seat_plates(hookup.layout) if hookup is not None and panel is not None and build.part("encoder") else ()
    further = (*standoffs(build, catalogue), *walls(build), *opening_plates(build))
    back = (back_plate(build, catalogue),) if outside(build) else ()
    made = (*seats, *back, *further)
    return (trial_piece(made), *made)


# --- files -----------------------------------------------------------------------------------------------------------


def as_svg(plate: Plate) -> str:
    """At 1:1 with a ruler of 50 mm below it."""
    title = f"{plate.title}, {plate.wide:g} × {plate.high:g} mm, seen {plate.seen}"
    body = [*_pieces(plate), _ruler(2, plate.high + 8), _words(62, plate.high + 8, title)]
    return _svg(max(plate.wide, 62 + 1.8 * len(title)), plate.high + 14, body)


def _pieces(plate: Plate) -> list[str]:
    cuts = [text for cut in plate.cuts for text in _cut_out(cut)]
    return [_rect(0, 0, plate.wide, plate.high), *cuts, *(_drawn(hole) for hole in plate.holes)]


def _cut_out(cut: Cut) -> tuple[str, ...]:
    words = f"{visible(cut.words)} {cut.wide:g} × {cut.high:g}".strip()
    return _rect(cut.x, cut.y, cut.wide, cut.high), _words(cut.x, cut.y - 1.5, words)


def as_pages(plate: Plate) -> tuple[str, ...]:
    """The plate on A4 pages that overlap by 10 mm, each with its ruler, marks at the seams and its place."""
    wide, high = PAPER[0] - 2 * (_MARGIN + _INSET), PAPER[1] - 2 * (_MARGIN + _INSET) - 12
    across = max(1, ceil((plate.wide - _OVERLAP) / (wide - _OVERLAP)))
    down = max(1, ceil((plate.high - _OVERLAP) / (high - _OVERLAP)))
    found = []
    for row in range(down):
        for column in range(across):
            left, top = column * (wide - _OVERLAP), row * (high - _OVERLAP)
            inner = _pieces(plate)
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
    text = _words(hole.x - hole.diameter / 2, hole.y + hole.diameter / 2 + 7, words) if words else ""
    circle = f"<circle cx='{hole.x:.3f}' cy='{hole.y:.3f}' r='{hole.diameter / 2:.3f}' {_PEN}/>"
    if hole.sink:
        ring = f"<path d='M{hole.x - hole.sink / 2:.3f} {hole.y:.3f} "
        for sign in (1, -1):
            ring += f"a{hole.sink / 2:.3f} {hole.sink / 2:.3f} 0 0 1 {sign * hole.sink:.3f} 0 "
        circle += f"{ring}' {_PEN} stroke-dasharray='1 0.6'/>"
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
    for layer in ("OUTLINE", "CUTS", "HOLES", "COUNTERSINKS", "TEXT"):
        document.layers.add(layer)
    space = document.modelspace()
    corners = [(0, 0), (plate.wide, 0), (plate.wide, plate.high), (0, plate.high)]
    space.add_lwpolyline(corners, close=True, dxfattribs={"layer": "OUTLINE"})
    for cut in plate.cuts:
        left, top = cut.x, plate.high - cut.y
        ends = [(left, top), (left + cut.wide, top), (left + cut.wide, top - cut.high), (left, top - cut.high)]
        space.add_lwpolyline(ends, close=True, dxfattribs={"layer": "CUTS"})
    for hole in plate.holes:
        at = (hole.x, plate.high - hole.y)
        space.add_circle(at, hole.diameter / 2, dxfattribs={"layer": "HOLES"})
        if hole.sink:
            space.add_circle(at, hole.sink / 2, dxfattribs={"layer": "COUNTERSINKS"})
        if hole.words:
            place = (at[0], at[1] - hole.diameter / 2 - 5)
            space.add_text(hole.words, height=3, dxfattribs={"layer": "TEXT"}).set_placement(place)
    out = StringIO()
    document.write(out)
    return out.getvalue()


_CORNER_MM = 4.0  # bit for the corners of a cut, so that a saw blade turns, CP
_COLLAR_MM = 6.0  # mm around a hole that a step bit's next step or a saw's teeth and set can take along, CP


def steps_of(plate: Plate) -> tuple[str, ...]:
    """What is done for each hole, by bit, the small ones first; then what is sawn, and what lies too close."""
    found = []
    for bit in dict.fromkeys(hole.bit for hole in sorted(plate.holes, key=lambda hole: hole.diameter)):
        own = [hole for hole in plate.holes if hole.bit == bit]
        pilot = "pilot 3 mm, then " if own[0].diameter > 10 else ""
        found.append(f"{len(own)} × {own[0].diameter:g} mm: {pilot}{bit}")
    sunk = [hole.sink for hole in plate.holes if hole.sink]
    if sunk:
        words = "countersink" if len(sunk) == 1 else "countersinks"
        found.append(f"{len(sunk)} {words} 90°, to {sunk[0]:g} mm across: the head lies flush")
    for cut in plate.cuts:
        notch = cut.x <= 0 or cut.y <= 0 or cut.x + cut.wide >= plate.wide or cut.y + cut.high >= plate.high
        what = "notch" if notch else "cut-out"
        corners = f"drill its {'inner ' if notch else ''}corners {_CORNER_MM:g} mm, saw inside the line, file to it"
        found.append(f"{what} {cut.wide:g} × {cut.high:g} mm{f' for {cut.words}' if cut.words else ''}: {corners}")
    return (*found, *_close(plate))


def _close(plate: Plate) -> list[str]:
    """Holes whose bit would take a neighbour or the edge along."""
    found = []
    for number, hole in enumerate(plate.holes):
        if hole.diameter <= 10:
            continue
        reach = hole.diameter / 2 + _COLLAR_MM
        edge = min(hole.x, hole.y, plate.wide - hole.x, plate.high - hole.y)
        if edge < reach:
            found.append(f"{edge - hole.diameter / 2:.1f} mm from {hole.words or 'a hole'} to the edge: use a hole saw")
        for other in plate.holes[number + 1 :]:
            web = hypot(hole.x - other.x, hole.y - other.y) - (hole.diameter + other.diameter) / 2
            if other.diameter > 10 and web < _COLLAR_MM:
                found.append(
                    f"{web:.1f} mm between {hole.words or 'a hole'} and {other.words or 'its neighbour'}: hole saw"
                )
    return found
