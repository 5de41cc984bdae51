"""The controls as a build has them: seats on a table, encoders under it, wires between. Computed, never stored."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Encoder, Terminal
from kyklon.catalogue.system_records import Panel, System
from kyklon.model.build import Build
from kyklon.model.controls import MOST_DEVICES, ControlSettings, Layout, Seat

ROLE = "encoder"
GLASS_MM = 320.0  # mm between two facing boards, CP: a tube of some 19 inches laid flat
_EDGE_MM = 30.0  # mm from a board to the encoder's usual place


def roles(build: Build) -> tuple[str, ...]:
    """The roles of the build's encoders, in order of plugging."""
    found = [part.role for part in build.parts if part.role == ROLE or part.role.startswith(f"{ROLE}-")]
    return tuple(sorted(found, key=lambda role: (len(role), role)))[:MOST_DEVICES]


def next_role(build: Build) -> str:
    """The role for one encoder more. Raises ValueError where there are eight."""
    taken = roles(build)
    if len(taken) >= MOST_DEVICES:
        raise ValueError(f"A build has at most {MOST_DEVICES} encoders")
    return (
        ROLE
        if ROLE not in taken
        else next(name for number in range(2, MOST_DEVICES + 2) if (name := f"{ROLE}-{number}") not in taken)
    )


@dataclass(frozen=True)
class Device:
    """An encoder in its role. first: the number that its first player has among all players."""

    role: str
    encoder: Encoder
    first: int

    def player(self, terminal: Terminal) -> int:
        return self.first + terminal.player - 1

    @property
    def title(self) -> str:
        """Its name, with its number where there are several: 'Tackle 12 (2nd)'."""
        number = self.role.rpartition("-")[2]
        return self.encoder.name if not number.isdecimal() else f"{self.encoder.name} (no. {number})"


@dataclass(frozen=True)
class Hookup:
    """layout: the seats. devices: in order of plugging."""

    layout: Layout
    devices: tuple[Device, ...]
    settings: ControlSettings

    def device(self, role: str) -> Device | None:
        return next((each for each in self.devices if each.role == role), None)

    @cached_property
    def wired(self) -> Mapping[str, tuple[Device, Terminal]]:
        """Where each wired switch ends; wires to nothing are left out."""
        found = {}
        for wire in self.settings.wires:
            device = self.device(wire.device)
            terminal = device.encoder.terminal(wire.terminal) if device else None
            if device is not None and terminal is not None:
                found[wire.control] = (device, terminal)
        return found

    @cached_property
    def switches(self) -> tuple[str, ...]:
        return self.layout.switches

    def at(self, role: str) -> tuple[float, float]:
        """Where an encoder lies on the table, in mm: where its user put it, else behind its seat's middle."""
        told = next((place for place in self.settings.places if place.role == role), None)
        if told is not None:
            return told.x, told.y
        device = self.device(role)
        seat = self.layout.seat(min(device.first if device else 1, max(1, len(self.layout.seats))))
        if seat is None:
            return self.layout.width_mm / 2, self.layout.height_mm / 2
        return seat.on_table(seat.width_mm / 2, -_EDGE_MM)


def layout_of(settings: ControlSettings, catalogue: Catalogue) -> Layout | None:
    """The build's own layout, else that of its panel; None where there is neither."""
    if settings.layout is not None:
        return settings.layout
    panel = catalogue.find(Panel, settings.panel)
    return from_panel(panel) if panel is not None else None


def from_panel(panel: Panel) -> Layout:
    """A panel of the catalogue as a layout: all seats alike, side by side, or two that face each other."""
    wide, high = panel.width_mm, panel.height_mm
    if panel.facing and panel.players == 2:
        depth = 2 * high + GLASS_MM
        near = Seat(x=0, y=depth - high, width_mm=wide, height_mm=high, controls=panel.controls)
        far = Seat(x=wide, y=high, turn=180, width_mm=wide, height_mm=high, controls=panel.controls)
        return Layout(width_mm=wide, height_mm=depth, seats=(near, far), facing=True)
    seats = tuple(
        Seat(x=wide * number, y=0, width_mm=wide, height_mm=high, controls=panel.controls)
        for number in range(panel.players)
    )
    return Layout(width_mm=wide * panel.players, height_mm=high, seats=seats)


def devices_of(build: Build, catalogue: Catalogue) -> tuple[Device, ...]:
    """The build's encoders in order of plugging; roles whose part is not in the catalogue are left out."""
    found, first = [], 1
    for role in roles(build):
        encoder = catalogue.find(Encoder, build.part(role))
        if encoder is not None:
            found.append(Device(role, encoder, first))
            first += encoder.players
    return tuple(found)


def hookup_of(build: Build, catalogue: Catalogue) -> Hookup | None:
    """The build's controls; None without a panel or without any encoder."""
    layout, devices = layout_of(build.controls, catalogue), devices_of(build, catalogue)
    return Hookup(layout, devices, build.controls) if layout is not None and devices else None


_ROUND = ("up", "right", "down", "left")


def places_for(hookup: Hookup, system: System, player: int, game: str = "") -> dict[str, str]:
    """For each input of a system the switch of a player's seat: as chosen, its lever turned with the picture that this
    player sees."""
    places = chosen(hookup.settings, system, game)
    own = (hookup.settings.map_of(system.id, game) if game else None) or hookup.settings.map_of(system.id)
    seat = hookup.layout.seat(player)
    if own is None or seat is None:
        return places
    turn = own.picture - (0 if own.flips else seat.turn)
    steps = round(turn / 90) % 4
    if not steps:
        return places
    return {
        each: _ROUND[(_ROUND.index(place) + steps) % 4] if place in _ROUND else place for each, place in places.items()
    }


def chosen(settings: ControlSettings, system: System, game: str = "") -> dict[str, str]:
    """For each input of a system the switch it lies on, '' for none: the game's own map over the system's over the
    places its inputs prefer."""
    found = {each.id: each.place for each in system.inputs}
    for layer in (settings.map_of(system.id), settings.map_of(system.id, game) if game else None):
        if layer is not None:
            found |= {pair.input: pair.place for pair in layer.pairs if pair.input in found}
    return found
