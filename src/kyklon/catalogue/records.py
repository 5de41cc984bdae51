"""What a catalogue file may say, kind by kind. Units are in the field names or beside them."""

from __future__ import annotations

from fractions import Fraction
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field

from kyklon.model.record import Record
from kyklon.model.timing import Timing

Positive = Annotated[float, Field(gt=0, le=1e15)]
Whole = Annotated[int, Field(gt=0, le=1_000_000)]
NotNegative = Annotated[float, Field(ge=0, le=1e9)]


def _inside(path: str) -> str:
    """A path below whatever folder it is put into."""
    parts = path.replace("\\", "/").split("/")
    if path.startswith("/") or ".." in parts or "\0" in path:
        raise ValueError(f"“{path}” leads out of its folder")
    return path


# a path on a card or below an issue's folder, which somebody else may have written
Inside = Annotated[str, AfterValidator(_inside), Field(max_length=300)]


_MM = r"\d{1,4}(\.\d{1,2})?"
Outline = Annotated[str, Field(pattern=rf"^({_MM}( ?[x×] ?{_MM}){{2}})?$")]
Places = Annotated[str, Field(pattern=rf"^({_MM},{_MM}(; ?{_MM},{_MM}){{0,19}})?$")]
_EDGE = rf"[a-z0-9-]{{1,30}} (front|back|left|right) {_MM}"
Edges = Annotated[str, Field(pattern=rf"^({_EDGE}(; ?{_EDGE}){{0,29}})?$")]


def _ordered(band: tuple[float, float]) -> tuple[float, float]:
    if not 0 <= band[0] <= band[1]:
        raise ValueError("the lowest stands first, and none is below 0")
    return band


Band = Annotated[tuple[float, float], AfterValidator(_ordered)]


def _rate(text: str) -> str:
    if text.rpartition("/")[2].strip("0") == "" or not 1 <= Fraction(text) <= 1000:
        raise ValueError("a refresh is from 1 to 1000 Hz")
    return text


class Port(Record):
    """A socket or a captive plug. direction is that of power for power ports, of the signal for others.

    supplies_a: the most it can feed. draws_a: the most its part takes through it. contacts: what a jack carries, from
    the tip on.
    """

    id: str
    label: str
    connector: str
    direction: Literal["in", "out", "both"]
    signal: str
    volts: float | None = None
    supplies_a: float = 0.0
    draws_a: float = 0.0
    contacts: tuple[str, ...] = ()


AGREED = "agreeing"  # by what a fact is known that was suggested and left so


class Known(Record):
    """Where a fact of a part comes from. at: the day, ISO 8601. by: what it was read from or measured with."""

    how: Literal["read", "measured", "typed", "copied"]
    at: str = Field(default="", max_length=40)
    by: str = Field(default="", max_length=200)


class Fixed(dict[str, Any]):
    """A map that nobody changes, so that what holds it can be remembered by its value."""

    def __hash__(self) -> int:  # type: ignore[override] # a dict has none
        return hash(frozenset(self.items()))


class CataloguePart(Record):
    """known: where its facts come from, by the name of the field; what is not there was typed, or ships."""

    id: str = Field(pattern=r"^[a-z0-9][a-z0-9-]*$", max_length=64)
    name: str = Field(min_length=1, max_length=120)
    note: str = ""
    known: Annotated[dict[str, Known], AfterValidator(Fixed)] = Fixed()

    def is_assumed(self, name: str) -> bool:
        """Whether a fact was only suggested, and neither read, measured nor typed."""
        return name in self.known and self.known[name].by == AGREED

    price: float = Field(default=0.0, ge=0)  # invented money, for the parts list
    ports: tuple[Port, ...] = ()

    def port(self, port_id: str) -> Port | None:
        return next((port for port in self.ports if port.id == port_id), None)


Rhythm = Literal["steady", "slow", "quick", "paired", "dark"]
RHYTHM_WORDS: dict[Rhythm, str] = {
    "steady": "steady",
    "slow": "slow blink",
    "quick": "quick blink",
    "paired": "blinks in pairs",
    "dark": "dark",
}


class Lamps(Record):
    """What a board's lamp does. powered: with power, before anything else. searching: for something to start from.
    nothing: there is nothing to start from. no_settings: the boot file is missing. no_kernel: the kernel is missing.
    reading: while it reads the card. stuck: a kernel that stopped at once. idle: the system runs and rests.
    sagging: the voltage is too low, and it starts over and over."""

    powered: Rhythm
    searching: Rhythm
    nothing: Rhythm
    no_settings: Rhythm
    no_kernel: Rhythm
    reading: Rhythm
    stuck: Rhythm
    idle: Rhythm
    sagging: Rhythm


