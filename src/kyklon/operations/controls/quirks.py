"""What the kernel must be told of an encoder."""

from __future__ import annotations

from kyklon.catalogue.records import Encoder


def encoder_quirk(encoder: Encoder | None) -> str:
    """The usbhid.quirks value an encoder needs: 0xVID:0xPID:0xFLAGS (kernel-parameters), or ''."""
    if encoder is None or not encoder.quirk_flags:
        return ""
    return f"0x{encoder.vendor:04x}:0x{encoder.product:04x}:0x{encoder.quirk_flags:02x}"
