"""A panel traced from a drawing: the circles of an SVG or DXF file and their diameters, in millimetres.

SVG 2, 8.9 (units: 96 px to an inch) by svgelements; DXF by ezdxf with $INSUNITS (millimetres where it does not say).
"""

from __future__ import annotations

import io
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any
from xml.parsers import expat

from kyklon.base.errors import FormatError, KyklonError
from kyklon.base.reading import bytes_of
from kyklon.parts.draft import Draft

LARGEST = 8 << 20  # bytes of a drawing
MOST_CIRCLES = 400
MOST_DRAWN = 50_000  # elements or entities, those of blocks and <use> each time they are drawn
_PX_PER_INCH, _MM_PER_INCH = 96.0, 25.4
_SMALLEST, _LARGEST = 4.0, 120.0  # mm: CP, screw holes are smaller and nothing on a panel is larger
_SAME = 0.6  # mm: diameters that are one
_MARGIN = 40.0  # mm round the circles where the drawing has no edge
ASKED = ("width_mm", "height_mm", "players", "facing")


@dataclass(frozen=True)
class Circle:
    """In mm, x from the left and y from the top of the drawing."""

    x: float
    y: float
    diameter: float


@dataclass(frozen=True)
class Drawing:
    """size: of the panel, None where no edge was found."""

    circles: tuple[Circle, ...]
    size: tuple[float, float] | None
    left: float = 0.0
    top: float = 0.0


def trace(path: Path) -> Drawing:
    """The circles of an SVG or DXF file. Raises KyklonError for one that is none."""
    data = bytes_of(path, LARGEST)
    kind = path.suffix.lower()
    if kind == ".svg":
        return from_svg(data, path.name)
    if kind == ".dxf":
        return from_dxf(data, path.name)
    raise KyklonError(f"{path.name} is neither an SVG nor a DXF file.", do="Save the drawing as one of them.")


def from_svg(data: bytes, name: str = "the drawing") -> Drawing:
    """Raises FormatError for what is no SVG."""
    if re.search(rb"<!\s*(ENTITY|DOCTYPE[^>]*\[)", data[:65536], re.I):  # a document that makes itself larger
        raise FormatError(name, 0, expected="an SVG without entities of its own", got="a document type with entities")
    if _drawn(data, name) > MOST_DRAWN:
        raise FormatError(name, 0, expected=f"at most {MOST_DRAWN} elements", got="more, by <use> within <use>")
    import svgelements

    circles: list[Circle] = []
    boxes: list[tuple[float, float, float, float]] = []
    try:
        svg = svgelements.SVG.parse(io.BytesIO(data), ppi=_PX_PER_INCH, reify=True)
        for element in svg.elements():
            if isinstance(element, (svgelements.Circle, svgelements.Ellipse)):
                across, down = 2 * abs(float(element.rx)), 2 * abs(float(element.ry))
                if across and abs(across - down) < 0.02 * across:
                    circles.append(Circle(_mm(float(element.cx)), _mm(float(element.cy)), _mm((across + down) / 2)))
            elif isinstance(element, svgelements.Path) and len(element):
                box = element.bbox()
                if box is None:
                    continue
                left, top, right, bottom = (_mm(float(value)) for value in box)
                round_ = _round_path(element, left, top, right, bottom)
                if round_ is not None:
                    circles.append(round_)
                else:
                    boxes.append((left, top, right, bottom))
            elif isinstance(element, svgelements.Rect):
                x, y = _mm(float(element.x)), _mm(float(element.y))
                boxes.append((x, y, x + _mm(float(element.width)), y + _mm(float(element.height))))
            if len(circles) > MOST_CIRCLES:
                raise FormatError(name, 0, expected=f"at most {MOST_CIRCLES} circles", got="more")
    except FormatError:
        raise
    except Exception as bad:  # whatever a library may raise over text from anywhere
        raise FormatError(name, 0, expected="an SVG drawing", got=str(bad)[:120] or type(bad).__name__) from bad
    return _drawing(circles, boxes, name)


class _Counter:
    """Counts what an SVG draws: every element with what it holds, a <use> with what it refers to (SVG 2, 5.6)."""

    def __init__(self) -> None:
        self.inside: list[list[int]] = []  # of each element: those right inside it
        self.refers: dict[int, str] = {}
        self.ids: dict[str, int] = {}
        self._open: list[int] = []

    def start(self, element: str, attributes: dict[str, str]) -> None:
        number = len(self.inside)
        self.inside.append([])
        if self._open:
            self.inside[self._open[-1]].append(number)
        if attributes.get("id"):
            self.ids.setdefault(attributes["id"], number)
        told = attributes.get("href") or attributes.get("xlink:href") or ""
        if element.rpartition(":")[2] == "use" and told.startswith("#"):
            self.refers[number] = told[1:]
        self._open.append(number)

    def end(self, _element: str) -> None:
        self._open.pop()

    def drawn(self) -> int:
        """Elements in all, MOST_DRAWN and one for more or for a circle of references."""
        whole: dict[int, int] = {}
        waiting = [(0, False)] if self.inside else []
        under_way: set[int] = set()
        while waiting:
            number, done = waiting.pop()
            below = [
                *self.inside[number],
                *([self.ids[self.refers[number]]] if self.refers.get(number) in self.ids else []),
            ]
            if done:
                under_way.discard(number)
                whole[number] = min(MOST_DRAWN + 1, 1 + sum(whole.get(each, MOST_DRAWN + 1) for each in below))
            elif number not in whole and number not in under_way:
                under_way.add(number)
                waiting.append((number, True))
                waiting += [(each, False) for each in below if each not in whole]
        return whole.get(0, 0)


