"""Drawings to print at scale: what each button does, to lie under the acrylic; labels for the wires; a card for guests.

SVG 1.1 with lengths in mm, so that 100 % on the printer is the panel's own size.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from html import escape

from kyklon.base.shown import visible
from kyklon.catalogue.system_records import System
from kyklon.model.controls import Control, Layout, Seat
from kyklon.operations.controls.hookup import Hookup, chosen
from kyklon.operations.controls.wiring import Harness

_FONT = "font-family='sans-serif'"
PAPER = (210.0, 297.0)  # mm, ISO 216 A4
_CROSS = 3.0  # mm, half a mark for the drill


def _text(x: float, y: float, size: float, words: str, *, middle: bool = True, bold: bool = False) -> str:
    anchor = " text-anchor='middle'" if middle else ""
    weight = " font-weight='600'" if bold else ""
    return (
        f"<text x='{x:.1f}' y='{y:.1f}' font-size='{size:.1f}' {_FONT}{anchor}{weight}>{escape(visible(words))}</text>"
    )


def _svg(width: float, height: float, body: Sequence[str]) -> str:
    head = (
        f"<svg xmlns='http://www.w3.org/2000/svg' width='{width:g}mm' height='{height:g}mm' "
        f"viewBox='0 0 {width:g} {height:g}'>"
    )
    return "\n".join([head, f"<rect width='{width:g}' height='{height:g}' fill='white'/>", *body, "</svg>"]) + "\n"


def _ruler(width: float, height: float) -> str:
    """A line of 50 mm to check the printer's scale with."""
    x, y = width - 56, height - 5
    return (
        f"<path d='M{x:.1f} {y:.1f} h50 M{x:.1f} {y - 2:.1f} v4 M{x + 50:.1f} {y - 2:.1f} v4' stroke='black' "
        f"stroke-width='0.2' fill='none'/>" + _text(x + 25, y - 2, 2.6, "50 mm: check before you cut")
    )


def words_on(system: System, places: Mapping[str, str], switch: str) -> str:
    """What a switch does in a system, '' for nothing."""
    return " / ".join(each.label for each in system.inputs if places.get(each.id) == switch)


def _hole(control: Control) -> str:
    at = f"cx='{control.x:g}' cy='{control.y:g}' r='{control.bore / 2:g}'"
    return f"<circle {at} fill='none' stroke='black' stroke-width='0.2'/>"


def legend(hookup: Hookup, system: System, player: int = 1, game: str = "") -> str:
    """A seat's board at scale with what each button does in a system."""
    seat = hookup.layout.seats[player - 1]
    places = chosen(hookup.settings, system, game)
    body = [
        f"<rect x='0.2' y='0.2' width='{seat.width_mm - 0.4:g}' height='{seat.height_mm - 0.4:g}' fill='none' "
        "stroke='black' stroke-width='0.2'/>"
    ]
    title = f"{system.name}, {game}" if game else system.name
    body.append(_text(6, seat.height_mm - 4, 4, f"{title} · seat {player}", middle=False, bold=True))
    for control in seat.controls:
        body.append(_hole(control))
        body.append(
            f"<path d='M{control.x - _CROSS:g} {control.y:g} h{2 * _CROSS:g} M{control.x:g} "
            f"{control.y - _CROSS:g} v{2 * _CROSS:g}' stroke='black' stroke-width='0.1'/>"
        )
        if control.kind in ("lever", "spinner", "trackball"):
            continue
        words = words_on(system, places, control.id)
        if words:
            size = 4.0 if len(words) < 9 else 3.2
            body.append(_text(control.x, control.y + control.bore / 2 + 4.6, size, words))
    body.append(_ruler(seat.width_mm, seat.height_mm))
    return _svg(seat.width_mm, seat.height_mm, body)


def template(layout: Layout, player: int = 1) -> str:
    """A seat's drill template at scale: bores with crosses and diameters."""
    seat: Seat = layout.seats[player - 1]
    body = [
        f"<rect x='0.2' y='0.2' width='{seat.width_mm - 0.4:g}' height='{seat.height_mm - 0.4:g}' fill='none' "
        "stroke='black' stroke-width='0.2'/>"
    ]
    for control in seat.controls:
        body.append(_hole(control))
        body.append(
            f"<path d='M{control.x - 2 * _CROSS:g} {control.y:g} h{4 * _CROSS:g} M{control.x:g} "
            f"{control.y - 2 * _CROSS:g} v{4 * _CROSS:g}' stroke='black' stroke-width='0.15'/>"
        )
        body.append(_text(control.x, control.y + control.bore / 2 + 4, 3, f"{control.label} · {control.bore:g} mm"))
    body.append(_ruler(seat.width_mm, seat.height_mm))
    return _svg(seat.width_mm, seat.height_mm, body)


def labels(made: Harness) -> str:
    """Labels for the wires at 1:1, two of each (one an end), on A4: number, switch, terminal, length."""
    wide, high, gap = 32.0, 9.0, 2.0
    across = int((PAPER[0] - 10) // (wide + gap))
    body = []
    rows = [(number, run) for number, run in enumerate(made.runs, 1) for _end in range(2)]
    per_page = across * int((PAPER[1] - 20) // (high + gap))
    pages = max(1, -(-len(rows) // per_page))
    for index, (number, run) in enumerate(rows):
        page, place = divmod(index, per_page)
        x, y = 5 + place % across * (wide + gap), 8 + place // across * (high + gap) + page * PAPER[1]
        body.append(
            f"<rect x='{x:.1f}' y='{y:.1f}' width='{wide}' height='{high}' fill='none' stroke='black' "
            "stroke-width='0.15'/>"
        )
        body.append(_text(x + 1.5, y + 3.8, 3, f"{number}  {run.control}", middle=False, bold=True))
        body.append(_text(x + 1.5, y + 7.6, 2.6, f"→ {run.printed} · {run.colour} · {run.length:.0f} mm", middle=False))
    body.append(_ruler(PAPER[0], pages * PAPER[1]))
    return _svg(PAPER[0], pages * PAPER[1], body)


def guest_card(hookup: Hookup, systems: Sequence[System]) -> str:
    """A card for guests: what does what in each system, and how a game is left."""
    settings = hookup.settings
    seat = hookup.layout.seats[0]
    rows = []
    for system in systems:
        places = chosen(settings, system)
        plain = [control for control in seat.controls if control.kind not in ("lever", "spinner", "trackball")]
        told = [f"{each.label}: {words}" for each in plain if (words := words_on(system, places, each.id))]
        rows.append((system.name, told))
    height = 26.0 + sum(7 + 5 * -(-len(told) // 4) for _name, told in rows)
    body = [_text(8, 12, 6, "Controls", middle=False, bold=True)]
    leave = next((key for key in settings.hotkeys if key.action == "leave"), None)
    if leave is not None:
        names = {control.id: control.label for control in seat.controls}
        hold, press = names.get(settings.hotkey, settings.hotkey), names.get(leave.control, leave.control)
        body.append(_text(8, 19, 4, f"To quit a game: hold {hold}, press {press}.", middle=False))
    y = 27.0
    for name, told in rows:
        body.append(_text(8, y, 4, name, middle=False, bold=True))
        for index, words in enumerate(told):
            body.append(_text(8 + index % 4 * 34, y + 5 + index // 4 * 5, 3.2, words, middle=False))
        y += 7 + 5 * -(-len(told) // 4)
    return _svg(148.0, max(105.0, height), body)
