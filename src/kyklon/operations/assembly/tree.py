"""The tree of the current: what feeds, every conductor and contact on the way, and every load at its own volts.

A load takes its watts whatever it is given, so the volts and amps follow from each other: backward and forward sweeps
along the tree until they agree (Shirmohammadi 1988, radial networks). Ground goes back along every conductor, which is
why each counts twice.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from kyklon.catalogue.cables import pieces_of
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board, Bridge, Cable, CataloguePart, Disk, Supply
from kyklon.model.assembly import AssemblySettings, Load
from kyklon.model.build import Build, Link
from kyklon.operations.assembly.electrics import awg_ohm_per_m
from kyklon.operations.assembly.power import (
    BOARD_V,
    CONTACT_OHM,
    CONTACTS,
    RESERVE,
    board_peak_a,
    feed_of,
    power_source,
)
from kyklon.operations.assembly.surge import Source, Step, hold_up_s, load_step

_SHARES: Mapping[Load, float] = {  # of the way from the usual to the peak current, CP
    "menu": -0.35,
    "typical play": 0.15,
    "demanding play": 0.55,
    "peak": 1.0,
}
_LEAST = 0.3  # of the usual current, below which no load is taken to be
_SWEEPS = 200
_ALIKE_V = 1e-9
FUSE_V = 0.06  # V that a fuse loses at its own rating: 60 mV, cold; IEC 60127 allows more for small ones (mem)


@dataclass(frozen=True)
class Segment:
    """Something in the way of the current from `start` to `end`. ohms: out and back together."""

    name: str
    start: str
    end: str
    ohms: float


@dataclass(frozen=True)
class Sink:
    """Something that takes watts at a node. least_v: below which it fails, 0 where nobody says."""

    name: str
    node: str
    watts: float
    least_v: float = 0.0


@dataclass(frozen=True)
class Tree:
    """volts: at the root without load. segments: from the root outwards, each end once."""

    root: str
    volts: float
    segments: tuple[Segment, ...]
    sinks: tuple[Sink, ...]


@dataclass(frozen=True)
class Flow:
    """volts: at every node. amps: through every segment, in their order. holds: whether the way bears the load at all:
    beyond half of the volts lost, more current brings less power; the volts are then those of the stated
    currents."""

    tree: Tree
    volts: Mapping[str, float]
    amps: tuple[float, ...]
    holds: bool = True

    @property
    def root_a(self) -> float:
        """Amps out of the root."""
        own = sum(
            amps for segment, amps in zip(self.tree.segments, self.amps, strict=True) if segment.start == self.tree.root
        )
        volts = self.volts[self.tree.root]
        volts = volts if self.holds else self.tree.volts
        return own + sum(sink.watts / volts for sink in self.tree.sinks if sink.node == self.tree.root and volts > 0)

    def lost_w(self, number: int) -> float:
        """Watts that a segment turns into heat."""
        return self.amps[number] ** 2 * self.tree.segments[number].ohms


def solved(tree: Tree) -> Flow:
    """The steady state of a tree. Raises ValueError for a node that is fed twice or by nobody."""
    order = _outward(tree)
    volts = dict.fromkeys([tree.root, *(segment.end for segment in order)], tree.volts)
    for sink in tree.sinks:
        if sink.node not in volts:
            raise ValueError(f"{sink.name} is at {sink.node!r}, which nothing feeds")
    amps: dict[str, float] = {}
    for _sweep in range(_SWEEPS):
        drawn = dict.fromkeys(volts, 0.0)
        for sink in tree.sinks:
            drawn[sink.node] += sink.watts / max(volts[sink.node], tree.volts * 0.05)
        for segment in reversed(order):
            amps[segment.end] = drawn[segment.end]
            drawn[segment.start] += drawn[segment.end]
        moved = 0.0
        for segment in order:
            fresh = volts[segment.start] - amps[segment.end] * segment.ohms
            moved = max(moved, abs(fresh - volts[segment.end]))
            # halfway near the edge, where a whole step would swing
            volts[segment.end] = fresh if fresh > tree.volts * 0.6 else (volts[segment.end] + fresh) / 2
        if moved < _ALIKE_V:
            break
    holds = moved < 1e-6 and all(value > tree.volts / 2 for value in volts.values())
    if not holds:  # the currents as stated: no volts that exist, but a bound that means something
        volts, amps = _as_stated(tree, order)
    return Flow(tree, volts, tuple(amps.get(segment.end, 0.0) for segment in tree.segments), holds)


def _as_stated(tree: Tree, order: Sequence[Segment]) -> tuple[dict[str, float], dict[str, float]]:
    """Volts and amps where every load takes what it takes at the root's volts; no volts below nothing."""
    drawn = dict.fromkeys([tree.root, *(segment.end for segment in order)], 0.0)
    for sink in tree.sinks:
        drawn[sink.node] += sink.watts / tree.volts
    amps: dict[str, float] = {}
    for segment in reversed(order):
        amps[segment.end] = drawn[segment.end]
        drawn[segment.start] += drawn[segment.end]
    volts = {tree.root: tree.volts}
    for segment in order:
        volts[segment.end] = max(0.0, volts[segment.start] - amps[segment.end] * segment.ohms)
    return volts, amps


