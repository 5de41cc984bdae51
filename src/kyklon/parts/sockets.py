"""Sockets and plugs by the names that practitioners use, with what they carry."""

from __future__ import annotations

from typing import Any

# connector -> the signals it is used for here, the usual one first. HDMI: HDMI 1.4, chapter 4; EN 50049 and DE-15 carry
# RGB with sync; mini-DIN 4: IEC 60933-5; USB: USB 2.0 and Type-C specifications.
VIDEO = {
    "HDMI A": "HDMI",
    "HDMI C": "HDMI",
    "HDMI D": "HDMI",
    "DE-15": "RGB",
    "EN 50049": "RGB",
    "RCA": "composite video",
    "mini-DIN 4": "S-video",
    "three RCA": "component",
    "DVI-D": "HDMI",
    "flat cable": "DSI",
}
POWER = ("USB-C", "Micro-USB B", "5.5 mm barrel", "USB-A", "screw terminals")
USB = ("USB-A", "USB-C", "Micro-USB B", "USB-B", "USB-A plug")
CARDS = ("microSD", "SD")
SIGNALS = (
    "power",
    "HDMI",
    "RGB",
    "composite video",
    "S-video",
    "component",
    "DSI",
    "USB 2.0",
    "USB 3.0",
    "SD",
    "line audio",
)
USB_A = 0.5  # A at 5 V: USB 2.0, 7.2.1.4


def all_connectors() -> tuple[str, ...]:
    return tuple(dict.fromkeys((*VIDEO, *POWER, *USB, *CARDS, "3.5 mm jack")))


def port(port_id: str, label: str, connector: str, direction: str, signal: str, **more: Any) -> dict[str, Any]:
    """A port's values as a record has them."""
    return {"id": port_id, "label": label, "connector": connector, "direction": direction, "signal": signal, **more}


def display_input(connector: str) -> dict[str, Any]:
    return port("video", "Video", connector, "in", VIDEO.get(connector, "HDMI"))


def encoder_plug(connector: str, draws_a: float = 0.1) -> dict[str, Any]:
    return port("usb", "USB", connector, "in", "USB 2.0", volts=5, draws_a=draws_a)


def card_plug(connector: str) -> dict[str, Any]:
    return port("plug", "Card", connector, "both", "SD")


def supply_socket(connector: str, volts: float, amps: float) -> dict[str, Any]:
    return port("out", "Output", connector, "out", "power", volts=volts, supplies_a=amps)


def adapter_ports(one: str, other: str) -> list[dict[str, Any]]:
    """What an adapter takes and what it gives."""
    return [
        port("in", "In", one, "in", VIDEO.get(one, "HDMI")),
        port("out", "Out", other, "out", VIDEO.get(other, "RGB")),
    ]


KINDS = ("power in", "video out", "USB out", "card", "sound out")


def board_port(kind: str, connector: str, number: int = 1) -> dict[str, Any]:
    """A port of a board: one of KINDS."""
    if kind == "power in":
        return port("power", "Power", connector, "in", "power", volts=5, draws_a=0.0)
    if kind == "video out":
        suffix = "" if number == 1 else str(number)
        return port(
            f"video{suffix}",
            f"Video {number}" if number > 1 else "Video",
            connector,
            "out",
            VIDEO.get(connector, "HDMI"),
        )
    if kind == "card":
        return port("card", "Card", connector, "both", "SD")
    if kind == "sound out":
        return port("audio", "Sound", connector, "out", "line audio")
    return port(f"usb{number}", f"USB {number}", connector, "out", "USB 2.0", volts=5, supplies_a=USB_A)
