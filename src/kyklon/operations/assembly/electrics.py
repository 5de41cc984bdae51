"""Wire, resistors and levels. SI units throughout: m, A, V, ohm, W, °C."""

from __future__ import annotations

from bisect import bisect_left
from math import floor, log10, pi

COPPER_OHM_M = 1.7241e-8  # ohm·m at 20 °C, IEC 60028
COPPER_PER_K = 0.00393  # 1/K, IEC 60028
E12 = (10, 12, 15, 18, 22, 27, 33, 39, 47, 56, 68, 82)  # IEC 60063
E24 = (10, 11, 12, 13, 15, 16, 18, 20, 22, 24, 27, 30, 33, 36, 39, 43, 47, 51, 56, 62, 68, 75, 82, 91)  # IEC 60063
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