def _outward(tree: Tree) -> list[Segment]:
    """Segments from the root outwards."""
    by_start: dict[str, list[Segment]] = {}
    for segment in tree.segments:
        by_start.setdefault(segment.start, []).append(segment)
    found: list[Segment] = []
    seen, waiting = {tree.root}, [tree.root]
    while waiting:
        for segment in by_start.get(waiting.pop(0), ()):
            if segment.end in seen:
                raise ValueError(f"{segment.end!r} is fed twice")
            seen.add(segment.end)
            found.append(segment)
            waiting.append(segment.end)
    if len(found) < len(tree.segments):
        lost = next(segment for segment in tree.segments if segment not in found)
        raise ValueError(f"{lost.name} begins at {lost.start!r}, which nothing feeds")
    return found


# --- the tree of a build ---------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Feed:
    """The whole way: the battery's side where there is one, the five volts, and what is drawn where."""

    low: Flow  # from the power supply or the converter on
    high: Flow | None  # from the battery to the converter
    supply: Supply
    board: Board
    settings: AssemblySettings
    load: Load
    hidden_ohm: float = 0.0  # what a measured voltage says beyond what is known
    assumed: tuple[str, ...] = field(default=())

    @property
    def board_v(self) -> float:
        return self.low.volts["board"]

    @property
    def usable_a(self) -> float:
        return self.supply.amps * (1 - RESERVE)


def board_a(build: Build, board: Board, load: Load) -> float:
    """Amps of a board under a load: between its usual current and its peak, the peak at its clock."""
    peak = board_peak_a(build, board)
    usual = min(board.typical_a, peak)
    return (
        max(usual * _LEAST, usual + _SHARES[load] * (peak - usual)) if load != "menu" else usual * (1 + _SHARES[load])
    )


def feed(build: Build, catalogue: Catalogue, load: Load | None = None, *, hidden: bool = True) -> Feed | None:
    """The tree of a build, solved for a load (the build's own where none is given); None without board and supply.
    hidden: with the resistance that a measured voltage tells."""
    board, supply = catalogue.find(Board, build.part("board")), power_source(build, catalogue)
    if board is None or supply is None:
        return None
    own = build.assembly
    now: Load = load or own.load
    extra = hidden_ohm(build, catalogue) if hidden else 0.0
    tree = _five_volts(build, catalogue, board, supply, now, extra)
    low = solved(tree)
    high = solved(_battery_side(own, low)) if own.source == "battery" else None
    return Feed(low, high, supply, board, own, now, extra)


def _cable(name: str, start: str, end: str, pieces: Sequence[Cable], celsius: float) -> list[Segment]:
    """A cable as its contacts and conductors, piece by piece; a gauge that nobody knows counts its contacts only."""
    found, at = [], start
    for number, piece in enumerate(pieces):
        joint = f"{end}/{number}"
        plug = "Contacts at the source" if not number else "Contacts between pieces"
        found.append(Segment(plug, at, joint, CONTACTS * CONTACT_OHM))
        at = f"{end}/{number}w"
        ohms = 2 * piece.length_m * awg_ohm_per_m(piece.awg, celsius) if piece.awg is not None else 0.0
        found.append(Segment(piece.name, joint, at, ohms))
    found.append(Segment(f"Contacts at {name}", at, end, CONTACTS * CONTACT_OHM))
    return found


