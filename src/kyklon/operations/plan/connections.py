"""The links of a build resolved to ports, with everything that is wrong with each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from kyklon.catalogue.cables import joined, pieces_of, why_not_joined
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Adapter, Cable, CataloguePart, Port
from kyklon.model.build import Build, Link, edited
from kyklon.operations.picture.chain import VIDEO_SIGNALS


@dataclass(frozen=True)
class Connection:
    """A link with its ports and its cable, several pieces as one. faults: what is wrong, each a sentence; '' ports mean
    the link dangles."""

    link: Link
    cable: Cable | None
    start: Port | None
    end: Port | None
    faults: tuple[str, ...]
    fitting: str = ""  # id of a cable of the catalogue that would fit


def connections(build: Build, catalogue: Catalogue) -> tuple[Connection, ...]:
    return tuple(_connect(link, build, catalogue) for link in build.links)


def port_of(name: str, build: Build, catalogue: Catalogue) -> tuple[CataloguePart | None, Port | None]:
    """The part and port that 'role.port' names."""
    role, _, port_id = name.partition(".")
    part = catalogue.any(build.part(role))
    return part, part.port(port_id) if part else None


def _connect(link: Link, build: Build, catalogue: Catalogue) -> Connection:
    pieces = pieces_of(link, catalogue)
    cable = joined(pieces) if pieces else None
    start_part, start = port_of(link.start, build, catalogue)
    end_part, end = port_of(link.end, build, catalogue)
    faults: list[str] = []
    for name, part, port in ((link.start, start_part, start), (link.end, end_part, end)):
        if port is None:
            role, _, port_id = name.partition(".")
            faults.append(f"{part.name if part else 'No ' + role} has no port “{port_id}”.")
    if cable is None:
        missing = next((piece for piece in link.pieces if catalogue.find(Cable, piece) is None), "")
        faults.append(f"The catalogue has no cable {missing!r}.")
    if cable is None or start is None or end is None or start_part is None or end_part is None:
        return Connection(link, cable, start, end, tuple(faults))
    faults += _faults(pieces, start_part, start, end_part, end)
    if not faults and cable.length_m < link.needs_m:
        faults.append(f"{cable.name} is {cable.length_m:g} m long; {link.needs_m:g} m are needed.")
    fitting = "" if not faults else _fitting(start, end, catalogue, link.needs_m)
    return Connection(link, cable, start, end, tuple(faults), fitting)


def _faults(
    pieces: Sequence[Cable], start_part: CataloguePart, start: Port, end_part: CataloguePart, end: Port
) -> list[str]:
    faults, cable = [], joined(pieces)
    if len(pieces) == 1 and not cable.socket_end and sorted(cable.ends) != sorted((start.connector, end.connector)):
        faults.append(
            f"{cable.name} has the plugs {cable.ends[0]} and {cable.ends[1]}; {start_part.name} needs "
            f"{start.connector} and {end_part.name} {end.connector}."
        )
    elif why := why_not_joined(pieces, start.connector, end.connector):
        faults.append(why)
    if start.direction == "in" or end.direction == "out":
        faults.append(f"{start_part.name} cannot feed {end_part.name}: the direction is the wrong way round.")
    if not _agree(start, end):
        faults.append(f"{start_part.name} sends {start.signal}; {end_part.name} accepts {end.signal}.")
    elif not carries(cable, start, end):
        faults.append(f"{cable.name} does not carry {end.signal if _is_fed(start, end) else start.signal}.")
    return faults


def _is_fed(socket: Port, plug: Port) -> bool:
    """Whether a USB socket powers something that asks it for nothing else (USB 2.0, 7.2.1)."""
    return _family(socket.signal) == "USB" and plug.signal == "power"


def _agree(start: Port, end: Port) -> bool:
    return _family(start.signal) == _family(end.signal) or _is_fed(start, end)


def carries(cable: Cable, start: Port, end: Port) -> bool:
    carried = {_family(signal) for signal in cable.signals}
    return bool(carried & {"USB", "power"}) if _is_fed(start, end) else _family(start.signal) in carried


def _family(signal: str) -> str:
    return "USB" if signal.startswith("USB") else signal


def _fitting(start: Port, end: Port, catalogue: Catalogue, needs_m: float = 0.0) -> str:
    """The cable that is put between two sockets: the user's own before what ships, then the shortest that is as long as
    needed; '' for none."""
    if not _agree(start, end):
        return ""
    able = [
        cable
        for cable in catalogue.all(Cable)
        if sorted(cable.ends) == sorted((start.connector, end.connector))
        and carries(cable, start, end)
        and not cable.ties_sync  # that one harms whatever it fits
        and not cable.socket_end
        and cable.length_m >= needs_m
    ]
    best = min(able, key=lambda cable: (("cables", cable.id) not in catalogue.own, cable.length_m), default=None)
    return best.id if best is not None else ""


def connect(build: Build, catalogue: Catalogue) -> tuple[Link, ...]:
    """Links for all parts of a build: every plug that takes a signal or power gets the nearest socket that gives it,
    with the shortest cable that fits. Links that are right already stay; what nothing fits is left open. An adapter
    that the display has no use for is passed by."""
    kept = [connection.link for connection in connections(build, catalogue) if not connection.faults]
    links = _connected(build, catalogue, kept)
    if not _fed(build, catalogue, list(links)):
        used = {link.start.partition(".")[0] for link in links}
        direct = [link for link in links if not _is_adapter(link.end) or link.end.partition(".")[0] in used]
        passed = {part.role for part in build.parts if part.role.startswith("adapter") and part.role not in used}
        without = edited(build, "parts", tuple(part for part in build.parts if part.role not in passed))
        tried = _connected(without, catalogue, direct)
        return tried if _fed(build, catalogue, list(tried)) else links
    return links


def _is_adapter(socket: str) -> bool:
    return socket.startswith("adapter")


def _connected(build: Build, catalogue: Catalogue, kept: list[Link]) -> tuple[Link, ...]:
    taken = {end for link in kept for end in (link.start, link.end)}
    links = list(kept)
    for taker, plug in _ports(build, catalogue, "in"):
        shown = taker.startswith("display.") and plug.signal in VIDEO_SIGNALS
        if taker in taken or (shown and _fed(build, catalogue, links)):
            continue
        for giver, socket in _ports(build, catalogue, "out"):
            if giver in taken or giver.partition(".")[0] == taker.partition(".")[0] or not _feeds(giver, socket, plug):
                continue
            cable = _fitting(socket, plug, catalogue)
            if cable:
                links.append(Link(start=giver, end=taker, cable=cable))
                taken |= {giver, taker}
                break
    return tuple(links)


def sockets(build: Build, catalogue: Catalogue) -> tuple[str, ...]:
    """Every socket and plug of a build's parts, as role.port."""
    found = []
    for part in build.parts:
        record = catalogue.any(part.part)
        found += [f"{part.role}.{port.id}" for port in record.ports] if record else []
    return tuple(found)


