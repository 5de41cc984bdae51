"""What the kernel must be told of an encoder."""

from __future__ import annotations

from collections.abc import Iterable

from kyklon.catalogue.records import Encoder


def encoder_quirk(encoder: Encoder | None) -> str:
    """The usbhid.quirks value an encoder needs: 0xVID:0xPID:0xFLAGS (kernel-parameters), or ''."""
    if encoder is None or not encoder.quirk_flags:
        return ""
    return f"0x{encoder.vendor:04x}:0x{encoder.product:04x}:0x{encoder.quirk_flags:02x}"


def quirk_given(wanted: str, given: Iterable[str]) -> bool:
    """Whether the quirks of a kernel line hold every flag of `wanted`: ids in any case, flags as numbers, so that 0x48
    holds 0x40 (usbhid.quirks, kernel-parameters)."""
    asked = _numbers(wanted)
    return asked is not None and any(
        told is not None and told[:2] == asked[:2] and told[2] & asked[2] == asked[2] for told in map(_numbers, given)
    )


def _numbers(quirk: str) -> tuple[int, int, int] | None:
    parts = quirk.split(":")
    try:
        vendor, product, flags = (int(part, 16) for part in parts)  # simple_strtoul reads them with or without 0x
    except ValueError:
        return None
    return vendor, product, flags
