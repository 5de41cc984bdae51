"""What feeds a board, by which cable, and what is lost on the way."""

from __future__ import annotations

from collections.abc import Sequence

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Cable, Supply
from kyklon.model.build import Build, Link
from kyklon.operations.assembly.electrics import cable_drop_v

RESERVE = 0.20  # CP: share of the supply kept free
AMBIENT_C = 25.0  # °C, a warm room
WIRE_C = 25.0  # °C, of wires that nobody said anything of
CONTACT_OHM = 0.030  # ohm: USB 2.0, 5.11.1 allows 30 mΩ a contact when new
CONTACTS = 2  # out and back, at every joint: both ends of a cable, and where one piece goes into the next
BOARD_V = 5.0  # V
LEAST_SOCKET_A = 0.5  # A: what a USB socket gives that says nothing (USB 2.0, 7.2.1)


def way_drop_v(pieces: Sequence[Cable], amps: float, celsius: float = WIRE_C) -> float | None:
    """What is lost from supply to board: the copper of every piece of the cable, and the contacts at every joint; None
    without a known gauge."""
    copper = 0.0
    for piece in pieces:
        if piece.awg is None:
            return None
        copper += cable_drop_v(piece.awg, piece.length_m, amps, celsius)
    return copper + contacts(pieces) * CONTACT_OHM * amps if pieces else None


def contacts(pieces: Sequence[Cable]) -> int:
    """Contacts in series along the way, out and back."""
    return CONTACTS * (len(pieces) + 1)


def board_peak_a(build: Build, board: Board) -> float:
    """Amps of the board at its peak: power goes with the processor's clock (CMOS: P = C · V² · f)."""
    own, _most = board.processor_mhz
    return board.peak_a * (build.boot.processor_mhz / own if build.boot.processor_mhz else 1.0)


def feed_of(build: Build) -> Link | None:
    """The connection that powers the board."""
    return next((link for link in build.links if link.end == "board.power"), None)


def power_source(build: Build, catalogue: Catalogue) -> Supply | None:
    """What powers the board: the supply, or the USB socket of a display or a computer as one; None without any."""
    link = feed_of(build)
    role, _, port_id = link.start.partition(".") if link else ("supply", "", "")
    part = catalogue.any(build.part(role))
    if part is None or isinstance(part, Supply):
        return part or catalogue.find(Supply, build.part("supply"))
    port = part.port(port_id)
    if port is None:
        return catalogue.find(Supply, build.part("supply"))
    return Supply(
        id=part.id,
        name=f"{part.name}, {port.label}",
        volts=BOARD_V,
        amps=max(port.supplies_a, LEAST_SOCKET_A),
        ports=(port,),
    )