def with_cable(
    build: Build, start: str, end: str, cable: str | Sequence[str], catalogue: Catalogue, needs_m: float | None = None
) -> Build:
    """A Build with these two sockets connected; what was plugged into either is pulled out. cable: one, or several
    pieces from start to end, '' for the shortest of the shelf that fits. needs_m: how far apart they are, None for as
    it was. Raises ValueError for an unknown socket or cable, and where none fits."""
    known = sockets(build, catalogue)
    for name in (start, end):
        if name not in known:
            raise ValueError(f"This build has no socket {name!r}; it has {', '.join(known)}")
    _part, one = port_of(start, build, catalogue)
    _part, two = port_of(end, build, catalogue)
    assert one is not None
    assert two is not None
    pieces = [cable] if isinstance(cable, str) else list(cable)
    if one.direction == "in" or two.direction == "out":
        start, end, one, two = end, start, two, one
        pieces.reverse()
    before = next((link for link in build.links if (link.start, link.end) == (start, end)), None)
    length = needs_m if needs_m is not None else before.needs_m if before else 0.0
    if pieces in ([], [""]):
        pieces = [_fitting(one, two, catalogue, length)]
    if not pieces[0]:
        enough = f" over {length:g} m" if length else ""
        raise ValueError(f"No cable on the shelf fits {one.connector} and {two.connector} for {one.signal}{enough}")
    for piece in pieces:
        if catalogue.find(Cable, piece) is None:
            raise ValueError(f"The shelf has no cable {piece!r}")
    kept = tuple(link for link in build.links if not {start, end} & {link.start, link.end})
    made = Link(start=start, end=end, cable=pieces[0], further=tuple(pieces[1:]), needs_m=length)
    return edited(build, "links", (*kept, made))


def with_length(build: Build, start: str, end: str, needs_m: float) -> Build:
    """A Build that says how far apart two connected sockets are, in metres along the cable."""
    links = (
        link.model_copy(update={"needs_m": needs_m}) if (link.start, link.end) == (start, end) else link
        for link in build.links
    )
    return edited(build, "links", tuple(links))


def longer_by(build: Build, start: str, end: str, catalogue: Catalogue) -> tuple[Cable, ...]:
    """The pieces of the shelf that can be put at the end of what connects two sockets: with each, what is between them
    still fits."""
    link = next((link for link in build.links if (link.start, link.end) == (start, end)), None)
    start_part, one = port_of(start, build, catalogue)
    end_part, two = port_of(end, build, catalogue)
    if link is None or one is None or two is None or start_part is None or end_part is None:
        return ()
    pieces = pieces_of(link, catalogue)
    return tuple(
        cable
        for cable in catalogue.all(Cable)
        if not cable.ties_sync and not _faults((*pieces, cable), start_part, one, end_part, two)
    )


