"""What lies where in the case, as boxes in mm: what collides, by how much, and what would make room.

Axes from the inner lower left front corner: x to the right, y to the back, z up. What hangs from the panel follows from
the panel; what stands in the case was placed by its builder, or proposed.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from kyklon.catalogue.cables import joined, pieces_of
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Display, Encoder
from kyklon.catalogue.system_records import Panel
from kyklon.model.assembly import Body
from kyklon.model.build import Build
from kyklon.model.casework import Opening
from kyklon.model.controls import Control
from kyklon.operations.assembly.outline import Outline, outline_of, plug_mm, used
from kyklon.operations.controls.clearance import LEVER_PLATE

STANDOFF_MM = 6.0  # under a board, CP
PLUG_MM = 38.0  # that a plug with its bend takes beside a socket, CP
TOUCH_MM = 0.2  # that two things may overlap in a drawing and still only touch
_BOARD = (90.0, 60.0, 18.0)  # mm across, deep, high: nobody measured it, CP
_ENCODER = (70.0, 40.0, 16.0)
_CONVERTER = (60.0, 45.0, 25.0)
_FAN = (40.0, 10.0, 40.0)
_SINK_HIGH = {"none": 0.0, "small": 12.0, "large": 15.0, "case": 0.0}
_DISPLAY_DEEP = 14.0  # mm of a small panel with its driver, CP
_BELOW: dict[str, tuple[float, float]] = {  # mm below the panel: with straight terminals, with bent ones; CP
    "button": (62.0, 48.0),
    "start": (58.0, 45.0),
    "select": (58.0, 45.0),
    "coin": (58.0, 45.0),
    "side": (62.0, 48.0),
    "lever": (68.0, 68.0),
    "spinner": (55.0, 55.0),
    "trackball": (85.0, 85.0),
}
_USUAL = (150.0, 110.0, 45.0)  # mm inside of a console's case that nobody measured, CP
_USUAL_HIGH = 95.0  # mm inside of a panel's box, CP
MOST_HIGH = 1000.0  # mm that a case can be said to be
STEP_MM = 1.0  # mm: moves are tried and told in whole millimetres


@dataclass(frozen=True)
class Box:
    """near and far: corners, mm. movable: whether its builder may put it elsewhere. shorter: mm that it loses from
    below where its terminals are bent, or outwards where its plug is angled. of: what it is plugged into and moves
    with. way: axis and sign in which a plug leaves."""

    id: str
    name: str
    near: tuple[float, float, float]
    far: tuple[float, float, float]
    movable: bool = True
    shorter: float = 0.0
    of: str = ""
    way: tuple[int, int] = (0, 0)

    @property
    def whole(self) -> str:
        """What is moved with it: itself, or what it is plugged into."""
        return self.of or self.id

    @property
    def size(self) -> tuple[float, float, float]:
        return tuple(b - a for a, b in zip(self.near, self.far, strict=True))  # type: ignore[return-value]

    def moved(self, by: tuple[float, float, float]) -> Box:
        return replace(
            self,
            near=tuple(a + b for a, b in zip(self.near, by, strict=True)),  # type: ignore[arg-type]
            far=tuple(a + b for a, b in zip(self.far, by, strict=True)),  # type: ignore[arg-type]
        )


@dataclass(frozen=True)
class Clash:
    """Two things in one place, or one outside of the case ('other' is then the wall). overlap: mm along x, y and z;
    the least of them is what is missing."""

    one: str
    other: str
    overlap: tuple[float, float, float]

    @property
    def missing(self) -> float:
        return min(self.overlap)

    @property
    def along(self) -> int:
        return self.overlap.index(self.missing)


@dataclass(frozen=True)
class Space:
    """inner: mm across, front to back and high. assumed: what nobody measured."""

    inner: tuple[float, float, float]
    boxes: tuple[Box, ...]
    assumed: tuple[str, ...]

    def box(self, name: str) -> Box | None:
        return next((box for box in self.boxes if box.id == name), None)


def overlap(one: Box, other: Box) -> tuple[float, float, float]:
    """How far two boxes reach into each other along each axis; below zero for a gap."""
    x, y, z = (min(one.far[axis], other.far[axis]) - max(one.near[axis], other.near[axis]) for axis in range(3))
    return x, y, z


def clashes(space: Space) -> tuple[Clash, ...]:
    """Everything that collides, the worst first; by a sweep along x."""
    found = []
    order = sorted(space.boxes, key=lambda box: box.near[0])
    for number, box in enumerate(order):
        for other in order[number + 1 :]:
            if other.near[0] >= box.far[0] - TOUCH_MM:
                break
            if box.whole == other.whole:
                continue
            if (box.movable or other.movable) and (depth := overlap(box, other)) and min(depth) > TOUCH_MM:
                first, second = (box, other) if box.movable else (other, box)
                found.append(Clash(first.id, second.id, depth))
    for box in space.boxes:
        out = tuple(max(-box.near[axis], box.far[axis] - space.inner[axis], 0.0) for axis in range(3))
        worst = max(out)
        if worst > TOUCH_MM:
            axis = out.index(worst)
            size = [1e9, 1e9, 1e9]
            size[axis] = worst
            found.append(Clash(box.id, WALLS[axis], (size[0], size[1], size[2])))
    return tuple(sorted(found, key=lambda clash: -clash.missing))


WALLS = ("side wall", "front or back", "lid or floor")


# --- what is in it ---------------------------------------------------------------------------------------------------


def inner_of(build: Build, catalogue: Catalogue) -> tuple[tuple[float, float, float], bool]:
    """Inner size of the case in mm, and whether it was measured: else that of a box below the panel, or of a usual
    console."""
    own = build.assembly
    measured = (own.inner_wide, own.inner_deep, own.inner_high)
    if all(measured):
        return measured, True
    panel = catalogue.find(Panel, build.controls.panel)
    usual = _USUAL
    if panel is not None and build.part("encoder"):
        usual = (panel.width_mm - 2 * own.wall, max(panel.height_mm, 160.0) - 2 * own.wall, _USUAL_HIGH)
    wide, deep, high = (size or other for size, other in zip(measured, usual, strict=True))
    return (wide, deep, high), False


def space_of(build: Build, catalogue: Catalogue) -> Space:
    """The case with everything in it: placed bodies where there are any, proposed ones for the rest."""
    inner, measured = inner_of(build, catalogue)
    assumed = [] if measured else ["the case's size"]
    hanging = tuple(_hanging(build, catalogue, inner))
    placed = {body.id: body for body in build.assembly.bodies}
    # what is proposed keeps out of their way
    standing = [*hanging, *(_box(body) for body in placed.values())]
    if "board" in placed:
        standing += _plugs(build, catalogue, placed["board"], inner)
    wanted = {body.id: body for body in _proposed(build, catalogue, inner, standing) if body.id not in placed}
    board = catalogue.find(Board, build.part("board"))
    shape = outline_of(board) if board is not None else None
    unmeasured = [body.name for body in wanted.values() if body.id != "board" or shape is None]
    assumed += [f"size and place of {', '.join(unmeasured)}"] if unmeasured else []
    assumed += [f"place of {wanted['board'].name}"] if "board" in wanted and shape is not None else []
    assumed += ["how deep the controls are"] if hanging else []
    bodies = {**wanted, **placed}
    plugs = _plugs(build, catalogue, bodies["board"], inner) if "board" in bodies else []
    return Space(inner, (*hanging, *(_box(body) for body in bodies.values()), *plugs), tuple(assumed))


def shape_of(build: Build, catalogue: Catalogue, body: Body) -> Outline | None:
    """The board's own shape, turned as it lies; None where nobody gave it, or its body was typed with another size."""
    board = catalogue.find(Board, build.part("board"))
    shape = outline_of(board) if board is not None and body.id == "board" else None
    if shape is None:
        return None
    lies = shape.turned(body.turned)
    alike = abs(lies.size[0] - body.wide) < 1 and abs(lies.size[1] - body.deep) < 1
    return lies if alike else None


