"""Composite video: colour systems, their subcarriers, and what a picture without colour or hold says of them.

Source: ITU-R BT.470-6, tables 1 and 2; SMPTE 170M for system M.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from kyklon.model.timing import Timing


@dataclass(frozen=True)
class ColourSystem:
    """line_hz, field_hz, subcarrier_hz: nominal. cycles: of the subcarrier in a line. pedestal: of black over blanking,
    in % of the step from blanking to white. hold_hz: how far a subcarrier may be off for a set to find it, CP."""

    name: str
    line_hz: Fraction
    field_hz: Fraction
    subcarrier_hz: Fraction
    pedestal: float
    hold_hz: float = 100.0

    @property
    def cycles(self) -> Fraction:
        return self.subcarrier_hz / self.line_hz


_525, _625 = Fraction(4_500_000, 286), Fraction(15_625)
SYSTEMS = (
    ColourSystem("NTSC M", _525, _525 * 2 / 525, Fraction(315_000_000, 88), 7.5),
    ColourSystem("NTSC M, without pedestal", _525, _525 * 2 / 525, Fraction(315_000_000, 88), 0.0),
    ColourSystem("PAL B/G", _625, Fraction(50), Fraction(443_361_875, 100), 0.0),
    ColourSystem("PAL M", _525, _525 * 2 / 525, _525 * Fraction(909, 4), 7.5),
    ColourSystem("PAL N", _625, Fraction(50), _625 * (Fraction(917, 4) + Fraction(1, 625)), 0.0),
)
_LINE_OFF = Fraction(5, 1000)  # of the nominal line rate: what a set's line oscillator follows with ease, CP
_FIELD_OFF = Fraction(8, 100)


@dataclass(frozen=True)
class Seen:
    """What a set of a colour system makes of a signal. colour, holds: whether it shows colour, and stands still."""

    colour: bool
    holds: bool
    words: str


def seen(sent: ColourSystem, takes: ColourSystem, timing: Timing | None = None) -> Seen:
    """A signal of one system on a set for another. timing: where the lines and fields are not the system's nominal."""
    line = timing.horizontal_hz if timing else sent.line_hz
    field = timing.vertical_hz if timing else sent.field_hz
    if abs(field / takes.field_hz - 1) > _FIELD_OFF:
        return Seen(False, False, f"It rolls: {float(field):.2f} Hz on a set for {float(takes.field_hz):.2f} Hz.")
    if abs(line / takes.line_hz - 1) > _LINE_OFF * 6:
        return Seen(False, False, "It leans and tears: the horizontal frequency is too far off.")
    off = abs(sent.subcarrier_hz - takes.subcarrier_hz)
    alternates = sent.name.startswith("PAL") == takes.name.startswith("PAL")
    if off > takes.hold_hz:
        return Seen(False, True, f"It stands still without colour: the subcarrier is {float(off) / 1000:.1f} kHz off.")
    if not alternates:
        return Seen(False, True, "It stands still, with stripes or without colour: the phase alternates differently.")
    if abs(sent.pedestal - takes.pedestal) > 1:
        dark = "black is crushed" if sent.pedestal < takes.pedestal else "black is grey"
        return Seen(True, True, f"In colour; {dark}: {sent.pedestal:g} % pedestal instead of {takes.pedestal:g} %.")
    return Seen(True, True, "In colour.")


def crawl(system: ColourSystem, timing: Timing) -> str:
    """What the dots of the subcarrier do in a mode: they stand, crawl or race, by the part of a cycle that a field
    leaves over."""
    cycles = system.subcarrier_hz / timing.vertical_hz
    left = abs(cycles - round(cycles))
    if left < Fraction(1, 50):
        return "The dots of the subcarrier stand still: a steady pattern on edges."
    return f"Dot crawl: the subcarrier moves {float(left):.2f} of a cycle per field."
