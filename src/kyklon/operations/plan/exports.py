"""The plan as a file: the parts list."""

from __future__ import annotations

from kyklon.base.tables import csv_of
from kyklon.catalogue.loader import Catalogue
from kyklon.model.build import Build
from kyklon.model.world import World
from kyklon.operations.plan.connections import cost


def issue(build: Build, catalogue: Catalogue, _world: World) -> dict[str, str]:
    """The parts list, as CSV."""
    rows = [(name, count, f"{price:.2f}") for name, count, price in cost(build, catalogue)]
    return {"plan/parts.csv": csv_of([("part", "count", "price"), *rows])}
