"""What the kernel must be told of the encoders."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from kyklon.catalogue.records import Encoder
from kyklon.model.kernel_line import MOST_QUIRKS

WORD = "usbhid.quirks"


def encoder_quirk(encoder: Encoder | None) -> str:
    """The usbhid.quirks value an encoder needs: 0xVID:0xPID:0xFLAGS (kernel-parameters), or ''."""
    if encoder is None or not encoder.quirk_flags or encoder.link not in ("usb", "bluetooth"):
        return ""
    return f"0x{encoder.vendor:04x}:0x{encoder.product:04x}:0x{encoder.quirk_flags:02x}"


def merged(encoders: Iterable[Encoder]) -> tuple[str, ...]:
    """The quirks of several encoders, one for each vendor and product, flags joined as numbers."""
    flags: dict[tuple[int, int], int] = {}
    for encoder in encoders:
        if encoder_quirk(encoder):
            key = encoder.vendor, encoder.product
            flags[key] = flags.get(key, 0) | encoder.quirk_flags
    return tuple(f"0x{vendor:04x}:0x{product:04x}:0x{flag:02x}" for (vendor, product), flag in flags.items())


def joined(wanted: Sequence[str], given: Iterable[str]) -> tuple[str, ...]:
    """What stands on the kernel line when `wanted` are added: flags of one device are joined, those that the kernel
    hears already stay as they are written, what it cannot read is written so that it can."""
    found: list[str] = []
    left = list(wanted)
    for told in given:
        mine = next((each for each in left if _ids(each) == _ids(told) and _ids(told) is not None), None)
        if mine is None:
            found.append(told)
            continue
        left.remove(mine)
        one, other = _numbers(mine), _numbers(told)
        assert one is not None
        assert other is not None
        holds = _HEARD.match(told) and other[2] & one[2] == one[2]
        found.append(told if holds else f"0x{one[0]:04x}:0x{one[1]:04x}:0x{one[2] | other[2]:02x}")
    return (*found, *left)


# sscanf "0x%hx:0x%hx:0x%x" (drivers/hid/hid-quirks.c): the small 0x of each is a must, what follows is not read
_HEARD = re.compile(r"0x\s*(?:0[xX])?([0-9a-fA-F]+):0x\s*(?:0[xX])?([0-9a-fA-F]+):0x\s*(?:0[xX])?([0-9a-fA-F]+)")


def heard(kernel_words: Iterable[str]) -> dict[tuple[int, int], int]:
    """The flags of each device, by vendor and product, as the kernel has them from the words of its line.

    usbhid.quirks fills an array of four from its beginning, each time it is given; of two for one device the later
    counts whole (drivers/hid/usbhid/hid-core.c, kernel/params.c: param_array, 6.1).
    """
    slots: list[str] = [""] * MOST_QUIRKS
    for word in kernel_words:
        name, equals, value = word.partition("=")
        if name == WORD and equals:
            for index, each in enumerate(value.split(",")[:MOST_QUIRKS]):
                slots[index] = each
    found = {}
    for each in slots:
        if match := _HEARD.match(each):
            vendor, product, flags = (int(number, 16) for number in match.groups())
            found[vendor & 0xFFFF, product & 0xFFFF] = flags & 0xFFFF_FFFF
    return found


def quirk_given(wanted: str, kernel_words: Iterable[str]) -> bool:
    """Whether the kernel hears every flag of `wanted`, flags as numbers: 0x48 holds 0x40. kernel_words: of its line, as
    model.kernel_line.given has them."""
    asked = _numbers(wanted)
    return asked is not None and heard(kernel_words).get(asked[:2], 0) & asked[2] == asked[2]


def quirk_alike(one: str, other: str) -> bool:
    """Whether both are meant for one device."""
    return _ids(one) is not None and _ids(one) == _ids(other)


def _ids(quirk: str) -> tuple[int, int] | None:
    told = _numbers(quirk)
    return told[:2] if told else None


def _numbers(quirk: str) -> tuple[int, int, int] | None:
    """What somebody meant, however it is written."""
    parts = quirk.split(":")
    try:
        vendor, product, flags = (int(part, 16) for part in parts)
    except ValueError:
        return None
    return vendor, product, flags
