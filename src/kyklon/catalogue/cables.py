"""Cables in pieces: an extension, a panel socket, a plug adapter, one after the other."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise, product

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Cable
from kyklon.model.build import Link

MOST_PIECES = 5  # between two sockets; every joint costs contacts


def pieces_of(link: Link, catalogue: Catalogue) -> tuple[Cable, ...]:
    """The pieces of a connection; () where one of them is not known."""
    found = [catalogue.find(Cable, piece) for piece in link.pieces]
    return tuple(piece for piece in found if piece is not None) if all(found) else ()


def cable_of(link: Link, catalogue: Catalogue) -> Cable | None:
    """A connection's pieces as one cable; None where one is not known."""
    pieces = pieces_of(link, catalogue)
    return joined(pieces) if pieces else None


def joined(pieces: Sequence[Cable]) -> Cable:
    """Several pieces as one: lengths and resistances summed, what all of them carry, the thinnest wire of any."""
    first = pieces[0]
    if len(pieces) == 1:
        return first
    gauges = [piece.awg for piece in pieces]
    turned = orientation(pieces, "", "")
    ends = [(piece.ends[::-1] if turn else piece.ends) for piece, turn in zip(pieces, turned or (), strict=False)]
    return first.model_copy(
        update={
            "name": " + ".join(piece.name for piece in pieces),
            "ends": (ends[0][0], ends[-1][1]) if ends else (first.ends[0], pieces[-1].ends[1]),
            "signals": tuple(
                signal for signal in first.signals if all(signal in piece.signals for piece in pieces[1:])
            ),
            "length_m": sum(piece.length_m for piece in pieces),
            "awg": None if None in gauges else max(gauge for gauge in gauges if gauge is not None),
            "ties_sync": any(piece.ties_sync for piece in pieces),
            "sync_ohms": sum(piece.sync_ohms for piece in pieces),
            "contacts": next((piece.contacts for piece in pieces if piece.contacts), ()),
            "socket_end": False,
            "price": sum(piece.price for piece in pieces),
        }
    )


def orientation(pieces: Sequence[Cable], start: str, end: str) -> tuple[bool, ...] | None:
    """Which pieces are turned round so that each goes into the next, and the two outer ends into sockets of these
    connectors ('' for any); None where no way of turning them fits."""
    for turned in product((False, True), repeat=len(pieces)):
        sides = [_sides(piece, turn) for piece, turn in zip(pieces, turned, strict=True)]
        outer = (sides[0][0], sides[-1][1])
        if any(is_socket for _name, is_socket in outer):
            continue
        if not all(wanted in ("", name) for wanted, (name, _socket) in zip((start, end), outer, strict=True)):
            continue
        if all(one[0] == other[0] and one[1] != other[1] for (_a, one), (other, _b) in pairwise(sides)):
            return turned
    return None


def _sides(piece: Cable, turned: bool) -> tuple[tuple[str, bool], tuple[str, bool]]:
    """Its two ends: connector, and whether it is a socket."""
    sides = ((piece.ends[0], False), (piece.ends[1], piece.socket_end))
    return (sides[1], sides[0]) if turned else sides


def why_not_joined(pieces: Sequence[Cable], start: str, end: str) -> str:
    """Why these pieces do not lead from one connector to the other, '' when they do."""
    if len(pieces) > MOST_PIECES:
        return f"{len(pieces)} pieces are more than the {MOST_PIECES} that are joined."
    if orientation(pieces, start, end) is not None:
        return ""
    names = " + ".join(piece.name for piece in pieces)
    if len(pieces) == 1:
        piece = pieces[0]
        if piece.socket_end:
            return f"{names} ends in a {piece.ends[1]} socket: another piece must go into it."
        return f"{names} has the plugs {piece.ends[0]} and {piece.ends[1]}; {start} and {end} are needed."
    return f"{names} do not go into each other, or not into {start} and {end}."
