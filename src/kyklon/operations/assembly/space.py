"""What lies where in the case, as boxes in mm: what collides, by how much, and what would make room.

Axes from the inner lower left front corner: x to the right, y to the back, z up. What hangs from the panel follows from
the panel; what stands in the case was placed by its builder, or proposed.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from kyklon.catalogue.cables import joined, pieces_of
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Display, Encoder, Panel
from kyklon.model.assembly import Body
from kyklon.model.build import Build, edited
from kyklon.model.controls import Control
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
_STEP = 1.0  # mm: moves are tried and told in whole millimetres


@dataclass(frozen=True)
class Box:
    """near and far: corners, mm. movable: whether its builder may put it elsewhere. shorter: mm that it loses from
    below where its terminals are bent."""

    id: str
    name: str
    near: tuple[float, float, float]
    far: tuple[float, float, float]
    movable: bool = True
    shorter: float = 0.0

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
    standing = (*hanging, *(_box(body) for body in placed.values()))  # what is proposed keeps out of their way
    wanted = {body.id: body for body in _proposed(build, catalogue, inner, standing) if body.id not in placed}
    unmeasured = [body.name for body in wanted.values()]
    assumed += [f"size and place of {', '.join(unmeasured)}"] if unmeasured else []
    assumed += ["how deep the controls are"] if hanging else []
    bodies = {**wanted, **placed}
    return Space(inner, (*hanging, *(_box(body) for body in bodies.values())), tuple(assumed))


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
        high = _BOARD[2] + _SINK_HIGH[build.assembly.sink] + (10.0 if build.assembly.fan == "on the chip" else 0.0)
        rows.append(("board", board.name, (_BOARD[0], _BOARD[1], high), STANDOFF_MM))
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
        x, y = _free(size, low, inner, taken)
        body = Body(id=name, name=words, x=x, y=y, z=low, wide=size[0], deep=size[1], high=size[2])
        taken.append(_box(body))
        yield body


def _is_panel(names: set[str]) -> bool:
    return any(name.startswith("control-") for name in names)


def _free(
    size: tuple[float, float, float], low: float, inner: tuple[float, float, float], taken: Sequence[Box]
) -> tuple[float, float]:
    """The first free place on the floor, from the back and from the left; the back corner where none is."""
    y = inner[1] - size[1]
    while y >= 0:
        x = 0.0
        while x + size[0] <= inner[0]:
            here = Box("", "", (x, y, low), (x + size[0], y + size[1], low + size[2]))
            hit = [box for box in taken if min(overlap(here, box)) > TOUCH_MM]
            if not hit:
                return x, y
            x = max(min(box.far[0] for box in hit), x + _STEP)
        y -= 5.0
    return 0.0, max(0.0, inner[1] - size[1])


# --- what would make room --------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Room:
    """What would help, in words, and the build that it makes. left: clashes that remain."""

    words: str
    build: Build
    left: int


def with_body(build: Build, catalogue: Catalogue, name: str, **changes: float) -> Build:
    """A build in which a body lies elsewhere, or is of another size; one that was only proposed is kept from then on.
    Raises ValueError for a body that is not there, or that hangs from the panel."""
    space = space_of(build, catalogue)
    box = space.box(name)
    if box is None or name.startswith("control-"):
        raise ValueError(f"There is nothing {name!r} in the case that can be placed")
    placed = {body.id: body for body in build.assembly.bodies}
    now = placed.get(name) or Body(
        id=name,
        name=box.name,
        x=box.near[0],
        y=box.near[1],
        z=box.near[2],
        wide=box.size[0],
        deep=box.size[1],
        high=box.size[2],
    )
    rows = [body.model_dump() for body in build.assembly.bodies if body.id != name]
    return edited(build, "assembly.bodies", [*rows, {**now.model_dump(), **changes}])


def with_own(build: Build, catalogue: Catalogue, body: Body) -> Build:
    """A build with one more thing in its case. Raises ValueError for an id that is taken."""
    if space_of(build, catalogue).box(body.id) is not None:
        raise ValueError(f"There is a {body.id!r} in the case already")
    return edited(build, "assembly.bodies", [*(row.model_dump() for row in build.assembly.bodies), body.model_dump()])


def without_body(build: Build, name: str) -> Build:
    """A build in which nobody placed this body; one of its parts is proposed again. Raises ValueError for one that was
    never placed."""
    rows = [row.model_dump() for row in build.assembly.bodies if row.id != name]
    if len(rows) == len(build.assembly.bodies):
        raise ValueError(f"Nobody placed {name!r} in the case")
    return edited(build, "assembly.bodies", rows)


def rooms(build: Build, catalogue: Catalogue, clash: Clash) -> tuple[Room, ...]:
    """What would resolve a clash without making another: the least first."""
    space = space_of(build, catalogue)
    before = len(clashes(space))
    box, other = space.box(clash.one), space.box(clash.other)
    if box is None:
        return ()
    tried: list[tuple[float, str, Build]] = []
    if box.movable:
        tried += _moves(build, catalogue, space, box)
        wide, deep, _high = box.size
        if abs(wide - deep) > TOUCH_MM:
            turned = with_body(build, catalogue, box.id, wide=deep, deep=wide)
            tried.append((40.0, f"Rotate {box.name} by 90°", turned))
        if box.near[2] > 2 and clash.along == 2:
            low = with_body(build, catalogue, box.id, z=2.0)
            tried.append((10.0, f"Shorten the standoffs of {box.name} by {box.near[2] - 2:.0f} mm", low))
    hung = other if other is not None and other.shorter else box if box.shorter else None
    if hung is not None and clash.along == 2:
        bent = [*build.assembly.bent, hung.id.removeprefix("control-")]
        words = f"Bend the terminals of {hung.name}: {hung.shorter:.0f} mm less"
        tried.append((5.0, words, edited(build, "assembly.bent", bent)))
    more = clash.missing + TOUCH_MM
    if (clash.other == WALLS[2] or clash.along == 2) and space.inner[2] + more < MOST_HIGH:
        higher = edited(build, "assembly.inner_high", round(space.inner[2] + more + 0.5))
        for name, size in (("inner_wide", space.inner[0]), ("inner_deep", space.inner[1])):
            higher = edited(higher, f"assembly.{name}", size)
        tried.append((200.0, f"Make the case {more:.0f} mm taller", higher))
    found = []
    for effort, words, made in tried:
        left = clashes(space_of(made, catalogue))
        if len(left) < before and not any({clash.one, clash.other} == {row.one, row.other} for row in left):
            found.append((effort, Room(words, made, len(left))))
    return tuple(room for _effort, room in sorted(found, key=lambda row: row[0]))


def _moves(build: Build, catalogue: Catalogue, space: Space, box: Box) -> list[tuple[float, str, Build]]:
    """The shortest move along each direction of the floor after which nothing is in its way."""
    found = []
    others = [each for each in space.boxes if each.id != box.id]
    for axis, (back, forth) in enumerate((("left", "right"), ("forward", "back"))):
        for sign, words in ((-1, back), (1, forth)):
            by = _shift(space, box, others, axis, sign)
            if by:
                name = "xy"[axis]
                made = with_body(build, catalogue, box.id, **{name: box.near[axis] + sign * by})
                found.append((by, f"Move {box.name} {by:.0f} mm {words}", made))
    return found


def _shift(space: Space, box: Box, others: Sequence[Box], axis: int, sign: int) -> float:
    """Whole mm to the nearest free place in a direction, 0 where there is none."""
    by = 0.0
    for _ in range(len(others) + 2):
        step = [0.0, 0.0, 0.0]
        step[axis] = sign * by
        here = box.moved((step[0], step[1], step[2]))
        if here.near[axis] < -TOUCH_MM or here.far[axis] > space.inner[axis] + TOUCH_MM:
            inside = -box.near[axis] if sign > 0 else box.far[axis] - space.inner[axis]
            if by >= inside > 0 or inside <= 0:
                return 0.0
            by = float(-(-inside // 1))
            continue
        hit = [each for each in others if min(overlap(here, each)) > TOUCH_MM]
        if not hit:
            return by
        need = max((each.far[axis] - box.near[axis]) if sign > 0 else (box.far[axis] - each.near[axis]) for each in hit)
        by = max(by + _STEP, float(-(-(need - TOUCH_MM / 2) // 1)))
    return 0.0


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
