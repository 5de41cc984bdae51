"""Controls as they lie on a panel or table, and what their user decided of them. Lengths in mm, turns in degrees."""

from __future__ import annotations

import math
from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from kyklon.base.numbers import whole
from kyklon.model.described import described
from kyklon.model.record import Record

DIRECTIONS = ("up", "down", "left", "right")
MOST_SEATS = 4
MOST_DEVICES = 8
ControlKind = Literal["lever", "button", "start", "select", "coin", "side", "spinner", "trackball"]
_WAYS: dict[str, tuple[str, ...]] = {"lever": DIRECTIONS, "trackball": DIRECTIONS, "spinner": ("left", "right")}
Pin = Annotated[int, Field(ge=1, le=80)]
Name = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9-]{0,23}$")]


class Control(Record):
    """A control on a seat's board. x and y in mm from its upper left corner as its player sees it; bore in mm.

    ways: of a lever, how its restrictor lets it go. turn: of a lever in its plate.
    """

    id: str
    label: str
    kind: ControlKind
    x: float = Field(ge=-2000, le=4000)
    y: float = Field(ge=-2000, le=4000)
    bore: float = Field(gt=0, le=200)
    ways: Literal[4, 8] = 8

    @property
    def switches(self) -> tuple[str, ...]:
        """Names of what it closes: the first lever's are the bare directions."""
        ways = _WAYS.get(self.kind)
        if ways is None:
            return (self.id,)
        return ways if self.id == "lever" else tuple(f"{self.id}-{way}" for way in ways)


class Seat(Record):
    """A player's board on the table. x, y: where its upper left corner lies. turn: clockwise, seen from above; 0 looks
    up the drawing."""

    x: float = Field(ge=-4000, le=4000)
    y: float = Field(ge=-4000, le=4000)
    turn: float = Field(default=0.0, ge=-360, le=360)
    width_mm: float = Field(gt=0, le=3000)
    height_mm: float = Field(gt=0, le=3000)
    controls: tuple[Control, ...] = ()

    @property
    def switches(self) -> tuple[str, ...]:
        return tuple(name for control in self.controls for name in control.switches)

    def control(self, control_id: str) -> Control | None:
        return next((each for each in self.controls if each.id == control_id), None)

    def owner(self, switch: str) -> Control | None:
        """The control that a switch belongs to."""
        return next((control for control in self.controls if switch in control.switches), None)

    def on_table(self, x: float, y: float) -> tuple[float, float]:
        """A point of the seat's board, on the table."""
        c, s = _turned(self.turn)
        return self.x + c * x - s * y, self.y + s * x + c * y

    def on_board(self, x: float, y: float) -> tuple[float, float]:
        """A point of the table, on the seat's board."""
        c, s = _turned(self.turn)
        x, y = x - self.x, y - self.y
        return c * x + s * y, -s * x + c * y


def _turned(degrees: float) -> tuple[float, float]:
    """Cosine and sine, exact for quarters."""
    quarter = {0.0: (1.0, 0.0), 90.0: (0.0, 1.0), 180.0: (-1.0, 0.0), 270.0: (0.0, -1.0)}.get(degrees % 360)
    return quarter or (math.cos(math.radians(degrees)), math.sin(math.radians(degrees)))


class Layout(Record):
    """The whole table or panel with its seats, the first player's first. facing: at least two players look at each
    other over it."""

    width_mm: float = Field(gt=0, le=4000)
    height_mm: float = Field(gt=0, le=4000)
    seats: tuple[Seat, ...] = Field(default=(), max_length=MOST_SEATS)
    facing: bool = False

    @property
    def switches(self) -> tuple[str, ...]:
        """Every switch of every seat, as p1.up."""
        return tuple(f"p{number}.{name}" for number, seat in enumerate(self.seats, 1) for name in seat.switches)

    def seat(self, player: int) -> Seat | None:
        return self.seats[player - 1] if 1 <= player <= len(self.seats) else None

    def place(self, switch: str) -> tuple[float, float] | None:
        """Where the control of p1.b2 lies on the table, None where there is none."""
        player, _, name = switch.partition(".")
        number = whole(player.removeprefix("p"))
        seat = self.seat(number) if number is not None else None
        control = seat.owner(name) if seat else None
        return seat.on_table(control.x, control.y) if seat and control else None


