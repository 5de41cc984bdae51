"""Cables inside the case, contact by contact: what must not meet, and what a meter has to find.

A connector is typed, read from a table, or drawn out of the build: what the header's overlays and the encoders' wires
join. Levels: ground is 0 V; what an end gives must not be above what the other end takes.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

from kyklon.base.errors import WrongUse
from kyklon.base.tables import csv_of
from kyklon.catalogue.control_records import Header
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Board
from kyklon.model.build import Build, edited
from kyklon.model.casework import Connector, Contact
from kyklon.operations.controls import pins, wiring
from kyklon.operations.controls.fault_words import name_of
from kyklon.operations.controls.hookup import hookup_of

GROUNDS = ("gnd", "ground", "0 v", "0v", "earth", "vss")
_OVER_V = 0.35  # V that an input takes above its own supply before its protection conducts, CP
_HIGH_SHARE = 0.7  # of its supply that a CMOS input needs for a high: JESD8C
_SUPPLY_SHARE = 0.1  # that a supply may be off, CP
_RED, _BLACK = ("red",), ("black",)
COLUMNS = ("connector", "end", "contact", "other end", "other contact", "signal", "gives V", "takes V", "colour")
_MOST_BYTES = 1 << 20
_MOST_NEIGHBOURS = 60


@dataclass(frozen=True)
class Fault:
    """kind: stop or caution. contact: which of the connector, '' for all of it."""

    connector: str
    contact: str
    stop: bool
    words: str


@dataclass(frozen=True)
class Check:
    """One thing to do with the meter, power off. beep: whether it has to; held: the switch that is pressed then."""

    id: str
    one: str
    other: str
    beep: bool
    held: str = ""
    done: bool = False

    @property
    def words(self) -> str:
        pressed = f", only while {self.held} is pressed" if self.held else ""
        return f"{self.one} – {self.other}: {'beeps' if self.beep else 'silent'}{pressed}"


def is_ground(contact: Contact) -> bool:
    """Whether a contact is meant to be ground, by its signal or its volts."""
    return contact.signal.strip().lower() in GROUNDS or (contact.gives_v == 0 and contact.takes_v in (0, None))


def is_supply(contact: Contact) -> bool:
    """Whether a contact carries a supply: its signal is a voltage."""
    words = contact.signal.strip().lower().removeprefix("+").replace(" ", "")
    return (
        words.endswith("v") and words[:-1].replace(".", "", 1).replace(",", "", 1).isdigit() and not is_ground(contact)
    )


def key(contact: Contact) -> str:
    """A contact's name within its connector."""
    return f"{contact.one}>{contact.other}"


# --- which there are -------------------------------------------------------------------------------------------------


def connectors(build: Build, catalogue: Catalogue) -> tuple[Connector, ...]:
    """Own ones, then those that follow from the build."""
    own = build.assembly.connectors
    names = {connector.id for connector in own}
    return (*own, *(made for made in _drawn(build, catalogue) if made.id not in names))


def _drawn(build: Build, catalogue: Catalogue) -> Iterable[Connector]:
    board = catalogue.find(Board, build.part("board"))
    header = catalogue.find(Header, board.header) if board is not None and board.header else None
    if header is not None:
        yield from _of_header(build, catalogue, header)
    hookup = hookup_of(build, catalogue)
    if hookup is None:
        return
    made = wiring.harness(hookup)
    for device in hookup.devices:
        runs = [run for run in made.runs if run.role == device.role]
        rows = [
            Contact(one=run.printed[:40], other=name_of(hookup, run.control)[:40], signal="switch", colour=run.colour)
            for run in runs
        ]
        ground = next((chain for chain in made.chains if chain.role == device.role), None)
        if rows and ground is not None:
            rows.append(Contact(one="GND", other="ground chain", signal="ground", gives_v=0, colour=wiring.GROUND))
            yield Connector(
                id=f"wires-{device.role}",
                name=f"Controls at {device.title}"[:80],
                one=device.title[:80],
                other="Controls",
                contacts=tuple(rows[:100]),
            )


