"""Whether a panel can be built and played: bores, nuts and bodies, walls, lever travel, hands, neighbours."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import combinations

from kyklon.model.controls import Control, ControlKind, Layout, Seat
from kyklon.operations.controls.arrange import HANDS, Hand

WEB = 4.0  # mm of wood that must stay between two bores, CP
WALL = 18.0  # mm: thickness of the box's sides under the board, CP
_NUT: dict[ControlKind, float] = {  # mm that the nut or plate is wider than the bore, CP
    "button": 7.0,
    "start": 7.0,
    "select": 7.0,
    "coin": 7.0,
    "side": 7.0,
    "spinner": 14.0,
    "trackball": 40.0,
}
LEVER_PLATE = (96.0, 54.0)  # mm across and along the board, under it; CP
LEVER_TRAVEL = 26.0  # mm that the ball moves to each side at its height, CP
LEVER_BALL = 35.0  # mm diameter, CP
KNUCKLES = 10.0  # mm that a fist on the ball needs, CP
_TOUCH = 0.5  # mm that two boards may overlap in a drawing and still only touch, CP
_MOST_TOLD = 12  # pairs of bores of two seats that are told
_CAP = 2.0  # mm that a button's rim is wider than its bore, on each side
_SPAN = 1.25  # of the hand's breadth: index to little finger without stretching, CP
SHOULDERS = 530.0  # mm across the shoulders, 95th percentile of men, DIN 33402-2 (mem)
_ELBOW = 300.0  # mm from the board's near edge to the elbow, CP
WRIST = 20.0  # degrees that a wrist may be bent outwards for long, ISO 11228-3 takes more as awkward (mem)


@dataclass(frozen=True)
class Check:
    """One measure. where: seat and control ids. measured and bound in unit; ok: whether it holds."""

    code: str
    title: str
    where: tuple[int, tuple[str, ...]]
    measured: float
    bound: float
    unit: str
    ok: bool
    hard: bool  # whether it cannot be built, else it is only worse to play

    @property
    def words(self) -> str:
        least = "at least" if (self.measured >= self.bound) == self.ok else "at most"
        return f"{self.title}: {self.measured:.0f} {self.unit}, {least} {self.bound:.0f} {self.unit}"


def checks(layout: Layout, hand: Hand = HANDS[1]) -> tuple[Check, ...]:
    """Every measure of every seat, those that do not hold first."""
    found: list[Check] = []
    for player, seat in enumerate(layout.seats, 1):
        found += [*_bores(player, seat), *_walls(player, seat), *_lever(player, seat), *_hands(player, seat, hand)]
    found += [*_neighbours(layout), *_across(layout)]
    return tuple(sorted(found, key=lambda each: (each.ok, not each.hard)))


def _away(one: Control, other: Control) -> float:
    return math.hypot(one.x - other.x, one.y - other.y)


def _bores(player: int, seat: Seat) -> Iterator[Check]:
    """The closest pair of holes and of nuts, and every other pair that is too close."""
    pairs = list(combinations(seat.controls, 2))
    nutted = [pair for pair in pairs if "lever" not in (pair[0].kind, pair[1].kind)]
    yield from _rooms("web", "material between two holes", player, pairs, WEB, nuts=False)
    yield from _rooms("nuts", "clearance between two nuts", player, nutted, 0.0, nuts=True)


def _rooms(
    code: str, title: str, player: int, pairs: list[tuple[Control, Control]], bound: float, *, nuts: bool
) -> Iterator[Check]:
    def room(pair: tuple[Control, Control]) -> float:
        grown = [each.bore + (_NUT.get(each.kind, 0.0) if nuts else 0.0) for each in pair]
        return _away(*pair) - sum(grown) / 2

    for index, pair in enumerate(sorted(pairs, key=room)):
        free = room(pair)
        if index == 0 or free < bound:
            yield Check(code, title, (player, (pair[0].id, pair[1].id)), free, bound, "mm", free >= bound, True)


def _walls(player: int, seat: Seat) -> Iterator[Check]:
    """The control that lies nearest to a side of the box."""
    inside = [each for each in seat.controls if each.kind != "side"]
    if not inside:
        return

    def room(control: Control) -> float:
        wide, deep = LEVER_PLATE if control.kind == "lever" else (control.bore + _NUT.get(control.kind, 0.0),) * 2
        return min(
            control.x - wide / 2,
            seat.width_mm - control.x - wide / 2,
            control.y - deep / 2,
            seat.height_mm - control.y - deep / 2,
        )

    title = "clearance to the panel edge, for nut or plate"
    for index, control in enumerate(sorted(inside, key=room)):
        free = room(control)
        if index == 0 or free < WALL:
            yield Check("wall", title, (player, (control.id,)), free, WALL, "mm", free >= WALL, True)


def _lever(player: int, seat: Seat) -> Iterator[Check]:
    """The lever's plate and its ball against the buttons."""
    for lever in (control for control in seat.controls if control.kind == "lever"):
        others = [control for control in seat.controls if control.kind not in ("lever", "side")]
        if not others:
            continue

        def plate(other: Control, lever: Control = lever) -> float:
            nut = (other.bore + _NUT.get(other.kind, 0.0)) / 2
            dx = max(0.0, abs(other.x - lever.x) - LEVER_PLATE[0] / 2)
            dy = max(0.0, abs(other.y - lever.y) - LEVER_PLATE[1] / 2)
            return math.hypot(dx, dy) - nut

        near = min(others, key=plate)
        yield Check(
            "plate",
            "clearance from the joystick's plate to a nut",
            (player, (lever.id, near.id)),
            plate(near),
            0.0,
            "mm",
            plate(near) >= 0,
            True,
        )
        near = min(others, key=lambda other: _away(lever, other) - other.bore / 2)
        room = _away(lever, near) - near.bore / 2 - _CAP - LEVER_TRAVEL - LEVER_BALL / 2
        title = "clearance from the joystick ball at full tilt to a button"
        yield Check("travel", title, (player, (lever.id, near.id)), room, KNUCKLES, "mm", room >= KNUCKLES, False)


