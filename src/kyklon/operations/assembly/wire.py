"""Gauge and fuse, each checked against the other: the fuse protects the wire, the wire carries the load."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from math import sqrt

from kyklon.model.assembly import GAUGES
from kyklon.operations.assembly.electrics import cable_drop_v

# A that one stranded copper wire in free air bears at 30 °C with 60 °C insulation, NFPA 70 table 310.17 for 14 to 10,
# below that the usual figures for wiring inside of devices; both from memory
_AMPACITY: Mapping[int, float] = {
    10: 40.0,
    12: 30.0,
    14: 25.0,
    16: 18.0,
    18: 14.0,
    20: 7.5,
    22: 5.0,
    24: 3.5,
    26: 2.2,
    28: 1.4,
    30: 0.86,
}
_INSULATION_C = 60.0  # °C that the insulation stands
_TABLE_C = 30.0  # °C at which the table holds
FUSES = (0.5, 0.63, 0.8, 1.0, 1.25, 1.6, 2.0, 2.5, 3.15, 4.0, 5.0, 6.3, 7.5, 10.0, 15.0, 20.0, 25.0, 30.0, 40.0)
# A; up to 6.3 IEC 60127's preferred ratings, blade fuses of ISO 8820-3 beyond
CONTINUOUS = 1.35  # times the load that a fuse is to be rated, so that it does not age, CP
DROP_SHARE = 0.03  # of the volts that a lead may lose: 3 %, CP
_OPENS = 2.1  # times its rating at which a fuse opens within two minutes (IEC 60127, mem)


def ampacity_a(gauge: int, celsius: float = _TABLE_C) -> float:
    """Amps that a wire bears where the air around it is so warm: the rise that is left to its insulation goes with the
    square of the current. Odd gauges lie between their neighbours. Raises ValueError for one outside the table."""
    if not 10 <= gauge <= 30:
        raise ValueError(f"AWG {gauge} is not in the table, which goes from 10 to 30")
    thick, thin = gauge - gauge % 2, gauge + gauge % 2
    bears = sqrt(_AMPACITY[thick] * _AMPACITY[thin])
    left = max(0.0, _INSULATION_C - celsius) / (_INSULATION_C - _TABLE_C)
    return bears * min(1.4, sqrt(left))


@dataclass(frozen=True)
class Run:
    """What a lead has to do. length_m: one way. source_ohm: of the battery itself."""

    amps: float
    volts: float
    length_m: float
    celsius: float
    source_ohm: float = 0.0


@dataclass(frozen=True)
class Lead:
    """A gauge and a fuse for a load. fuse_a: 0 where no fuse protects this wire and bears the load. short_a: what flows
    through a short at the far end, cold."""

    gauge: int
    fuse_a: float
    drop_v: float
    bears_a: float
    short_a: float


def fuse_for(amps: float) -> float:
    """The smallest fuse that bears a load for good; 0 beyond what is sold."""
    least = amps * CONTINUOUS
    return next((rating for rating in FUSES if rating >= least - 1e-9), 0.0)


def lead_for(run: Run) -> Lead | None:
    """The thinnest lead whose loss is small and whose wire outlives its fuse; None where no gauge does."""
    for gauge in sorted(GAUGES, reverse=True):
        made = with_gauge(gauge, run)
        if made.fuse_a and made.drop_v <= DROP_SHARE * run.volts and opens_on_short(made.fuse_a, made.short_a):
            return made
    return None


def with_gauge(gauge: int, run: Run) -> Lead:
    """A lead of one gauge, with the fuse that suits both."""
    bears = ampacity_a(gauge, run.celsius)
    fuse = fuse_for(run.amps)
    ohms = cable_drop_v(gauge, run.length_m, 1.0, run.celsius) + run.source_ohm
    return Lead(
        gauge,
        fuse if fuse and fuse <= bears else 0.0,
        cable_drop_v(gauge, run.length_m, run.amps, run.celsius),
        bears,
        run.volts / ohms if ohms else float("inf"),
    )


def opens_on_short(fuse_a: float, short_a: float) -> bool:
    """Whether a short at the far end opens the fuse soon, and not the wire."""
    return short_a > _OPENS * fuse_a


_MELTS_S = {False: 1.5, True: 15.0}  # s: I²t at which a quick and a slow fuse melt, by its rating squared, CP
_OFTEN = 0.3  # of it that a fuse stands thousands of times, CP


def melts_i2t(fuse_a: float, *, slow: bool) -> float:
    """Ampere squared seconds that a fuse stands at every start."""
    return _OFTEN * _MELTS_S[slow] * fuse_a**2
