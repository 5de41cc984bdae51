"""Parts that are known by their print: a supply, a cable, a card. Everything is asked, in the units of the print."""

from __future__ import annotations

from kyklon.base import units
from kyklon.catalogue.loader import Catalogue
from kyklon.catalogue.records import Cable
from kyklon.parts.draft import Draft
from kyklon.parts.fields import FIELDS


def supply() -> Draft:
    """5.1 V 3 A as printed; with a meter, what it gives under load."""
    draft = Draft("supplies", asked=("volts", "amps", "socket"))
    return draft.tell(
        "Mains inside a power supply can kill: read the print, and "
        "leave it closed. Mains wiring follows local codes and is a "
        "licensed electrician's work."
    )


def supply_measured(draft: Draft, text: str) -> Draft:
    """With a voltage that was measured at its plug under load. Raises ValueError in words."""
    asked = next(field for field in FIELDS["supplies"] if field.name == "volts")
    return draft.with_measured("a meter at its plug", volts=asked.parse(text))


def cable() -> Draft:
    return Draft("cables", asked=("ends", "signals", "length_m", "awg", "socket_end"))


def adapter() -> Draft:
    """Sockets and sync as printed or in its manual; limits where it tells them."""
    names = ("socket_in", "socket_out", "sync_out", "most_clock_hz", "least_clock_hz", "least_width", "delay_ms")
    return Draft("adapters", asked=(*names, "needs_hdmi", "sync_in", "sync_volts", "ohms")).tell(
        "5 V of sync into a display that takes television level can harm it: look the level up before you connect it."
    )


def disk() -> Draft:
    return Draft("disks", asked=("capacity_bytes", "read_mb_s", "write_mb_s", "typical_a", "peak_a"))


def bridge() -> Draft:
    return Draft("bridges", asked=("usb_id", "uas", "firmware", "mb_s", "draws_a"))


TYPED = {  # kinds that are known by their print
    "supplies": supply,
    "cables": cable,
    "cards": lambda: card(),
    "adapters": adapter,
    "disks": disk,
    "bridges": bridge,
}


def signals_between(ends: tuple[str, ...], catalogue: Catalogue) -> tuple[str, ...]:
    """What cables of the shelf with the same plugs carry."""
    found = [each.signals for each in catalogue.all(Cable) if sorted(each.ends) == sorted(ends)]
    return tuple(dict.fromkeys(signal for signals in found for signal in signals))


def card(capacity: int = 0, reader: str = "", rates: tuple[float, float] = (0.0, 0.0)) -> Draft:
    """A card from its reader and its print. capacity in bytes as the reader tells; rates: read and write in bytes per
    second of a proof or a write that was run, 0 for none."""
    draft = Draft("cards", asked=("capacity_bytes", "socket", "speed_class", "read_mb_s", "write_mb_s"))
    if capacity:
        draft = draft.with_read(reader or "its reader", capacity_bytes=capacity)
        draft = draft.with_read(reader or "its reader", name=f"Card {units.show_size(round(capacity, -9) or capacity)}")
    read, write = rates
    if read:
        draft = draft.with_measured("a reading back", read_mb_s=round(read / 1e6, 1))
    if write:
        draft = draft.with_measured("a write that was run", write_mb_s=round(write / 1e6, 1))
    return draft
