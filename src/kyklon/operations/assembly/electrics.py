"""Wire, resistors and levels. SI units throughout: m, A, V, ohm, W, °C."""

from __future__ import annotations

from bisect import bisect_left
from dataclasses import dataclass
from math import floor, inf, log10, pi

COPPER_OHM_M = 1.7241e-8  # ohm·m at 20 °C, IEC 60028
COPPER_PER_K = 0.00393  # 1/K, IEC 60028
E12 = (10, 12, 15, 18, 22, 27, 33, 39, 47, 56, 68, 82)  # IEC 60063
E24 = (10, 11, 12, 13, 15, 16, 18, 20, 22, 24, 27, 30, 33, 36, 39, 43, 47, 51, 56, 62, 68, 75, 82, 91)  # IEC 60063
PIN_A = 0.016  # A that an output pin of such boards gives at most, CP
VIDEO_LOAD_OHM = 75.0  # ITU-R BT.470 video level load


def awg_diameter_m(gauge: int) -> float:
    """Diameter of a solid wire, ASTM B258: 0.127 mm x 92^((36 - n)/39). gauge: 0 to 40."""
    if not 0 <= gauge <= 40:
        raise ValueError(f"{gauge=} is outside 0 to 40")
    return float(0.127e-3 * 92 ** ((36 - gauge) / 39))


def awg_ohm_per_m(gauge: int, celsius: float = 20.0) -> float:
    """Resistance of one metre of copper wire of that gauge."""
    area = pi * awg_diameter_m(gauge) ** 2 / 4
    return COPPER_OHM_M / area * (1 + COPPER_PER_K * (celsius - 20))


def cable_drop_v(gauge: int, length_m: float, amps: float, celsius: float = 20.0) -> float:
    """Voltage lost along a cable, out and back: 2 · length · resistance per metre · current."""
    return 2 * length_m * awg_ohm_per_m(gauge, celsius) * amps


def next_up(ohms: float, series: tuple[int, ...] = E12) -> float:
    """The next preferred value of a series (IEC 60063) that is not below `ohms`. ohms: above 0."""
    if ohms <= 0:
        raise ValueError(f"{ohms=} is not above 0")
    decade = 10.0 ** (floor(log10(ohms)) - 1)
    index = bisect_left(series, ohms / decade - 1e-9)
    return series[index] * decade if index < len(series) else series[0] * decade * 10


def led_resistor(volts: float, forward_v: float, amps: float, series: tuple[int, ...] = E12) -> tuple[float, float]:
    """Series resistor of an LED in ohm, and the rating it needs in W (twice I²R).

    R = (V - Vf) / I, next value up. Raises ValueError when the supply is not above the LED's own voltage.
    """
    if volts <= forward_v or amps <= 0:
        raise ValueError(f"{volts=} must be above {forward_v=} and {amps=} above 0")
    ohms = next_up((volts - forward_v) / amps, series)
    return ohms, 2 * ((volts - forward_v) / ohms) ** 2 * ohms


def sync_level_v(volts: float, series_ohm: float) -> float:
    """Level into a 75 ohm input through a series resistor: V · 75 / (R + 75)."""
    return volts * VIDEO_LOAD_OHM / (series_ohm + VIDEO_LOAD_OHM)


@dataclass(frozen=True)
class OldLamp:
    """An LED that stays where it is, behind the old board's own trace. added: ohm to put in front; amps: through the
    LED; pin_a: out of the pin; watts: in the added resistor. shorted: what lies across the trace takes more than the
    pin gives."""

    added: float
    amps: float
    pin_a: float
    watts: float
    shorted: bool


def behind_trace(
    volts: float, forward_v: float, amps: float, trace_ohm: float, across_ohm: float, most_a: float = PIN_A
) -> OldLamp:
    """The resistor for an LED behind an old trace. volts: of the pin; trace_ohm: in series already (the old resistor);
    across_ohm: from trace to ground through the old board, power off, inf for nothing; most_a: what the pin gives.

    The LED takes `amps` where the node stands at Vf + I · trace; what lies across draws from there as well, and the
    added resistor carries both. Next value of E24 up. Raises ValueError where the volts are not enough.
    """
    node = forward_v + amps * trace_ohm
    if amps <= 0 or volts <= forward_v or trace_ohm < 0 or across_ohm < 0 or most_a <= 0:
        raise ValueError(f"{volts=} must be above {forward_v=}, and currents above 0")
    if across_ohm == 0:
        return OldLamp(0.0, 0.0, most_a, 0.0, shorted=True)
    leak = node / across_ohm
    needed = (volts - node) / (amps + leak)
    added = next_up(needed, E24) if needed > 0 else 0.0
    # as it is then: Norton at the node, the LED a source of Vf behind trace_ohm
    if added:
        share, source = across_ohm / (across_ohm + added) if across_ohm != inf else 1.0, volts
        open_v = source * share
        inner = added * share
        through = max(0.0, (open_v - forward_v) / (inner + trace_ohm))
        at_node = forward_v + through * trace_ohm if through else open_v
        pin = (volts - at_node) / added
    else:
        through = (volts - forward_v) / trace_ohm if trace_ohm else inf
        pin = through + volts / across_ohm
    return OldLamp(added, through, pin, pin**2 * added if added else 0.0, shorted=pin > most_a)
