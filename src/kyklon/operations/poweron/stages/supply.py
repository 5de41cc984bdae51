"""Power: enough volts at the board."""

from __future__ import annotations

from kyklon.operations.assembly.budget import Budget, budget
from kyklon.operations.assembly.findings import electrical_findings
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import Failure, Moment, Screen, Step
from kyklon.operations.poweron.stages.fail import dark_screen, fail


def at_rest_v(power: Budget) -> float:
    """Volts at the board while it starts: its own typical current, the rest at its peak."""
    amps = power.peak_a - power.draws[0].amps + power.board.typical_a
    ohms = power.drop_v / power.way_a if power.drop_v is not None and power.way_a else 0.0
    return power.supply.volts - ohms * amps


def supply(bench: Bench) -> Step:
    power, lamps = budget(bench.build, bench.catalogue), bench.board.lamps
    if power is None:
        return Step((Moment("Switched on; no power supply is planned.", lamps.powered, 0.1),))
    rests = at_rest_v(power)
    weak = [finding for finding in electrical_findings(bench.build, bench.catalogue) if finding.severity == "stop"]
    volts = power.board_v if power.board_v is not None else power.supply.volts
    if weak:
        low = power.board.low_voltage_v
        if rests < low:
            cause = f"{rests:.2f} V at the board even when idle: it reboots over and over."
            return fail(dark_screen("supply", weak[0].code, cause, weak[0].remedy, lamps.sagging))
        # it comes to its menu, and browns out when a game takes all it can
        cause = f"{volts:.2f} V at the board at {power.peak_a:.2f} A: it reboots in the middle of a game."
        failure = Failure(
            "supply",
            weak[0].code,
            cause,
            weak[0].remedy,
            Screen("crash", "It reboots by itself"),
            lamps.sagging,
            blocks=False,
        )
        return Step((Moment(f"{rests:.2f} V at the board when idle.", lamps.powered, 0.3),), (failure,))
    assumed = "an assumed " if power.board.is_assumed("peak_a") else ""
    moments = [Moment(f"{volts:.2f} V at the board at {assumed}{power.peak_a:.2f} A.", lamps.powered, 0.3)]
    if power.board_v is not None and power.board_v < power.board.low_voltage_v:
        moments.append(Moment("If it takes that much, it reboots in the middle of a game.", lamps.powered, 0.0))
    return Step(tuple(moments))