_OUT: dict[str, tuple[int, int]] = {"front": (1, -1), "back": (1, 1), "left": (0, -1), "right": (0, 1)}


def _plugs(build: Build, catalogue: Catalogue, body: Body, inner: tuple[float, float, float]) -> list[Box]:
    """The plugs in the board's sockets with the bends of their cables; one that leaves through an opening of the wall
    ends there."""
    board, shape = catalogue.find(Board, build.part("board")), shape_of(build, catalogue, body)
    if board is None or shape is None:
        return []
    found, taken = [], used(build, board)
    for socket in shape.sockets:
        port = board.port(socket.port)
        if port is None or socket.port not in taken or port.signal == "SD":
            continue
        angled = f"plug-{port.id}" in build.assembly.bent
        across, high, out = plug_mm(port.connector, angled=angled)
        axis, sign = _OUT[socket.edge]
        near, far = [body.x, body.y, body.z], [body.x + body.wide, body.y + body.deep, body.z + high]
        along = 1 - axis
        near[along] += socket.at - across / 2
        far[along] = near[along] + across
        if sign > 0:
            near[axis], far[axis] = far[axis], far[axis] + out
        else:
            near[axis], far[axis] = near[axis] - out, near[axis]
        gain = 0.0 if angled else out - plug_mm(port.connector, angled=True)[2]
        box = Box(
            f"plug-{port.id}",
            f"Plug in {port.label}",
            (near[0], near[1], near[2]),
            (far[0], far[1], far[2]),
            shorter=gain,
            of="board",
            way=(axis, sign),
        )
        found.append(_through(build, box, inner))
    return found


