"""What a plan must fulfil: the wishes as rules with words, and what each part of the shelf brings to them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from statistics import NormalDist, median

from kyklon.base.quantities import counted, show_bytes, show_money
from kyklon.catalogue.image_records import Image
from kyklon.catalogue.loader import KINDS, Catalogue
from kyklon.catalogue.records import Board, Cable, CataloguePart, Display, Encoder
from kyklon.catalogue.system_records import Emulator, System
from kyklon.model.build import Build, FrameCost
from kyklon.operations.card.sizing import PICTURE_BYTES, SAVE_BYTES, SPARE_LEAST, SPARE_SHARE
from kyklon.operations.tuning.speed import HEAVY, OFTEN, SPARE

GAMES = 50  # of a system where nobody said how many, CP
GROWTH = 0.25  # of the games that are added later, CP
CAMPER_MM = 400.0  # mm: width of a display that is carried about, CP
LIVING_MM = 450.0  # mm: width of a display that is looked at from a couch, CP
_NO_CABLE_M = 0.01  # m: a card goes straight into its socket


@dataclass(frozen=True)
class Wish:
    """games: how many of each system. hardest: a game asks for half as much again. software: school of the image, ''
    for any. screen: id of the display that is
    there. at_hand: kind/id of what is there. fixed: role and id."""

    systems: tuple[System, ...]
    games: Mapping[str, int]
    hardest: str = ""
    place: str = "table"
    software: str = ""
    players: int = 1
    screen: str = ""
    reach_m: float = 0.0
    at_hand: frozenset[str] = frozenset()
    budget: float = 0.0
    fixed: tuple[tuple[str, str], ...] = ()
    costs: tuple[FrameCost, ...] = ()

    def has(self, kind: str, part_id: str) -> bool:
        return f"{kind}/{part_id}" in self.at_hand

    @property
    def bytes(self) -> int:
        """What the games take on the card, with saves, pictures and growth."""
        total = 0
        for system in self.systems:
            count = self.games.get(system.id, GAMES)
            total += count * (system.typical_bytes + SAVE_BYTES + PICTURE_BYTES)
        return round(total * (1 + GROWTH))


def wish_of(build: Build, catalogue: Catalogue) -> Wish:
    """What a build says of its wishes."""
    plan = build.plan
    systems = tuple(system for system in (catalogue.find(System, name) for name in build.systems) if system)
    fixed = tuple((role, part) for role, _, part in (row.partition("=") for row in plan.fixed))
    return Wish(
        systems,
        dict(plan.games),
        plan.hardest,
        plan.place,
        plan.software,
        plan.players,
        plan.screen,
        plan.reach_m,
        frozenset(plan.at_hand),
        plan.budget,
        fixed,
        build.tuning.costs,
    )


def kind_of(part: CataloguePart) -> str:
    """The kind of a part, as the shelf names it."""
    return next(kind for kind, record in KINDS.items() if type(part) is record)


# --- speed ---------------------------------------------------------------------------------------------------------


def load_of(system: System, board: Board, catalogue: Catalogue, wish: Wish) -> float:
    """Share of a frame that a system takes on a board at its own clock, 99 frames of 100; over 1 it does not hold. The
    most demanding game counts half as much again (operations/tuning/speed.py)."""
    emulator = catalogue.find(Emulator, system.emulator)
    if emulator is None:
        return 0.0
    mhz = float(board.processor_mhz[0])
    cost = next((cost for cost in wish.costs if (cost.board, cost.emulator) == (board.id, emulator.id)), None)
    mean = emulator.frame_ms * 1000 / mhz if cost is None else cost.mean_ms * cost.mhz / mhz
    quantile = NormalDist().inv_cdf(OFTEN)
    spread = mean * emulator.spread if cost is None else max(0.0, cost.most_ms * cost.mhz / mhz - mean) / quantile
    heavy = HEAVY if wish.hardest and any(word in wish.hardest.casefold() for word in emulator.heavy) else 1.0
    frame = 1000 / float(system.refresh_hz)
    return (mean * heavy + quantile * spread) / (frame * (1 - SPARE))


# --- the controls ---


def terminals_of(encoder: Encoder) -> int:
    """Terminals of each player; a gamepad's are its switches."""
    return sum(terminal.player == 1 for terminal in encoder.terminals)


def buttons_of(system: System) -> int:
    """What a seat needs for a system: its inputs; the hotkey is one that play hardly uses."""
    return len(system.inputs)


