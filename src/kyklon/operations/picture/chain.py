"""From the board's output to the glass, plug by plug: signal, sync, level, clock, connector, cable; and what is wrong.

Sources: EN 50049-1 (21-pin connector), HDMI 1.4 (a TMDS channel carries ten bits a pixel), IEC 60063 (E24), SMPTE 170M
(0.3 V of sync into 75 ohm). What is common practice is marked CP.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from kyklon.base.quantities import show
from kyklon.catalogue.cables import cable_of
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Adapter, Board, Cable, CataloguePart, Display, Port
from kyklon.model.build import Build, Link
from kyklon.model.timing import Timing
from kyklon.model.world import World

_SYNC_INSIDE = ("composite video", "S-video", "component")  # their luma carries it
OHMS = 75.0  # ohm: what a television's inputs are closed with (EN 50049-1)
SYNC_V = (0.3, 0.6)  # V into 75 ohm: 0.3 V is the standard's, 0.6 V what inputs bear, CP
_AIM_V = 0.45  # V: the middle of it
VIDEO_SIGNALS = ("HDMI", "DVI", "RGB", "component", "S-video", "composite video")
# E24 of IEC 60063, one decade
E24 = (10, 11, 12, 13, 15, 16, 18, 20, 22, 24, 27, 30, 33, 36, 39, 43, 47, 51, 56, 62, 68, 75, 82, 91)
_METRES_HZ = {"HDMI": 10 * 165e6, "DVI": 5 * 165e6, "RGB": 10 * 40e6}  # length times clock of a plain cable, CP
# EN 50049-1: what the contacts of the 21-pin connector carry towards a display
EN_50049 = (
    (7, "blue"),
    (11, "green"),
    (15, "red"),
    (16, "RGB on, 1–3 V"),
    (20, "composite sync"),
    (8, "on, 9.5-12 V"),
    (17, "ground of sync"),
)

Roles = Literal["board", "adapter", "display"]


@dataclass(frozen=True)
class Place:
    """A part of the chain. sync: as it leaves it, or as a display takes it. sync_v: of its sync into 75 ohm, 0 where
    the signal is digital. clock: the least and the most that it takes, in Hz, 0 for no limit. delay_ms: it adds."""

    role: str
    part: CataloguePart
    kind: Roles
    enters: Port | None
    leaves: Port | None
    sync: str
    sync_v: float = 0.0
    clock: tuple[int, int] = (0, 0)
    delay_ms: float = 0.0


@dataclass(frozen=True)
class Lead:
    """The cable between two places. bits_s: of one channel of a digital link; 0 for others."""

    link: Link
    cable: Cable | None
    signal: str
    bits_s: float = 0.0


@dataclass(frozen=True)
class Trouble:
    """code: its finding's, after 'picture.chain-'. place: role where it is. stops: it must not be switched on."""

    code: str
    place: str
    title: str
    words: str
    do: str
    stops: bool = True


@dataclass(frozen=True)
class Chain:
    """places and the leads between them, from the board on; whole: it ends in the display."""

    places: tuple[Place, ...]
    leads: tuple[Lead, ...]
    whole: bool
    troubles: tuple[Trouble, ...] = ()

    @property
    def delay_ms(self) -> float:
        return sum(place.delay_ms for place in self.places)

    @property
    def last(self) -> Place | None:
        """What feeds the display."""
        return self.places[-2] if self.whole and len(self.places) > 1 else None


def chain_of(build: Build, catalogue: Catalogue, world: World) -> Chain:
    """The chain as it is plugged. Empty without a display or a cable into it."""
    places, leads, whole = _walked(build, catalogue)
    return Chain(places, leads, whole, tuple(_troubles(build, places, leads, world)))


def _port(name: str, build: Build, catalogue: Catalogue) -> tuple[CataloguePart | None, Port | None]:
    role, _, port = name.partition(".")
    part = catalogue.any(build.part(role))
    return part, part.port(port) if part else None


def _walked(build: Build, catalogue: Catalogue) -> tuple[tuple[Place, ...], tuple[Lead, ...], bool]:
    """From the display back to the board, then turned round."""
    at, places, leads, entered = "display", list[Place](), list[Lead](), None
    seen: set[str] = set()
    leaves: Port | None = None
    display = catalogue.find(Display, build.part("display"))
    if display is None:
        return (), (), False
    while at not in seen:
        seen.add(at)
        part = catalogue.any(build.part(at))
        if part is None:
            break
        into = [link for link in build.links if link.end.partition(".")[0] == at and _video(link, build, catalogue)]
        feed = into[0] if into else None
        entered = _port(feed.end, build, catalogue)[1] if feed else None
        places.append(_place(at, part, entered, leaves))
        if feed is None:
            break
        giver, leaves = _port(feed.start, build, catalogue)
        signal = leaves.signal if leaves else ""
        leads.append(Lead(feed, cable_of(feed, catalogue), signal, _bits(signal, build.picture.menu.timing)))
        at = feed.start.partition(".")[0]
        if giver is None:
            break
    places.reverse()
    leads.reverse()
    return tuple(places), tuple(leads), len(places) > 1 and places[0].kind == "board"


