"""Whether a panel socket stands the push and pull of its plug: force times lever arm against two screws.

The plug is pushed straight in, or somebody leans on it: then its far end is a lever about the plate, and one screw is
pulled by moment over screw distance, besides its share of the push. Statics of a rigid body; strengths are CP.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from math import hypot, pi

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.model.assembly import Plate
from kyklon.model.build import Build
from kyklon.operations.assembly.outline import plug_long
from kyklon.operations.assembly.templates import SCREWS_AT, outside

# N to push it in at most: USB 2.0, table 6-7 (35 N); HDMI 1.3, connector mechanical performance (44.1 N; mem); the
# rest CP
PUSH_N: Mapping[str, float] = {"USB-A": 35.0, "HDMI A": 44.1, "3.5 mm jack": 30.0, "barrel": 30.0, "network": 20.0}
SIDE_N = 30.0  # N that somebody leans on a plug with, CP
# N/mm² of shear that a material bears below a screw head for good: a third of its strength, CP
STRENGTHS: Mapping[Plate, float] = {
    "ABS": 8.0,
    "acrylic": 10.0,
    "plywood": 2.0,
    "MDF": 1.0,
    "aluminium": 40.0,
    "steel": 80.0,
}
_HEAD_MM = 5.5  # head of an M3 screw, ISO 7045
_GLUE_N_MM2 = 0.5  # N/mm² of hot glue on a smooth wall for good, CP
_SOLDER_N = 15.0  # N that each solder joint of a socket bears for good, CP


@dataclass(frozen=True)
class Grip:
    """pull_n: on the worse screw; bears_n: what the plate bears there. short_n: what a brace has to take, 0 where it
    holds."""

    pull_n: float
    bears_n: float

    @property
    def holds(self) -> bool:
        return self.pull_n <= self.bears_n

    @property
    def short_n(self) -> float:
        return max(0.0, self.pull_n - self.bears_n)


def grip(push_n: float, arm_mm: float, plate: Plate, thick_mm: float) -> Grip:
    """A panel socket with two screws. push_n: N to push the plug in; arm_mm: from the plate to the plug's end;
    thick_mm: of the plate. Raises ValueError for a plate that is not known or a size that is not above 0."""
    if plate not in STRENGTHS:
        raise ValueError(f"There is no plate of {plate!r}; there are: {', '.join(STRENGTHS)}")
    if arm_mm < 0 or thick_mm <= 0 or push_n < 0:
        raise ValueError("Force and lever arm are not below 0, and the plate has a thickness")
    apart = 2 * hypot(*SCREWS_AT)
    leaning = SIDE_N * arm_mm / apart
    bears = pi * _HEAD_MM * thick_mm * STRENGTHS[plate]
    return Grip(max(push_n / 2, leaning), bears)


def soldered(push_n: float, arm_mm: float, rest_mm: float) -> Grip:
    """A socket on the board itself that sticks through the wall: leaning on the plug lifts it about its front edge.
    rest_mm: from there to its solder joints. Raises ValueError for a rest that is not above 0."""
    if rest_mm <= 0:
        raise ValueError("The solder joints lie behind the socket's front edge")
    return Grip(max(push_n / 4, SIDE_N * arm_mm / rest_mm / 2), _SOLDER_N)


def glued(push_n: float, arm_mm: float, wide_mm: float, high_mm: float) -> Grip:
    """A socket that is only glued on by its face: the edge of the glue peels. wide_mm, high_mm: of the glued face.
    Raises ValueError for a face that is not above 0."""
    if wide_mm <= 0 or high_mm <= 0:
        raise ValueError("The glued face has a size")
    bending = SIDE_N * arm_mm * 6 / (wide_mm * high_mm**2)  # N/mm² at the edge of a rectangle: M / (b h² / 6)
    straight = push_n / (wide_mm * high_mm)
    area = wide_mm * high_mm
    return Grip(max(bending, straight) * area, _GLUE_N_MM2 * area)


_FACE_MM = 24.0  # mm across and high of a panel socket's glued face, CP
_REST_MM = 8.0  # mm from a board socket's front edge to its solder joints, CP
_OTHER_N = 30.0  # N to push any other plug in, CP


@dataclass(frozen=True)
class Held:
    """A socket that leaves the case, and how it stands its plug."""

    name: str
    grip: Grip


def sockets(build: Build, catalogue: Catalogue) -> tuple[Held, ...]:
    """Every socket that leaves the case, as this build holds it."""
    board, own = catalogue.find(Board, build.part("board")), build.assembly
    kinds = {"Picture": "HDMI A", "USB": "USB-A", "Sound": "3.5 mm jack", "Power": "barrel", "Network": "network"}
    named = {opening.name: "" for opening in own.openings if opening.purpose == "socket"}
    found = []
    for name in dict.fromkeys((*outside(build), *named)):
        port = (
            next((port for port in board.ports if port.signal == "HDMI"), None) if board and name == "Picture" else None
        )
        kind = port.connector if port is not None else kinds.get(name, "")
        push = PUSH_N.get(kind, _OTHER_N)
        arm = plug_long(kind)
        if own.sockets_held == "glue":
            held = glued(push, arm, _FACE_MM, _FACE_MM)
        elif own.sockets_held == "board":
            held = soldered(push, arm, _REST_MM)
        else:
            held = grip(push, arm, own.plate, own.wall)
        found.append(Held(name, held))
    return tuple(found)
