"""The parts list: what the build is made of, what is needed beside it, and what of it is there."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import date

from kyklon.base.quantities import counted
from kyklon.base.tables import csv_of
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Cable, CataloguePart
from kyklon.catalogue.system_records import Panel
from kyklon.model.build import Build, edited
from kyklon.model.controls import Control
from kyklon.model.plan import Bought
from kyklon.operations.assembly.budget import budget
from kyklon.operations.assembly.heat import THROTTLE_C
from kyklon.operations.controls.hookup import hookup_of
from kyklon.operations.controls.wiring import harness
from kyklon.operations.plan.connections import port_of
from kyklon.operations.plan.wishes import kind_of

STATES = ("need", "ordered", "arrived", "have")
_SPARE = 0.1  # more of what is cut, crimped and dropped, CP
_NUT_PARTS = {"button": "Button", "start": "Small button", "select": "Small button", "coin": "Small button"}
_SHRINK_M = 0.02  # m of heat shrink a crimp, CP
_NO_CABLE_M = 0.01  # m: a card goes straight into its socket


@dataclass(frozen=True)
class Line:
    """A line of the list. key: kind/id, or extra/ and what it is. price: for one, None where nobody knows it. why: of
    what no drawing shows. essential: the machine does not run without it."""

    key: str
    name: str
    count: int
    unit: str
    price: float | None
    state: str
    why: str = ""
    essential: bool = True
    shop: str = ""
    day: str = ""
    serial: str = ""

    @property
    def owned(self) -> bool:
        return self.state in ("have", "arrived")

    @property
    def cost(self) -> float:
        """What is still to be paid for it."""
        return 0.0 if self.owned or self.price is None else self.price * self.count


@dataclass(frozen=True)
class PartsList:
    lines: tuple[Line, ...]

    @property
    def total(self) -> float:
        """What is still to be paid for the essential ones, as far as the prices are known."""
        return sum(line.cost for line in self.lines if line.essential)

    @property
    def unpriced(self) -> int:
        """Essential lines that are not there and whose price is not known."""
        return sum(line.essential and not line.owned and line.price is None for line in self.lines)

    @property
    def missing(self) -> tuple[Line, ...]:
        return tuple(line for line in self.lines if line.essential and not line.owned)


def parts_list(build: Build, catalogue: Catalogue) -> PartsList:
    """Every part, cable, control and consumable of a build."""
    tally: Counter[tuple[str, str]] = Counter()
    order: dict[tuple[str, str], CataloguePart] = {}
    for part in build.parts:
        known = catalogue.any(part.part)
        if known is not None and part.role != "image":
            key = (kind_of(known), known.id)
            tally[key] += 1
            order[key] = known
    for link in build.links:
        for piece in link.pieces:
            cable = catalogue.find(Cable, piece)
            if cable is not None and cable.length_m >= _NO_CABLE_M:
                tally["cables", cable.id] += 1
                order["cables", cable.id] = cable
    lines = [
        _line(build, f"{kind}/{part_id}", part.name, tally[kind, part_id], "", part.price or None)
        for (kind, part_id), part in order.items()
    ]
    bundle = build.plan.bought_bundle
    if bundle is not None:
        lines = [
            replace(line, price=0.0, why=f"in {bundle.name}") if line.key in bundle.parts else line for line in lines
        ]
        lines.append(
            _line(
                build,
                "extra/bundle",
                bundle.name,
                1,
                "",
                bundle.price,
                f"{counted(len(bundle.parts), 'part')} together",
            )
        )
    extras = [*_controls(build, catalogue), *_consumables(build, catalogue), *_beside(build, catalogue)]
    for extra, name, count, unit, why, essential in extras:
        lines.append(_line(build, f"extra/{extra}", name, count, unit, None, why, essential))
    return PartsList(tuple(lines))


def _line(
    build: Build, key: str, name: str, count: int, unit: str, price: float | None, why: str = "", essential: bool = True
) -> Line:
    noted = build.plan.bought(key)
    state = noted.state if noted else "have" if key in build.plan.at_hand else "need"
    own = noted.price if noted and noted.price is not None else price
    more = (noted.shop, noted.day, noted.serial) if noted else ("", "", "")
    return Line(key, name, count, unit, own, state, why, essential, *more)


_Extra = tuple[str, str, int, str, str, bool]  # key, name, count, unit, why, essential


def _controls(build: Build, catalogue: Catalogue) -> Iterable[_Extra]:
    """Buttons by their bore, levers and others of every seat."""
    panel = catalogue.find(Panel, build.controls.panel)
    if panel is None or not any(part.role.startswith("encoder") for part in build.parts):
        return
    found: Counter[str] = Counter()
    for control in panel.controls:
        found[_control_name(control)] += panel.players
    for name, count in found.items():
        yield name.lower().replace(" ", "-"), name, count, "", f"{panel.name}, {panel.players} seats", True


def _control_name(control: Control) -> str:
    name = _NUT_PARTS.get(control.kind, control.kind.capitalize())
    return f"{name} {control.bore:g} mm" if control.kind in _NUT_PARTS else name


def _consumables(build: Build, catalogue: Catalogue) -> Iterable[_Extra]:
    """Crimps, wire and heat shrink of the harness, screws of board and panel."""
    hookup = hookup_of(build, catalogue)
    if hookup is not None and hookup.devices:
        made = harness(hookup)
        for width, count in made.crimps.items():
            need = round(count * (1 + _SPARE) + 0.5)
            yield f"crimp-{width:g}", f"Quick-connects {width:g} mm", need, "", "of the wiring list, a tenth more", True
        for colour, metres in made.metres.items():
            need = round(metres * (1 + _SPARE) + 0.5)
            yield f"wire-{colour}", f"Wire, {colour}", need, "m", "of the wiring list, a tenth more", True
        if made.runs:
            yield (
                "heat-shrink",
                "Heat shrink",
                round(sum(made.crimps.values()) * 0.02 + 0.5),
                "m",
                "2 cm a crimp",
                False,
            )
            yield "crimp-tool", "Crimping tool", 1, "", "pliers crush the barrel", True
    if build.part("board"):
        yield "standoffs", "Standoffs and screws for the board", 4, "", "one a corner; M2.5 is common", True
        yield "screwdriver", "Screwdriver, small", 1, "", "for board and panel", False


def _beside(build: Build, catalogue: Catalogue) -> Iterable[_Extra]:
    """What nobody counts: for the set-up, for sound, against heat, and sockets that are not enough."""
    image = catalogue.find(Image, build.part("image"))
    yield "card-reader", "Card reader", 1, "", "the image is written with it", True
    asks = image is not None and bool(image.installer_service)
    why = f"{image.name} asks questions at its first start" if image and asks else "for the set-up, if it asks"
    if build.part("keyboard") is None:
        yield "keyboard", "USB keyboard", 1, "", why, asks
    if image is not None and asks:
        why = f"{image.name} fetches {image.front_end} at its first start"
        yield "network", "Network cable or Wi-Fi", 1, "", why, True
    if _no_sound(build, catalogue):
        yield (
            "amplifier",
            "Amplifier and speakers",
            1,
            "",
            "the sound leaves by the board's jack, the display takes none",
            False,
        )
    power = budget(build, catalogue)
    if power is not None and power.chip_c >= THROTTLE_C:
        yield "heat-sink", "Heat sink or fan", 1, "", f"the chip may reach {power.chip_c:.0f} °C at peak", False
    open_, lack = _sockets(build, catalogue)
    if lack > 0:
        yield "hub", "USB hub with its own supply", 1, "", f"{lack} sockets too few; {open_}", True
    if not any(link.end == "board.power" for link in build.links):
        return
    yield "switch", "Inline power switch", 1, "", "pulling the plug wears the socket", False


def _no_sound(build: Build, catalogue: Catalogue) -> bool:
    if build.boot.sound != "analogue":
        return False
    display = catalogue.any(build.part("display"))
    return display is None or not any(port.signal == "line audio" and port.direction == "in" for port in display.ports)


def _sockets(build: Build, catalogue: Catalogue) -> tuple[str, int]:
    """In words what plugs into the board by USB, and how many sockets are too few."""
    board = catalogue.any(build.part("board"))
    if board is None:
        return "", 0
    sockets = [port for port in board.ports if port.direction == "out" and port.signal.startswith("USB")]
    used = {link.start for link in build.links if link.start.startswith("board.")}
    taken = sum(f"board.{port.id}" in used for port in sockets)
    waiting = 0
    for part in build.parts:
        record = catalogue.any(part.part) if part.role.startswith(("encoder", "keyboard")) else None
        for port in record.ports if record is not None else ():
            plugged = any(link.end == f"{part.role}.{port.id}" for link in build.links)
            waiting += port.signal.startswith("USB") and not plugged
    return f"{taken} of {len(sockets)} are taken", waiting


@dataclass(frozen=True)
class SocketUse:
    """A socket that gives power. set_up, play: amps drawn then; gives: amps, 0 where nobody says."""

    name: str
    takes: str
    set_up: float
    play: float
    gives: float


KEYBOARD_A = 0.1  # A: a low-power device (USB 2.0, 7.2.1)


def socket_use(build: Build, catalogue: Catalogue) -> tuple[SocketUse, ...]:
    """Every socket of the board with what is drawn from it in play, and at the set-up with a keyboard in a free one."""
    board = catalogue.any(build.part("board"))
    if board is None:
        return ()
    found = []
    keyboard = build.part("keyboard") is None
    for port in board.ports:
        if port.direction != "out" or not port.signal.startswith("USB"):
            continue
        link = next((link for link in build.links if link.start == f"board.{port.id}"), None)
        part, plug = port_of(link.end, build, catalogue) if link else (None, None)
        draws = plug.draws_a if plug else 0.0
        set_up, takes = draws, part.name if part else ""
        if link is None and keyboard:
            set_up, takes, keyboard = KEYBOARD_A, "keyboard, for the set-up", False
        found.append(SocketUse(port.label, takes, set_up, draws, port.supplies_a))
    return tuple(found)


# --- edits -----------------------------------------------------------------------------------------------------------


def noted(build: Build, key: str, **values: object) -> Build:
    """A build with a line's state, price, shop, day or serial noted. A new price keeps the one before it."""
    before = build.plan.bought(key)
    row = (before or Bought(key=key)).model_dump()
    if "price" in values and before is not None and before.price is not None and values["price"] != before.price:
        row["history"] = [*row["history"], [before.day or date.today().isoformat(), before.price]]
    row |= values
    if values.get("state") in ("ordered", "arrived") and not values.get("day"):
        row["day"] = date.today().isoformat()
    rows = [other.model_dump() for other in build.plan.parts if other.key != key]
    return edited(build, "plan.parts", [*rows, row])


def as_csv(made: PartsList) -> str:
    """The list for a spreadsheet."""
    head = ("part", "count", "unit", "need", "price for one", "to pay", "state", "shop", "date", "serial", "why")
    rows = [
        (
            line.name,
            line.count,
            line.unit,
            "essential" if line.essential else "optional",
            "" if line.price is None else f"{line.price:.2f}",
            f"{line.cost:.2f}",
            line.state,
            line.shop,
            line.day,
            line.serial,
            line.why,
        )
        for line in made.lines
    ]
    return csv_of([head, *rows, ("total of what is needed", "", "", "", "", f"{made.total:.2f}", "", "", "", "", "")])