def _video(link: Link, build: Build, catalogue: Catalogue) -> bool:
    port = _port(link.end, build, catalogue)[1]
    return port is not None and port.signal in VIDEO_SIGNALS


def _bits(signal: str, timing: Timing) -> float:
    return timing.clock_hz * 10.0 if signal in ("HDMI", "DVI") else 0.0


def _place(role: str, part: CataloguePart, enters: Port | None, leaves: Port | None) -> Place:
    if isinstance(part, Display):
        in_picture = enters is not None and enters.signal in _SYNC_INSIDE
        sync = "in the picture" if in_picture else str(part.sync)
        return Place(role, part, "display", enters, leaves, sync, clock=(0, part.most_clock_hz))
    if isinstance(part, Adapter):
        volts = into_75(part.sync_volts, part.ohms) if part.sync_volts else 0.3
        in_picture = leaves is not None and leaves.signal in _SYNC_INSIDE
        sync = "in the picture" if in_picture else str(part.sync_out)
        return Place(
            role,
            part,
            "adapter",
            enters,
            leaves,
            sync,
            0.0 if part.sync_out == "digital" else volts,
            (part.least_clock_hz, part.most_clock_hz),
            part.delay_ms,
        )
    least, most = (part.least_clock_hz, part.most_clock_hz) if isinstance(part, Board) else (0, 0)
    signal = leaves.signal if leaves is not None else "HDMI"
    inside = "in the picture" if signal in _SYNC_INSIDE else "separate"
    sync = "digital" if signal in ("HDMI", "DVI") else inside
    return Place(role, part, "board", enters, leaves, sync, clock=(least, most))


def into_75(volts: float, ohms: float) -> float:
    """Level across 75 ohm through a series resistor: V x 75 / (R + 75)."""
    return volts * OHMS / (ohms + OHMS)


def resistor_for(volts: float) -> int:
    """The E24 value in ohm that brings a logic level nearest to the middle of the sync window."""
    wanted = volts * OHMS / _AIM_V - OHMS
    values = [each * factor for factor in (1, 10, 100, 1000) for each in E24]
    return min(values, key=lambda each: abs(each - wanted))


def _troubles(build: Build, places: tuple[Place, ...], leads: tuple[Lead, ...], world: World) -> Iterator[Trouble]:
    if len(places) < 2:
        return
    yield from _sync(places, leads)
    yield from _converters(build, places, world)
    yield from _cables(leads, build.picture.menu.timing)
    yield from _outputs(places)
    yield from _contacts(places, leads)


def _sync(places: tuple[Place, ...], leads: tuple[Lead, ...]) -> Iterator[Trouble]:
    """Two sync outputs on one wire, a kind that the next does not take, a level that it does not bear."""
    for lead, giver, taker in zip(leads, places, places[1:], strict=False):
        if lead.cable is not None and lead.cable.ties_sync and giver.sync == "separate":
            yield Trouble(
                "tied",
                giver.role,
                "Two sync outputs are tied together",
                f"{lead.cable.name} joins horizontal and vertical sync of {giver.part.name} on one wire.",
                "Each output drives the other, and the input is over-driven. Use an active sync combiner.",
            )
            continue
        if giver.kind == "board" and giver.sync == "digital":
            continue
        wanted = taker.sync if taker.kind == "display" else getattr(taker.part, "sync_in", "") or giver.sync
        if wanted != giver.sync and not (wanted == "separate" and giver.sync == "in the picture"):
            combiner = giver.sync == "separate" and wanted == "composite"
            do = "An active sync combiner between them gives it." if combiner else "Choose a part that gives it."
            yield Trouble(
                "sync",
                taker.role,
                f"{taker.part.name} needs {wanted} sync",
                f"{giver.part.name} sends its sync within the picture signal."
                if giver.sync == "in the picture"
                else f"{giver.part.name} gives {giver.sync} sync.",
                f"The picture rolls, or there is none. {do}",
            )
        elif wanted == "composite" and taker.kind == "display" and giver.sync_v:
            yield from _level(giver, taker, lead)