def _of_header(build: Build, catalogue: Catalogue, header: Header) -> Iterable[Connector]:
    """What the overlays put on the header, each with the ground pin that lies next to it."""
    wishes = pins.wishes_of(build.boot.overlays, catalogue)
    placed = pins.allocate(wishes, header)
    grounds = [pin.number for pin in header.pins if pin.kind == "ground"]
    for wish in wishes:
        rows = []
        for line in wish.lines:
            number = placed.pins.get((wish.overlay.id, line.name))
            if number is not None:
                volts = float(line.volts)
                rows.append(
                    Contact(
                        one=f"pin {number}",
                        other=line.name[:40],
                        signal=line.function[:40] or "signal",
                        gives_v=3.3,
                        takes_v=volts,
                    )
                )
        if not rows or not grounds:
            continue
        first = int(rows[0].one.removeprefix("pin "))
        near = min(grounds, key=lambda number: (abs(number - first), number))
        rows.append(Contact(one=f"pin {near}", other="GND", signal="ground", gives_v=0, takes_v=0, colour="black"))
        yield Connector(
            id=f"header-{wish.overlay.id}"[:60].lower(),
            name=f"{wish.overlay.name} on the header"[:80],
            one=header.name[:80],
            other=wish.overlay.name[:80],
            contacts=tuple(rows),
        )


# --- what must not meet ----------------------------------------------------------------------------------------------


def faults(found: tuple[Connector, ...]) -> tuple[Fault, ...]:
    """Everything that is wrong with the connectors, stops first."""
    grounded = {
        frozenset((connector.one, connector.other))
        for connector in found
        if any(is_ground(contact) for contact in connector.contacts)
    }
    rows: list[Fault] = []
    for connector in found:
        rows += [fault for contact in connector.contacts for fault in _levels(connector, contact)]
        rows += _twice(connector)
        rows += _colours(connector)
        live = [contact for contact in connector.contacts if contact.gives_v]
        if live and frozenset((connector.one, connector.other)) not in grounded:
            words = f"no wire joins the grounds of {connector.one} and {connector.other}: no signal has a way back"
            rows.append(Fault(connector.id, "", True, words))
    return tuple(sorted(rows, key=lambda fault: not fault.stop))


def _levels(connector: Connector, contact: Contact) -> Iterable[Fault]:
    gives, takes = contact.gives_v, contact.takes_v
    where = f"{contact.one} to {contact.other}"
    named = contact.signal.strip().lower() in GROUNDS
    if (named and (gives or takes)) or ((gives == 0) != (takes == 0) and None not in (gives, takes)):
        worst = max(abs(gives or 0.0), abs(takes or 0.0))
        yield Fault(connector.id, key(contact), True, f"{where}: {worst:g} V meets ground, a short circuit")
        return
    if gives is None or takes is None or gives == takes == 0:
        return
    if gives * takes < 0:
        yield Fault(connector.id, key(contact), True, f"{where}: {gives:g} V meets {takes:g} V, the polarity is wrong")
        return
    gives, takes = abs(gives), abs(takes)
    if is_supply(contact):
        if gives > takes * (1 + _SUPPLY_SHARE):
            yield Fault(connector.id, key(contact), True, f"{where}: {gives:g} V feed what takes {takes:g} V")
        elif gives < takes * (1 - _SUPPLY_SHARE):
            yield Fault(connector.id, key(contact), False, f"{where}: only {gives:g} V feed what needs {takes:g} V")
    elif gives > takes + _OVER_V:
        yield Fault(
            connector.id,
            key(contact),
            True,
            f"{where}: {gives:g} V kill an input that takes {takes:g} V; put a level shifter between",
        )
    elif gives < takes * _HIGH_SHARE:
        yield Fault(
            connector.id, key(contact), False, f"{where}: {gives:g} V may not count as high for {takes:g} V logic"
        )


