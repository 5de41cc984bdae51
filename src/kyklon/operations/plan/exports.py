"""The plan as a file: the parts list."""

from __future__ import annotations

import csv
import io

from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.world import World
from kyklon.operations.plan.connections import cost


def issue(build: Build, catalogue: Catalogue, _world: World) -> dict[str, str]:
    """The parts list, as CSV."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(["part", "count", "price"])
    for name, count, price in cost(build, catalogue):
        table.writerow([name, count, f"{price:.2f}"])
    return {"plan/parts.csv": out.getvalue()}
