"""The power budget: volts and amps from the supply to the board at the peak, and how the figures come about."""

from __future__ import annotations

from dataclasses import dataclass

from kyklon.catalogue.cables import joined, pieces_of
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Bridge, Cable, Disk, Supply
from kyklon.model.build import Build
from kyklon.operations.assembly.electrics import awg_ohm_per_m
from kyklon.operations.assembly.heat import temperature
from kyklon.operations.assembly.power import CONTACT_OHM, RESERVE, board_peak_a, contacts, feed_of, power_source
from kyklon.operations.assembly.tree import feed


@dataclass(frozen=True)
class Draw:
    """Amps that something takes from the board's supply at its peak."""

    name: str
    amps: float


@dataclass(frozen=True)
class Budget:
    """Volts and amps along the way; drop_v is None when the cable's gauge or the link is not known. cable: all its
    pieces as one. peak_a: the sum as stated; way_a: what flows in the cable, the same watts at fewer volts. supply:
    where the board's power comes from, a socket of another part included. chip_c: under the build's own load."""

    supply: Supply
    board: Board
    cable: Cable | None
    pieces: tuple[Cable, ...]
    draws: tuple[Draw, ...]
    peak_a: float
    way_a: float
    usable_a: float
    drop_v: float | None
    board_v: float | None
    chip_c: float
    wire_c: float

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
                f"2 × {piece.length_m:.2f} m × {awg_ohm_per_m(piece.awg, self.wire_c) * 1000:.1f} mΩ/m"
                f" (AWG {piece.awg})"
                for piece in self.pieces
                if piece.awg is not None
            )
            lines.append(
                f"Drop = {f'({copper})' if len(self.pieces) > 1 else copper} × {self.way_a:.2f} A"
                f" + {contacts(self.pieces)} × {CONTACT_OHM * 1000:.0f} mΩ × {self.way_a:.2f} A"
                f" = {self.drop_v:.2f} V (ASTM B258, IEC 60028; contacts: common practice)"
            )
            lines.append(f"At the board = {self.supply.volts:.2f} V − {self.drop_v:.2f} V = {self.board_v:.2f} V")
        return tuple(lines)


def budget(build: Build, catalogue: Catalogue) -> Budget | None:
    """The power budget, or None without a board and a supply."""
    board = catalogue.find(Board, build.part("board"))
    supply = power_source(build, catalogue)
    if board is None or supply is None:
        return None
    board_a = board_peak_a(build, board)
    draws = [Draw(board.name, board_a)]
    link = feed_of(build)
    feeder = link.start.partition(".")[0] if link else ""  # what powers the board is powered by something else
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
    pieces = pieces_of(link, catalogue) if link else ()
    known = bool(pieces) and all(piece.awg is not None for piece in pieces)
    found = feed(build, catalogue, "peak")
    assert found is not None
    volts = found.board_v if known else None
    return Budget(
        supply=supply,
        board=board,
        cable=joined(pieces) if pieces else None,
        pieces=pieces,
        draws=tuple(draws),
        peak_a=peak,
        way_a=found.low.root_a,
        usable_a=supply.amps * (1 - RESERVE),
        drop_v=None if volts is None else supply.volts - volts,
        board_v=volts,
        chip_c=temperature(build, catalogue),
        wire_c=build.assembly.wire_c,
    )
