"""The constraint model of a plan: one column a part and role or a kind of connection, rows under rules.

Every rule can be lifted: the fewest that must be are the reason why not.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from kyklon.catalogue.cables import joined
from kyklon.catalogue.control_records import Keyboard
from kyklon.catalogue.image_records import BareMetal, Image
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Adapter, Board, Card, CataloguePart, Display, Encoder, Port, Supply
from kyklon.catalogue.system_records import Panel
from kyklon.operations.assembly.power import RESERVE
from kyklon.operations.plan.fitting import (
    LinkKind,
    cheapest,
    count_of,
    family,
    feeding,
    gives,
    holding,
    is_video,
    link_kinds,
    ohms_of,
    pairing,
    serving,
    started_by,
    takes,
    with_header,
)
from kyklon.operations.plan.wishes import Prices, Wish, buttons_of, card_bytes, load_of, terminals_of, unsuited

ROLES: dict[str, tuple[str, type[CataloguePart]]] = {
    "board": ("boards", Board),
    "image": ("images", Image),
    "display": ("displays", Display),
    "adapter": ("adapters", Adapter),
    "supply": ("supplies", Supply),
    "card": ("cards", Card),
    "encoder": ("encoders", Encoder),
    "keyboard": ("keyboards", Keyboard),
}
NEEDED = ("board", "image", "display", "supply", "card")
_PART = 0.01  # of a currency unit: of two equal prices the plan with fewer new parts, with less delay comes first
_DELAY = 0.001  # a ms
_ASKS = 0.005  # an image that fetches and asks at its first start comes after one that is whole
_FREE_V = 60.0  # V: more than any supply gives

Key = tuple[str, str]  # role and id


@dataclass
class Rows:
    """Constraint rows, each with the rule under which it falls; '' for what cannot be lifted."""

    rows: list[dict[int, float]] = field(default_factory=list)
    low: list[float] = field(default_factory=list)
    high: list[float] = field(default_factory=list)
    rules: list[str] = field(default_factory=list)

    def add(self, row: Mapping[int, float], low: float, high: float, rule: str = "") -> None:
        """low <= row <= high. Only the lower half of an equality can be lifted."""
        if rule and math.isfinite(low) and math.isfinite(high):
            self.add(row, -math.inf, high)
            high = math.inf
        self.rows.append(dict(row))
        self.low.append(low)
        self.high.append(high)
        self.rules.append(rule)


class Model:
    """The rows and columns of a wish over a shelf. parts: what can be chosen, by role and id."""

    def __init__(self, wish: Wish, catalogue: Catalogue, own_prices: Mapping[str, float] | None = None) -> None:
        self.wish, self.catalogue = wish, catalogue
        self.prices = Prices(catalogue, wish, own_prices)
        self._columns: dict[object, int] = {}
        self._cost: list[float] = []  # of each column, what decides between equals included
        self._money: list[float] = []
        self._rows = Rows()
        self.parts: dict[Key, CataloguePart] = {}
        self._lay_out()

    # --- columns -------------------------------------------------------------------------------------------------

    def _column(self, name: object, money: float = 0.0, further: float = 0.0) -> int:
        if name not in self._columns:
            self._columns[name] = len(self._cost)
            self._cost.append(money + further)
            self._money.append(money)
        return self._columns[name]

    def _lay_out(self) -> None:
        for role, (kind, record) in ROLES.items():
            for part in self.catalogue.all(record):
                if isinstance(part, Keyboard) and not (part.pins or part.ports):
                    continue  # the keys that an emulated machine expects are no part
                price = self.prices.of(kind, part) * self._count(part)
                new = 0.0 if self.wish.has(kind, part.id) else _PART
                new += _PART / 10 if role in ("encoder", "keyboard") else 0.0  # what nobody needs is left out
                delay = _DELAY * (part.delay_ms if isinstance(part, Adapter) else 0.0)
                delay += _DELAY * (part.processing_ms if isinstance(part, Display) else 0.0)
                delay += _ASKS * (bool(part.installer_service) + 2 * part.is_base) if isinstance(part, Image) else 0.0
                self.parts[role, part.id] = part
                self._column((role, part.id), price, new + delay)
        for role in NEEDED:
            self._rows.add(self._all(role), 1, 1)
        self._rows.add(self._all("adapter"), 0, 1)
        self._rows.add(self._all("encoder"), 0 if by_keys(self.wish) else 1, 1)
        self._rows.add(self._all("keyboard"), 0, 1)
        self._speeds()
        self._played()
        self._pairs()
        self._power()
        self._picture()
        self._controls()
        self._wished()

    def _count(self, part: CataloguePart) -> int:
        return -(-self.wish.players // part.players) if isinstance(part, Encoder) else 1

    def _all(self, role: str, holds: Callable[[CataloguePart], bool] = lambda _part: True) -> dict[int, float]:
        return {self._columns[key]: 1.0 for key, part in self.parts.items() if key[0] == role and holds(part)}

    def _each(self, role: str) -> list[tuple[int, CataloguePart]]:
        return [(self._columns[key], part) for key, part in self.parts.items() if key[0] == role]

    def _needs(self, column: int, partners: Mapping[int, float], rule: str) -> None:
        """A part only with one of its partners."""
        self._rows.add({column: 1.0, **dict.fromkeys(partners, -1.0)}, -math.inf, 0, rule)

    def _never(self, column: int, rule: str) -> None:
        self._rows.add({column: 1.0}, -math.inf, 0, rule)

    def _speeds(self) -> None:
        for column, board in self._each("board"):
            assert isinstance(board, Board)
            for system in self.wish.systems:
                if load_of(system, board, self.catalogue, self.wish) > 1:
                    self._never(column, f"speed:{system.id}")

    def _played(self) -> None:
        """A bare-metal image is the machines of its sets, a chooser only starts other images. A machine that is nothing
        but a computer needs keys; beside consoles its games are played with what those have."""
        for column, image in self._each("image"):
            assert isinstance(image, Image)
            if self.wish.software and image.school != self.wish.software:
                self._never(column, "software")
            for system in self.wish.systems:
                if not image.has_system and system.id not in machines_of(image, self.catalogue):
                    self._never(column, f"plays:{system.id}")
        if is_computer(self.wish):
            self._rows.add(self._all("keyboard"), 1, math.inf, f"keys:{self.wish.systems[0].id}")
        elif not any(system.keyboard for system in self.wish.systems):
            self._rows.add(self._all("keyboard"), -math.inf, 0, "keys")

    def _pairs(self) -> None:
        """Boards with the images that serve them, and with the cards that they start from and that are large enough."""
        for column, board in self._each("board"):
            assert isinstance(board, Board)
            self._needs(column, self._all("image", serving(board)), "image")
            self._needs(column, self._all("card", started_by(board)), "loader")
        for column, image in self._each("image"):
            assert isinstance(image, Image)
            self._needs(column, self._all("card", holding(card_bytes(self.wish, image))), "card")

    def _kinds_between(self, starts: Iterable[Port], ends: Iterable[Port], reach_m: float = 0.0) -> list[LinkKind]:
        return link_kinds(starts, ends, self.catalogue, self.prices, reach_m, _PART)

    def _power(self) -> None:
        """One cable from supply to board; currents added up, and the volts that are left (power.budget)."""
        starts = [port for _c, part in self._each("supply") for port in part.ports if port.signal == "power"]
        ends = [port for _c, part in self._each("board") for port in part.ports if port.id == "power"]
        links = self._kinds_between(starts, ends)
        chosen: dict[int, float] = {}
        for link in links:
            column = self._column(("power", *link.key), link.price, link.new)
            chosen[column] = 1.0
            self._needs(column, self._all("supply", gives(link.start)), "power")
            self._needs(column, self._all("board", takes(link.end)), "power")
        self._rows.add(chosen, 1, 1, "power")
        draws: dict[int, float] = {}
        for (role, _id), part in self.parts.items():
            column = self._columns[role, part.id]
            if isinstance(part, Board):
                draws[column] = part.peak_a
            elif role not in ("supply", "image", "card"):
                draws[column] = sum(port.draws_a for port in part.ports) * self._count(part)
        supplies = [(column, part) for column, part in self._each("supply") if isinstance(part, Supply)]
        strong = {column: -part.amps * (1 - RESERVE) for column, part in supplies}
        self._rows.add({**draws, **strong}, -math.inf, 0, "current")
        volts = {column: part.volts for column, part in supplies}
        least = {column: -part.low_voltage_v for column, part in self._each("board") if isinstance(part, Board)}
        for link in links:
            column = self._columns["power", *link.key]
            ohms = ohms_of(link.pieces)
            if ohms is None:
                continue
            row = {**volts, **least, column: -_FREE_V}
            for other, amps in draws.items():
                row[other] = row.get(other, 0.0) - ohms * amps
            self._rows.add(row, -_FREE_V, math.inf, "voltage")

    def _picture(self) -> None:
        """Straight to the display, or through one adapter."""
        boards = [port for _c, part in self._each("board") for port in part.ports if is_video(port, "out")]
        displays = [port for _c, part in self._each("display") for port in part.ports if is_video(port, "in")]
        into = [port for _c, part in self._each("adapter") for port in part.ports if is_video(port, "in")]
        out_of = [port for _c, part in self._each("adapter") for port in part.ports if is_video(port, "out")]
        adapters = self._all("adapter")
        reach = self.wish.reach_m
        for name, starts, ends, giver, taker, long in (
            ("direct", boards, displays, "board", "display", True),
            ("first", boards, into, "board", "adapter", False),
            ("second", out_of, displays, "adapter", "display", True),
        ):
            chosen: dict[int, float] = {}
            for rule, metres in (("reach", 0.0), ("", reach)) if long and reach else (("", 0.0),):
                for link in cheapest(self._kinds_between(starts, ends, metres)):
                    column = self._column((name, *link.key), link.price, link.new)
                    chosen[column] = 1.0
                    self._needs(column, self._all(giver, gives(link.start)), "picture")
                    self._needs(column, self._all(taker, takes(link.end)), "picture")
                    if rule and joined(link.pieces).length_m < reach:
                        self._never(column, rule)
            through = dict.fromkeys(adapters, 1.0 if name == "direct" else -1.0)
            total = 1.0 if name == "direct" else 0.0
            self._rows.add({**chosen, **through}, total, total, "picture")

    def _controls(self) -> None:
        """Sockets of the board for the encoders, or its header, or no wire at all; and power for what needs it besides
        its picture. No socket is used twice."""
        boards = [port for _c, part in self._each("board") for port in part.ports if family(port) == "USB"]
        inputs = [*self._each("encoder"), *self._each("keyboard")]
        plugs = [port for _c, part in inputs for port in part.ports if family(port) == "USB"]
        used: dict[tuple[str, str], dict[int, float]] = {}
        links = cheapest(self._kinds_between(boards, plugs))
        if not any(panel.players >= self.wish.players for panel in self.catalogue.all(Panel)):
            self._rows.add(self._all("encoder"), -math.inf, 0, "players")
        for column, encoder in self._each("encoder"):
            assert isinstance(encoder, Encoder)
            count = self._count(encoder)
            for system in self.wish.systems:
                if terminals_of(encoder) < buttons_of(system):
                    self._never(column, f"buttons:{system.id}")
            plug = next((port for port in encoder.ports if family(port) == "USB"), None)
            if encoder.link == "header":
                self._needs(column, self._all("board", with_header) if count == 1 else {}, "controls")
            elif plug is not None:
                self._plugged(column, plug, count, links, used)
            elif encoder.link != "bluetooth":
                self._never(column, "controls")
            if encoder.link == "bluetooth":
                self._needs(column, self._all("image", pairing), "controls")
        headers = self._all("encoder", lambda part: isinstance(part, Encoder) and part.link == "header")
        for column, keyboard in self._each("keyboard"):
            assert isinstance(keyboard, Keyboard)
            plug = next((port for port in keyboard.ports if family(port) == "USB"), None)
            if plug is not None:
                self._plugged(column, plug, 1, links, used)
            elif keyboard.pins:  # its ribbon goes to the header, which takes one of the two
                self._needs(column, self._all("board", with_header), "controls")
                self._rows.add({column: 1.0, **headers}, -math.inf, 1, "controls")
        self._fed(boards, used)
        for kind, ways in used.items():
            sockets = {column: -float(count_of(board, kind)) for column, board in self._each("board")}
            self._rows.add({**ways, **sockets}, -math.inf, 0, "controls")

    def _plugged(
        self,
        column: int,
        plug: Port,
        count: int,
        links: Iterable[LinkKind],
        used: dict[tuple[str, str], dict[int, float]],
    ) -> None:
        """`count` of a part, each in a USB socket of the board. used: by kind of socket, what takes how many."""
        ways: dict[int, float] = {}
        for link in links:
            if link.end == (plug.connector, "USB"):
                key = ("controls", column, link.start, link.end, count)
                way = self._column(key, link.price * count, link.new * count)
                ways[way] = 1.0
                used.setdefault(link.start, {})[way] = float(count)
        self._needs(column, ways, "controls")

    def _fed(self, boards: Sequence[Port], used: dict[tuple[str, str], dict[int, float]]) -> None:
        """A socket of the board for the power of a display or an adapter; current is looked at socket by socket."""
        for role in ("display", "adapter"):
            for column, part in self._each(role):
                port = next((port for port in part.ports if port.direction == "in" and port.signal == "power"), None)
                if port is None:
                    continue
                strong = [socket for socket in boards if socket.supplies_a >= port.draws_a]
                ways: dict[int, float] = {}
                for link in cheapest(self._kinds_between(strong, [port])):
                    way = self._column(("feed", role, *link.key), link.price, link.new)
                    ways[way] = 1.0
                    used.setdefault(link.start, {})[way] = 1.0
                    able = self._all("board", feeding(link.start, port.draws_a))
                    self._needs(way, able, "controls")
                self._needs(column, ways, "controls")

    def _wished(self) -> None:
        wish = self.wish
        for column, display in self._each("display"):
            assert isinstance(display, Display)
            if wish.screen and display.id != wish.screen:
                self._never(column, "screen")
            if unsuited(display, wish.place):
                self._never(column, "place")
        for role, part in wish.fixed:
            for column, other in self._each(role):
                if other.id != part:
                    self._never(column, f"fixed:{role}={part}")
            if (role, part) in self.parts:  # a part that one can do without is there all the same
                self._rows.add({self._columns[role, part]: 1.0}, 1, math.inf, f"fixed:{role}={part}")
        if wish.budget:
            prices = {column: money for column, money in enumerate(self._money) if money}
            self._rows.add(prices, -math.inf, wish.budget, "budget")


def by_keys(wish: Wish) -> bool:
    """Whether a keyboard is all that one needs to play: one player, and nothing but computers."""
    return wish.players == 1 and is_computer(wish)


def is_computer(wish: Wish) -> bool:
    """Whether all systems that are wished have a keyboard."""
    return all(system.keyboard for system in wish.systems) and bool(wish.systems)


def machines_of(image: Image, catalogue: Catalogue) -> frozenset[str]:
    """The systems that the bare-metal sets of an image can be."""
    sets = [layout for layout in catalogue.all(BareMetal) if layout.image == image.id]
    return frozenset(machine.system for layout in sets for machine in layout.machines if machine.system)