def _hands(player: int, seat: Seat, hand: Hand) -> Iterator[Check]:
    """The span of the play buttons, and how far the wrists bend."""
    buttons = [control for control in seat.controls if control.kind == "button"]
    if len(buttons) > 1:
        rows: dict[int, list[Control]] = {}
        for button in buttons:
            rows.setdefault(round(button.y / 25), []).append(button)
        widest = max(rows.values(), key=lambda row: max(c.x for c in row) - min(c.x for c in row))
        span = max(c.x for c in widest) - min(c.x for c in widest)
        yield Check(
            "span",
            f"span of a row, for a {hand.name} hand",
            (player, tuple(each.id for each in widest)),
            span,
            _SPAN * hand.breadth,
            "mm",
            span <= _SPAN * hand.breadth,
            False,
        )
    shoulder = 0.33 * SHOULDERS  # elbows hang a third of the shoulders' breadth from the middle, CP
    levers = [control for control in seat.controls if control.kind == "lever"][:1]
    for title, group in (("the joystick", levers), ("the buttons", buttons)):
        if not group:
            continue
        x = sum(each.x for each in group) / len(group)  # the middle of the hand
        y = sum(each.y for each in group) / len(group)
        side = -1 if x < seat.width_mm / 2 else 1
        across = x - (seat.width_mm / 2 + side * shoulder)
        angle = abs(math.degrees(math.atan2(across, seat.height_mm - y + _ELBOW)))
        ids = tuple(each.id for each in group)
        yield Check("wrist", f"bend of the wrist at {title}", (player, ids), angle, WRIST, "°", angle <= WRIST, False)


Corners = tuple[tuple[float, float], ...]


def _rectangle(seat: Seat, x: float, y: float, wide: float, deep: float) -> Corners:
    """The corners on the table of a rectangle round a point of a seat's board."""
    return tuple(seat.on_table(x + a * wide / 2, y + b * deep / 2) for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1)))


def _apart(one: Corners, other: Corners) -> float:
    """How far two rectangles are apart in mm; below zero for how deep they lie in each other (separating axes,
    Gottschalk, Lin and Manocha 1996)."""
    gaps = []
    for corners in (one, other):
        for (ax, ay), (bx, by) in ((corners[0], corners[1]), (corners[1], corners[2])):
            length = math.hypot(bx - ax, by - ay)
            nx, ny = (by - ay) / length, (ax - bx) / length
            first = [x * nx + y * ny for x, y in one]
            second = [x * nx + y * ny for x, y in other]
            gaps.append(max(min(second) - max(first), min(first) - max(second)))
    return max(gaps)


def _across(layout: Layout) -> Iterator[Check]:
    """What belongs to different seats, or to several levers of one: boards, bores and the plates under them."""
    numbered = list(enumerate(layout.seats, 1))
    for (one, first), (other, second) in combinations(numbered, 2):
        boards = [
            _rectangle(seat, seat.width_mm / 2, seat.height_mm / 2, seat.width_mm, seat.height_mm)
            for seat in (first, second)
        ]
        apart = _apart(*boards)
        if apart < -_TOUCH:
            title = f"gap between the panels of seats {one} and {other}"
            yield Check("boards", title, (one, ()), apart, 0.0, "mm", False, True)
        pairs = [(a, b) for a in first.controls for b in second.controls if "side" not in (a.kind, b.kind)]

        def room(pair: tuple[Control, Control], first: Seat = first, second: Seat = second) -> float:
            a, b = first.on_table(pair[0].x, pair[0].y), second.on_table(pair[1].x, pair[1].y)
            return math.hypot(a[0] - b[0], a[1] - b[1]) - (pair[0].bore + pair[1].bore) / 2

        for pair in sorted(pairs, key=room)[:_MOST_TOLD]:
            if room(pair) < WEB:
                title = f"wood between a bore of seat {one} and {pair[1].label} of seat {other}"
                yield Check("web", title, (one, (pair[0].id,)), room(pair), WEB, "mm", False, True)
    levers = [
        (number, seat, control) for number, seat in numbered for control in seat.controls if control.kind == "lever"
    ]
    for (one, first, a), (other, second, b) in combinations(levers, 2):
        apart = _apart(_rectangle(first, a.x, a.y, *LEVER_PLATE), _rectangle(second, b.x, b.y, *LEVER_PLATE))
        if apart < 0:
            title = (
                f"clearance between the joystick plates of seats {one} and {other}"
                if one != other
                else ("clearance between two joystick plates")
            )
            yield Check("plate", title, (one, (a.id,) if one != other else (a.id, b.id)), apart, 0.0, "mm", False, True)


def _neighbours(layout: Layout) -> Iterator[Check]:
    """Players who sit side by side."""
    for (one, first), (other, second) in combinations(enumerate(layout.seats, 1), 2):
        if abs((first.turn - second.turn) % 360) > 1:
            continue
        a, b = (seat.on_table(seat.width_mm / 2, seat.height_mm) for seat in (first, second))
        away = math.hypot(a[0] - b[0], a[1] - b[1])
        title = f"from seat {one} to seat {other}"
        yield Check("shoulders", title, (one, ()), away, SHOULDERS, "mm", away >= SHOULDERS, False)
