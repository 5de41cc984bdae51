"""From what was asked to what a record holds: a socket by its name, buttons by their count."""

from __future__ import annotations

from typing import Any

from kyklon.parts import sockets

# asked in place of a list of records, by kind of part
ASKED_FOR = {"displays": "socket", "encoders": "socket", "supplies": "socket", "cards": "socket", "systems": "buttons"}


def shaped(kind: str, row: dict[str, Any]) -> dict[str, Any]:
    """A row with what was asked turned into what the record has; other rows as they are."""
    made = dict(row)
    known = made.get("known", {})
    asked = ASKED_FOR.get(kind, "")
    if asked in known:
        made["known"] = {
            ("inputs" if asked == "buttons" else "ports") if key == asked else key: each for key, each in known.items()
        }
    if kind == "systems" and "buttons" in made:
        made["inputs"] = inputs_for(int(made.pop("buttons")))
    elif kind in ASKED_FOR and "socket" in made:
        made["ports"] = [_port(kind, str(made.pop("socket")), made)]
    if kind == "adapters" and "socket_in" in made and "socket_out" in made:
        made["ports"] = sockets.adapter_ports(str(made.pop("socket_in")), str(made.pop("socket_out")))
        told = [known[name] for name in ("socket_in", "socket_out") if name in known]
        made["known"] = {key: each for key, each in known.items() if key not in ("socket_in", "socket_out")}
        made["known"] |= {"ports": told[-1]} if told else {}
    if kind == "boards":
        made["ports"] = [
            {**each, "draws_a": made.get("peak_a", 0.0)}
            if each["direction"] == "in" and each["signal"] == "power"
            else each
            for each in made.get("ports", ())
        ]
    if kind == "panels":
        made["controls"] = kept_controls(made.get("controls", ()))
    return made


def _port(kind: str, connector: str, row: dict[str, Any]) -> dict[str, Any]:
    if kind == "displays":
        return sockets.display_input(connector)
    if kind == "encoders":
        return sockets.encoder_plug(connector)
    if kind == "cards":
        return sockets.card_plug(connector)
    return sockets.supply_socket(connector, float(row.get("volts", 5.0)), float(row.get("amps", 0.0)))


def inputs_for(buttons: int) -> list[dict[str, Any]]:
    """Directions, that many buttons, start and select, each at the panel's place of that name."""
    names = [("up", "Up"), ("down", "Down"), ("left", "Left"), ("right", "Right")]
    names += [(f"b{number}", f"Button {number}") for number in range(1, buttons + 1)]
    names += [("start", "Start"), ("select", "Select")]
    return [{"id": name, "label": label, "place": name} for name, label in names]


_SHOWN = {"lever": "joystick"}  # what people call it


def kept_controls(controls: Any) -> list[dict[str, Any]]:
    """The controls that a panel keeps. Raises ValueError where two have one name."""
    kept = [dict(control) for control in controls if control["kind"] != "nothing"]
    names = [each["id"] for each in kept]
    twice = sorted({name for name in names if names.count(name) > 1})
    if twice:
        raise ValueError(f"Two holes are the {_SHOWN.get(twice[0], twice[0])}: one seat has one of each")
    return kept