def _five_volts(build: Build, catalogue: Catalogue, board: Board, supply: Supply, load: Load, extra: float) -> Tree:
    own = build.assembly
    segments: list[Segment] = []
    at = "supply"
    if own.switch_mohm:
        segments.append(Segment("Switch and sockets", "supply", "switch", own.switch_mohm / 1000))
        at = "switch"
    if extra > 0:
        segments.append(Segment("Extra, measured", at, "besides", extra))
        at = "besides"
    link = feed_of(build)
    segments += _cable(board.name, at, "board", pieces_of(link, catalogue) if link else (), own.wire_c)
    sinks = [Sink(board.name, "board", board_a(build, board, load) * BOARD_V, board.low_voltage_v)]
    feeder = link.start.partition(".")[0] if link else ""
    for part in build.parts:
        record = catalogue.any(part.part)
        if record is None or part.role in ("board", "supply", "bridge", "disk", feeder):
            continue
        segments += _leaf(build, catalogue, part.role, record, sinks, own.wire_c)
    if build.medium == "disk":
        bridge, disk = catalogue.find(Bridge, build.part("bridge")), catalogue.find(Disk, build.part("disk"))
        watts = (bridge.draws_a if bridge else 0.0) + (disk.peak_a if disk else 0.0)
        if watts:
            sinks.append(Sink("Disk on USB", "board", watts * BOARD_V))
    return Tree("supply", supply.volts, tuple(segments), tuple(sinks))


USB_LEAST_V = 4.40  # V at a low-power device (USB 2.0, 7.2.2)


def _leaf(
    build: Build, catalogue: Catalogue, role: str, record: CataloguePart, sinks: list[Sink], celsius: float
) -> list[Segment]:
    """What hangs on the board, by the cable that feeds it; what has none takes its current at the board."""
    segments: list[Segment] = []
    for port in record.ports:
        if not port.draws_a or port.direction != "in":
            continue
        link = _link_to(build, f"{role}.{port.id}")
        if link is not None and link.start.startswith("supply."):
            start = "supply"
        else:
            start = "board"
        node = f"{role}.{port.id}"
        pieces = pieces_of(link, catalogue) if link is not None else ()
        if pieces:
            segments += _cable(record.name, start, node, pieces, celsius)
        least = USB_LEAST_V if port.signal.startswith("USB") or port.signal == "power" else 0.0
        sinks.append(Sink(record.name, node if pieces else start, port.draws_a * BOARD_V, least))
    return segments


def _link_to(build: Build, plug: str) -> Link | None:
    return next((link for link in build.links if link.end == plug), None)


# --- the battery's side ----------------------------------------------------------------------------------------------

# volts of a 12 V battery at rest, full and empty, and where it must be cut off under load; CP
_BATTERIES = {"lead-acid": (12.75, 11.8, 11.5), "lithium iron phosphate": (13.3, 12.8, 11.5)}


def battery_v(settings: AssemblySettings, charge: float | None = None) -> float:
    """Volts at rest. charge: 0 to 1, the settings' own where none is given."""
    full, empty, _cut = _BATTERIES[settings.battery]
    part = settings.charged / 100 if charge is None else charge
    return empty + (full - empty) * min(1.0, max(0.0, part))


def cut_off_v(settings: AssemblySettings) -> float:
    """Volts under load at which the battery is to be left alone."""
    return _BATTERIES[settings.battery][2]


def fuse_ohm(amps: float) -> float:
    """Ohms of a fuse by its rating in A, cold; 0 for none."""
    return FUSE_V / amps if amps else 0.0


def _battery_side(own: AssemblySettings, low: Flow, charge: float | None = None) -> Tree:
    watts = low.root_a * low.tree.volts / (own.converter_percent / 100)
    lead = 2 * own.lead_m * awg_ohm_per_m(own.lead_awg, own.wire_c)
    rows = [("Battery, internal", own.battery_mohm / 1000), ("Terminals, connector", CONTACTS * CONTACT_OHM / 3)]
    rows += [(f"Fuse {own.fuse_a:g} A", fuse_ohm(own.fuse_a))] if own.fuse_a else []
    rows.append((f"Lead, AWG {own.lead_awg}, {own.lead_m:g} m", lead))
    names = ["cell", *(f"b{number}" for number in range(len(rows) - 1)), "converter"]
    segments = tuple(Segment(name, names[number], names[number + 1], ohms) for number, (name, ohms) in enumerate(rows))
    return Tree("cell", battery_v(own, charge), segments, (Sink("Converter", "converter", watts),))