# what a board does with settings: how it takes a picture mode, and which others mean something to it
Capability = Literal[
    "boot file",
    "video=",
    "edid firmware",
    "link kind",
    "signal strength",
    "inset",
    "frame size",
    "turn",
    "safe start",
    "ignore identification",
    "sound route",
    "memory split",
    "processor clock",
    "header",
    "card picture",
]


class Board(CataloguePart):
    """runs: the instruction sets of kernels it can start. honours: the settings it obeys. early: what its firmware goes
    by for a picture before there is a kernel, or that it shows none."""

    lamps: Lamps

    native_set: str
    runs: tuple[str, ...]
    memory_mb: int
    typical_a: Positive
    peak_a: Positive
    dialects: tuple[str, ...]
    device_tree: str
    compatible: str = ""  # what its device tree says that it is for; '' to go by the file's name
    honours: tuple[Capability, ...]
    processor_mhz: tuple[int, int] = (1000, 1000)  # its own clock, and the most that it can be set to
    signal_strength: tuple[int, int] = (0, 10)  # the weakest and strongest step at which it drives the picture's cable
    least_clock_hz: int = 25_000_000  # HDMI 1.4, the floor of a TMDS link
    most_clock_hz: int
    low_voltage_v: float = 4.63  # CP: where such boards raise the warning
    firmware_s: Positive
    heat_k_per_w: Positive
    early: Literal["boot file", "identification", "dark"] = "boot file"
    header_pins: int = 40
    header: str = ""  # how its pins lie, where that is known
    disk_boot: bool = False  # can start from a disk on USB
    disk_boot_note: str = ""  # what must be changed for it
    card_mb_s: float = 25.0  # MB/s of its card socket; SD Physical Layer specification: High Speed, 25 MB/s
    most_card_bytes: int = Field(default=0, ge=0)  # the largest card that its loader starts from, 0 for any
    usb_mb_s: float = 38.0  # MB/s (10^6 bytes) of its fastest USB socket; CP: what high speed carries
    outline: Outline = ""  # mm across, front to back and high with its sockets: 90 x 60 x 18
    holes: Places = ""  # mm from its left front corner to the middle of each hole: 4,4; 86,4
    hole_mm: float = Field(default=2.7, gt=0, le=10)  # mm; through-hole of M2.5, ISO 273 fine
    sockets: Edges = ""  # port, edge, mm from the edge's left or front end to its middle: power front 14


class PinLine(Record):
    """A wire from a piece of hardware to the header. parameter: of the overlay that names the pin, '' where it is
    fixed. function: the signal that the pin must carry, '' for a plain input or output. pull: the resistor it needs at
    the start. quiet: must not be driven while the board starts. ma: what it draws from the pin."""

    name: str
    parameter: Annotated[str, Field(pattern=r"^[a-z]*$")] = ""
    function: str = ""
    pull: Literal["", "up", "down"] = ""
    quiet: bool = False
    ma: NotNegative = 0.0
    volts: Literal["3.3", "5"] = "3.3"


class Overlay(CataloguePart):
    """Something on the pin header that a device tree overlay tells the kernel of. pins: of the header. parameters: with
    what holds without them. bus: one that must be on; is_bus: the one that this is. lines: what each of its wires asks
    of a pin; none where every pin is fixed."""

    pins: tuple[int, ...] = ()
    parameters: dict[str, int] = {}
    bus: str = ""
    is_bus: str = ""
    lines: tuple[PinLine, ...] = ()


class Supply(CataloguePart):
    volts: Positive
    amps: Positive


class Cable(CataloguePart):
    """awg: gauge of the power conductors; None for cables that carry no power. ties_sync: it joins two sync wires.
    sync_ohms: in series with the sync. contacts: what its jack expects, from the tip on. socket_end: its second end is
    a socket that a plug goes into: an extension, a panel socket, a plug adapter."""

    ends: tuple[str, str]
    signals: tuple[str, ...]
    length_m: Positive
    awg: int | None = None
    ties_sync: bool = False
    sync_ohms: float = Field(default=0.0, ge=0, le=100_000)
    contacts: tuple[str, ...] = ()
    socket_end: bool = False


class Card(CataloguePart):
    capacity_bytes: int
    speed_class: str
    read_mb_s: Positive
    write_mb_s: Positive


class Bridge(CataloguePart):
    """A USB bridge for a disk. usb_id: vendor and product, hexadecimal. uas: whether it keeps to UAS; one that does
    not is driven as plain storage by a kernel parameter, or mended by its maker's firmware where there is one."""

    usb_id: tuple[str, str]
    uas: Literal["good", "misbehaves"]
    firmware: str = ""
    mb_s: Positive
    draws_a: Positive