def _through(build: Build, box: Box, inner: tuple[float, float, float]) -> Box:
    """A plug cut off at the wall where an opening lets it out."""
    axis, sign = box.way
    beyond = box.far[axis] > inner[axis] if sign > 0 else box.near[axis] < 0
    wall = ("left", "right") if axis == 0 else ("front", "back")
    if not beyond or not any(
        _lets_out(opening, box) for opening in build.assembly.openings if opening.wall == wall[sign > 0]
    ):
        return box
    near, far = list(box.near), list(box.far)
    if sign > 0:
        far[axis] = max(inner[axis], near[axis])
    else:
        near[axis] = min(0.0, far[axis])
    return replace(box, near=(near[0], near[1], near[2]), far=(far[0], far[1], far[2]))


def _lets_out(opening: Opening, box: Box) -> bool:
    """Whether a plug goes through an opening of the wall that it points to."""
    if opening.purpose in ("", "socket", "air"):  # covered, filled by its own socket, or behind a grille
        return False
    along = 1 - box.way[0]
    half, tall = opening.wide / 2 + TOUCH_MM, opening.tall / 2 + TOUCH_MM
    corners = [
        (x - opening.along, z - opening.up)
        for x in (box.near[along], box.far[along])
        for z in (box.near[2], box.far[2])
    ]
    if opening.round:
        return all((x / half) ** 2 + (z / half) ** 2 <= 1 for x, z in corners)
    return all(abs(x) <= half and abs(z) <= tall for x, z in corners)


def _box(body: Body) -> Box:
    near = (body.x, body.y, body.z)
    return Box(body.id, body.name, near, (body.x + body.wide, body.y + body.deep, body.z + body.high), not body.fixed)


def _hanging(build: Build, catalogue: Catalogue, inner: tuple[float, float, float]) -> Iterable[Box]:
    """Buttons and levers of the first seat, from the panel down. A panel's y goes from its far edge."""
    panel = catalogue.find(Panel, build.controls.panel)
    if panel is None or not build.part("encoder"):
        return
    own = build.controls.layout
    controls: Sequence[Control] = own.seats[0].controls if own is not None and own.seats else panel.controls
    for control in controls:
        straight, bent = _BELOW[control.kind]
        below = bent if control.id in build.assembly.bent else straight
        wide, deep = LEVER_PLATE if control.kind == "lever" else (control.bore + 4, control.bore + 4)
        x, y = control.x - build.assembly.wall, inner[1] - (control.y - build.assembly.wall)
        yield Box(
            f"control-{control.id}",
            "Joystick" if control.kind == "lever" else f"Button {control.label}",
            (x - wide / 2, y - deep / 2, inner[2] - below),
            (x + wide / 2, y + deep / 2, inner[2]),
            False,
            straight - bent if below == straight else 0.0,
        )


