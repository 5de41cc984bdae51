"""Power: enough volts at the board."""

from __future__ import annotations

from kyklon.operations.assembly.findings import electrical_findings
from kyklon.operations.assembly.power import budget
from kyklon.operations.poweron.bench import Bench
from kyklon.operations.poweron.events import Moment, Step
from kyklon.operations.poweron.stages.fail import dark_screen, fail


def supply(bench: Bench) -> Step:
    power, lamps = budget(bench.build, bench.catalogue), bench.board.lamps
    if power is None:
        return Step((Moment("Switched on; no supply is planned.", lamps.powered, 0.1),))
    weak = [found for found in electrical_findings(bench.build, bench.catalogue) if found.severity == "stop"]
    volts = power.board_v if power.board_v is not None else power.supply.volts
    if weak:
        cause = f"{volts:.2f} V at the board: it restarts under load."
        return fail(dark_screen("supply", weak[0].code, cause, weak[0].remedy, lamps.sagging))
    return Step((Moment(f"{volts:.2f} V at the board at {power.peak_a:.2f} A.", lamps.powered, 0.3),))