class Disk(CataloguePart):
    """A solid-state disk. Speeds in MB/s, currents in A at 5 V."""

    capacity_bytes: int
    read_mb_s: Positive
    write_mb_s: Positive
    typical_a: Positive
    peak_a: Positive


class Range(Record):
    """A band of line and field rates a display holds, in kHz and Hz."""

    line_khz: Band
    field_hz: Band


class Colour(Record):
    """bits: of each colour, 0 where it is not said. red, green, blue, white: CIE 1931 x and y."""

    bits: int = Field(default=0, ge=0, le=16)
    red: tuple[float, float]
    green: tuple[float, float]
    blue: tuple[float, float]
    white: tuple[float, float]


class Waking(Record):
    """How a display is woken over a bus. number: of the bus, as the kernel counts. address: seven bits. writes:
    register and value, in order; wait_ms between them. tries: half seconds that it is waited for. overlay: that brings
    the bus up. wires: by name. supply_first: it is fed before the board."""

    bus: Literal["I2C"] = "I2C"
    number: int = Field(default=1, ge=0, le=31)
    address: int = Field(ge=0x08, le=0x77)
    writes: tuple[tuple[Annotated[int, Field(ge=0, le=255)], Annotated[int, Field(ge=0, le=255)]], ...] = Field(
        min_length=1, max_length=64
    )
    wait_ms: int = Field(default=50, ge=0, le=5000)
    tries: int = Field(default=20, ge=1, le=120)
    overlay: str = "bus-two-wire"
    wires: tuple[str, ...] = ("data", "clock", "ground")
    supply_first: bool = True


class Display(CataloguePart):
    """aspect as width:height of the lit area; overscan in % of each edge hidden by the bezel. most_clock_hz: 0 where it
    is not said. modes: that it names itself. hdmi: whether it takes HDMI with sound, None where it is not said.
    waking: of one that stays dark until it is spoken to. processing_ms: from its socket to its panel."""

    tube: bool
    ranges: tuple[Range, ...] = Field(min_length=1)
    aspect: tuple[Whole, Whole]
    width_mm: Positive
    height_mm: Positive
    overscan_percent: float = Field(default=0.0, ge=0, lt=50)
    sync: Literal["composite", "separate", "green", "digital"]
    native: tuple[Whole, Whole] | None = None
    response_ms: NotNegative = 0.0
    processing_ms: NotNegative = 0.0
    most_clock_hz: int = Field(default=0, ge=0)
    modes: tuple[Timing, ...] = ()
    hdmi: bool | None = None
    colour: Colour | None = None
    waking: Waking | None = None


class Adapter(CataloguePart):
    """What stands between board and display. least_clock_hz, least_width: below them it shows nothing; 0 for no limit.
    needs_hdmi: stays dark on a link driven as DVI. sync_volts: of its sync outputs, 0 where they are television level.
    ohms: in series with each of them. sync_in: the kind that it takes, '' for any."""

    sync_out: Literal["composite", "separate", "green", "digital"]
    most_clock_hz: int
    delay_ms: float = 0.0
    least_clock_hz: int = Field(default=0, ge=0)
    least_width: int = Field(default=0, ge=0, le=8192)
    needs_hdmi: bool = False
    sync_in: Literal["", "composite", "separate", "green"] = ""
    sync_volts: float = Field(default=0.0, ge=0, le=15)
    ohms: float = Field(default=0.0, ge=0, le=100_000)


class Terminal(Record):
    """printed: what the board says. event: the kernel's name, a button or an axis with its sign (ABS_Y-). line: row and
    column where the encoder reads its terminals as a matrix."""

    id: str
    printed: str
    player: int
    event: str
    line: tuple[int, int] | None = None


class Encoder(CataloguePart):
    vendor: int
    product: int
    version: int = 0x0110
    players: int
    device_name: str
    tab_mm: float
    poll_ms: Positive
    debounce_ms: Positive
    link: Literal["usb", "bluetooth", "header", "nine-pin"] = "usb"
    pairing_s: float = Field(default=0.0, ge=0)  # s until it answers after the start; Bluetooth
    axis: tuple[int, int] = (-1, 1)  # what its axes tell at their ends
    overlay: str = ""  # that a bank on the header needs
    quirk_flags: int = 0
    quirk_why: str = ""
    terminals: tuple[Terminal, ...]

    @property
    def is_known(self) -> bool:
        """Whether its USB ids are told: a generic one has none until the own one is learnt."""
        return self.link not in ("usb", "bluetooth") or self.vendor != 0

    def terminal(self, terminal_id: str) -> Terminal | None:
        return next((terminal for terminal in self.terminals if terminal.id == terminal_id), None)
