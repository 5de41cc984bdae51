"""What goes together in a plan: sockets and plugs with the cables between them, boards with images and cards."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from itertools import product

from kyklon.catalogue.cables import joined, why_not_joined
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Cable, Card, CataloguePart, Port
from kyklon.operations.assembly.electrics import awg_ohm_per_m
from kyklon.operations.assembly.power import CONTACT_OHM, contacts
from kyklon.operations.picture.chain import VIDEO_SIGNALS
from kyklon.operations.plan.connections import carries
from kyklon.operations.plan.wishes import Prices


@dataclass(frozen=True)
class LinkKind:
    """A kind of connection: what gives, what takes, and the cheapest pieces for it."""

    start: tuple[str, str]  # connector and signal family
    end: tuple[str, str]
    pieces: tuple[Cable, ...]
    price: float
    new: float

    @property
    def key(self) -> tuple[tuple[str, str], tuple[str, str], tuple[str, ...]]:
        return self.start, self.end, tuple(piece.id for piece in self.pieces)


def link_kinds(
    starts: Iterable[Port], ends: Iterable[Port], catalogue: Catalogue, prices: Prices, reach_m: float, extra: float
) -> list[LinkKind]:
    """The kinds of connection between sockets and plugs, with every cable, or pair of them, that fits. reach_m: what
    they must bridge; pairs are tried only then. extra: what a piece that is not at hand counts beside its price."""
    cables = [cable for cable in catalogue.all(Cable) if not cable.ties_sync]
    plain = [(cable,) for cable in cables if not cable.socket_end]
    further = (
        [(cable, piece) for cable in cables if not cable.socket_end for piece in cables if piece.socket_end]
        if reach_m
        else []
    )
    found = []
    kinds = {
        ((start.connector, family(start)), (end.connector, family(end))): (start, end)
        for start, end in product(starts, ends)
    }
    for (start_kind, end_kind), (start, end) in kinds.items():
        able = [
            pieces
            for pieces in (*plain, *further)
            if not why_not_joined(pieces, start.connector, end.connector)
            and carries(joined(pieces), start, end)
            and joined(pieces).length_m >= reach_m
        ]
        for pieces in able:
            price = sum(prices.of("cables", piece) for piece in pieces)
            new = extra * sum(not prices.at_hand("cables", piece.id) for piece in pieces)
            found.append(LinkKind(start_kind, end_kind, tuple(pieces), price, new))
    return found


def family(port: Port) -> str:
    return "USB" if port.signal.startswith("USB") else port.signal


def is_video(port: Port, direction: str) -> bool:
    return port.direction == direction and port.signal in VIDEO_SIGNALS


def _offers(part: CataloguePart, direction: str, kind: tuple[str, str]) -> bool:
    return any(port.direction == direction and (port.connector, family(port)) == kind for port in part.ports)


def gives(kind: tuple[str, str]) -> Callable[[CataloguePart], bool]:
    return lambda part: _offers(part, "out", kind)


def takes(kind: tuple[str, str]) -> Callable[[CataloguePart], bool]:
    return lambda part: _offers(part, "in", kind)


def count_of(board: CataloguePart, kind: tuple[str, str]) -> int:
    """How many sockets of a kind a board has."""
    return sum(port.direction == "out" and (port.connector, family(port)) == kind for port in board.ports)


def feeding(kind: tuple[str, str], amps: float) -> Callable[[CataloguePart], bool]:
    """Boards with a socket of a kind that gives so much."""
    return lambda board: any(
        port.direction == "out" and (port.connector, family(port)) == kind and port.supplies_a >= amps
        for port in board.ports
    )


def with_header(board: CataloguePart) -> bool:
    return isinstance(board, Board) and "header" in board.honours


def pairing(image: CataloguePart) -> bool:
    """Whether Bluetooth controllers can connect."""
    return isinstance(image, Image) and image.pairs_radio


def serving(board: Board) -> Callable[[CataloguePart], bool]:
    return lambda image: isinstance(image, Image) and board.id in image.boards


def holding(size: int) -> Callable[[CataloguePart], bool]:
    return lambda card: isinstance(card, Card) and card.capacity_bytes >= size


def started_by(board: Board) -> Callable[[CataloguePart], bool]:
    """Cards that go into a board's slot and that its loader starts from."""
    slot = next((port.connector for port in board.ports if port.signal == "SD"), "")
    most = board.most_card_bytes
    return lambda card: (
        isinstance(card, Card)
        and any(port.connector == slot for port in card.ports)
        and (not most or card.capacity_bytes <= most)
    )


def cheapest(links: Iterable[LinkKind]) -> list[LinkKind]:
    """Of each kind of connection the cheapest."""
    best: dict[tuple[tuple[str, str], tuple[str, str]], LinkKind] = {}
    for link in links:
        key = (link.start, link.end)
        if key not in best or link.price + link.new < best[key].price + best[key].new:
            best[key] = link
    return list(best.values())


def ohms_of(pieces: Sequence[Cable]) -> float | None:
    """Out and back, with the contacts; None without a known gauge."""
    total = contacts(pieces) * CONTACT_OHM
    for piece in pieces:
        if piece.awg is None:
            return None
        total += 2 * piece.length_m * awg_ohm_per_m(piece.awg)
    return total
