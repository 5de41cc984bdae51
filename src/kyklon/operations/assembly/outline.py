"""A board's own shape: its size, mounting holes and sockets, turned as it lies. mm from its left front corner."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal, cast

from kyklon.catalogue.records import Board
from kyklon.model.build import Build

Edge = Literal["front", "right", "back", "left"]
_ROUND: tuple[Edge, ...] = ("front", "right", "back", "left")  # each becomes the next one when turned to the left
_LEAST = 5.0  # mm: below that it is no board

# mm across, high and long of a straight plug with its strain relief, CP; measured plugs differ by a few mm
_PLUGS: Mapping[str, tuple[float, float, float]] = {
    "USB-A": (16.0, 8.0, 36.0),
    "USB-B": (12.0, 11.0, 34.0),
    "USB-C": (12.0, 7.0, 26.0),
    "Micro-USB B": (11.0, 8.0, 26.0),
    "HDMI A": (21.0, 12.0, 40.0),
    "HDMI C": (16.0, 9.0, 34.0),
    "HDMI D": (11.0, 8.0, 30.0),
    "3.5 mm jack": (10.0, 10.0, 30.0),
    "barrel": (11.0, 11.0, 28.0),
}
_PLUG = (16.0, 12.0, 36.0)  # of any other
_ANGLED = 16.0  # mm long, whatever the plug: it leaves along the edge, CP
BEND = 4.0  # cable diameters: least radius of a bend that is made once, CP
_CABLE_MM = 4.5  # outer diameter of a cable, CP


@dataclass(frozen=True)
class Socket:
    """at: mm along its edge from the left or front end."""

    port: str
    edge: Edge
    at: float


@dataclass(frozen=True)
class Outline:
    size: tuple[float, float, float]
    holes: tuple[tuple[float, float], ...]
    hole_mm: float
    sockets: tuple[Socket, ...]

    def turned(self, degrees: int) -> Outline:
        """The same board turned to the left, seen from above. degrees: 0, 90, 180 or 270."""
        found = self
        for _ in range(degrees // 90 % 4):
            wide, deep, high = found.size
            holes = tuple((deep - y, x) for x, y in found.holes)
            sockets = tuple(_turned(socket, found) for socket in found.sockets)
            found = Outline((deep, wide, high), holes, found.hole_mm, sockets)
        return found


def _turned(socket: Socket, board: Outline) -> Socket:
    edge = _ROUND[(_ROUND.index(socket.edge) + 1) % 4]
    # front and back run to the right, which becomes to the back; left and right run to the back, which becomes left
    at = socket.at if socket.edge in ("front", "back") else board.size[1] - socket.at
    return Socket(socket.port, edge, at)


def outline_of(board: Board) -> Outline | None:
    """What is known of a board's shape; None where nobody gave its size."""
    try:
        wide, deep, high = (float(value) for value in board.outline.replace("×", "x").split("x"))
    except ValueError:
        return None
    if min(wide, deep) < _LEAST or high <= 0:
        return None
    pairs = [text.split(",") for text in board.holes.split(";") if text.strip()]
    holes = tuple((float(x), float(y)) for x, y in pairs)
    known = {port.id for port in board.ports}
    rows = [text.split() for text in board.sockets.split(";") if text.strip()]
    sockets = tuple(Socket(port, cast(Edge, edge), float(at)) for port, edge, at in rows if port in known)
    return Outline((wide, deep, high), holes, board.hole_mm, sockets)


def used(build: Build, board: Board) -> tuple[str, ...]:
    """Ports of the board that a plug goes into."""
    ends = {end for link in build.links for end in link.ends}
    return tuple(port.id for port in board.ports if f"board.{port.id}" in ends)


def plug_mm(connector: str, *, angled: bool) -> tuple[float, float, float]:
    """Room that a plug takes at a socket: mm across, high, and out from the board's edge with the bend of its cable."""
    across, high, long = _PLUGS.get(connector, _PLUG)
    bend = 0.0 if angled else BEND * _CABLE_MM
    return across, high, (_ANGLED if angled else long) + bend


def plug_long(connector: str) -> float:
    """mm from a socket to the end of a straight plug in it, without the bend of its cable."""
    return _PLUGS.get(connector, _PLUG)[2]
