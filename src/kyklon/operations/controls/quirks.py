"""What the kernel must be told of the encoders."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from kyklon.catalogue.records import Encoder


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
    """What stands on the kernel line when `wanted` are added: flags of one device are joined, those that hold already
    stay as they are written."""
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
        found.append(
            told if other[2] & one[2] == one[2] else f"0x{one[0]:04x}:0x{one[1]:04x}:0x{one[2] | other[2]:02x}"
        )
    return (*found, *left)


def quirk_given(wanted: str, given: Iterable[str]) -> bool:
    """Whether the quirks of a kernel line hold every flag of `wanted`: ids in any case, flags as numbers, so that 0x48
    holds 0x40 (usbhid.quirks, kernel-parameters)."""
    asked = _numbers(wanted)
    return asked is not None and any(
        told is not None and told[:2] == asked[:2] and told[2] & asked[2] == asked[2] for told in map(_numbers, given)
    )


def _ids(quirk: str) -> tuple[int, int] | None:
    told = _numbers(quirk)
    return told[:2] if told else None


def _numbers(quirk: str) -> tuple[int, int, int] | None:
    parts = quirk.split(":")
    try:
        vendor, product, flags = (int(part, 16) for part in parts)  # simple_strtoul reads them with or without 0x
    except ValueError:
        return None
    return vendor, product, flags