# --- the card --------------------------------------------------------------------------------------------------------


def card_bytes(wish: Wish, image: Image) -> int:
    """What the card must hold with this image."""
    held = image.least_card_bytes + wish.bytes
    return held + max(SPARE_LEAST, round(held * SPARE_SHARE))


# --- the place -------------------------------------------------------------------------------------------------------


def unsuited(display: Display, place: str) -> str:
    """Why a display does not suit a place, '' when it does."""
    wide = f"{display.name} is {display.width_mm:.0f} mm wide"
    fed = [port for port in display.ports if port.direction == "in" and port.signal == "power"]
    if place == "camper":
        if display.tube:
            return f"{display.name} is a tube"
        if display.width_mm > CAMPER_MM:
            return f"{wide}; in a camper {CAMPER_MM:.0f} mm are the most"
        if not fed:
            return f"{display.name} is not fed with 5 V"
    if place == "living room" and display.width_mm < LIVING_MM:
        return f"{wide}; from a couch {LIVING_MM:.0f} mm are the least"
    if place == "school" and display.tube:
        return f"{display.name} is a tube: a school's table tips"
    return ""


# --- prices ----------------------------------------------------------------------------------------------------------


class Prices:
    """What parts cost: nothing where one is at hand, the kind's median where nobody knows the price."""

    def __init__(self, catalogue: Catalogue, wish: Wish, own: Mapping[str, float] | None = None) -> None:
        self._wish, self._own = wish, own or {}
        self._usual = {
            kind: median([part.price for part in rows.values() if part.price] or [0.0])
            for kind, rows in catalogue.parts.items()
        }

    def at_hand(self, kind: str, part_id: str) -> bool:
        return self._wish.has(kind, part_id)

    def known(self, kind: str, part: CataloguePart) -> bool:
        """Whether its price is known, or it costs nothing."""
        key = f"{kind}/{part.id}"
        return bool(part.price) or key in self._own or self._wish.has(kind, part.id) or not self._usual[kind]

    def of(self, kind: str, part: CataloguePart) -> float:
        key = f"{kind}/{part.id}"
        if self._wish.has(kind, part.id) or (kind == "displays" and part.id == self._wish.screen):
            return 0.0
        if key in self._own:
            return self._own[key]
        if isinstance(part, Cable) and part.length_m < _NO_CABLE_M:
            return 0.0
        return part.price or float(self._usual[kind])


def own_prices(build: Build) -> dict[str, float]:
    """What the user has noted in the parts list."""
    return {row.key: row.price for row in build.plan.parts if row.price is not None}


# --- words -----------------------------------------------------------------------------------------------------------


def rule_words(rule: str, wish: Wish, catalogue: Catalogue) -> str:
    """A rule as a reason: 'no … ' is put before by who says why not."""
    kind, _, rest = rule.partition(":")
    name = next((system.name for system in wish.systems if system.id == rest), rest)
    if kind == "fixed":
        role, _, part = rest.partition("=")
        known = next((rows[part].name for rows in catalogue.parts.values() if part in rows), part)
        return f"{known} as the {role}, as it is fixed"
    words = {
        "speed": f"{name} at full speed" + (f" with {wish.hardest}" if wish.hardest else ""),
        "mode": f"a picture mode for {name} that display and link can show",
        "image": "system software that supports the board",
        "plays": f"system software that itself runs {name}",
        "software": f"system software of the kind “{wish.software}”",
        "keys": f"a keyboard for {name}" if rest else "a system that is played with a keyboard",
        "players": f"controls for {counted(wish.players, 'player')}",
        "picture": "a connection from the board to the display",
        "power": "a cable from the power supply to the board",
        "current": "a power supply with 20 % headroom",
        "voltage": "enough volts at the board",
        "buttons": f"enough terminals for {name}",
        "controls": "a socket of the board for the controls",
        "card": f"a card for {show_bytes(wish.bytes)} of games beside the system",
        "loader": "a card that the board's loader starts from",
        "budget": f"a price of at most {show_money(wish.budget)}",
        "place": f"a display that suits the {wish.place}",
        "screen": f"{known_name(catalogue, wish.screen)} as the screen",
        "reach": f"a cable of {wish.reach_m:g} m to the screen",
        "need": f"a {rest} on the shelf",
    }
    return words.get(kind, "a plan without stops")


def known_name(catalogue: Catalogue, part_id: str) -> str:
    return next((rows[part_id].name for rows in catalogue.parts.values() if part_id in rows), part_id or "none")