def _level(giver: Place, taker: Place, lead: Lead) -> Iterator[Trouble]:
    own = giver.part
    ohms = (own.ohms if isinstance(own, Adapter) else 0.0) + (lead.cable.sync_ohms if lead.cable else 0.0)
    volts = own.sync_volts if isinstance(own, Adapter) else 0.0
    if not volts:
        return
    level = into_75(volts, ohms)
    low, high = SYNC_V
    if low <= level <= high:
        return
    value = resistor_for(volts)
    if level > high:
        more = max(0, value - ohms)
        do = f"Put {more:.0f} Ω in series with the sync: {show(into_75(volts, ohms + more), 'V', prefix='')} into 75 Ω."
    else:
        do = f"Use {value} Ω in place of {ohms:.0f} Ω, or a sync amplifier."
    much = "too much" if level > high else "too little"
    given = f"{giver.part.name} gives {show(volts, 'V', 1, prefix='')} through {ohms:.0f} Ω"
    yield Trouble(
        "level",
        giver.role,
        f"A sync of {show(level, 'V', prefix='')} is {much}",
        f"{given}; {taker.part.name} accepts {low:g} to {high:g} V into 75 Ω.",
        do,
        stops=level > high,
    )


def _converters(build: Build, places: tuple[Place, ...], world: World) -> Iterator[Trouble]:
    timing = build.picture.menu.timing
    for place in places:
        part = place.part
        if not isinstance(part, Adapter):
            continue
        why = _dvi(build, places[0].part, world) if part.needs_hdmi else ""
        if why:
            yield Trouble(
                "hdmi",
                place.role,
                f"{part.name} needs HDMI but gets DVI",
                f"The link is driven as DVI: {why}.",
                "It stays dark. Set the link to HDMI in Boot, or announce HDMI in the EDID.",
            )
        if part.least_width > timing.size[0]:
            yield Trouble(
                "width",
                place.role,
                f"{part.name} needs {part.least_width} pixels across",
                f"The menu has {timing.size[0]}.",
                "It shows nothing below that. Choose a wider mode.",
            )


def _dvi(build: Build, board: CataloguePart, world: World) -> str:
    """Why the link carries no HDMI, '' where it does."""
    obeys = isinstance(board, Board) and "link kind" in board.honours
    if build.boot.link == "dvi" and obeys:
        return "the boot file says so"
    if build.boot.link == "hdmi" and obeys:
        return ""
    if build.picture.issue_identification and isinstance(board, Board) and "edid firmware" in board.honours:
        return (
            ""
            if build.boot.sound == "digital"
            else "unless audio uses HDMI, the EDID handed to the kernel does not announce HDMI"
        )
    data = world.identification
    announced = data is not None and data.extension is not None and data.extension.hdmi
    return "" if announced else "the EDID announces no HDMI"


def _cables(leads: tuple[Lead, ...], timing: Timing) -> Iterator[Trouble]:
    for lead in leads:
        most = _METRES_HZ.get(lead.signal)
        if most is None or lead.cable is None:
            continue
        length = most / timing.clock_hz
        if lead.cable.length_m > length:
            clock = show(timing.clock_hz, "Hz", 1, prefix="M")
            yield Trouble(
                "length",
                lead.link.end.partition(".")[0],
                f"{lead.cable.length_m:g} m is long for {clock}",
                f"{lead.cable.name} carries that clock over about {length:.1f} m.",
                "Sparkles, or no picture: use a shorter cable, or a slower mode.",
                stops=False,
            )


def _outputs(places: tuple[Place, ...]) -> Iterator[Trouble]:
    """Of two video sockets the first one lights: firmware and boot files speak to it."""
    first = places[0]
    if first.kind != "board" or first.leaves is None:
        return
    sockets = [port for port in first.part.ports if port.direction == "out" and port.signal == first.leaves.signal]
    if len(sockets) > 1 and first.leaves.id != sockets[0].id:
        yield Trouble(
            "output",
            first.role,
            f"{first.leaves.label} stays dark",
            f"The display is plugged into {first.leaves.label}, but the firmware and boot files drive "
            f"{sockets[0].label}.",
            f"Plug it into {sockets[0].label}.",
        )


def _contacts(places: tuple[Place, ...], leads: tuple[Lead, ...]) -> Iterator[Trouble]:
    """A jack whose contacts carry other things than its lead expects."""
    for lead, giver in zip(leads, places, strict=False):
        own = giver.leaves.contacts if giver.leaves else ()
        theirs = lead.cable.contacts if lead.cable else ()
        if own and theirs and own != theirs:
            names = ("tip", "first ring", "second ring", "sleeve")
            wrong = [
                f"{name}: {one}, the lead carries {other}"
                for name, one, other in zip(names, own, theirs, strict=False)
                if one != other
            ]
            yield Trouble(
                "contacts",
                giver.role,
                "The jack and the lead have different pinouts",
                f"{lead.cable.name if lead.cable else ''}: {'; '.join(wrong)}.",
                "Picture and sound are swapped: hum, or a picture that flickers with the sound. Choose "
                "the lead made for this socket.",
            )
