"""Edits of a build's controls: each makes a new Build."""

from __future__ import annotations

from collections.abc import Mapping

from kyklon.catalogue.chosen import systems_of
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Encoder
from kyklon.model.build import Build, edited
from kyklon.model.controls import Wire
from kyklon.operations.controls import hotkeys
from kyklon.operations.controls.hookup import hookup_of, next_role
from kyklon.operations.controls.mapping import wire_in_order


def wired(build: Build, catalogue: Catalogue) -> Build:
    """With every switch wired to the encoders by the build's school; as it was without a panel or an encoder."""
    hookup = hookup_of(build, catalogue)
    if hookup is None:
        return build
    return edited(build, "controls.wires", wire_in_order(hookup, printed=build.controls.wiring == "printed"))


def with_safest_hotkeys(build: Build, catalogue: Catalogue) -> Build:
    """With the hotkeys that play presses least by accident; as it was where nothing is wired."""
    hookup = hookup_of(build, catalogue)
    key, keys, hold_s = hotkeys.safest(hookup, systems_of(build, catalogue)) if hookup is not None else ("", (), 0.0)
    if not key:
        return build
    made = edited(edited(build, "controls.hotkey", key), "controls.hotkeys", keys)
    return edited(made, "controls.hold_s", hold_s)


def with_encoder(build: Build, encoder_id: str, catalogue: Catalogue) -> Build:
    """With one encoder more, in a role of its own, plugged in where it fits, and its switches wired where the others
    leave some without a terminal. Raises ValueError where there are eight."""
    encoder = catalogue.get(Encoder, encoder_id)
    made = build.with_part(next_role(build), encoder.id)
    return _rewired(build, made, catalogue)


def without_encoder(build: Build, role: str, catalogue: Catalogue) -> Build:
    """Without an encoder, its cable and its wires."""
    parts = tuple(part for part in build.parts if part.role != role)
    links = tuple(link for link in build.links if role not in (link.start.split(".")[0], link.end.split(".")[0]))
    made = edited(edited(build, "parts", parts), "links", links)
    made = edited(made, "controls.wires", tuple(wire for wire in made.controls.wires if wire.device != role))
    return edited(made, "controls.places", tuple(place for place in made.controls.places if place.role != role))


def _rewired(before: Build, made: Build, catalogue: Catalogue) -> Build:
    """Wires of switches that had none, or one to a terminal that is not there, are added; the others stay."""
    hookup = hookup_of(before, catalogue)
    kept = tuple(wire for wire in before.controls.wires if hookup is not None and wire.control in hookup.wired)
    have, taken = {wire.control for wire in kept}, {(wire.device, wire.terminal) for wire in kept}
    added = tuple(
        wire
        for wire in wired(made, catalogue).controls.wires
        if wire.control not in have and (wire.device, wire.terminal) not in taken
    )
    return edited(made, "controls.wires", (*kept, *added))


def as_found(build: Build, catalogue: Catalogue, ends: Mapping[str, tuple[str, str] | None]) -> Build:
    """With the wires as a proof found them: the switches stay where they are, the map is made right in software."""
    wires: list[Wire] = []
    for wire in build.controls.wires:
        end = ends.get(wire.control, (wire.device, wire.terminal))
        if end is not None:
            wires.append(wire.model_copy(update={"device": end[0], "terminal": end[1]}))
    return edited(build, "controls.wires", tuple(wires))