def _twice(connector: Connector) -> Iterable[Fault]:
    """A contact that is used twice; grounds may share one."""
    for end, other in (("one", "other"), ("other", "one")):
        seen: dict[str, Contact] = {}
        for contact in connector.contacts:
            name = getattr(contact, end)
            before = seen.setdefault(name, contact)
            if before is contact or (is_ground(before) and is_ground(contact)):
                continue
            same = getattr(before, other) == getattr(contact, other)
            words = f"{name} has two wires, to {getattr(before, other)} and to {getattr(contact, other)}"
            words = f"{name} to {getattr(contact, other)} stands there twice" if same else words
            yield Fault(connector.id, key(contact), is_ground(before) != is_ground(contact), words)


def _colours(connector: Connector) -> Iterable[Fault]:
    """Red is for a supply and black for ground, by custom; two signals of one colour are told apart by nobody."""
    seen: dict[str, Contact] = {}
    for contact in connector.contacts:
        colour = contact.colour.strip().lower()
        if not colour:
            continue
        if colour in _BLACK and not is_ground(contact):
            yield Fault(
                connector.id,
                key(contact),
                False,
                f"{contact.one}: black is for ground, not for {contact.signal or 'a signal'}",
            )
        elif colour in _RED and is_ground(contact):
            yield Fault(connector.id, key(contact), False, f"{contact.one}: ground in red will be taken for a supply")
        before = seen.setdefault(colour, contact)
        if before is not contact and before.signal != contact.signal and contact.signal != "switch":
            yield Fault(connector.id, key(contact), False, f"{before.one} and {contact.one} are both {colour}")


# --- what the meter has to find --------------------------------------------------------------------------------------


def checks(build: Build, catalogue: Catalogue) -> tuple[Check, ...]:
    """All that is to be tried with a meter before power comes on: every wire through, supplies and neighbours apart."""
    done = set(build.assembly.metered)
    found: list[Check] = []
    for connector in connectors(build, catalogue):
        found += _of(connector)
    return tuple(Check(row.id, row.one, row.other, row.beep, row.held, row.id in done) for row in found)


def _of(connector: Connector) -> Iterable[Check]:
    def name(end: str, contact: str) -> str:
        return f"{end} {contact}"

    switches = [contact for contact in connector.contacts if contact.signal == "switch"]
    grounds = [contact for contact in connector.contacts if is_ground(contact)]
    for contact in connector.contacts:
        one, other = name(connector.one, contact.one), name(connector.other, contact.other)
        if contact in switches:
            if grounds:
                ground = name(connector.one, grounds[0].one)
                yield Check(f"{connector.id}/{key(contact)}/through", one, ground, True, contact.other)
        else:
            yield Check(f"{connector.id}/{key(contact)}/through", one, other, True)
    for contact in connector.contacts:
        if is_supply(contact) and grounds:
            one, other = name(connector.one, contact.one), name(connector.one, grounds[0].one)
            yield Check(f"{connector.id}/{key(contact)}/supply", one, other, False)
    others = [contact for contact in connector.contacts if contact not in switches]
    ordered = sorted(others, key=lambda contact: _number(contact.one))
    count = 0
    for before, after in pairwise(ordered):
        apart = (
            before.one != after.one and before.signal != after.signal and not (is_ground(before) and is_ground(after))
        )
        told = (is_supply(before) and is_ground(after)) or (is_supply(after) and is_ground(before))
        if apart and not told and count < _MOST_NEIGHBOURS and _number(after.one)[0] - _number(before.one)[0] <= 1:
            count += 1
            one, other = name(connector.one, before.one), name(connector.one, after.one)
            yield Check(f"{connector.id}/{key(before)}/{after.one}", one, other, False)


def _number(name: str) -> tuple[int, str]:
    digits = "".join(filter(str.isdecimal, name))
    return (int(digits[:6]) if digits else 10**6, name)


def with_tick(build: Build, name: str, *, done: bool = True) -> Build:
    """A build in which a check is ticked, or not any more."""
    kept = [each for each in build.assembly.metered if each != name]
    return edited(build, "assembly.metered", [*kept, name] if done else kept)


# --- tables ----------------------------------------------------------------------------------------------------------


