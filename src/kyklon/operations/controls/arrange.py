"""Laying out a panel: buttons from hand measures, and edits of a layout by hand. Lengths in mm, turns in degrees."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from kyklon.catalogue.control_records import Arrangement
from kyklon.model.controls import MOST_SEATS, Control, ControlKind, Layout, Seat


@dataclass(frozen=True)
class Hand:
    """A hand by its size. length: wrist to the tip of the middle finger; breadth: across the four fingers."""

    name: str
    length: float
    breadth: float


# DIN 33402-2: hand length and breadth without the thumb, 5th percentile of women, 50th of both, 95th of men (mem)
HANDS = (Hand("small", 159.0, 72.0), Hand("middle", 181.0, 83.0), Hand("large", 201.0, 93.0))
BORES: dict[ControlKind, float] = {  # CP: 24 mm for small buttons and levers, 28 to 30 mm for play buttons
    "lever": 24.0,
    "button": 30.0,
    "start": 24.0,
    "select": 24.0,
    "coin": 24.0,
    "side": 28.0,
    "spinner": 30.0,
    "trackball": 76.0,
}
NAMES: dict[ControlKind, str] = {
    "lever": "Lever",
    "button": "Button",
    "start": "Start",
    "select": "Select",
    "coin": "Coin",
    "side": "Side button",
    "spinner": "Spinner",
    "trackball": "Trackball",
}
_PITCH_OF_BREADTH = 0.45  # of a hand's breadth from button to button: four fingers lie over it, with room; CP
_LEVER_OF_BREADTH = 1.2  # of a hand's breadth from the lever to the first button: both hands side by side; CP
_NUT = 8.0  # mm that a nut is wider than the bore of its button, with room to turn it; CP
_EDGE = 36.0  # mm from the small buttons to the edges: half a nut and the wall of the box, CP


def layout_seat(arrangement: Arrangement, hand: Hand, width: float, height: float, *, bore: float = 30.0) -> Seat:
    """A seat's board with an arrangement in its middle, the lever on the left; deeper than `height` where a large hand
    needs it. bore: of the play buttons, mm."""
    pitch = max(_PITCH_OF_BREADTH * hand.breadth, bore + _NUT)
    reach = _LEVER_OF_BREADTH * hand.breadth if arrangement.lever else 0.0
    rows, columns = arrangement.rows, arrangement.columns
    block = (columns - 1) * pitch
    left = (width - reach - block) / 2
    half = (rows - 1) * pitch / 2
    drops = [each * pitch for each in arrangement.drop[:columns]] or [0.0]
    far = _EDGE + (bore + 24.0) / 2 + _NUT + half - min(drops)  # clear of the small buttons' nuts
    below = _EDGE + (bore - 24.0) / 2 + half + max(drops)  # clear of the box's near wall
    height = max(height, math.ceil(far + below))
    middle = min(max(height / 2 + 12.0, far), height - below)
    controls: list[Control] = []
    if arrangement.lever:
        controls.append(Control(id="lever", label="Lever", kind="lever", x=left, y=round(middle, 1), bore=24))
    number = 0
    for row in range(rows):
        for column in range(columns):
            number += 1
            drop = arrangement.drop[column] if column < len(arrangement.drop) else 0.0
            x = left + reach + column * pitch + row * arrangement.lean * pitch
            y = middle + (rows - 1) * pitch / 2 - row * pitch + drop * pitch
            controls.append(
                Control(id=f"b{number}", label=str(number), kind="button", x=round(x, 1), y=round(y, 1), bore=bore)
            )
    for place, kind in enumerate(arrangement.small):
        x = width - _EDGE - (len(arrangement.small) - 1 - place) * 44.0
        controls.append(Control(id=kind, label=NAMES[kind], kind=kind, x=round(x, 1), y=_EDGE, bore=24))
    if arrangement.sides:
        for name, label, x in (("side-left", "Left side", 0.0), ("side-right", "Right side", width)):
            controls.append(Control(id=name, label=label, kind="side", x=x, y=round(height * 0.6, 1), bore=28))
    controls = [control.model_copy(update={"x": round(control.x, 1)}) for control in controls]
    return Seat(x=0, y=0, width_mm=width, height_mm=height, controls=tuple(controls))


def table_of(seat: Seat, seats: int, *, facing: bool, glass: float = 320.0) -> Layout:
    """A table with so many copies of a seat: side by side, or round a glass where they face one another.

    glass: mm of free table between two facing boards.
    """
    wide, high = seat.width_mm, seat.height_mm
    if not facing:
        placed = [seat.model_copy(update={"x": wide * number, "y": 0.0, "turn": 0.0}) for number in range(seats)]
        return Layout(width_mm=wide * seats, height_mm=high, seats=tuple(placed))
    side = max(wide, glass) if seats > 2 else wide
    total_w = side + (2 * high if seats > 2 else 0.0)
    total_h = (side if seats > 2 else glass) + 2 * high
    x0, y0 = (total_w - wide) / 2, (total_h - wide) / 2
    spots = (
        (x0, total_h - high, 0.0),
        (total_w - x0, high, 180.0),
        (high, y0, 90.0),
        (total_w - high, total_h - y0, 270.0),
    )
    placed = [seat.model_copy(update={"x": x, "y": y, "turn": turn}) for x, y, turn in spots[:seats]]
    return Layout(width_mm=total_w, height_mm=total_h, seats=tuple(placed), facing=seats > 1)


# --- edits by hand -----------------------------------------------------------------------------------------------


def with_seat(layout: Layout, player: int, seat: Seat) -> Layout:
    seats = list(layout.seats)
    seats[player - 1] = seat
    return layout.model_copy(update={"seats": tuple(seats)})


def with_control(layout: Layout, player: int, control: Control) -> Layout:
    """The layout with a control put in the place of the one of that id, or added. Raises ValueError where it lies
    outside the board."""
    seat = layout.seats[player - 1]
    if not (0 <= control.x <= seat.width_mm and 0 <= control.y <= seat.height_mm):
        raise ValueError(f"{control.label} would be outside the {seat.width_mm:g} × {seat.height_mm:g} mm board")
    kept = [each for each in seat.controls if each.id != control.id]
    place = next((index for index, each in enumerate(seat.controls) if each.id == control.id), len(kept))
    kept.insert(place, control)
    return with_seat(layout, player, seat.model_copy(update={"controls": tuple(kept)}))


def added(layout: Layout, player: int, kind: ControlKind, x: float, y: float) -> tuple[Layout, str]:
    """The layout with a new control, and its id."""
    seat = layout.seats[player - 1]
    taken = {each.id for each in seat.controls}
    if kind == "button":
        number = next(n for n in range(1, 99) if f"b{n}" not in taken)
        name, label = f"b{number}", str(number)
    elif kind not in taken:
        name, label = kind, NAMES[kind]
    else:
        number = next(n for n in range(2, 99) if f"{kind}-{n}" not in taken)
        name, label = f"{kind}-{number}", f"{NAMES[kind]} {number}"
    control = Control(id=name, label=label, kind=kind, x=round(x, 1), y=round(y, 1), bore=BORES[kind])
    return with_control(layout, player, control), name


def removed(layout: Layout, player: int, ids: Iterable[str]) -> Layout:
    seat, gone = layout.seats[player - 1], set(ids)
    kept = tuple(control for control in seat.controls if control.id not in gone)
    return with_seat(layout, player, seat.model_copy(update={"controls": kept}))


def moved(layout: Layout, player: int, ids: Iterable[str], dx: float, dy: float) -> Layout:
    """The layout with some controls moved together, as far as the board lets all of them go."""
    seat, chosen = layout.seats[player - 1], set(ids)
    own = [each for each in seat.controls if each.id in chosen]
    if not own:
        return layout
    dx = min(max(dx, -min(each.x for each in own)), seat.width_mm - max(each.x for each in own))
    dy = min(max(dy, -min(each.y for each in own)), seat.height_mm - max(each.y for each in own))
    return _each(layout, player, chosen, lambda control: {"x": control.x + dx, "y": control.y + dy})


def aligned(layout: Layout, player: int, ids: Sequence[str], along: str) -> Layout:
    """'row': one y, the mean; 'column': one x; 'even': the same distance from each to the next, first and last stay."""
    seat = layout.seats[player - 1]
    own = [each for each in seat.controls if each.id in set(ids)]
    if len(own) < 2:
        return layout
    if along == "row":
        mean = sum(each.y for each in own) / len(own)
        return _each(layout, player, set(ids), lambda _control: {"y": mean})
    if along == "column":
        mean = sum(each.x for each in own) / len(own)
        return _each(layout, player, set(ids), lambda _control: {"x": mean})
    own.sort(key=lambda each: (each.x, each.y))
    first, last = own[0], own[-1]
    steps = {
        each.id: {
            "x": first.x + (last.x - first.x) * index / (len(own) - 1),
            "y": first.y + (last.y - first.y) * index / (len(own) - 1),
        }
        for index, each in enumerate(own)
    }
    return _each(layout, player, set(ids), lambda control: steps[control.id])


def mirrored(layout: Layout, player: int) -> Layout:
    """A seat for the other hand: the lever on the right."""
    seat = layout.seats[player - 1]
    return _each(layout, player, {control.id for control in seat.controls}, lambda each: {"x": seat.width_mm - each.x})


def copied(layout: Layout, player: int, to: int) -> Layout:
    """A seat's controls on another seat's board, which takes its size too; a new seat where there is none yet.

    Raises ValueError beyond four seats.
    """
    seat = layout.seats[player - 1]
    if to <= len(layout.seats):
        other = layout.seats[to - 1]
        made = other.model_copy(
            update={"controls": seat.controls, "width_mm": seat.width_mm, "height_mm": seat.height_mm}
        )
        return with_seat(layout, to, made)
    if len(layout.seats) >= MOST_SEATS:
        raise ValueError(f"A table has at most {MOST_SEATS} seats")
    fresh = table_of(
        seat.model_copy(update={"x": 0.0, "y": 0.0, "turn": 0.0}), len(layout.seats) + 1, facing=layout.facing
    )
    seats = (*layout.seats, fresh.seats[len(layout.seats)])
    placed = tuple(
        each.model_copy(update={"x": spot.x, "y": spot.y, "turn": spot.turn})
        for each, spot in zip(seats, fresh.seats, strict=True)
    )
    return fresh.model_copy(update={"seats": placed, "facing": layout.facing})


def turned(layout: Layout, player: int, turn: float) -> Layout:
    """A seat turned about the middle of its board."""
    seat = layout.seats[player - 1]
    cx, cy = seat.on_table(seat.width_mm / 2, seat.height_mm / 2)
    spun = seat.model_copy(update={"x": 0.0, "y": 0.0, "turn": turn % 360})
    nx, ny = spun.on_table(seat.width_mm / 2, seat.height_mm / 2)
    return with_seat(layout, player, spun.model_copy(update={"x": round(cx - nx, 2), "y": round(cy - ny, 2)}))


def _each(layout: Layout, player: int, ids: set[str], change: Callable[[Control], dict[str, float]]) -> Layout:
    seat = layout.seats[player - 1]
    controls = tuple(
        control.model_copy(update={name: round(value, 1) for name, value in change(control).items()})
        if control.id in ids
        else control
        for control in seat.controls
    )
    return with_seat(layout, player, seat.model_copy(update={"controls": controls}))


def distance(one: Control, other: Control) -> float:
    return math.hypot(one.x - other.x, one.y - other.y)
