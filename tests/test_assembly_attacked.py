"""Assembly with settings of every kind, drawn at random: nothing breaks, figures are figures, remedies cure."""

from __future__ import annotations

import math
import random
from typing import Any, get_args

import pytest

from kyklon.catalogue.loader import Catalogue
from kyklon.demo import camper, lighthouse, school_fair
from kyklon.model.assembly import LOADS, AssemblySettings
from kyklon.model.build import edited, remedied
from kyklon.model.casework import PURPOSES, WALLS
from kyklon.model.world import World
from kyklon.operations.assembly import heat, order, rooms, space, switching, templates, tree
from kyklon.operations.assembly.findings import findings
from kyklon.operations.plan.planned import empty_build


def drawn(pick: random.Random, name: str) -> Any:
    """A value within a field's bounds, at its edges one time in two."""
    field = AssemblySettings.model_fields[name]
    choices = get_args(field.annotation)
    if choices and all(isinstance(choice, str) for choice in choices):
        return pick.choice(choices)
    if field.annotation is bool:
        return pick.random() < 0.5
    low = next((bound.ge for bound in field.metadata if getattr(bound, "ge", None) is not None), None)
    high = next((bound.le for bound in field.metadata if getattr(bound, "le", None) is not None), None)
    if field.annotation not in (int, float) or low is None or high is None:
        return None
    value = pick.choice([low, high, pick.uniform(low, high), pick.uniform(low, high)])
    return int(value) if field.annotation is int else float(value)


def body(pick: random.Random, number: int) -> dict[str, Any]:
    place = {axis: pick.uniform(-500, 2000) for axis in "xyz"}
    size = {name: pick.uniform(0.1, 2000) for name in ("wide", "deep", "high")}
    return {"id": f"x{number}", "name": "X", "fixed": pick.random() < 0.3, **place, **size}


def opening(pick: random.Random, number: int) -> dict[str, Any]:
    place = {"along": pick.uniform(-100, 2000), "up": pick.uniform(-100, 500)}
    size = {"wide": pick.uniform(0.1, 900), "high": pick.uniform(0.1, 900), "round": pick.random() < 0.3}
    kinds = {"wall": pick.choice(WALLS), "purpose": pick.choice(list(PURPOSES))}
    return {"id": f"o{number}", "name": pick.choice(["Power", "<b>&", "=1"]), **place, **size, **kinds}


@pytest.mark.long(keep=12)
@pytest.mark.parametrize("seed", range(80))
def test_no_setting_breaks_it_and_every_remedy_cures(seed: int, catalogue: Catalogue) -> None:
    pick = random.Random(seed)
    builds = [camper.build(catalogue, "0" * 64), lighthouse.build(catalogue, "0" * 64), school_fair.build()]
    build = pick.choice([*builds, empty_build("Empty", catalogue)])
    for _ in range(4):
        values = {
            name: value
            for name in AssemblySettings.model_fields
            if pick.random() < 0.5 and (value := drawn(pick, name)) is not None
        }
        if pick.random() < 0.3:
            values["bodies"] = [body(pick, number) for number in range(pick.randint(1, 6))]
        if pick.random() < 0.4:
            values["openings"] = [opening(pick, number) for number in range(pick.randint(1, 6))]
        made = edited(build, "assembly", {**build.assembly.model_dump(), **values})
        for load in LOADS:
            way = tree.feed(made, catalogue, load)
            if way is not None:
                assert all(math.isfinite(volts) and volts >= 0 for volts in way.low.volts.values())
                runs = tree.run_time(way)
                assert runs is None or (math.isfinite(runs.hours) and runs.hours >= 0)
            warm = heat.heat(made, catalogue, load)
            assert warm is None or all(math.isfinite(value) for value in warm.celsius.values())
            for help_ in heat.helps(made, catalogue, load):
                assert help_.brings_k > 0
        collisions = space.clashes(space.space_of(made, catalogue))
        for clash in collisions[:2]:
            for room in rooms.rooms(made, catalogue, clash):
                assert room.left < len(collisions)
        for plate in templates.plates(made, catalogue):
            assert templates.as_svg(plate)
        assert order.acts(made, catalogue)
        assert switching.stopping(made, catalogue).lanes
        told = findings(made, catalogue, World())
        stops = {finding.code for finding in told if finding.severity == "stop"}
        for finding in told:
            if finding.remedy is not None:
                after = findings(remedied(made, finding.remedy), catalogue, World())
                assert finding.code not in {other.code for other in after}, (finding.code, finding.remedy.label)
                assert {other.code for other in after if other.severity == "stop"} <= stops