def as_table(found: tuple[Connector, ...]) -> str:
    """Connectors as CSV with a head, as read_table takes them."""

    def volts(value: float | None) -> str:
        return "" if value is None else f"{value:g}"

    rows: list[tuple[str, ...]] = [COLUMNS]
    for connector in found:
        for contact in connector.contacts:
            rows.append(
                (
                    connector.name,
                    connector.one,
                    contact.one,
                    connector.other,
                    contact.other,
                    contact.signal,
                    volts(contact.gives_v),
                    volts(contact.takes_v),
                    contact.colour,
                )
            )
    return csv_of(rows)


def read_table(path: Path) -> tuple[Connector, ...]:
    """Connectors from a table with a head: CSV with commas, semicolons or tabs, UTF-8. Raises WrongUse naming the
    line, OSError."""
    with path.open("rb") as file:
        data = file.read(_MOST_BYTES + 1)
    if len(data) > _MOST_BYTES:
        raise WrongUse(f"{path} is too large for a table of connectors.", do="Keep it under 1 MB.")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as bad:
        raise WrongUse(f"{path} is no UTF-8 text.", do="Save the table as CSV, UTF-8.") from bad
    head = text.splitlines()[0] if text.strip() else ""
    mark = max(",;\t", key=head.count)
    rows = csv.DictReader(io.StringIO(text), delimiter=mark)
    missing = [
        name for name in COLUMNS[:5] if name not in [(each or "").strip().lower() for each in rows.fieldnames or ()]
    ]
    if missing:
        raise WrongUse(
            f"{path} has no column {', '.join(missing)}.", do=f"Its first line names the columns: {', '.join(COLUMNS)}."
        )
    found: dict[tuple[str, str, str], list[Contact]] = {}
    try:
        for raw in rows:
            row = {(name or "").strip().lower(): _plain(value) for name, value in raw.items()}
            if not any(row.values()):
                continue
            where = (row["connector"], row["end"], row["other end"])
            found.setdefault(where, []).append(
                Contact(
                    one=row["contact"],
                    other=row["other contact"],
                    signal=row.get("signal", ""),
                    gives_v=_volts(row.get("gives v", "")),
                    takes_v=_volts(row.get("takes v", "")),
                    colour=row.get("colour", ""),
                )
            )
        return tuple(
            Connector(id=f"own-{number}", name=name, one=one, other=other, contacts=tuple(contacts))
            for number, ((name, one, other), contacts) in enumerate(found.items(), 1)
        )
    except (ValueError, csv.Error) as bad:
        words = str(bad).splitlines()
        told = words[2].strip() if len(words) > 2 else words[0]
        raise WrongUse(f"{path}, line {rows.line_num}: {told}", do="Correct that line and read it again.") from bad


def _plain(value: object) -> str:
    """A cell without the apostrophe that csv_of puts before what looks like a formula."""
    text = str(value or "").strip()
    return text[1:] if re.match(r"'[=+\-@]", text) else text


def _volts(text: str) -> float | None:
    plain = text.lower().removesuffix("v").strip().replace(",", ".")
    if not plain:
        return None
    try:
        return float(plain)
    except ValueError:
        raise ValueError(f"{text!r} is no voltage") from None


def with_connectors(build: Build, rows: tuple[Connector, ...]) -> Build:
    """A build with these connectors besides its own; one of the same name takes the place of the old one. Raises
    ValueError where there are too many."""
    names = {row.name for row in rows}
    kept = [row for row in build.assembly.connectors if row.name not in names]
    taken = {row.id for row in kept}
    free = (f"own-{number}" for number in range(1, 1000) if f"own-{number}" not in taken)
    fresh = [row.model_copy(update={"id": next(free)}) for row in rows]
    return edited(build, "assembly.connectors", [row.model_dump() for row in (*kept, *fresh)])


def without_connector(build: Build, name: str) -> Build:
    """A build without one of its own connectors, by id. Raises ValueError for one that is not there."""
    rows = [row.model_dump() for row in build.assembly.connectors if row.id != name]
    if len(rows) == len(build.assembly.connectors):
        raise ValueError(f"There is no connector {name!r} of your own")
    return edited(build, "assembly.connectors", rows)
