"""What must be in reach when the case is closed: the card, and a socket for a stick."""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.model.build import Build, edited
from kyklon.model.casework import Opening
from kyklon.operations.assembly.outline import Edge
from kyklon.operations.assembly.space import inner_of, shape_of, space_of

CARD_GAP_MM = 12.0  # mm from the board's edge to the wall's inner side across which fingers still pull a card, CP
_CARD = (24.0, 10.0)  # mm across and high of an opening for a card and two finger tips, CP


@dataclass(frozen=True)
class Reach:
    """reached: None where nobody measured. opening: what would let it out, None where it lies too far inside."""

    reached: bool | None
    words: str
    opening: Opening | None = None


def card_reach(build: Build, catalogue: Catalogue) -> Reach:
    """Whether the card can be changed with the case closed."""
    inner, measured = inner_of(build, catalogue)
    body = next((body for body in build.assembly.bodies if body.id == "board"), None)
    board = catalogue.find(Board, build.part("board"))
    if not measured or board is None or space_of(build, catalogue).box("board") is None:
        return Reach(None, "Measure the case to see whether the card can be changed when it is closed.")
    if body is None:
        return Reach(None, f"Place the {board.name} to see whether the card can be changed when it is closed.")
    shape = shape_of(build, catalogue, body)
    slots = {port.id for port in board.ports if port.signal == "SD"}
    socket = next((socket for socket in shape.sockets if socket.port in slots), None) if shape is not None else None
    if socket is None:
        return Reach(None, f"Where the card sits on the {board.name} is not known: type it on the shelf.")
    gap = {
        "front": body.y,
        "back": inner[1] - body.y - body.deep,
        "left": body.x,
        "right": inner[0] - body.x - body.wide,
    }[socket.edge]
    along = socket.at + (body.x if socket.edge in ("front", "back") else body.y)
    up = max(body.z, 0.0)
    if gap > CARD_GAP_MM:
        words = f"The card is {gap:.0f} mm inside the {socket.edge} wall, out of reach when the case is closed."
        return Reach(False, words)
    if any(_shows(opening, socket.edge, along, up) for opening in build.assembly.openings):
        return Reach(True, f"The card can be changed through the {socket.edge} wall.")
    return Reach(
        False,
        f"No opening in the {socket.edge} wall, {along:.0f} mm along, lets the card out.",
        _slot(build, socket.edge, along, up),
    )


def _shows(opening: Opening, edge: Edge, along: float, up: float) -> bool:
    fits = opening.wide >= _CARD[0] - 2 and opening.tall >= _CARD[1] - 2
    near = abs(opening.along - along) <= max(opening.wide - _CARD[0], 0) / 2 + 2
    high = abs(opening.up - up) <= opening.tall / 2
    return opening.purpose in ("card", "plug") and opening.wall == edge and fits and near and high


def _slot(build: Build, edge: Edge, along: float, up: float) -> Opening:
    names = {opening.id for opening in build.assembly.openings}
    number = next(n for n in range(1, len(names) + 2) if f"opening-{n}" not in names)
    return Opening(
        id=f"opening-{number}",
        name="Card",
        wall=edge,
        along=round(along, 1),
        up=round(max(up, _CARD[1] / 2), 1),
        wide=_CARD[0],
        high=_CARD[1],
        purpose="card",
    )


def with_opening(build: Build, opening: Opening) -> Build:
    """A build with one more opening. Raises ValueError for an id that is taken."""
    if any(other.id == opening.id for other in build.assembly.openings):
        raise ValueError(f"There is an opening {opening.id!r} already")
    return edited(
        build, "assembly.openings", [*(row.model_dump() for row in build.assembly.openings), opening.model_dump()]
    )


def changed_opening(build: Build, opening: Opening) -> Build:
    """A build in which the opening of that id is another. Raises ValueError for one that is not there."""
    rows = build.assembly.openings
    if not any(row.id == opening.id for row in rows):
        raise ValueError(f"There is no opening {opening.id!r}")
    made = [opening if row.id == opening.id else row for row in rows]
    return edited(build, "assembly.openings", [row.model_dump() for row in made])


def without_opening(build: Build, name: str) -> Build:
    """A build without an opening. Raises ValueError for one that is not there."""
    rows = [row.model_dump() for row in build.assembly.openings if row.id != name]
    if len(rows) == len(build.assembly.openings):
        raise ValueError(f"There is no opening {name!r}")
    return edited(build, "assembly.openings", rows)
