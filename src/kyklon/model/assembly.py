"""How a machine is fed, cooled and put together: what its builder decided or measured."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from kyklon.model.casework import Connector, Opening
from kyklon.model.described import described
from kyklon.model.record import Record

Load = Literal["menu", "typical play", "demanding play", "peak"]
LOADS: tuple[Load, ...] = ("menu", "typical play", "demanding play", "peak")
Case = Literal["open bench", "vented", "closed", "metal"]
CASES: tuple[Case, ...] = ("open bench", "vented", "closed", "metal")
Sink = Literal["none", "small", "large", "case"]
Fan = Literal["none", "in the case", "on the chip"]
Switch = Literal["plug", "in the line", "momentary", "power board", "latching board"]
Plate = Literal["ABS", "acrylic", "plywood", "MDF", "aluminium", "steel"]
PLATES: tuple[Plate, ...] = ("ABS", "acrylic", "plywood", "MDF", "aluminium", "steel")
Held = Literal["screws", "glue", "board"]
GAUGES = tuple(range(10, 31, 2))  # AWG, ASTM B258: what is sold as stranded wire, CP


class Reading(Record):
    """What a meter said. what: volts at the board's socket, or °C of the chip as the system tells it. load: what ran
    then. model: what was foretold at that moment; way: which supply, cable and board it is of."""

    what: Literal["volts", "celsius"]
    value: float = Field(ge=-40, le=200)
    load: Load = "typical play"
    room_c: float = Field(default=22.0, ge=-20, le=50)
    model: float = 0.0
    way: str = ""
    at: str = ""


class Body(Record):
    """A thing in the case, as a box in mm: its near lower left corner from the case's inner one, and its size. x to
    the right, y to the back, z up. part: the role of the build that it is, '' for one of the case's own (a post).
    turned: degrees to the left, seen from above; its size is that after turning."""

    id: Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9.-]{0,60}$")]
    name: Annotated[str, StringConstraints(min_length=1, max_length=80)]
    x: float = Field(ge=-500, le=2000)
    y: float = Field(ge=-500, le=2000)
    z: float = Field(default=0.0, ge=-500, le=2000)
    wide: float = Field(gt=0, le=2000)
    deep: float = Field(gt=0, le=2000)
    high: float = Field(gt=0, le=2000)
    fixed: bool = False
    turned: Literal[0, 90, 180, 270] = 0


class AssemblySettings(Record):
    """source: what the machine hangs on. lead: from the battery's terminal to the converter, one way. measured: the
    latest of each kind and load counts. inner sizes of the case in mm, 0 where nobody measured it."""

    source: Literal["mains adapter", "battery"] = described(
        "Powered by", "mains adapter", choices=(("mains adapter", "power supply"), ("battery", "12 V battery"))
    )
    battery: Literal["lead-acid", "lithium iron phosphate"] = described(
        "Battery",
        "lead-acid",
        choices=(("lead-acid", "lead-acid"), ("lithium iron phosphate", "LiFePO4")),
    )
    battery_ah: float = described("Capacity", 20.0, unit="Ah", ge=0.5, le=1000)
    battery_mohm: float = described("Internal resistance", 20.0, unit="mΩ", ge=0, le=2000)
    charged: float = described("Charged to", 100.0, unit="%", ge=5, le=100)
    lead_m: float = described("Lead, one way", 2.0, unit="m", ge=0, le=50)
    lead_awg: int = described("Lead, AWG", 18, ge=10, le=30)
    fuse_a: float = described("Fuse", 0.0, unit="A", ge=0, le=60, hint="none")
    fuse_slow: bool = described("Slow-blow fuse", False)
    converter_percent: float = described("Efficiency", 88.0, unit="%", ge=30, le=100)
    input_uf: float = described("Input capacitors", 470.0, unit="µF", ge=0, le=100_000)
    switch_mohm: float = described("Switch and sockets", 0.0, unit="mΩ", ge=0, le=2000)
    wire_c: float = described("Wire temperature", 25.0, unit="°C", ge=-20, le=100)
    load: Load = described("Load", "typical play", choices=tuple((load, load) for load in LOADS))
    room_c: float = described("Room", 25.0, unit="°C", ge=-10, le=50)
    case: Case = described("Case", "closed", choices=tuple((case, case) for case in CASES))
    openings_cm2: float = described("Openings, each", 8.0, unit="cm²", ge=0, le=2000)
    sink: Sink = described(
        "Heat sink",
        "none",
        choices=(
            ("none", "none"),
            ("small", "small, 15 mm square"),
            ("large", "large, over the board"),
            ("case", "the metal case"),
        ),
    )
    fan: Fan = described(
        "Fan", "none", choices=(("none", "none"), ("in the case", "in the case"), ("on the chip", "on the chip"))
    )
    fan_l_s: float = described("Air it moves", 2.0, unit="l/s", ge=0.1, le=60)
    lying: bool = described("Board lies flat", True)
    switch: Switch = described(
        "Switch",
        "plug",
        choices=(
            ("plug", "pull the plug"),
            ("in the line", "inline switch"),
            ("momentary", "push button"),
            ("power board", "button + power board"),
            ("latching board", "latching + power board"),
        ),
    )
    press_s: float = described("Press length", 1.0, unit="s", ge=0.1, le=20)
    watcher_s: float = described("Watcher needs", 0.5, unit="s", ge=0, le=10)
    stop_s: float = described("Shuts down in", 12.0, unit="s", ge=1, le=120)
    board_waits: bool = described("Waits for halt", False)
    board_off_s: float = described("Cuts power after", 20.0, unit="s", ge=0, le=300)
    force_s: float = described("Force-off after", 5.0, unit="s", ge=1, le=30)
    measured: tuple[Reading, ...] = described("Measured", (), max_length=60)
    inner_wide: float = described("Inside, across", 0.0, unit="mm", ge=0, le=2000, hint="not measured")
    inner_deep: float = described("Inside, front to back", 0.0, unit="mm", ge=0, le=2000, hint="not measured")
    inner_high: float = described("Inside, height", 0.0, unit="mm", ge=0, le=1000, hint="not measured")
    wall: float = described("Wall", 3.0, unit="mm", ge=0.5, le=60)
    plate: Plate = described("Plate", "plywood", choices=tuple((plate, plate) for plate in PLATES))
    sockets_held: Held = described(
        "Panel sockets held by",
        "screws",
        choices=(("screws", "two screws"), ("glue", "glue"), ("board", "the board's solder")),
    )
    bodies: tuple[Body, ...] = described("In the case", (), max_length=200)
    bent: tuple[str, ...] = described("Bent terminals", (), max_length=200)
    openings: tuple[Opening, ...] = described("Openings", (), max_length=60)
    connectors: tuple[Connector, ...] = described("Connectors", (), max_length=60)
    metered: tuple[str, ...] = described("Tested with the meter", (), max_length=4000)

    def reading(self, what: str, way: str) -> Reading | None:
        """The latest of its kind on the same way."""
        found = [row for row in self.measured if (row.what, row.way) == (what, way)]
        return found[-1] if found else None