class Wire(Record):
    """control: player and switch, as p1.up. terminal: the encoder's, by id. device: the role of that encoder in the
    build. done: ticked off while wiring."""

    control: str
    terminal: str
    device: str = "encoder"
    done: bool = False


class Hotkey(Record):
    """Hold the hotkey and press `control` to do `action`."""

    action: str
    control: str


class DevicePlace(Record):
    """An encoder under the table. role: in the build. port: the socket by which it is known (udev's ID_PATH), '' where
    nobody looked."""

    role: str
    x: float = Field(ge=-4000, le=4000)
    y: float = Field(ge=-4000, le=4000)
    port: Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9._:-]{0,80}$")] = ""


class MapPair(Record):
    """An input of a system on a switch of the seat, '' for an input that has none. locked: stays when it is solved
    anew."""

    input: str
    place: str
    locked: bool = False


class SystemMap(Record):
    """A system's own map; a game's where `game` is not ''. picture: where the picture's top points on the table,
    clockwise from the far side of seat 1; flips: whether it turns for the player opposite when it is his turn."""

    system: str
    game: str = ""
    pairs: tuple[MapPair, ...] = ()
    picture: Literal[0, 90, 180, 270] = 0
    flips: bool = True


class GameControls(Record):
    """A game whose buttons are not its system's: uses, by input ids; ways: the lever it wants."""

    system: str
    game: str = Field(min_length=1, max_length=200)
    uses: tuple[str, ...] = ()
    ways: Literal[0, 4, 8] = 0


class KeyReading(Record):
    """A key was closed, and two pins of the ribbon met."""

    key: Name
    pins: tuple[Pin, Pin]


class KeyboardSettings(Record):
    """The matrix of an old keyboard: its readings, by key; rows and columns follow from them. layout: a keyboard of the
    catalogue. diodes: keys that have one. played: keys that games hold together. school: what its keys are mapped
    by."""

    layout: str = described("Old keyboard", "")
    usb: str = described("USB ID of the keyboard", "", pattern=r"^([0-9a-fA-F]{4}:[0-9a-fA-F]{4})?$", hint="1209:0001")
    readings: tuple[KeyReading, ...] = described("Ribbon readings", ())
    diodes: tuple[str, ...] = described("Keys with a diode", ())
    played: tuple[str, ...] = described("Keys held together", ())
    school: Literal["position", "symbol"] = described(
        "Keys by", "position", choices=(("position", "position"), ("symbol", "symbol"))
    )


class Proof(Record):
    """The last guided proof of the wiring. wiring: a fingerprint of the wires that it was of; faults: what it found, in
    words; silent: switches that reached nothing; at: ISO 8601."""

    at: str
    wiring: str
    faults: tuple[str, ...] = ()
    silent: tuple[str, ...] = ()
    presses: int = Field(default=0, ge=0)


class AxisLimits(Record):
    """What an axis was seen to do: ends and rest."""

    device: str
    axis: str
    low: int
    high: int
    rest: int


class ControlSettings(Record):
    """panel: of the catalogue, which holds where `layout` is None."""

    panel: str = described("Panel")
    layout: Layout | None = described("Own panel", None)
    wires: tuple[Wire, ...] = described("Wiring", ())
    places: tuple[DevicePlace, ...] = described("Encoder positions", ())
    naming: Literal["order", "steady"] = described(
        "Identify players by", "steady", choices=(("order", "plug-in order"), ("steady", "fixed names"))
    )
    wiring: Literal["terminals", "printed"] = described(
        "Wiring method",
        "terminals",
        choices=(("terminals", "terminal order"), ("printed", "printed order")),
    )
    hotkey: str = described("Hotkey", "select")
    hotkeys: tuple[Hotkey, ...] = described("Hotkeys", ())
    hold_s: float = described("Hold the hotkey for", 0.0, unit="s", ge=0, le=5, hint="at once")
    maps: tuple[SystemMap, ...] = described("Button mapping", ())
    games: tuple[GameControls, ...] = described("Games with their own mapping", ())
    keyboard: KeyboardSettings = KeyboardSettings()
    proof: Proof | None = described("Wiring test", None)
    axes: tuple[AxisLimits, ...] = described("Measured axis ranges", ())

    def map_of(self, system: str, game: str = "") -> SystemMap | None:
        return next(
            (system_map for system_map in self.maps if (system_map.system, system_map.game) == (system, game)), None
        )
