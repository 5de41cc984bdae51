"""The current in time: capacitors that fill when it is switched on, and the volts when a load steps up.

The way is one resistance, with the cable's inductance left out: its milliohms matter a thousand times more over the
microseconds that count here. Exact for a resistance and a capacitor; a load that takes watts is integrated (scipy).
"""

from __future__ import annotations

from dataclasses import dataclass
from math import log

from kyklon.base.late import late

integrate = late("scipy.integrate")
_POINTS = 400  # in time, of a step


@dataclass(frozen=True)
class Inrush:
    """peak_a: at the first moment. i2t: ampere squared seconds that a fuse sees. settles_s: until five parts in a
    hundred of the peak are left. joules: lost in the way, as many as are stored."""

    peak_a: float
    i2t: float
    settles_s: float
    joules: float


def inrush(volts: float, ohms: float, farads: float, limit_a: float = 0.0) -> Inrush:
    """An empty capacitor is switched to a source. limit_a: what the source gives at most, 0 for no limit; then it
    fills at that current first. Raises ValueError for a way without resistance."""
    if ohms <= 0:
        raise ValueError("a way without resistance has no bound for its inrush")
    peak = volts / ohms
    if limit_a and peak > limit_a:
        held = farads * (volts - limit_a * ohms) / limit_a  # seconds at the limit
        tail = ohms * farads
        i2t = limit_a**2 * (held + tail / 2)
        return Inrush(limit_a, i2t, held + tail * max(0.0, log(limit_a / (0.05 * limit_a))), farads * volts**2 / 2)
    return Inrush(peak, peak**2 * ohms * farads / 2, -log(0.05) * ohms * farads, farads * volts**2 / 2)


@dataclass(frozen=True)
class Source:
    """What feeds a load: volts at rest, the ohms of the way, the farads at its end, and what it gives at most; 0 for no
    limit."""

    volts: float
    ohms: float
    farads: float
    limit_a: float = 0.0


@dataclass(frozen=True)
class Step:
    """lies: seconds and volts at the load. least_v: the lowest. below_s: seconds below the limit that was asked."""

    lies: tuple[tuple[float, float], ...]
    least_v: float
    below_s: float


def load_step(source: Source, watts: tuple[float, float], low_v: float = 0.0, lasts_s: float = 0.05) -> Step:
    """A load steps from the first to the second of `watts` behind a source's resistance, beside its capacitor."""
    before = rest_v(source.volts, source.ohms, watts[0])

    def slope(_at: float, state: list[float]) -> list[float]:
        now = max(state[0], source.volts * 0.05)
        amps = (source.volts - now) / source.ohms
        if source.limit_a:
            amps = min(amps, source.limit_a)
        return [(amps - watts[1] / now) / source.farads]

    done = integrate.solve_ivp(
        slope,
        (0.0, lasts_s),
        [before],
        method="LSODA",
        t_eval=[min(lasts_s, lasts_s * n / (_POINTS - 1)) for n in range(_POINTS)],
        rtol=1e-8,
        atol=1e-9,
    )
    lies = tuple((float(at), float(value)) for at, value in zip(done.t, done.y[0], strict=True))
    below = sum(value < low_v for _at, value in lies) * lasts_s / _POINTS
    return Step(lies, min(value for _at, value in lies), below)


def rest_v(volts: float, ohms: float, watts: float) -> float:
    """Volts at a load of so many watts behind a resistance: V = (U + sqrt(U² − 4 R P)) / 2; half of the volts where the
    way cannot bear it."""
    inner = volts**2 - 4 * ohms * watts
    return (volts + inner**0.5) / 2 if inner > 0 else volts / 2


def hold_up_s(volts: float, least_v: float, farads: float, watts: float) -> float:
    """Seconds that a capacitor keeps a load alive from one voltage to another: C (U² − u²) / 2 P."""
    return farads * max(0.0, volts**2 - least_v**2) / (2 * watts) if watts > 0 else float("inf")