def cables_for(build: Build, start: str, end: str, catalogue: Catalogue) -> tuple[Cable, ...]:
    """The cables of the shelf that fit two sockets and carry what is between them; the user's own first, those that
    harm left out."""
    start_part, one = port_of(start, build, catalogue)
    end_part, two = port_of(end, build, catalogue)
    if one is None or two is None or start_part is None or end_part is None:
        return ()
    fitting = [
        cable
        for cable in catalogue.all(Cable)
        if not cable.ties_sync and not _faults((cable,), start_part, one, end_part, two)
    ]
    return tuple(sorted(fitting, key=lambda cable: ("cables", cable.id) not in catalogue.own))


def helps_between(build: Build, start: str, end: str, catalogue: Catalogue) -> str:
    """What would connect two sockets that no cable does: an adapter of the shelf, in a sentence; '' for nothing."""
    _part, one = port_of(start, build, catalogue)
    _other, two = port_of(end, build, catalogue)
    if one is None or two is None:
        return ""
    if one.direction == "in":
        one, two = two, one
    if one.direction == two.direction and one.direction != "both":
        return "Both give." if one.direction == "out" else "Both take."
    for adapter in catalogue.all(Adapter):
        into = [port for port in adapter.ports if port.direction == "in" and _fitting(one, port, catalogue)]
        out_of = [port for port in adapter.ports if port.direction == "out" and _fitting(port, two, catalogue)]
        if into and out_of:
            return f"{adapter.name} goes between them."
    return ""


def sockets_for(build: Build, plug: str, catalogue: Catalogue) -> tuple[str, ...]:
    """The free sockets that a plug can be connected to by some cable of the shelf."""
    used = {end for link in build.links for end in (link.start, link.end)}
    return tuple(
        name
        for name, _port in _ports(build, catalogue, "out")
        if name not in used
        and name.partition(".")[0] != plug.partition(".")[0]
        and cables_for(build, name, plug, catalogue)
    )


def without_cable(build: Build, socket: str) -> Build:
    """A Build with the cable at a socket pulled out. Raises ValueError where there is none."""
    kept = tuple(link for link in build.links if socket not in (link.start, link.end))
    if len(kept) == len(build.links):
        raise ValueError(f"Nothing is plugged into {socket}")
    return edited(build, "links", kept)


def _fed(build: Build, catalogue: Catalogue, links: list[Link]) -> bool:
    """Whether the display has a picture already: one of its inputs is enough."""
    ends = [port_of(link.end, build, catalogue)[1] for link in links if link.end.startswith("display.")]
    return any(port is not None and port.signal in VIDEO_SIGNALS for port in ends)


def _ports(build: Build, catalogue: Catalogue, direction: str) -> list[tuple[str, Port]]:
    """Every port of a direction as role.port. Adapters first: a signal goes through them where they fit; a card's
    plug is a giver."""
    found = []
    order = {"adapter": 0, "board": 1, "display": 2}
    for part in sorted(build.parts, key=lambda part: order.get(part.role, 3)):
        record = catalogue.any(part.part)
        for port in record.ports if record else ():
            both_as = "out" if part.role == "card" else "in"
            if port.direction == direction or (port.direction == "both" and both_as == direction):
                found.append((f"{part.role}.{port.id}", port))
    return found


def _feeds(giver: str, socket: Port, plug: Port) -> bool:
    """Power comes from the supply, or from a USB socket for what takes no more than it gives."""
    if _is_fed(socket, plug):
        return plug.draws_a <= socket.supplies_a
    return _family(socket.signal) == _family(plug.signal) and (plug.signal != "power" or giver.startswith("supply."))


def unconnected(build: Build, catalogue: Catalogue) -> tuple[str, ...]:
    """Plugs of a build that take a signal or power and have no cable. Of several inputs of a display or adapter one is
    enough; what takes power needs it besides."""
    used = {end for link in build.links for end in (link.start, link.end)}
    ports = [(name, port) for name, port in _ports(build, catalogue, "in") if name not in used]
    fed = {link.end.partition(".")[0] for link in build.links}
    return tuple(name for name, port in ports if name.partition(".")[0] not in fed or port.signal == "power")


def cost(build: Build, catalogue: Catalogue) -> tuple[tuple[str, int, float], ...]:
    """The parts list: name, count, price of all."""
    ids = [part.part for part in build.parts] + [piece for link in build.links for piece in link.pieces]
    rows = []
    for part_id in dict.fromkeys(ids):
        part = catalogue.any(part_id)
        if part is not None and part.price:
            rows.append((part.name, ids.count(part_id), ids.count(part_id) * part.price))
    return tuple(rows)