def _drawn(data: bytes, name: str) -> int:
    counter, parser = _Counter(), expat.ParserCreate()
    parser.StartElementHandler, parser.EndElementHandler = counter.start, counter.end
    try:
        parser.Parse(data, True)
    except (expat.ExpatError, ValueError, LookupError) as bad:
        raise FormatError(name, max(0, parser.ErrorByteIndex), expected="an SVG drawing", got=str(bad)[:120]) from bad
    return counter.drawn()


def _mm(pixels: float) -> float:
    return pixels * _MM_PER_INCH / _PX_PER_INCH


def _round_path(path: Any, left: float, top: float, right: float, bottom: float) -> Circle | None:
    """A path that is a circle: as wide as high, and every point as far from its middle."""
    across, down = right - left, bottom - top
    if not across or abs(across - down) > 0.02 * across or not _SMALLEST / 2 <= across <= _LARGEST * 2:
        return None
    x, y = (left + right) / 2, (top + bottom) / 2
    for step in range(12):
        point = path.point(step / 12)
        if (
            point is None
            or abs(math.hypot(_mm(float(point.x)) - x, _mm(float(point.y)) - y) - across / 2) > 0.03 * across
        ):
            return None
    return Circle(x, y, across)


def from_dxf(data: bytes, name: str = "the drawing") -> Drawing:
    """Raises FormatError for what is no DXF."""
    from ezdxf import units as _units

    units: Any = _units
    from ezdxf.filemanagement import read

    circles: list[Circle] = []
    boxes: list[tuple[float, float, float, float]] = []
    try:
        document = read(io.StringIO(data.decode("utf-8", "surrogateescape")))
        code = int(document.header.get("$INSUNITS", 0) or 0)
        scale = units.conversion_factor(units.InsertUnits(code), units.InsertUnits.Millimeters) if code else 1.0
        for entity in _entities(document.modelspace(), 0, [MOST_DRAWN]):
            kind = entity.dxftype()
            if kind == "CIRCLE":
                centre = entity.dxf.center
                circles.append(Circle(centre.x * scale, -centre.y * scale, 2 * entity.dxf.radius * scale))
            elif kind == "LWPOLYLINE":
                points = [(x * scale, -y * scale) for x, y in entity.get_points("xy")]
                found = _round_polyline(entity, points, scale)
                if found is not None:
                    circles.append(found)
                elif len(points) > 2:
                    xs, ys = [x for x, _y in points], [y for _x, y in points]
                    boxes.append((min(xs), min(ys), max(xs), max(ys)))
            elif kind == "LINE":
                (x1, y1), (x2, y2) = entity.dxf.start.vec2 * scale, entity.dxf.end.vec2 * scale
                boxes.append((min(x1, x2), min(-y1, -y2), max(x1, x2), max(-y1, -y2)))
            if len(circles) > MOST_CIRCLES:
                raise FormatError(name, 0, expected=f"at most {MOST_CIRCLES} circles", got="more")
    except FormatError:
        raise
    except Exception as bad:  # whatever a library may raise over text from anywhere
        raise FormatError(name, 0, expected="a DXF drawing", got=str(bad)[:120] or type(bad).__name__) from bad
    return _drawing(circles, boxes, name)


def _entities(layout: Any, depth: int, left: list[int]) -> Any:
    """What a layout draws, blocks taken apart. left: how many entities may still be looked at, those that only hold
    others too."""
    for entity in layout:
        left[0] -= 1
        if left[0] < 0:
            raise FormatError("the drawing", 0, expected=f"at most {MOST_DRAWN} entities", got="more, by nested blocks")
        if entity.dxftype() == "INSERT" and depth < 4:
            yield from _entities(entity.virtual_entities(), depth + 1, left)
        else:
            yield entity


def _round_polyline(entity: Any, points: list[tuple[float, float]], scale: float) -> Circle | None:
    """Two half circles drawn as a closed polyline: bulges of 1."""
    if len(points) != 2 or not entity.closed:
        return None
    if any(abs(abs(bulge) - 1) > 0.01 for *_xy, bulge in entity.get_points("xyb")):
        return None
    (x1, y1), (x2, y2) = points
    return Circle((x1 + x2) / 2, (y1 + y2) / 2, math.hypot(x2 - x1, y2 - y1))


