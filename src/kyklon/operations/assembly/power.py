"""The way of the current: supply, cable, board, and what hangs on the board."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kyklon.catalogue.cables import joined, pieces_of
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Bridge, Cable, Disk, Supply
from kyklon.model.build import Build, Link
from kyklon.operations.assembly.electrics import awg_ohm_per_m, cable_drop_v, chip_celsius

RESERVE = 0.20  # CP: share of the supply kept free
AMBIENT_C = 25.0  # °C, a warm room
CONTACT_OHM = 0.030  # ohm: USB 2.0, 5.11.1 allows 30 mΩ a contact when new
CONTACTS = 2  # out and back, at every joint: both ends of a cable, and where one piece goes into the next
BOARD_V = 5.0  # V
LEAST_SOCKET_A = 0.5  # A: what a USB socket gives that says nothing (USB 2.0, 7.2.1)
CASE_RISE_K = 10.0  # K, CP: air inside a closed case over the room's


def way_drop_v(pieces: Sequence[Cable], amps: float) -> float | None:
    """What is lost from supply to board: the copper of every piece of the cable, and the contacts at every joint; None
    without a known gauge."""
    copper = 0.0
    for piece in pieces:
        if piece.awg is None:
            return None
        copper += cable_drop_v(piece.awg, piece.length_m, amps)
    return copper + contacts(pieces) * CONTACT_OHM * amps if pieces else None


def contacts(pieces: Sequence[Cable]) -> int:
    """Contacts in series along the way, out and back."""
    return CONTACTS * (len(pieces) + 1)


@dataclass(frozen=True)
class Draw:
    """Amps that something takes from the board's supply at its peak."""

    name: str
    amps: float


@dataclass(frozen=True)
class Budget:
    """Volts and amps along the way; drop_v is None when the cable's gauge or the link is not known. cable: all its
    pieces as one. supply: where the board's power comes from, a socket of another part included."""

    supply: Supply
    board: Board
    cable: Cable | None
    pieces: tuple[Cable, ...]
    draws: tuple[Draw, ...]
    peak_a: float
    usable_a: float
    drop_v: float | None
    board_v: float | None
    chip_c: float

    @property
    def working(self) -> tuple[str, ...]:
        """How the figures come about, formula by formula."""
        parts = " + ".join(f"{draw.amps:.2f}" for draw in self.draws)
        lines = [
            f"Peak = {parts} = {self.peak_a:.2f} A (sum of peaks, common practice)",
            f"Usable = {self.supply.amps:.1f} A × (1 − {RESERVE:.2f}) = {self.usable_a:.2f} A (common practice)",
        ]
        if self.cable and self.cable.awg is not None and self.drop_v is not None:
            copper = " + ".join(
                f"2 × {piece.length_m:.2f} m × {awg_ohm_per_m(piece.awg) * 1000:.1f} mΩ/m (AWG {piece.awg})"
                for piece in self.pieces
                if piece.awg is not None
            )
            lines.append(
                f"Drop = {f'({copper})' if len(self.pieces) > 1 else copper} × {self.peak_a:.2f} A"
                f" + {contacts(self.pieces)} × {CONTACT_OHM * 1000:.0f} mΩ × {self.peak_a:.2f} A"
                f" = {self.drop_v:.2f} V (ASTM B258, IEC 60028; contacts: common practice)"
            )
            lines.append(f"At the board = {self.supply.volts:.2f} V − {self.drop_v:.2f} V = {self.board_v:.2f} V")
        lines.append(
            f"Chip = {AMBIENT_C:.0f} °C + {CASE_RISE_K:.0f} K + {self.draws[0].amps * BOARD_V:.1f} W × "
            f"{self.board.heat_k_per_w:.0f} K/W = {self.chip_c:.0f} °C"
        )
        return tuple(lines)


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


def budget(build: Build, catalogue: Catalogue) -> Budget | None:
    """The power budget, or None without a board and a supply."""
    board = catalogue.find(Board, build.part("board"))
    supply = power_source(build, catalogue)
    if board is None or supply is None:
        return None
    board_a = board_peak_a(build, board)
    draws = [Draw(board.name, board_a)]
    feed = feed_of(build)
    feeder = feed.start.partition(".")[0] if feed else ""  # what powers the board is powered by something else
    for part in build.parts:
        record = catalogue.any(part.part)
        if record is None or part.role in ("board", "supply", "bridge", "disk", feeder):
            continue
        amps = sum(port.draws_a for port in record.ports)
        if amps:
            draws.append(Draw(record.name, amps))
    if build.medium == "disk":
        bridge, disk = catalogue.find(Bridge, build.part("bridge")), catalogue.find(Disk, build.part("disk"))
        draws += [Draw(bridge.name, bridge.draws_a)] if bridge else []
        draws += [Draw(disk.name, disk.peak_a)] if disk else []
    peak = sum(draw.amps for draw in draws)
    pieces = pieces_of(feed, catalogue) if feed else ()
    drop = way_drop_v(pieces, peak)
    return Budget(
        supply=supply,
        board=board,
        cable=joined(pieces) if pieces else None,
        pieces=pieces,
        draws=tuple(draws),
        peak_a=peak,
        usable_a=supply.amps * (1 - RESERVE),
        drop_v=drop,
        board_v=None if drop is None else supply.volts - drop,
        chip_c=chip_celsius(AMBIENT_C + CASE_RISE_K, board_a * BOARD_V, board.heat_k_per_w),
    )