@dataclass(frozen=True)
class RunTime:
    """hours: until the cut-off; lies: volts at the battery's terminals under load, by hours. ends_by: what ends it."""

    hours: float
    lies: tuple[tuple[float, float], ...]
    ends_by: str


_PEUKERT = {"lead-acid": 1.15, "lithium iron phosphate": 1.03}  # exponent at a 20 hour rate, CP
_KEEP = {"lead-acid": 0.5, "lithium iron phosphate": 0.1}  # of the charge that is kept for a long life, CP
_STEPS = 200


def run_time(found: Feed) -> RunTime | None:
    """How long a battery lasts under the load; None without one. A lead-acid one gives less the faster it is emptied
    (Peukert, stated for twenty hours)."""
    if found.high is None:
        return None
    own = found.settings
    keep, power = _KEEP[own.battery], _PEUKERT[own.battery]
    rated = own.battery_ah / 20  # A at which the capacity is stated
    charge, hours, lies, ends = own.charged / 100, 0.0, [], "half of the charge is left"
    if keep < 0.5:
        ends = "a tenth of the charge is left"
    step = max(0.0, charge - keep) / _STEPS
    for _ in range(_STEPS if step else 0):
        flow = solved(_battery_side(own, found.low, charge))
        terminal = flow.volts["b0"]
        lies.append((hours, terminal))
        if not flow.holds or terminal < cut_off_v(own):
            ends = f"its terminals fall below {cut_off_v(own):.1f} V"
            break
        amps = max(flow.root_a, 1e-6)
        worth = own.battery_ah * min(1.0, (rated / amps) ** (power - 1))
        hours += step * worth / amps
        charge -= step
    return RunTime(hours, tuple(lies), ends)


def way_key(build: Build) -> str:
    """What a voltage at the board is of: its supply and the pieces between."""
    link = feed_of(build)
    pieces = "+".join(link.pieces) if link else ""
    return f"{build.part('supply') or ''} {pieces} {build.part('board') or ''}"


_MOST_OHM = 20.0


def hidden_ohm(build: Build, catalogue: Catalogue) -> float:
    """The resistance that no data tell, by halving: with it the model shows what a meter showed on this way. 0 where
    nobody measured, or the meter showed more than the model."""
    reading = build.assembly.reading("volts", way_key(build))
    board, supply = catalogue.find(Board, build.part("board")), power_source(build, catalogue)
    if reading is None or board is None or supply is None:
        return 0.0

    def board_v(ohms: float) -> float:
        found = solved(_five_volts(build, catalogue, board, supply, reading.load, ohms))
        return found.volts["board"] if found.holds else 0.0

    if board_v(0.0) <= reading.value:
        return 0.0
    low, high = 0.0, _MOST_OHM
    for _ in range(50):
        middle = (low + high) / 2
        if board_v(middle) > reading.value:
            low = middle
        else:
            high = middle
    return low


BOARD_F = 330e-6  # farads at a board's power socket, CP
STEP_S = 0.02  # s that a step of the load is looked at


def stepped(build: Build, catalogue: Catalogue) -> Step | None:
    """The board's volts when everything steps from the menu to its peak, the supply giving no more than it can; None
    without board and supply."""
    rest, peak = feed(build, catalogue, "menu"), feed(build, catalogue, "peak")
    if rest is None or peak is None:
        return None
    ohms = _way_ohm(peak.low)
    watts = [sum(sink.watts for sink in found.low.tree.sinks) for found in (rest, peak)]
    source = Source(peak.supply.volts, max(ohms, 1e-3), BOARD_F, peak.supply.amps)
    return load_step(source, (watts[0], watts[1]), peak.board.low_voltage_v, STEP_S)


def hold_s(build: Build, catalogue: Catalogue) -> float:
    """Seconds that the board goes on after the power was cut, by its own capacitors, under its load."""
    found = feed(build, catalogue)
    if found is None:
        return 0.0
    watts = sum(sink.watts for sink in found.low.tree.sinks)
    return hold_up_s(found.board_v, found.board.low_voltage_v, BOARD_F, watts)


def _way_ohm(flow: Flow) -> float:
    """Ohms from the root to the board."""
    into = {segment.end: segment for segment in flow.tree.segments}
    at, total = "board", 0.0
    while at in into:
        total += into[at].ohms
        at = into[at].start
    return total