def _drawing(circles: list[Circle], boxes: list[tuple[float, float, float, float]], name: str) -> Drawing:
    for value in (each for circle in circles for each in (circle.x, circle.y, circle.diameter)):
        if not math.isfinite(value) or abs(value) > 1e5:
            raise FormatError(name, 0, expected="lengths in millimetres", got="one that is beyond any panel")
    kept = tuple(dict.fromkeys(each for each in circles if _SMALLEST <= each.diameter <= _LARGEST))
    if not kept:
        raise KyklonError(
            f"{name} has no circles of {_SMALLEST:g} to {_LARGEST:g} mm.",
            do="Check its scale, or draw the holes as circles.",
        )
    left, top = min(c.x - c.diameter / 2 for c in kept), min(c.y - c.diameter / 2 for c in kept)
    right, bottom = max(c.x + c.diameter / 2 for c in kept), max(c.y + c.diameter / 2 for c in kept)
    finite = [box for box in boxes if all(math.isfinite(each) and abs(each) < 1e5 for each in box)]
    if finite:
        around = (
            min(b[0] for b in finite),
            min(b[1] for b in finite),
            max(b[2] for b in finite),
            max(b[3] for b in finite),
        )
        if around[0] <= left and around[1] <= top and around[2] >= right and around[3] >= bottom:
            return _moved(kept, around)
    return replace(_moved(kept, (left - _MARGIN, top - _MARGIN, right + _MARGIN, bottom + _MARGIN)), size=None)


def _moved(circles: Sequence[Circle], box: tuple[float, float, float, float]) -> Drawing:
    left, top, right, bottom = (float(each) for each in box)  # the DXF library computes with numpy's numbers
    moved = tuple(Circle(float(c.x) - left, float(c.y) - top, float(c.diameter)) for c in circles)
    return Drawing(moved, (right - left, bottom - top), left, top)


def learn(path: Path) -> Draft:
    """A draft from a drawing: every circle a control, to be named on the drawing."""
    drawing = trace(path)
    draft = Draft("panels", asked=ASKED).with_read(
        path.name, name=path.stem.replace("-", " ").capitalize()[:120] or "Panel"
    )
    controls = controls_of(drawing)
    draft = draft.with_read(f"{path.name}: its circles", controls=controls)
    if drawing.size is not None:
        draft = draft.with_read(
            f"{path.name}: its outline", width_mm=round(drawing.size[0], 2), height_mm=round(drawing.size[1], 2)
        )
    else:
        wide = max(c.x + c.diameter / 2 for c in drawing.circles) + _MARGIN
        high = max(c.y + c.diameter / 2 for c in drawing.circles) + _MARGIN
        draft = draft.offer(
            "room round the circles; the drawing has no edge", width_mm=round(wide, 1), height_mm=round(high, 1)
        )
    draft = draft.offer("one seat's board; a second seat has the same", players=1)
    sizes = sorted({round(c.diameter, 1) for c in drawing.circles})
    return replace(
        draft,
        about=(("Circles", str(len(drawing.circles))), ("Diameters", ", ".join(f"{size:g} mm" for size in sizes))),
    )


def controls_of(drawing: Drawing) -> list[dict[str, Any]]:
    """A guess of what each hole is for: the left-most hole of a size of its own is the lever, small ones above or
    beside the buttons are start and select, the rest buttons from the left, nearest row first."""
    circles = sorted(drawing.circles, key=lambda c: (c.x, -c.y))
    usual = max(((_like(circles, c.diameter), c.diameter) for c in circles), default=(0, 0.0))[1]
    others = [c for c in circles if abs(c.diameter - usual) > _SAME]
    rest = [c for c in circles if abs(c.diameter - usual) <= _SAME]
    lever = next((c for c in others if c.x <= min(d.x for d in rest)), None) if rest else None
    if lever is None and circles:
        lever = circles[0]
        rest = [c for c in rest if c is not lever]
    others = [c for c in others if c is not lever]
    rows: list[tuple[str, str, str, Circle]] = [("lever", "Lever", "lever", lever)] if lever else []
    if others:
        rows += [(name, name.capitalize(), name, c) for name, c in zip(("start", "select"), others, strict=False)]
        rest += others[2:]
    near_first = sorted(rest, key=lambda c: (-round(c.y / 25), c.x))
    rows += [(f"b{number}", str(number), "button", c) for number, c in enumerate(near_first, 1)]
    return [
        {"id": name, "label": label, "kind": kind, "x": round(c.x, 2), "y": round(c.y, 2), "bore": round(c.diameter, 2)}
        for name, label, kind, c in rows
    ]


def _like(circles: Sequence[Circle], diameter: float) -> int:
    return sum(abs(c.diameter - diameter) <= _SAME for c in circles)


KINDS = ("button", "lever", "start", "select", "nothing")


def with_kind(controls: Sequence[dict[str, Any]], index: int, kind: str) -> list[dict[str, Any]]:
    """The controls with another use of one hole; names are given anew, 'nothing' leaves it out of the panel's
    controls."""
    made = [dict(control) for control in controls]
    made[index]["kind"] = kind
    number = 0
    for each in made:
        if each["kind"] == "button":
            number += 1
            each["id"], each["label"] = f"b{number}", str(number)
        elif each["kind"] == "nothing":
            each["id"] = each["label"] = "-"
        else:
            each["id"], each["label"] = each["kind"], each["kind"].capitalize()
    return made