def _proposed(
    build: Build, catalogue: Catalogue, inner: tuple[float, float, float], standing: Sequence[Box]
) -> Iterable[Body]:
    """Boards and boxes from the back on, each at the first place that is free."""
    rows: list[tuple[str, str, tuple[float, float, float], float]] = []
    board = catalogue.find(Board, build.part("board"))
    if board is not None:
        shape = outline_of(board)
        wide, deep, tall = shape.size if shape is not None else _BOARD
        high = tall + _SINK_HIGH[build.assembly.sink] + (10.0 if build.assembly.fan == "on the chip" else 0.0)
        rows.append(("board", board.name, (wide, deep, high), STANDOFF_MM))
    for part in build.parts:
        encoder = catalogue.find(Encoder, part.part) if part.role.startswith("encoder") else None
        if encoder is not None and encoder.terminals and encoder.link not in ("bluetooth",):
            rows.append((part.role, encoder.name, _ENCODER, 4.0))
    if build.assembly.source == "battery":
        rows.append(("converter", "12 V converter", _CONVERTER, 0.0))
    if build.assembly.fan == "in the case":
        rows.append(("fan", "Fan", _FAN, 4.0))
    display = catalogue.find(Display, build.part("display"))
    taken, names = list(standing), {box.id for box in standing}
    if display is not None and not display.tube and display.width_mm < inner[0] and not _is_panel(names):
        size = (display.width_mm, _DISPLAY_DEEP, min(inner[2], display.height_mm))
        left = (inner[0] - size[0]) / 2
        body = Body(id="display", name=display.name, x=left, y=0, wide=size[0], deep=size[1], high=size[2])
        taken.append(_box(body))
        yield body
    for name, words, size, low in rows:
        if name in names:
            continue
        at_corner = Body(id=name, name=words, x=0, y=0, z=low, wide=size[0], deep=size[1], high=size[2])
        # far from every wall, so that no opening cuts its plugs
        plugs = _plugs(build, catalogue, at_corner, (1e6, 1e6, 1e6)) if name == "board" else []
        x, y = _free((_box(at_corner), *plugs), inner, taken)
        body = at_corner.model_copy(update={"x": x, "y": y})
        taken += [_box(body), *(_plugs(build, catalogue, body, inner) if name == "board" else ())]
        yield body


def _is_panel(names: set[str]) -> bool:
    return any(name.startswith("control-") for name in names)


def _along(own: Box, other: Box, axis: int, by: float) -> float:
    """How far two boxes reach into each other along an axis, the first one moved."""
    return min(own.far[axis] + by, other.far[axis]) - max(own.near[axis] + by, other.near[axis])


def _free(boxes: Sequence[Box], inner: tuple[float, float, float], taken: Sequence[Box]) -> tuple[float, float]:
    """Where a thing with its plugs finds room on the floor, from the back and from the left; without its plugs where
    they find none; the back corner where it does not either. boxes: as they lie at 0, 0, the thing itself first."""
    for count in dict.fromkeys((len(boxes), 1)):
        group = boxes[:count]
        left, right = min(box.near[0] for box in group), max(box.far[0] for box in group)
        front, back = min(box.near[1] for box in group), max(box.far[1] for box in group)
        pairs = [(own, other) for own in group for other in taken if _along(own, other, 2, 0.0) > TOUCH_MM]
        y = inner[1] - back
        while y + front >= 0:
            level = [(own, other) for own, other in pairs if _along(own, other, 1, y) > TOUCH_MM]
            x = 0.0 - left
            while x + right <= inner[0]:
                hit = [other.far[0] for own, other in level if _along(own, other, 0, x) > TOUCH_MM]
                if not hit:
                    return x, y
                x = max(min(hit) - left, x + STEP_MM)
            y -= 5.0
    return 0.0, max(0.0, inner[1] - boxes[0].size[1])


# --- how high and how far -------------------------------------------------------------------------------------------


def free_mm(space: Space) -> float:
    """Clear height between the highest thing that stands and the lowest that hangs, or the lid."""
    standing = [box.far[2] for box in space.boxes if not box.id.startswith("control-")]
    hanging = [box.near[2] for box in space.boxes if box.id.startswith("control-")]
    return min([space.inner[2], *hanging]) - max(standing, default=0.0)


# --- how long the leads inside must be -------------------------------------------------------------------------------

SLACK = 1.15  # times the way along the walls: nothing is pulled tight, CP


@dataclass(frozen=True)
class Lead:
    """A cable inside the case. needs_mm: along the walls with slack and its plugs; has_mm: of the cable that is
    chosen, 0 where none is."""

    name: str
    needs_mm: float
    has_mm: float = 0.0

    @property
    def reaches(self) -> bool:
        return not self.has_mm or self.has_mm >= self.needs_mm


def leads(build: Build, catalogue: Catalogue) -> tuple[Lead, ...]:
    """The cables between what stands in the case, as long as the boxes are apart."""
    space = space_of(build, catalogue)
    found = []
    for link in build.links:
        start, end = (name.partition(".")[0] for name in link.ends)
        one, other = space.box(start), space.box(end)
        if one is None or other is None:
            continue
        pieces = pieces_of(link, catalogue)
        has = joined(pieces).length_m * 1000 if pieces else 0.0
        found.append(Lead(f"{one.name} to {other.name}", _way_mm(one, other) * SLACK + 2 * PLUG_MM, has))
    return tuple(found)


def _way_mm(one: Box, other: Box) -> float:
    """From middle to middle along the walls."""
    return sum(
        abs((a + b) / 2 - (c + d) / 2) for a, b, c, d in zip(one.near, one.far, other.near, other.far, strict=True)
    )
